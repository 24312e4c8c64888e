"""Bring the database up to date, and load the demo into an empty one."""

from __future__ import annotations

from pathlib import Path

import procrastinate
from alembic import command
from alembic.config import Config
from sqlmodel import Session, select, text

from fenrik.app.documents import add, purge
from fenrik.app.library import load_shop
from fenrik.app.settings import database_url, sqlalchemy_url
from fenrik.app.tables import JobRow, engine
from fenrik.app.work.queue import queue
from fenrik.app.work.tasks import put


def migrate(demo: bool = True) -> int:
    """Create or upgrade all tables; load the demo where there is no job yet, for the workers to compute."""
    upgrade_schema()
    purge()
    load_shop_and_demo(demo)
    return 0


def alembic_config() -> Config:
    """Where the steps from schema to schema are, and the database that they are for."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", sqlalchemy_url().replace("%", "%%"))
    return config


def upgrade_schema() -> None:
    """Our tables by Alembic, the queue's by procrastinate."""
    command.upgrade(alembic_config(), "head")
    with Session(engine()) as session:
        has_queue = session.exec(text("select to_regclass('procrastinate_jobs')")).first()  # type: ignore[call-overload]
    if not has_queue or has_queue[0] is None:
        with queue.replace_connector(procrastinate.SyncPsycopgConnector(conninfo=database_url())) as app, app.open():
            app.schema_manager.apply_schema()


def load_shop_and_demo(demo: bool) -> None:
    """The made-up shop's library and the demo jobs, with their computation in the queue, each into an empty place; all
    in one transaction, so that a start that is cut short is made good by the next."""
    from fenrik.demo import DEMO_JOBS, demo_files, demo_job, demo_model

    with Session(engine()) as session:
        load_shop(session)
        empty = session.exec(select(JobRow.id)).first() is None
        for name in reversed(DEMO_JOBS) if demo and empty else ():  # the list shows the latest first
            job = demo_job(name)
            assert job.part is not None
            add(session, job, (job.part.file, demo_model(name)), name, demo_files(name))
            for setup in job.setups:
                if job.route(setup):
                    put(session, name, {"setup": setup.id, "operations": [], "proof": True})
        session.commit()

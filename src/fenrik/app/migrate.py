"""Bring the database up to date, and load the demo into an empty one."""

from __future__ import annotations

from pathlib import Path

import procrastinate
from alembic import command
from alembic.config import Config
from sqlmodel import Session, col, or_, select, text

from fenrik.app.documents import add, purge
from fenrik.app.library import load_shop
from fenrik.app.settings import database_url, sqlalchemy_url
from fenrik.app.tables import JobRow, TaskRow, engine
from fenrik.app.work.entries import adopt
from fenrik.app.work.queue import queue
from fenrik.app.work.tasks import submit


def migrate(demo: bool = True) -> int:
    """Create or upgrade all tables; load the demo where there is no job yet, for the workers to compute."""
    upgrade_schema()
    _adopt_waiting()
    purge()
    load_shop()
    if demo:
        load_demo()
    return 0


def _adopt_waiting() -> None:
    """What waits for workers of an earlier version waits for ours."""
    with Session(engine()) as session:
        adopt(session)
        session.commit()


def upgrade_schema() -> None:
    """Our tables by Alembic, the queue's by procrastinate."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", sqlalchemy_url())
    command.upgrade(config, "head")
    with Session(engine()) as session:
        has_queue = session.exec(text("select to_regclass('procrastinate_jobs')")).first()  # type: ignore[call-overload]
    if not has_queue or has_queue[0] is None:
        with queue.replace_connector(procrastinate.SyncPsycopgConnector(conninfo=database_url())) as app, app.open():
            app.schema_manager.apply_schema()


def load_demo() -> None:
    """The demo jobs, all or none of them, into an empty database; those that nobody has touched go to the workers.

    A start that was cut short anywhere is made good by the next one.
    """
    from fenrik.demo import DEMO_JOBS, demo_job, demo_model

    with Session(engine()) as session:
        if session.exec(select(JobRow.id)).first() is None:
            for name in reversed(DEMO_JOBS):  # the list shows the latest first
                job = demo_job(name)
                assert job.part is not None
                add(session, job, (job.part.file, demo_model(name)), name)
            session.commit()
        touched = set(session.exec(select(TaskRow.job_id))) | set(
            session.exec(select(JobRow.id).where(or_(col(JobRow.version) > 0, col(JobRow.deleted_at).is_not(None))))
        )
        there = set(session.exec(select(JobRow.id)))
    for name in DEMO_JOBS:
        if name in there and name not in touched:
            job = demo_job(name)
            for setup in job.setups:
                if job.route(setup):
                    submit(name, {"setup": setup.id, "operations": [], "proof": True})

"""Bring the database up to date, and load the demo into an empty one."""

from __future__ import annotations

import sys
from pathlib import Path

import procrastinate
from alembic import command
from alembic.config import Config
from sqlmodel import Session, select, text

from fenrik.app.computing import remember
from fenrik.app.documents import create
from fenrik.app.library import load_shop
from fenrik.app.queue import forget_old_tasks, queue
from fenrik.app.settings import database_url, sqlalchemy_url
from fenrik.app.store import DatabaseStore
from fenrik.app.tables import JobRow, engine
from fenrik.core.build import Build
from fenrik.core.job import Job


def migrate() -> int:
    """Create or upgrade all tables; load and compute the demo where there is no job yet."""
    upgrade_schema()
    forget_old_tasks()
    load_shop()
    with Session(engine()) as session:
        empty = session.exec(select(JobRow.id)).first() is None
    if empty:
        load_demo()
    return 0


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
    """The demo jobs, computed and proved, so that they are ready at the first start."""
    from fenrik.demo import DEMO_JOBS, demo_job, demo_model

    for name in DEMO_JOBS:
        job, model = demo_job(name), demo_model(name)
        print(f"demo: {job.name}", file=sys.stderr, flush=True)
        assert job.part is not None
        job_id = create(job, (job.part.file, model), job_id=name)
        compute_all(job_id, job, model)


def compute_all(job_id: str, job: Job, model: bytes) -> None:
    build = Build(job, model, DatabaseStore())
    for setup in job.setups:
        if not job.route(setup):
            continue
        build.compute(
            setup,
            progress=lambda f, w: print(f"\r  {100 * f:3.0f} %  {w[:50]:<50}", end="", file=sys.stderr, flush=True),
        )
        print(file=sys.stderr)
        for operation in job.route(setup):
            remember(job_id, operation, build, 0.0)

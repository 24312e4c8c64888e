"""Whether work can be done here: database, queue, disk."""

from __future__ import annotations

import shutil
import tempfile
from typing import Any

from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session, text

from fenrik.app.outage import database_problem
from fenrik.app.tables import engine
from fenrik.app.work.worker import STALLED_S

LEAST_FREE_BYTES = 512 * 1024 * 1024
LONGEST_WAIT_S = 600.0
"""Work that waits longer than this while no worker is heard of is stuck."""


def look() -> dict[str, Any]:
    """What is wrong, in words, with `database`, `queue` and `disk`; and how many `workers` were heard of lately."""
    found: dict[str, Any] = {"disk": _disk()}
    try:
        with Session(engine()) as session:
            return found | _queue(session)
    except SQLAlchemyError as error:
        problem = database_problem(error)
        return found | {"database": problem.message if problem else f"does not answer ({type(error).__name__})."}


def _disk() -> str:
    free = shutil.disk_usage(tempfile.gettempdir()).free
    if free < LEAST_FREE_BYTES:
        return f"has only {free // 2**20} MB left for files that are being read."
    return ""


def _queue(session: Session) -> dict[str, Any]:
    statement = """
        select (select count(*) from procrastinate_workers
                where last_heartbeat > now() - make_interval(secs => :dead)),
               (select coalesce(extract(epoch from now() - min(made_at)), 0) from task where state = 'waiting')
    """
    row = session.connection().execute(text(statement), {"dead": STALLED_S}).one()
    workers, waits_s = int(row[0]), float(row[1])
    stuck = workers == 0 and waits_s > LONGEST_WAIT_S
    return {"workers": workers, "queue": "holds work, but no worker is heard of." if stuck else ""}

"""Entries of the queue (procrastinate's table), always written in the transaction that changes their task."""

from __future__ import annotations

from datetime import timedelta
from functools import cache
from typing import Any

import procrastinate
from sqlmodel import Session, text

from fenrik import __version__
from fenrik.app.settings import database_url
from fenrik.app.tables import now
from fenrik.core.sources import all_sources

TASK_NAME = "compute"


@cache
def queue_name() -> str:
    """The queue of this very version: another's worker would keep what it makes under keys that nobody asks for."""
    return f"{TASK_NAME} {__version__} {all_sources()[:16]}"


@cache
def _inserter() -> procrastinate.App:
    """Makes entries on the connections that it is given; it has none of its own, and is never opened."""
    return procrastinate.App(connector=procrastinate.SyncPsycopgConnector(conninfo=database_url()))


def new_entry(session: Session, task_id: str, lock: str, wait_s: float = 0.0) -> int:
    """A new entry, there once the session commits; gives its number.

    Args:
        lock: of entries with the same lock one is done after another. wait_s: it is not begun before that time is over.
    """
    deferrer = _inserter().configure_task(
        name=TASK_NAME,
        allow_unknown=True,
        queue=queue_name(),
        lock=lock,
        schedule_at=now() + timedelta(seconds=wait_s) if wait_s else None,
        connection=session.connection().connection.driver_connection,
    )
    return deferrer.defer(task_id=task_id)


def drop_entry(session: Session, queue_id: int | None) -> None:
    """Take an entry that nobody has begun out of the queue; one that a worker holds ends with the worker's work."""
    _run(session, "delete from procrastinate_jobs where id = :id and status <> 'doing'", id=queue_id)


def hold_back(session: Session, queue_id: int | None, task_id: str, lock: str, wait_s: float) -> int:
    """A new entry in the place of one that a lost worker may still hold; gives its number."""
    _run(session, "delete from procrastinate_jobs where id = :id", id=queue_id)
    return new_entry(session, task_id, lock, wait_s)


def beat(session: Session, task_id: str) -> None:
    """The worker that holds a task's entry lives: the work itself says so, on connections of its own.

    The queue's own heartbeat goes by the queue's pool, which comes back as much as half a minute after a database does.
    """
    _run(
        session,
        """
        update procrastinate_workers w set last_heartbeat = now()
        from procrastinate_jobs q, task t
        where t.id = :task and q.id = t.queue_id and w.id = q.worker_id
        """,
        task=task_id,
    )


def lost_entries(session: Session, dead_after_s: float, settled_after_s: float) -> list[tuple[str, str]]:
    """Open tasks that nobody works on and nobody will, and why; entries without an open task are dropped.

    Args:
        dead_after_s: a worker that has not been heard of for so long is lost. settled_after_s: a database that was
            started less long ago could not be told that anybody lives, so nobody is lost yet.
    """
    settled = "select pg_postmaster_start_time() < now() - make_interval(secs => :settled)"
    if not _run(session, settled, settled=settled_after_s)[0][0]:
        return []
    _run(
        session,
        """
        delete from procrastinate_jobs q
        where not exists (select from task t where t.queue_id = q.id and t.state in ('waiting', 'running'))
          and (q.status <> 'doing' or not exists (
            select from procrastinate_workers w
            where w.id = q.worker_id and w.last_heartbeat > now() - make_interval(secs => :dead)))
        """,
        dead=dead_after_s,
    )
    found = _run(
        session,
        """
        select t.id,
               case when q.id is null then 'its entry in the queue was gone' else 'its worker was lost' end
        from task t
        left join procrastinate_jobs q on q.id = t.queue_id and q.status in ('todo', 'doing')
        left join procrastinate_workers w
          on w.id = q.worker_id and w.last_heartbeat > now() - make_interval(secs => :dead)
        where t.state in ('waiting', 'running')
          and (q.id is null or (q.status = 'doing' and w.id is null) or (q.status = 'todo' and t.state = 'running'))
        """,
        dead=dead_after_s,
    )
    return [(row[0], row[1]) for row in found]


def adopt(session: Session) -> None:
    """Entries that wait for workers of an earlier version wait for those of this one."""
    _run(
        session,
        "update procrastinate_jobs set queue_name = :queue where status = 'todo' and task_name = :task",
        queue=queue_name(),
        task=TASK_NAME,
    )


def _run(session: Session, statement: str, **values: Any) -> Any:
    result = session.connection().execute(text(statement), values)
    return result.fetchall() if result.returns_rows else None

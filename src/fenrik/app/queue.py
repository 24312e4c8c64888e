"""The queue of long work, kept in PostgreSQL (procrastinate)."""

from __future__ import annotations

import threading
import time
import uuid
from typing import Any

import procrastinate
from sqlmodel import Session, col, select, update

from fenrik.app.child import Child, Crashed, Message, Overrun, Stopped
from fenrik.app.computing import compute_task, too_much_memory
from fenrik.app.documents import load, notify
from fenrik.app.settings import database_url
from fenrik.app.status import OPEN_STATES
from fenrik.app.tables import JobRow, TaskRow, engine
from fenrik.core.errors import Problem
from fenrik.core.warm import warm_process

HEARTBEAT_S = 2.0
STALLED_S = 8.0
REPORT_EVERY_S = 0.25

_deferring = threading.Lock()
"""Replacing the connector changes the one app that all requests share."""
child = Child(compute_task, warm_process)
queue = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=database_url()))


@queue.task(
    name="compute",
    queue="compute",
    retry=procrastinate.RetryStrategy(max_attempts=3, wait=1, retry_exceptions=[OSError]),
)
def compute(task_id: str) -> None:
    """Compute what a task asks for: paths of operations, or everything up to the proof of a setup."""
    with Session(engine()) as session:
        task = session.get(TaskRow, task_id)
        if task is None or task.state not in OPEN_STATES:
            return
        job_id = task.job_id
    if _report(task_id, job_id, "running", 0.0, "starting"):
        _report(task_id, job_id, "cancelled", 0.0, "cancelled")
        return
    told = _told(task_id, job_id)
    if told[0] == "again":
        raise OSError(told[1])
    words, problems = told[1] or ("", [])
    _report(task_id, job_id, told[0], 1.0 if told[0] == "done" else 0.0, words or told[0], problems)


def _told(task_id: str, job_id: str) -> Message:
    """What the child says of a task, or what became of the child."""
    last = 0.0

    def progress(fraction: float, words: str) -> None:
        nonlocal last
        if time.monotonic() - last >= REPORT_EVERY_S:
            last = time.monotonic()
            _report(task_id, job_id, "running", fraction, words)

    try:
        return child.run(task_id, progress, lambda: _is_cancelled(task_id))
    except Stopped:
        return "cancelled", None
    except Overrun:
        return "failed", too_much_memory()
    except Crashed:
        way_out = "Check the model for damage, or leave the row out that was being computed; other work goes on."
        return "failed", (
            "The computation crashed.",
            [Problem("computation", "crashed, likely in the CAD kernel.", way_out)],
        )


def _is_cancelled(task_id: str) -> bool:
    with Session(engine()) as session:
        return session.exec(select(TaskRow.cancel).where(TaskRow.id == task_id)).first() is not False


def _report(
    task_id: str, job_id: str, state: str, fraction: float, words: str, problems: list[Problem] | None = None
) -> bool:
    """Write progress down and tell the pages; true when somebody asked to cancel."""
    with Session(engine()) as session:
        task = session.get(TaskRow, task_id)
        if task is None:
            return True
        task.state, task.words = state, words
        task.fraction = fraction if state == "running" else (1.0 if state == "done" else task.fraction)
        task.problems = [p.as_dict() | {"value": str(p.value)} for p in problems or []]
        cancel = task.cancel
        if state not in OPEN_STATES:
            # What the list shows of the job is out of date now.
            session.exec(update(JobRow).where(col(JobRow.id) == job_id).values(summary={}))
        notify(
            session, kind="task", job=job_id, task=task_id, state=state, fraction=round(fraction, 4), words=words[:120]
        )
        session.commit()
    return cancel and state == "running"


def submit(job_id: str, what: dict[str, Any]) -> str:
    """Put work into the queue; the same work that is waiting already is not put in twice."""
    with Session(engine()) as session:
        load(session, job_id)
        same = session.exec(select(TaskRow).where(TaskRow.job_id == job_id, TaskRow.state == "waiting")).all()
        for task in same:
            if task.what == what:
                return task.id
        task = TaskRow(id=uuid.uuid4().hex[:12], job_id=job_id, what=what)
        session.add(task)
        notify(session, kind="task", job=job_id, task=task.id, state="waiting", fraction=0.0, words="waiting")
        session.commit()
        task_id = task.id
    connector = procrastinate.SyncPsycopgConnector(conninfo=database_url())
    with _deferring, queue.replace_connector(connector) as sync:
        sync.open()
        sync.tasks["compute"].configure(lock=job_id).defer(task_id=task_id)
        sync.close()
    return task_id


def cancel(task_id: str) -> bool:
    """Ask a task to stop; a waiting one never starts."""
    with Session(engine()) as session:
        task = session.get(TaskRow, task_id)
        if task is None:
            return False
        task.cancel = True
        if task.state == "waiting":
            task.state = "cancelled"
        notify(
            session,
            kind="task",
            job=task.job_id,
            task=task_id,
            state=task.state,
            fraction=task.fraction,
            words="cancelling",
        )
        session.commit()
    return True


def forget_old_tasks() -> None:
    """Tasks that were running when everything stopped wait again, so that a worker takes them up."""
    with Session(engine()) as session:
        session.exec(update(TaskRow).where(col(TaskRow.state) == "running").values(state="waiting"))
        session.commit()


async def take_up_stalled() -> int:
    """Give work of dead workers back to the queue; gives how many were."""
    count = 0
    for job in await queue.job_manager.get_stalled_jobs(seconds_since_heartbeat=STALLED_S):
        await queue.job_manager.retry_job(job)
        count += 1
    return count

"""The queue of long work, kept in PostgreSQL (procrastinate)."""

from __future__ import annotations

import threading
import time
import uuid
from typing import Any

import procrastinate
from sqlmodel import Session, col, select, update

from fenrik.app.documents import KeptFiles, load, model_of, notify
from fenrik.app.settings import database_url
from fenrik.app.store import DatabaseStore
from fenrik.app.tables import ComputedRow, TaskRow, engine
from fenrik.core.build import Build
from fenrik.core.errors import FenrikError, Problem
from fenrik.core.job import Operation, parse_job
from fenrik.core.progress import Cancelled

HEARTBEAT_S = 2.0
STALLED_S = 8.0
REPORT_EVERY_S = 0.25
OPEN_STATES = ("waiting", "running")

_deferring = threading.Lock()
"""Replacing the connector changes the one app that all requests share."""
queue = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=database_url()))


@queue.task(
    name="compute",
    queue="compute",
    retry=procrastinate.RetryStrategy(max_attempts=3, wait=1, retry_exceptions=[OSError]),
)
def compute(task_id: str) -> None:
    """Compute what a task asks for: paths of operations, or everything up to the proof of a setup."""
    began = time.monotonic()
    with Session(engine()) as session:
        task = session.get(TaskRow, task_id)
        if task is None or task.state not in OPEN_STATES:
            return
        what, job_id = task.what, task.job_id
        _, revision = load(session, job_id)
        document, model, files = revision.document, model_of(session, revision), KeptFiles(revision.files)
    _report(task_id, job_id, "running", 0.0, "starting")
    last = 0.0

    def progress(fraction: float, words: str) -> None:
        nonlocal last
        if time.monotonic() - last >= REPORT_EVERY_S:
            last = time.monotonic()
            if _report(task_id, job_id, "running", fraction, words):
                raise Cancelled

    try:
        job = parse_job(document)
        build = Build(job, model, DatabaseStore(), files=files)
        setup = job.setup(what["setup"])
        numbers = set(what["operations"]) if what.get("operations") else None
        build.compute(setup, numbers, what.get("proof", True), progress)
        for operation in job.route(setup):
            if numbers is None or operation.number in numbers:
                _remember(job_id, operation, build, time.monotonic() - began)
        _report(task_id, job_id, "done", 1.0, "done")
    except Cancelled:
        _report(task_id, job_id, "cancelled", 0.0, "cancelled")
    except FenrikError as error:
        _report(task_id, job_id, "failed", 0.0, str(error), error.problems)
    except StopIteration:
        _report(task_id, job_id, "failed", 0.0, "The setup is gone.", [Problem("setup", "is gone.", "Choose another.")])
    except Exception as error:
        _report(
            task_id,
            job_id,
            "failed",
            0.0,
            "Fenrik failed here.",
            [Problem("computation", f"failed: {type(error).__name__}: {error}.", "Please report this job.")],
        )
        raise


def inputs_of(operation: Operation, build: Build) -> dict[str, Any]:
    """What an operation is computed from, in a form that can be compared later."""
    tool = build.job.tool(operation.tool)
    return {
        "params": operation.params.model_dump(mode="json"),
        "tool": tool.cutter.model_dump(mode="json"),
        "feeds": list(build.feeds(operation).__dict__.values()),
        "key": build.path_key(operation),
        "before": build._stock_key_before(operation),
    }


def _remember(job_id: str, operation: Operation, build: Build, seconds: float) -> None:
    with Session(engine()) as session:
        row = ComputedRow(
            job_id=job_id, operation=operation.number, inputs=inputs_of(operation, build), seconds=seconds
        )
        session.merge(row)
        session.commit()


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
        task.problems = [{**p.as_dict(), "value": str(p.value)} for p in problems or []]
        cancel = task.cancel
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

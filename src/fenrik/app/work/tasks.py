"""The life of a task: waiting → running → done, failed or cancelled; every step is one transaction.

A task that is open (waiting or running) has one entry in the queue, made in the transaction that made the task. Each
time a worker begins it the task gets the next number of `attempt`; what a worker says of an earlier attempt is not
heard, so that one which was cut off and comes back disturbs nobody. An attempt that ends without an answer is followed
by another, after a while; `MOST_IN_VAIN` of them that kept nothing new, one after another, are the end of the task.
"""

from __future__ import annotations

import logging
import uuid
from dataclasses import dataclass
from datetime import timedelta
from typing import Any, Literal

from sqlmodel import Session, col, select, text, update

from fenrik.app.documents import no_job
from fenrik.app.notices import notify
from fenrik.app.tables import JobRow, TaskRow, engine, now
from fenrik.app.work.entries import adopt, beat, drop_entry, hold_back, lost_entries, new_entry
from fenrik.core.errors import Problem

Ended = Literal["done", "failed", "cancelled"]
OPEN_STATES = ("waiting", "running")
MOST_IN_VAIN = 5
WATCH_LOCK = 0x66656E72
"""Of the servers at one database, one at a time repairs."""
log = logging.getLogger(__name__)


def again_after_s(in_vain: int) -> float:
    """How long a task waits after so many attempts in vain: 1, 2, 4, 8 seconds."""
    return float(2 ** max(in_vain - 1, 0))


@dataclass(frozen=True)
class Attempt:
    """One worker's hold on a task."""

    task_id: str
    number: int


def submit(job_id: str, what: dict[str, Any]) -> str:
    """Put work into the queue; the same work that is waiting already is not put in twice. Gives the task's id.

    Raises:
        FenrikError: where there is no such job.
    """
    with Session(engine()) as session:
        job = session.get(JobRow, job_id)
        if job is None or job.deleted_at is not None:
            raise no_job(job_id)
        task_id = put(session, job_id, what)
        session.commit()
        return task_id


def put(session: Session, job_id: str, what: dict[str, Any]) -> str:
    """As `submit`, once the session commits."""
    same = session.exec(select(TaskRow).where(TaskRow.job_id == job_id, TaskRow.state == "waiting")).all()
    for task in same:
        if task.what == what:
            return task.id
    task = TaskRow(id=uuid.uuid4().hex[:12], job_id=job_id, what=what, words="waiting")
    session.add(task)
    session.flush()
    task.queue_id = new_entry(session, task.id, job_id)
    _tell(session, task)
    return task.id


def begin(task_id: str, queue_id: int, worker: str) -> Attempt | None:
    """Take a task up; None where there is nothing to be done (it has ended, or another entry stands for it)."""
    with Session(engine()) as session:
        task = _locked(session, task_id)
        if task is None or task.state not in OPEN_STATES or task.queue_id != queue_id:
            return None
        if task.cancel or task.in_vain >= MOST_IN_VAIN:
            _again(session, task, "it ended without an answer", True)
            session.commit()
            return None
        task.state, task.words, task.worker, task.again_at = "running", "starting", worker, None
        task.attempt += 1
        task.in_vain += 1
        _tell(session, task)
        session.commit()
        return Attempt(task_id, task.attempt)


def progress(attempt: Attempt, fraction: float, words: str) -> None:
    """Write down how far an attempt has come, and tell the pages."""
    with Session(engine()) as session:
        if (task := _held(session, attempt)) is not None:
            task.fraction, task.words = fraction, words
            _tell(session, task)
            session.commit()


def kept_something(session: Session, attempt: Attempt) -> None:
    """Something new is kept with this session: the attempt was not in vain, whatever becomes of it."""
    mine = (col(TaskRow.id) == attempt.task_id, col(TaskRow.attempt) == attempt.number)
    session.exec(update(TaskRow).where(*mine, col(TaskRow.in_vain) > 0).values(in_vain=0))


def is_over(attempt: Attempt) -> bool:
    """Whether an attempt should stop: somebody cancelled it, or it is no longer the one that counts."""
    with Session(engine()) as session:
        wanted = select(TaskRow.state, TaskRow.attempt, TaskRow.cancel).where(TaskRow.id == attempt.task_id)
        return session.exec(wanted).first() != ("running", attempt.number, False)


def lives(attempt: Attempt) -> None:
    """Say that somebody works on a task."""
    with Session(engine()) as session:
        beat(session, attempt.task_id)
        session.commit()


def finish(attempt: Attempt, state: Ended, words: str, problems: list[Problem]) -> None:
    """The end of a task."""
    with Session(engine()) as session:
        if (task := _held(session, attempt)) is not None:
            _end(session, task, state, words, problems)
            session.commit()


def give_back(attempt: Attempt, why: str, its_fault: bool = True) -> float | None:
    """An attempt ended without an answer: the task waits for the next one, or has failed.

    Args:
        its_fault: whether the work itself may be to blame; a server that is stopped in order is no attempt in vain.

    Returns:
        After how many seconds it may be begun again; None where it has ended.
    """
    with Session(engine()) as session:
        task = _held(session, attempt)
        wait = None if task is None else _again(session, task, why, its_fault)
        session.commit()
        return wait


def cancel(task_id: str) -> bool:
    """Ask a task to stop; a waiting one never starts. Gives whether there is such a task."""
    with Session(engine()) as session:
        task = _locked(session, task_id)
        if task is None:
            return False
        if task.state in OPEN_STATES:
            task.cancel = True
            if task.state == "waiting":
                _end(session, task, "cancelled", "cancelled", [])
            else:
                task.words = "cancelling"
                _tell(session, task)
            session.commit()
        return True


def take_place(worker: str, its_fault: bool) -> None:
    """Give back what a worker of this name still holds: the one that begins now has taken its place.

    Args:
        its_fault: whether the work may have ended the worker; not so where only the database was away.
    """
    with Session(engine()) as session:
        mine = select(TaskRow).where(TaskRow.worker == worker, TaskRow.state == "running").with_for_update()
        for task in session.exec(mine).all():
            _lost(session, task, "its worker was ended" if its_fault else "the database was away", its_fault)
        session.commit()


def adopt_waiting() -> None:
    """What waits for workers of another version waits for those of this one."""
    with Session(engine()) as session:
        adopt(session)
        session.commit()


def repair(dead_after_s: float, settled_after_s: float = 0.0) -> int:
    """Bring tasks and queue together again after anything that could happen to either; gives how many were not.

    Open tasks whose worker has not been heard of for so long, or that have no entry in the queue any more, wait again
    or have failed; entries for which no task is open are dropped. Nothing is done before the database has run for
    `settled_after_s`.
    """
    with Session(engine()) as session:
        alone = session.exec(text("select pg_try_advisory_xact_lock(:k)").bindparams(k=WATCH_LOCK)).one()  # type: ignore[call-overload]
        if not alone[0]:
            return 0
        lost = lost_entries(session, dead_after_s, settled_after_s)
        for task_id, why in lost:
            if (task := _locked(session, task_id)) is not None and task.state in OPEN_STATES:
                _lost(session, task, why, task.state == "running")
        session.commit()
        return len(lost)


def _lost(session: Session, task: TaskRow, why: str, its_fault: bool) -> None:
    wait = _again(session, task, why, its_fault)
    log.warning("task %s: %s; %s", task.id, why, task.state, extra={"task": task.id, "attempt": task.attempt})
    if wait is not None:
        task.queue_id = hold_back(session, task.queue_id, task.id, task.job_id, wait)


def _again(session: Session, task: TaskRow, why: str, its_fault: bool) -> float | None:
    """Let a task wait for its next attempt, or fail."""
    if not its_fault:
        task.in_vain = max(task.in_vain - 1, 0)
    if task.cancel:
        _end(session, task, "cancelled", "cancelled", [])
        return None
    if task.in_vain >= MOST_IN_VAIN:
        way_out = "Look into the server's log, then compute again; what was computed so far is kept."
        problem = Problem("computation", f"was begun {task.in_vain} times in vain: {why}.", way_out)
        _end(session, task, "failed", f"Given up after {task.in_vain} attempts: {why}.", [problem])
        return None
    wait = again_after_s(task.in_vain) if its_fault else 0.0
    task.state, task.worker, task.again_at = "waiting", "", now() + timedelta(seconds=wait)
    task.words = f"{why}; attempt {task.in_vain + 1} of {MOST_IN_VAIN} follows" if its_fault else "waiting"
    _tell(session, task)
    return wait


def _end(session: Session, task: TaskRow, state: Ended, words: str, problems: list[Problem]) -> None:
    task.state, task.words, task.worker, task.again_at = state, words, "", None
    task.fraction = 1.0 if state == "done" else task.fraction
    task.problems = [p.as_dict() | {"value": str(p.value)} for p in problems]
    drop_entry(session, task.queue_id)
    # What the list shows of the job is out of date now.
    session.exec(update(JobRow).where(col(JobRow.id) == task.job_id).values(summary={}))
    _tell(session, task)


def _locked(session: Session, task_id: str) -> TaskRow | None:
    return session.exec(select(TaskRow).where(TaskRow.id == task_id).with_for_update()).first()


def _held(session: Session, attempt: Attempt) -> TaskRow | None:
    """The task, locked, where this attempt is the one that counts."""
    task = _locked(session, attempt.task_id)
    return task if task is not None and (task.state, task.attempt) == ("running", attempt.number) else None


def _tell(session: Session, task: TaskRow) -> None:
    notify(
        session,
        kind="task",
        job=task.job_id,
        task=task.id,
        state=task.state,
        fraction=round(task.fraction, 4),
        words=task.words[:120],
    )

"""What the list of jobs shows of each: what it is, what it lacks, how long it runs, what is being computed.

What takes opening a job is worked out with its status and kept in its row, with the version that it is true for, and
with the code: what an older Fenrik has proven may be out of date in this one.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, Field
from sqlmodel import Session, col, func, select

from fenrik.app.context import Opened
from fenrik.app.documents import no_job
from fenrik.app.notices import notify
from fenrik.app.status import JobStatus, faults_words
from fenrik.app.tables import JobRow, RevisionRow, TaskRow, engine
from fenrik.app.work.tasks import OPEN_STATES
from fenrik.core.sources import all_sources

State = Literal["", "empty", "in work", "waiting", "computing", "failed", "faults", "proven"]


class JobHead(BaseModel):
    """A job in the list."""

    id: str
    name: str
    version: int
    changed_at: datetime
    part: str = Field(default="", description="its model file")
    setups: int = 0
    rows: int = 0
    tools: int = 0
    known: bool = Field(default=False, description="false: its head has to be read to know it")
    state: State = ""
    words: str = Field(default="", description="what it lacks, or what is being done")
    fraction: float = 0.0
    time_s: float | None = Field(default=None, description="machining time of all setups that are proven")
    finished: float | None = Field(default=None, description="share of the surface that is finished, once proven")
    picture: str = Field(default="", description="changes with the picture; empty: there is none")


def summary_of(opened: Opened, status: JobStatus) -> dict[str, Any]:
    """What the list shows of a job that is open."""
    job = opened.job
    used = [s for s in status.setups if job.route(job.setup(s.id))]
    times = [s.time_s for s in used if s.time_s is not None]
    state, words = _state(opened, status)
    return {
        "version": opened.version,
        "code": all_sources(),
        "state": state,
        "words": words,
        "time_s": sum(times) if times else None,
        "finished": status.finished,
    }


def _state(opened: Opened, status: JobStatus) -> tuple[State, str]:
    if opened.job.part is None:
        return "empty", "Bring in a model."
    if any(o.state == "failed" for o in status.operations):
        return "failed", next(o.reason for o in status.operations if o.state == "failed")
    if faults := sum(s.faults for s in status.setups):
        return "faults", faults_words(faults)
    if status.missing:
        return "in work", status.missing[0].message
    return "proven", ""


def keep_summary(opened: Opened, status: JobStatus) -> None:
    """Write down what the list shows, where it has changed."""
    made = summary_of(opened, status)
    with Session(engine()) as session:
        row = session.get(JobRow, opened.job_id)
        if row is not None and row.version == opened.version and row.summary != made:
            row.summary = made
            session.add(row)
            notify(session, kind="head", job=opened.job_id)
            session.commit()


def head_of(job_id: str) -> JobHead:
    """One job as the list shows it.

    Raises:
        FenrikError: when there is no such job.
    """
    found = heads(job_id)
    if not found:
        raise no_job(job_id)
    return found[0]


def heads(job_id: str | None = None) -> list[JobHead]:
    """All jobs, or one; those that changed last first."""
    with Session(engine()) as session:
        document = col(RevisionRow.document)
        facts = (
            document["part"]["file"].as_string(),
            func.jsonb_array_length(document["setups"]),
            func.jsonb_array_length(document["operations"]),
            func.jsonb_array_length(document["tools"]),
            RevisionRow.model_sha,
        )
        shown = (RevisionRow.job_id == JobRow.id) & (RevisionRow.number == JobRow.head)
        wanted = select(JobRow, *facts).join(RevisionRow, shown).where(col(JobRow.deleted_at).is_(None))  # type: ignore[call-overload]
        if job_id is not None:
            wanted = wanted.where(JobRow.id == job_id)
        rows = session.exec(wanted.order_by(col(JobRow.changed_at).desc())).all()
        opened = select(TaskRow).where(col(TaskRow.state).in_(OPEN_STATES)).order_by(col(TaskRow.made_at).desc())
        if job_id is not None:
            opened = opened.where(TaskRow.job_id == job_id)
        tasks = session.exec(opened).all()
    busy = {t.job_id: t for t in tasks} | {t.job_id: t for t in tasks if t.state == "running"}
    return [_head(row, facts, busy.get(row.id)) for row, *facts in rows]


def _head(row: JobRow, facts: list[Any], task: TaskRow | None) -> JobHead:
    known = (row.summary.get("version"), row.summary.get("code")) == (row.version, all_sources())
    found = {k: v for k, v in row.summary.items() if k in JobHead.model_fields} if known else {}
    if task is not None:
        running = task.state == "running"
        found |= {
            "state": "computing" if running else "waiting",
            "words": task.words if running else "waiting for its turn",
            "fraction": task.fraction,
        }
    part, setups, operations, tools, sha = facts
    found |= {"part": part or "", "setups": setups, "rows": operations, "tools": tools, "picture": (sha or "")[:16]}
    own = {"id": row.id, "name": row.name, "version": row.version, "changed_at": row.changed_at}
    return JobHead(**found | own, known=known)

"""Change job documents: field by field, with history, and without losing what somebody else did."""

from __future__ import annotations

import json
import math
import re
import uuid
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Any, Literal

from pydantic import BaseModel, Field
from pydantic_core import from_json
from sqlmodel import Session, col, select, update
from sqlmodel import delete as sql_delete

from fenrik.app.access.sessions import asking
from fenrik.app.notices import notify
from fenrik.app.problems import Conflict, Overtaken
from fenrik.app.tables import ComputedRow, JobRow, ModelRow, ReleaseRow, RevisionRow, TaskRow, engine, insert_new, now
from fenrik.core.errors import FenrikError, Problem, fail
from fenrik.core.job import Job
from fenrik.core.job_reading import parse_job

_IDENTITY = {
    "tools": "number",
    "operations": "number",
    "setups": "id",
    "machines": "name",
    "cells": "name",
    "postures": "name",
    "materials": "name",
    "fixtures": "id",
    "sketches": "id",
    "items": "id",
    "measurements": "id",
    "selections": "name",
    "roles": "body",
}
_MISSING = object()
KEPT_DELETED = timedelta(days=30)
SHOWN_REVISIONS = 200


class Change(BaseModel):
    """One change of a document.

    `path` goes down by field names; members of tools, operations, setups and machines are named by their number, id or
    name, others by position. `was` is what the person saw before: where it no longer holds, the change is refused.
    """

    op: Literal["set", "add", "remove", "move"] = "set"
    path: str = Field(max_length=400, examples=["operations/10/params/stepover_mm"])
    value: Any = None
    was: Any = None
    check: bool = Field(default=True, description="compare with `was` first")


def load(session: Session, job_id: str, lock: bool = False) -> tuple[JobRow, RevisionRow]:
    """A job and the revision it shows.

    Raises:
        FenrikError: when there is no such job.
    """
    row = _locked(session, job_id) if lock else _there(session.get(JobRow, job_id), job_id)
    revision = session.get(RevisionRow, (job_id, row.head))
    assert revision is not None
    return row, revision


def no_job(job_id: str) -> FenrikError:
    """What to say of a job that is not there."""
    return fail("job", "does not exist (any more).", "Go back to the list of jobs.", job_id)


def _locked(session: Session, job_id: str) -> JobRow:
    """A job's row, locked until the session ends.

    Raises:
        FenrikError: when there is no such job.
    """
    return _there(session.exec(select(JobRow).where(JobRow.id == job_id).with_for_update()).first(), job_id)


def _there(row: JobRow | None, job_id: str) -> JobRow:
    if row is None or row.deleted_at is not None:
        raise no_job(job_id)
    return row


def create(
    job: Job,
    model: tuple[str, bytes] | None = None,
    job_id: str | None = None,
    files: dict[str, bytes] | None = None,
) -> str:
    """Keep a new job (with its model file and further files); gives its id."""
    job_id = job_id or new_id()
    with Session(engine()) as session:
        add(session, job, model, job_id, files)
        session.commit()
    return job_id


def new_id() -> str:
    return uuid.uuid4().hex[:12]


def add(
    session: Session,
    job: Job,
    model: tuple[str, bytes] | None,
    job_id: str,
    files: dict[str, bytes] | None = None,
) -> None:
    """A new job, kept when the session commits."""
    given = [*([model] if model else []), *(files or {}).items()]
    # In one order, or else two who do it at a time wait for each other.
    shas = {data: keep_model(session, name, data) for name, data in sorted(given, key=lambda g: g[1])}
    sha = shas[model[1]] if model else None
    kept = {name: shas[data] for name, data in (files or {}).items()}
    _begin(session, job_id, job.model_dump(mode="json"), sha, kept, "new")


def _begin(
    session: Session, job_id: str, document: dict[str, Any], sha: str | None, files: dict[str, str], label: str
) -> None:
    """The row and the first revision of a job."""
    session.add(JobRow(id=job_id, name=document["name"]))
    session.flush()
    session.add(
        RevisionRow(
            job_id=job_id, number=0, document=document, model_sha=sha, files=files, label=label, by=asking.get().name
        )
    )
    notify(session, kind="jobs", job=job_id)


def duplicate(job_id: str) -> str:
    """A copy of a job with a history of its own; gives its id."""
    copy_id = new_id()
    with Session(engine()) as session:
        row, revision = load(session, job_id)
        document = revision.document | {"name": _name_of_copy(row.name)}
        _begin(session, copy_id, document, revision.model_sha, revision.files, "copy")
        session.commit()
    return copy_id


def _name_of_copy(name: str) -> str:
    """A name with its number raised: "Bracket" gives "Bracket (2)", and that "Bracket (3)"."""
    numbered = re.fullmatch(r"(.*) \((\d{1,4})\)", name)
    stem, number = (numbered[1], int(numbered[2]) + 1) if numbered else (name, 2)
    return f"{stem[:110]} ({number})"


def delete(job_id: str) -> None:
    """Take a job out of sight; what it has waiting or running in the queue is stopped."""
    with Session(engine()) as session:
        row, _ = load(session, job_id, lock=True)
        row.deleted_at = now()
        session.exec(update(TaskRow).where(col(TaskRow.job_id) == job_id).values(cancel=True))
        notify(session, kind="jobs", job=job_id)
        session.commit()


def restore(job_id: str) -> None:
    """Bring a deleted job back.

    Raises:
        FenrikError: when it is gone for good.
    """
    with Session(engine()) as session:
        row = session.get(JobRow, job_id)
        if row is None:
            raise fail("job", "is gone for good.", "Make it again.", job_id)
        row.deleted_at = None
        notify(session, kind="jobs", job=job_id)
        session.commit()


def purge() -> None:
    """Forget jobs that were deleted long ago."""
    with Session(engine()) as session:
        old = session.exec(select(JobRow).where(col(JobRow.deleted_at) < now() - KEPT_DELETED)).all()
        for row in old:
            for table in (TaskRow, ReleaseRow, ComputedRow, RevisionRow):
                session.exec(sql_delete(table).where(col(table.job_id) == row.id))
            session.delete(row)
        session.commit()


def keep_model(session: Session, name: str, data: bytes) -> str:
    from fenrik.core.keys import sha256

    sha = sha256(data)
    # Held until the revision that names it is there: else it could be cleaned up in between.
    held = select(ModelRow.sha).where(ModelRow.sha == sha).with_for_update(read=True, key_share=True)
    while session.exec(held).first() is None and not insert_new(session, ModelRow(sha=sha, name=name, data=data)):
        pass
    return sha


def model_of(session: Session, revision: RevisionRow) -> bytes | None:
    row = session.get(ModelRow, revision.model_sha) if revision.model_sha else None
    return row.data if row else None


class KeptFiles(Mapping[str, bytes]):
    """Further files of a job, fetched from the database when they are asked for."""

    def __init__(self, shas: dict[str, str]) -> None:
        self._shas = shas

    def same_as(self, other: object) -> bool:
        """Whether the other are the same files, name by name."""
        return isinstance(other, KeptFiles) and other._shas == self._shas

    def __getitem__(self, name: str) -> bytes:
        with Session(engine()) as session:
            row = session.get(ModelRow, self._shas[name])
        if row is None:
            raise KeyError(name)
        return row.data

    def __iter__(self) -> Iterator[str]:
        return iter(self._shas)

    def __len__(self) -> int:
        return len(self._shas)


def save(
    session: Session,
    row: JobRow,
    document: dict[str, Any],
    model_sha: str | None,
    label: str,
    files: dict[str, str],
) -> None:
    """Put a new revision on top; what could have been redone is gone."""
    session.exec(sql_delete(RevisionRow).where(col(RevisionRow.job_id) == row.id, col(RevisionRow.number) > row.head))
    row.head += 1
    row.top = row.head
    row.version += 1
    row.name = document["name"]
    row.changed_at = now()
    session.add(
        RevisionRow(
            job_id=row.id,
            number=row.head,
            document=document,
            model_sha=model_sha,
            files=files,
            label=label,
            by=asking.get().name,
        )
    )
    notify(session, kind="job", job=row.id, version=row.version)


@dataclass(frozen=True)
class _Latest:
    """The document of a job as it was last written by this process, as JSON: nobody else can change it."""

    version: int
    head: int
    document: bytes
    model_sha: str | None
    files: dict[str, str]


_latest: dict[str, _Latest] = {}
LATEST_KEPT = 16


def change(job_id: str, changes: list[Change], label: str, seen: int | None = None) -> tuple[JobRow, dict[str, Any]]:
    """Carry changes out; gives the job's row and its new document.

    Args:
        seen: the version that they were worked out from, where they hang on more than their own fields.

    Raises:
        Conflict: when a field no longer holds what the person saw, or the job is no longer that version.
        FenrikError: when a path leads nowhere, or the document would be wrong.
    """
    # The row is not read again after it is kept: a database that goes away then would take back an answer.
    with Session(engine(), expire_on_commit=False) as session:
        row = _locked(session, job_id)
        still(row, seen)
        latest = _latest.get(job_id)
        if latest is None or latest.head != row.head or latest.version != row.version:
            _, revision = load(session, job_id)
            # Through the model first: a document kept before a field was added has it then.
            normal = parse_job(revision.document).model_dump_json().encode()
            latest = _Latest(row.version, row.head, normal, revision.model_sha, revision.files)
        document = from_json(latest.document)
        for one in changes:
            apply(document, one)
        # By way of JSON, which the model writes and reads several times faster than it makes plain values.
        written = parse_job(document).model_dump_json().encode()
        document = from_json(written)
        save(session, row, document, latest.model_sha, label, latest.files)
        session.commit()
        _latest[job_id] = _Latest(row.version, row.head, written, latest.model_sha, latest.files)
        while len(_latest) > LATEST_KEPT:
            _latest.pop(next(iter(_latest)), None)
        return row, document


def still(row: JobRow, seen: int | None) -> None:
    """Raise where a job is no longer the version that was seen.

    Raises:
        Overtaken: when it was changed meanwhile.
    """
    if seen is not None and row.version != seen:
        raise Overtaken(
            Problem("job", "The job was changed while this was worked out.", "Look at what is new, then do this again.")
        )


def step(job_id: str, direction: Literal[-1, 1]) -> int:
    """Undo (−1) or redo (1); gives the job's new version."""
    with Session(engine()) as session:
        row, _ = load(session, job_id, lock=True)
        target = row.head + direction
        if 0 <= target <= row.top:
            row.head = target
            row.version += 1
            row.changed_at = now()
            notify(session, kind="job", job=job_id, version=row.version)
            session.commit()
        return row.version


def history(job_id: str) -> list[RevisionRow]:
    """The revisions that undo and redo go through, without their documents, the latest first.

    Raises:
        FenrikError: when there is no such job.
    """
    with Session(engine()) as session:
        load(session, job_id)
        columns = (RevisionRow.number, RevisionRow.label, RevisionRow.by, RevisionRow.made_at)
        wanted = select(*columns).where(RevisionRow.job_id == job_id).order_by(col(RevisionRow.number).desc())
        return [
            RevisionRow(job_id=job_id, number=number, label=label, by=by, made_at=made_at, document={})
            for number, label, by, made_at in session.exec(wanted.limit(SHOWN_REVISIONS)).all()
        ]


def apply(document: dict[str, Any], one: Change) -> None:
    """Change a plain document in place."""
    steps = one.path.split("/")
    parent: Any = document
    for k, name in enumerate(steps[:-1]):
        parent = _child(parent, steps[:k], name, one.path)
    name, owner = steps[-1], steps[-2] if len(steps) > 1 else ""
    current = _peek(parent, owner, name)
    if one.check and one.op == "set" and not _same(current, one.was):
        raise Conflict(
            Problem(
                one.path,
                f"is now {_short(current)}; you saw {_short(one.was)}.",
                "Look at the new value, then change it again if you still want to.",
                current,
            )
        )
    if one.op == "set":
        _set(parent, owner, name, one)
    elif one.op == "add":
        target = _child(parent, steps[:-1], name, one.path)
        if not isinstance(target, list):
            raise fail(one.path, "is not a list.", "Add to a list.")
        target.append(one.value)
    elif one.op == "remove":
        if current is _MISSING:
            raise Conflict(Problem(one.path, "is gone already.", "Nothing needs to be done."))
        if isinstance(parent, list):
            parent.remove(current)
        else:
            parent.pop(name)
    else:
        if current is _MISSING or not isinstance(parent, list) or not isinstance(one.value, int):
            raise fail(one.path, "cannot be moved there.", "Move rows within their list.", one.value)
        parent.remove(current)
        parent.insert(max(0, min(one.value, len(parent))), current)


def _child(parent: Any, before: list[str], name: str, path: str) -> Any:
    found = _peek(parent, before[-1] if before else "", name)
    if found is _MISSING or not isinstance(found, dict | list):
        raise fail(path, f"leads nowhere at {name!r}.", "It may have been removed; reload the page.")
    return found


def _peek(parent: Any, owner: str, name: str) -> Any:
    if isinstance(parent, dict):
        return parent.get(name, _MISSING)
    if isinstance(parent, list):
        identity = _IDENTITY.get(owner)
        if identity:
            return next((m for m in parent if isinstance(m, dict) and str(m.get(identity)) == name), _MISSING)
        if name.isascii() and name.isdigit() and int(name) < len(parent):
            return parent[int(name)]
    return _MISSING


def _set(parent: Any, owner: str, name: str, one: Change) -> None:
    if isinstance(parent, dict):
        parent[name] = one.value
        return
    current = _peek(parent, owner, name)
    if current is _MISSING:
        raise fail(one.path, "leads nowhere.", "It may have been removed; reload the page.")
    parent[parent.index(current)] = one.value


def _same(a: Any, b: Any) -> bool:
    if a is _MISSING:
        return b is None
    if isinstance(a, int | float) and isinstance(b, int | float) and not isinstance(a, bool):
        return math.isclose(a, b, rel_tol=1e-12, abs_tol=1e-12)
    return bool(a == b)


def _short(value: Any) -> str:
    return "empty" if value is _MISSING or value is None else json.dumps(value)[:60]

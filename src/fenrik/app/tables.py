"""The tables: documents with their history, model files, the shop's library, artefacts, tasks, releases, accounts."""

from __future__ import annotations

from datetime import UTC, datetime
from functools import lru_cache
from typing import Any

from pydantic_core import from_json, to_json
from sqlalchemy import JSON, BigInteger, Column, Engine, LargeBinary, inspect
from sqlalchemy.dialects.postgresql import JSONB, insert
from sqlmodel import Field, Session, SQLModel, create_engine

from fenrik.app.settings import sqlalchemy_url

JSON_COLUMN = JSON().with_variant(JSONB(), "postgresql")


def now() -> datetime:
    return datetime.now(UTC)


class JobRow(SQLModel, table=True):
    """A job: `head` is the revision shown, `top` the newest that redo can reach, `version` counts every change;
    `summary` is what its state was when it was last worked out. A deleted one can come back for a while."""

    __tablename__ = "job"
    id: str = Field(primary_key=True)
    name: str
    head: int = 0
    top: int = 0
    version: int = 0
    changed_at: datetime = Field(default_factory=now)
    summary: dict[str, Any] = Field(
        default_factory=dict, sa_column=Column(JSON_COLUMN, nullable=False, server_default="{}")
    )
    deleted_at: datetime | None = None


class RevisionRow(SQLModel, table=True):
    """One state of a job's document."""

    __tablename__ = "revision"
    job_id: str = Field(primary_key=True, foreign_key="job.id", ondelete="CASCADE")
    number: int = Field(primary_key=True)
    document: dict[str, Any] = Field(sa_column=Column(JSON_COLUMN, nullable=False))
    model_sha: str | None = None
    files: dict[str, str] = Field(
        default_factory=dict, sa_column=Column(JSON_COLUMN, nullable=False, server_default="{}")
    )
    label: str = ""
    by: str = ""
    made_at: datetime = Field(default_factory=now)


class ModelRow(SQLModel, table=True):
    """A model file, by the SHA-256 of its bytes."""

    __tablename__ = "model"
    sha: str = Field(primary_key=True)
    name: str
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


class LibraryToolRow(SQLModel, table=True):
    """A tool of the shop's library."""

    __tablename__ = "library_tool"
    number: int = Field(primary_key=True)
    data: dict[str, Any] = Field(sa_column=Column(JSON_COLUMN, nullable=False))


class LibraryMaterialRow(SQLModel, table=True):
    """A material of the shop's library."""

    __tablename__ = "library_material"
    name: str = Field(primary_key=True)
    data: dict[str, Any] = Field(sa_column=Column(JSON_COLUMN, nullable=False))


class LibraryRecipeRow(SQLModel, table=True):
    """The rules that new jobs begin with, under one fixed name."""

    __tablename__ = "library_recipe"
    name: str = Field(primary_key=True)
    data: dict[str, Any] = Field(sa_column=Column(JSON_COLUMN, nullable=False))


class ArtefactRow(SQLModel, table=True):
    """Something computed, compressed, by its key."""

    __tablename__ = "artefact"
    key: str = Field(primary_key=True)
    kind: str
    size: int
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    made_at: datetime = Field(default_factory=now)


class UseRow(SQLModel, table=True):
    """A result that a setup was last computed from or to."""

    __tablename__ = "artefact_use"
    job_id: str = Field(primary_key=True, foreign_key="job.id", ondelete="CASCADE")
    setup: str = Field(primary_key=True)
    key: str = Field(primary_key=True, index=True)


class ComputedRow(SQLModel, table=True):
    """What an operation was last computed from, to tell why it is out of date."""

    __tablename__ = "computed"
    job_id: str = Field(primary_key=True, foreign_key="job.id", ondelete="CASCADE")
    operation: int = Field(primary_key=True)
    inputs: dict[str, Any] = Field(sa_column=Column(JSON_COLUMN, nullable=False))
    seconds: float = 0.0


class TaskRow(SQLModel, table=True):
    """Work in the queue with its progress: `queue_id` is its entry there, `attempt` how often it was begun, `in_vain`
    how often since it last kept something new, `again_at` when it may be begun again."""

    __tablename__ = "task"
    id: str = Field(primary_key=True)
    job_id: str = Field(foreign_key="job.id", ondelete="CASCADE", index=True)
    what: dict[str, Any] = Field(sa_column=Column(JSON_COLUMN, nullable=False))
    state: str = "waiting"
    fraction: float = 0.0
    words: str = ""
    cancel: bool = False
    problems: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(JSON_COLUMN, nullable=False))
    queue_id: int | None = Field(default=None, sa_type=BigInteger)
    attempt: int = 0
    in_vain: int = 0
    worker: str = ""
    again_at: datetime | None = None
    made_at: datetime = Field(default_factory=now)


class ReleaseRow(SQLModel, table=True):
    """Files handed to the shop; never changed. `keys` are what they were built from."""

    __tablename__ = "release"
    job_id: str = Field(primary_key=True, foreign_key="job.id", ondelete="CASCADE")
    number: int = Field(primary_key=True)
    revision: int
    keys: dict[str, str] = Field(sa_column=Column(JSON_COLUMN, nullable=False))
    files: dict[str, str] = Field(sa_column=Column(JSON_COLUMN, nullable=False))
    report: dict[str, Any] = Field(sa_column=Column(JSON_COLUMN, nullable=False))
    by: str = ""
    made_at: datetime = Field(default_factory=now)


class AccountRow(SQLModel, table=True):
    """Somebody who may sign in: `wrong` counts wrong passwords in a row."""

    __tablename__ = "account"
    name: str = Field(primary_key=True)
    role: str
    password: str
    wrong: int = 0
    locked_until: datetime | None = None
    made_at: datetime = Field(default_factory=now)


class SessionRow(SQLModel, table=True):
    """Somebody who is signed in; `word` is the SHA-256 of what the cookie holds."""

    __tablename__ = "session"
    word: str = Field(primary_key=True)
    account: str = Field(foreign_key="account.name", ondelete="CASCADE", index=True)
    made_at: datetime = Field(default_factory=now)
    seen_at: datetime = Field(default_factory=now)


@lru_cache(maxsize=1)
def engine() -> Engine:
    return create_engine(
        sqlalchemy_url(),
        pool_size=10,
        max_overflow=20,
        pool_pre_ping=True,
        pool_timeout=10,
        connect_args={"connect_timeout": 5},
        json_serializer=lambda value: to_json(value).decode(),
        json_deserializer=from_json,
    )


def upsert(session: Session, row: SQLModel) -> None:
    """Insert a row, or replace the one of the same key; also where somebody else inserts it at this moment."""
    if not insert_new(session, row):
        session.merge(row)


def insert_new(session: Session, row: SQLModel) -> bool:
    """Insert a row and hold it until the session commits; gives whether there was none of the same key.

    Where somebody else is inserting one it is waited for what becomes of that.
    """
    key = inspect(type(row)).primary_key
    made = insert(type(row)).values(row.model_dump()).on_conflict_do_nothing().returning(*key)
    return session.execute(made).first() is not None

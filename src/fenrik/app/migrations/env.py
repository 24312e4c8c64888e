"""Alembic's entry: our tables against the configured database."""

from alembic import context
from sqlalchemy import create_engine
from sqlmodel import SQLModel

from fenrik.app import tables  # noqa: F401

engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
OURS = set(SQLModel.metadata.tables)

with engine.connect() as connection:
    context.configure(
        connection=connection,
        target_metadata=SQLModel.metadata,
        include_name=lambda name, kind, _parents: kind != "table" or name in OURS,
    )
    with context.begin_transaction():
        context.run_migrations()

"""Where the database is; everything else is in the database."""

from __future__ import annotations

import os

DEFAULT_DATABASE = "postgresql://fenrik@127.0.0.1:54329/fenrik"


def database_url() -> str:
    """Connection string for psycopg (`FENRIK_DATABASE` in the environment overrides)."""
    return os.environ.get("FENRIK_DATABASE", DEFAULT_DATABASE)


def sqlalchemy_url() -> str:
    return database_url().replace("postgresql://", "postgresql+psycopg://", 1)

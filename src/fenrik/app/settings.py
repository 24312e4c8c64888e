"""Where the database is; everything else is in the database."""

from __future__ import annotations

import os

DEFAULT_DATABASE = "postgresql://fenrik@127.0.0.1:54329/fenrik"


def database_url() -> str:
    """Connection string for psycopg (`FENRIK_DATABASE` in the environment overrides)."""
    return os.environ.get("FENRIK_DATABASE", DEFAULT_DATABASE)


def sqlalchemy_url() -> str:
    return database_url().replace("postgresql://", "postgresql+psycopg://", 1)


def task_memory_mb() -> float:
    """How much memory one task may take (`FENRIK_TASK_MEMORY_MB`); three quarters of the machine's where nothing is
    said."""
    given = os.environ.get("FENRIK_TASK_MEMORY_MB")
    return float(given) if given else 0.75 * os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") / 2**20

"""What to tell of a database that is away, or that is not of this Fenrik."""

from __future__ import annotations

import psycopg
from sqlalchemy import exc, make_url

from fenrik.app.settings import database_url
from fenrik.core.errors import Problem


def database_problem(error: Exception) -> Problem | None:
    """What to tell of an error of the database that somebody who runs a server can mend; None: it is something else."""
    cause = error.orig if isinstance(error, exc.DBAPIError) else error
    where = make_url(database_url()).render_as_string(hide_password=True)
    if isinstance(cause, psycopg.errors.UndefinedTable | psycopg.errors.UndefinedColumn):
        return Problem("database", "is not up to date with this Fenrik.", "Bring it up to date: fenrik migrate", where)
    if isinstance(cause, psycopg.OperationalError):
        way_out = "Start it, or name another in FENRIK_DATABASE."
        return Problem("database", "does not answer.", way_out, f"{where}: {str(cause).strip()}")
    return None

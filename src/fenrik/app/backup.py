"""A copy of everything in one file, made while the server runs; and back from it into an empty database."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import subprocess
import tempfile
import zipfile
from pathlib import Path
from typing import Any

from alembic.script import ScriptDirectory
from psycopg.conninfo import conninfo_to_dict
from sqlmodel import Session, SQLModel, text

from fenrik import __version__
from fenrik.app.migrate import alembic_config, migrate
from fenrik.app.settings import database_url
from fenrik.app.tables import engine
from fenrik.core.errors import fail

ABOUT, DUMP = "about.json", "database.dump"
CHUNK = 1 << 20
_SCHEMA = "select version_num from alembic_version"
_TABLES = "select table_name from information_schema.tables where table_schema = 'public'"
_VARIABLES = {"host": "PGHOST", "port": "PGPORT", "user": "PGUSER", "password": "PGPASSWORD", "dbname": "PGDATABASE"}


def backup(path: Path) -> dict[str, Any]:
    """Write a copy of the database; it is whole and checked, or not there. Gives what it holds.

    Raises:
        FenrikError: where the file cannot be written or the database's own programs are missing or fail.
    """
    with tempfile.TemporaryDirectory(prefix="fenrik-", dir=_folder_of(path)) as folder:
        dump = Path(folder) / DUMP
        with Session(engine().execution_options(isolation_level="REPEATABLE READ")) as session:
            # People go on meanwhile: what is counted and what is written down are of the same moment.
            moment = _one(session, "select pg_export_snapshot()")
            about = {"fenrik": __version__, "schema": _one(session, _SCHEMA), "rows": _counts(session)}
            _run("pg_dump", "--format=custom", "--no-owner", f"--snapshot={moment}", f"--file={dump}")
        _run("pg_restore", "--list", str(dump))
        about["sha256"] = _sha256(dump)
        part = Path(folder) / "whole.zip"
        with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
            archive.writestr(ABOUT, json.dumps(about, indent=2))
            archive.write(dump, DUMP)
        part.replace(path)
    return about


def restore(path: Path) -> dict[str, Any]:
    """Fill an empty database from a copy, and bring it up to date. Gives what the copy says that it holds.

    Raises:
        FenrikError: where the file is no copy, is damaged or of a later Fenrik, or the database is not empty.
    """
    with tempfile.TemporaryDirectory(prefix="fenrik-", dir=_folder_of(path)) as folder:
        about = _taken_out(path, Path(folder))
        known = {s.revision for s in ScriptDirectory.from_config(alembic_config()).walk_revisions()}
        if about["schema"] not in known:
            raise fail("file", "is of a later Fenrik.", "Install that one first.", about.get("fenrik"))
        _check_empty()
        _run(
            "pg_restore",
            "--exit-on-error",
            "--single-transaction",
            "--no-owner",
            "-d",
            database_url(),
            f"{folder}/{DUMP}",
        )
        with Session(engine()) as session:
            found = _counts(session)
    if found != about["rows"]:
        raise fail("file", f"should hold {about['rows']}, but {found} came back.", "Take an earlier copy.", path.name)
    migrate(demo=False)
    return about


def _taken_out(path: Path, folder: Path) -> dict[str, Any]:
    """The dump, checked, in a folder; and what is said of it."""
    try:
        with zipfile.ZipFile(path) as archive:
            about = json.loads(archive.read(ABOUT))
            with archive.open(DUMP) as stream, (folder / DUMP).open("wb") as out:
                shutil.copyfileobj(stream, out, CHUNK)
        whole = _sha256(folder / DUMP) == about["sha256"]
    except (OSError, KeyError, ValueError, zipfile.BadZipFile) as error:
        raise fail("file", f"is not a copy made by `fenrik backup`: {error}.", "Choose another.", str(path)) from error
    if not whole:
        raise fail("file", "is damaged: its checksum differs.", "Take an earlier copy.", str(path))
    return dict(about)


def _check_empty() -> None:
    with Session(engine()) as session:
        if session.connection().execute(text(_TABLES)).first():
            way_out = "Make a new one (createdb), and name it in FENRIK_DATABASE."
            raise fail("database", "is not empty; nothing is written over.", way_out)
    engine().dispose()


def _counts(session: Session) -> dict[str, int]:
    """Rows of each of our tables that this schema has."""
    there = {row[0] for row in session.connection().execute(text(_TABLES))}
    return {t: _one(session, f'select count(*) from "{t}"') for t in sorted(there & set(SQLModel.metadata.tables))}


def _one(session: Session, statement: str) -> Any:
    return session.connection().execute(text(statement)).scalar_one()


def _folder_of(path: Path) -> Path:
    folder = path.resolve().parent
    if not folder.is_dir():
        raise fail("file", "would lie in a folder that is not there.", "Make the folder first.", str(path))
    return folder


def _run(program: str, *words: str) -> None:
    """One of the database's own programs."""
    known = sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{program}"), key=lambda p: int(p.parts[4]))
    found = str(known[-1]) if known else shutil.which(program)
    if found is None:
        raise fail("database", f"needs {program}, which is not installed.", "apt-get install postgresql-client")
    # By the environment: the password would be seen in the list of processes.
    told = {_VARIABLES[k]: str(v) for k, v in conninfo_to_dict(database_url()).items() if k in _VARIABLES}
    done = subprocess.run([found, *words], capture_output=True, text=True, env=os.environ | told)
    if done.returncode:
        raise fail("database", f"{program} failed: {done.stderr.strip()[:400]}", "See the database's log.")


def _sha256(path: Path) -> str:
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()

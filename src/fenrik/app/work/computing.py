"""What a worker's child computes for a task."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from sqlalchemy.exc import OperationalError
from sqlmodel import Session

from fenrik.app.cleaning import note_use
from fenrik.app.documents import KeptFiles, load, model_of
from fenrik.app.store import DatabaseStore
from fenrik.app.tables import ComputedRow, TaskRow, engine, upsert
from fenrik.app.work.child import Message, too_much_memory
from fenrik.app.work.tasks import Attempt, kept_something
from fenrik.core.build import Build
from fenrik.core.errors import FenrikError, Problem
from fenrik.core.job import Operation
from fenrik.core.job_reading import parse_job
from fenrik.core.planning import keep_finish
from fenrik.core.strategies.common import Outcome
from fenrik.core.strategies.registry import STRATEGIES

KEPT_BYTES = 48 * 2**20
log = logging.getLogger(__name__)


class _Keeping(DatabaseStore):
    """The store of an attempt: what is new in it shows that the attempt was not in vain; `used` are all keys of it."""

    def __init__(self, attempt: Attempt) -> None:
        super().__init__(KEPT_BYTES)
        self._attempt = attempt
        self.used: set[str] = set()

    def get(self, key: str) -> bytes | None:
        data = super().get(key)
        if data is not None:
            self.used.add(key)
        return data

    def put(self, key: str, kind: str, data: bytes) -> None:
        super().put(key, kind, data)
        self.used.add(key)

    def kept(self, session: Session) -> None:
        kept_something(session, self._attempt)


def compute_task(attempt: Attempt, progress: Callable[[float, str], None]) -> Message:
    """Compute what a task asks for: paths of operations, or everything up to the proof of a setup.

    Returns:
        ("done", None), or ("done", (words, problems)) with the rows that could not be computed; ("failed", (words,
        problems)); or ("again", why) where the database was not there.
    """
    began = time.monotonic()
    try:
        progress(0.0, "opening the job")
        build, what, job_id = _opened(attempt)
        setup = build.job.setup(what["setup"])
        numbers = set(what["operations"]) if what.get("operations") else None
        failed = build.compute(setup, numbers, what.get("proof", True), progress)
        for operation in build.job.route(setup):
            if numbers is None or operation.number in numbers:
                remember(job_id, operation, build, time.monotonic() - began)
        if what.get("proof", True) and _all_proven(build):
            progress(1.0, "looking at the surface")
            keep_finish(build)
        if what.get("proof", True) and isinstance(build.store, _Keeping):
            note_use(job_id, setup.id, build.proof_key(setup), build.store.used)
    except FenrikError as error:
        return _failed(str(error), error.problems)
    except StopIteration:
        return _failed("The setup is gone.", [Problem("setup", "is gone.", "Choose another.")])
    except MemoryError:
        return _failed(*too_much_memory())
    except (OSError, OperationalError) as error:
        return "again", str(error)
    except Exception as error:
        log.exception("task %s failed", attempt.task_id, exc_info=error)
        words = f"failed: {type(error).__name__}: {str(error).split(chr(10))[0][:200]}."
        problem = Problem("computation", words, "Please report this job; the server's log has more.")
        return _failed("Fenrik failed here.", [problem])
    return "done", _told_of(failed)


def _told_of(failed: dict[int, Outcome]) -> tuple[str, list[Problem]] | None:
    """What is said of rows that could not be computed, by number; nothing where there are none."""
    if not failed:
        return None
    words = "; ".join(f"Row {number} could not be computed: {outcome.why}" for number, outcome in failed.items())
    return words, [p for outcome in failed.values() for p in outcome.failed]


def _all_proven(build: Build) -> bool:
    """Whether no setup waits for its proof."""
    keys = [build.proof_key(s) for s in build.job.setups if build.job.route(s)]
    return isinstance(build.store, DatabaseStore) and build.store.present(keys) == set(keys)


def _failed(words: str, problems: list[Problem]) -> Message:
    return "failed", (words, [replace(p, value=str(p.value)) for p in problems])


def _opened(attempt: Attempt) -> tuple[Build, dict[str, Any], str]:
    with Session(engine()) as session:
        task = session.get_one(TaskRow, attempt.task_id)
        _, revision = load(session, task.job_id)
        job, model, files = parse_job(revision.document), model_of(session, revision), KeptFiles(revision.files)
        return Build(job, model, _Keeping(attempt), files=files), task.what, task.job_id


def inputs_of(operation: Operation, build: Build) -> dict[str, Any]:
    """What an operation is computed from, in a form that can be compared later."""
    tool, strategy = build.job.tool(operation.tool), STRATEGIES[operation.params.strategy]
    return {
        "part": build.solid_key if build.job.part else "",
        "code": [strategy.version, strategy.code],
        "params": operation.params.model_dump(mode="json"),
        "tool": tool.cutter.model_dump(mode="json"),
        "feeds": list(build.job.feeds(operation).__dict__.values()),
        "key": build.path_key(operation),
        "before": build.key_before(operation),
    }


def remember(job_id: str, operation: Operation, build: Build, seconds: float) -> None:
    with Session(engine()) as session:
        row = ComputedRow(
            job_id=job_id, operation=operation.number, inputs=inputs_of(operation, build), seconds=seconds
        )
        upsert(session, row)
        session.commit()

"""From a request to a build: the job's shown revision with its artefacts."""

from __future__ import annotations

import contextlib
import gc
import os
import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import TypeVar

from sqlmodel import Session

from fenrik.app.documents import Change, KeptFiles, change, load, model_of
from fenrik.app.problems import Overtaken
from fenrik.app.store import DatabaseStore
from fenrik.app.tables import engine
from fenrik.core.build import Build
from fenrik.core.errors import fail
from fenrik.core.job import Job, Operation, Setup
from fenrik.core.job_reading import parse_job
from fenrik.processes import memory_mb


@dataclass(frozen=True)
class Opened:
    """A job as it is now."""

    job_id: str
    version: int
    head: int
    top: int
    build: Build

    @property
    def job(self) -> Job:
        return self.build.job

    def setup(self, setup_id: str) -> Setup:
        found = next((s for s in self.job.setups if s.id == setup_id), None)
        if found is None:
            raise fail("setup", "does not exist (any more).", "Choose another setup.", setup_id)
        return found

    def operation(self, number: int) -> Operation:
        found = next((o for o in self.job.operations if o.number == number), None)
        if found is None:
            raise fail("operation", "does not exist (any more).", "Choose another row.", number)
        return found

    def ready(self, key: str, what: str) -> None:
        """Raises FenrikError where an artefact is not there."""
        if self.build.store.get(key) is None:
            raise fail(what, "is out of date or was never computed.", "Compute it first.")


T = TypeVar("T")
AGAIN = 2
"""How often something is done again that was overtaken."""


@lru_cache(maxsize=1)
def store() -> DatabaseStore:
    return DatabaseStore()


_builds: OrderedDict[str, tuple[int, Build]] = OrderedDict()
_builds_lock = threading.Lock()
BUILDS_KEPT, FEWEST_KEPT = 16, 2
MUCH_MB = 1200.0
"""Beyond it only the fewest are kept: parts may be of any size."""


def _build_of(job_id: str, version: int) -> Build:
    """The build of a version; the latest of each job is kept, and the next one takes over its geometry."""
    with _builds_lock:
        kept = _builds.get(job_id)
        if kept is not None and kept[0] == version:
            _builds.move_to_end(job_id)
            return kept[1]
    with Session(engine()) as session:
        _, revision = load(session, job_id)
        job = parse_job(revision.document)
        files = KeptFiles(revision.files)
        build = Build(job, model_of(session, revision), store(), files=files)
    if kept is not None and kept[1].model == build.model and files.same_as(kept[1].files):
        build.take_over(kept[1])
    with _builds_lock:
        _builds[job_id] = version, build
        _builds.move_to_end(job_id)
        _make_room()
    return build


def _make_room() -> None:
    """Let go of the builds that nobody has asked for the longest: beyond a number, or where this process holds much."""
    while len(_builds) > BUILDS_KEPT:
        _builds.popitem(last=False)
    while len(_builds) > FEWEST_KEPT and memory_mb(os.getpid()) > MUCH_MB:
        _builds.popitem(last=False)
        gc.collect()


def open_job(job_id: str) -> Opened:
    """The job's shown revision; builds are kept by version, so repeated requests are cheap."""
    with Session(engine()) as session:
        row, _ = load(session, job_id)
        version, head, top = row.version, row.head, row.top
    return Opened(job_id, version, head, top, _build_of(job_id, version))


def on_latest(job_id: str, act: Callable[[Opened], T]) -> T:
    """Do something with a job as it is; where somebody changes it meanwhile, again with what it is then.

    Raises:
        Overtaken: as the act raises it, when the job is changed each time.
    """
    for _ in range(AGAIN):
        with contextlib.suppress(Overtaken):
            return act(open_job(job_id))
    return act(open_job(job_id))


def rework(job_id: str, label: str, work: Callable[[Opened], tuple[Job, T]]) -> T:
    """Change a job into what is worked out from it, in one step of undo, so that nobody's change is lost.

    Args:
        work: gives the job as it is to be, and what else it found, which is given back.

    Raises:
        Overtaken: when the job is changed by somebody each time.
    """

    def act(opened: Opened) -> T:
        wanted, found = work(opened)
        _become(opened, wanted, label)
        return found

    return on_latest(job_id, act)


def _become(opened: Opened, wanted: Job, label: str) -> None:
    """Change a job in the parts of its document that differ from what is wanted."""
    before, after = opened.job.model_dump(mode="json"), wanted.model_dump(mode="json")
    changes = [Change(path=p, value=after[p], check=False) for p in after if after[p] != before[p]]
    if changes:
        change(opened.job_id, changes, label, opened.version)

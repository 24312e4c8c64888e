"""Processes that read foreign files: one for each file, with limits, no network, and nobody else in it."""

from __future__ import annotations

import contextlib
import logging
import multiprocessing
import os
import resource
import shutil
import signal
import tempfile
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, TypeVar

from fenrik.core.errors import FenrikError, fail
from fenrik.processes import cut_off, end_with_parent, give_back_early, memory_mb

Read = TypeVar("Read")
PLACES = max(4, 2 * (os.cpu_count() or 1))
"""How many files are read at a time."""
WAIT_S = 60.0
LOOK_EVERY_S = 0.05
FOLDER, FORGOTTEN_S = "fenrik-read-", 3600.0
"""How folders of readers are called, and when one is forgotten: no file may take so long, so its maker was killed."""
log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Limits:
    """What a process may take for one file."""

    memory_mb: float
    cpu_s: int
    written_bytes: int
    files: int = 64

    @classmethod
    def for_bytes(cls, size: int) -> Limits:
        """A file of some megabytes needs about twenty times as much to be read, and some seconds for each."""
        mb = size / 2**20
        return cls(900.0 + 24.0 * mb, round(30 + 5 * mb), 2 * size + 2**20)

    @property
    def wall_s(self) -> float:
        return 2.0 * self.cpu_s + 4.0

    def keep_to(self) -> None:
        """Put this process under these limits, for good."""
        memory = int(self.memory_mb * 2**20)
        for kind, most in (
            (resource.RLIMIT_DATA, memory),
            (resource.RLIMIT_CPU, self.cpu_s),
            (resource.RLIMIT_FSIZE, self.written_bytes),
            (resource.RLIMIT_NOFILE, self.files),
            (resource.RLIMIT_CORE, 0),
        ):
            _, hard = resource.getrlimit(kind)
            most = most if hard == resource.RLIM_INFINITY else min(most, hard)
            resource.setrlimit(kind, (most, most))


_places = threading.BoundedSemaphore(PLACES)
_context = multiprocessing.get_context("forkserver")
_context.set_forkserver_preload(["fenrik.app.ahead"])


def read_in_own_process(work: Callable[..., Read], *given: Any, size: int, field: str, name: str) -> Read:
    """Have a foreign file read by a process that lives for it alone.

    Args:
        work: an importable function; it and what it is given must be pickled, and so must what it gives.
        size: bytes of the file; its limits grow with it. field, name: where an error is shown, and of which file.

    Raises:
        FenrikError: what `work` raises; that the file made its reader crash, or took more memory or time than a file of
            its size may; that too many others are being read.
    """
    if not _places.acquire(timeout=WAIT_S):
        raise fail(field, "waits for other files that are being read.", "Try again in a minute.", name)
    try:
        with tempfile.TemporaryDirectory(prefix=FOLDER) as folder:
            return _read(work, given, Limits.for_bytes(size), folder, field, name)
    finally:
        _places.release()


def sweep() -> None:
    """Throw away what readers left whose server was killed."""
    for folder in Path(tempfile.gettempdir()).glob(f"{FOLDER}*"):
        with contextlib.suppress(OSError):
            if folder.stat().st_mtime < time.time() - FORGOTTEN_S:
                shutil.rmtree(folder, ignore_errors=True)


def _read(
    work: Callable[..., Read], given: tuple[Any, ...], limits: Limits, folder: str, field: str, name: str
) -> Read:
    ours, theirs = _context.Pipe(duplex=False)
    process = _context.Process(target=_serve, args=(theirs, work, given, limits, folder), daemon=True)
    process.start()
    theirs.close()
    again = "Export it again, simpler or only what this job needs."
    try:
        deadline = time.monotonic() + limits.wall_s
        while not ours.poll(LOOK_EVERY_S):
            if time.monotonic() > deadline:
                raise fail(field, f"takes longer than {limits.wall_s:.0f} s to read.", again, name)
            if memory_mb(process.pid or 0) > limits.memory_mb:
                raise _greedy(limits, field, again, name)
        try:
            kind, told = ours.recv()
        except (EOFError, OSError):
            process.join()
            raise _ended(process.exitcode, limits, field, again, name) from None
        if kind == "wrong":
            raise FenrikError(*told)
        if kind == "greedy":
            raise _greedy(limits, field, again, name)
        if kind == "failed":
            raise fail(field, f"is damaged: {told}.", "Export it again.", name)
        return told
    finally:
        process.kill()
        process.join()
        process.close()
        ours.close()


def _greedy(limits: Limits, field: str, way_out: str, name: str) -> FenrikError:
    return fail(field, f"needs more than {limits.memory_mb:.0f} MB of memory to read.", way_out, name)


def _ended(code: int | None, limits: Limits, field: str, way_out: str, name: str) -> FenrikError:
    """What is said of a process that ended without an answer."""
    log.warning("reading %s ended its process with %s", name, code)
    if code in (-signal.SIGXCPU, -signal.SIGKILL):
        return fail(field, f"takes longer than {limits.cpu_s} s to read.", way_out, name)
    return fail(field, "made the reader crash; it is damaged.", "Export it again from where it was made.", name)


def _serve(pipe: Connection, work: Callable[..., Any], given: tuple[Any, ...], limits: Limits, folder: str) -> None:
    """The process's whole life."""
    end_with_parent(os.getppid(), signal.SIGKILL)
    give_back_early()
    tempfile.tempdir = folder
    # Or else kernels make a lock for processes that are forked from this one, and its name stays where this is killed.
    multiprocessing.set_start_method("spawn", force=True)
    limits.keep_to()
    if not cut_off():
        log.warning("this system cannot cut a process off from the network: a foreign file is read without that")
    try:
        told: tuple[str, Any] = ("done", work(*given))
    except FenrikError as error:
        told = ("wrong", error.problems)
    except MemoryError:
        told = ("greedy", None)
    except Exception as error:  # whatever a reader of damaged bytes may raise
        told = ("failed", type(error).__name__)
    with contextlib.suppress(OSError):  # nobody waits for it any more
        pipe.send(told)

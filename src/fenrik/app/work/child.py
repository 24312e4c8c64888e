"""A worker's child, in which kernels and Open CASCADE run: it can be ended at any moment, its crash is only its own."""

from __future__ import annotations

import contextlib
import os
import signal
import time
from collections.abc import Callable
from importlib import import_module
from multiprocessing import get_context
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from typing import Any

from fenrik.app.logs import set_up_logs
from fenrik.app.settings import task_memory_mb
from fenrik.core.errors import Problem
from fenrik.processes import end_with_parent, give_back_early, memory_mb

LOOK_EVERY_S = 0.1
IDLE_S = 5.0
"""A child that is asked nothing for so long after its start makes itself ready."""
RECYCLED_MB = 800
"""A child that still holds more than this after its work makes room for a new one; ready for work it holds about 500,
and a new one needs seconds until it is."""
FROM_OUTSIDE = (-signal.SIGKILL, -signal.SIGTERM)

Message = tuple[str, Any]
Work = Callable[[Any, Callable[[float, str], None]], Message]
"""Called in the child with what is asked and where progress goes; gives what it came to."""


class Overrun(Exception):
    """The child needed more memory than it may have."""


class Crashed(Exception):
    """The child died of itself."""


class Killed(Exception):
    """Somebody else ended the child: a person, or a system that is short of memory."""


class Stopped(Exception):
    """Somebody asked to stop; the child was ended."""


def too_much_memory() -> tuple[str, list[Problem]]:
    """What is said where a task may not have the memory that it needs."""
    words = "The task needs more memory than it may have."
    way_out = "Choose a coarser stock cell or a larger tolerance, or allow more in FENRIK_TASK_MEMORY_MB."
    return words, [Problem("computation", "needs more memory than it may have.", way_out)]


class Child:
    """A process that does one piece of work after another, and is started anew when it had to be ended.

    Args:
        work: where what it does is found, as `module:function`; it is loaded in the child alone. warm: likewise what it
            does once when nothing is asked at its start, so that its first work need not wait for it.
    """

    def __init__(self, work: str, warm: str = "") -> None:
        self.work, self.warm = work, warm
        self._process: BaseProcess | None = None
        self._pipe: Connection | None = None

    def start(self) -> None:
        """Start the process ahead of its first work, since it takes seconds to import all it needs."""
        if self._process is not None and self._process.is_alive():
            return
        context = get_context("spawn")
        self._pipe, other = context.Pipe()
        self._process = context.Process(target=_serve, args=(self.work, self.warm, other, os.getpid()), daemon=True)
        self._process.start()
        other.close()

    def run(self, asked: Any, progress: Callable[[float, str], None], stop: Callable[[], bool]) -> Message:
        """Have a piece of work done.

        Args:
            progress: called with what the work tells. stop: asked again and again; True ends the child at once.

        Raises:
            Stopped, Overrun, Crashed, Killed: as they say; the next work finds a new child.
        """
        try:
            return self._run(asked, progress, stop)
        except BaseException:
            # Also when `progress` or `stop` fails (the database is gone): else what the child still tells of this work
            # would be taken for the answer to the next.
            self._end()
            raise

    def _run(self, asked: Any, progress: Callable[[float, str], None], stop: Callable[[], bool]) -> Message:
        self.start()
        assert self._pipe is not None
        assert self._process is not None
        with contextlib.suppress(OSError):
            self._pipe.send(asked)
        while True:
            try:
                told = self._pipe.recv() if self._pipe.poll(LOOK_EVERY_S) else None
            except (EOFError, OSError) as error:
                self._process.join(LOOK_EVERY_S)
                raise (Killed if self._process.exitcode in FROM_OUTSIDE else Crashed) from error
            if told is not None and told[0] != "progress":
                if self.memory_mb() > RECYCLED_MB:
                    self._end()
                return told
            if told is not None:
                progress(*told[1])
            if stop():
                raise Stopped
            if self.memory_mb() > task_memory_mb():
                raise Overrun

    def memory_mb(self) -> float:
        """What the child holds now."""
        assert self._process is not None
        return memory_mb(self._process.pid or 0)

    def _end(self) -> None:
        """Kill the child and start the next."""
        self.close()
        self.start()

    def close(self) -> None:
        """Kill the child."""
        if self._process is not None:
            self._process.kill()
            self._process.join()
        if self._pipe is not None:
            self._pipe.close()
        self._process = None


def _named(name: str) -> Callable[..., Any]:
    module, _, function = name.partition(":")
    return getattr(import_module(module), function)


def _serve(work_name: str, warm_name: str, pipe: Connection, parent: int) -> None:
    """The child's own loop."""
    set_up_logs()
    give_back_early()
    end_with_parent(parent, signal.SIGKILL)
    work: Work = _named(work_name)
    last = 0.0

    def progress(fraction: float, words: str) -> None:
        nonlocal last
        if time.monotonic() - last >= LOOK_EVERY_S:
            last = time.monotonic()
            pipe.send(("progress", (fraction, words)))

    if warm_name and not pipe.poll(IDLE_S):
        _named(warm_name)()
    while True:
        try:
            asked = pipe.recv()
        except EOFError:
            return
        pipe.send(work(asked, progress))

"""The processes that a server keeps alive beside it: its desk and its workers."""

from __future__ import annotations

import logging
import math
import os
import subprocess
import sys
import threading
import time

CHECK_EVERY_S = 0.5
PATIENCE_S = 5.0
"""How long processes that are stopped may take to hand back what they do."""
SHORT_LIFE_S, LONGEST_PAUSE_S = 2.0, 30.0
"""What ends again so soon is started after pauses that double, up to the longest: it would not do better at once."""
log = logging.getLogger(__name__)


class _Kept:
    """A command that is kept running."""

    def __init__(self, name: str, words: list[str]) -> None:
        self.name, self._words = name, words
        self.process: subprocess.Popen[bytes] | None = None
        self._begun = self._not_before = -math.inf
        self._ended = True
        self._short_lives = 0

    def look(self) -> None:
        """Start it where it does not run and its pause is over."""
        now = time.monotonic()
        if not self._ended and self.process is not None and (code := self.process.poll()) is not None:
            self._ended = True
            self._short_lives = self._short_lives + 1 if now - self._begun < SHORT_LIFE_S else 0
            pause = min(CHECK_EVERY_S * 2**self._short_lives, LONGEST_PAUSE_S) if self._short_lives > 1 else 0.0
            self._not_before = now + pause
            log.warning("%s ended with %s and is started again after %.1f s", self.name, code, pause)
        if self._ended and now >= self._not_before:
            self.process = subprocess.Popen([sys.executable, "-m", "fenrik.cli", *self._words])
            self._begun, self._ended = now, False


class Keeper:
    """Starts commands of Fenrik, and starts them again when they end."""

    def __init__(self) -> None:
        self._kept: list[_Kept] = []
        self._stop = threading.Event()
        # All are started by this one thread, which lives as long as the server: they end with the thread.
        self._thread = threading.Thread(target=self._keep, daemon=True)
        self._thread.start()

    def keep(self, name: str, *words: str) -> None:
        """Keep a command running from now on."""
        self._kept.append(_Kept(name, [*words, "--parent", str(os.getpid())]))

    def close(self) -> None:
        """Stop all, and wait until they have ended."""
        self._stop.set()
        self._thread.join(PATIENCE_S + 2 * CHECK_EVERY_S)

    def _keep(self) -> None:
        while not self._stop.is_set():
            for kept in list(self._kept):
                kept.look()
            self._stop.wait(CHECK_EVERY_S)
        running = [k.process for k in self._kept if k.process is not None]
        for process in running:
            process.terminate()
        deadline = time.monotonic() + PATIENCE_S
        for process in running:
            try:
                process.wait(max(deadline - time.monotonic(), 0.1))
            except subprocess.TimeoutExpired:
                process.kill()

"""The processes that a server keeps alive beside it: its desk and its workers."""

from __future__ import annotations

import logging
import os
import subprocess
import sys
import threading
import time

CHECK_EVERY_S = 0.5
PATIENCE_S = 5.0
"""How long processes that are stopped may take to hand back what they do."""
log = logging.getLogger(__name__)


class Keeper:
    """Starts commands of Fenrik, and starts them again when they end."""

    def __init__(self) -> None:
        self._commands: dict[str, list[str]] = {}
        self._running: dict[str, subprocess.Popen[bytes]] = {}
        self._stop = threading.Event()
        # All are started by this one thread, which lives as long as the server: they end with the thread.
        self._thread = threading.Thread(target=self._keep, daemon=True)
        self._thread.start()

    def keep(self, name: str, *words: str) -> None:
        """Keep a command running from now on."""
        self._commands[name] = [*words, "--parent", str(os.getpid())]

    def close(self) -> None:
        """Stop all, and wait until they have ended."""
        self._stop.set()
        self._thread.join(PATIENCE_S + 2 * CHECK_EVERY_S)

    def _keep(self) -> None:
        while not self._stop.is_set():
            for name, words in list(self._commands.items()):
                old = self._running.get(name)
                if old is not None and (ended := old.poll()) is None:
                    continue
                if old is not None:
                    log.warning("%s ended with %s and is started again", name, ended)
                self._running[name] = subprocess.Popen([sys.executable, "-m", "fenrik.cli", *words])
            self._stop.wait(CHECK_EVERY_S)
        for process in self._running.values():
            process.terminate()
        deadline = time.monotonic() + PATIENCE_S
        for process in self._running.values():
            try:
                process.wait(max(deadline - time.monotonic(), 0.1))
            except subprocess.TimeoutExpired:
                process.kill()

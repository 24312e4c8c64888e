"""Whether this server has all that it computes with: at a first start kernels are compiled beside it."""

from __future__ import annotations

import threading

from pydantic import BaseModel


class Ready(BaseModel):
    """How far getting ready has come."""

    ready: bool = True
    fraction: float = 1.0
    words: str = ""


_state = Ready()
_done = threading.Event()
_done.set()


def state() -> Ready:
    return _state


def begin() -> None:
    """From here to `done` the server is getting ready."""
    global _state
    _done.clear()
    _state = Ready(ready=False, fraction=0.0, words="getting ready")


def report(fraction: float, words: str) -> None:
    global _state
    _state = Ready(ready=False, fraction=fraction, words=words)


def done() -> None:
    global _state
    _state = Ready()
    _done.set()


def wait() -> None:
    """Until it is ready."""
    _done.wait()

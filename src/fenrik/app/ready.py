"""Whether this server has all that it computes with: at a first start kernels are compiled beside it."""

from __future__ import annotations

from pydantic import BaseModel


class Ready(BaseModel):
    """How far getting ready has come."""

    ready: bool = True
    fraction: float = 1.0
    words: str = ""


_state = Ready()


def state() -> Ready:
    return _state


def begin() -> None:
    """From here to `done` the server is getting ready."""
    global _state
    _state = Ready(ready=False, fraction=0.0, words="getting ready")


def report(fraction: float, words: str) -> None:
    global _state
    _state = Ready(ready=False, fraction=fraction, words=words)


def done() -> None:
    global _state
    _state = Ready()

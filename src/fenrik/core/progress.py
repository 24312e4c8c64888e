"""Progress with real fractions for anything that takes time."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[float, str], None]
"""Called with the fraction done (0 to 1) and a few words."""


def silent(_fraction: float, _words: str) -> None:
    """A progress sink for callers that do not watch."""


def part_of(progress: Progress, start: float, end: float) -> Progress:
    """Map a step's own 0 to 1 onto the stretch `start` to `end` of the whole."""

    def inner(fraction: float, words: str) -> None:
        progress(start + (end - start) * min(max(fraction, 0.0), 1.0), words)

    return inner

"""Feeds that keep the thickest chip, whatever the engagement."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.ndimage import minimum_filter1d

from fenrik.core.frames import Points

MOST_TIMES = 2.0
"""Thin engagement is not fed faster than so many times: chips are thin then, but edges and drives have limits too."""
STEPS = 8
"""Feeds between once and that: so many, evenly by their ratio; a change of less is not written."""


def feed_times(held: Points, limit: float) -> Points:
    """How many times the feed at the limit keeps its thickest chip at some engagement.

    Climb milling with engagement φ up to a right angle begins with its thickest chip, h = fz · sin φ (ISO 3002-3), so
    the feed goes with 1 / sin φ; beyond a right angle the thickest chip is fz.

    Args:
        held, limit: radians.
    """
    most = np.sin(np.minimum(limit, np.pi / 2))
    times = most / np.maximum(np.sin(np.minimum(held, np.pi / 2)), most / MOST_TIMES)
    steps = np.floor(STEPS * np.log(times) / np.log(MOST_TIMES) + 1e-9)
    return np.asarray(np.where(held > limit, times, MOST_TIMES ** (steps / STEPS)))


def _long_idle(idle: NDArray[np.bool_], places: int) -> NDArray[np.bool_]:
    """Of motions (n,) that take nothing, those of which so many follow one another, or that begin or end a pass."""
    labels, count = ndimage.label(idle)
    long = np.bincount(labels, minlength=count + 1) >= places
    if len(labels):
        long[[labels[0], labels[-1]]] = True
    return np.asarray(idle & long[labels])


def stretches_of(
    points: Points, held: Points, limit: float, least_mm: float
) -> Iterator[tuple[int, int, float | None]]:
    """Stretches of a pass (n, 2) with one feed: first and last place, and how many times the feed at the limit; None
    where it takes nothing.

    Args:
        held: (n,) engagement at the places, radians. least_mm: no stretch is much shorter, but for those that are fed
            slower than what is beside them.
    """
    # A motion goes as slowly as either of its ends asks for.
    step = np.minimum(feed_times(held[:-1], limit), feed_times(held[1:], limit))
    idle = (held[:-1] <= 0) & (held[1:] <= 0)
    step[idle] = np.inf
    apart = float(np.linalg.norm(np.diff(points, axis=0), axis=1).mean())
    beside = int(np.ceil(0.5 * least_mm / max(apart, 1e-9)))
    slow = minimum_filter1d(step, 2 * beside + 1, mode="nearest")
    slow[_long_idle(idle, beside)] = np.inf
    begins = np.concatenate([[0], np.flatnonzero(slow[1:] != slow[:-1]) + 1, [len(slow)]])
    for a, b in zip(begins[:-1].tolist(), begins[1:].tolist(), strict=True):
        yield a, b, float(slow[a]) if np.isfinite(slow[a]) else None

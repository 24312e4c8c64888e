"""Heights told apart: what differs by rounding alone is one height."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points

APART_MM = 1e-4


def told_apart(heights: Points) -> tuple[Points, NDArray[np.int64]]:
    """Heights from low to high, each the highest of those that are less than a rounding error apart, so that all of
    these lie at it or under it.

    Args:
        heights: (n,) mm.

    Returns:
        (m,) heights, and (n,) which of them each was.
    """
    order = np.argsort(heights, kind="stable")
    rising = heights[order]
    ends = np.append(np.flatnonzero(np.diff(rising) > APART_MM), len(rising) - 1) if len(rising) else np.zeros(0, int)
    place = np.empty(len(rising), np.int64)
    place[order] = np.searchsorted(ends, np.arange(len(rising)))
    return rising[ends], place

"""The order in which places are visited.

Nearest neighbour, then 2-opt and or-opt moves, then double-bridge kicks (Martin, Otto & Felten, "Large-step Markov
chains for the traveling salesman problem", 1991). Nothing random: the same places give the same order.
"""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.toolpath._tour_kernels import shortest

Order = Literal["shortest way", "rows", "as picked"]
WORK = 30_000_000
ROW_SHARE = 0.5


def visiting_order(places: Points | list[Points], order: Order, start: Points | None = None) -> NDArray[np.int64]:
    """The order of places.

    Args:
        places: (n, 2) mm; may be empty.
        order: shortest way, by rows to and fro along x, or as they are.
        start: (2,) where the tool comes from; the nearest place to it is first.
    """
    places = np.asarray(places, dtype=np.float64).reshape(-1, 2)
    n = len(places)
    if order == "as picked" or n < 2:
        return np.arange(n)
    if order == "rows":
        return _rows(places)
    distance = np.linalg.norm(places[:, None] - places[None], axis=2)
    from_ = np.array([places[:, 0].min(), places[:, 1].min()]) if start is None else start
    first = int(np.linalg.norm(places - from_, axis=1).argmin())
    return np.asarray(shortest(distance, first, int(np.clip(WORK / n**2.5, 3, 600))))


def _rows(places: Points) -> NDArray[np.int64]:
    """Rows of nearly the same y, every other one backwards."""
    by_y = np.argsort(places[:, 1], kind="stable")
    y = places[by_y, 1]
    step = np.diff(y)
    jump = step > ROW_SHARE * step[step > 1e-6].mean() if np.any(step > 1e-6) else np.zeros(len(step), bool)
    rows = np.split(by_y, np.flatnonzero(jump) + 1)
    out = []
    for k, row in enumerate(rows):
        along = row[np.argsort(places[row, 0], kind="stable")]
        out.append(along if k % 2 == 0 else along[::-1])
    return np.concatenate(out)

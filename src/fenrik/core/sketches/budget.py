"""How much a drawing may come to, found before it is inserted, flattened and joined."""

from __future__ import annotations

import itertools
import math

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.sketches.curve import Curve

MAX_ENTITIES = 100_000
MAX_PLACES = 1_000_000
MAX_EXTENT_MM = 1e7
LEAST_STRETCHES = 16
MAX_DEPTH = 200

Tree = dict[str, tuple[int, list[tuple[str, int]]]]
"""By name: how many entities there are in it, and what it inserts of the others, how many times; the whole is ""."""


class TooMuch(ValueError):
    """The drawing comes to more than is read; the message says of what."""


def check_size(tree: Tree) -> None:
    """Raise where a drawing comes to too many entities once everything is inserted, however deeply nested.

    Raises:
        TooMuch: also where parts insert each other in a circle.
    """
    sizes: dict[str, int] = {}
    under_way: set[str] = set()

    def size(name: str) -> int:
        if name in sizes or name not in tree:
            return sizes.get(name, 0)
        if name in under_way or len(under_way) > MAX_DEPTH:
            raise TooMuch("inserts parts of itself into each other")
        under_way.add(name)
        own, inserts = tree[name]
        sizes[name] = own + sum(times * size(other) for other, times in inserts)
        under_way.discard(name)
        return sizes[name]

    if size("") > MAX_ENTITIES:
        raise TooMuch(f"comes to more than {MAX_ENTITIES} entities")


def check_extent(places: Points) -> None:
    """Raise where places (n, 2) are no numbers, or lie too far out for a drawing of a part.

    Raises:
        TooMuch: as it says.
    """
    if not np.all(np.isfinite(places)) or np.abs(places).max(initial=0.0) > MAX_EXTENT_MM:
        raise TooMuch("has places that are no numbers, or lie more than 10 km out")


def flattened_bezier(control: Points, tolerance: float) -> Points:
    """Places along a Bézier curve of any degree, within a tolerance.

    Args:
        control: its control points (d + 1, 2).

    The number of stretches bounds the deviation by the second differences of the control points: G. Wang, "The
    subdivision method for finding the intersection between two Bézier curves or surfaces", Zhejiang University Journal,
    1984.

    Raises:
        TooMuch: where it leads too far out.
    """
    check_extent(control)
    degree = len(control) - 1
    bend = np.linalg.norm(np.diff(control, 2, axis=0), axis=1).max(initial=0.0)
    count = max(math.ceil(math.sqrt(degree * (degree - 1) / 8.0 * bend / tolerance)), LEAST_STRETCHES)
    t = np.linspace(0.0, 1.0, count + 1)[:, None]
    places = [np.broadcast_to(p, (count + 1, 2)) for p in control]
    while len(places) > 1:  # de Casteljau
        places = [(1.0 - t) * a + t * b for a, b in itertools.pairwise(places)]
    return places[0]


class Budget:
    """Counts the places of a drawing's curves."""

    def __init__(self) -> None:
        self._left = MAX_PLACES

    def spent(self, curve: Curve) -> Curve:
        """The same curve, counted.

        Raises:
            TooMuch: where it is one too many, or leads too far out.
        """
        self._left -= len(curve.points)
        if self._left < 0:
            raise TooMuch(f"comes to more than {MAX_PLACES} places")
        check_extent(curve.points)
        return curve

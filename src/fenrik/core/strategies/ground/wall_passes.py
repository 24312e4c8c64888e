"""Passes along the walls of a region that is cleared but for a layer, come to and left on arcs."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy import ndimage
from shapely.geometry.base import BaseGeometry

from fenrik.core.dividing import in_pieces
from fenrik.core.frames import Points
from fenrik.core.regions import Rings, offset
from fenrik.core.regions.polygons import to_shape
from fenrik.core.sketches import Curve
from fenrik.core.strategies.ground import _steady_kernels as kernels
from fenrik.core.strategies.ground.cleared import ClearedGround
from fenrik.core.strategies.ground.steady import TOUCH_RAD, SteadyPass, longest_way
from fenrik.core.strategies.leading import lead_in, lead_out

STEP_SHARE = 0.05
"""Distance of the places along walls as a share of the radius."""
BESIDE_SHARE = 0.3
"""How far passes go on beside what they take, as a share of the radius."""
CORNER_SHARE = 0.35
"""Of the limit: where an arc in a corner is engaged by less, no material stands there to speak of."""
OVER_LIMIT = 1.15
"""Where a wall is engaged by more than so many times the limit, no pass goes along it."""
RADIUS_TRIES = 6
LEAST_STEP_SHARE = 0.02
"""Radii come down by at least that."""
LEAST_RING_MM = 1e-6
LEAD_SHARE, LEAD_FLAT_MM = 0.3, 2e-3


class WallPasses:
    """Finishes a region that steered passes have cleared.

    Attributes:
        at: where the tool is.
    """

    def __init__(self, ground: ClearedGround, limit: float, reach: BaseGeometry, at: Points | None) -> None:
        """
        Args:
            limit: of engagement, radians. reach: where the axis takes material for certain.
        """
        shapely.prepare(reach)
        self.ground, self.limit, self.reach, self.at = ground, limit, reach, at

    def corners(self, walls: Rings, layer: float, widest: float, least: float) -> Iterator[SteadyPass]:
        """Passes round corners in arcs that touch both sides, with smaller and smaller radii, each as small as the
        limit allows, till a layer stands at the walls.

        Args:
            widest, least: radii with which corners are gone round already, and at the end.
        """
        radius = widest
        while radius > least:
            smaller = least
            for _ in range(RADIUS_TRIES):
                rings = offset(offset(walls, -smaller), smaller - layer)
                if self._most(rings) <= self.limit:
                    break
                smaller = 0.5 * (smaller + radius)
            radius = smaller if radius - smaller > LEAST_STEP_SHARE * radius else least
            yield from self._along(rings, to_shape(walls), CORNER_SHARE * self.limit)

    def along(self, walls: Rings) -> Iterator[SteadyPass]:
        """Passes along the walls."""
        yield from self._along(walls, to_shape(walls), TOUCH_RAD)

    def _most(self, rings: Rings) -> float:
        """The most engagement on a way along rings."""
        most = 0.0
        for ring in _rings_of(rings):
            line = _close(ring, STEP_SHARE * self.ground.ground.radius)
            found = np.zeros(len(line))
            kernels.touched(self.ground.ground, line, found)
            most = max(most, float(found[shapely.contains_xy(self.reach, line)].max(initial=0.0)))
        return most

    def _along(self, walls: Rings, room: BaseGeometry, least: float) -> Iterator[SteadyPass]:
        """Passes where the engagement is more than the least.

        Args:
            room: where ways in and out may lie.
        """
        radius = self.ground.ground.radius
        shapely.prepare(room)
        waiting = [
            line for ring in _rings_of(walls) for line in self._engaged(_close(ring, STEP_SHARE * radius), least)
        ]
        while waiting:
            line = self._nearest(waiting)
            curve = Curve.polyline(line)
            first = lead_in(curve, LEAD_SHARE * radius, 90.0, room, "left")
            last = lead_out(curve, LEAD_SHARE * radius, 90.0, room, "left")
            ends = [np.zeros((0, 2)) if c is None else c.flattened(LEAD_FLAT_MM) for c in (first, last)]
            lead, line = np.vstack([ends[0], line[:1]]), np.vstack([line, ends[1]])
            way = None if self.at is None else self.ground.way(self.at, lead[0], longest_way(radius))
            self.ground.stamp(lead)
            held = np.zeros(len(line))
            kernels.along(self.ground.ground, line, held)
            self.at = line[-1]
            yield SteadyPass(line, held, lead, way, exact=True)

    def _engaged(self, ring: Points, least: float) -> list[Points]:
        """The stretches of a closed line (n, 2), its first place at its end again, with more engagement than the least,
        and a little beside them; none of what more stands before than the limit allows: that stays, and is told."""
        found = np.zeros(len(ring))
        kernels.touched(self.ground.ground, ring, found)
        found, certain = found[:-1], shapely.contains_xy(self.reach, ring[:-1])
        there, too_much = (found > least) & certain, found > OVER_LIMIT * self.limit
        if not there.any():
            return []
        there = _dilated(there) & ~_dilated(too_much)
        if not there.any():
            return []
        if there.all():
            return [ring]
        first = int(np.flatnonzero(~there)[0])
        line, there = np.roll(ring[:-1], -first, axis=0), np.roll(there, -first)
        ends = np.flatnonzero(np.diff(np.append(there, False).astype(np.int8)))
        return [line[a + 1 : b + 1] for a, b in ends.reshape(-1, 2)]

    def _nearest(self, waiting: list[Points]) -> Points:
        """Take out the line that begins nearest to the tool; a closed one is begun at its place nearest to that."""
        at = waiting[0][0] if self.at is None else self.at
        gaps = [np.linalg.norm(line - at, axis=1) for line in waiting]
        closed = [bool(np.abs(line[0] - line[-1]).max() < 1e-9) for line in waiting]
        k = int(np.argmin([gap.min() if whole else gap[0] for gap, whole in zip(gaps, closed, strict=True)]))
        line = waiting.pop(k)
        if not closed[k]:
            return line
        begin = int(gaps[k][:-1].argmin())
        return np.vstack([line[begin:-1], line[: begin + 1]])


def _dilated(there: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Places (n,) round a ring, and those a little beside them."""
    n, beside = len(there), int(np.ceil(BESIDE_SHARE / STEP_SHARE))
    return np.asarray(ndimage.binary_dilation(np.tile(there, 3), iterations=beside)[n : 2 * n])


def _rings_of(region: Rings) -> Rings:
    """The rings of a region that are longer than nothing: offsets may end in places."""
    return [ring for ring in region if np.ptp(ring, axis=0).max(initial=0.0) > LEAST_RING_MM]


def _close(ring: Points, step: float) -> Points:
    """The places of a ring, and further ones so that none are farther apart than a step; ends where it begins."""
    closed = np.vstack([ring, ring[:1]])
    count = np.maximum(np.ceil(np.linalg.norm(np.diff(closed, axis=0), axis=1) / step).astype(int), 1)
    row, piece = in_pieces(count)
    t = (piece / count[row])[:, None]
    return np.vstack([closed[row] + t * (closed[row + 1] - closed[row]), ring[:1]])

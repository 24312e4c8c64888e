"""The ground of a pocket: where the axis may be at a level, and where stock still stands."""

from __future__ import annotations

import numpy as np
import shapely

from fenrik.core.frames import Points
from fenrik.core.regions import Rings, area_of, components, difference, offset, union
from fenrik.core.regions.polygons import bounds_of, from_shape, pole_of, signed_area, to_shape
from fenrik.core.strategies.ground.regions import StandingStock
from fenrik.core.strategies.prismatic import Workplace, near
from fenrik.core.strategies.targets import Area

BESIDE_MM = 1.0
"""How far beside the stock the cutter starts at an open side."""
MOST_BESIDE = 8
"""How often it is looked half a radius farther out for a place beside the stock."""


class PocketGround:
    """The ground of an operation's pockets, level after level.

    Attributes:
        cleared: what has been cleared so far: levels, and where the axis could be at them.
    """

    def __init__(self, place: Workplace, floor_allowance_mm: float) -> None:
        self.place, self.floor_allowance_mm = place, floor_allowance_mm
        self.cleared: list[tuple[float, Rings]] = []
        self._stock = StandingStock(place.given.stock)
        self._stands: dict[tuple[float, float], Rings] = {}

    def reachable(self, area: Area, level: float, allowance_mm: float, standing: Rings, rounding_mm: float) -> Rings:
        """Where the axis may be at a level, in the pieces that belong to an area.

        Args:
            standing: where stock stands above the level; at an open side the region goes on till the tool is beside it.
            rounding_mm: least radius of the region's corners.
        """
        p = self.place
        reach = p.radius + allowance_mm
        blocked = p.blocked(level - self.floor_allowance_mm, reach, _window(area, p.radius))
        own = to_shape(area.rings)
        shapely.prepare(own)

        # Islands stand in the shadow; what else is cut out of a floor is a deeper place, whose stock goes as well.
        whole = area.rings if area.fenced else [r for r in area.rings if signed_area(r) > 0]

        def room(grown_mm: float) -> Rings:
            free = difference(offset(whole, grown_mm), blocked)
            if rounding_mm > 0:
                free = offset(offset(free, -rounding_mm), rounding_mm)
            return [ring for piece in components(free) if own.intersects(to_shape(piece)) for ring in piece]

        if area.fenced:
            return room(-reach)
        closed, beside = room(1e-3), p.radius + p.landscape.stock.cell + BESIDE_MM
        if abs(area_of(room(beside)) - area_of(closed)) < 1e-2 * p.radius**2:
            return closed
        touched = offset(standing, p.radius + p.landscape.stock.cell)
        for more in range(MOST_BESIDE):
            found = room(beside + more * p.radius / 2)
            if any(pole_of(g)[1] > BESIDE_MM / 4 for g in components(difference(found, touched))):
                return found
        return room(p.radius / 4)

    def standing(self, area: Area, level: float, below: float = np.inf) -> Rings:
        """Where stock stands between a level and a height near an area, less what has been cleared to the level."""
        key = level, below
        if key not in self._stands:
            self._stands[key] = from_shape(self._stock.between(*key))
        stands = near(self._stands[key], _window(area, self.place.radius), self.place.radius)
        cleared = [offset(r, self.place.radius - 1e-3) for at, r in self.cleared if at <= level + 1e-9]
        return difference(stands, union(*cleared)) if cleared else stands


def _window(area: Area, radius_mm: float) -> tuple[Points, Points]:
    """A rectangle round an area that holds all that matters for it."""
    low, high = bounds_of(area.rings)
    far = (MOST_BESIDE / 2 + 2) * radius_mm + BESIDE_MM
    return low - far, high + far

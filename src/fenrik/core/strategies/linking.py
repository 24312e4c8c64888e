"""Heights that rapids must keep: no higher than what stands under the way, by construction clear of it."""

from __future__ import annotations

import numpy as np

from fenrik.core.contact import DropIndex
from fenrik.core.contact.drop import tip_heights_grid
from fenrik.core.frames import Points
from fenrik.core.strategies.common import StockTops
from fenrik.core.strategies.given import Given
from fenrik.core.tools.profile import bull_nose_profile

GAP_MM = 2.0
OBSTACLE_CELL_MM = 2.0


class Landscape:
    """What stands under the ways of a tool: the stock as it is before the operation, fixtures, other copies."""

    def __init__(self, given: Given) -> None:
        self.stock = StockTops(given.stock)
        tool = given.tool
        self.radius = max(tool.cutter.radius_mm, tool.shank_mm / 2)
        self.bodies = [(self.radius, 0.0)]
        height = tool.stick_out_mm
        for section in tool.holder:
            self.bodies.append((max(section.lower_diameter_mm, section.upper_diameter_mm) / 2, height))
            height += section.height_mm
        self.obstacles: tuple[Points, Points, Points] | None = None
        if given.obstacles is not None:
            low, high = given.obstacles.bounds()
            x = np.arange(low[0] - OBSTACLE_CELL_MM, high[0] + 2 * OBSTACLE_CELL_MM, OBSTACLE_CELL_MM)
            y = np.arange(low[1] - OBSTACLE_CELL_MM, high[1] + 2 * OBSTACLE_CELL_MM, OBSTACLE_CELL_MM)
            pin = bull_nose_profile(OBSTACLE_CELL_MM, OBSTACLE_CELL_MM * 0.999, 1.0)
            self.obstacles = x, y, tip_heights_grid(DropIndex.build(given.grown_obstacles, pin), x, y)

    def height(self, a: Points, b: Points) -> float:
        """The lowest height at which the tool passes from a to b (x, y) with a gap over everything."""
        return max(self._under(a, b, radius) - above for radius, above in self.bodies) + GAP_MM

    def _under(self, a: Points, b: Points, radius: float) -> float:
        tops = self.stock
        shape = np.array(tops.tops.shape)
        highest = _highest(tops.tops, tops.origin[:2], tops.cell, shape, a, b, radius + tops.cell)
        if self.obstacles is not None:
            x, y, z = self.obstacles
            origin, size = np.array([x[0], y[0]]), np.array([len(x), len(y)])
            found = _highest(z, origin, OBSTACLE_CELL_MM, size, a, b, radius + OBSTACLE_CELL_MM)
            highest = max(highest, found)
        return highest


def _highest(z: Points, origin: Points, cell: float, shape: np.ndarray, a: Points, b: Points, reach: float) -> float:
    """Largest value of a grid within `reach` of the way from a to b; −inf where there is nothing."""
    low = np.floor((np.minimum(a, b) - reach - origin) / cell).astype(int).clip(0, shape)
    high = (np.ceil((np.maximum(a, b) + reach - origin) / cell).astype(int) + 1).clip(0, shape)
    if np.any(low >= high):
        return -np.inf
    x = origin[0] + cell * np.arange(low[0], high[0])[:, None] - a[0]
    y = origin[1] + cell * np.arange(low[1], high[1])[None, :] - a[1]
    way = b - a
    length2 = float(way @ way)
    t = np.clip((x * way[0] + y * way[1]) / length2, 0, 1) if length2 > 1e-12 else 0.0
    near = (x - t * way[0]) ** 2 + (y - t * way[1]) ** 2 <= reach * reach
    return float(np.where(near, z[low[0] : high[0], low[1] : high[1]], -np.inf).max(initial=-np.inf))

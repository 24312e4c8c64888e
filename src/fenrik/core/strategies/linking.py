"""The planner of links: from cut to cut by the nearest free way, by construction clear of part, stock and fixtures.

A link stays down where the straight way, or a short one round corners, lies in ground that the tool may be in and
where nothing stands any more, whether that is looked for (`to`) or known from the passes before (`through`); else it
goes over everything, no higher than what stands under the way.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact import DropIndex
from fenrik.core.contact.drop import tip_heights_grid
from fenrik.core.frames import Points
from fenrik.core.strategies.common import StockTops
from fenrik.core.strategies.given import Given
from fenrik.core.strategies.ground.links import sees, shortest_way, way_through
from fenrik.core.strategies.ground.passes import pass_curve
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.tools.profile import bull_nose_profile

GAP_MM = 2.0
OBSTACLE_CELL_MM = 2.0
SAME_MM = 1e-9
LONGEST_SHARE, LONGEST_MM = 3.0, 20.0
"""A way round corners is at most so many times as long as the straight one and so much: going over is faster then."""
AROUND_MM = 60.0
"""Between places that are farther apart, a way round corners is not looked for."""
STANDING_MM = 1e-3
SHARE_SWEPT = 0.98


class Landscape:
    """What stands under the ways of a tool: the stock as it is before the operation, fixtures, other copies."""

    def __init__(self, given: Given) -> None:
        self.stock = StockTops(given.stock)
        tool = given.tool
        self.cutter_mm = tool.cutter.radius_mm
        self.radius = max(self.cutter_mm, tool.shank_mm / 2)
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

    def stands_on(self, way: Points, level: float) -> bool:
        """Whether stock stood higher than a level under a cutter on a way (n, 2) before the operation; what is thinner
        than a cell at the rim does not count."""
        tops, reach = self.stock, self.cutter_mm - self.stock.cell
        shape = np.array(tops.tops.shape)
        return any(
            _highest(tops.tops, tops.origin[:2], tops.cell, shape, a, b, max(reach, 0.0)) > level + STANDING_MM
            for a, b in itertools.pairwise(way)
        )

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


def skimming_builder(given: Given, landscape: Landscape) -> PathBuilder:
    """A builder whose rapids go no higher than what stands under them asks for."""
    made = given.builder()
    made.over = landscape.height
    return made


class Linker:
    """Plans the links of one path.

    Args:
        free: where the axis may be with the tip at a level, over a rectangle (lowest and highest corner): a Shapely
            area; fixtures and keep-outs are out of it.
    """

    def __init__(
        self,
        builder: PathBuilder,
        landscape: Landscape,
        free: Callable[[float, tuple[Points, Points]], BaseGeometry],
    ) -> None:
        self.builder, self.landscape, self.free = builder, landscape, free

    def to(self, xy: Points, level: float, start_mm: float, swept: Sequence[Points] = ()) -> bool:
        """Go to a place, on the lowest free way: at the higher of the heights where the tool is and where it is to be,
        else over everything and down to `start_mm`.

        Args:
            swept: ways (n, 2) along which the tool has cut at that height or below: nothing stands there any more.

        Returns:
            Whether it stayed down.
        """
        at = self.builder.place
        height = level if at is None else max(float(at[2]), level)
        way = None if at is None else self._way_down(at[:2], xy, height, swept)
        if at is None or way is None:
            self.builder.travel(float(xy[0]), float(xy[1]), start_mm)
            return False
        if at[2] < height - SAME_MM:
            self.builder.link_at(np.array([at[0], at[1], height]), self.builder.feeds.exit)
        self.builder.link_at(np.column_stack([way, np.full(len(way), height)]), self.builder.feeds.exit)
        return True

    def through(self, ground: BaseGeometry, xy: Points, back: Points | None = None, room_mm: float = 0.0) -> bool:
        """Go to a place at the height where the tool is, through ground that is cleared: straight, back along the pass
        before, or round corners.

        Args:
            ground: where the axis may be, made ready for questions.
            back: another way to begin (n, 2), the pass before from its end to its begin.
            room_mm: how far ways round corners keep from the edge of the ground.

        Returns:
            Whether there is such a way.
        """
        at = self.builder.place
        if at is None:
            return False
        way = way_through(ground, at[:2], xy, back, room_mm)
        if way is None:
            return False
        self.builder.follow(pass_curve(np.vstack([at[:2], way])), Kind.LINK, feed=self.builder.feeds.exit)
        return True

    def over(self, xy: Points, level: float, start_mm: float) -> None:
        """Go over everything, and down to a place of a level where nothing stands over it any more: at rapid to
        `start_mm`, then at the entry feed."""
        self.builder.travel(float(xy[0]), float(xy[1]), start_mm)
        self.builder.approach(np.array([xy[0], xy[1], level]))

    def _way_down(self, a: Points, b: Points, height: float, swept: Sequence[Points]) -> Points | None:
        """Places of a way at a height, without its begin; None where there is none that is free, short and cleared."""
        direct = float(np.linalg.norm(b - a))
        if direct < SAME_MM:
            return b[None]
        straight = np.vstack([a, b])
        beside = self.landscape.cutter_mm
        window = straight.min(axis=0) - beside, straight.max(axis=0) + beside
        if self.is_cleared(straight, height, swept) and sees(self.free(height, window), a, b):
            return b[None]
        return self._way_round(a, b, height, swept) if direct <= AROUND_MM else None

    def _way_round(self, a: Points, b: Points, height: float, swept: Sequence[Points]) -> Points | None:
        """The same round corners."""
        direct = float(np.linalg.norm(b - a))
        longest = LONGEST_SHARE * direct + LONGEST_MM
        # No way of that length from one to the other goes farther aside.
        aside = 0.5 * float(np.sqrt(longest**2 - direct**2))
        low, high = np.minimum(a, b) - aside, np.maximum(a, b) + aside
        ground = shapely.intersection(self.free(height, (low, high)), shapely.box(*low, *high))
        way = shortest_way(ground, a, b, 0.0, longest)
        return way if way is not None and self.is_cleared(np.vstack([a, way]), height, swept) else None

    def is_cleared(self, way: Points, height: float, swept: Sequence[Points]) -> bool:
        """Whether nothing stands where the cutter goes along a way (n, 2) at a height."""
        if not self.landscape.stands_on(way, height):
            return True
        radius = self.landscape.cutter_mm
        low, high = way.min(axis=0) - 2 * radius, way.max(axis=0) + 2 * radius
        near = (w for w in swept if len(w) > 1 and np.all(w.max(axis=0) >= low) and np.all(w.min(axis=0) <= high))
        lines = [shapely.LineString(line) for line in near]
        if not lines:
            return False
        cut = shapely.union_all(shapely.buffer(lines, radius))
        return bool(cut.covers(shapely.LineString(way).buffer(SHARE_SWEPT * radius)))


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

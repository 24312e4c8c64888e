"""Places that a tool is too wide for, or that a fixture keeps it away from, told level by level."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy import ndimage
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact import DropIndex, tip_heights_grid
from fenrik.core.contact.region import PIN_RADIUS_MM, HeightField
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.strategies.common import StockTops, held_back
from fenrik.core.strategies.given import Given
from fenrik.core.tools import bull_nose_profile, cutting_profile


def tops_over(heights: HeightField, tops: StockTops) -> Points:
    """The highest stock at the places of a field, (nx, ny); −inf where there is none."""
    axes = [
        np.clip(np.round((g - o) / tops.cell).astype(int), 0, n - 1)
        for g, o, n in zip((heights.x, heights.y), tops.origin, tops.tops.shape, strict=False)
    ]
    outside = [
        (g < o) | (g > o + tops.cell * (n - 1))
        for g, o, n in zip((heights.x, heights.y), tops.origin, tops.tops.shape, strict=False)
    ]
    return np.where(outside[0][:, None] | outside[1][None, :], -np.inf, tops.tops[np.ix_(*axes)])


class NarrowPlaces:
    """Finds closed places that the tool is too wide for, level by level, and tells each once, at its deepest."""

    def __init__(
        self, given: Given, allowance_mm: float, floor_allowance_mm: float, tops: StockTops, heights: HeightField
    ) -> None:
        self.tool_radius = given.cutter.radius_mm
        self.lift = floor_allowance_mm
        self.heights = heights
        pin = DropIndex.build(
            given.mesh,
            bull_nose_profile(max(allowance_mm, PIN_RADIUS_MM), max(allowance_mm, PIN_RADIUS_MM) * 0.999, 1.0),
        )
        surface = tip_heights_grid(pin, heights.x, heights.y)
        self.surface = np.where(np.isfinite(surface), surface, heights.floor_mm)
        self.tops = tops_over(heights, tops)
        self.told = 0
        self.seen: dict[int, Unreached] = {}
        self.owner = np.zeros(self.surface.shape, np.int32)
        """Which of them each place belongs to, 0 for none."""
        self.held: list[np.ndarray] = []
        self.fixture_heights = np.full(self.surface.shape, -np.inf)
        if given.obstacles is not None:
            index = DropIndex.build(given.grown_obstacles, cutting_profile(given.cutter))
            self.fixture_heights = tip_heights_grid(index, heights.x, heights.y)

    def look(self, level: float, elsewhere: NDArray[np.bool_]) -> None:
        """Look at a level.

        Args:
            elsewhere: (nx, ny) what is told for another reason.
        """
        cell = self.heights.cell_mm
        wanted = (self.tops > level + 1e-6) & (self.surface <= level - self.lift)
        wanted &= ~elsewhere
        free = self.heights.z <= level - self.lift
        if not wanted.any():
            return
        away = ndimage.distance_transform_edt(~free) * cell if free.any() else np.full(free.shape, np.inf)
        held = wanted & (self.fixture_heights > level - self.lift) & (away > self.tool_radius + cell)
        self._tell_held(held, level)
        wanted &= ~held
        labels, count = ndimage.label(wanted)
        if count == 0:
            return
        reached = np.unique(labels[wanted & (away <= self.tool_radius + cell)])
        room = ndimage.distance_transform_edt(wanted) * cell
        boxes = ndimage.find_objects(labels)
        halves = ndimage.maximum(room, labels, np.arange(1, count + 1))
        for label in np.setdiff1d(np.flatnonzero(halves >= 1.5 * cell) + 1, reached):
            box, half = boxes[label - 1], float(halves[label - 1])
            mask = labels[box] == label
            i, j = np.unravel_index(np.where(mask, room[box], -1).argmax(), mask.shape)
            at = float(self.heights.x[box[0]][i]), float(self.heights.y[box[1]][j]), level
            told = Unreached(
                reason=f"The tool does not fit: the place is about {2 * half:.1f} mm wide and the tool "
                f"{2 * self.tool_radius:g} mm.",
                place=at,
                level_mm=level,
                area_mm2=float(mask.sum()) * cell * cell,
                advice=f"Rough it with a tool of at most {2 * half * 0.95:.1f} mm.",
            )
            self._tell(box, mask, told)

    def _tell(self, box: tuple[slice, ...], mask: np.ndarray, told: Unreached) -> None:
        """Tell a place in place of what was told above it."""
        owner = self.owner[box]
        for before in np.unique(owner[mask]):
            self.seen.pop(int(before), None)
        number = self.told = self.told + 1
        owner[mask], self.seen[number] = number, told

    def _tell_held(self, held: np.ndarray, level: float) -> None:
        """Stock that stays because a fixture or another copy is in the way of the cutter; each place at its widest."""
        cell = self.heights.cell_mm
        labels, count = ndimage.label(held)
        for label in range(1, count + 1):
            mask = labels == label
            if mask.sum() * cell * cell < 0.2 * self.tool_radius**2:
                continue
            if any((m & mask).sum() and m.sum() >= mask.sum() for m in self.held):
                continue
            self.held = [m for m in self.held if not (m & mask).any()] + [mask]
            rows, columns = np.nonzero(mask)
            middle = np.argmin((rows - rows.mean()) ** 2 + (columns - columns.mean()) ** 2)
            place = (float(self.heights.x[rows[middle]]), float(self.heights.y[columns[middle]]), level)
            self._tell((slice(None), slice(None)), mask, held_back(place, float(mask.sum()) * cell * cell))

    def found(self) -> list[Unreached]:
        return list(self.seen.values())


LEAST_WIDTH_SHARE = 0.5
"""Corners that a cutter leaves are narrower than so much of its radius; a bay that is wider is told."""


class NarrowBays:
    """Finds bays beside cleared ground that the tool is too wide for, and tells each once, at its deepest."""

    def __init__(self, radius_mm: float, allowance_mm: float) -> None:
        self.radius, self.allowance = radius_mm, allowance_mm
        self.seen: list[tuple[BaseGeometry, Unreached]] = []

    def look(
        self,
        level: float,
        wanted: BaseGeometry,
        covered: BaseGeometry,
        reached: BaseGeometry,
        elsewhere: Callable[[float, float], bool],
    ) -> None:
        """Look at a level; levels come from high to low.

        Args:
            wanted: where stock is to be taken. covered: where the part stands over the level. reached: what the cutter
                takes. elsewhere: whether a place (x, y) of the level is told for another reason.
        """
        least = 0.5 * LEAST_WIDTH_SHARE * self.radius
        left = shapely.difference(wanted, shapely.union(covered, reached).buffer(1e-3))
        for bay in shapely.get_parts(left.buffer(-least).buffer(least)):
            if bay.is_empty or not bay.intersects(reached.buffer(2e-2)):
                continue
            circle = shapely.maximum_inscribed_circle(bay, tolerance=0.05)
            (x, y), half = circle.coords[0], circle.length
            if elsewhere(float(x), float(y)):
                continue
            told = Unreached(
                reason=f"The tool does not fit: the bay is about {2 * half:.1f} mm wide and the tool "
                f"{2 * self.radius:g} mm with {self.allowance:g} mm on each side.",
                place=(float(x), float(y), level),
                level_mm=level,
                area_mm2=float(bay.area),
                advice=f"Rough it with a tool of at most {max(1.9 * half - 2 * self.allowance, 0.0):.1f} mm.",
            )
            self.seen = [(shape, other) for shape, other in self.seen if not shape.intersects(bay)]
            self.seen.append((bay, told))

    def found(self) -> list[Unreached]:
        return [told for _, told in self.seen]

"""The region of the plane where a tool may stand with its tip at a level: {(x, y): tip height ≤ level}.

Contours are found on a grid (`contourpy`) and then refined against the exact tip height: their places by bisection of
the grid's edges, and chords by further points until they are within tolerance.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass
from typing import cast

import contourpy
import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import MultiPolygon, Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact.drop import DropIndex, DropStack, tip_heights, tip_heights_grid
from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh
from fenrik.core.tools.profile import bull_nose_profile

REFINE_ROUNDS = 5
PIN_RADIUS_MM = 1e-3
FINEST_MM = 1e-7
ON_BOUNDARY = 5e-3
"""Share of the tolerance within which places are put on the boundary."""
CHORD_SHARE = 0.25
"""Share of the tolerance by which the middle of a chord may be off."""
BRACKET_SHARES = (1.0, 0.5, 0.25)
"""Shares of a cell within which the boundary is looked for beside a chord."""
SPARE_HALVINGS = 1
"""How many evaluations more than halving would take are allowed for interpolation."""
CROSSING_NUDGE = 0.2
"""How far beyond the crossing of the chord one looks, as a share of the bracket's square: the other end then moves."""


@dataclass(frozen=True)
class HeightField:
    """Tip heights on a grid over an area, computed once and cut at many levels.

    Attributes:
        index: the part made ready for the tool.
        x, y: grid coordinates, mm.
        z: (len(x), len(y)) tip heights, mm; `floor_mm` where there is nothing.
    """

    index: DropIndex | DropStack
    x: Points
    y: Points
    z: Points
    floor_mm: float

    @classmethod
    def over(
        cls, index: DropIndex | DropStack, low: Points, high: Points, cell_mm: float, floor_mm: float
    ) -> HeightField:
        """Tip heights over the rectangle from low to high (x, y), a little extended to whole cells."""
        x = low[0] + cell_mm * np.arange(int(np.ceil((high[0] - low[0]) / cell_mm)) + 1)
        y = low[1] + cell_mm * np.arange(int(np.ceil((high[1] - low[1]) / cell_mm)) + 1)
        return cls(index, x, y, tip_heights_grid(index, x, y, floor_mm), floor_mm)

    @property
    def cell_mm(self) -> float:
        return float(self.x[1] - self.x[0])

    def within(self, low: Points, high: Points) -> HeightField:
        """The part of the field over a rectangle (x, y), out to whole cells."""
        i, j = (
            slice(max(int(np.searchsorted(axis, a, "right")) - 1, 0), int(np.searchsorted(axis, b)) + 1)
            for axis, a, b in zip((self.x, self.y), low, high, strict=True)
        )
        return HeightField(self.index, self.x[i], self.y[j], self.z[i, j], self.floor_mm)

    def free_region(self, level_mm: float, tolerance_mm: float) -> BaseGeometry:
        """Where the tip may be at `level_mm`, as polygons within `tolerance_mm`, never beyond by more than that."""
        return self._region(level_mm + 1e-7, tolerance_mm, below=True)

    def covered_region(self, level_mm: float, tolerance_mm: float) -> BaseGeometry:
        """Where the tool would be stopped above `level_mm` (for a pin-thin tool: the part's outline)."""
        return self._region(level_mm, tolerance_mm, below=False)

    def _region(self, level: float, tolerance: float, below: bool) -> BaseGeometry:
        # Heights only tell inside from outside here: a place in the middle of each of the grid's edges that cross the
        # boundary, so that the edge is known on which the place is then looked for.
        inside = (self.z <= level) if below else (self.z > level)
        generator = contourpy.contour_generator(
            self.x, self.y, np.where(inside, -1.0, 1.0).T, fill_type="OuterOffset", name="serial"
        )
        polygons = []
        points, offsets = cast(tuple[list[Points], list[np.ndarray]], generator.filled(-np.inf, 0.0))
        for ring_points, ring_offsets in zip(points, offsets, strict=True):
            rings = [
                self._refine(ring_points[a:b], level, tolerance, below) for a, b in itertools.pairwise(ring_offsets)
            ]
            rings = [r for r in rings if len(r) >= 4]
            if rings:
                polygons.append(Polygon(rings[0], rings[1:]))
        if not polygons:
            return MultiPolygon()
        return shapely.make_valid(shapely.union_all([shapely.make_valid(p) for p in polygons]))

    def _on_rim(self, points: Points) -> np.ndarray:
        return (
            (points[:, 0] <= self.x[0] + 1e-9)
            | (points[:, 0] >= self.x[-1] - 1e-9)
            | (points[:, 1] <= self.y[0] + 1e-9)
            | (points[:, 1] >= self.y[-1] - 1e-9)
        )

    def _refine(self, ring: Points, level: float, tolerance: float, below: bool) -> Points:
        """Move ring points onto the exact boundary and add points where chords leave it."""
        points = np.asarray(ring, float)[:-1]
        step = np.linalg.norm(np.diff(points, axis=0, append=points[:1]), axis=1)
        points = points[step > 1e-9]
        points = self._on_grid_edges(points, level, tolerance, below)
        settled = np.zeros(len(points), bool)
        for _ in range(REFINE_ROUNDS):
            after = np.roll(points, -1, axis=0)
            chord = after - points
            length = np.linalg.norm(chord, axis=1)
            check = ~settled & (length > max(2 * tolerance, 1e-4)) & ~(self._on_rim(points) & self._on_rim(after))
            if not check.any():
                break
            moved, off = self._off(0.5 * (points + after)[check], _right_of(chord[check]), level, tolerance, below)
            settled |= check
            at = np.flatnonzero(check)[off]
            settled[at] = False
            points = np.insert(points, at + 1, moved[off], axis=0)
            settled = np.insert(settled, at + 1, False)
        if len(points) < 3:
            return np.zeros((0, 2))
        simple = shapely.simplify(shapely.linestrings(np.vstack([points, points[:1]])), CHORD_SHARE * tolerance)
        return shapely.get_coordinates(simple)

    def _on_grid_edges(self, points: Points, level: float, tolerance: float, below: bool) -> Points:
        """Places in the middle of the grid's edges put onto the boundary; those on its corners stay, if they are
        inside or on its rim."""
        first = np.array([self.x[0], self.y[0]])
        cells = (points - first) / self.cell_mm
        whole = np.round(cells)
        on_line = np.abs(cells - whole) < 0.25
        ends = [np.where(on_line, whole, end(cells)).astype(int) for end in (np.floor, np.ceil)]
        a, b = (np.column_stack([self.x[i], self.y[j]]) for i, j in (end.T for end in ends))
        over_a, over_b = (self._beyond(self.z[end[:, 0], end[:, 1]], level, below) for end in ends)
        moved, found = self._last_inside(a, b, over_a, over_b, level, tolerance, below)
        return moved[found | (over_a <= 0) | self._on_rim(moved)]

    def _off(
        self, places: Points, normals: Points, level: float, tolerance: float, below: bool
    ) -> tuple[Points, NDArray[np.bool_]]:
        """Places on chords put onto the boundary, and which of them were off it. Most are good: two looks beside them
        tell."""
        beside = CHORD_SHARE * tolerance * normals
        good = self._inside(places - beside, level, below)
        good[good] = ~self._inside((places + beside)[good], level, below)
        moved = places.copy()
        moved[~good] = self._onto_boundary(places[~good], normals[~good], level, tolerance, below)
        return moved, np.linalg.norm(moved - places, axis=1) > CHORD_SHARE * tolerance

    def _inside(self, points: Points, level: float, below: bool) -> np.ndarray:
        return self._beyond_at(points, level, below) <= 0

    def _beyond_at(self, points: Points, level: float, below: bool) -> Points:
        """How far places (n, 2) are beyond the boundary in height, at most two cells; zero or less inside."""
        most = 2 * self.cell_mm
        return self._beyond(
            tip_heights(self.index, points, max(level - most, self.floor_mm), level + most), level, below
        )

    def _beyond(self, heights: Points, level: float, below: bool) -> Points:
        """The same of tip heights (n,)."""
        most = 2 * self.cell_mm
        over = np.maximum(heights, level - most) - level
        beyond = over if below else np.where(over > 0, -over, np.maximum(-over, FINEST_MM))
        return np.clip(beyond, -most, most)

    def _onto_boundary(self, points: Points, normals: Points, level: float, tolerance: float, below: bool) -> Points:
        """The last places inside along ±one cell of the outward normal, less where both walls of a narrow way lie
        within it; points without a change stay put."""
        moved = points.copy()
        open_ = np.flatnonzero(~self._on_rim(points))
        for share in BRACKET_SHARES:
            here = points[open_]
            inward = np.where(self._inside(here, level, below), 1.0, -1.0)[:, None]
            far = here + normals[open_] * inward * share * self.cell_mm
            ends = self._beyond_at(here, level, below), self._beyond_at(far, level, below)
            moved[open_], found = self._last_inside(here, far, *ends, level, tolerance, below)
            open_ = open_[~found]
            if len(open_) == 0:
                break
        return moved

    def _last_inside(
        self, a: Points, b: Points, at_a: Points, at_b: Points, level: float, tolerance: float, below: bool
    ) -> tuple[Points, NDArray[np.bool_]]:
        """The last places inside between places (n, 2), so far (n,) beyond the boundary, of which one is inside and one
        is not, and where that is so; the first place where it is not."""
        change = (at_a <= 0) != (at_b <= 0)
        begins_inside = (at_a <= 0)[change]
        inner = np.where(begins_inside[:, None], a[change], b[change])
        outer = np.where(begins_inside[:, None], b[change], a[change])
        places = a.copy()
        places[change] = inner + (outer - inner) * last_inside(
            lambda which, share: self._beyond_at(inner[which] + (outer[which] - inner[which]) * share, level, below),
            np.where(begins_inside, at_a[change], at_b[change]),
            np.where(begins_inside, at_b[change], at_a[change]),
            max(ON_BOUNDARY * tolerance, FINEST_MM) / self.cell_mm,
        )
        return places, change


def _right_of(way: Points) -> Points:
    """Unit vectors to the right of directions (n, 2)."""
    length = np.linalg.norm(way, axis=1)
    return np.column_stack([way[:, 1], -way[:, 0]]) / np.maximum(length, 1e-12)[:, None]


def last_inside(
    beyond: Callable[[np.ndarray, Points], Points], at_begin: Points, at_end: Points, within: float
) -> Points:
    """Where functions over [0, 1] that are zero or less at 0 and more at 1 cross zero, from below and as many as there
    are at once: interpolation held close enough to halving that steps cost one evaluation more than halving, and smooth
    ones a few in all (Oliveira and Takahashi, ACM Transactions on Mathematical Software 47, 2020).

    Args:
        beyond: for the functions given by index (k,), their values at places (k, 1).
        at_begin, at_end: (n,) the values at 0 and 1.
        within: width of the bracket at which it ends.

    Returns:
        (n, 1) places at which the functions are zero or less.
    """
    a, b = np.zeros(len(at_begin)), np.ones(len(at_begin))
    low, high = at_begin.copy(), at_end.copy()
    most = max(int(np.ceil(np.log2(1.0 / within))), 0) + SPARE_HALVINGS
    for k in range(most + 1):
        open_ = np.flatnonzero(b - a > within)
        if len(open_) == 0:
            break
        left, right, width = a[open_], b[open_], (b - a)[open_]
        middle = 0.5 * (left + right)
        crossing = (high[open_] * left - low[open_] * right) / (high[open_] - low[open_])
        to_middle = middle - crossing
        nudge = CROSSING_NUDGE * width**2
        place = np.where(nudge <= np.abs(to_middle), crossing + np.copysign(nudge, to_middle), middle)
        slack = np.maximum(0.5 * within * 2.0 ** (most - k) - 0.5 * width, 0.0)
        place = np.where(np.abs(place - middle) <= slack, place, middle - np.copysign(slack, to_middle))
        value = beyond(open_, place[:, None])
        inside = value <= 0
        a[open_[inside]], low[open_[inside]] = place[inside], value[inside]
        b[open_[~inside]], high[open_[~inside]] = place[~inside], value[~inside]
    return a[:, None]


def part_outline(mesh: Mesh, cell_mm: float, tolerance_mm: float) -> BaseGeometry:
    """The part's outline seen from above, as polygons."""
    low, high = mesh.bounds()
    index = DropIndex.build(mesh, bull_nose_profile(PIN_RADIUS_MM, 0.0, 1.0))
    floor = float(low[2]) - 1.0
    field_ = HeightField.over(index, low[:2] - 2 * cell_mm, high[:2] + 2 * cell_mm, cell_mm, floor)
    return field_.covered_region(floor + 0.5, tolerance_mm)

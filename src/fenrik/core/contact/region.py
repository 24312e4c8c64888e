"""The region of the plane where a tool may stand with its tip at a level: {(x, y): tip height ≤ level}.

Contours are found on a grid (`contourpy`) and then refined against the exact tip height: corners by bisection along
the direction in which the tip height changes, and chords by further points until they are within tolerance.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import cast

import contourpy
import numpy as np
import shapely
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
        z = tip_heights_grid(index, x, y)
        return cls(index, x, y, np.where(np.isfinite(z), np.maximum(z, floor_mm), floor_mm), floor_mm)

    @property
    def cell_mm(self) -> float:
        return float(self.x[1] - self.x[0])

    def free_region(self, level_mm: float, tolerance_mm: float) -> BaseGeometry:
        """Where the tip may be at `level_mm`, as polygons within `tolerance_mm`, never beyond by more than that."""
        return self._region(self.z, level_mm + 1e-7, tolerance_mm, below=True)

    def covered_region(self, level_mm: float, tolerance_mm: float) -> BaseGeometry:
        """Where the tool would be stopped above `level_mm` (for a pin-thin tool: the part's outline)."""
        return self._region(self.z, level_mm, tolerance_mm, below=False)

    def _region(self, z: Points, level: float, tolerance: float, below: bool) -> BaseGeometry:
        lower, upper = (-np.inf, level) if below else (level, np.inf)
        # Walls are jumps in height; held near the level they put the first contour close to the middle of a cell.
        near = np.clip(z, level - 0.5 * self.cell_mm, level + 0.5 * self.cell_mm)
        generator = contourpy.contour_generator(self.x, self.y, near.T, fill_type="OuterOffset", name="serial")
        polygons = []
        points, offsets = cast(tuple[list[Points], list[np.ndarray]], generator.filled(lower, upper))
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
        if len(points) < 3:
            return np.zeros((0, 2))
        points = self._onto_boundary(points, self._outward(points), level, tolerance, below)
        settled = np.zeros(len(points), bool)
        for _ in range(REFINE_ROUNDS):
            after = np.roll(points, -1, axis=0)
            middle = 0.5 * (points + after)
            chord = after - points
            length = np.linalg.norm(chord, axis=1)
            check = ~settled & (length > max(2 * tolerance, 1e-4)) & ~(self._on_rim(points) & self._on_rim(after))
            if not check.any():
                break
            normal = np.column_stack([chord[:, 1], -chord[:, 0]]) / np.maximum(length, 1e-12)[:, None]
            moved = middle.copy()
            moved[check] = self._onto_boundary(middle[check], normal[check], level, tolerance, below)
            off = np.linalg.norm(moved - middle, axis=1)
            keep = check & (off > 0.25 * tolerance)
            settled |= check & ~keep
            points = np.insert(points, np.flatnonzero(keep) + 1, moved[keep], axis=0)
            settled = np.insert(settled, np.flatnonzero(keep) + 1, False)
        points = points[self._inside(points, level, below) | self._on_rim(points)]
        if len(points) < 3:
            return np.zeros((0, 2))
        simple = shapely.simplify(shapely.linestrings(np.vstack([points, points[:1]])), 0.25 * tolerance)
        return shapely.get_coordinates(simple)

    def _outward(self, points: Points) -> Points:
        chord = np.roll(points, -1, axis=0) - np.roll(points, 1, axis=0)
        length = np.linalg.norm(chord, axis=1)
        return np.column_stack([chord[:, 1], -chord[:, 0]]) / np.maximum(length, 1e-12)[:, None]

    def _inside(self, points: Points, level: float, below: bool) -> np.ndarray:
        z = tip_heights(self.index, points)
        z = np.where(np.isfinite(z), np.maximum(z, self.floor_mm), self.floor_mm)
        return z <= level if below else z > level

    def _onto_boundary(self, points: Points, normals: Points, level: float, tolerance: float, below: bool) -> Points:
        """Bisect along ±one cell of the outward normal for the last place inside; points without a change stay put."""
        reach = self.cell_mm
        here = self._inside(points, level, below)
        far = points + normals * np.where(here, reach, -reach)[:, None]
        there = self._inside(far, level, below)
        change = (here != there) & ~self._on_rim(points)
        inner = np.where(here[:, None], points, far)[change]
        outer = np.where(here[:, None], far, points)[change]
        halvings = int(np.ceil(np.log2(reach / max(ON_BOUNDARY * tolerance, FINEST_MM))))
        for _ in range(halvings):
            middle = 0.5 * (inner + outer)
            good = self._inside(middle, level, below)
            inner[good], outer[~good] = middle[good], middle[~good]
        moved = points.copy()
        moved[change] = inner
        return moved


def part_outline(mesh: Mesh, cell_mm: float, tolerance_mm: float) -> BaseGeometry:
    """The part's outline seen from above, as polygons."""
    low, high = mesh.bounds()
    index = DropIndex.build(mesh, bull_nose_profile(PIN_RADIUS_MM, 0.0, 1.0))
    floor = float(low[2]) - 1.0
    field_ = HeightField.over(index, low[:2] - 2 * cell_mm, high[:2] + 2 * cell_mm, cell_mm, floor)
    return field_.covered_region(floor + 0.5, tolerance_mm)

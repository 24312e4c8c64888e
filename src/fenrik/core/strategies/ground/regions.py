"""Regions of a level: where the tip may be, and where stock stands."""

from __future__ import annotations

import itertools
from typing import cast

import contourpy
import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import MultiPolygon, Polygon, box
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact.region import HeightField
from fenrik.core.frames import Points
from fenrik.core.stock import Stock
from fenrik.core.stock.field import Dense

LEVEL_MM = 1e-6


def free_positions(heights: HeightField, level_mm: float, tolerance_mm: float) -> BaseGeometry:
    """Where the tip may be at a level; beyond the height field the plane counts as free.

    The open plane is attached so that offsets start at the part's walls only, not at the rim of the field.
    """
    region = heights.free_region(level_mm, tolerance_mm)
    x0, y0, x1, y1 = heights.x[0], heights.y[0], heights.x[-1], heights.y[-1]
    far = float(np.hypot(x1 - x0, y1 - y0))
    rim = 0.5 * heights.cell_mm
    outer = box(x0 - far, y0 - far, x1 + far, y1 + far)
    open_plane = shapely.difference(outer, box(x0 + rim, y0 + rim, x1 - rim, y1 - rim))
    return _polygons(shapely.union(region, open_plane))


class StandingStock:
    """Where material stands, ray by ray along z: also under what hangs over it."""

    def __init__(self, stock: Stock) -> None:
        self.rays: Dense = stock.dense(2)
        self.x, self.y, _ = stock.node_axes()
        self.cell = stock.lattice.cell_mm

    def above(self, level_mm: float) -> BaseGeometry:
        """Where anything stands above a level: what a tool that comes down from above would meet."""
        return self.between(level_mm, np.inf)

    def between(self, low_mm: float, high_mm: float) -> BaseGeometry:
        """Where anything stands between two levels: what a tool takes that goes at the lower one, when the ground over
        the higher one is cleared. Under an overhang that is less than what stands above."""
        count, at, _, _ = self.rays
        enter, leave = at[..., 0::2], at[..., 1::2]
        there = np.arange(enter.shape[2]) < count[..., None] // 2
        return self._outlines(np.any(there & (leave > low_mm + LEVEL_MM) & (enter < high_mm - LEVEL_MM), axis=2))

    def _outlines(self, mask: NDArray[np.bool_]) -> BaseGeometry:
        """Areas between the rays, to half a cell."""
        if not mask.any():
            return MultiPolygon()
        generator = contourpy.contour_generator(self.x, self.y, mask.T.astype(float), fill_type="OuterOffset")
        points, offsets = cast(tuple[list[Points], list[Points]], generator.filled(0.5, 2.0))
        polygons = [
            Polygon(p[o[0] : o[1]], [p[a:b] for a, b in itertools.pairwise(o)])
            for p, o in zip(points, offsets, strict=True)
        ]
        merged = shapely.union_all([shapely.make_valid(p) for p in polygons])
        return _polygons(shapely.simplify(merged, 0.05 * self.cell))


def _polygons(shape: BaseGeometry) -> BaseGeometry:
    """Only the areas of a shape."""
    parts = [p for p in shapely.get_parts(shape) if isinstance(p, Polygon) and p.area > 1e-9]
    return MultiPolygon(parts)

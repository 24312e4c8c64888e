"""Regions of a level: where the tip may be, and where stock stands."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property
from typing import cast

import contourpy
import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import MultiPolygon, Polygon, box
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact.region import HeightField
from fenrik.core.frames import Points
from fenrik.core.regions import Shadow, union
from fenrik.core.regions.polygons import thinned, to_shape
from fenrik.core.stock import Stock
from fenrik.core.stock.field import Dense

LEVEL_MM = 1e-6
HALF_WAY, NODE_SHARE, SETTLED_SHARE = 1e-3, 0.01, 0.01
"""What counts as half way between nodes; how near to a node an outline comes, and by how much it is made simpler, in
cells."""
THIN_SHARE = 0.25
"""Share of the tolerance by which outlines may be simplified."""


@dataclass(frozen=True)
class FreePositions:
    """Where the tip may be at a level.

    With only upright walls about the end of a flat tool, sections of the part offset by its radius say it; else tip
    heights do, which takes longer.

    Attributes:
        heights: tip heights of the whole tool, grown by the allowance. shadow: part and fixtures from above.
        bodies: radius with what it keeps away, and lowest height over the tip, of cutter, neck, shank and holder; none
            for a tool whose end is not flat.
        band_mm: how far over and under the tip nothing may lean: the allowance is kept square to slopes.
    """

    heights: HeightField
    shadow: Shadow
    bodies: list[tuple[float, float]]
    band_mm: float
    tolerance_mm: float

    def at(self, level_mm: float) -> BaseGeometry:
        """The positions, beyond the height field too: offsets must start at the part's walls, not at its rim."""
        if not self.bodies or self.shadow.slopes(level_mm - self.band_mm, level_mm + self.band_mm):
            return self._by_heights(level_mm)
        keep = [self.shadow.cover(level_mm + bottom).grown(reach) for reach, bottom in self.bodies]
        blocked = thinned(union(*keep), THIN_SHARE * self.tolerance_mm)
        return _polygons(shapely.difference(self._plane, to_shape(blocked)))

    def _by_heights(self, level_mm: float) -> BaseGeometry:
        region = self.heights.free_region(level_mm, self.tolerance_mm)
        x0, y0, x1, y1 = self.heights.x[0], self.heights.y[0], self.heights.x[-1], self.heights.y[-1]
        rim = 0.5 * self.heights.cell_mm
        open_plane = shapely.difference(self._plane, box(x0 + rim, y0 + rim, x1 - rim, y1 - rim))
        return _polygons(shapely.union(region, open_plane))

    @property
    def _plane(self) -> Polygon:
        x0, y0, x1, y1 = self.heights.x[0], self.heights.y[0], self.heights.x[-1], self.heights.y[-1]
        far = float(np.hypot(x1 - x0, y1 - y0))
        return box(x0 - far, y0 - far, x1 + far, y1 + far)


class StandingStock:
    """Where material stands, ray by ray along z: also under what hangs over it.

    Attributes:
        exact: whether outlines, which rays along z tell to half a cell, are settled by the rays across them.
    """

    def __init__(self, stock: Stock, exact: bool = False) -> None:
        self.stock, self.exact = stock, exact
        self.rays: Dense = stock.dense(2)
        self.x, self.y, self.z = stock.node_axes()
        self.cell = stock.lattice.cell_mm

    @cached_property
    def _across(self) -> tuple[Dense, Dense]:
        """Rays along x by (y, z), and along y by (x, z)."""
        return self.stock.dense(0), self.stock.dense(1)

    def above(self, level_mm: float) -> BaseGeometry:
        """Where anything stands above a level: what a tool that comes down from above would meet."""
        return self.between(level_mm, np.inf)

    def between(self, low_mm: float, high_mm: float) -> BaseGeometry:
        """Where anything stands between two levels: what a tool takes that goes at the lower one, when the ground over
        the higher one is cleared. Under an overhang that is less than what stands above."""
        count, at, _, _ = self.rays
        enter, leave = at[..., 0::2], at[..., 1::2]
        there = np.arange(enter.shape[2]) < count[..., None] // 2
        mask = np.any(there & (leave > low_mm + LEVEL_MM) & (enter < high_mm - LEVEL_MM), axis=2)
        if not mask.any():
            return MultiPolygon()
        generator = contourpy.contour_generator(self.x, self.y, mask.T.astype(float), fill_type="OuterOffset")
        points, offsets = cast(tuple[list[Points], list[Points]], generator.filled(0.5, 2.0))
        if self.exact:
            points = [self._settled(p, mask, low_mm, high_mm) for p in points]
        polygons = [
            Polygon(p[: o[1]], [p[a:b] for a, b in itertools.pairwise(o[1:])])
            for p, o in zip(points, offsets, strict=True)
        ]
        merged = shapely.union_all(polygons if not self.exact else shapely.make_valid(polygons))
        return _polygons(shapely.simplify(merged, (SETTLED_SHARE if self.exact else 0.05) * self.cell))

    def _settled(self, points: Points, mask: NDArray[np.bool_], low_mm: float, high_mm: float) -> Points:
        """Places (n, 2) of outlines, half way between two nodes of which one has material, moved to where that ends:
        the farthest of all layers between two levels."""
        layers = np.flatnonzero((self.z > low_mm + LEVEL_MM) & (self.z < high_mm - LEVEL_MM))
        settled = points.copy()
        node = (points - [self.x[0], self.y[0]]) / self.cell
        for axis, (count, at, _, _) in enumerate(self._across):
            there = np.flatnonzero(np.abs(node[:, axis] % 1.0 - 0.5) < HALF_WAY)
            first = np.floor(node[there, axis]).astype(int)
            beside = np.rint(node[there, 1 - axis]).astype(int)
            forward = mask[first, beside] if axis == 0 else mask[beside, first]
            begin = (self.x, self.y)[axis][first]
            far = np.full(len(there), -1.0)
            for layer in layers:
                share = (at[beside, layer] - begin[:, None]) / self.cell
                share = np.where(forward[:, None], share, 1.0 - share)
                hit = (np.arange(at.shape[2]) < count[beside, layer][:, None]) & (
                    np.abs(share - 0.5) < 0.5 + NODE_SHARE
                )
                far = np.maximum(far, np.where(hit, share, -1.0).max(axis=1, initial=-1.0))
            far = np.clip(np.where(far < 0, 0.5, far), NODE_SHARE, 1.0 - NODE_SHARE)
            settled[there, axis] = begin + self.cell * np.where(forward, far, 1.0 - far)
        return settled


def _polygons(shape: BaseGeometry) -> BaseGeometry:
    """Only the areas of a shape."""
    parts = [p for p in shapely.get_parts(shape) if isinstance(p, Polygon) and p.area > 1e-9]
    return MultiPolygon(parts)

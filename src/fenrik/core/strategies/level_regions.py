"""Regions of one level: where the tip may be, and where stock stands above."""

from __future__ import annotations

import itertools
from typing import cast

import contourpy
import numpy as np
import shapely
from shapely.geometry import MultiPolygon, Polygon, box
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact.region import HeightField
from fenrik.core.strategies.common import StockTops


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


def stock_above(tops: StockTops, level_mm: float) -> BaseGeometry:
    """Where material stands above a level, between the stock's rays to half a cell."""
    mask = (tops.tops > level_mm + 1e-6).astype(float)
    if not mask.any():
        return MultiPolygon()
    x = tops.origin[0] + tops.cell * np.arange(mask.shape[0])
    y = tops.origin[1] + tops.cell * np.arange(mask.shape[1])
    generator = contourpy.contour_generator(x, y, mask.T, fill_type="OuterOffset")
    points, offsets = cast(tuple[list[np.ndarray], list[np.ndarray]], generator.filled(0.5, 2.0))
    polygons = [
        Polygon(p[o[0] : o[1]], [p[a:b] for a, b in itertools.pairwise(o)])
        for p, o in zip(points, offsets, strict=True)
    ]
    merged = shapely.union_all([shapely.make_valid(p) for p in polygons])
    return _polygons(shapely.simplify(merged, 0.05 * tops.cell))


def _polygons(shape: BaseGeometry) -> BaseGeometry:
    """Only the areas of a shape."""
    parts = [p for p in shapely.get_parts(shape) if isinstance(p, Polygon) and p.area > 1e-9]
    return MultiPolygon(parts)

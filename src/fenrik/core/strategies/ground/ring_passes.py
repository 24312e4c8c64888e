"""Passes of an area of a level: its walls offset inwards, from the farthest to the wall."""

from __future__ import annotations

import numpy as np
import shapely
from shapely.geometry import LineString, Polygon
from shapely.geometry.base import BaseGeometry
from shapely.geometry.polygon import orient

from fenrik.core.frames import Points


def plan_passes(
    polygon: Polygon, piece: Polygon, reach: BaseGeometry, stepover: float, radius: float, tolerance: float
) -> list[Points]:
    """Passes of one area from the farthest to the wall, each (n, 2), material on the right (climb).

    Closed passes repeat their first point. Children of a ring are cut before it, so that going from ring to ring
    never crosses uncut material.
    """
    keep = shapely.intersection(piece, reach)
    roomy = piece.buffer(1e-6)
    shapely.prepare(roomy)
    shapely.prepare(keep)
    passes: list[Points] = []

    def lines_of(ring_polygon: Polygon) -> list[Points]:
        turned = orient(ring_polygon, 1.0)
        found = []
        for ring in (turned.exterior, *turned.interiors):
            line = LineString(ring.coords)
            if roomy.covers(line):
                cut: BaseGeometry = line
            else:
                cut = shapely.line_merge(shapely.intersection(line, roomy), directed=True)
            found += [
                shapely.get_coordinates(shapely.simplify(part, tolerance))
                for part in shapely.get_parts(cut)
                if part.length > 1e-3 and part.intersects(keep)
            ]
        return found

    def descend(shape: Polygon, depth: int) -> None:
        if depth > 4000:
            return
        for inner in shapely.get_parts(shape.buffer(-stepover, quad_segs=16)):
            if not inner.is_empty and inner.intersects(piece):
                descend(inner, depth + 1)
        passes.extend(lines_of(shape))

    bounded = shapely.intersection(polygon, piece.envelope.buffer(4 * radius + 4 * stepover + _diagonal(piece)))
    walls = not polygon.covers(piece.envelope)
    shape = bounded if walls else piece
    for part in shapely.get_parts(shape):
        if part.intersects(piece) and isinstance(part, Polygon):
            descend(part, 0)
    return _fill_gaps(passes, piece, reach, radius) + passes


def _diagonal(shape: BaseGeometry) -> float:
    x0, y0, x1, y1 = shape.bounds
    return float(np.hypot(x1 - x0, y1 - y0))


def _fill_gaps(passes: list[Points], piece: Polygon, reach: BaseGeometry, radius: float) -> list[Points]:
    """Passes over islands that wide stepovers leave between rings."""
    if not passes:
        return []
    swept = shapely.union_all([LineString(p).buffer(radius * 0.999, quad_segs=8) for p in passes])
    missed = shapely.difference(shapely.intersection(piece, reach), swept)
    extra = []
    for gap in shapely.get_parts(missed):
        if gap.area < 1e-3 * radius * radius:
            continue
        ring = shapely.intersection(orient(gap.convex_hull, 1.0).exterior, piece)
        extra += [
            shapely.get_coordinates(part)
            for part in shapely.get_parts(shapely.line_merge(ring, directed=True))
            if part.length > 1e-3
        ]
    return extra

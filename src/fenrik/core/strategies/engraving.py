"""Engraving: along curves and text at a depth, and between lines with a pointed cutter as deep as they are apart.

Between lines the tip follows the places that are farthest from both (the medial axis, from the Voronoi edges of the
outline); at each it goes as deep as the cone is wide there: depth = distance / tan(included/2).
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
import shapely
from pydantic import Field
from shapely.geometry.base import BaseGeometry

from fenrik.core.frames import Points
from fenrik.core.regions.polygons import from_shape, to_shape
from fenrik.core.sketches import Curve, region_of
from fenrik.core.sketches.curve import begun_at
from fenrik.core.strategies.common import MM, Outcome, require
from fenrik.core.strategies.declared import Strategy, mills
from fenrik.core.strategies.given import IN_PLACE, Given
from fenrik.core.strategies.ground.levels import depth_levels
from fenrik.core.strategies.picked import TargetParams
from fenrik.core.strategies.prismatic import Workplace, need_targets
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.toolpath.tour import visiting_order
from fenrik.core.tools import Profile, cutting_profile
from fenrik.core.units import LEAST_STEP_MM

GAP_MM = 1.0
OUTLINE_STEP_MM = 0.1
LEAST_AREA_MM2 = 0.01
LEAST_DEPTH_MM = 5e-3


class Engraving(TargetParams):
    """Engraves curves, text and the space between lines."""

    strategy: Literal["engraving"] = "engraving"
    uses = "chains"
    heights = ("bottom",)
    idle = ("allowance_mm", "floor_allowance_mm")
    way: Literal["along the curves", "between the lines"] = Field(default="along the curves", title="Way")
    depth_mm: float = Field(
        default=0.2,
        ge=LEAST_STEP_MM,
        le=50,
        title="Depth",
        description="Between lines: the deepest",
        json_schema_extra=MM,
    )
    stepdown_mm: float | None = Field(
        default=None, ge=LEAST_STEP_MM, le=50, title="Stepdown", description="Empty: all at once", json_schema_extra=MM
    )


def engraving(given: Given, params: Engraving) -> Outcome:
    """All curves; between lines, open ones are reported.

    Raises:
        FenrikError: when nothing is picked, or the tool has no point for work between lines.
    """
    place = Workplace.of(given)
    chains = given.targets.chains
    need_targets(chains, given, "curve", "Pick edges, or a sketch with curves or text.")
    builder = place.builder()
    if params.way == "between the lines":
        _between(builder, place, params)
        return Outcome(builder.finish(), place.unreached)
    builder.beside = "both"  # the groove is as wide as the tool there
    profile = cutting_profile(given.cutter)
    order = visiting_order([c.curve.points[0] for c in chains], "shortest way")
    for number, k in enumerate(order.tolist()):
        chain = chains[k]
        level = params.bottom_at(place.anchors, chain.level)
        why = "the keep-out or the boundary forbids it"
        for piece in place.free_pieces(chain.curve, place.fenced, chain.label, level, "curve", why):
            _along(builder, begun_at(piece, 0.0) if piece.closed else piece, level, params, profile)
        given.progress((number + 1) / len(chains), "engraving")
    return Outcome(builder.finish(), place.unreached)


def _along(builder: PathBuilder, curve: Curve, level: float, params: Engraving, profile: Profile) -> None:
    at = builder.place
    if at is None or np.abs(at[:2] - curve.points[0]).max() > 1e-6:
        builder.travel(float(curve.points[0][0]), float(curve.points[0][1]), level + GAP_MM)
    for z in depth_levels(level, level - params.depth_mm, params.stepdown_mm):
        here = builder.place
        assert here is not None
        near_end = np.abs(here[:2] - curve.points[-1]).max() < np.abs(here[:2] - curve.points[0]).max()
        way = curve.reversed() if near_end else curve
        builder.enter(np.array([*way.points[0], z]))
        builder.next_pass()
        builder.radius_mm = profile.radius_at(level - z)
        builder.follow(way, Kind.CUT)


def _between(builder: PathBuilder, place: Workplace, params: Engraving) -> None:
    """Along the medial axis of what the closed curves enclose."""
    cutter = place.given.cutter
    included = getattr(cutter, "included_deg", getattr(cutter, "point_deg", None))
    require(
        included is not None,
        "tool",
        f"is a {cutter.kind}, which has no point.",
        "Choose an engraving cutter, a chamfer mill or a spot drill.",
    )
    slope = math.tan(math.radians(float(included or 90.0) / 2))
    tip = getattr(cutter, "tip_diameter_mm", 0.0) / 2
    closed = [c for c in place.given.targets.chains if c.curve.closed]
    for chain in place.given.targets.chains:
        if not chain.curve.closed:
            place.skip(chain.label, "is open: there is no between.", chain.place, "Close it, or engrave along it.")
    for level in sorted({c.level for c in closed}):
        area = region_of([c.curve for c in closed if c.level == level], 1e-3)
        allowed = _allowed(place, area, level)
        for shape in shapely.get_parts(allowed):
            for line, room in medial_axis(shape):
                depth = np.minimum((room - tip) / slope, params.depth_mm)
                if depth.max() < LEAST_DEPTH_MM:
                    continue
                z = level - np.maximum(depth, 0.0)
                builder.travel(float(line[0][0]), float(line[0][1]), level + GAP_MM)
                builder.enter(np.array([*line[0], z[0]]))
                builder.next_pass()
                builder.cut(np.column_stack([line, z]))


def _allowed(place: Workplace, area: BaseGeometry, level: float) -> BaseGeometry:
    """What of an area keep-outs and boundaries leave; what they take is told."""
    whole = to_shape(from_shape(area))
    left = whole.difference(to_shape(place.fenced)) if place.fenced else whole
    gone = whole.area - left.area
    if gone > LEAST_AREA_MM2:
        x, y = whole.difference(left).representative_point().coords[0]
        place.skip(
            "", f"{gone:.1f} mm² are left out: the keep-out or the boundary forbids them.", (x, y, level),
            "Change the keep-out or the boundary.", gone,
        )  # fmt: skip
    return left


def medial_axis(shape: shapely.Polygon) -> list[tuple[Points, Points]]:
    """Lines of places that are farthest from a polygon's boundary, with their distances to it.

    Method: edges of the Voronoi diagram of places along the boundary, those inside and away from it (Brandt & Algazi,
    "Continuous skeleton computation by Voronoi diagram", 1992).
    """
    boundary = shape.segmentize(OUTLINE_STEP_MM).boundary
    places = shapely.MultiPoint(shapely.get_coordinates(boundary))
    edges = shapely.get_parts(shapely.voronoi_polygons(places, only_edges=True))
    ends = np.stack([shapely.get_coordinates(e)[[0, -1]] for e in edges])
    shapely.prepare(shape)
    inside = shapely.covers(shape, edges)
    room = shapely.distance(boundary, shapely.points(ends.reshape(-1, 2))).reshape(-1, 2)
    # Edges between neighbours on one side run straight at the boundary: they end where it is nearer than their step.
    keep = inside & (room.min(axis=1) > 0.6 * OUTLINE_STEP_MM)
    merged = shapely.line_merge(shapely.union_all(edges[keep]))
    found = []
    for part in shapely.get_parts(merged):
        line = shapely.get_coordinates(part.simplify(1e-3))
        if len(line) > 1:
            line = shapely.get_coordinates(shapely.LineString(line).segmentize(2 * OUTLINE_STEP_MM))
            found.append((line, shapely.distance(boundary, shapely.points(line))))
    return found


STRATEGY = Strategy(
    params=Engraving,
    run=engraving,
    version=6,
    group="Edges and marks",
    needs=IN_PLACE,
    cutters=mills("engraving", "spot drill", "drill", "chamfer mill", "ball"),
    meant_depth_mm=lambda params, cutter: params.depth_mm + params.below_geometry_mm,
    stage=6,
)

"""Facing: the top of the stock down to a level, in straight passes or a spiral that begin and end outside the stock."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
import shapely
from pydantic import Field

from fenrik.core.frames import Points
from fenrik.core.regions import Rings, clip_lines, components, fit_arcs, offset
from fenrik.core.regions.polygons import from_shape, pole_of, to_shape
from fenrik.core.strategies.common import ARC_FIT_MM, MM, START_GAP_MM, Anchors, Outcome, require
from fenrik.core.strategies.declared import Strategy, mills
from fenrik.core.strategies.given import Given
from fenrik.core.strategies.ground.levels import depth_levels
from fenrik.core.strategies.ground.regions import StandingStock
from fenrik.core.strategies.picked import TargetParams
from fenrik.core.strategies.prismatic import Workplace
from fenrik.core.strategies.targets import Targets
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.units import LEAST_STEP_MM

CORE_SHARE = 0.9
CLEAR_MM = 2.0
"""How far outside the stock passes begin and end."""


class Facing(TargetParams):
    """Makes the top flat."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "direction_deg",
        "bottom_from",
    )

    strategy: Literal["facing"] = "facing"
    uses = "areas"
    heights = ("bottom",)
    stepover_percent: float = Field(
        default=65.0,
        ge=1,
        le=100,
        title="Stepover",
        description="Share of the tool's diameter",
        json_schema_extra={"unit": "%"},
    )
    stepdown_mm: float | None = Field(
        default=None, ge=LEAST_STEP_MM, le=100, title="Stepdown", description="Empty: all at once", json_schema_extra=MM
    )
    way: Literal["both ways", "one way", "spiral in"] = Field(default="both ways", title="Way")
    direction_deg: float = Field(
        default=0.0, ge=-360, le=360, title="Direction", description="Of the passes", json_schema_extra={"unit": "deg"}
    )
    bottom_from: Literal["geometry", "part bottom", "part top", "work zero"] = Field(
        default="part top", title="Bottom from", description="Where cutting ends"
    )

    def places(self, anchors: Anchors, targets: Targets) -> list[tuple[Points, Points, float, float]]:
        everywhere = np.zeros(2), np.zeros(2), anchors.part_top, anchors.part_top
        return super().places(anchors, targets) or [everywhere]


def facing(given: Given, params: Facing) -> Outcome:
    """Facing of the whole stock, or (where floors are picked) of these.

    Raises:
        FenrikError: when the bottom lies over the stock, or levels are too many.
    """
    place = Workplace.of(given)
    areas = given.targets.areas
    level = areas[0].floor if areas else float(given.part_box[1][2])
    bottom = params.bottom_at(place.anchors, level) + params.floor_allowance_mm
    top = place.landscape.stock.highest
    if not np.isfinite(top) or top <= bottom + 1e-6:
        return Outcome(given.builder().finish(), place.unreached)
    step = params.stepover_percent / 100 * given.cutter.diameter_mm
    require(step > 1e-3, "stepover_percent", "is too small.", "Use at least 1 %.", params.stepover_percent)
    builder = place.builder()
    builder.beside = "both"  # stock may stand on either side of a turn
    standing = StandingStock(given.stock)
    for z in depth_levels(top, bottom, params.stepdown_mm):
        wanted = from_shape(standing.above(z))
        if areas:
            chosen = offset([r for a in areas for r in a.rings], place.radius / 2)
            wanted = from_shape(to_shape(wanted).intersection(to_shape(chosen)))
        if wanted:
            _face(builder, place, params, wanted, z, step)
    return Outcome(builder.finish(), place.unreached)


def _face(builder: PathBuilder, place: Workplace, params: Facing, wanted: Rings, z: float, step: float) -> None:
    """One level: passes over the stock's outline, shortened where the part or a fixture stands higher."""
    hull = from_shape(to_shape(wanted).convex_hull)
    blocked = place.blocked(z, place.radius + params.allowance_mm)
    if params.way == "spiral in":
        _spiral_in(builder, place, hull, blocked, z, step)
        return
    passes = _straight_passes(hull, place.radius, step, params)
    for line in passes:
        for run in clip_lines([line], blocked, inside=False) if blocked else [line]:
            at = builder.place
            near = at is not None and abs(at[2] - z) < 1e-9 and np.linalg.norm(at[:2] - run[0]) < 2.5 * step
            if near and params.way == "both ways" and not _crosses(blocked, at[:2], run[0]):  # type: ignore[index]
                builder.link(np.array([*run[0], z]))
            else:
                builder.travel(float(run[0][0]), float(run[0][1]), z + START_GAP_MM)
                builder.approach(np.array([*run[0], z]))
            builder.next_pass()
            builder.cut(np.column_stack([run[1:], np.full(len(run) - 1, z)]))


def _straight_passes(hull: Rings, radius: float, step: float, params: Facing) -> list[Points]:
    """Lines over a hull from outside to outside; no two farther apart than the step."""
    turn = np.deg2rad(params.direction_deg)
    spin = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
    turned = np.vstack(hull) @ spin
    low, high = turned[:, 1].min(), turned[:, 1].max()
    # The first pass overlaps the rim by a step, the last reaches the other rim.
    first, last = low + step - radius, high - radius + min(0.1 * radius, step)
    count = max(int(np.ceil((last - first) / step)), 0) + 1
    rows = np.linspace(first, max(last, first), count)
    lines = []
    outline = shapely.Polygon(turned).buffer(radius)
    for k, y in enumerate(rows):
        across = outline.intersection(shapely.LineString([(-1e5, y), (1e5, y)]))
        if across.is_empty:
            continue
        x0, _, x1, _ = across.bounds
        line = np.array([[x0 - CLEAR_MM, y], [x1 + CLEAR_MM, y]])
        forward = params.way == "one way" or k % 2 == 0
        lines.append((line if forward else line[::-1]) @ spin.T)
    return lines


def _spiral_in(builder: PathBuilder, place: Workplace, hull: Rings, blocked: Rings, z: float, step: float) -> None:
    """Rings from outside to the middle, climb milling, each begun from the one before."""
    ring_region = offset(hull, place.radius - step)
    # Even steps, so that the innermost ring leaves no core.
    way = pole_of(ring_region)[1] - CORE_SHARE * place.radius if ring_region else 0.0
    step = way / max(int(np.ceil(way / step)), 1) if way > 0 else step
    first = True
    while ring_region:
        for piece in components(ring_region):
            ring = np.vstack([piece[0], piece[0][:1]])[::-1]
            for run in clip_lines([ring], blocked, inside=False) if blocked else [ring]:
                _onto(builder, place, run, z, first)
                first = False
                builder.next_pass()
                builder.follow(fit_arcs(run, False, ARC_FIT_MM), Kind.CUT)
        ring_region = offset(ring_region, -step)


def _onto(builder: PathBuilder, place: Workplace, run: Points, z: float, first: bool) -> None:
    at = builder.place
    if not first and at is not None and np.linalg.norm(at[:2] - run[0]) < 4 * place.radius:
        builder.link(np.array([*run[0], z]))
        return
    along = (run[0] - run[1]) / np.linalg.norm(run[0] - run[1])
    outside = run[0] + along * (2 * place.radius + CLEAR_MM)
    builder.travel(float(outside[0]), float(outside[1]), z + START_GAP_MM)
    builder.approach(np.array([*outside, z]))
    builder.enter(np.array([*run[0], z]))


def _crosses(blocked: Rings, a: Points, b: Points) -> bool:
    return bool(blocked) and bool(to_shape(blocked).intersects(shapely.LineString([a, b])))


STRATEGY = Strategy(
    params=Facing,
    run=facing,
    version=6,
    group="Faces and pockets",
    cutters=mills("face mill", "flat"),
    stage=0,
    everywhere=True,
    makes=lambda params: "the top",
    finishes=lambda params: ("level",),
)

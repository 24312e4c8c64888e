"""Back boring: counterbores and spot faces on the far side of through holes, made from this side.

The bar goes down through the hole with the spindle stopped in its place and beside the hole's axis, comes to the axis
below, and bores upwards. The motions are those of cycle G87 of RS274/NGC (NIST report), so that a cycle read back
equals them.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
import shapely
from pydantic import Field

from fenrik.core.frames import Points
from fenrik.core.regions import Shadow
from fenrik.core.regions.polygons import to_shape
from fenrik.core.solids.model import Mesh
from fenrik.core.stock import Stock
from fenrik.core.strategies.common import MM, Outcome, require
from fenrik.core.strategies.declared import Strategy
from fenrik.core.strategies.drilling import FIT_MM, go_over
from fenrik.core.strategies.given import IN_PLACE, OBSTACLE_CLEARANCE_MM, Given
from fenrik.core.strategies.picked import TargetParams
from fenrik.core.strategies.prismatic import Workplace, need_targets
from fenrik.core.strategies.targets import FarSide, HolePlace
from fenrik.core.toolpath import BACK_BORE, ORIENTED, PathBuilder
from fenrik.core.toolpath.tour import Order, visiting_order
from fenrik.core.tools.cutters import BackBoringBar
from fenrik.core.units import LEAST_STEP_MM

LEVEL_MM = 1e-3


class BackBoring(TargetParams):
    """Counterbores on the far side, bored upwards through the hole."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "gap_below_mm",
        "gap_beside_mm",
        "start_gap_mm",
        "order",
    )

    strategy: Literal["back boring"] = "back boring"
    uses = "holes"
    heights = ()
    idle = ("allowance_mm", "floor_allowance_mm")
    depth_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=500,
        title="Depth",
        description="From the far side; empty: to the floor of the counterbore",
        json_schema_extra=MM,
    )
    gap_below_mm: float = Field(
        default=1.0,
        ge=LEAST_STEP_MM,
        le=100,
        title="Gap below",
        description="Under the part, before it bores",
        json_schema_extra=MM,
    )
    gap_beside_mm: float = Field(
        default=0.2,
        ge=LEAST_STEP_MM,
        le=20,
        title="Gap in the hole",
        description="Least, beside bar and edge on their way through",
        json_schema_extra=MM,
    )
    start_gap_mm: float = Field(
        default=2.0,
        ge=LEAST_STEP_MM,
        le=100,
        title="Start gap",
        description="Above the hole, at rapid",
        json_schema_extra=MM,
    )
    order: Order = Field(default="shortest way", title="Order")


@dataclass(frozen=True)
class BackBore:
    """One hole to bore: heights of the tip where it starts over the hole, waits under it, and ends its bore."""

    hole: HolePlace
    start: float
    below: float
    end: float


def back_boring(given: Given, params: BackBoring) -> Outcome:
    """All holes of the operation; those that cannot be bored are reported, the others are cut.

    Raises:
        FenrikError: when the tool is no back boring bar, or there is no hole at all.
    """
    cutter = given.cutter
    require(
        isinstance(cutter, BackBoringBar),
        "tool.cutter",
        f"is a {cutter.kind}; only a bar with its edge on the upper side bores upwards.",
        "Choose a back boring bar.",
        cutter.kind,
    )
    assert isinstance(cutter, BackBoringBar)
    place = Workplace.of(given)
    need_targets(given.targets.holes, given, "hole", "Pick the bores of through holes.")
    fixtures = Shadow(given.obstacles) if given.obstacles is not None else None
    work = _Work(place, params, cutter, _Rays(given.stock), fixtures)
    free = [h for h in given.targets.holes if not place.kept_out(h.place, h.label)]
    bores = [b for h in free if (b := work.bore(h)) is not None]
    builder = place.builder()
    order = visiting_order([b.hole.xy for b in bores], params.order)
    for number, k in enumerate(order.tolist()):
        go_over(builder, bores[k].hole.xy, bores[k].start)
        bore_back(builder, number, bores[k], cutter, given.feeds.cutting)
        given.progress((number + 1) / len(bores), "boring back")
    return Outcome(builder.finish(), place.unreached)


def bore_back(builder: PathBuilder, number: int, bore: BackBore, cutter: BackBoringBar, feed: float) -> None:
    """One hole from over it: what G87 of RS274/NGC does, motion by motion."""
    x, y = float(bore.hole.x), float(bore.hole.y)
    i, j = cutter.aside_mm
    builder.begin_cycle(BACK_BORE, number)
    at = builder.place
    if at is not None:
        builder.rapid(np.array([x, y, at[2]]))
    builder.rapid(np.array([[x, y, bore.start], [x + i, y + j, bore.start]]))
    turning, builder.spindle = builder.spindle, ORIENTED
    builder.rapid(np.array([[x + i, y + j, bore.below], [x, y, bore.below]]))
    builder.spindle = turning
    builder.cut_at(np.array([[x, y, bore.end], [x, y, bore.below]]), feed)
    builder.spindle = ORIENTED
    builder.rapid(np.array([[x + i, y + j, bore.below], [x + i, y + j, bore.start], [x, y, bore.start]]))
    builder.spindle = turning
    builder.end_cycle()


class _Rays:
    """The upright rays of a stock."""

    def __init__(self, stock: Stock) -> None:
        self.count, self.at, _, _ = stock.dense(2)
        self.x, self.y, _ = stock.node_axes()

    def near(self, xy: Points, radius_mm: float) -> Points:
        """Stretches of stock (lower, upper end) on the rays within a radius of a place, (n, 2)."""
        i, j = (np.flatnonzero(np.abs(a - v) <= radius_mm) for a, v in zip((self.x, self.y), xy, strict=True))
        away = (self.x[i, None] - xy[0]) ** 2 + (self.y[None, j] - xy[1]) ** 2
        inside = away <= radius_mm * radius_mm
        count, at = self.count[np.ix_(i, j)][inside], self.at[np.ix_(i, j)][inside]
        pairs = at[:, : at.shape[1] // 2 * 2].reshape(len(at), -1, 2)
        return np.asarray(pairs[2 * np.arange(pairs.shape[1])[None, :] < count[:, None]])


@dataclass(frozen=True)
class _Work:
    """What decides about each hole: parameters, tool, the stock's rays, the shadow of fixtures and other copies."""

    place: Workplace
    params: BackBoring
    cutter: BackBoringBar
    rays: _Rays
    fixtures: Shadow | None

    def bore(self, hole: HolePlace) -> BackBore | None:
        """The heights for one hole; None (and a report) where it cannot be bored with this tool."""
        why = self._misfit(hole)
        found = self._heights(hole, hole.far) if why is None and hole.far is not None else None
        if isinstance(found, BackBore):
            return found
        reason, advice = why or found or ("", "")
        self.place.skip(hole.label, reason, (hole.x, hole.y, hole.far.end if hole.far else hole.bottom), advice)
        return None

    def _misfit(self, hole: HolePlace) -> tuple[str, str] | None:
        """Why tool and hole do not fit, and what would work."""
        far, cutter, depth = hole.far, self.cutter, self.params.depth_mm
        if far is None:
            return "is no through hole: the bar must come out below it.", "Turn the part over, or drill it through."
        has_floor = far.floor > far.end + LEVEL_MM
        if not has_floor and depth is None:
            return "has no counterbore on its far side.", "Give a depth, or pick holes that have one."
        if has_floor and abs(cutter.diameter_mm - far.diameter) > FIT_MM:
            return (
                f"the bar cuts ⌀{cutter.diameter_mm:g} and the counterbore has ⌀{far.diameter:g}.",
                f"Choose a bar that cuts ⌀{far.diameter:g}.",
            )
        if has_floor and depth is not None and depth > far.floor - far.end + LEVEL_MM:
            return (
                f"would be bored {depth:g} mm deep and its counterbore has {far.floor - far.end:.2f} mm.",
                "Leave the depth empty.",
            )
        if depth is not None and depth > hole.top - far.end - LEVEL_MM:
            return f"is {hole.top - far.end:.2f} mm deep and would be bored {depth:g} mm.", "Give a smaller depth."
        need = cutter.passing_mm + 2 * self.params.gap_beside_mm
        if need > far.neck + 1e-9:
            return (
                f"bar and edge need ⌀{need:.2f} to go through, gap included, and the hole has ⌀{far.neck:g}.",
                "Choose a thinner bar, or turn the part over.",
            )
        return None

    def _heights(self, hole: HolePlace, far: FarSide) -> BackBore | tuple[str, str]:
        """The heights, or why there is no way."""
        params, foot, radius = self.params, self.cutter.flute_length_mm, self.cutter.radius_mm
        floor = far.end + params.depth_mm if params.depth_mm is not None else far.floor
        standing = self.rays.near(hole.xy, radius)
        mine = standing[(standing[:, 0] < floor - LEVEL_MM) & (standing[:, 1] > far.end + LEVEL_MM)]
        if not len(mine):
            return "no stock stands there.", "Take it out of this row."
        lower = float(mine[:, 0].min())
        below = lower - params.gap_below_mm - foot
        why = self._closed(hole, below) or self._no_room(hole, far, below, lower) or self._too_short(hole, far, below)
        if why is not None:
            return why
        top = max(hole.top, self.place.anchors.stock_over(hole.xy - radius, hole.xy + radius))
        return BackBore(hole, top + params.start_gap_mm, below, floor - foot)

    def _closed(self, hole: HolePlace, below: float) -> tuple[str, str] | None:
        """Why bar and edge cannot go through."""
        inside = self.rays.near(hole.xy, self.cutter.passing_mm / 2)
        inside = inside[inside[:, 1] > below]
        if not len(inside):
            return None
        deep = hole.top - float(inside[:, 0].min())
        return (
            f"stock still stands in the hole, down to {deep:.2f} mm.",
            f"Drill it first, {deep:.2f} mm at full diameter.",
        )

    def _no_room(self, hole: HolePlace, far: FarSide, below: float, lower: float) -> tuple[str, str] | None:
        """Why the foot of the bar does not fit under the hole."""
        reach = self.cutter.radius_mm + float(np.hypot(*self.cutter.aside_mm))
        under = self.rays.near(hole.xy, reach)
        stock = np.any((under[:, 1] > below) & (under[:, 0] < lower - LEVEL_MM))
        if stock or _stands(self.place.given.mesh, hole.xy, reach, below, far.end):
            what = "stock" if stock else "the part itself"
            room = f"{lower - below:.1f} mm high and ⌀{2 * reach:.1f} mm wide"
            return f"the foot of the bar needs room under it, {room}; {what} stands there.", "Turn the part over."
        keep = reach + OBSTACLE_CLEARANCE_MM
        if self.fixtures and to_shape(self.fixtures.above(below)).distance(shapely.Point(*hole.xy)) < keep:
            return f"a fixture or another copy stands nearer than {keep:.1f} mm to its axis.", "Move the fixture."
        return None

    def _too_short(self, hole: HolePlace, far: FarSide, below: float) -> tuple[str, str] | None:
        """Why what is thicker than the bar would go into the hole."""
        tool, gap = self.place.given.tool, self.params.gap_beside_mm
        thicker = [(name, diameter / 2, low) for name, diameter, low, _ in tool.stations()]
        height = tool.stick_out_mm
        for section in tool.holder:
            thicker.append(("holder", max(section.lower_diameter_mm, section.upper_diameter_mm) / 2, height))
            height += section.height_mm
        for name, radius, low in thicker:
            reach = radius + float(np.hypot(*self.cutter.aside_mm))
            if reach + gap <= far.neck / 2 + 1e-9:
                continue
            missing = self.place.anchors.stock_over(hole.xy - reach, hole.xy + reach) + gap - (below + low)
            if missing > 0:
                return (
                    f"the {name} ⌀{2 * radius:g} would go {missing:.1f} mm into the hole.",
                    f"Use a bar at least {missing:.1f} mm longer.",
                )
        return None


def _stands(mesh: Mesh, xy: Points, reach_mm: float, low_mm: float, high_mm: float) -> bool:
    """Whether the part has surface within a radius of an upright axis, between two heights."""
    corners = mesh.vertices[mesh.triangles]
    low, high = corners.min(axis=1), corners.max(axis=1)
    near = np.all((low[:, :2] < xy + reach_mm) & (high[:, :2] > xy - reach_mm), axis=1)
    near &= (high[:, 2] > low_mm) & (low[:, 2] < high_mm - LEVEL_MM)
    seen = shapely.polygons(corners[near][:, :, :2])
    return bool(np.any(shapely.distance(seen, shapely.Point(*xy)) < reach_mm - LEVEL_MM))


STRATEGY = Strategy(
    params=BackBoring,
    run=back_boring,
    version=1,
    meant_depth_mm=lambda params, cutter: params.depth_mm or 0.0,
    group="Holes",
    needs=(*IN_PLACE, "mesh"),
    cutters=("back boring bar",),
    sees="all",
    makes=lambda params: "far bores",
    finishes=lambda params: ("hole",),
)

"""Contour: along chains, on one side of them, in side passes and depth passes.

Closed chains are offset as polygons, so that no part of the pass cuts into another part of the chain; open ones with
round corners. What another wall of the part, a fixture or a copy makes impossible is cut out of the pass and told.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np
import shapely
from pydantic import Field

from fenrik.core.frames import Points
from fenrik.core.regions.polygons import to_shape
from fenrik.core.sketches import Curve
from fenrik.core.sketches.curve import begun_at, lengths_of, piece_of
from fenrik.core.strategies.common import ARC_FIT_MM, MM, START_GAP_MM, Outcome, beside_when, require
from fenrik.core.strategies.declared import UNDERCUTTING, Strategy, mills
from fenrik.core.strategies.given import Given
from fenrik.core.strategies.ground.levels import depth_levels
from fenrik.core.strategies.leading import LeadParams, Side, Ways, lead_in, lead_out, run_on, straight_on, with_loops
from fenrik.core.strategies.picked import MillingParams
from fenrik.core.strategies.prismatic import (
    FLATTEN_MM,
    Workplace,
    need_targets,
    reach_beside,
)
from fenrik.core.strategies.sides import free_side, offset_chain, running_against, tool_side
from fenrik.core.strategies.targets import Chain
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.toolpath.compensation import CompensationError, as_curve, stretches_of, tool_way, written_contour
from fenrik.core.tools import Cutter
from fenrik.core.units import LEAST_STEP_MM

TOUCH_MM = 3 * ARC_FIT_MM
STRAIGHT_MM = 1.0
"""Straight piece on which the controller goes on and off its compensation."""


class Contour(MillingParams, LeadParams):
    """Follows walls, edges or curves."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "repeats",
        "corners",
        "start",
        "start_x_mm",
        "start_y_mm",
        "tabs",
        "tab_length_mm",
        "tab_height_mm",
    )

    strategy: Literal["contour"] = "contour"
    uses = "chains"
    side: Literal["automatic", "inside", "outside", "left", "right", "on the curve"] = Field(
        default="automatic", title="Side", description="Automatic: away from the part"
    )
    side_passes: int = Field(default=1, ge=1, le=50, title="Side passes")
    side_step_mm: float = Field(
        default=1.0,
        ge=LEAST_STEP_MM,
        le=100,
        title="Side step",
        description="Between side passes",
        json_schema_extra=MM,
    )
    finish_mm: float = Field(
        default=0.0,
        ge=0,
        le=50,
        title="Left for the last side pass",
        description="By those before",
        json_schema_extra=MM,
    )
    finish_feed_percent: float = Field(
        default=100.0, ge=5, le=300, title="Feed of the last side pass", json_schema_extra={"unit": "%"}
    )
    finish_at_once: bool = Field(default=False, title="Last side pass at full depth")
    repeats: int = Field(default=0, ge=0, le=5, title="Repeats", description="The last pass again, without infeed")
    ramp: bool = Field(
        default=False, title="Ramp", description="Sink along the contour by a stepdown each turn, then once level"
    )
    corners: Literal["rolled", "sharp", "looped"] = Field(
        default="rolled",
        title="Outer corners",
        description="Round them with an arc, run the lines out to their meeting, or past it and back in a loop",
    )
    start: Literal["longest side", "corner", "as drawn", "spread", "near a place"] = Field(
        default="longest side",
        title="Start of closed passes",
        description="A corner hides the mark, spreading thins it",
    )
    start_x_mm: float = Field(
        default=0.0, ge=-5000, le=5000, title="Start near X", description="In the work frame", json_schema_extra=MM
    )
    start_y_mm: float = Field(
        default=0.0, ge=-5000, le=5000, title="Start near Y", description="In the work frame", json_schema_extra=MM
    )
    run_on_mm: float = Field(
        default=0.0,
        ge=0,
        le=100,
        title="Run on past open ends",
        description="So that neighbouring cuts meet without a step",
        json_schema_extra=MM,
    )
    compensation: Literal["computer", "controller", "wear"] = Field(
        default="computer",
        title="Compensation",
        description="With G41 or G42: of the whole radius by the controller, or of what the tool has worn",
    )
    tabs: int = Field(default=0, ge=0, le=50, title="Holding tabs")
    tab_length_mm: float = Field(default=4.0, ge=LEAST_STEP_MM, le=100, title="Tab length", json_schema_extra=MM)
    tab_height_mm: float = Field(default=1.0, ge=LEAST_STEP_MM, le=100, title="Tab height", json_schema_extra=MM)


@dataclass(frozen=True)
class _Pass:
    """One pass in the plane: its curve in the direction of cutting and the side without material."""

    curve: Curve
    free: Side
    last: bool


def contour(given: Given, params: Contour) -> Outcome:
    """All chains; what of them cannot be cut is reported, the others are cut.

    Raises:
        FenrikError: when nothing is picked, or levels are too many.
    """
    place = Workplace.of(given)
    need_targets(given.targets.chains, given, "chain", "Pick edges, walls, floors, a sketch or the outline.")
    _check_compensation(params)
    builder = place.builder()
    builder.beside = "both" if params.side == "on the curve" else beside_when(params.milling)
    against = running_against(given.targets.chains, params.side)
    for number, chain in enumerate(given.targets.chains):
        if number in against:
            place.skip(
                chain.label,
                f"runs the other way than the rest: {params.side} of it the tool would stand on the other side.",
                chain.place,
                "Choose inside or outside, or give it an operation of its own.",
            )
            continue
        _cut_chain(builder, place, params, chain)
        given.progress((number + 1) / len(given.targets.chains), "following contours")
    return Outcome(builder.finish(), place.unreached)


def _check_compensation(params: Contour) -> None:
    """Compensation at the controller needs a side, and level passes."""
    if params.compensation == "computer":
        return
    require(
        params.side != "on the curve",
        "compensation",
        "at the controller needs a side, and the tool runs on the curve.",
        "Choose a side, or compensate by computer.",
        params.compensation,
    )
    require(
        not params.ramp,
        "compensation",
        "at the controller cannot go on and off along a ramp.",
        "Switch the ramp off, or compensate by computer.",
        params.compensation,
    )


def _cut_chain(builder: PathBuilder, place: Workplace, params: Contour, chain: Chain) -> None:
    side = tool_side(params.side, chain)
    if side is None:
        place.skip(
            chain.label,
            "it is not clear on which side the tool belongs: there is part on both sides or on neither.",
            chain.place,
            "Choose inside, outside, left or right.",
        )
        return
    bottom = params.bottom_at(place.anchors, chain.level) + params.floor_allowance_mm
    plan = chain.curve.flattened(0.05)
    top = params.top_at(place.anchors, plan.min(axis=0), plan.max(axis=0), chain.level)
    if not np.isfinite(top):
        place.skip(
            chain.label, "no stock stands there.", chain.place, "Draw it over the stock, or set its top by number."
        )
        return
    top = max(top, bottom)
    levels = depth_levels(top, bottom, None if params.ramp else params.stepdown_mm)
    beside = _reach(place, params, chain, side, levels[-1])
    stages = _stages(place, chain, levels, beside)
    if beside > place.radius:
        place.skip(
            chain.label,
            f"the tool widens upwards: {beside - place.radius:.2f} mm stay at the foot of an upright wall.",
            chain.place,
            "Use a tool with upright sides for the last pass.",
        )
    for k in reversed(range(1 if side == "on" else params.side_passes)):
        for depths, reach in stages[-1:] if k == 0 and params.finish_at_once else stages:
            distance = reach + params.allowance_mm + k * params.side_step_mm + (k > 0) * params.finish_mm
            curves = offset_chain(chain.curve, side, distance, params.corners != "rolled")
            if not curves:
                place.skip(
                    chain.label,
                    f"nothing is left {distance:.2f} mm inside it: the tool ⌀{2 * place.radius:g} mm does not fit.",
                    chain.place,
                    "Use a smaller tool.",
                )
                return
            # Passes on the way to the last one go where there is something to take.
            worth = curves if k == 0 else [c for w in curves for c in place.where_stock_stands(w, depths[-1])]
            for curve in worth:
                for run in _allowed(place, params, chain, curve, depths[-1], side):
                    free = free_side(run, side, params.milling)
                    turned = run if free[1] else run.reversed()
                    wanted = depths[-1:] if k == 0 and params.finish_at_once else depths
                    _cut_pass(builder, place, params, _Pass(turned, free[0], k == 0), top, wanted)


def _reach(place: Workplace, params: Contour, chain: Chain, side: str, level: float) -> float:
    """How far the axis stays from a chain: the tool's radius, but by its width higher up where the tool widens upwards
    and most of the way along the chain would touch a wall that does not lean as it does."""
    wide = place.reach_beside_walls(level)
    if side == "on" or chain.fillet_mm > 0 or wide <= place.radius + TOUCH_MM:
        return place.radius
    near = place.radius + params.allowance_mm
    curves = offset_chain(chain.curve, side, near, params.corners != "rolled")
    ways = [shapely.linestrings(c.flattened(FLATTEN_MM)) for c in curves if len(c.points) > 1]
    if not ways:
        return place.radius
    way = shapely.multilinestrings(ways)
    low, high = np.reshape(shapely.bounds(way), (2, 2))
    touching = shapely.intersection(way, to_shape(place.blocked(level, near - TOUCH_MM, (low, high))))
    return wide if touching.length > 0.5 * way.length else place.radius


def _stages(place: Workplace, chain: Chain, levels: list[float], beside: float) -> list[tuple[list[float], float]]:
    """Levels that are cut at one distance from the chain, and that distance: all of them where a wall stands on it; one
    by one where a fillet rises from it."""
    if chain.fillet_mm <= 0:
        return [(levels, beside)]
    return [([z], reach_beside(place.end, place.radius, chain.fillet_mm, z - chain.level)) for z in levels]


def _allowed(place: Workplace, params: Contour, chain: Chain, curve: Curve, level: float, side: str) -> list[Curve]:
    """What of a pass the part, fixtures and other copies leave possible at its lowest level; the rest is told."""
    if side == "on":
        why = "the keep-out or the boundary forbids it"
        return place.free_pieces(curve, place.fenced, chain.label, level, "pass", why)
    line = curve.flattened(FLATTEN_MM)
    blocked = place.blocked(level, place.radius + params.allowance_mm - TOUCH_MM, (line.min(axis=0), line.max(axis=0)))
    why = "a wall, a fixture, a copy or a fence is nearer than the tool's radius"
    return place.free_pieces(curve, blocked, chain.label, level, "pass", why)


def _cut_pass(
    builder: PathBuilder, place: Workplace, params: Contour, one: _Pass, top: float, levels: list[float]
) -> None:
    """A pass at all its levels, with its ways in and out."""
    shares = [k / len(levels) for k in range(len(levels))] if params.start == "spread" else [0.0]
    found = [w for w in (_ways(place, params, one, levels[-1], share) for share in shares) if w is not None]
    if not found:
        return
    linker = place.linker(builder, place.radius + params.allowance_mm - TOUCH_MM)

    def start_over(begin: Points) -> float:
        stands = max(place.anchors.stock_over(begin - place.radius, begin + place.radius), levels[-1])
        return min(stands, max(top, levels[0])) + START_GAP_MM

    begin = found[0].begin
    builder.travel(float(begin[0]), float(begin[1]), start_over(begin))
    if params.ramp:
        _ramp(builder, params, one, found[0], top, levels[-1])
        return
    compensated = one.last and params.compensation != "computer"
    feed = builder.feeds.cutting * (params.finish_feed_percent / 100 if one.last and params.side_passes > 1 else 1.0)
    before: list[Points] = []
    for k, level in enumerate(levels):
        ways, deepest = found[k % len(found)], k == len(levels) - 1
        for _ in range(1 + (params.repeats if deepest and one.last else 0)):
            at = builder.place
            assert at is not None
            if np.abs(at[:2] - ways.begin).max() > 1e-9:
                linker.to(ways.begin, level, start_over(ways.begin), before)
            before = ways.lines(FLATTEN_MM)
            builder.enter(np.array([*ways.begin, level]))
            builder.side = _word(one) if compensated else 0
            builder.offset_mm = place.radius if params.compensation == "controller" else 0.0
            if ways.first is not None:
                builder.follow(ways.first, Kind.ENTRY)
            builder.next_pass()
            tabs = params.tabs if deepest and one.last else 0
            _follow_with_tabs(builder, ways.run, tabs, params, level, place.radius, feed)
            if ways.last is not None and compensated:
                head, off = _split_last(ways.last)
                builder.follow(head, Kind.EXIT)
                builder.side = 0
                builder.follow(off, Kind.EXIT)
            elif ways.last is not None:
                builder.follow(ways.last, Kind.EXIT)


def _ways(place: Workplace, params: Contour, one: _Pass, level: float, share: float) -> Ways | None:
    """A pass opened at its start, with ways in and out that touch nothing; None (and told) where compensation at the
    controller finds no room for them.

    Args:
        share: 0 to 1, by how much of a closed pass a spread start is moved on.
    """
    curve = one.curve
    run = begun_at(curve, _start_of(place, curve, params, share), params.overlap_mm) if curve.closed else curve
    size = params.lead_size(2 * place.radius)
    straight_mm = max(STRAIGHT_MM, 1.02 * place.radius) if params.compensation == "controller" else STRAIGHT_MM
    ground = _ground(place, params, run, level, max(size, params.run_on_mm) + straight_mm)
    if not curve.closed and params.run_on_mm > 0:
        run = run_on(run, params.run_on_mm, ground)
    if params.corners == "looped":
        run = with_loops(run, place.radius / 2, ground, one.free)
    compensated = one.last and params.compensation != "computer"
    if compensated and params.compensation == "controller":
        try:
            run = _as_the_controller_does(run, place.radius if one.free == "left" else -place.radius)
        except CompensationError as error:
            _no_compensation(place, run, level, f"the pass {error.what}.", "Compensate by computer.")
            return None
    if params.lead == "none" and not compensated:
        return Ways(None, run, None)
    straight = params.lead == "line"
    first = lead_in(run, size, params.lead_deg, ground, one.free, straight) if params.lead != "none" else None
    last = lead_out(run, size, params.lead_deg, ground, one.free, straight) if params.lead != "none" else None
    if not compensated:
        return Ways(first, run, last)
    onto = straight_on(first, straight_mm, ground, into=True) if first is not None else None
    off = straight_on(last, straight_mm, ground, into=False) if last is not None else None
    if onto is None or off is None:
        need = f"ways in and out that begin and end with {straight_mm:.2f} mm straight"
        need += ", longer than the offset" if params.compensation == "controller" else ""
        advice = "Choose arcs with a smaller entry size, start the pass elsewhere, or compensate by computer."
        reason = f"compensation at the controller needs {need}; there is no room for them."
        _no_compensation(place, run, level, reason, advice)
        return None
    return Ways(onto, run, off)


def _no_compensation(place: Workplace, run: Curve, level: float, reason: str, advice: str) -> None:
    x, y = (float(v) for v in run.points[0])
    place.skip("", reason, (x, y, level), advice)


def _as_the_controller_does(run: Curve, left_mm: float) -> Curve:
    """The way that the controller makes of the contour of a pass: what the tool will truly follow."""
    return as_curve(tool_way(written_contour(stretches_of(run), left_mm), left_mm))


def _ramp(builder: PathBuilder, params: Contour, one: _Pass, ways: Ways, top: float, bottom: float) -> None:
    """Down along the pass, then once level, and off it."""
    curve = one.curve
    builder.enter(np.array([*ways.begin, top]))
    once = piece_of(ways.run, 0.0, curve.length_mm()) if curve.closed else ways.run
    _sink(builder, params, ways.first, once, top, bottom, curve.closed)
    if curve.closed:
        builder.follow(ways.run, Kind.CUT)
    if ways.last is not None:
        builder.follow(ways.last, Kind.EXIT)


def _word(one: _Pass) -> int:
    """G41 with the tool on the left of its path (the free side), G42 on the right."""
    return 41 if one.free == "left" else 42


def _split_last(curve: Curve) -> tuple[Curve, Curve]:
    """A way out without its last stretch, and that stretch."""
    return Curve(curve.points[:-1], curve.bulges[:-1]), Curve(curve.points[-2:], curve.bulges[-1:])


def _sink(
    builder: PathBuilder, params: Contour, first: Curve | None, once: Curve, top: float, bottom: float, closed: bool
) -> None:
    """Down along the pass, a stepdown each turn (to and fro where open)."""
    if first is not None:
        builder.follow(first, Kind.ENTRY)
    builder.next_pass()
    heights = depth_levels(top, bottom, params.stepdown_mm or max(top - bottom, 1e-6))
    way = once
    for z in heights:
        builder.follow(way, Kind.CUT, to_mm=z)
        way = way if closed else way.reversed()
    if not closed:
        builder.follow(way, Kind.CUT)


def _ground(place: Workplace, params: Contour, run: Curve, level: float, size: float) -> Any:
    """Where ways in and out may lie: everywhere round the pass but near the part, fixtures and copies."""
    around = run.flattened(0.05)
    reach = 2 * size + 1.0
    low, high = around.min(axis=0) - reach, around.max(axis=0) + reach
    blocked = to_shape(place.blocked(level, place.radius + params.allowance_mm - TOUCH_MM, (low, high)))
    free = shapely.box(*low, *high).difference(blocked)
    shapely.prepare(free)
    return free


def _start_of(place: Workplace, curve: Curve, params: Contour, share: float) -> float:
    """How far along a closed curve it begins."""
    lengths = lengths_of(curve)
    if params.start == "as drawn":
        return 0.0
    if params.start == "near a place":
        near = np.array(place.given.zero[:2]) + [params.start_x_mm, params.start_y_mm]
        line = shapely.LineString(curve.flattened(0.01))
        return float(line.project(shapely.Point(near))) / line.length * float(lengths.sum())
    longest = int(lengths.argmax())
    before = float(lengths[:longest].sum())
    if params.start == "corner":
        return before
    return before + float(lengths[longest]) / 2 + (share * float(lengths.sum()) if params.start == "spread" else 0.0)


def _follow_with_tabs(
    builder: PathBuilder, run: Curve, tabs: int, params: Contour, level: float, radius: float, feed: float
) -> None:
    """Along a pass, lifted over evenly spread tabs."""
    if tabs == 0:
        builder.follow(run, Kind.CUT, feed=feed)
        return
    total = float(lengths_of(run).sum())
    half = params.tab_length_mm / 2 + radius
    middles = (np.arange(tabs) + 0.5) * total / tabs
    at = 0.0
    for middle in middles:
        low, high = max(middle - half, at), min(middle + half, total)
        if high <= low:
            continue
        if low > at:
            builder.follow(piece_of(run, at, low), Kind.CUT, feed=feed)
        here = piece_of(run, low, high)
        builder.cut(np.array([*here.points[0], level + params.tab_height_mm]))
        builder.follow(here, Kind.CUT, feed=feed)
        builder.cut(np.array([*here.points[-1], level]))
        at = high
    if total > at:
        builder.follow(piece_of(run, at, total), Kind.CUT, feed=feed)


def _on_purpose(params: Contour, cutter: Cutter) -> float:
    """How far a curve that is followed itself is cut below where it lies."""
    return params.below_geometry_mm if params.side == "on the curve" else 0.0


STRATEGY = Strategy(
    params=Contour,
    run=contour,
    version=10,
    meant_depth_mm=_on_purpose,
    group="Faces and pockets",
    cutters=(*mills("flat", "bull-nose"), *UNDERCUTTING),
    stage=3,
    of_diameter={"stepdown_mm": 0.4},
    finishes=lambda params: () if params.allowance_mm else ("upright",),
)

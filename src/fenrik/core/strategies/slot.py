"""Slot: along a centre line, in depth passes to and fro, or in circles (hard material, slots wider than the tool)."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from fenrik.core.sketches import Curve
from fenrik.core.sketches.curve import begun_at, lengths_of, piece_of
from fenrik.core.strategies.common import ARC_FIT_MM, MM, START_GAP_MM, Outcome, beside_when
from fenrik.core.strategies.declared import UNDERCUTTING, Strategy, mills
from fenrik.core.strategies.given import Given
from fenrik.core.strategies.ground.levels import depth_levels
from fenrik.core.strategies.leading import end_direction, start_direction
from fenrik.core.strategies.picked import MillingParams
from fenrik.core.strategies.prismatic import Workplace, need_targets
from fenrik.core.strategies.targets import Chain
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.units import LEAST_STEP_MM

LEAST_ROOM_MM = 0.05


class Slot(MillingParams):
    """Cuts slots along their centre lines."""

    strategy: Literal["slot"] = "slot"
    uses = "chains"
    way: Literal["to and fro", "in circles"] = Field(
        default="to and fro", title="Way", description="In circles keeps the engagement low"
    )
    width_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=500,
        title="Slot width",
        description="For circles; empty: 1.25 × the tool",
        json_schema_extra=MM,
    )
    advance_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=100,
        title="Advance",
        description="Of each circle; empty: a tenth of the tool",
        json_schema_extra=MM,
    )


def slot(given: Given, params: Slot) -> Outcome:
    """All slots; one that the part's walls are too near to is reported, the others are cut.

    Raises:
        FenrikError: when nothing is picked, or levels are too many.
    """
    place = Workplace.of(given)
    need_targets(given.targets.chains, given, "centre line", "Pick edges, or a sketch with lines.")
    builder = place.builder()
    builder.beside = beside_when(params.milling) if params.way == "in circles" else "both"
    for number, chain in enumerate(given.targets.chains):
        _cut_slot(builder, place, params, chain)
        given.progress((number + 1) / len(given.targets.chains), "cutting slots")
    return Outcome(builder.finish(), place.unreached)


def _cut_slot(builder: PathBuilder, place: Workplace, params: Slot, chain: Chain) -> None:
    width = params.width_mm or (1.25 * 2 * place.radius if params.way == "in circles" else 2 * place.radius)
    if width < 2 * place.radius - 1e-9:
        place.skip(
            chain.label,
            f"the slot is {width:g} mm wide and the tool {2 * place.radius:g} mm.",
            chain.place,
            f"Use a tool of at most {width:g} mm.",
        )
        return
    bottom = params.bottom_at(place.anchors, chain.level) + params.floor_allowance_mm
    plan = chain.curve.flattened(0.05)
    blocked = place.blocked(
        bottom, width / 2 + params.allowance_mm - 3 * ARC_FIT_MM, (plan.min(axis=0), plan.max(axis=0))
    )
    why = f"a wall, a keep-out or the boundary is nearer to the centre line than half the slot ({width / 2:.2f} mm)"
    pieces = place.free_pieces(chain.curve, blocked, chain.label, bottom, "slot", why)
    top = params.top_at(place.anchors, plan.min(axis=0), plan.max(axis=0), chain.level)
    if not np.isfinite(top):
        place.skip(
            chain.label, "no stock stands there.", chain.place, "Draw it over the stock, or set its top by number."
        )
        return
    if top <= bottom:
        return
    levels = depth_levels(top, bottom, params.stepdown_mm)
    for piece in pieces:
        run = begun_at(piece, 0.0) if piece.closed else piece
        if params.way == "in circles":
            _circles(builder, place, params, run, levels, top, (width - 2 * place.radius) / 2)
        else:
            _to_and_fro(builder, run, levels, top, piece.closed)


def _to_and_fro(builder: PathBuilder, run: Curve, levels: list[float], top: float, closed: bool) -> None:
    """Along the line, sinking on the way there, level on the way back."""
    builder.travel(float(run.points[0][0]), float(run.points[0][1]), top + START_GAP_MM)
    builder.enter(np.array([*run.points[0], top]))
    way = run
    for z in levels:
        builder.next_pass()
        builder.follow(way, Kind.ENTRY, to_mm=z)
        way = way if closed else way.reversed()
    builder.next_pass()
    builder.follow(way, Kind.CUT)


def _circles(
    builder: PathBuilder, place: Workplace, params: Slot, run: Curve, levels: list[float], top: float, radius: float
) -> None:
    """Circles one after another along the line; the half that cuts is climb, the other half is in cleared ground."""
    if radius < LEAST_ROOM_MM:
        place.skip(
            "slot", "leaves no room for circles.", (float(run.points[0][0]), float(run.points[0][1]), levels[-1]),
            "Make the slot wider, use a smaller tool, or cut to and fro.",
        )  # fmt: skip
        return
    total = float(lengths_of(run).sum())
    step = params.advance_mm or 0.1 * 2 * place.radius
    count = max(int(np.ceil(total / step)), 1)
    turn = 1.0 if params.milling == "climb" else -1.0
    marks = [piece_of(run, 0.0, max(total * k / count, 1e-6)) for k in range(1, count + 1)]
    middles = np.array([run.points[0], *(m.points[-1] for m in marks)])
    alongs = np.array([start_direction(run), *(end_direction(m) for m in marks)])
    for z, above in zip(levels, [top, *levels], strict=False):
        _sink_in_circle(builder, middles[0], alongs[0], radius, turn, above, z)
        builder.next_pass()
        for middle, along in zip(middles[1:], alongs[1:], strict=True):
            side = np.array([-along[1], along[0]])
            builder.cut(np.array([*(middle - turn * side * radius), z]))
            first = float(np.degrees(np.arctan2(*(-turn * side)[::-1])))
            builder.follow(Curve.arc(middle, radius, first, turn * 180.0), Kind.CUT)
            builder.follow(Curve.arc(middle, radius, first + turn * 180.0, turn * 180.0), Kind.LINK)
        builder.lift_off()


def _sink_in_circle(
    builder: PathBuilder, middle: np.ndarray, along: np.ndarray, radius: float, turn: float, above: float, level: float
) -> None:
    side = np.array([-along[1], along[0]])
    start = middle - turn * side * radius
    builder.travel(float(start[0]), float(start[1]), above + START_GAP_MM)
    builder.enter(np.array([*start, above]))
    first = float(np.degrees(np.arctan2(*(-turn * side)[::-1])))
    for z in depth_levels(above, level, max(0.1 * radius, 0.2)):
        builder.follow(Curve.arc(middle, radius, first, turn * 360.0), Kind.ENTRY, to_mm=z)
    builder.follow(Curve.arc(middle, radius, first, turn * 360.0), Kind.ENTRY)


STRATEGY = Strategy(
    params=Slot,
    run=slot,
    version=6,
    group="Faces and pockets",
    cutters=(*mills("flat"), *UNDERCUTTING),
    stage=2,
    of_diameter={"stepdown_mm": 0.4},
)

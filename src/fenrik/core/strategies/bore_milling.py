"""Bore milling: holes by a helix, wider ones in rounds from the middle outwards, with a full circle at the floor."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from fenrik.core.sketches import Curve
from fenrik.core.strategies.common import MM, START_GAP_MM, Outcome, beside_when
from fenrik.core.strategies.declared import Strategy, mills
from fenrik.core.strategies.given import IN_PLACE, Given
from fenrik.core.strategies.ground.levels import depth_levels
from fenrik.core.strategies.picked import MillingParams
from fenrik.core.strategies.prismatic import Workplace, need_targets
from fenrik.core.strategies.targets import HolePlace
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.toolpath.tour import Order, visiting_order
from fenrik.core.units import LEAST_STEP_MM

CORE_SHARE = 0.95
"""The first round stays within this share of the radius from the middle, so that no core is left."""
LEAST_RADIUS_MM = 0.02


class BoreMilling(MillingParams):
    """Mills holes round."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "finish_turns",
        "order",
    )

    strategy: Literal["bore milling"] = "bore milling"
    uses = "holes"
    stepdown_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=100,
        title="Depth per turn",
        description="Empty: a fifth of the tool",
        json_schema_extra=MM,
    )
    stepover_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=100,
        title="Stepover",
        description="Empty: four tenths of the tool",
        json_schema_extra=MM,
    )
    finish_mm: float = Field(
        default=0.0, ge=0, le=10, title="Finish", description="Left for a last round", json_schema_extra=MM
    )
    finish_turns: int = Field(default=1, ge=1, le=10, title="Finishing turns")
    break_through_mm: float = Field(
        default=0.5, ge=0, le=50, title="Break-through", description="Below through holes", json_schema_extra=MM
    )
    order: Order = Field(default="shortest way", title="Order")


def bore_milling(given: Given, params: BoreMilling) -> Outcome:
    """All holes; those that the tool does not fit are reported, the others are cut.

    Raises:
        FenrikError: when there is no hole at all.
    """
    place = Workplace.of(given)
    need_targets(given.targets.holes, given, "hole", "Pick bores, or a sketch with circles.")
    fits = [h for h in place.holes_from_above() if _fits(place, params, h)]
    builder = place.builder()
    builder.beside = beside_when(params.milling)
    order = visiting_order([h.xy for h in fits], params.order)
    for number, k in enumerate(order.tolist()):
        _mill(builder, place, params, fits[k])
        given.progress((number + 1) / len(fits), "milling bores")
    return Outcome(builder.finish(), place.unreached)


def _fits(place: Workplace, params: BoreMilling, hole: HolePlace) -> bool:
    room = hole.diameter / 2 - place.radius - params.allowance_mm - params.finish_mm
    if room >= LEAST_RADIUS_MM:
        return True
    need = 2 * (hole.diameter / 2 - params.allowance_mm - params.finish_mm - LEAST_RADIUS_MM)
    place.skip(
        hole.label,
        f"⌀{hole.diameter:g} is too small for the tool ⌀{2 * place.radius:g} and what it leaves for finishing.",
        hole.place,
        f"Use a tool of at most ⌀{max(need, 0):.2f}, or drill and ream it.",
    )
    return False


def _mill(builder: PathBuilder, place: Workplace, params: BoreMilling, hole: HolePlace) -> None:
    radius = place.radius
    reach = np.full(2, hole.diameter / 2)
    top = max(params.top_at(place.anchors, hole.xy - reach, hole.xy + reach, hole.top), hole.bottom)
    bottom = hole.bottom - (params.break_through_mm if hole.through else 0.0) + params.floor_allowance_mm
    bottom = params.bottom_at(place.anchors, bottom)
    if not np.isfinite(top):
        top = hole.top
    widest = hole.diameter / 2 - radius - params.allowance_mm
    rough = widest - params.finish_mm
    step = params.stepover_mm or 0.4 * 2 * radius
    pitch = params.stepdown_mm or 0.2 * 2 * radius
    first = min(rough, CORE_SHARE * radius)
    rounds = [first, *np.linspace(first, rough, int(np.ceil((rough - first) / step - 1e-9)) + 1)[1:].tolist()]
    # Where the flutes are shorter than the bore is deep, every round goes down from the top.
    deep = top - bottom > place.given.cutter.flute_length_mm
    for k, r in enumerate(rounds):
        _go_in(builder, hole, top, begins=k == 0, deep=deep)
        _round(builder, params, hole, r, top if k == 0 or deep else None, bottom, pitch)
    for k in range(params.finish_turns if params.finish_mm > 0 else 0):
        _go_in(builder, hole, top, begins=False, deep=deep and k == 0)
        _round(builder, params, hole, widest, top if deep and k == 0 else None, bottom, pitch)
    builder.follow(Curve.polyline([builder.place[:2], hole.xy]), Kind.EXIT)  # type: ignore[index]


def _go_in(builder: PathBuilder, hole: HolePlace, top: float, begins: bool, deep: bool) -> None:
    """Over the middle of the bore, where a round begins at its top."""
    if deep and not begins:
        builder.follow(Curve.polyline([builder.place[:2], hole.xy]), Kind.EXIT)  # type: ignore[index]
    if deep or begins:
        builder.travel(hole.x, hole.y, top + START_GAP_MM)


def _round(
    builder: PathBuilder, params: BoreMilling, hole: HolePlace, r: float, top: float | None, bottom: float, pitch: float
) -> None:
    """One round: down by a helix from the top (or straight out at the floor's level), then a full circle."""
    turn = 1.0 if params.milling == "climb" else -1.0
    start = hole.xy + np.array([r, 0.0])
    circle = Curve.arc(hole.xy, r, 0.0, turn * 360.0)
    at = builder.place
    assert at is not None
    if top is not None:
        builder.approach(np.array([*start, at[2]]))
        builder.approach(np.array([*start, top]))
        builder.next_pass()
        for z in depth_levels(top, bottom, pitch):
            builder.follow(circle, Kind.CUT, to_mm=z)
    else:
        _spread(builder, hole, float(np.linalg.norm(at[:2] - hole.xy)), r, turn)
    builder.next_pass()
    builder.follow(circle, Kind.CUT)


def _spread(builder: PathBuilder, hole: HolePlace, inner: float, outer: float, turn: float) -> None:
    """From one circle onto a wider one by two half circles that touch both, at the deepest level reached."""
    mid = (inner + outer) / 2
    half = (inner + mid) / 2
    left = hole.xy - np.array([mid, 0.0])
    builder.follow(Curve.arc((builder.place[:2] + left) / 2, half, 0.0, turn * 180.0), Kind.CUT)  # type: ignore[index]
    right = hole.xy + np.array([outer, 0.0])
    builder.follow(Curve.arc((left + right) / 2, (mid + outer) / 2, 180.0, turn * 180.0), Kind.CUT)


STRATEGY = Strategy(
    params=BoreMilling,
    run=bore_milling,
    version=7,
    group="Holes",
    needs=IN_PLACE,
    cutters=(*mills("flat", "bull-nose"), "slotting cutter", "lollipop"),
    in_hole=lambda params: 2,
    finishes=lambda params: ("hole",),
)

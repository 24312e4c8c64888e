"""Drilling: spot, drill, peck, chip-break, ream, bore and tap, by canned cycles where the controller has them.

The motions are those of the RS274/NGC cycles (NIST report), so that a cycle read back equals them. Depths follow from
the holes: of the full diameter or the tip, through by an amount, never past the end of a blind hole.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from fenrik.core.cutting.threads import standard_threads
from fenrik.core.frames import Points
from fenrik.core.strategies.common import MM, Outcome
from fenrik.core.strategies.declared import LAST_IN_HOLE, Strategy, mills, thread_depth
from fenrik.core.strategies.given import IN_PLACE, Given
from fenrik.core.strategies.picked import TargetParams
from fenrik.core.strategies.prismatic import Workplace, need_targets
from fenrik.core.strategies.targets import HolePlace
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.tour import Order, visiting_order
from fenrik.core.tools.cutters import Drill, Reamer, Tap
from fenrik.core.units import LEAST_STEP_MM

Cycle = Literal[
    "spot", "drill", "peck", "chip-break", "deep hole", "ream", "bore", "bore, stop", "tap", "tap, left hand"
]
CYCLES: dict[str, int] = {
    "drill": 81,
    "spot": 82,
    "peck": 83,
    "chip-break": 73,
    "tap": 84,
    "tap, left hand": 74,
    "ream": 85,
    "bore, stop": 86,
    "bore": 89,
    "deep hole": 0,
}
"""Words of RS274/NGC; 0 for what none of them does, which is written motion by motion."""
BACK_OFF_MM = 0.254
"""How far pecks back off: 0.010 in, as in the NIST report."""
FIT_MM = 0.02


class Drilling(TargetParams):
    """Holes along the tool's axis."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "added_mm",
        "next_peck_percent",
        "least_peck_mm",
        "start_gap_mm",
        "order",
    )

    strategy: Literal["drilling"] = "drilling"
    uses = "holes"
    heights = ()
    idle = ("allowance_mm", "floor_allowance_mm")
    cycle: Cycle = Field(default="drill", title="Cycle")
    depth_from: Literal["full diameter", "tip"] = Field(
        default="full diameter", title="Depth of", description="What reaches the bottom"
    )
    depth_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=2000,
        title="Depth",
        description="Empty: as deep as the hole",
        json_schema_extra=MM,
    )
    spot_diameter_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=200,
        title="Spot diameter",
        description="Empty: the hole's own chamfer, else nine tenths of the hole",
        json_schema_extra=MM,
    )
    break_through_mm: float = Field(
        default=1.0,
        ge=0,
        le=50,
        title="Break-through",
        description="Full diameter below a through hole",
        json_schema_extra=MM,
    )
    added_mm: float = Field(
        default=0.0, ge=-50, le=50, title="Added depth", description="For taps and reamers", json_schema_extra=MM
    )
    peck_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=500,
        title="Peck",
        description="Empty: the tool's diameter",
        json_schema_extra=MM,
    )
    next_peck_percent: float = Field(
        default=80,
        ge=1,
        le=100,
        title="Next peck",
        description="Share of the one before; deep hole",
        json_schema_extra={"unit": "%"},
    )
    least_peck_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=500,
        title="Least peck",
        description="Empty: a third of the diameter; deep hole",
        json_schema_extra=MM,
    )
    dwell_s: float = Field(
        default=0.2,
        ge=0,
        le=60,
        title="Dwell",
        description="At the bottom; spot and bore",
        json_schema_extra={"unit": "s"},
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


def drilling(given: Given, params: Drilling) -> Outcome:
    """All holes of the operation; those that cannot be made are reported, the others are cut.

    Raises:
        FenrikError: when there is no hole at all.
    """
    place = Workplace.of(given)
    need_targets(given.targets.holes, given, "hole", "Pick bores, or a sketch with points or circles.")
    jobs = [(h, z) for h in place.holes_from_above() if (z := depth_of(given, params, h, place)) is not None]
    builder = place.builder()
    feed = given.feeds.cutting
    cutter = given.cutter
    if isinstance(cutter, Tap):
        feed = cutter.pitch_mm * given.rpm
        builder.spindle = 1 if cutter.hand == "right" else -1
    order = visiting_order([h.xy for h, _ in jobs], params.order)
    for number, k in enumerate(order.tolist()):
        hole, bottom = jobs[k]
        reach = np.full(2, cutter.radius_mm)
        upper = max(hole.top, place.anchors.stock_over(hole.xy - reach, hole.xy + reach))
        start = upper + params.start_gap_mm
        go_over(builder, hole.xy, start)
        pecks = _pecks(params, cutter.diameter_mm)
        drill_hole(builder, params.cycle, number, hole.xy, start, bottom, feed, pecks, params.dwell_s)
        given.progress((number + 1) / len(jobs), "drilling")
    return Outcome(builder.finish(), place.unreached)


@dataclass(frozen=True)
class Pecks:
    """How deep each peck goes: the first, the share that each next one has of it, and the least."""

    first_mm: float
    share: float = 1.0
    least_mm: float = 0.0

    def levels(self, start: float, bottom: float) -> list[float]:
        """Heights at which pecks end before the last, which ends at the bottom."""
        found, depth, peck = [], start, self.first_mm
        while depth - peck > bottom + 1e-9:
            depth -= peck
            found.append(depth)
            peck = min(peck, max(peck * self.share, self.least_mm))
        return found


def _pecks(params: Drilling, diameter_mm: float) -> Pecks:
    first = params.peck_mm or diameter_mm
    if params.cycle != "deep hole":
        return Pecks(first)
    return Pecks(first, params.next_peck_percent / 100, params.least_peck_mm or diameter_mm / 3)


def go_over(builder: PathBuilder, xy: Points, start: float) -> None:
    """Up to a height that clears what stands on the way, no higher; the cycle itself goes over and down."""
    height = max(builder.height_to(float(xy[0]), float(xy[1])), start)
    if builder.place is None:
        builder.travel(float(xy[0]), float(xy[1]), height)
    elif height > builder.place[2] + 1e-9:
        builder.retract(height)


def drill_hole(
    builder: PathBuilder,
    cycle: Cycle,
    number: int,
    xy: Points,
    start: float,
    bottom: float,
    feed: float,
    pecks: Pecks,
    dwell_s: float,
) -> None:
    """One hole from over it: what the cycle of RS274/NGC does, motion by motion."""
    x, y = float(xy[0]), float(xy[1])
    pecked = cycle in ("peck", "chip-break", "deep hole")
    builder.begin_cycle(CYCLES[cycle], number, pecks.first_mm if pecked and CYCLES[cycle] else 0.0)
    at = builder.place
    if at is not None:
        builder.rapid(np.array([x, y, at[2]]))
    builder.rapid(np.array([x, y, start]))
    for depth in pecks.levels(start, bottom) if pecked else []:
        builder.cut_at(np.array([x, y, depth]), feed)
        back = min(depth + BACK_OFF_MM, start)
        out = np.array([[x, y, start], [x, y, back]])
        builder.rapid(out[1] if cycle == "chip-break" else out)
    turning = builder.spindle
    builder.cut_at(np.array([x, y, bottom]), feed)
    if cycle in ("spot", "bore", "bore, stop"):
        builder.dwell(dwell_s)
    if cycle in ("tap", "tap, left hand"):
        builder.spindle = -turning
        builder.cut_at(np.array([x, y, start]), feed)
    elif cycle in ("ream", "bore"):
        builder.cut_at(np.array([x, y, start]), feed)
    else:
        builder.spindle = 0 if cycle == "bore, stop" else turning
        builder.rapid(np.array([x, y, start]))
    builder.spindle = turning
    builder.end_cycle()


def depth_of(given: Given, params: Drilling, hole: HolePlace, place: Workplace) -> float | None:
    """The height that the tip goes down to; None (and a report) where the hole cannot be made with this tool."""
    cutter = given.cutter
    reason = _misfit(params, hole, given)
    if reason is not None:
        place.skip(hole.label, reason[0], hole.place, reason[1])
        return None
    point = _point_mm(cutter)
    if params.cycle == "spot":
        tip = hole.top - _spot_depth(params, hole, cutter)
    elif params.depth_mm is not None:
        tip = hole.top - params.depth_mm - (point if params.depth_from == "full diameter" else 0.0)
    elif hole.through:
        tip = hole.bottom - params.break_through_mm - point
    elif params.depth_from == "tip":
        tip = hole.tip
    else:
        tip = hole.bottom - point
    if isinstance(cutter, Tap) and params.depth_mm is None and not hole.through:
        tip = hole.bottom + cutter.pitch_mm
    tip -= params.added_mm
    if not hole.through and tip < hole.tip - 1e-6:
        if params.depth_mm is not None or params.added_mm > 0:
            deep, has = hole.top - tip, hole.top - hole.tip
            place.skip(
                hole.label,
                f"the tip would go {deep:.2f} mm deep and the hole ends at {has:.2f} mm.",
                hole.place,
                f"Use a depth of at most {has - (point if params.depth_from == 'full diameter' else 0):.2f} mm.",
            )
            return None
        if params.cycle != "spot":
            left = hole.tip - tip
            tip = hole.tip
            place.skip(
                hole.label,
                f"the point of the tool leaves {left:.2f} mm of the full diameter uncut at the flat bottom.",
                (hole.x, hole.y, hole.tip),
                "Mill the bottom with a flat cutter.",
            )
    longest = cutter.flute_length_mm
    depth = hole.top - tip
    if depth > longest + 1e-6 and not isinstance(cutter, Reamer):
        place.skip(
            hole.label,
            f"is {depth:.1f} mm deep and the tool cuts {longest:.1f} mm.",
            hole.place,
            "Use a longer tool.",
        )
        return None
    return tip


def _point_mm(cutter: object) -> float:
    """What of the tool's end does not have the full diameter."""
    if isinstance(cutter, Drill):
        return cutter.point_mm
    if isinstance(cutter, Reamer | Tap):
        return cutter.lead_mm
    return 0.0


def _spot_depth(params: Drilling, hole: HolePlace, cutter: object) -> float:
    """How deep a point goes for the diameter that is asked for."""
    angle = getattr(cutter, "point_deg", getattr(cutter, "included_deg", 90.0))
    own = hole.mouth_mm if hole.mouth_mm and abs(hole.mouth_deg - angle) < 1.0 else 0.9 * hole.diameter
    wanted = params.spot_diameter_mm or own
    wanted = min(wanted, getattr(cutter, "diameter_mm", wanted))
    flat = getattr(cutter, "tip_diameter_mm", 0.0)
    return max(wanted - flat, 0.0) / 2 / math.tan(math.radians(angle / 2))


def _misfit(params: Drilling, hole: HolePlace, given: Given) -> tuple[str, str] | None:
    """Why the tool does not fit the hole, and what would work."""
    cutter = given.cutter
    d = cutter.diameter_mm
    tapping = params.cycle in ("tap", "tap, left hand")
    if tapping != isinstance(cutter, Tap):
        return (
            (f"a tapping cycle needs a tap; the tool is a {cutter.kind}.", "Choose a tap, or another cycle.")
            if tapping
            else ("a tap needs a tapping cycle.", "Choose the cycle tap.")
        )
    if isinstance(cutter, Tap):
        if (cutter.hand == "left") != (params.cycle == "tap, left hand"):
            return f"the tap is {cutter.hand} hand.", "Choose the cycle of the same hand."
        known = [standard_threads()[t] for t in hole.threads]
        if hole.diameter >= d or (
            known and not any(abs(t.major_mm - d) < 0.01 and abs(t.pitch_mm - cutter.pitch_mm) < 1e-6 for t in known)
        ):
            fits = ", ".join(hole.threads) or "no thread"
            return (
                f"⌀{hole.diameter:g} is not the tap drill of {d:g} × {cutter.pitch_mm:g} ({fits}).",
                "Change the tap.",
            )
        return None
    if params.cycle == "spot":
        return None
    if d > hole.diameter + FIT_MM:
        return f"the tool ⌀{d:g} is wider than the hole ⌀{hole.diameter:g}.", f"Use at most ⌀{hole.diameter:g}."
    if params.cycle == "ream" and abs(d - hole.diameter) > FIT_MM:
        return f"the reamer ⌀{d:g} does not finish a hole of ⌀{hole.diameter:g}.", "Choose the reamer of its size."
    return None


IN_HOLE = {"spot": 0, "drill": 1, "peck": 1, "chip-break": 1, "deep hole": 1, "ream": 3, "bore": 3, "bore, stop": 3}
"""Turns of the cycles among rows on one hole."""

STRATEGY = Strategy(
    params=Drilling,
    run=drilling,
    version=4,
    group="Holes",
    needs=(*IN_PLACE, "rpm"),
    cutters=(
        "drill",
        "spot drill",
        "centre drill",
        "reamer",
        "tap",
        "boring head",
        *mills("flat", without=("face mill",)),
    ),
    meant_depth_mm=thread_depth,
    in_hole=lambda params: IN_HOLE.get(params.cycle, LAST_IN_HOLE),
    makes=lambda params: "nothing" if params.cycle == "spot" else "what is picked",
    finishes=lambda params: ("mouth",) if params.cycle == "spot" else ("hole",),
)

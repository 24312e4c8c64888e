"""Thread milling: inside and outside, right and left hand, with one tooth or a row of them.

A thread is a helix of the thread's lead; seen from above the tool goes round the axis at the distance that puts its
teeth on the major (inside) or minor (outside) diameter of ISO 724. It enters and leaves by half circles, along which it
keeps climbing by the lead. An internal right-hand thread from the bottom up is climb milling (common practice).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from fenrik.core.cutting.threads import MINOR_FACTOR, standard_threads
from fenrik.core.frames import Points
from fenrik.core.sketches import Curve
from fenrik.core.strategies.common import MM, START_GAP_MM, Outcome, beside_when
from fenrik.core.strategies.declared import Strategy, thread_depth
from fenrik.core.strategies.given import IN_PLACE, Given
from fenrik.core.strategies.picked import Milling, TargetParams
from fenrik.core.strategies.prismatic import Workplace, need_targets
from fenrik.core.strategies.targets import HolePlace
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.toolpath.tour import Order, visiting_order
from fenrik.core.tools.cutters import ThreadMill
from fenrik.core.units import LEAST_STEP_MM

TAPER_STEP_DEG = 3.0


class ThreadMilling(TargetParams):
    """Cuts threads by circling."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "hand",
        "milling",
        "repeats",
        "wear_mm",
        "run_out_mm",
        "taper_ratio",
        "order",
    )

    strategy: Literal["thread milling"] = "thread milling"
    uses = "holes"
    heights = ()
    idle = ("allowance_mm", "floor_allowance_mm")
    thread: str = Field(
        default="", max_length=20, title="Thread", description="M12, 1/2-13 UNC …; empty: by hole and cutter"
    )
    where: Literal["inside", "outside"] = Field(default="inside", title="Thread is")
    hand: Literal["right", "left"] = Field(default="right", title="Hand")
    milling: Milling = Field(default="climb", title="Milling")
    depth_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=500,
        title="Thread length",
        description="Empty: the whole bore",
        json_schema_extra=MM,
    )
    passes: int = Field(default=1, ge=1, le=10, title="Passes", description="Radial, the last takes the least")
    repeats: int = Field(default=0, ge=0, le=5, title="Repeats", description="The last pass again, without infeed")
    wear_mm: float = Field(
        default=0.0,
        ge=-1,
        le=1,
        title="Wear",
        description="Added to the radius of the path inside",
        json_schema_extra=MM,
    )
    run_out_mm: float = Field(
        default=0.0, ge=0, le=50, title="Run-out", description="Above the opening", json_schema_extra=MM
    )
    taper_ratio: float = Field(
        default=0.0, ge=0, le=0.5, title="Taper", description="Diameter lost with each length; 0.0625 for pipe threads"
    )
    order: Order = Field(default="shortest way", title="Order")


@dataclass(frozen=True)
class _Round:
    """One radial pass: round the hole at a radius, from a start height, rising by `lift` each of its turns.

    Attributes:
        turn: 1 anticlockwise seen from above, −1 clockwise. clear: height of rapids over the hole.
    """

    hole: HolePlace
    radius: float
    start: float
    lift: float
    turns: float
    turn: float
    clear: float
    taper_ratio: float


def thread_milling(given: Given, params: ThreadMilling) -> Outcome:
    """All threads; what does not go is reported, the others are cut.

    Raises:
        FenrikError: when there is no hole at all.
    """
    place = Workplace.of(given)
    need_targets(given.targets.holes, given, "hole", "Pick bores, or a sketch with circles.")
    jobs = [(h, size) for h in place.holes_from_above() if (size := _size_of(place, params, h)) is not None]
    builder = place.builder()
    builder.beside = beside_when(params.milling)
    order = visiting_order([h.xy for h, _ in jobs], params.order)
    for number, k in enumerate(order.tolist()):
        hole, (major, pitch) = jobs[k]
        _cut_thread(builder, place, params, hole, major, pitch)
        given.progress((number + 1) / len(jobs), "milling threads")
    return Outcome(builder.finish(), place.unreached)


def _size_of(place: Workplace, params: ThreadMilling, hole: HolePlace) -> tuple[float, float] | None:
    """Nominal diameter and pitch; None (and a report) where hole, thread and cutter do not agree."""
    cutter = place.given.cutter
    if not isinstance(cutter, ThreadMill):
        place.skip(hole.label, f"a {cutter.kind} cuts no thread.", hole.place, "Choose a thread mill.")
        return None
    known = standard_threads()
    if params.thread and params.thread not in known:
        place.skip(
            hole.label, f"{params.thread} is not a thread that Fenrik knows.", hole.place, "Use for example M12."
        )
        return None
    names = [params.thread] if params.thread else list(hole.threads)
    if not names:
        place.skip(hole.label, f"⌀{hole.diameter:g} is no tap drill of a known thread.", hole.place, "Name the thread.")
        return None
    fits = [known[n] for n in names if abs(known[n].pitch_mm - cutter.pitch_mm) < 1e-6]
    if not fits:
        pitches = ", ".join(f"{n}: {known[n].pitch_mm:g} mm" for n in names)
        place.skip(
            hole.label,
            f"the cutter's pitch {cutter.pitch_mm:g} mm is not that of the thread ({pitches}).",
            hole.place,
            "Choose a thread mill of that pitch.",
        )
        return None
    thread = fits[0]
    if params.where == "inside" and cutter.diameter_mm >= thread.minor_mm:
        place.skip(
            hole.label,
            f"the cutter ⌀{cutter.diameter_mm:g} does not go into {thread.name} (⌀{thread.minor_mm:.2f}).",
            hole.place,
            "Choose a smaller thread mill.",
        )
        return None
    length = params.depth_mm or (hole.top - hole.bottom)
    if not hole.through and params.where == "inside" and length > hole.top - hole.bottom + 1e-6:
        place.skip(
            hole.label,
            f"the thread would be {length:.1f} mm long and the bore is {hole.top - hole.bottom:.1f} mm deep.",
            hole.place,
            "Shorten the thread.",
        )
        return None
    return thread.major_mm, thread.pitch_mm


def _cut_thread(
    builder: PathBuilder, place: Workplace, params: ThreadMilling, hole: HolePlace, major: float, pitch: float
) -> None:
    cutter = place.given.cutter
    assert isinstance(cutter, ThreadMill)
    inside = params.where == "inside"
    depth = (major - (hole.diameter if inside else major - MINOR_FACTOR * pitch)) / 2
    full = (major - cutter.diameter_mm) / 2 + params.wear_mm
    if not inside:
        full = (major - MINOR_FACTOR * pitch + cutter.diameter_mm) / 2 - params.wear_mm
    low = hole.top - (params.depth_mm or (hole.top - hole.bottom))
    high = hole.top + params.run_out_mm
    turns = _turns(cutter, pitch, high - low)
    up, turn = direction(params)
    infeed = [
        full + (-1 if inside else 1) * depth * (1 - np.sqrt((k + 1) / params.passes)) for k in range(params.passes)
    ]
    infeed += [full] * params.repeats
    clear = hole.top + max(params.run_out_mm, 0.0) + START_GAP_MM
    for radius in infeed:
        start = low if up else low + turns * pitch
        lift = pitch if up else -pitch
        one = _Round(hole, radius, start, lift, turns, turn, clear, params.taper_ratio)
        if inside:
            _inside(builder, one)
        else:
            _outside(builder, one, cutter.diameter_mm)


def _turns(cutter: ThreadMill, pitch: float, length: float) -> float:
    """Turns of the helix: a row of teeth cuts its own length at once and needs one turn to join."""
    if cutter.teeth == "single":
        return length / pitch
    rows = max(int(cutter.flute_length_mm // pitch) - 1, 1)
    return max(float(np.ceil(length / (rows * pitch) - 1e-9)), 1.0)


def direction(params: ThreadMilling) -> tuple[bool, float]:
    """Whether the tool climbs, and which way it goes round (1 anticlockwise seen from above).

    Inside, climb milling goes anticlockwise, outside clockwise; a right-hand thread rises anticlockwise.
    """
    turn = 1.0 if (params.milling == "climb") == (params.where == "inside") else -1.0
    return (turn > 0) == (params.hand == "right"), turn


def _inside(builder: PathBuilder, one: _Round) -> None:
    """Down the middle, a half circle out to the thread, round, a half circle back, up."""
    xy = one.hole.xy
    builder.travel(one.hole.x, one.hole.y, one.clear)
    builder.approach(np.array([*xy, one.start - one.lift / 2]))
    edge = xy + np.array([one.radius, 0.0])
    half_in = Curve.arc((xy + edge) / 2, one.radius / 2, 180.0, one.turn * 180.0)
    builder.follow(half_in, Kind.ENTRY, to_mm=one.start)
    builder.next_pass()
    end = _helix(builder, one)
    first = float(np.degrees(np.arctan2(*(end - xy)[::-1])))
    half_out = Curve.arc((xy + end) / 2, one.radius / 2, first, one.turn * 180.0)
    builder.follow(half_out, Kind.EXIT, to_mm=one.start + one.lift * (one.turns + 0.5))


def _outside(builder: PathBuilder, one: _Round, lead: float) -> None:
    """Down beside the boss, a quarter circle in, round, a quarter circle off, up."""
    xy = one.hole.xy
    edge = xy + np.array([one.radius, 0.0])
    # Going round with the boss on one side, the way in curves from the other.
    way_in = Curve.arc(edge + np.array([lead, 0.0]), lead, 180.0 + one.turn * 90.0, -one.turn * 90.0)
    builder.travel(float(way_in.points[0][0]), float(way_in.points[0][1]), one.clear)
    builder.approach(np.array([*way_in.points[0], one.start - one.lift / 4]))
    builder.follow(way_in, Kind.ENTRY, to_mm=one.start)
    builder.next_pass()
    end = _helix(builder, one)
    out = (end - xy) / np.linalg.norm(end - xy)
    away = float(np.degrees(np.arctan2(-out[1], -out[0])))
    way_out = Curve.arc(end + lead * out, lead, away, -one.turn * 90.0)
    builder.follow(way_out, Kind.EXIT, to_mm=one.start + one.lift * (one.turns + 0.25))


def _helix(builder: PathBuilder, one: _Round) -> Points:
    """Round and round by the lead; gives where it ends. With a taper in short chords, the radius following the cone."""
    xy = one.hole.xy
    if one.taper_ratio > 0:
        count = int(np.ceil(one.turns * 360 / TAPER_STEP_DEG))
        t = np.arange(1, count + 1) / count * one.turns
        z = one.start + one.lift * t
        wide = one.radius - one.taper_ratio / 2 * (one.hole.top - z)
        angle = one.turn * 2 * np.pi * t
        places = xy + wide[:, None] * np.column_stack([np.cos(angle), np.sin(angle)])
        builder.cut(np.column_stack([places, z]))
        return np.asarray(places[-1])
    whole = int(np.floor(one.turns + 1e-9))
    for k in range(whole):
        circle = Curve.arc(xy, one.radius, 0.0, one.turn * 360.0)
        builder.follow(circle, Kind.CUT, to_mm=one.start + one.lift * (k + 1))
    rest = one.turns - whole
    if rest > 1e-6:
        arc = Curve.arc(xy, one.radius, 0.0, one.turn * 360.0 * rest)
        builder.follow(arc, Kind.CUT, to_mm=one.start + one.lift * one.turns)
    end = one.turn * 2 * np.pi * rest
    return xy + one.radius * np.array([np.cos(end), np.sin(end)])


STRATEGY = Strategy(
    params=ThreadMilling,
    run=thread_milling,
    version=6,
    group="Holes",
    needs=tuple(n for n in IN_PLACE if n not in ("zero", "part_box")),
    cutters=("thread mill",),
    meant_depth_mm=thread_depth,
)

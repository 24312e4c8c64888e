"""Ways into a region: from cleared ground, by helix, by a ramp to and fro, straight down."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
import shapely
from pydantic import BaseModel, ConfigDict, Field
from shapely.geometry.base import BaseGeometry

from fenrik.core.frames import Points
from fenrik.core.regions import Rings
from fenrik.core.regions.polygons import offset, pole_of, to_shape, widened
from fenrik.core.strategies.common import START_GAP_MM
from fenrik.core.toolpath import PathBuilder

LEAST_HELIX_SHARE = 0.1
"""A helix narrower than this share of the tool's radius is no helix."""
LEAST_RAMP_SHARE = 0.5
HELIX_STEPS = 64
LEAST_HELIX_BESIDE_SHARE, NARROWER = 0.2, 0.7
LEAST_RAMP_ALONG_SHARE = 0.2
"""A pass shorter than this share of the tool's radius is no way for a ramp."""
MOST_LAPS = 10_000


class DescentParams(BaseModel):
    """How steep and how wide the tool goes down."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "ramp_deg",
        "helix_percent",
    )

    model_config = ConfigDict(extra="forbid")
    ramp_deg: float = Field(default=2.0, gt=0, le=45, title="Ramp angle", json_schema_extra={"unit": "deg"})
    helix_percent: float = Field(
        default=60.0,
        gt=5,
        le=95,
        title="Helix diameter",
        description="Share of the tool's diameter",
        json_schema_extra={"unit": "%"},
    )


class EntryParams(DescentParams):
    """How the tool goes down where there is no cleared ground to start in."""

    FOLDED: ClassVar[tuple[str, ...]] = ("entry",)

    entry: Literal["helix", "ramp", "plunge"] = Field(
        default="helix", title="Entry", description="Where no side is open and no hole wide enough to start in"
    )


@dataclass(frozen=True)
class Entry:
    """A planned way in.

    Attributes:
        place: (2,) where the tool is at the level afterwards.
        cleared: the places of the axis that are cleared then.
        kind: open (ground without stock), cleared (ground that was cut), helix, ramp, plunge.
        centre: (2,) of the helix. size: its radius; room: how far from its middle the axis may go.
        line: (n, 2) of the ramp, from `place` on. round: whether it is closed, and gone round.
        levelled: whether the way ends with the line gone along at the level; else the pass that begins there does that.
    """

    place: Points
    cleared: Rings
    kind: Literal["open", "cleared", "helix", "ramp", "plunge"]
    centre: Points | None = None
    size: float = 0.0
    room: float = 0.0
    line: Points | None = None
    round: bool = False
    levelled: bool = True


def plan_entry(
    radius: float, centre_cutting: bool, params: EntryParams, reachable: Rings, open_ground: Rings
) -> Entry | None:
    """The best way into one connected region; None where there is none.

    Args:
        open_ground: places in the region where the tool touches no stock at the level.
    """
    if open_ground:
        spot, _ = pole_of(open_ground)
        return Entry(spot, open_ground, "open")
    pole, room = pole_of(reachable)
    size = min(params.helix_percent / 100 * radius, room - 1e-3)
    if params.entry == "helix" and size >= LEAST_HELIX_SHARE * radius:
        turn = np.linspace(0, 2 * np.pi, HELIX_STEPS, endpoint=False)
        disc = pole + size * np.column_stack([np.cos(turn), np.sin(turn)])
        return Entry(pole + np.array([size, 0.0]), [disc], "helix", pole, size, room)
    line = _longest_line(reachable, pole)
    length = float(np.linalg.norm(line[1] - line[0]))
    if params.entry != "plunge" and length >= LEAST_RAMP_SHARE * radius:
        return Entry(line[0], widened([line], 0.02), "ramp", line=line)
    if centre_cutting:
        turn = np.linspace(0, 2 * np.pi, 8, endpoint=False)
        return Entry(pole, [pole + 0.02 * np.column_stack([np.cos(turn), np.sin(turn)])], "plunge")
    return None


def plan_entry_onto(
    run: Points, free: BaseGeometry, radius: float, centre_cutting: bool, params: DescentParams, entry: str, left: bool
) -> Entry | None:
    """A way in that ends where a pass begins: a helix beside it, or a ramp along it; None where there is no room.

    Args:
        run: (n, 2), the pass. free: where the axis may be at its level.
        left: on which side of the pass there is more room.
    """
    closed = len(run) > 3 and bool(np.allclose(run[0], run[-1]))
    along = run[1] - run[0]
    along = along / max(float(np.hypot(*along)), 1e-12)
    side = np.array([-along[1], along[0]]) * (1.0 if left else -1.0)
    size = params.helix_percent / 100 * radius
    while entry == "helix" and size >= LEAST_HELIX_BESIDE_SHARE * radius:
        centre = run[0] + side * size
        if free.covers(shapely.Point(centre).buffer(size, quad_segs=16)):
            return Entry(run[0], [], "helix", centre, size)
        size *= NARROWER
    length = float(np.linalg.norm(np.diff(run, axis=0), axis=1).sum())
    if length < LEAST_RAMP_ALONG_SHARE * radius:
        return Entry(run[0], [], "plunge") if centre_cutting else None
    return Entry(run[0], [], "ramp", line=run, round=closed, levelled=False)


def _longest_line(reachable: Rings, pole: Points) -> Points:
    """A long straight line through the pole that stays inside."""
    shape = to_shape(offset(reachable, 1e-3))
    far = float(np.hypot(*np.ptp(np.vstack(reachable), axis=0))) + 1.0
    best = np.array([pole, pole])
    for angle in np.deg2rad(np.arange(0, 180, 7.5)):
        step = far * np.array([np.cos(angle), np.sin(angle)])
        inside = shapely.intersection(shapely.LineString([pole - step, pole + step]), shape)
        for part in shapely.get_parts(inside):
            ends = shapely.get_coordinates(part)
            holds_pole = part.distance(shapely.Point(pole)) < 1e-2
            if holds_pole and len(ends) > 1 and part.length > np.linalg.norm(best[1] - best[0]):
                best = np.array([ends[0], ends[-1]])
    return best


def go_in(
    builder: PathBuilder, params: DescentParams, entry: Entry, level: float, above: float, at_height: bool
) -> None:
    """Come down by a planned way.

    Args:
        above: height down to which there is no material.
        at_height: the tool is in cleared ground at `above` and may go straight to the way's begin there.
    """
    place = np.array([*entry.place, level])
    if entry.kind in ("open", "cleared"):
        if at_height:
            builder.link(np.array([*entry.place, builder.place[2]]))  # type: ignore[index]
        else:
            builder.travel(float(entry.place[0]), float(entry.place[1]), min(level + START_GAP_MM, builder.retract_mm))
        (builder.approach if entry.kind == "open" else builder.enter)(place)
        return
    beyond = above if at_height else min(above + START_GAP_MM, builder.retract_mm)
    if entry.kind == "helix":
        assert entry.centre is not None
        pitch = 2 * np.pi * entry.size * np.tan(np.deg2rad(params.ramp_deg))
        half_turns = max(int(np.ceil(2 * (beyond - level) / pitch)), 1)
        first = entry.place if half_turns % 2 == 0 else 2 * entry.centre - entry.place
        _to(builder, first, beyond, at_height)
        builder.enter_helix(entry.centre, place, beyond, pitch)
        return
    _to(builder, entry.place, beyond, at_height)
    if entry.kind == "ramp":
        _sink(builder, entry, level, beyond, float(np.tan(np.deg2rad(params.ramp_deg))))
    else:
        builder.enter(place)


def _sink(builder: PathBuilder, entry: Entry, level: float, beyond: float, slope: float) -> None:
    """Along the line of a ramp, to and fro or round and round, sinking all the way down to the level."""
    line = entry.line
    assert line is not None
    steps = np.linalg.norm(np.diff(line, axis=0), axis=1)
    share = np.concatenate([[0.0], np.cumsum(steps)]) / steps.sum()
    laps = max(int(np.ceil((beyond - level) / (steps.sum() * slope))), 1)
    laps = min(laps if entry.round else laps + laps % 2, MOST_LAPS)
    for lap in range(laps):
        back = not entry.round and lap % 2 == 1
        way, t = (line[::-1], 1 - share[::-1]) if back else (line, share)
        heights = beyond + (level - beyond) * (lap + t) / laps
        builder.enter(np.column_stack([way, heights])[1:])
    if entry.levelled:
        for way in (line, line[::-1]):
            builder.enter(np.column_stack([way[1:], np.full(len(way) - 1, level)]))


def _to(builder: PathBuilder, xy: Points, height: float, at_height: bool) -> None:
    if at_height:
        builder.link(np.array([xy[0], xy[1], height]))
    else:
        builder.travel(float(xy[0]), float(xy[1]), height)

"""Ways into a region: from cleared ground, by helix, by a ramp to and fro, straight down."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import shapely
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.frames import Points
from fenrik.core.regions import Rings
from fenrik.core.regions.polygons import offset, pole_of, to_shape, widened
from fenrik.core.strategies.common import START_GAP_MM
from fenrik.core.strategies.prismatic import Workplace
from fenrik.core.toolpath import PathBuilder

LEAST_HELIX_SHARE = 0.1
"""A helix narrower than this share of the tool's radius is no helix."""
LEAST_RAMP_SHARE = 0.5
HELIX_STEPS = 64


class DescentParams(BaseModel):
    """How steep and how wide the tool goes down."""

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

    entry: Literal["helix", "ramp", "plunge"] = Field(
        default="helix", title="Entry", description="Where no side is open and no hole wide enough to start in"
    )


@dataclass(frozen=True)
class Entry:
    """A planned way in.

    Attributes:
        place: (2,) where the tool is at the level afterwards.
        cleared: the places of the axis that are cleared then.
        kind: open (ground without stock), helix, ramp, plunge.
        size: radius of the helix; room: how far from its middle the axis may go; line: (2, 2) of the ramp.
    """

    place: Points
    cleared: Rings
    kind: Literal["open", "helix", "ramp", "plunge"]
    size: float = 0.0
    room: float = 0.0
    line: Points | None = None


def plan_entry(place: Workplace, params: Any, reachable: Rings, open_ground: Rings) -> Entry | None:
    """The best way into one connected region; None where there is none.

    Args:
        open_ground: places in the region where the tool touches no stock at the level.
    """
    radius = place.radius
    if open_ground:
        spot, _ = pole_of(open_ground)
        return Entry(spot, open_ground, "open")
    pole, room = pole_of(reachable)
    size = min(params.helix_percent / 100 * radius, room - 1e-3)
    if params.entry == "helix" and size >= LEAST_HELIX_SHARE * radius:
        turn = np.linspace(0, 2 * np.pi, HELIX_STEPS, endpoint=False)
        disc = pole + size * np.column_stack([np.cos(turn), np.sin(turn)])
        return Entry(pole + np.array([size, 0.0]), [disc], "helix", size, room)
    line = _longest_line(reachable, pole)
    length = float(np.linalg.norm(line[1] - line[0]))
    if params.entry != "plunge" and length >= LEAST_RAMP_SHARE * radius:
        return Entry(line[0], widened([line], 0.02), "ramp", line=line)
    if place.given.cutter.centre_cutting:
        turn = np.linspace(0, 2 * np.pi, 8, endpoint=False)
        return Entry(pole, [pole + 0.02 * np.column_stack([np.cos(turn), np.sin(turn)])], "plunge")
    return None


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


def go_in(builder: PathBuilder, params: Any, entry: Entry, level: float, above: float, at_height: bool) -> None:
    """Come down by a planned way.

    Args:
        above: height down to which there is no material.
        at_height: the tool is in cleared ground at `above` and may go straight to the way's begin there.
    """
    x, y = (float(v) for v in entry.place)
    if entry.kind == "open":
        if at_height:
            builder.link(np.array([x, y, builder.place[2]]))  # type: ignore[index]
        else:
            builder.travel(x, y, level + START_GAP_MM)
        builder.approach(np.array([x, y, level]))
        return
    beyond = above + (0.0 if at_height else START_GAP_MM)
    if entry.kind == "helix":
        centre = entry.place - np.array([entry.size, 0.0])
        pitch = 2 * np.pi * entry.size * np.tan(np.deg2rad(params.ramp_deg))
        half_turns = max(int(np.ceil(2 * (beyond - level) / pitch)), 1)
        first = entry.place if half_turns % 2 == 0 else 2 * centre - entry.place
        _to(builder, first, beyond, at_height)
        builder.enter_helix(centre, np.array([x, y, level]), beyond, pitch)
    elif entry.kind == "ramp":
        assert entry.line is not None
        _to(builder, entry.line[0], beyond, at_height)
        length = float(np.linalg.norm(entry.line[1] - entry.line[0]))
        laps = max(int(np.ceil((beyond - level) / (length * np.tan(np.deg2rad(params.ramp_deg))))), 1)
        laps += laps % 2
        heights = beyond + (level - beyond) * np.arange(1, laps + 1) / laps
        ends = [entry.line[(k + 1) % 2] for k in range(laps)]
        builder.enter(np.column_stack([np.array(ends), heights]))
        builder.enter(np.array([*entry.line[1], level]))
        builder.enter(np.array([*entry.line[0], level]))
    else:
        _to(builder, entry.place, beyond, at_height)
        builder.enter(np.array([x, y, level]))


def _to(builder: PathBuilder, xy: Points, height: float, at_height: bool) -> None:
    if at_height:
        builder.link(np.array([xy[0], xy[1], height]))
    else:
        builder.travel(float(xy[0]), float(xy[1]), height)

"""Flank of a ruled wall (swarf milling): the side of the cutter lies along the straight lines of ruled faces, or
along those between two ways along edges.

For a cylinder of radius R the axis runs, to begin with, R away from the wall at both ends of each ruling, square to
the face there (two points offset: X. W. Liu, "Five-axis NC cylindrical milling of sculptured surfaces", Computer-
Aided Design 27, 1995). Where the wall twists, its normals turn along a ruling and a cylinder on those two points
cuts into the wall between them or stands off. The axis is then moved so that the side, held against the exact face
along the ruling, is off as evenly as can be (minimax over the line's two shifts at its ends, by the offsets' signed
errors), and last of all away from the wall by what it would still cut too deep. What stays is measured, and told
where it is more than the tolerance. Where the cutter would go into anything else of the part, or into a face that is
not what lies between two ways, the stretch is left out and told.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from fenrik.core.contact.clearance import deepest_places
from fenrik.core.contact.distance import nearest_faces, signed_distances
from fenrik.core.dividing import in_pieces
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.solids.rulings import Rulings
from fenrik.core.strategies.common import MM, CommonParams, Outcome, Picks, require
from fenrik.core.strategies.declared import Strategy
from fenrik.core.strategies.given import ALWAYS, Given
from fenrik.core.strategies.leaning import (
    Gouges,
    LeaningBuilder,
    Pass,
    box_around,
    finer,
    gouges,
    stations,
    unit,
    without,
)
from fenrik.core.strategies.targets import EdgesTarget, FacesTarget
from fenrik.core.tools import Cutter, Profile, cutting_profile
from fenrik.core.tools.cutters import TaperedCutter

DEG: dict[str, Any] = {"unit": "deg"}
ROUNDS, STILL_MM = 40, 1e-7
MOST_LEVELS = 400
DEEP_SHARE = 0.65
"""Of the tolerance, for cutting into a wall that twists; chords between rulings have a quarter."""
NO_FACES = np.zeros(0, np.int64)
STANDS_OUT_SHARE, DENSE_SHARE, STATION_DEG = 0.1, 0.05, 0.2


class Flank(CommonParams):
    """Mills ruled walls with the side of the cutter."""

    FOLDED: ClassVar[tuple[str, ...]] = ("step_mm", "turn_deg", "lift_mm")
    idle = ("floor_allowance_mm",)
    strategy: Literal["swarf milling"] = "swarf milling"
    targets: list[Annotated[FacesTarget | EdgesTarget, Field(discriminator="kind")]] = Field(
        default_factory=list,
        max_length=500,
        title="Geometry",
        description="Ruled faces, in their order along the wall; or the edges at its foot and at its top",
    )
    backwards: bool = Field(default=False, title="The other way round")
    stepdown_mm: float | None = Field(
        default=None,
        gt=0.01,
        le=500,
        title="Stepdown",
        description="Along the wall; empty: in one",
        json_schema_extra=MM,
    )
    floor_clearance_mm: float = Field(
        default=0.0, ge=-50, le=500, title="Over the floor", description="How far the tip stays above the wall's foot; "
        "below zero: past it", json_schema_extra=MM,
    )  # fmt: skip
    run_on_mm: float = Field(default=2.0, ge=0, le=200, title="Run-on", json_schema_extra=MM)
    run_off_mm: float = Field(default=2.0, ge=0, le=200, title="Run-off", json_schema_extra=MM)
    lift_mm: float = Field(
        default=3.0, gt=0, le=100, title="Lift", description="How far off the wall entries begin", json_schema_extra=MM
    )
    step_mm: float = Field(default=3.0, ge=0.05, le=50, title="Longest step", json_schema_extra=MM)
    turn_deg: float = Field(default=3.0, ge=0.1, le=30, title="Most turn in a step", json_schema_extra=DEG)

    def picks(self) -> Picks:
        found = Picks()
        for k, target in enumerate(self.targets):
            if isinstance(target, FacesTarget):
                found.faces.extend((f"targets.{k}.faces.{j}", f) for j, f in enumerate(target.faces))
            else:
                found.edges.extend((f"targets.{k}.edges.{j}", e) for j, e in enumerate(target.edges))
        return found


def flank(given: Given, params: Flank) -> Outcome:
    """All walls; what stands off or would be cut too deep because a wall twists is told.

    Raises:
        FenrikError: when nothing is picked, or a face is not ruled.
    """
    walls = given.rulings
    require(bool(walls), "targets", "hold no wall.", "Pick ruled faces of the part, or edges at its foot and top.")
    builder = LeaningBuilder(given.feeds, given.safe, box_around(given), params.lift_mm)
    told: list[Unreached] = []
    ways = [(part, part is rows) for rows in walls for part in _on_the_part(given, rows, params, told)]
    for number, (rows, whole) in enumerate(ways):
        _along(builder, given, params, rows.reversed() if params.backwards else rows, whole, told)
        given.progress((number + 1) / len(ways), "along walls")
    return Outcome(builder.finish(), told)


def _along(
    builder: LeaningBuilder, given: Given, params: Flank, way: Rulings, whole: bool, told: list[Unreached]
) -> None:  # fmt: skip
    """The passes along one wall, from the uppermost down.

    Args:
        whole: all of the wall is there, so that its own dense places tell of it; otherwise its triangles have to.
    """
    own = np.unique(nearest_faces(given.distances, way.inner.reshape(-1, 3))) if whole else NO_FACES
    others, wall = given.distances.without(own), _dense(way, given.cutter.radius_mm, params.tolerance_mm)
    profile, placed = cutting_profile(given.cutter), None
    for level in _levels(params, way):
        side = _side_of(given.cutter, level)
        if placed is None or side.taper_rad:
            placed = laid_along(way, side, params.allowance_mm, DEEP_SHARE * params.tolerance_mm)
        one = _pass(params, way, placed, level)
        found = _into_the_wall(one, wall, profile, params)
        if others is not None:
            found = gouges(one, others, profile, params.tolerance_mm, found)
        for part in without(one, found, told):
            builder.add(part)
    if placed is not None:
        told += _told(placed, way, params)


def _on_the_part(given: Given, rows: Rulings, params: Flank, told: list[Unreached]) -> list[Rulings]:
    """The stretches of a wall between whose lines the part ends: where it stands out from between two ways, the cutter
    would go into it."""
    away = signed_distances(given.distances, rows.inner.reshape(-1, 3)).mm.reshape(rows.inner.shape[:2])
    deep = -away.min(axis=1)
    bad = deep > STANDS_OUT_SHARE * params.tolerance_mm
    if not bad.any():
        return [rows]
    worst = int(deep.argmax())
    where = f"from between both ways, along {int(bad.sum())} of {len(bad)} lines"
    reason = f"The part stands out by {deep[worst]:.3g} mm {where}: they are left out."
    advice = "Pick ways with a ruled face between them, or finish this wall by another strategy."
    told.append(Unreached.at(rows.inner[worst, int(away[worst].argmin())], reason, advice))
    good = np.flatnonzero(~bad)
    runs = np.split(good, np.flatnonzero(np.diff(good) > 1) + 1)
    return [rows.rows(r) for r in runs if len(r) > 1]


@dataclass(frozen=True)
class Side:
    """A cutter's side: its radius beside the lower end of a ruling, and how it widens upwards."""

    radius_mm: float
    taper_rad: float = 0.0


def _side_of(cutter: Cutter, level_mm: float) -> Side:
    """The side of a cutter whose tip is a height above the rulings' lower ends."""
    if not isinstance(cutter, TaperedCutter):
        return Side(cutter.radius_mm)
    taper, corner = math.radians(cutter.taper_deg), cutter.corner_radius_mm
    beside = cutter.radius_mm - corner + corner * math.cos(taper)
    return Side(beside - (corner * (1 - math.sin(taper)) + level_mm) * math.tan(taper), taper)


@dataclass(frozen=True)
class Placed:
    """Where the cutter's axis lies along each ruling.

    Attributes:
        foot, axis: (n, 3) a place of the axis beside the lower end of the ruling, and its direction, upwards.
        deep_mm, proud_mm: (n,) how far the side cuts into the wall, and stands off it, at most along each ruling.
    """

    foot: Points
    axis: Points
    deep_mm: Points
    proud_mm: Points


def laid_along(rows: Rulings, side: Side, allowance_mm: float, tolerance_mm: float) -> Placed:
    """The axis of a cutter along each ruling; that of a tapered one leans from the wall."""
    radius_mm, taper_rad = side.radius_mm, side.taper_rad
    length = np.linalg.norm(rows.ends[:, 1] - rows.ends[:, 0], axis=1)
    upper = (radius_mm + math.tan(taper_rad) * length + allowance_mm) / math.cos(taper_rad)
    low = rows.ends[:, 0] + (radius_mm + allowance_mm) / math.cos(taper_rad) * rows.normals[:, 0]
    high = rows.ends[:, 1] + upper[:, None] * rows.normals[:, 1]
    middle = unit(rows.inner_normals.mean(axis=1))
    for _ in range(ROUNDS):
        gap = _gaps(rows, low, high, side)
        shift_low, shift_high = _evened(gap - allowance_mm)
        low, high = low - shift_low[:, None] * middle, high - shift_high[:, None] * middle
        if max(np.abs(shift_low).max(), np.abs(shift_high).max()) < STILL_MM:
            break
    gap = _gaps(rows, low, high, side) - allowance_mm
    away = np.maximum(-gap.min(axis=1) - tolerance_mm, 0.0)[:, None] * middle
    low, high = low + away, high + away
    gap = _gaps(rows, low, high, side) - allowance_mm
    return Placed(low, unit(high - low), np.maximum(-gap.min(axis=1), 0.0), np.maximum(gap.max(axis=1), 0.0))


def _gaps(rows: Rulings, low: Points, high: Points, side: Side) -> Points:
    """How far the wall stands off the cutter's side at places along each ruling, (n, k); below 0: it is cut into.

    At each place the wall is the circle that it curves by across its ruling: beside a ruling whose normals turn the
    side cuts in though it would clear the ruling itself, in a hollow wall all the more. In the section square to the
    axis both are circles.
    """
    along = unit(high - low)
    normal, from_low = rows.inner_normals, rows.inner - low[:, None]
    t = np.einsum("ikj,ij->ik", from_low, along)
    square = normal - np.einsum("ikj,ij->ik", normal, along)[:, :, None] * along[:, None]
    flat = np.maximum(np.linalg.norm(square, axis=2), 1e-9)
    beside = t[:, :, None] * along[:, None] - from_low
    high_off = np.einsum("ikj,ikj->ik", beside, normal) / flat
    far2 = np.einsum("ikj,ikj->ik", beside, beside)
    bend = rows.curvature()
    # Distance of the axis from a circle of curvature κ: (√((h + 1/κ)² + x²) − 1/κ), written so that κ may be 0.
    inner = np.maximum(bend * bend * far2 + 2.0 * bend * high_off + 1.0, 0.0)
    off = (bend * far2 + 2.0 * high_off) / (1.0 + np.sqrt(inner))
    return np.asarray((off - side.radius_mm - math.tan(side.taper_rad) * t) * flat)


def _evened(gap: Points) -> tuple[Points, Points]:
    """Shifts of both ends towards the wall after which gaps that are off a straight line by their ends and their middle
    are off evenly (the line of least greatest deviation through such a row, its deviations above and below equal)."""
    share = np.linspace(0.0, 1.0, gap.shape[1])
    slope = gap[:, -1] - gap[:, 0]
    rest = gap - gap[:, :1] - slope[:, None] * share
    level = 0.5 * (rest.max(axis=1) + rest.min(axis=1))
    return gap[:, 0] + level, gap[:, -1] + level


def _levels(params: Flank, rows: Rulings) -> list[float]:
    """How far above its foot the tip goes along the wall, from the uppermost pass down."""
    tall = float(np.linalg.norm(rows.ends[:, 1] - rows.ends[:, 0], axis=1).max())
    if params.stepdown_mm is None:
        return [params.floor_clearance_mm]
    count = int(np.ceil((tall - params.floor_clearance_mm) / params.stepdown_mm - 1e-9))
    require(count <= MOST_LEVELS, "stepdown_mm", f"makes {count} levels.", "Take a larger one.", params.stepdown_mm)
    return [max(tall - params.stepdown_mm * (k + 1), params.floor_clearance_mm) for k in range(max(count, 1))]


def _pass(params: Flank, rows: Rulings, placed: Placed, level: float) -> Pass:
    point, axis = placed.foot + level * placed.axis, placed.axis
    out = unit(rows.inner_normals.mean(axis=1))
    along = unit(np.gradient(point, axis=0)) if len(point) > 1 else np.zeros_like(point)
    first, last = out[0], out[-1]
    if params.run_on_mm > 0 and not rows.closed:
        before = point[:1] + params.run_on_mm * _clear_of(-along[0], rows.inner_normals[0])
        point, axis = np.vstack([before, point]), np.vstack([axis[:1], axis])
    if params.run_off_mm > 0 and not rows.closed:
        after = point[-1:] + params.run_off_mm * _clear_of(along[-1], rows.inner_normals[-1])
        point, axis = np.vstack([point, after]), np.vstack([axis, axis[-1:]])
    fine, axes = finer(point, axis, params.step_mm, params.turn_deg)
    return Pass(fine, axes, unit(first + 0.2 * axis[0]), unit(last + 0.2 * axis[-1]))


def _clear_of(way: Points, normals: Points) -> Points:
    """A direction (3,) turned outwards until nothing along a wall's last line, with normals (k, 3), is gone into."""
    into = max(-float((normals @ way).min()), 0.0)
    return unit((way + into * unit(normals.mean(axis=0)[None])[0])[None])[0]


def _dense(rows: Rulings, radius_mm: float, tolerance_mm: float) -> Points:
    """Places of a wall (m, 3), so close to one another across its lines that a cutter sinks between two by no more than
    a share of the tolerance."""
    apart = math.sqrt(8.0 * radius_mm * DENSE_SHARE * tolerance_mm)
    gap = np.linalg.norm(np.diff(rows.inner, axis=0), axis=2).max(axis=1)
    count = np.maximum(np.ceil(gap / apart), 1).astype(np.int64)
    row, piece = in_pieces(count)
    share = piece / count[row]
    between = rows.inner[row] + share[:, None, None] * (rows.inner[row + 1] - rows.inner[row])
    return np.vstack([between.reshape(-1, 3), rows.inner[-1]])


def _into_the_wall(whole: Pass, wall: Points, profile: Profile, params: Flank) -> Gouges:
    """Where the side, laid along one line, goes into the wall beside it: by dense places in both."""
    apart = math.sqrt(8.0 * profile.radius_mm * DENSE_SHARE * params.tolerance_mm)
    tips, axes, step = stations(whole, apart, STATION_DEG)
    deep, which = deepest_places(tips, axes, profile, wall)
    bad = np.flatnonzero(deep > (1 - DENSE_SHARE) * params.tolerance_mm)
    return Gouges.none(whole).and_at(step[bad], deep[bad], wall[which[bad]])


def _told(placed: Placed, rows: Rulings, params: Flank) -> list[Unreached]:
    """Where the twist of a wall leaves more than the tolerance."""
    worst = int(placed.proud_mm.argmax())
    if placed.proud_mm[worst] <= params.tolerance_mm:
        return []
    much = f"{placed.proud_mm[worst]:.4f} mm along {len(rows.ends)} rulings"
    reason = f"The wall twists: its side stands off by up to {much}."
    advice = "Take a thinner cutter, several levels, or finish the wall with a ball."
    return [Unreached.at(rows.inner[worst, rows.inner.shape[1] // 2], reason, advice)]


STRATEGY = Strategy(
    params=Flank,
    run=flank,
    version=2,
    group="Leaning tool",
    cutters=("flat", "bull-nose", "ball", "tapered"),
    needs=(*ALWAYS, "part_box", "obstacles", "surface", "rulings"),
    sees="all",
    stage=6,
    finishes=lambda params: ("upright", "leaning", "slope"),
)

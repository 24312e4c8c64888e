"""5-axis curve following: along edges, or a sketch laid on faces, with a leaning tool, by the true contact of its
cutter.

At each place of the way stand its direction and a normal: that of the face at its left or right, or the bisector of
both, on which an edge is broken. The tool's axis is that normal or a direction of one's own, leant forward (lead)
and to the side (tilt). The tip follows from the support of the cutter's outline against the plane square to the
normal, so that a ball, a corner radius or the side of a cone touches where it should; in an inner edge it touches both
faces. Round corners the tool rolls, touching all the way. Where it would cut deeper than meant, because the surface is
hollow or something stands beside, it is left out and told.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.errors import fail
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.solids.rails import Rail
from fenrik.core.strategies.common import MM, CommonParams, Outcome, Picks, require
from fenrik.core.strategies.declared import Strategy
from fenrik.core.strategies.given import ALWAYS, Given
from fenrik.core.strategies.leaning import (
    SMALL,
    Gouges,
    LeaningBuilder,
    Pass,
    beyond,
    box_around,
    gouges,
    in_both_planes,
    put_between,
    tips,
    touching,
    turned,
    unit,
    without,
)
from fenrik.core.strategies.targets import EdgesTarget, LaidTarget
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Cutter, Profile, cutting_profile

DEG: dict[str, Any] = {"unit": "deg"}
SHOWN: dict[str, Any] = {"shown": True}
"""Directions, places and lists that forms show."""
LEAST_NORMAL, MOST_PASSES = 1e-6, 200
CHORD_SHARE = 0.25
"""Of the tolerance, for chords between rows."""
TURNED_OVER = -0.98
INNER = 0.02
"""Sine of the least angle by which faces must look at each other for their edge to be an inner one."""
Vector = tuple[float, float, float]


class Direction(BaseModel):
    """A direction of the tool at a place of the way."""

    model_config = ConfigDict(extra="forbid")
    share: float = Field(default=0.0, ge=0, le=1, title="At", description="0 where the way begins, 1 where it ends")
    along: Vector = Field(default=(0.0, 0.0, 1.0), title="Direction", json_schema_extra=SHOWN)


class CurveFollowing(CommonParams):
    """Follows edges with a tool that leans."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "step_mm",
        "turn_deg",
        "contact_height_mm",
        "lift_mm",
    )
    idle = ("floor_allowance_mm",)
    strategy: Literal["5-axis curve following"] = "5-axis curve following"
    targets: list[Annotated[EdgesTarget | LaidTarget, Field(discriminator="kind")]] = Field(
        default_factory=list,
        max_length=500,
        title="Geometry",
        description="Edges, those that meet become one way; sketches, laid on faces",
    )
    backwards: bool = Field(default=False, title="The other way round")
    normal_of: Literal["both faces", "left face", "right face"] = Field(
        default="both faces",
        title="Touch",
        description="Both: an outer edge is broken on their bisector, in an inner one the tool touches both",
    )
    axis: Literal["normal", "fixed", "through a point", "blended"] = Field(default="normal", title="Tool axis")
    direction: Vector = Field(
        default=(0.0, 0.0, 1.0),
        title="Direction",
        description="Of a fixed axis, from tip up",
        json_schema_extra=SHOWN | {"when": {"axis": "fixed"}},
    )
    point_mm: Vector = Field(
        default=(0.0, 0.0, 0.0),
        title="Point",
        description="The axis goes through it",
        json_schema_extra=MM | SHOWN | {"when": {"axis": "through a point"}},
    )
    directions: list[Direction] = Field(
        default_factory=list,
        max_length=200,
        title="Directions to blend",
        json_schema_extra=SHOWN | {"when": {"axis": "blended"}},
    )
    lead_deg: float = Field(
        default=0.0, ge=-80, le=80, title="Lead", description="The axis leans forward", json_schema_extra=DEG
    )
    tilt_deg: float = Field(
        default=0.0, ge=-80, le=80, title="Tilt", description="The axis leans to the left", json_schema_extra=DEG
    )
    depth_mm: float = Field(
        default=0.0, ge=0, le=50, title="Depth", description="Below the edge, along the normal", json_schema_extra=MM
    )
    depth_passes: int = Field(default=1, ge=1, le=50, title="Passes in depth")
    side_mm: float = Field(
        default=0.0, ge=-100, le=100, title="To the side", description="To the left, on the surface",
        json_schema_extra=MM,
    )  # fmt: skip
    side_passes: int = Field(default=1, ge=1, le=100, title="Passes side by side")
    side_step_mm: float = Field(default=1.0, ge=0.01, le=50, title="Step between them", json_schema_extra=MM)
    run_on_mm: float = Field(default=0.0, ge=0, le=200, title="Run-on", json_schema_extra=MM)
    run_off_mm: float = Field(default=0.0, ge=0, le=200, title="Run-off", json_schema_extra=MM)
    contact_height_mm: float | None = Field(
        default=None, ge=0, le=500, title="Touch at", description="Height on a side that touches as a whole; empty: "
        "its middle", json_schema_extra=MM,
    )  # fmt: skip
    lift_mm: float = Field(
        default=3.0, gt=0, le=100, title="Lift", description="How far off entries begin", json_schema_extra=MM
    )
    step_mm: float = Field(default=2.0, ge=0.05, le=50, title="Longest step", json_schema_extra=MM)
    turn_deg: float = Field(default=3.0, ge=0.1, le=30, title="Most turn in a step", json_schema_extra=DEG)

    def picks(self) -> Picks:
        each = list(enumerate(self.targets))
        edges = [
            (f"targets.{k}.edges.{j}", e) for k, t in each if isinstance(t, EdgesTarget) for j, e in enumerate(t.edges)
        ]
        laid = [(k, t) for k, t in each if isinstance(t, LaidTarget)]
        faces = [(f"targets.{k}.faces.{j}", f) for k, t in laid for j, f in enumerate(t.faces)]
        return Picks(faces=faces, edges=edges, sketches=[t.sketch for _, t in laid])


def curve_following(given: Given, params: CurveFollowing) -> Outcome:
    """All ways; stretches without a normal, and those where the tool would cut too deep, are left out and told.

    Raises:
        FenrikError: when nothing is picked, or an axis has no direction.
    """
    rails, told = given.ways.rails, list(given.ways.unusable)
    require(bool(rails), "targets", "hold no edge and no curve on the part.", "Pick edges, or lay a sketch on faces.")
    builder = LeaningBuilder(given.feeds, given.safe, box_around(given), params.lift_mm)
    count = params.side_passes * params.depth_passes
    require(count <= MOST_PASSES, "side_passes", f"makes {count} passes.", f"Take at most {MOST_PASSES}.", count)
    for number, rail in enumerate(rails):
        way = rail.reversed() if params.backwards else rail
        for part in _with_normals(way, params, told):
            for sideways in range(params.side_passes):
                side = params.side_mm + sideways * params.side_step_mm
                contacts = _contacts(params, part, side, cutting_profile(given.cutter))
                # On purpose it goes into faces along its way and those that go on from them, not into others.
                into = params.depth_mm > params.allowance_mm
                own = np.union1d(contacts.faces, touching(given.distances, part.point)) if into else contacts.faces
                others = beyond(given.distances, own) if into else None
                for deeper in range(params.depth_passes):
                    depth = params.depth_mm * (deeper + 1) / params.depth_passes
                    _add(builder, given, params, contacts, depth, others, told)
        given.progress((number + 1) / len(rails), "following edges")
    return Outcome(builder.finish(), told)


@dataclass(frozen=True)
class _Contacts:
    """Where a tool touches: places (n, 3), normals, its axis, and where its tip then stands; faces that it follows."""

    place: Points
    normal: Points
    axis: Points
    tip: Points
    faces: NDArray[np.int64]

    def pass_at(self, height_mm: float) -> Pass:
        """The pass with the tool so far off, along the normals; below 0 deeper."""
        return Pass(self.tip + height_mm * self.normal, self.axis, self.axis[0], self.axis[-1])


def _normals(way: Rail, params: CurveFollowing) -> Points:
    if params.normal_of == "left face":
        return way.left
    return way.right if params.normal_of == "right face" else unit(way.left + way.right)


def _with_normals(way: Rail, params: CurveFollowing, told: list[Unreached]) -> list[Rail]:
    """The stretches of a way that have a normal and a direction; where the normal turns over a new one begins."""
    normal = _normals(way, params)
    if way.closed:
        # Round the corner where it began, too.
        way, normal = way.rows(np.append(np.arange(len(way.point)), 0)), np.vstack([normal, normal[:1]])
    good = (np.linalg.norm(normal, axis=1) > LEAST_NORMAL) & (np.linalg.norm(way.along, axis=1) > LEAST_NORMAL)
    if not good.all():
        told.append(_no_normal(way, int(np.argmin(good))))
    over = [np.einsum("ij,ij->i", v[1:], v[:-1]) < TURNED_OVER for v in (normal, way.left, way.right)]
    cut = ~good[1:] | ~good[:-1] | np.any(over, axis=0)
    runs = np.split(np.arange(len(good)), np.flatnonzero(cut) + 1)
    return [way.rows(r) for r in runs if len(r) > 1]


def _no_normal(way: Rail, row: int) -> Unreached:
    what = f"Edge {way.edge[row] + 1}" if way.edge[row] >= 0 else "The sketch"
    reason = f"{what} has no face there whose normal the tool could take."
    return Unreached.at(way.point[row], reason, "Take the face at its other side, or a fixed axis.")


def _contacts(params: CurveFollowing, way: Rail, side: float, profile: Profile) -> _Contacts:
    """The tool along a way, at its edge or on its face, not yet any deeper."""
    normal, along = _normals(way, params), way.along
    across = unit(np.cross(normal, along))
    place = way.point + side * across
    axis = _axes(params, place, normal, along, across)
    columns = _run_on(params, (place, normal, axis, way.left, way.right, along))
    turn = _most_turn_deg(params, columns[0], columns[1], columns[2], profile)
    place, normal, axis, left, right, along = put_between(columns[:1], columns[1:], params.step_mm, turn)
    tip = tips(place, normal, axis, profile, params.contact_height_mm)
    if params.normal_of == "both faces" and side == 0.0:
        inner = np.einsum("ij,ij->i", np.cross(left, along), right) > INNER
        tip[inner] = in_both_planes(place[inner], left[inner], right[inner], along[inner], axis[inner], profile)
    faces = np.unique(np.append(way.left_face, way.right_face))
    return _Contacts(place, normal, axis, tip, faces[faces >= 0])


def _most_turn_deg(params: CurveFollowing, place: Points, normal: Points, axis: Points, profile: Profile) -> float:
    """How far rows may turn: between two that turn by φ the tip strays by its distance from the contact · (1 − cos
    φ/2)."""
    reach = float(np.linalg.norm(tips(place, normal, axis, profile, params.contact_height_mm) - place, axis=1).max())
    chord = 2.0 * math.acos(max(1.0 - CHORD_SHARE * params.tolerance_mm / max(reach, SMALL), -1.0))
    return min(math.degrees(chord), params.turn_deg)


def _add(
    builder: LeaningBuilder, given: Given, params: CurveFollowing, contacts: _Contacts, depth: float,
    others: DistanceIndex | None, told: list[Unreached],
) -> None:  # fmt: skip
    """A pass so deep, as far as it does not cut deeper than that."""
    whole, profile = contacts.pass_at(params.allowance_mm - depth), cutting_profile(given.cutter)
    found, beside = Gouges.none(whole), contacts.pass_at(max(params.allowance_mm - depth, 0.0))
    found = gouges(beside, given.distances, profile, params.tolerance_mm, found)
    if others is not None:
        found = gouges(whole, others, profile, params.tolerance_mm, found)
    for one in without(whole, found, told):
        builder.add(one)


def _axes(params: CurveFollowing, place: Points, normal: Points, along: Points, across: Points) -> Points:
    """The axis at each place, leant forward and to the side."""
    if params.axis == "fixed":
        axis = np.tile(np.array(params.direction, dtype=np.float64), (len(place), 1))
    elif params.axis == "through a point":
        axis = np.array(params.point_mm) - place
        axis = np.where(np.einsum("ij,ij->i", axis, normal)[:, None] < 0, -axis, axis)
    elif params.axis == "blended":
        axis = _blended(params, place)
    else:
        axis = normal.copy()
    axis = unit(axis)
    if np.any(np.linalg.norm(axis, axis=1) < 0.5):
        raise fail("direction", "has no length at some place.", "Give a direction.", str(params.direction))
    # Lean forward about what lies across the way, then to the side about the way itself.
    axis = turned(axis, across, params.lead_deg) if params.lead_deg else axis
    return unit(turned(axis, along, -params.tilt_deg) if params.tilt_deg else axis)


def _blended(params: CurveFollowing, place: Points) -> Points:
    """Directions given along the way, turned evenly by its length in between."""
    given = sorted(params.directions, key=lambda d: d.share)
    require(bool(given), "directions", "hold none.", "Give a direction at the beginning and one at the end.")
    gone = np.append(0.0, np.cumsum(np.linalg.norm(np.diff(place, axis=0), axis=1)))
    share = gone / max(float(gone[-1]), 1e-12)
    ends = unit(np.array([d.along for d in given], dtype=np.float64))
    at = np.array([d.share for d in given])
    after = np.clip(np.searchsorted(at, share, "right"), 1, max(len(at) - 1, 1))
    if len(at) == 1:
        return np.tile(ends, (len(place), 1))
    span = np.maximum(at[after] - at[after - 1], 1e-12)
    t = np.clip((share - at[after - 1]) / span, 0.0, 1.0)
    turns = Poses(place, place, ends[after - 1], ends[after], after)
    if np.any(turns.angles_rad() > np.pi - 1e-6):
        raise fail("directions", "turn right over between two places.", "Give one in between.")
    return turns.axis_at(np.arange(len(place)), t)


def _run_on(params: CurveFollowing, columns: tuple[Points, ...]) -> tuple[Points, ...]:
    """Columns of a way, its places first and its directions last, made longer at both ends: straight on, the tool as it
    stands there."""
    on, off = params.run_on_mm, params.run_off_mm
    rows = np.concatenate([[0] if on > 0 else [], np.arange(len(columns[0])), [-1] if off > 0 else []]).astype(int)
    place, *rest = (c[rows] for c in columns)
    place[0] -= on * rest[-1][0]
    place[-1] += off * rest[-1][-1]
    return place, *rest


def _into_the_edge(params: CurveFollowing, cutter: Cutter) -> float:
    return params.depth_mm


STRATEGY = Strategy(
    params=CurveFollowing,
    run=curve_following,
    version=2,
    group="Leaning tool",
    cutters=("ball", "bull-nose", "chamfer mill", "flat", "tapered", "engraving", "lollipop", "barrel"),
    needs=(*ALWAYS, "part_box", "obstacles", "surface", "ways"),
    sees="all",
    meant_depth_mm=_into_the_edge,
    stage=7,
    fresh={"depth_mm": 0.5},
    finishes=lambda params: ("edge",),
)

"""5-axis curve following: along edges with a leaning tool, by the true contact of its cutter.

At each place of the way stand its direction and a normal: that of the face at its left or right, or the bisector of
both, on which an edge is broken. The tool's axis is that normal or a direction of one's own, leant forward (lead)
and to the side (tilt). The tip follows from the support of the cutter's outline against the plane square to the
normal, so that a ball, a corner radius or the side of a cone touches where it should.
"""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.errors import fail
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.solids.rails import Rail
from fenrik.core.strategies.common import MM, CommonParams, Outcome, Picks, require
from fenrik.core.strategies.declared import Strategy
from fenrik.core.strategies.given import ALWAYS, Given
from fenrik.core.strategies.leaning import LeaningBuilder, Pass, box_around, finer, tips, turned, unit
from fenrik.core.strategies.targets import EdgesTarget
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Cutter, cutting_profile

DEG: dict[str, Any] = {"unit": "deg"}
SHOWN: dict[str, Any] = {"shown": True}
"""Directions, places and lists that forms show."""
LEAST_NORMAL, MOST_PASSES = 1e-6, 200
CHORD_SHARE = 0.5
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
    targets: list[EdgesTarget] = Field(
        default_factory=list, max_length=500, title="Geometry", description="Edges; those that meet become one way"
    )
    backwards: bool = Field(default=False, title="The other way round")
    normal_of: Literal["both faces", "left face", "right face"] = Field(
        default="both faces", title="Touch", description="Both: the edge is broken on their bisector"
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
        edges = [(f"targets.{k}.edges.{j}", e) for k, t in enumerate(self.targets) for j, e in enumerate(t.edges)]
        return Picks(edges=edges)


def curve_following(given: Given, params: CurveFollowing) -> Outcome:
    """All ways; stretches without a normal are left out and told.

    Raises:
        FenrikError: when nothing is picked, or an axis has no direction.
    """
    rails = given.rails
    require(bool(rails), "targets", "holds no edge.", "Pick edges of the part.")
    builder = LeaningBuilder(given.feeds, given.safe, box_around(given), params.lift_mm)
    told: list[Unreached] = []
    count = params.side_passes * params.depth_passes
    require(count <= MOST_PASSES, "side_passes", f"makes {count} passes.", f"Take at most {MOST_PASSES}.", count)
    for number, rail in enumerate(rails):
        way = rail.reversed() if params.backwards else rail
        for part in _with_normals(way, params, told):
            for sideways in range(params.side_passes):
                for deeper in range(params.depth_passes):
                    side = params.side_mm + sideways * params.side_step_mm
                    depth = params.depth_mm * (deeper + 1) / params.depth_passes
                    builder.add(_pass(given, params, part, side, depth))
        given.progress((number + 1) / len(rails), "following edges")
    return Outcome(builder.finish(), told)


def _normals(way: Rail, params: CurveFollowing) -> Points:
    if params.normal_of == "left face":
        return way.left
    return way.right if params.normal_of == "right face" else unit(way.left + way.right)


def _with_normals(way: Rail, params: CurveFollowing, told: list[Unreached]) -> list[Rail]:
    """The stretches of a way that have a normal and a direction."""
    normal = _normals(way, params)
    good = (np.linalg.norm(normal, axis=1) > LEAST_NORMAL) & (np.linalg.norm(way.along, axis=1) > LEAST_NORMAL)
    if good.all():
        return [way]
    bad = np.flatnonzero(~good)
    x, y, z = way.point[bad[0]].tolist()
    told.append(
        Unreached(
            reason=f"Edge {way.edge[bad[0]] + 1} has no face there whose normal the tool could take.",
            place=(x, y, z),
            level_mm=z,
            area_mm2=0.0,
            advice="Take the face at its other side, or a fixed axis.",
        )
    )
    runs = np.split(np.flatnonzero(good), np.flatnonzero(np.diff(np.flatnonzero(good)) > 1) + 1)
    names = ("point", "along", "left", "right", "edge")
    return [Rail(**{k: getattr(way, k)[r] for k in names}, closed=False) for r in runs if len(r) > 1]


def _pass(given: Given, params: CurveFollowing, way: Rail, side: float, depth: float) -> Pass:
    normal, along = _normals(way, params), way.along
    across = unit(np.cross(normal, along))
    contact = way.point + side * across + (params.allowance_mm - depth) * normal
    axis = _axes(params, contact, normal, along, across)
    contact, normal, axis = _run_on(params, contact, normal, axis, along)
    profile = cutting_profile(given.cutter)
    tip = tips(contact, normal, axis, profile, params.contact_height_mm)
    point, axes = finer(tip, axis, params.step_mm, params.turn_deg)
    return Pass(point, axes, axes[0], axes[-1])


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


def _run_on(
    params: CurveFollowing, contact: Points, normal: Points, axis: Points, along: Points
) -> tuple[Points, Points, Points]:
    """The way made longer at both ends, straight on, the tool as it stands there."""
    if params.run_on_mm > 0:
        before = contact[:1] - params.run_on_mm * along[:1]
        contact, normal, axis = (np.vstack(p) for p in ((before, contact), (normal[:1], normal), (axis[:1], axis)))
    if params.run_off_mm > 0:
        after = contact[-1:] + params.run_off_mm * along[-1:]
        contact, normal, axis = (np.vstack(p) for p in ((contact, after), (normal, normal[-1:]), (axis, axis[-1:])))
    return contact, normal, axis


def _into_the_edge(params: CurveFollowing, cutter: Cutter) -> float:
    return params.depth_mm


STRATEGY = Strategy(
    params=CurveFollowing,
    run=curve_following,
    version=1,
    group="Leaning tool",
    cutters=("ball", "bull-nose", "chamfer mill", "flat", "tapered", "engraving", "lollipop", "barrel"),
    needs=(*ALWAYS, "part_box", "obstacles", "rails"),
    sees="all",
    meant_depth_mm=_into_the_edge,
    stage=7,
    fresh={"depth_mm": 0.5},
    finishes=lambda params: ("edge",),
)

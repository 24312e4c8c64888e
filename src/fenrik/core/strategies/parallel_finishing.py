"""Parallel finishing: passes in straight lines seen from above, the tool resting on the part.

The tip follows the exact tip height (see `contact.drop`). Each pass is sampled until three probes between
neighbouring samples lie within the sampling share of the tolerance of their chord, so that the path is right between
samples too; the samples are then thinned (Douglas & Peucker) within the rest of the tolerance.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
import shapely
from pydantic import BaseModel, ConfigDict, Field, model_validator
from shapely import affinity
from shapely.geometry import LineString
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact import DropIndex, DropStack, Surface, tip_heights
from fenrik.core.contact.region import part_outline
from fenrik.core.cutting.speeds import scallop_stepover
from fenrik.core.dividing import in_pieces
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.progress import Progress, part_of
from fenrik.core.regions import Shadow
from fenrik.core.regions.polygons import to_shape
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.references import FaceReference, FaceRule
from fenrik.core.strategies.common import (
    MM,
    START_GAP_MM,
    CommonParams,
    Outcome,
    Picks,
    held_back,
    require,
)
from fenrik.core.strategies.declared import Strategy, mills
from fenrik.core.strategies.given import ON_SURFACE, Given
from fenrik.core.strategies.linking import Landscape, skimming_builder
from fenrik.core.toolpath import Toolpath
from fenrik.core.tools.assembly import cutting_profile
from fenrik.core.units import LEAST_STEP_MM

SAMPLING_SHARE = 0.35
THINNING_SHARE = 0.3
MAX_ROUNDS = 24
LINK_REACH = 2.5
MAX_SAMPLES = 40_000_000


class OutlineBoundary(BaseModel):
    """The tool's axis stays inside the part's outline."""

    model_config = ConfigDict(extra="forbid")
    kind: Literal["part outline"] = "part outline"


class FacesBoundary(BaseModel):
    """The tool's axis stays over picked faces."""

    model_config = ConfigDict(extra="forbid")
    kind: Literal["faces"] = "faces"
    faces: list[FaceReference | FaceRule] = Field(min_length=1, title="Faces")


class SketchBoundary(BaseModel):
    """The tool's axis stays inside the closed curves of a sketch; a curve inside another is kept out."""

    model_config = ConfigDict(extra="forbid")
    kind: Literal["sketch"] = "sketch"
    sketch: str = Field(max_length=40, title="Sketch")


class ParallelFinishing(CommonParams):
    """Straight passes over the part's surface."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "direction_deg",
        "overlap_mm",
    )

    strategy: Literal["parallel finishing"] = "parallel finishing"
    stepover_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=200,
        title="Stepover",
        description="Distance between passes, seen from above",
        json_schema_extra=MM,
    )
    scallop_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=5,
        title="Scallop height",
        description="In place of the stepover: height left between passes on a flat",
        json_schema_extra=MM,
    )
    direction_deg: float = Field(
        default=0.0,
        ge=-360,
        le=360,
        title="Direction",
        description="Angle of the passes to the work frame's x",
        json_schema_extra={"unit": "deg"},
    )
    way: Literal["both ways", "one way"] = Field(default="both ways", title="Way")
    boundary: Annotated[OutlineBoundary | FacesBoundary | SketchBoundary, Field(discriminator="kind")] = Field(
        default_factory=OutlineBoundary, title="Boundary"
    )
    overlap_mm: float = Field(
        default=0.0,
        ge=-200,
        le=200,
        title="Boundary overlap",
        description="How far the tool's axis goes past the boundary",
        json_schema_extra=MM,
    )

    @model_validator(mode="after")
    def _one_of_two(self) -> ParallelFinishing:
        if (self.stepover_mm is None) == (self.scallop_mm is None):
            raise ValueError("give either a stepover or a scallop height, and leave the other empty")
        return self

    def picks(self) -> Picks:
        if isinstance(self.boundary, FacesBoundary):
            faces = [(f"boundary.faces.{k}", f) for k, f in enumerate(self.boundary.faces)]
            return Picks(faces, whole=False)
        drawn = self.boundary.sketch if isinstance(self.boundary, SketchBoundary) else ""
        return Picks(sketches=[drawn] if drawn else [], area=drawn)

    @classmethod
    def on_faces(cls, faces: list[FaceReference]) -> dict[str, Any]:
        return {"boundary": {"kind": "faces", "faces": faces}}


@dataclass(frozen=True)
class _WholeTool:
    """The exact surface for the cutter, and what neck, shank and holder ask for, which may be higher."""

    surface: Surface
    bodies: DropStack

    def tips(self, xy: Points) -> Points:
        z, _ = self.surface.tips(xy)
        return tip_heights(self.bodies, xy, z)


@dataclass
class _Passes:
    """Samples of all passes in one go: pass number, distance along it, height; sorted by pass and distance."""

    number: np.ndarray
    along: Points
    height: Points


def parallel_finishing(given: Given, params: ParallelFinishing) -> Outcome:
    """Passes in straight lines within a boundary.

    Raises:
        FenrikError: for a scallop height with a flat cutter, and when nothing is left of the boundary.
    """
    stepover = _stepover(given, params)
    radius = given.cutter.radius_mm
    given.progress(0.0, "finding the boundary")
    region = _boundary(given, params)
    turned = affinity.rotate(region, -params.direction_deg, origin=(0, 0))
    starts, ends = _scan_lines(turned, stepover)
    length = np.linalg.norm(ends - starts, axis=1)
    require(
        len(starts) > 0,
        "boundary",
        "leaves no room for a pass.",
        "Widen the boundary, its overlap, or pick more faces.",
        params.boundary.kind,
    )
    spacing = max(min(radius / 4, 1.0), 0.05)
    require(
        float(length.sum()) / spacing < MAX_SAMPLES,
        "stepover_mm",
        "would need too many points.",
        "Use a larger stepover.",
        stepover,
    )
    surface = _WholeTool(given.surface(params.allowance_mm), DropStack(tuple(given.body_indices(params.allowance_mm))))
    lift = params.floor_allowance_mm
    turn = np.deg2rad(params.direction_deg)
    to_part = np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]])
    direction = (ends - starts) / np.maximum(length, 1e-12)[:, None]
    floor = float(given.mesh.bounds()[0, 2]) - lift

    def places(number: np.ndarray, along: Points) -> Points:
        return (starts[number] + direction[number] * along[:, None]) @ to_part

    def heights(number: np.ndarray, along: Points) -> Points:
        return _clamped(surface, places(number, along), floor) + lift

    passes = _sample(length, spacing, heights, params.tolerance_mm * SAMPLING_SHARE, part_of(given.progress, 0.1, 0.8))
    lines = _thin(passes, len(starts), params.tolerance_mm * THINNING_SHARE)
    curves = [np.column_stack([places(np.full(len(line), k), line[:, 0]), line[:, 1]]) for k, line in enumerate(lines)]
    given.progress(0.9, "linking passes")
    path = _link(given, params, curves, starts[:, 1], stepover, surface, region, floor, lift)
    return Outcome(path, _held_back(given, params.allowance_mm, curves, stepover, lift))


def _held_back(
    given: Given, allowance_mm: float, curves: list[Points], stepover: float, lift: float
) -> list[Unreached]:
    """Where passes run over an obstacle instead of the part."""
    if given.obstacles is None or not curves:
        return []
    index = DropIndex.build(given.grown_obstacles, cutting_profile(given.cutter), allowance_mm)
    held = []
    for curve in curves:
        over = tip_heights(index, curve[:, :2]) + lift >= curve[:, 2] - 1e-6
        both = over[:-1] & over[1:]
        held += [LineString(curve[k : k + 2, :2]) for k in np.flatnonzero(both)]
    patches = shapely.union_all([line.buffer(0.51 * stepover, cap_style="flat") for line in held])
    found = []
    for patch in shapely.get_parts(patches):
        middle = patch.representative_point()
        height = float(tip_heights(index, np.array([[middle.x, middle.y]]))[0])
        found.append(held_back((middle.x, middle.y, height), float(patch.area)))
    return found


def _stepover(given: Given, params: ParallelFinishing) -> float:
    if params.stepover_mm is not None:
        return params.stepover_mm
    corner = given.cutter.corner_mm
    assert params.scallop_mm is not None
    require(
        corner > 0,
        "scallop_mm",
        "a flat cutter leaves no scallops to measure.",
        "Give a stepover, or use a ball or bull-nose cutter.",
        params.scallop_mm,
    )
    require(
        params.scallop_mm < corner,
        "scallop_mm",
        f"is not below the corner radius {corner:g} mm.",
        "Use a smaller scallop height.",
        params.scallop_mm,
    )
    return scallop_stepover(params.scallop_mm, corner)


def _boundary(given: Given, params: ParallelFinishing) -> BaseGeometry:
    tolerance = params.tolerance_mm
    if given.region.faces is not None:
        region = _seen_from_above(given.region.faces)
        require(
            not region.is_empty,
            "boundary.faces",
            "are vertical: they have no area seen from above.",
            "Pick faces that can be seen from above.",
        )
    elif given.region.area is not None:
        region = given.region.area
    else:
        size = np.ptp(given.mesh.bounds(), axis=0)[:2]
        region = part_outline(given.mesh, float(max(size.max() / 400, 0.02)), tolerance)
    grown = region.buffer(params.overlap_mm, quad_segs=16) if params.overlap_mm else region
    require(
        not grown.is_empty,
        "boundary",
        "is empty after its overlap.",
        "Use a smaller negative overlap or a wider boundary.",
        params.overlap_mm,
    )
    return grown


def _seen_from_above(faces: Mesh) -> BaseGeometry:
    """The area that faces cover, whichever side of them is seen."""
    a, b, c = np.moveaxis(faces.corners(), 1, 0)
    down = (b - a)[:, 0] * (c - a)[:, 1] < (b - a)[:, 1] * (c - a)[:, 0]
    triangles = np.where(down[:, None], faces.triangles[:, ::-1], faces.triangles)
    low = float(faces.bounds()[0][2])
    return to_shape(Shadow(replace(faces, triangles=triangles)).above(low - 1.0))


def _scan_lines(region: BaseGeometry, stepover: float) -> tuple[Points, Points]:
    """Lines along x through a region, evenly spaced with at most the stepover; ends (n, 2) each, sorted by y, x."""
    x0, y0, x1, y1 = region.bounds
    inset = min(1e-4, 0.01 * (y1 - y0))
    count = max(int(np.ceil((y1 - y0 - 2 * inset) / stepover)), 1)
    ys = np.linspace(y0 + inset, y1 - inset, count + 1)
    lines = shapely.linestrings([[[x0 - 1, y], [x1 + 1, y]] for y in ys])
    shapely.prepare(region)
    starts, ends = [], []
    for y, cut in zip(ys, shapely.intersection(lines, region), strict=True):
        spans = sorted(part.bounds[::2] for part in shapely.get_parts(cut) if part.length > 1e-6)
        for a, b in spans:
            starts.append([a, y])
            ends.append([b, y])
    return np.array(starts).reshape(-1, 2), np.array(ends).reshape(-1, 2)


def _clamped(surface: _WholeTool, xy: Points, floor: float) -> Points:
    z = surface.tips(xy)
    return np.where(np.isfinite(z), np.maximum(z, floor), floor)


def _sample(
    length: Points,
    spacing: float,
    heights: Callable[[np.ndarray, Points], Points],
    tolerance: float,
    progress: Progress,
) -> _Passes:
    """Adaptive samples of every pass."""
    counts = np.maximum(np.ceil(length / spacing).astype(int), 1) + 1
    number, piece = in_pieces(counts)
    along = piece / (counts[number] - 1) * length[number]
    z = heights(number, along)
    open_ = np.ones(len(number), bool)
    for round_ in range(MAX_ROUNDS):
        progress(round_ / MAX_ROUNDS, "sampling passes")
        span = np.diff(along, append=along[-1:])
        inner = np.append(number[1:] == number[:-1], False)
        check = np.flatnonzero(open_ & inner & (span > 0.25 * tolerance))
        if len(check) == 0:
            break
        worst = np.zeros(len(check))
        rise = z[check + 1] - z[check]
        scale = span[check] / np.hypot(span[check], rise)
        middle = np.zeros(len(check))
        for share in (0.25, 0.5, 0.75):
            probe = heights(number[check], along[check] + share * span[check])
            worst = np.maximum(worst, np.abs(probe - (z[check] + share * rise)) * scale)
            if share == 0.5:
                middle = probe
        bad = worst > tolerance
        open_[check[~bad]] = False
        split = check[bad]
        at = split + 1
        new_along, new_z = along[split] + 0.5 * span[split], middle[bad]
        number = np.insert(number, at, number[split])
        along, z = np.insert(along, at, new_along), np.insert(z, at, new_z)
        open_ = np.insert(open_, at, True)
    return _Passes(number, along, z)


def _thin(passes: _Passes, count: int, tolerance: float) -> list[Points]:
    points = np.column_stack([passes.along, passes.height])
    lines = shapely.linestrings(points, indices=passes.number)
    thin = shapely.simplify(lines, tolerance, preserve_topology=False)
    return [shapely.get_coordinates(line) for line in thin][:count]


def _link(
    given: Given,
    params: ParallelFinishing,
    curves: list[Points],
    rows: Points,
    stepover: float,
    surface: _WholeTool,
    region: BaseGeometry,
    floor: float,
    lift: float,
) -> Toolpath:
    """Order the passes, join neighbours along the surface, lift elsewhere."""
    landscape = Landscape(given)
    builder, tops = skimming_builder(given, landscape), landscape.stock
    radius = given.cutter.radius_mm
    fence = region.buffer(1e-3)
    shapely.prepare(fence)
    row_of = np.unique(np.round(rows, 9), return_inverse=True)[1]
    members: dict[int, list[int]] = {}
    for k, row in enumerate(row_of):
        members.setdefault(int(row), []).append(k)
    left = set(range(len(curves)))
    here: int | None = None
    forward = True
    while left:
        following = None
        place = builder.place
        if here is not None and params.way == "both ways" and place is not None:
            following = _neighbour(curves, members.get(int(row_of[here]) + 1, []), left, place, stepover)
        linked = False
        if following is not None and place is not None:
            current, ahead = following
            curve = curves[current] if ahead else curves[current][::-1]
            bridge = _bridge(place, curve[0], surface, fence, floor, lift, params.tolerance_mm, radius)
            if bridge is not None:
                builder.link(bridge)
                linked = True
        if following is None:
            current = min(left)
            ahead = forward or params.way == "one way"
            curve = curves[current] if ahead else curves[current][::-1]
        if not linked:
            start = curve[0]
            top = max(tops.under(start[0], start[1], radius), start[2])
            builder.travel(start[0], start[1], min(top + START_GAP_MM, given.retract_mm))
            builder.enter(start)
        builder.next_pass()
        builder.cut(curve[1:])
        left.discard(current)
        here, forward = current, not ahead
    return builder.finish()


def _neighbour(
    curves: list[Points], row: list[int], left: set[int], place: Points, stepover: float
) -> tuple[int, bool] | None:
    """The pass of the next row with an end near enough to link to, and whether it then runs forward."""
    best: tuple[float, int, bool] | None = None
    for k in row:
        if k not in left:
            continue
        for ahead, end in ((True, curves[k][0]), (False, curves[k][-1])):
            away = float(np.hypot(*(end[:2] - place[:2])))
            if away <= LINK_REACH * stepover and (best is None or away < best[0]):
                best = (away, k, ahead)
    return (best[1], best[2]) if best else None


def _bridge(
    start: Points,
    end: Points,
    surface: _WholeTool,
    fence: BaseGeometry,
    floor: float,
    lift: float,
    tolerance: float,
    radius: float,
) -> Points | None:
    """A link along the surface between two pass ends, or None where it would leave the boundary."""
    if not fence.covers(shapely.linestrings([start[:2], end[:2]])):
        return None
    gap = float(np.hypot(*(end[:2] - start[:2])))
    direction = (end[:2] - start[:2]) / max(gap, 1e-12)

    def heights(_number: np.ndarray, along: Points) -> Points:
        return _clamped(surface, start[:2] + direction * along[:, None], floor) + lift

    passes = _sample(
        np.array([gap]), min(radius / 4, max(gap / 4, 0.01)), heights, tolerance * SAMPLING_SHARE, lambda _f, _w: None
    )
    line = _thin(passes, 1, tolerance * THINNING_SHARE)[0]
    return np.column_stack([start[:2] + direction * line[:, :1], line[:, 1]])[1:]


STRATEGY = Strategy(
    params=ParallelFinishing,
    run=parallel_finishing,
    version=10,
    group="Free shapes",
    needs=(*ON_SURFACE, "surface", "region", "tool"),
    cutters=(*mills("ball", "bull-nose"), "lollipop"),
    stage=4,
    everywhere=True,
    makes=lambda params: "nothing",
    fresh={"tolerance_mm": 0.01},
    of_diameter={"stepover_mm": 0.08},
    finishes=lambda params: () if params.allowance_mm else ("slope",),
)

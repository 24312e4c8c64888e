"""Level roughing: clear material level by level where the tool fits and stock stands.

At each level the region where the tip may be is cut out of the tip-height field of the grown tool. Passes are its
walls offset inwards by the stepover, cut from the farthest to the wall, and only where they meet stock. Levels hang
together as a tree (a pocket's next level lies inside it), cut branch by branch so that a pocket is finished before
the next begins. A region that opens to outside the stock is entered from there; a closed one by helix or ramp.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal, Self

import numpy as np
import shapely
from pydantic import Field
from shapely import ops
from shapely.geometry import LineString, Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact.region import HeightField
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.progress import part_of
from fenrik.core.regions import Shadow, told_apart
from fenrik.core.solids.references import FaceReference, FaceRule
from fenrik.core.strategies.common import (
    MM,
    START_GAP_MM,
    Anchors,
    CommonParams,
    End,
    Level,
    Outcome,
    Picks,
    StockTops,
    require,
    to_points,
)
from fenrik.core.strategies.declared import Makes, Strategy, mills
from fenrik.core.strategies.given import BODY_CLEARANCE_MM, ON_SURFACE, Given
from fenrik.core.strategies.ground.entries import DescentParams, go_in, plan_entry_onto
from fenrik.core.strategies.ground.levels import levels_with_stops
from fenrik.core.strategies.ground.narrow import NarrowPlaces
from fenrik.core.strategies.ground.passes import pass_curve
from fenrik.core.strategies.ground.regions import FreePositions, StandingStock
from fenrik.core.strategies.ground.ring_passes import plan_passes
from fenrik.core.strategies.linking import Landscape, Linker, skimming_builder
from fenrik.core.strategies.targets import Targets
from fenrik.core.toolpath.builder import Kind
from fenrik.core.tools.assembly import wider_bodies
from fenrik.core.tools.cutters import FlatCutter
from fenrik.core.units import LEAST_STEP_MM

LEAD_MM = 1.0
FLAT_COSINE = 0.99999
THINNING_SHARE = 0.2
UNDER_MM = 1e-3


class LevelRoughing(CommonParams, DescentParams):
    """Clears stock down to the part in levels."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "top_mm",
        "bottom_mm",
        "flat_levels",
        "milling",
        "entry",
        "around",
    )

    strategy: Literal["level roughing"] = "level roughing"
    stepdown_mm: float = Field(
        ge=LEAST_STEP_MM, le=200, title="Stepdown", description="Greatest depth between levels", json_schema_extra=MM
    )
    stepover_mm: float = Field(
        ge=LEAST_STEP_MM,
        le=300,
        title="Stepover",
        description="Distance between passes of a level",
        json_schema_extra=MM,
    )
    top_mm: float | None = Field(
        default=None,
        title="Top",
        description="Highest level lies below this height in the work frame; empty: top of the stock",
        json_schema_extra=MM,
    )
    bottom_mm: float | None = Field(
        default=None,
        title="Bottom",
        description="Lowest level in the work frame; empty: bottom of the part",
        json_schema_extra=MM,
    )
    flat_levels: bool = Field(
        default=True,
        title="Levels at flat areas",
        description="Add a level at every flat area so that its floor keeps only the allowance",
    )
    milling: Literal["climb", "conventional"] = Field(default="climb", title="Milling")
    entry: Literal["helix", "ramp"] = Field(
        default="helix",
        title="Entry",
        description="How the tool goes down where no side is open; a ramp is used where a helix has no room",
    )

    around: list[FaceReference | FaceRule] = Field(
        default_factory=list,
        max_length=2000,
        title="Only over faces",
        description="Material that hangs together over these; empty: everything",
    )

    def picks(self) -> Picks:
        return Picks([(f"around.{k}", f) for k, f in enumerate(self.around)])

    @classmethod
    def on_faces(cls, faces: list[FaceReference]) -> dict[str, Any]:
        return {"around": faces}

    def absolute(self, zero: float, level_of: Callable[[End], float]) -> Self:
        given = {f"{end}_mm": getattr(self, f"{end}_mm") for end in ("top", "bottom")}
        return self.model_copy(update={name: mm + zero for name, mm in given.items() if mm is not None})

    def levels(self, anchors: Anchors, targets: Callable[[], Targets]) -> list[Level]:
        top = anchors.stock_top if self.top_mm is None else self.top_mm
        bottom = anchors.stock_bottom if self.bottom_mm is None else self.bottom_mm
        return [Level("top", top, "work zero"), Level("bottom", bottom, "work zero")]


@dataclass
class _Area:
    """One connected area of one level, the passes in it, and the areas below that lie inside it.

    Attributes:
        free: where the axis may be. standing: where anything stands over the level, which no way down may meet.
    """

    level: float
    above: float
    free: Polygon
    passes: list[Points]
    standing: BaseGeometry
    children: list[_Area] = field(default_factory=list)


def level_roughing(given: Given, params: LevelRoughing) -> Outcome:
    """Roughing in levels.

    Raises:
        FenrikError: for a stepover wider than the tool, levels in the wrong order, or too many levels.
    """
    cutter = given.cutter
    radius = cutter.radius_mm
    require(
        params.stepover_mm <= cutter.diameter_mm,
        "stepover_mm",
        f"is wider than the tool ({cutter.diameter_mm:g} mm).",
        f"Use at most {0.9 * cutter.diameter_mm:.3g} mm.",
        params.stepover_mm,
    )
    tops = StockTops(given.stock)
    low, _ = given.mesh.bounds()
    top = min(tops.highest, params.top_mm) if params.top_mm is not None else tops.highest
    bottom = params.bottom_mm if params.bottom_mm is not None else float(low[2])
    if not np.isfinite(top):
        return Outcome(given.builder().finish(), [])
    if params.top_mm is not None:
        require(
            bottom < params.top_mm + 1e-6,
            "bottom_mm",
            f"lies above the top ({params.top_mm:g} mm).",
            "Exchange top and bottom.",
            bottom,
        )
    if bottom >= top:
        return Outcome(given.builder().finish(), _nothing_over(given, bottom))
    levels = plan_levels(given, params, top, bottom)
    given.progress(0.02, "finding where the tool fits")
    lattice = given.stock.lattice
    margin = radius + params.allowance_mm + LEAD_MM + 2 * lattice.cell_mm
    span = np.array([lattice.origin[0], lattice.origin[1]])
    size = lattice.cell_mm * (np.array(lattice.shape[:2]) - 1)
    if given.region.faces is not None:
        beside = 2 * cutter.diameter_mm + params.allowance_mm
        low_xy, high_xy = given.region.faces.bounds()[:, :2]
        first = np.maximum(span, low_xy - beside)
        size = np.minimum(span + size, high_xy + beside) - first
        span = first
    cell = float(np.clip(radius / 6, 0.1, max(1.0, float(size.max()) / 600)))
    heights = HeightField.over(
        given.whole_tool_index(params.allowance_mm),
        span - margin - 2 * cell,
        span + size + margin + 2 * cell,
        cell,
        bottom - 10.0 - params.floor_allowance_mm,
    )
    roots, unreached = _plan_areas(given, params, tops, heights, levels)
    state = _Cutter(given, params, unreached)
    for area in _nearest_first(roots):
        state.cut_tree(area)
    return Outcome(state.builder.finish(), unreached)


def _nothing_over(given: Given, bottom: float) -> list[Unreached]:
    """What is told where no stock stands over the bottom: not any more, or never."""
    x, y = np.mean(given.mesh.bounds(), axis=0)[:2].tolist()
    advice = "Set the bottom lower, or take the row out."
    return [Unreached(reason="No stock stands over the bottom.", place=(x, y, bottom), level_mm=bottom, advice=advice)]


def plan_levels(given: Given, params: LevelRoughing, top: float, bottom: float) -> list[float]:
    """Heights of the levels from high to low: even steps, no larger than the stepdown, between flat areas."""
    floors = flat_heights(given, (0.2 * given.cutter.diameter_mm) ** 2) if params.flat_levels else []
    return levels_with_stops(top, bottom, params.stepdown_mm, (z + params.floor_allowance_mm for z in floors))


def flat_heights(given: Given, least_area_mm2: float) -> list[float]:
    """Heights of flat areas of the part that look up and are not tiny."""
    a, b, c = np.moveaxis(given.mesh.corners(), 1, 0)
    cross = np.cross(b - a, c - a)
    area = np.linalg.norm(cross, axis=1)
    flat = (area > 0) & (cross[:, 2] > FLAT_COSINE * area)
    found, place = told_apart(a[flat, 2])
    totals = np.bincount(place, area[flat] / 2, minlength=len(found))
    return [float(z) for z in found[totals >= least_area_mm2]]


def _plan_areas(
    given: Given, params: LevelRoughing, tops: StockTops, heights: HeightField, levels: list[float]
) -> tuple[list[_Area], list[Unreached]]:
    """Areas of all levels as trees, and the places where the tool does not fit."""
    roots: list[_Area] = []
    previous: list[_Area] = []
    radius = given.cutter.radius_mm
    highest = tops.highest
    watch = NarrowPlaces(given, params.allowance_mm, params.floor_allowance_mm, tops, heights)
    stock = StandingStock(given.stock)
    positions = _positions(given, params, heights)
    for number, (above, level) in enumerate(itertools.pairwise([np.inf, *levels])):
        part_of(given.progress, 0.05, 0.8)(number / len(levels), f"level {number + 1} of {len(levels)}")
        wanted, standing = stock.between(level, above), stock.above(level)
        if wanted.is_empty:
            continue
        free = positions.at(level - params.floor_allowance_mm)
        if given.region.faces is not None:
            free = shapely.intersection(free, _known(heights))
        reach = wanted.buffer(max(radius - given.stock.lattice.cell_mm, 0.5 * radius), quad_segs=16)
        wide = wanted.buffer(radius + LEAD_MM, quad_segs=16)
        areas = []
        near = _over_faces(given, level, radius + params.allowance_mm + LEAD_MM)
        for polygon in shapely.get_parts(free):
            for piece in shapely.get_parts(shapely.intersection(polygon, wide)):
                if piece.area < 1e-9 or not piece.intersects(reach) or not near(piece):
                    continue
                passes = plan_passes(
                    polygon, piece, reach, params.stepover_mm, radius, THINNING_SHARE * params.tolerance_mm
                )
                if params.milling == "conventional":
                    passes = [p[::-1] for p in passes]
                if passes:
                    areas.append(_Area(level, highest, piece, passes, standing))
        for area in areas:
            parent = max(previous, key=lambda p: p.free.intersection(area.free).area, default=None)
            if parent is not None and parent.free.intersection(area.free).area > 0.5 * area.free.area:
                area.above = parent.level
                parent.children.append(area)
            else:
                roots.append(area)
        previous = areas or previous
        watch.look(level)
    return roots, watch.found()


def _positions(given: Given, params: LevelRoughing, heights: HeightField) -> FreePositions:
    bodies = []
    if isinstance(given.cutter, FlatCutter):
        away = params.allowance_mm + BODY_CLEARANCE_MM
        bodies = [(radius + away, bottom) for radius, bottom in wider_bodies(given.tool)]
        bodies.append((given.cutter.radius_mm + params.allowance_mm, 0.0))
    band = max(params.allowance_mm, params.floor_allowance_mm) + params.tolerance_mm
    return FreePositions(heights, Shadow(given.with_obstacles), bodies, band, params.tolerance_mm * 0.5)


def _known(heights: HeightField) -> Polygon:
    """Where tip heights are known: beyond, the open plane is a guess that holds for the whole part only."""
    rim = 2 * heights.cell_mm
    return shapely.box(heights.x[0] + rim, heights.y[0] + rim, heights.x[-1] - rim, heights.y[-1] - rim)


def _over_faces(given: Given, level: float, reach: float) -> Callable[[Polygon], bool]:
    """Tells whether a piece of a level comes to the faces that are asked for, of those that go down to it."""
    faces = given.region.faces
    if faces is None:
        return lambda piece: True
    corners = faces.corners()
    corners = corners[corners[:, :, 2].min(axis=1) < level + UNDER_MM]
    tree = shapely.STRtree(shapely.linestrings(corners[:, [0, 1, 2, 0], :2]))
    return lambda piece: len(tree.query(piece, "dwithin", distance=reach)) > 0


def _nearest_first(areas: list[_Area]) -> list[_Area]:
    """Highest first; among equals along x."""
    return sorted(areas, key=lambda a: (-a.level, round(a.free.centroid.x, 3), round(a.free.centroid.y, 3)))


class _Cutter:
    """Walks the trees and writes the motions."""

    def __init__(self, given: Given, params: LevelRoughing, unreached: list[Unreached]) -> None:
        self.given, self.params, self.unreached = given, params, unreached
        self.landscape = Landscape(given)
        self.builder = skimming_builder(given, self.landscape)
        self.builder.beside = "both"  # the first pass of an area may be at full width
        self.radius = given.cutter.radius_mm
        self.linker: Linker
        self.swept: list[Points] = []
        """Passes of the area that is cut now."""

    def cut_tree(self, root: _Area) -> None:
        waiting = [root]
        while waiting:
            area = waiting.pop()
            self._cut_area(area)
            waiting += reversed(_nearest_first(area.children))

    def _cut_area(self, area: _Area) -> None:
        fence = area.free.buffer(max(1e-4, THINNING_SHARE * self.params.tolerance_mm))
        shapely.prepare(fence)
        around = area.standing.buffer(self.radius + 1e-3, quad_segs=16)
        shapely.prepare(around)
        outside = area.free.difference(around)
        self.linker = Linker(self.builder, self.landscape, lambda _level, _window: fence)
        self.swept = []
        for original in area.passes:
            run = original
            place = self.builder.place
            closed = len(run) > 3 and np.allclose(run[0], run[-1])
            at_level = place is not None and abs(place[2] - area.level) < 1e-9
            if closed and place is not None:
                run = _from_nearest(run, place[:2])
            linked = False
            if at_level and place is not None:
                gap = float(np.hypot(*(run[0] - place[:2])))
                if gap <= 3 * self.params.stepover_mm and fence.covers(LineString([place[:2], run[0]])):
                    self.builder.link(to_points(run[:1], area.level))
                    linked = True
            if not linked:
                from_outside = None if outside.is_empty else self._from_outside(area, run, closed, outside, fence)
                if from_outside is not None:
                    run = from_outside
                elif not self._enter(area, run, around):
                    continue
            self.builder.next_pass()
            self.builder.follow(pass_curve(run), Kind.CUT)
            self.swept.append(run)

    def _enter(self, area: _Area, run: Points, around: BaseGeometry) -> bool:
        """Come to the start of a pass: where nothing stands, by helix, or by a ramp along it."""
        params, cutter = self.params, self.given.cutter
        beside = not around.covers(shapely.Point(run[0]))
        if beside or self.linker.is_cleared(run[[0, 0]], area.level, self.swept):
            self._go_down(area, run[0])
            return True
        left = params.milling == "climb"
        entry = plan_entry_onto(run, area.free, self.radius, cutter.centre_cutting, params, params.entry, left)
        if entry is None:
            self._tell_closed(area, run)
            return False
        go_in(self.builder, params, entry, area.level, area.above, False)
        return True

    def _tell_closed(self, area: _Area, run: Points) -> None:
        length = float(np.linalg.norm(np.diff(run, axis=0), axis=1).sum())
        self.unreached.append(
            Unreached(
                reason=f"No room to enter: the way in is {length:.2f} mm and the tool is not centre cutting.",
                place=(float(run[0, 0]), float(run[0, 1]), area.level),
                level_mm=area.level,
                advice="Use a smaller or centre-cutting tool, or drill a hole to start in.",
            )
        )

    def _go_down(self, area: _Area, xy: Points) -> None:
        """To a place of a level where nothing stands any more."""
        self.linker.to(xy, area.level, min(area.level + START_GAP_MM, self.builder.retract_mm), self.swept)
        self.builder.approach(np.array([*xy, area.level]))

    def _from_outside(
        self, area: _Area, run: Points, closed: bool, outside: BaseGeometry, fence: BaseGeometry
    ) -> Points | None:
        """Come down beside the stock and go straight onto a pass; gives the pass from there, or None."""
        target = LineString(run) if closed else shapely.Point(run[0])
        away, onto = ops.nearest_points(outside, target)
        way = LineString([away, onto])
        if way.length > 6 * self.radius or not fence.covers(way):
            return None
        self._go_down(area, np.array([away.x, away.y]))
        run = _from_nearest(run, np.array([onto.x, onto.y])) if closed else run
        self.builder.enter(to_points(run[:1], area.level))
        return run


def _from_nearest(ring: Points, place: Points) -> Points:
    """A closed ring begun at its point nearest to a place (on a side, not only at a corner)."""
    line = LineString(ring)
    at = line.project(shapely.Point(place))
    if at < 1e-9 or at > line.length - 1e-9:
        return ring
    head, tail = ops.substring(line, at, line.length), ops.substring(line, 0, at)
    return np.vstack([shapely.get_coordinates(head), shapely.get_coordinates(tail)[1:]])


def _makes(params: LevelRoughing) -> Makes:
    return "all from above" if params.allowance_mm == params.floor_allowance_mm == 0 else "nothing"


STRATEGY = Strategy(
    params=LevelRoughing,
    run=level_roughing,
    version=14,
    skims=True,
    group="Free shapes",
    needs=(*ON_SURFACE, "tool", "region"),
    cutters=mills("bull-nose", "flat"),
    stage=1,
    everywhere=True,
    makes=_makes,
    fresh={"allowance_mm": 0.3, "floor_allowance_mm": 0.2, "tolerance_mm": 0.05},
    of_diameter={"stepdown_mm": 0.4, "stepover_mm": 0.4},
    finishes=lambda params: ("level", "upright") if _makes(params) == "all from above" else (),
)

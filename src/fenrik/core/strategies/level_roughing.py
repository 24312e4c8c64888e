"""Level roughing: clear material level by level where the tool fits and stock stands.

At each level the region where the tip may be is cut out of the tip-height field of the grown tool. Passes are its
walls offset inwards by the stepover, cut from the farthest to the wall, or lines to and fro and then the wall, and only
where they meet stock. Levels hang
together as a tree (a pocket's next level lies inside it), cut branch by branch so that a pocket is finished before
the next begins. A region that opens to outside the stock is entered from there; a closed one by helix or ramp.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
import shapely
from pydantic import Field
from shapely import ops
from shapely.geometry import LineString
from shapely.geometry.base import BaseGeometry

from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.regions.polygons import from_shape
from fenrik.core.strategies.common import (
    MM,
    START_GAP_MM,
    Outcome,
    require,
    to_points,
)
from fenrik.core.strategies.declared import Strategy, mills
from fenrik.core.strategies.given import ON_SURFACE, Given
from fenrik.core.strategies.ground.entries import go_in, plan_entry_onto
from fenrik.core.strategies.ground.level_ground import (
    FRESH,
    LEAD_MM,
    Area,
    LevelGround,
    LevelParams,
    LevelPiece,
    branch_by_branch,
    finishes,
    hang_together,
    makes,
)
from fenrik.core.strategies.ground.passes import parallel_passes, pass_curve
from fenrik.core.strategies.ground.ring_passes import plan_passes
from fenrik.core.strategies.linking import Landscape, Linker, skimming_builder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.units import LEAST_STEP_MM

THINNING_SHARE = 0.2
BESIDE_CELLS = 0.6
"""How far beside standing stock the tool comes down at rapid, in cells."""


class LevelRoughing(LevelParams):
    """Clears stock down to the part in levels."""

    FOLDED: ClassVar[tuple[str, ...]] = ("pattern", "direction_deg", "milling", "entry")

    strategy: Literal["level roughing"] = "level roughing"
    stepover_mm: float = Field(
        ge=LEAST_STEP_MM,
        le=300,
        title="Stepover",
        description="Distance between passes of a level",
        json_schema_extra=MM,
    )
    pattern: Literal["offset", "parallel"] = Field(
        default="offset",
        title="Pattern",
        description="Offset: along the walls; parallel: lines to and fro, then once round the walls",
    )
    direction_deg: float = Field(
        default=0.0,
        ge=-360,
        le=360,
        title="Direction",
        description="Of parallel passes",
        json_schema_extra={"unit": "deg"},
    )
    milling: Literal["climb", "conventional"] = Field(default="climb", title="Milling")
    entry: Literal["helix", "ramp"] = Field(
        default="helix",
        title="Entry",
        description="How the tool goes down where no side is open; a ramp is used where a helix has no room",
    )


@dataclass
class _Area(Area):
    """An area with its passes.

    Attributes:
        standing: where anything stands over the level, which no way down may meet.
    """

    passes: list[Points]
    standing: BaseGeometry


def level_roughing(given: Given, params: LevelRoughing) -> Outcome:
    """Roughing in levels.

    Raises:
        FenrikError: for a stepover wider than the tool, levels in the wrong order, or too many levels.
    """
    cutter = given.cutter
    require(
        params.stepover_mm <= cutter.diameter_mm,
        "stepover_mm",
        f"is wider than the tool ({cutter.diameter_mm:g} mm).",
        f"Use at most {0.9 * cutter.diameter_mm:.3g} mm.",
        params.stepover_mm,
    )
    ground = LevelGround(given, params)
    if not ground.levels:
        return Outcome(given.builder().finish(), ground.unreached)
    roots = hang_together(_areas(given, params, ground))
    unreached = ground.unreached
    state = _Cutter(given, params, unreached)
    for area in branch_by_branch(roots):
        state.cut(area)
    return Outcome(state.builder.finish(), unreached)


def _areas(given: Given, params: LevelRoughing, ground: LevelGround) -> Iterator[list[_Area]]:
    """Areas with their passes, level by level."""
    radius, thin = given.cutter.radius_mm, THINNING_SHARE * params.tolerance_mm
    for pieces in ground.pieces(LEAD_MM):
        areas = []
        for p in pieces:
            passes = plan_passes(p.polygon, p.free, p.reach, _step_of(params, p), radius, thin)
            if params.pattern == "parallel":
                passes = _lines(p, params) + passes
            if params.milling == "conventional":
                passes = [run[::-1] for run in passes]
            if passes:
                areas.append(_Area(p.level, ground.highest, p.free, passes, p.standing))
        yield areas


def _step_of(params: LevelRoughing, piece: LevelPiece) -> float:
    """Distance between the passes along walls: beside parallel lines there is only the outermost."""
    return params.stepover_mm if params.pattern == "offset" else 2 * float(np.hypot(*np.ptp(_corners(piece), axis=0)))


def _corners(piece: LevelPiece) -> Points:
    return np.reshape(piece.free.bounds, (2, 2))


def _lines(piece: LevelPiece, params: LevelRoughing) -> list[Points]:
    """Lines to and fro over a piece, where stock stands."""
    wanted = from_shape(shapely.intersection(piece.free, piece.reach))
    return parallel_passes(from_shape(piece.free), wanted, params.stepover_mm, params.direction_deg) if wanted else []


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

    def cut(self, area: _Area) -> None:
        fence = area.free.buffer(max(1e-4, THINNING_SHARE * self.params.tolerance_mm))
        shapely.prepare(fence)
        # Which of two neighbouring rays still stands may change with the last digit of a program.
        spare = BESIDE_CELLS * self.landscape.stock.cell
        around = area.standing.buffer(self.radius + spare, quad_segs=16)
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


STRATEGY = Strategy(
    params=LevelRoughing,
    run=level_roughing,
    version=19,
    skims=True,
    group="Free shapes",
    needs=(*ON_SURFACE, "tool", "region", "keep_out", "stay_in"),
    cutters=mills("bull-nose", "flat"),
    stage=1,
    everywhere=True,
    makes=makes,
    left_to="rest roughing",
    fresh=FRESH,
    of_diameter={"stepdown_mm": 0.4, "stepover_mm": 0.4},
    finishes=finishes,
)

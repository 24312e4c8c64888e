"""What roughing in levels stands on: heights, where the tool may be at each, and where stock stands there."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, ClassVar, Self, TypeVar

import numpy as np
import shapely
from numpy.typing import NDArray
from pydantic import Field
from shapely.geometry import Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact.region import HeightField
from fenrik.core.findings import Unreached
from fenrik.core.progress import part_of
from fenrik.core.regions import Shadow, told_apart
from fenrik.core.regions.polygons import to_shape
from fenrik.core.solids.references import FaceReference, FaceRule
from fenrik.core.strategies.common import MM, Anchors, CommonParams, End, FenceParams, Level, Picks, StockTops, require
from fenrik.core.strategies.declared import Duty, Makes
from fenrik.core.strategies.given import BODY_CLEARANCE_MM, Given
from fenrik.core.strategies.ground.entries import DescentParams
from fenrik.core.strategies.ground.held_up import HeldUp
from fenrik.core.strategies.ground.levels import levels_with_stops
from fenrik.core.strategies.ground.narrow import NarrowPlaces
from fenrik.core.strategies.ground.regions import FreePositions, StandingStock
from fenrik.core.strategies.targets import Targets
from fenrik.core.tools.assembly import cutting_profile, wider_bodies
from fenrik.core.tools.cutters import FlatCutter
from fenrik.core.units import LEAST_STEP_MM

LEAD_MM = 1.0
FLAT_COSINE = 0.99999
UNDER_MM = 1e-3
SPARE_CELLS = 0.2
"""How much farther out stock may stand than the rays of its field tell, in cells."""
REFERENCE_SHARE = 0.1
"""Least radius of turns of an earlier tool, as a share of its own: so far it does not come into corners."""
THIN_CELLS = 0.6
"""Stock thinner than so many cells of its field, half as much to each side, is no more than the field's error."""


class HeightParams(CommonParams, FenceParams):
    """Heights between which it is cleared, and over what."""

    FOLDED: ClassVar[tuple[str, ...]] = ("top_mm", "bottom_mm", "around", "stay_in_by_mm")

    stay_in_by_mm: float = Field(
        default=0.0,
        ge=-500,
        le=500,
        title="Beyond the boundary",
        description="How far the axis may go beyond what it stays inside of; below zero: how far it keeps within",
        json_schema_extra=MM,
    )
    top_mm: float | None = Field(
        default=None,
        title="Top",
        description="Nothing is cut above this height in the work frame; empty: top of the stock",
        json_schema_extra=MM,
    )
    bottom_mm: float | None = Field(
        default=None,
        title="Bottom",
        description="Lowest height in the work frame; empty: bottom of the part",
        json_schema_extra=MM,
    )
    around: list[FaceReference | FaceRule] = Field(
        default_factory=list,
        max_length=2000,
        title="Only over faces",
        description="Material that hangs together over these; empty: everything",
    )

    def picks(self) -> Picks:
        return Picks([(f"around.{k}", f) for k, f in enumerate(self.around)], [], self.fences())

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


class LevelParams(HeightParams, DescentParams):
    """The levels of a row that clears one after another."""

    FOLDED: ClassVar[tuple[str, ...]] = ("flat_levels",)

    stepdown_mm: float = Field(
        ge=LEAST_STEP_MM, le=200, title="Stepdown", description="Greatest depth between levels", json_schema_extra=MM
    )
    flat_levels: bool = Field(
        default=True,
        title="Levels at flat areas",
        description="Add a level at every flat area so that its floor keeps only the allowance",
    )


def makes(params: LevelParams) -> Makes:
    """What is finished by a row that clears in levels."""
    return "all from above" if params.allowance_mm == params.floor_allowance_mm == 0 else "nothing"


def finishes(params: LevelParams) -> tuple[Duty, ...]:
    """Of that, the places that lie so."""
    return ("level", "upright") if makes(params) == "all from above" else ()


FRESH = {"allowance_mm": 0.3, "floor_allowance_mm": 0.2, "tolerance_mm": 0.05}
"""What a row that clears in levels begins with."""


@dataclass(frozen=True)
class LevelPiece:
    """A connected piece of a level.

    Attributes:
        polygon: where the axis may be, of which the piece is what lies near stock. reach: where the axis takes stock.
        standing: where anything stands over the level, which no way down may meet. wanted: what is to be taken.
        spare_mm: how much farther out that may stand.
    """

    level: float
    above: float
    polygon: Polygon
    free: Polygon
    reach: BaseGeometry
    standing: BaseGeometry
    wanted: BaseGeometry
    spare_mm: float


@dataclass(frozen=True)
class Rest:
    """What of the stock is gone after, where an earlier tool has cleared before.

    Attributes:
        thicker_mm: in plan; what is thinner is left alone. cleared: of a level and the one over it, where that tool
            leaves nothing, whatever the stock says; None where the stock says it.
    """

    thicker_mm: float
    cleared: Callable[[float, float], BaseGeometry] | None = None


class LevelGround:
    """Levels of a row, and the pieces of each.

    Attributes:
        levels: heights of the tip from high to low; none where there is nothing to clear. unreached: places that are
            found while pieces are asked for.

    Raises:
        FenrikError: for levels in the wrong order, or too many.
    """

    def __init__(self, given: Given, params: LevelParams, rest: Rest | None = None) -> None:
        self.given, self.params, self.rest = given, params, rest
        self.tops = StockTops(given.stock)
        self.levels: list[float] = []
        self.nothing: list[Unreached] = []
        top = min(self.tops.highest, params.top_mm) if params.top_mm is not None else self.tops.highest
        self.bottom = params.bottom_mm if params.bottom_mm is not None else float(given.mesh.bounds()[0, 2])
        if not np.isfinite(top):
            return
        if params.top_mm is not None:
            require(
                self.bottom < params.top_mm + 1e-6,
                "bottom_mm",
                f"lies above the top ({params.top_mm:g} mm).",
                "Exchange top and bottom.",
                self.bottom,
            )
        if self.bottom >= top:
            self.nothing = _nothing_over(given, self.bottom)
            return
        self.levels = plan_levels(given, params, top, self.bottom)
        given.progress(0.02, "finding where the tool fits")
        self.heights = self._heights()
        self._watch = NarrowPlaces(given, params.allowance_mm, params.floor_allowance_mm, self.tops, self.heights)
        self._fence = fence_of(given, params)
        self._held_up = HeldUp(
            given, self.heights, self._watch.tops, self._fence, 0.0 if rest is None else rest.thicker_mm
        )
        self._stock = StandingStock(given.stock, exact=True)
        self._shadow = Shadow(given.with_obstacles)
        self._positions = _positions(given, params, self.heights, self._shadow)
        # What was asked for last: several ask for the same of a level, one after another.
        self._known_free: dict[float, BaseGeometry] = {}
        self._known_swept: dict[tuple[float, float, float], BaseGeometry] = {}

    @property
    def highest(self) -> float:
        return self.tops.highest

    @property
    def unreached(self) -> list[Unreached]:
        """Places where the tool does not fit, of the levels that were asked for."""
        if not self.levels:
            return self.nothing
        found = self._watch.found()
        near = {level: self._near(level) for level in {u.place[2] for u in found}}
        return [u for u in found if near[u.place[2]](shapely.Point(u.place[:2]))] + self._held_up.found()

    def _near(self, level: float) -> Callable[[BaseGeometry], bool]:
        """Tells whether a piece of a level comes to the faces that are asked for."""
        return over_faces(self.given, level, self.given.cutter.radius_mm + self.params.allowance_mm + LEAD_MM)

    def is_held_up(self, x_mm: float, y_mm: float) -> bool:
        """Whether shank or holder keep the cutter from a place of the level whose pieces were given last."""
        return self._held_up.holds(x_mm, y_mm)

    def covered(self, level_mm: float) -> BaseGeometry:
        """Where part and fixtures stand over a level."""
        return to_shape(self._shadow.above(level_mm))

    def pieces(self, beside_mm: float) -> Iterator[list[LevelPiece]]:
        """The pieces of each level, from high to low.

        Args:
            beside_mm: how far beside the stock the axis goes, more than the tool's radius.
        """
        for number, (above, level) in enumerate(itertools.pairwise([np.inf, *self.levels])):
            part_of(self.given.progress, 0.05, 0.4)(
                number / len(self.levels), f"level {number + 1} of {len(self.levels)}"
            )
            cleared = self._cleared_before(level, above)
            stands = self._stands(level, above, cleared)
            held = self._look_for_held_up(level, above, stands)
            wanted = self._wanted(level, above, stands, cleared)
            if wanted.is_empty:
                continue
            yield self._pieces_of(level, above, wanted, beside_mm, cleared)
            self._watch.look(level, held)

    def _look_for_held_up(self, level: float, above: float, stands: BaseGeometry) -> NDArray[np.bool_]:
        high, lift = min(above, self.highest), self.params.floor_allowance_mm
        return self._held_up.look(level, high, lift, stands, self._near(level))

    def pieces_left(self, level: float, above: float, cleared: BaseGeometry, beside_mm: float) -> list[LevelPiece]:
        """The pieces of a level between two others, when the lower one is cleared.

        Args:
            cleared: where nothing stands over the level any more.
        """
        before = self._cleared_before(level, above)
        cleared = cleared if before is None else shapely.union(cleared, before)
        wanted = self._wanted(level, above, self._stands(level, above, cleared), cleared)
        return [] if wanted.is_empty else self._pieces_of(level, above, wanted, beside_mm, cleared)

    def reached(self, level: float, above: float) -> BaseGeometry:
        """Where the cutter may clear at a level, whatever stands there: by its radius half way up to the level over
        it, since a round edge leaves something under it."""
        return self._swept(level, above, 0.0)

    def cleared_by(self, level: float, above: float) -> BaseGeometry:
        """Where it has cleared at a level when its work is done, going round corners with some radius."""
        return self._swept(level, above, REFERENCE_SHARE * self.given.cutter.radius_mm)

    def _swept(self, level: float, above: float, turn_mm: float) -> BaseGeometry:
        """What the cutter covers from where the axis may be, whose corners it goes round with a radius."""
        if (level, above, turn_mm) not in self._known_swept:
            half = 0.5 * min(above - level, self.params.stepdown_mm)
            radius, free = cutting_profile(self.given.cutter).radius_at(half), self._free(level)
            inner = free.buffer(-turn_mm, quad_segs=32) if turn_mm else free
            self._known_swept = {(level, above, turn_mm): inner.buffer(turn_mm + radius, quad_segs=32)}
        return self._known_swept[level, above, turn_mm]

    def _free(self, level: float) -> BaseGeometry:
        """Where the axis may be."""
        if level not in self._known_free:
            free = self._positions.at(level - self.params.floor_allowance_mm)
            self._known_free = {level: free if self._fence is None else shapely.intersection(free, self._fence)}
        return self._known_free[level]

    def _cleared_before(self, level: float, above: float) -> BaseGeometry | None:
        """Where nothing stands over a level any more, beyond what the stock says."""
        return self.rest.cleared(level, above) if self.rest is not None and self.rest.cleared is not None else None

    def _stands(self, level: float, above: float, cleared: BaseGeometry | None) -> BaseGeometry:
        """Where stock stands between a level and the one over it, and nothing has cleared it."""
        stands = self._stock.between(level, above)
        return stands if cleared is None else shapely.difference(stands, cleared)

    def _wanted(self, level: float, above: float, stands: BaseGeometry, cleared: BaseGeometry | None) -> BaseGeometry:
        """What of that is to be taken: of what is left, only where it is thick."""
        if self.rest is not None:
            return _opened(shapely.intersection(stands, self.reached(level, above)), 0.5 * self.rest.thicker_mm)
        return stands if cleared is None else _opened(stands, self._noise)

    @property
    def _noise(self) -> float:
        """Half the thickness of stock that may be no more than the error of its field."""
        return THIN_CELLS * self.given.stock.lattice.cell_mm

    def _standing(self, level: float, above: float, cleared: BaseGeometry | None) -> tuple[BaseGeometry, float]:
        """Where anything stands over a level, and how much farther out it may stand.

        Of what is left beside walls that are cleared, what is no thicker than the field's error is not there: else all
        walls would be gone along once more.
        """
        standing, spare = self._stock.above(level), SPARE_CELLS * self.given.stock.lattice.cell_mm
        if cleared is not None:
            standing = shapely.difference(standing, cleared)
        if self.rest is None:
            return standing, spare
        mine = self.reached(level, above)
        thick = _opened(shapely.intersection(standing, mine), self._noise)
        if self.rest.cleared is None:
            thick = thick.buffer(spare)
        return shapely.union(shapely.difference(standing, mine), thick), 0.0

    def _pieces_of(
        self, level: float, above: float, wanted: BaseGeometry, beside_mm: float, cleared: BaseGeometry | None = None
    ) -> list[LevelPiece]:
        given, radius = self.given, self.given.cutter.radius_mm
        standing, spare = self._standing(level, above, cleared)
        free = self._free(level)
        if given.region.faces is not None:
            free = shapely.intersection(free, _known(self.heights))
        reach = wanted.buffer(max(radius - SPARE_CELLS * given.stock.lattice.cell_mm, 0.5 * radius), quad_segs=16)
        wide = wanted.buffer(radius + beside_mm, quad_segs=16)
        near = self._near(level)
        return [
            LevelPiece(level, above, polygon, piece, reach, standing, wanted, spare)
            for polygon in shapely.get_parts(free)
            for piece in shapely.get_parts(shapely.intersection(polygon, wide))
            if piece.area >= 1e-9 and piece.intersects(reach) and near(piece)
        ]

    def _heights(self) -> HeightField:
        """Tip heights of the whole tool over all that may be cleared."""
        given, params, cutter = self.given, self.params, self.given.cutter
        lattice = given.stock.lattice
        margin = cutter.radius_mm + params.allowance_mm + LEAD_MM + 2 * lattice.cell_mm
        first = np.array([lattice.origin[0], lattice.origin[1]])
        size = lattice.cell_mm * (np.array(lattice.shape[:2]) - 1)
        if given.region.faces is not None:
            beside = 2 * cutter.diameter_mm + params.allowance_mm
            low, high = given.region.faces.bounds()[:, :2]
            first, last = np.maximum(first, low - beside), np.minimum(first + size, high + beside)
            size = last - first
        cell = float(np.clip(cutter.radius_mm / 6, 0.1, max(1.0, float(size.max()) / 600)))
        return HeightField.over(
            given.whole_tool_index(params.allowance_mm),
            first - margin - 2 * cell,
            first + size + margin + 2 * cell,
            cell,
            self.bottom - 10.0 - params.floor_allowance_mm,
        )


@dataclass
class Area:
    """One connected area of one level, and the areas below that lie inside it.

    Attributes:
        free: where the axis may be. above: the level over it, or the highest stock.
    """

    level: float
    above: float
    free: Polygon
    children: list[Any] = field(default_factory=list, kw_only=True)


A = TypeVar("A", bound=Area)


def hang_together(levels: Iterable[list[A]]) -> list[A]:
    """Areas of levels from high to low as trees: each below the one in which most of it lies."""
    roots: list[A] = []
    previous: list[A] = []
    for areas in levels:
        for area in areas:
            parent = max(previous, key=lambda p: p.free.intersection(area.free).area, default=None)
            if parent is not None and parent.free.intersection(area.free).area > 0.5 * area.free.area:
                area.above = parent.level
                parent.children.append(area)
            else:
                roots.append(area)
        previous = areas or previous
    return roots


def nearest_first(areas: list[A]) -> list[A]:
    """Highest first; among equals along x."""
    return sorted(areas, key=lambda a: (-a.level, round(a.free.centroid.x, 3), round(a.free.centroid.y, 3)))


def branch_by_branch(roots: list[A]) -> Iterator[A]:
    """Areas in the order in which they are cut: all that hangs below one before the next."""
    for root in nearest_first(roots):
        waiting = [root]
        while waiting:
            area = waiting.pop()
            yield area
            waiting += reversed(nearest_first(area.children))


def fence_of(given: Given, params: HeightParams) -> BaseGeometry | None:
    """Where boundary and keep-out let the axis be, whatever else is there; None where neither is named."""
    if not given.keep_out and not given.stay_in:
        return None
    low, high = np.array(given.stock.bounds())[:, :2]
    far = float(np.linalg.norm(high - low))
    plane: BaseGeometry = shapely.box(*(low - far), *(high + far))
    if given.stay_in:
        plane = to_shape(given.stay_in).buffer(params.stay_in_by_mm, quad_segs=32)
    if given.keep_out:
        plane = shapely.difference(plane, to_shape(given.keep_out).buffer(given.cutter.radius_mm, quad_segs=32))
    return plane


def _nothing_over(given: Given, bottom: float) -> list[Unreached]:
    """What is told where no stock stands over the bottom: not any more, or never."""
    x, y = np.mean(given.mesh.bounds(), axis=0)[:2].tolist()
    advice = "Set the bottom lower, or take the row out."
    return [Unreached(reason="No stock stands over the bottom.", place=(x, y, bottom), level_mm=bottom, advice=advice)]


def plan_levels(given: Given, params: LevelParams, top: float, bottom: float) -> list[float]:
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


def _positions(given: Given, params: LevelParams, heights: HeightField, shadow: Shadow) -> FreePositions:
    bodies = []
    if isinstance(given.cutter, FlatCutter):
        away = params.allowance_mm + BODY_CLEARANCE_MM
        bodies = [(radius + away, bottom) for radius, bottom in wider_bodies(given.tool)]
        bodies.append((given.cutter.radius_mm + params.allowance_mm, 0.0))
    band = max(params.allowance_mm, params.floor_allowance_mm) + params.tolerance_mm
    return FreePositions(heights, shadow, bodies, band, params.tolerance_mm * 0.5)


def _opened(shape: BaseGeometry, by_mm: float) -> BaseGeometry:
    """What of a shape is thicker than twice a length."""
    return shape.buffer(-by_mm).buffer(by_mm)


def _known(heights: HeightField) -> Polygon:
    """Where tip heights are known: beyond, the open plane is a guess that holds for the whole part only."""
    rim = 2 * heights.cell_mm
    return shapely.box(heights.x[0] + rim, heights.y[0] + rim, heights.x[-1] - rim, heights.y[-1] - rim)


def over_faces(given: Given, level: float, reach: float) -> Callable[[BaseGeometry], bool]:
    """Tells whether a place or piece of a level comes to the faces that are asked for, of those that go down to it."""
    faces = given.region.faces
    if faces is None:
        return lambda piece: True
    corners = faces.corners()
    corners = corners[corners[:, :, 2].min(axis=1) < level + UNDER_MM]
    tree = shapely.STRtree(shapely.linestrings(corners[:, [0, 1, 2, 0], :2]))
    return lambda piece: len(tree.query(piece, "dwithin", distance=reach)) > 0

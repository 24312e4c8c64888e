"""Waterline: round the walls of picked faces at level after level, wherever the part's own sections lead the tool.

At each level the places that the tool's axis cannot reach are the part's section from that level up, as wide as the
tool (exact polygons, see `regions.shadow`); their rim is where the tool touches. What of the rim lies at the picked
faces is the pass: any outline, upright, drafted, conical or free, broken by open pockets or not, and none of it can
gouge. Levels are as close as the scallop between them asks; only where stock stands on the faces is anything cut.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import ClassVar, Literal

import numpy as np
import shapely
from pydantic import Field
from scipy.spatial import cKDTree
from shapely.geometry.base import BaseGeometry
from shapely.ops import substring

from fenrik.core.frames import Points
from fenrik.core.progress import Progress, part_of
from fenrik.core.regions import fit_arcs
from fenrik.core.sketches.curve import begun_at, lengths_of
from fenrik.core.solids.model import Mesh
from fenrik.core.stock.standing import standing
from fenrik.core.strategies.common import ARC_FIT_MM, MM, START_GAP_MM, Outcome, beside_when
from fenrik.core.strategies.declared import Strategy
from fenrik.core.strategies.given import Given
from fenrik.core.strategies.ground.walls import (
    ABOVE_MM,
    MARK_MM,
    Walls,
    apart,
    sampled,
    steeper_than,
    wall_levels,
)
from fenrik.core.strategies.leading import LeadParams, Side, Ways, lead_in, lead_out
from fenrik.core.strategies.picked import PICKED_WITHIN_MM, MillingParams
from fenrik.core.strategies.prismatic import FLATTEN_MM, Workplace, need_targets
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.units import LEAST_STEP_MM

TOUCH_MM = 0.03
"""How much farther than the tool is wide the axis may stand from the faces that it follows."""
BY_HEIGHTS_SHARE, MESH_SHARE = 0.5, 0.25
"""Shares of the tolerance for where a round end may be, and for the triangles."""
LEAST_PASS_MM = 0.2
BRIDGED = 4.0
"""Gaps without stock that a pass goes on over, in diameters of the tool."""
GAP_MM = 0.5
"""Gaps of a pass that are shorter are cut as well: going off and on would take longer and leave marks."""


class Waterline(MillingParams, LeadParams):
    """Follows walls at level after level: upright, drafted, round or free."""

    strategy: Literal["waterline"] = "waterline"
    uses = "walls"
    scallop_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=5,
        title="Scallop height",
        description="Left between levels on slopes; they are closer the flatter the wall",
        json_schema_extra=MM,
    )
    steeper_than_deg: float = Field(
        default=0,
        ge=0,
        le=89,
        title="Steeper than",
        description="Leaves out what lies flatter, measured from level",
        json_schema_extra={"unit": "deg"},
    )
    only_stock: bool = Field(
        default=True, title="Only where stock stands", description="Leaves out what is finished already"
    )

    FOLDED: ClassVar[tuple[str, ...]] = ("steeper_than_deg", "only_stock")

    def mesh_within_mm(self) -> float:
        return max(MESH_SHARE * self.tolerance_mm, PICKED_WITHIN_MM)


def waterline(given: Given, params: Waterline) -> Outcome:
    """All walls; what of them the tool does not touch is told.

    Raises:
        FenrikError: when nothing is picked, or levels are too many.
    """
    place = Workplace.of(given, BY_HEIGHTS_SHARE * params.tolerance_mm)
    walls = given.targets.walls
    need_targets(walls, given, "wall", "Pick faces that stand upright or lean.")
    builder = place.builder()
    builder.beside = beside_when(params.milling)
    work = _Work(place, params, builder)
    steep = [steeper_than(wall.corners, params.steeper_than_deg) for wall in walls]
    groups = [g for corners in steep if len(corners) for g in apart(corners, given.cutter.radius_mm)]
    for number, corners in enumerate(groups):
        work.cut(corners, part_of(given.progress, number / len(groups), (number + 1) / len(groups)))
    work.tell()
    return Outcome(builder.finish(), place.unreached)


class _Work:
    """Cuts group after group."""

    def __init__(self, place: Workplace, params: Waterline, builder: PathBuilder) -> None:
        self.place, self.params, self.builder = place, params, builder
        self.reach = place.radius + params.allowance_mm
        self.linker = place.linker(builder, self.reach, ARC_FIT_MM)
        self.missed: list[tuple[float, Points, float]] = []

    def cut(self, corners: Points, progress: Progress) -> None:
        """One group of walls, from its highest level down."""
        z = corners[:, :, 2]
        anchors, params = self.place.anchors, self.params
        low = corners[:, :, :2].min(axis=(0, 1))
        high = corners[:, :, :2].max(axis=(0, 1))
        bottom = float(z.min()) + params.floor_allowance_mm
        if params.bottom_from != "geometry":
            bottom = max(params.bottom_at(anchors, bottom), bottom)
        else:
            bottom += params.bottom_mm
        top = min(float(z.max()), params.top_at(anchors, low - self.reach, high + self.reach, float(z.max())))
        if not np.isfinite(top):
            return
        wanted = self._wanted(corners)
        if wanted is not None and not len(wanted):
            return
        before: list[Points] = []
        corner = self.place.given.cutter.corner_mm
        walls = Walls(corners, corner)
        levels = wall_levels(corners, max(top, bottom), bottom, params.stepdown_mm, params.scallop_mm, corner)
        above = np.inf
        for number, (level, whole) in enumerate(levels):
            progress(number / len(levels), "following walls")
            here = self._left_to(level, above + corner, wanted)
            if here is None or len(here):
                before = self._level(walls, level, whole, here, before)
            else:
                walls.take_feet(level)
            above = level if whole else above

    def _wanted(self, corners: Points) -> Points | None:
        """Places (n, 3) of the faces on which stock stands; None: anywhere."""
        if not self.params.only_stock:
            return None
        m = len(corners)
        mesh = Mesh(corners.reshape(-1, 3), np.arange(3 * m, dtype=np.int32).reshape(m, 3), np.zeros(m, np.int32))
        found = standing(self.place.given.stock, mesh)
        return np.asarray(found.place[found.over_mm > self.params.allowance_mm + self.params.tolerance_mm])

    def _left_to(self, level: float, above: float, wanted: Points | None) -> Points | None:
        """The wanted places that are left to passes at a level: those that no pass above it comes to."""
        if wanted is None:
            return None
        cell = self.place.landscape.stock.cell
        return wanted[(wanted[:, 2] > level - cell) & (wanted[:, 2] < above + cell)]

    def _level(
        self, walls: Walls, level: float, whole: bool, wanted: Points | None, before: list[Points]
    ) -> list[Points]:
        """All passes of one level, or those at the feet that are there; gives the ways that were cut.

        Args:
            wanted: the places (n, 3) that they are for; None: all.
        """
        radius = self.place.radius
        sections = walls.at(level, radius, self.place.end) if whole else walls.feet_at(level, radius)
        if not sections:
            return before
        places = np.concatenate([lines for lines, _ in sections]).reshape(-1, 2)
        low, high = places.min(axis=0) - 2 * self.reach, places.max(axis=0) + 2 * self.reach
        rim = self.place.blocked(level, self.reach, (low, high))
        near = [(_ready(lines), r + self.params.allowance_mm + TOUCH_MM) for lines, r in sections]
        runs = [run for ring in rim for run in _stretches(ring, near)]
        met = [walls.take_feet(level), *([walls.leaning.section(level + ABOVE_MM)] if whole else [])]
        self._note_missed(level, np.concatenate(met), runs)
        if wanted is not None:
            runs = [part for run in runs for part in self._where_stock_stands(run, wanted)]
        turned = [run[::-1] for run in runs] if self.params.milling == "climb" else runs
        cut: list[Points] = []
        while turned:
            k = self._nearest(turned)
            ways = self._ways(turned.pop(k), level, (low, high))
            self._follow(ways, level, [*before, *cut])
            cut += ways.lines(FLATTEN_MM)
        return cut or before

    def _nearest(self, runs: list[Points]) -> int:
        at = self.builder.place
        if at is None:
            return 0
        begins = [run if _closes(run) else run[:1] for run in runs]
        return int(np.argmin([np.linalg.norm(places - at[:2], axis=1).min() for places in begins]))

    def _where_stock_stands(self, run: Points, wanted: Points) -> list[Points]:
        """What of a pass comes to wanted places, gaps that are short with it."""
        cell = self.place.landscape.stock.cell
        step = max(cell, 0.1)
        line = shapely.LineString(run)
        along = np.linspace(0, line.length, max(int(np.ceil(line.length / step)), 1) + 1)
        places = _along(run, along)
        reach = self.reach + 1.5 * cell
        there = np.isfinite(cKDTree(wanted[:, :2]).query(places, distance_upper_bound=reach)[0])
        if there.all():
            return [run]
        if not there.any():
            return []
        # Over openings between walls it goes on: what stands before them is taken along, and nothing is to be lifted.
        return _marked(line, along, there, _closes(run), max(GAP_MM, BRIDGED * 2 * self.place.radius))

    def _ways(self, run: Points, level: float, window: tuple[Points, Points]) -> Ways:
        """A pass with arcs in and out that touch nothing."""
        params = self.params
        closed = _closes(run)
        curve = fit_arcs(run[:-1], True, ARC_FIT_MM) if closed else fit_arcs(run, False, ARC_FIT_MM)
        if closed:
            longest = int(lengths_of(curve).argmax())
            start = float(lengths_of(curve)[:longest].sum() + lengths_of(curve)[longest] / 2)
            curve = begun_at(curve, start, params.overlap_mm)
        side: Side = "left" if params.milling == "climb" else "right"
        if params.lead == "none":
            return Ways(None, curve, None)
        ground = self.linker.free(level, window)
        size, straight = params.lead_size(2 * self.place.radius), params.lead == "line"
        first = lead_in(curve, size, params.lead_deg, ground, side, straight)
        last = lead_out(curve, size, params.lead_deg, ground, side, straight)
        return Ways(first, curve, last)

    def _follow(self, ways: Ways, level: float, before: list[Points]) -> None:
        builder, begin = self.builder, ways.begin
        stands = max(self.place.anchors.stock_over(begin - self.place.radius, begin + self.place.radius), level)
        self.linker.to(begin, level, stands + START_GAP_MM, before)
        builder.enter(np.array([*begin, level]))
        if ways.first is not None:
            builder.follow(ways.first, Kind.ENTRY)
        builder.next_pass()
        builder.follow(ways.run, Kind.CUT)
        if ways.last is not None:
            builder.follow(ways.last, Kind.EXIT)

    def _note_missed(self, level: float, lines: Points, runs: list[Points]) -> None:
        """Remember what of the walls at a level, lines (n, 2, 2), the tool does not come to."""
        if len(lines) == 0:
            return
        places = sampled(lines)
        near = np.zeros(len(places), bool)
        if runs:
            near = shapely.dwithin(_ready(runs), shapely.points(places), self.reach + 2 * TOUCH_MM)
        gone = float(np.count_nonzero(~near)) * MARK_MM
        if gone > LEAST_PASS_MM:
            self.missed.append((gone, places[np.flatnonzero(~near)[len(places[~near]) // 2]], level))

    def tell(self) -> None:
        """What the tool did not come to, at the level where that is most."""
        if not self.missed:
            return
        length, (x, y), level = max(self.missed, key=lambda m: m[0])
        self.place.skip(
            "",
            f"{length:.1f} mm of the walls at this level are out of the reach of a ⌀{2 * self.place.radius:g} mm tool.",
            (float(x), float(y), level),
            "Take a smaller tool for what is left.",
        )


def _closes(run: Points) -> bool:
    return len(run) > 3 and bool(np.abs(run[0] - run[-1]).max() < 1e-4)


def _along(track: Points, along: Points) -> Points:
    """Places on a track (n, 2) at lengths from its begin."""
    far = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(track, axis=0), axis=1))])
    return np.column_stack([np.interp(along, far, track[:, k]) for k in (0, 1)])


def _ready(lines: Sequence[Points] | Points) -> BaseGeometry:
    """Lines (n, 2) made ready for many questions."""
    number = np.repeat(np.arange(len(lines)), [len(line) for line in lines])
    shape = shapely.multilinestrings(shapely.linestrings(np.concatenate(lines), indices=number))
    shapely.prepare(shape)
    return shape


def _stretches(ring: Points, near: list[tuple[BaseGeometry, float]]) -> list[Points]:
    """What of a ring lies within reach of lines: the whole ring, or open stretches, one over its seam; short gaps are
    bridged."""
    closed = np.vstack([ring, ring[:1]])
    line = shapely.LineString(closed)
    along = np.linspace(0, line.length, max(int(np.ceil(line.length / MARK_MM)), 8) + 1)
    # The corners of the ring are looked at as well.
    corners = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(closed, axis=0), axis=1))])
    along = np.unique(np.clip(np.concatenate([along, corners]), 0.0, line.length))
    marks = shapely.points(_along(closed, along))
    there = np.zeros(len(marks), bool)
    for lines, reach in near:
        left = np.flatnonzero(~there)
        there[left] = shapely.dwithin(lines, marks[left], reach)
    if there.all():
        return [closed]
    return _marked(line, along, there, True) if there.any() else []


def _marked(
    line: shapely.LineString, along: Points, there: np.ndarray, closed: bool, gap_mm: float = GAP_MM
) -> list[Points]:
    """The stretches of a line on which marks are set, out to the next mark that is not; short gaps are bridged."""
    edges = np.flatnonzero(np.diff(there.astype(int)))
    cuts = [0.0, *(float(along[e + 1] if there[e] else along[e]) for e in edges), line.length]
    spans = [(a, b) for k, (a, b) in enumerate(itertools.pairwise(cuts)) if there[0] == (k % 2 == 0)]
    whole: list[tuple[float, float]] = []
    for a, b in spans:
        if whole and a - whole[-1][1] < gap_mm:
            whole[-1] = (whole[-1][0], b)
        else:
            whole.append((a, b))
    if closed and len(whole) == 1 and whole[0][1] - whole[0][0] > line.length - gap_mm:
        return [shapely.get_coordinates(line)]
    seam: list[Points] = []
    if closed and len(whole) > 1 and whole[0][0] + line.length - whole[-1][1] < gap_mm:
        ends = substring(line, whole[-1][0], line.length), substring(line, 0.0, whole[0][1])
        seam = [np.vstack([shapely.get_coordinates(end) for end in ends])]
        whole = whole[1:-1]
    return seam + [shapely.get_coordinates(substring(line, a, b)) for a, b in whole if b - a > LEAST_PASS_MM]


STRATEGY = Strategy(
    params=Waterline,
    run=waterline,
    version=14,
    group="Faces and pockets",
    cutters=("flat", "bull-nose", "ball"),
    stage=3,
    fresh={"scallop_mm": 0.02},
    finishes=lambda params: () if params.allowance_mm else ("upright", "leaning"),
)

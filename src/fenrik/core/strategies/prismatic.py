"""What the strategies for prismatic work share: heights, levels, where the tool may be, what was left out."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact import DropIndex
from fenrik.core.contact.region import HeightField
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.regions import (
    Cover,
    Rings,
    Shadow,
    clip_lines,
    contains,
    difference,
    fit_arcs,
    intersection,
    offset,
    union,
)
from fenrik.core.regions.polygons import bounds_of, from_shape, line_length, to_shape
from fenrik.core.sketches import Curve
from fenrik.core.strategies.common import ARC_FIT_MM, Anchors, require
from fenrik.core.strategies.given import BODY_CLEARANCE_MM, OBSTACLE_CLEARANCE_MM, Given
from fenrik.core.strategies.ground.regions import StandingStock
from fenrik.core.strategies.linking import Landscape, Linker, skimming_builder
from fenrik.core.strategies.targets import HolePlace
from fenrik.core.toolpath import PathBuilder
from fenrik.core.tools import cutting_profile
from fenrik.core.tools.assembly import wider_bodies
from fenrik.core.tools.cutters import BallCutter, BullNoseCutter, Cutter, TaperedCutter
from fenrik.core.tools.kernels import element_height, radius_at
from fenrik.core.tools.profile import bull_nose_profile
from fenrik.core.tools.underside import Underside, underside_of

LIFT_MM = 4e-3
"""How deep a rounded end may touch triangles of a fillet that lie within 2 µm of it."""
END_STEPS, MAX_CORNERS, REACH_STEPS = 24, 160, 400
WINDOW_MM = 2.0
FIELD_CELLS, MOST_FIELD_CELLS, FREE_KEPT = 6, 800, 8
FLATTEN_MM = 5e-4
LEAST_PIECE_MM = 0.05
FENCE_MM = 1000.0
"""How far round part and boundary there may be anything to do."""


@dataclass
class Workplace:
    """Where a tool works: the part's shadow from any height, heights, the builder, and what was left out."""

    given: Given
    unreached: list[Unreached]
    by_heights_mm: float = 0.0
    """Where a round end may be is found by tip heights within this, not by sections at each height of the end: for many
    levels, where that is worth a field of heights."""
    _fields: dict[float, HeightField] = field(default_factory=dict)
    _free: dict[tuple[float, float], tuple[Points, Points, BaseGeometry]] = field(default_factory=dict)

    @classmethod
    def of(cls, given: Given, by_heights_mm: float = 0.0) -> Workplace:
        return cls(given, list(given.targets.unusable), by_heights_mm)

    @property
    def radius(self) -> float:
        return self.given.cutter.radius_mm

    @cached_property
    def landscape(self) -> Landscape:
        return Landscape(self.given)

    @cached_property
    def part_heights(self) -> tuple[float, float]:
        low, high = self.given.part_box[:, 2]
        return float(low), float(high)

    @cached_property
    def shadow(self) -> Shadow:
        return self.given.shadow

    @cached_property
    def _obstacle_shadow(self) -> Shadow | None:
        return Shadow(self.given.obstacles) if self.given.obstacles is not None else None

    def builder(self) -> PathBuilder:
        return skimming_builder(self.given, self.landscape)

    def linker(self, builder: PathBuilder, reach_mm: float, slack_mm: float = 0.0) -> Linker:
        """The planner of links for a path that keeps the axis a reach away from the part, or nearer by a slack."""

        def free(level: float, window: tuple[Points, Points]) -> BaseGeometry:
            blocked = self.blocked(level, reach_mm, window)
            area = shapely.box(*window[0], *window[1]).difference(to_shape(offset(blocked, -slack_mm)))
            shapely.prepare(area)
            return area

        return Linker(builder, self.landscape, free)

    def blocked(
        self, level_mm: float, reach_mm: float, window: tuple[Points, Points] | None = None, shaped: bool = True
    ) -> Rings:
        """Where the tool's axis may not be with its tip at a level: nearer than `reach_mm` to the part above it, with
        shank or holder in the part, nearer than the clearance to a fixture or another copy, or in a keep-out. A ball,
        bull-nose or tapered end comes nearer to what stands lower than where it is widest.

        Args:
            shaped: whether the shape of the end counts; if not, it is as wide as the tool.
            window: lowest and highest corner (x, y) of where it is asked; what lies far from it is left out.
        """
        keep = self._near_part(level_mm, reach_mm, window) if shaped else self._beside(level_mm, reach_mm, window)
        fenced = self.fenced
        if fenced:
            keep = union(keep, fenced)
        above = [
            self.shadow.cover(level_mm + bottom).grown(radius + BODY_CLEARANCE_MM, window)
            for radius, bottom in self.wider_bodies
            if level_mm + bottom < self.part_heights[1]
        ]
        if any(above):
            keep = union(keep, *above)
        if self._obstacle_shadow is None:
            return keep
        fixtures = self._obstacle_shadow.cover(level_mm - OBSTACLE_CLEARANCE_MM)
        return union(keep, fixtures.grown(self.radius + OBSTACLE_CLEARANCE_MM, window))

    @cached_property
    def wider_bodies(self) -> list[tuple[float, float]]:
        """Shank and holder where they are wider than the cutter: radius, and lowest height over the tip."""
        return wider_bodies(self.given.tool)

    def _beside(self, level_mm: float, reach_mm: float, window: tuple[Points, Points] | None) -> Rings:
        if level_mm >= self.part_heights[1]:
            return []  # nothing stands so high, and no triangles need be made to know it
        return self.shadow.cover(level_mm).grown(reach_mm, window)

    def _near_part(self, level_mm: float, reach_mm: float, window: tuple[Points, Points] | None) -> Rings:
        """Where the end of the tool would touch the part: at each height of the end, what stands over that height is
        kept away by the tool's radius there."""
        if self.end is None or level_mm >= self.part_heights[1]:
            return self._beside(level_mm, reach_mm, window)
        if self.by_heights_mm:
            return self._stopped(level_mm, reach_mm, window)
        slim: dict[int, tuple[Cover, float]] = {}
        for height in end_heights(self.end, self.shadow.heights, level_mm + LIFT_MM):
            region = self.shadow.cover(level_mm + LIFT_MM + height)
            slim[id(region)] = (region, self.radius - radius_at(self.end.elements, height))
        parts = [cover.grown(reach_mm - s, window) for cover, s in slim.values() if cover.rings]
        return union(*parts) if len(parts) > 1 else (parts[0] if parts else [])

    def _stopped(self, level_mm: float, reach_mm: float, window: tuple[Points, Points] | None) -> Rings:
        """Where tip heights of the tool, as much wider as is asked, are over a level."""
        low, high = self.given.part_box[:, :2]
        beyond = reach_mm + 2 * self.radius
        if reach_mm not in self._fields:
            size = float((high - low).max()) + 2 * beyond
            cell = max(min(self.radius / FIELD_CELLS, 1.0), size / MOST_FIELD_CELLS)
            index = DropIndex.build(self.shadow.mesh, cutting_profile(self.given.cutter), reach_mm - self.radius)
            self._fields[reach_mm] = HeightField.over(
                index, low - beyond, high + beyond, cell, self.part_heights[0] - 2 * self.radius - reach_mm
            )
        low, high = low - beyond, high + beyond
        if window is not None:
            low, high = np.maximum(low, window[0]), np.minimum(high, window[1])
            if np.any(low >= high):
                return []
        free = self._free_over(reach_mm, level_mm, low, high)
        return from_shape(shapely.box(*low, *high).difference(free))

    def _free_over(self, reach_mm: float, level_mm: float, low: Points, high: Points) -> BaseGeometry:
        """Where the tip may be at a level, over a rectangle at least: the links of a pass ask for what it asked for."""
        key = reach_mm, round(level_mm, 6)
        if key in self._free:
            a, b, found = self._free[key]
            if np.all(a <= low + 1e-9) and np.all(high <= b + 1e-9):
                return found
            low, high = np.minimum(a, low), np.maximum(b, high)
        while len(self._free) >= FREE_KEPT:
            self._free.pop(next(iter(self._free)))
        found = self._fields[reach_mm].within(low, high).free_region(level_mm + LIFT_MM, self.by_heights_mm)
        self._free[key] = low, high, found
        return found

    @cached_property
    def end(self) -> Underside | None:
        """The underside of a tool whose end is slimmer than the tool; None where it is flat."""
        return rounded_end(self.given.cutter)

    def reach_beside_walls(self, level_mm: float) -> float:
        """How far the axis stays from an upright wall: as wide as the tool is up to the top of the part."""
        if self.end is None or level_mm >= self.part_heights[1]:
            return self.radius
        return max(self.radius, radius_at(self.end.elements, self.part_heights[1] - level_mm))

    @cached_property
    def fenced(self) -> Rings:
        """Where keep-outs and boundaries forbid the tool's axis to be, at any height."""
        fenced = offset(self.given.keep_out, self.radius) if self.given.keep_out else []
        if not self.given.stay_in:
            return fenced
        low, high = bounds_of(self.given.stay_in)
        a, b = np.minimum(low, self.given.part_box[0, :2]), np.maximum(high, self.given.part_box[1, :2])
        (x0, y0), (x1, y1) = a - FENCE_MM, b + FENCE_MM
        frame = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])
        return union(fenced, difference([frame], self.given.stay_in))

    def holes_from_above(self) -> list[HolePlace]:
        """The targets that a tool from above gets at; those that are fenced off, or lie under a narrower bore, are
        told."""
        return [h for h in self.given.targets.holes if not self.kept_out(h.place, h.label) and not self._under(h)]

    def _under(self, hole: HolePlace) -> bool:
        if hole.diameter <= hole.neck + 1e-6:
            return False
        self.skip(
            hole.label,
            f"⌀{hole.diameter:g} lies under a bore of ⌀{hole.neck:g}: it opens on the other side.",
            (hole.x, hole.y, hole.bottom),
            "Turn the part over, or bore it back through the hole.",
        )
        return True

    def kept_out(self, place: tuple[float, float, float], label: str) -> bool:
        """Whether a place is fenced off; then it is told."""
        if not self.fenced or not contains(offset(self.fenced, -1e-6), np.array([place[:2]]))[0]:
            return False
        self.skip(label, "lies in the keep-out, or outside the boundary.", place, "Take it out of this row.")
        return True

    def free_pieces(self, curve: Curve, blocked: Rings, label: str, level: float, what: str, why: str) -> list[Curve]:
        """What of a curve lies outside a blocked region, as open pieces; the curve itself where all of it does.

        What does not is told, at its longest stretch.

        Args:
            what: what the curve is for, as in "12.3 mm of the pass are left out". why: the reason.
        """
        if not blocked:
            return [curve]
        line = curve.flattened(FLATTEN_MM)
        kept = clip_lines([line], blocked, inside=False)
        left_out = line_length(line) - sum(line_length(k) for k in kept)
        if left_out < LEAST_PIECE_MM:
            return [curve]
        gone = max(clip_lines([line], blocked), key=line_length)
        x, y = gone[len(gone) // 2].tolist()
        self.skip(
            label,
            f"{left_out:.1f} mm of the {what} are left out: {why}.",
            (x, y, level),
            "Use a smaller tool, or move what is in the way.",
        )
        return _pieces(kept, curve.closed)

    def where_stock_stands(self, curve: Curve, level_mm: float) -> list[Curve]:
        """What of a pass comes to stock over a level, as open pieces, gaps of a few diameters with it; the curve itself
        where all of it does."""
        reach = self.radius + self._standing.cell
        wide = self._standing.above(level_mm).buffer(reach + 2 * self.radius).buffer(-2 * self.radius)
        line = curve.flattened(FLATTEN_MM)
        kept = clip_lines([line], from_shape(wide))
        if line_length(line) - sum(line_length(k) for k in kept) < LEAST_PIECE_MM:
            return [curve]
        return _pieces(kept, curve.closed)

    @cached_property
    def _standing(self) -> StandingStock:
        return StandingStock(self.given.stock)

    def skip(self, label: str, reason: str, place: tuple[float, float, float], advice: str, area: float = 0.0) -> None:
        """Tell what is left out, where and why."""
        self.unreached.append(
            Unreached(
                reason=f"{label}: {reason}" if label else reason,
                place=place,
                level_mm=place[2],
                area_mm2=area or None,
                advice=advice,
            )
        )

    @cached_property
    def anchors(self) -> Anchors:
        """What heights are counted from here."""
        low, high = self.part_heights
        stock = self.landscape.stock
        bottom = float(stock.origin[2])
        return Anchors(stock.over, stock.highest, bottom, low, high, float(self.given.zero[2]))


def rounded_end(cutter: Cutter) -> Underside | None:
    """The underside of a ball, bull-nose or tapered cutter; None for others, whose end counts as flat."""
    if not isinstance(cutter, BallCutter | BullNoseCutter | TaperedCutter):
        return None
    return underside_of(cutting_profile(cutter))


def end_heights(end: Underside, corners: Points, tip_mm: float) -> Points:
    """Heights over the tip at which the end of a tool is compared with the part: where the part has corners, between
    which it is straight, and at even angles of the end's own rounding.

    Args:
        corners: (n,) heights of the part's corners, rising.
    """
    full = _full_height(end)
    own = full * (1 - np.cos(np.linspace(0.0, np.pi / 2, END_STEPS)))
    first, last = np.searchsorted(corners, [tip_mm, tip_mm + full])
    within = corners[first:last] - tip_mm
    if len(within) > MAX_CORNERS:
        within = within[np.linspace(0, len(within) - 1, MAX_CORNERS).astype(int)]
    return np.unique(np.concatenate([own, within]))


def _full_height(end: Underside) -> float:
    """Height over the tip where the end of a tool is as wide as the tool."""
    last = len(end.elements) - 1
    return float(element_height(end.elements, last, end.elements[last, 1]))


def reach_beside(end: Underside | None, radius_mm: float, fillet_mm: float, over_mm: float) -> float:
    """How far the axis stays from the rim of a floor from which a fillet rises to an upright wall.

    At a height u the fillet is √(r² − (r − u)²) beyond the rim, from r on the wall; the tool is as wide there as its
    profile says. It touches where the difference is greatest.

    Args:
        end: the tool's underside; None for a flat end.
        over_mm: height of the tip over the floor.
    """
    if fillet_mm <= 0:
        return radius_mm
    shape = end or underside_of(bull_nose_profile(radius_mm, 0.0, 1.0))
    full = _full_height(shape)

    def overlap(heights: Points) -> Points:
        wide = np.array([radius_at(shape.elements, h) for h in heights])
        rise = np.clip(heights + over_mm, 0.0, fillet_mm)
        return np.asarray(wide - np.sqrt(np.maximum(fillet_mm**2 - (fillet_mm - rise) ** 2, 0.0)))

    heights = max(full, fillet_mm) * np.linspace(0.0, 1.0, REACH_STEPS) ** 2
    heights = np.unique(np.append(heights, full))
    # Once more, as finely, about the greatest of them.
    coarse = overlap(heights)
    k = int(coarse.argmax())
    finer = np.linspace(heights[max(k - 1, 0)], heights[min(k + 1, len(heights) - 1)], REACH_STEPS)
    return float(max(coarse[k], overlap(finer).max()))


def near(region: Rings, window: tuple[Points, Points] | None, reach_mm: float) -> Rings:
    """What of a region matters within a reach of a window."""
    if window is None or not region:
        return region
    low, high = window[0] - reach_mm - WINDOW_MM, window[1] + reach_mm + WINDOW_MM
    close = [r for r in region if np.all(r.max(axis=0) >= low) and np.all(r.min(axis=0) <= high)]
    frame = np.array([[low[0], low[1]], [high[0], low[1]], [high[0], high[1]], [low[0], high[1]]])
    return intersection(close, [frame]) if close else []


def need_targets(found: list[Any], given: Given, what: str, way_out: str) -> None:
    """Refuse an operation that has nothing at all to work on."""
    require(bool(found) or bool(given.targets.unusable), "targets", f"hold no {what}.", way_out)


def _pieces(kept: list[Points], closed: bool) -> list[Curve]:
    """Stretches of a curve as open curves; the two at the seam of a closed one are one."""
    if closed and len(kept) > 1 and np.abs(kept[-1][-1] - kept[0][0]).max() < 1e-4:
        kept = [np.vstack([kept[-1], kept[0][1:]]), *kept[1:-1]]
    return [fit_arcs(k, False, ARC_FIT_MM) for k in kept if line_length(k) > LEAST_PIECE_MM]

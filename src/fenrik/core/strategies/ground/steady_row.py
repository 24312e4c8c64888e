"""The path of a row that clears the pieces of its levels with a held engagement.

At each level a pass is steered so that the arc of the cutter in material never is above the limit, wherever walls,
islands and necks are (see `ground.steady`). The tool comes from outside where the stock is open there, else by helix or
ramp; it goes from pass to pass through what it has cleared, a little lifted; and once round each wall at the end. All
cuts are climb cuts, fed so that the thickest chip stays the same.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from dataclasses import dataclass
from threading import Event
from typing import ClassVar

import numpy as np
import shapely
from pydantic import Field
from scipy import ndimage
from shapely.geometry.base import BaseGeometry

from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.regions import Rings, components, fit_arcs, offset
from fenrik.core.regions.polygons import area_of, from_shape, pole_of, to_shape
from fenrik.core.sketches import Curve
from fenrik.core.strategies.common import ARC_FIT_MM, MM, START_GAP_MM, Outcome, require, to_points
from fenrik.core.strategies.given import Given
from fenrik.core.strategies.ground.cleared import ClearedGround
from fenrik.core.strategies.ground.entries import Entry, EntryParams, go_in, plan_entry
from fenrik.core.strategies.ground.level_ground import (
    Area,
    LevelGround,
    LevelParams,
    LevelPiece,
    branch_by_branch,
    hang_together,
)
from fenrik.core.strategies.ground.load_feeds import stretches_of
from fenrik.core.strategies.ground.narrow import NarrowBays
from fenrik.core.strategies.ground.steady import SteadyClearing, SteadyPass, Steering
from fenrik.core.strategies.ground.wall_passes import WallPasses
from fenrik.core.strategies.linking import Landscape, skimming_builder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.units import LEAST_STEP_MM

BESIDE_SHARE = 0.6
"""How far beside open stock the axis goes, as a share of the tool's radius."""
LAYER_ROUNDS = 20
LAYER_SHARE = 0.7
"""The layer left to the passes along walls, as a share of the thickest that keeps the limit in corners."""
AIM_SHARE = 0.97
"""Passes are steered to so much of the limit: motions fitted to them point a little beside them."""
PASS_FIT_SHARE = 0.06
"""By how much of that layer motions may stray from a pass."""
LIFT_MM = 0.3
NEAR_SHARE = 1.0
"""Ways shorter than so many radii are gone without lifting."""
SLOWED_SHARE = 0.5
"""No stretch with a feed of its own is much shorter than so much of the radius."""
LOOK_S = 0.2
"""How often it is told how far the work is."""
LEAST_TOLD_MM2, TIGHT_SHARE = 0.5, 0.03
"""Of places that are told: the least area, and the least of half their width as a share of the radius."""


class SteadyParams(LevelParams, EntryParams):
    """How much of the cutter is held in material, and how."""

    FOLDED: ClassVar[tuple[str, ...]] = ("corner_percent", "step_mm")

    engagement_deg: float = Field(
        default=45.0,
        ge=10,
        le=150,
        title="Engagement",
        description="Arc of the cutter in material that is never passed",
        json_schema_extra={"unit": "deg"},
    )
    step_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=200,
        title="Steps on slopes",
        description="Greatest height of those left, by further levels upwards after each deep one; empty: none",
        json_schema_extra=MM,
    )
    corner_percent: float = Field(
        default=6.0,
        ge=2,
        le=100,
        title="Least radius",
        description="Of turns while cutting, as a share of the tool's radius",
        json_schema_extra={"unit": "%"},
    )


@dataclass
class _Area(Area):
    """A connected area of a level, in which the axis comes from anywhere to anywhere.

    Attributes:
        fence: where the axis may be for the steered passes. walls: the same to the wall. standing: where anything
            stands over the level. reach: where the axis takes stock for certain. spare_mm: how much farther out
            stock may stand.
    """

    fence: Rings
    walls: Rings
    standing: BaseGeometry
    reach: BaseGeometry
    spare_mm: float
    entry: Entry | None = None
    passes: list[SteadyPass] | None = None
    left: list[Unreached] | None = None


def require_flutes(given: Given, params: SteadyParams) -> None:
    """Refuse a stepdown that is deeper than the flutes are long."""
    flutes = given.cutter.flute_length_mm
    require(
        params.stepdown_mm <= flutes + 1e-9,
        "stepdown_mm",
        f"is deeper than the flutes are long ({flutes:g} mm).",
        f"Use at most {flutes:g} mm.",
        params.stepdown_mm,
    )


def clear_steadily(given: Given, params: SteadyParams, ground: LevelGround) -> Outcome:
    """Clear the pieces of all levels of a ground."""
    if not ground.levels:
        return Outcome(given.builder().finish(), ground.unreached)
    steering = _Setting(given, params, ground.rest.thicker_mm if ground.rest else 0.0)
    areas: list[_Area] = []
    bays = NarrowBays(steering.radius, params.allowance_mm)

    def level_areas() -> Iterator[list[_Area]]:
        for pieces in ground.pieces(steering.beside):
            found = [area for piece in pieces for area in steering.areas(piece, ground.highest)]
            areas.extend(found)
            if pieces:
                reached = _reached(found, steering.radius)
                level = pieces[0].level
                bays.look(level, pieces[0].wanted, ground.covered(level), reached, ground.is_held_up)
                areas.extend(_steps_up(ground, steering, found, pieces[0], reached))
            yield found

    roots = hang_together(level_areas())
    _clear_all(given, steering, areas)
    unreached = ground.unreached + bays.found() + steering.told
    writer = _Writer(given, params, steering)
    for area in branch_by_branch(roots):
        writer.write(area)
        unreached += area.left or []
    return Outcome(writer.builder.finish(), unreached)


def _clear_all(given: Given, setting: _Setting, areas: list[_Area]) -> None:
    """Plan all areas, several at a time: kernels run without the interpreter's lock, and areas do not look at one
    another. Who is told of the progress may raise, and all stop soon."""
    with ThreadPoolExecutor(setting.workers) as pool:
        waiting = {pool.submit(setting.clear, area) for area in areas}
        try:
            while waiting:
                done, waiting = wait(waiting, LOOK_S, FIRST_COMPLETED)
                for one in done:
                    one.result()
                ready = len(areas) - len(waiting)
                given.progress(0.4 + 0.55 * ready / len(areas), f"{ready} of {len(areas)} areas")
        except BaseException:
            setting.stopped.set()
            for one in waiting:
                one.cancel()
            raise


def _steps_up(
    ground: LevelGround, setting: _Setting, found: list[_Area], piece: LevelPiece, cleared: BaseGeometry
) -> list[_Area]:
    """Areas of further levels over one that is cleared, upwards: they take the steps that it leaves on slopes. Each
    hangs below the area before it that it meets, so that it comes after that, and before all that is deeper.

    Args:
        found: the areas of the level. cleared: what they clear.
    """
    step, above = setting.params.step_mm, min(piece.above, ground.highest)
    if step is None or not found:
        return []
    count = int(np.ceil((above - piece.level) / step - 1e-9))
    made, before = [], list(found)
    for k in range(1, count):
        level = piece.level + k * (above - piece.level) / count
        pieces = ground.pieces_left(level, above, cleared, setting.beside)
        own = [area for p in pieces for area in setting.areas(p, above)]
        for area in own:
            parent = next((p for p in reversed(before) if p.free.intersects(area.free)), found[0])
            parent.children.append(area)
        before += own
        cleared = shapely.union(cleared, _reached(own, setting.radius))
        made += own
    return made


def _reached(areas: list[_Area], radius_mm: float) -> BaseGeometry:
    """What the cutter takes in some areas."""
    return shapely.union_all([area.free.buffer(radius_mm, quad_segs=16) for area in areas])


class _Setting:
    """What all areas of a row have in common."""

    workers = 2

    def __init__(self, given: Given, params: SteadyParams, thicker_mm: float) -> None:
        """
        Args:
            thicker_mm: what is left thinner is left alone.
        """
        self.params, self.least_told_mm2 = params, max(LEAST_TOLD_MM2, thicker_mm**2)
        self.radius = given.cutter.radius_mm
        self.beside = max(1.0, BESIDE_SHARE * self.radius)
        self.centre_cutting = given.cutter.centre_cutting
        self.limit = float(np.deg2rad(params.engagement_deg))
        self.least_mm = params.corner_percent / 100 * self.radius
        self.told: list[Unreached] = []
        self.stopped = Event()
        self.layer = 0.0
        for _ in range(LAYER_ROUNDS):
            self.layer = self._layer(self.least_mm + self.layer)
        self.round_mm = self.least_mm + self.layer
        self.steering = Steering(AIM_SHARE * self.limit, 1.0 / self.least_mm, self.radius)

    def _layer(self, round_mm: float) -> float:
        """The layer that is left to the pass along walls with corners of a radius.

        Round an arc of that radius it is no more than the limit: with R, ρ of cutter and arc, and the layer m,
        (R + ρ − m)² = R² + ρ² + 2·R·ρ·cos φ (the law of cosines for a circle inside a circle).
        """
        r = self.radius
        meets = r + round_mm - float(np.sqrt(r**2 + round_mm**2 + 2 * r * round_mm * np.cos(self.limit)))
        return LAYER_SHARE * min(meets, 0.5 * round_mm)

    def areas(self, piece: LevelPiece, highest: float) -> list[_Area]:
        """The connected areas of a piece; in corners and necks the axis keeps its least radius."""
        core = offset(from_shape(piece.free), -self.round_mm)
        found = []
        for part in components(core):
            fence, walls = offset(part, self.round_mm - self.layer), offset(part, self.round_mm)
            if fence and to_shape(fence).intersects(piece.reach):
                found.append(
                    _Area(
                        piece.level,
                        highest,
                        to_shape(walls),
                        fence,
                        walls,
                        piece.standing,
                        piece.reach,
                        piece.spare_mm,
                    )
                )
        self.told += self._too_tight(piece, found)
        return found

    def _too_tight(self, piece: LevelPiece, found: list[_Area]) -> list[Unreached]:
        """Where the axis fits, but has no room to turn."""
        cleared = shapely.union_all([area.free for area in found])
        free = shapely.difference(piece.free, cleared)
        film = TIGHT_SHARE * self.radius
        lost = shapely.intersection(free.buffer(self.radius), piece.wanted).difference(cleared.buffer(self.radius))
        told = []
        for part in shapely.get_parts(lost.buffer(-film).buffer(film)):
            if part.area < self.least_told_mm2:
                continue
            spot = part.representative_point()
            told.append(
                Unreached(
                    reason=f"The axis has less than {2 * self.round_mm:.2g} mm there, too little to turn.",
                    place=(spot.x, spot.y, piece.level),
                    level_mm=piece.level,
                    area_mm2=part.area,
                    advice="Rough the place with a smaller tool, or allow a smaller least radius.",
                )
            )
        return told

    def clear(self, area: _Area) -> None:
        """Plan an area."""
        ground = ClearedGround.of(area.fence, from_shape(area.standing), self.radius, area.spare_mm)
        clearing = SteadyClearing(ground, self.steering)
        start = None
        area.left = []
        if not clearing.is_open:
            area.entry = plan_entry(self.radius, self.centre_cutting, self.params, components(area.fence)[0], [])
            if area.entry is None:
                area.passes = []
                area.left = [self._no_entry(area)]
                return
            start = self._start(ground, area.entry)
        area.passes = self._till_stopped(clearing.passes(start))
        walls = WallPasses(ground, self.limit, area.reach, clearing.at)
        corners = walls.corners(area.walls, self.layer, 1.0 / self.steering.wide, self.round_mm)
        area.passes += self._till_stopped(corners)
        clearing.at = walls.at
        area.passes += self._till_stopped(clearing.rest())
        walls.at = clearing.at
        area.passes += self._till_stopped(walls.along(area.walls))
        area.left += self._told(area, clearing)

    def _till_stopped(self, passes: Iterator[SteadyPass]) -> list[SteadyPass]:
        return list(itertools.takewhile(lambda _: not self.stopped.is_set(), passes))

    def _start(self, ground: ClearedGround, entry: Entry) -> tuple[Points, Points]:
        """Place and direction after a way in, which is cleared."""
        if entry.kind == "ramp":
            assert entry.line is not None
            a, b = entry.line
            count = int(np.ceil(np.linalg.norm(b - a) / (0.05 * self.radius)))
            ground.stamp(a + np.linspace(0, 1, count + 1)[:, None] * (b - a))
            return a, (b - a) / np.linalg.norm(b - a)
        centre = entry.place if entry.centre is None else entry.centre
        turn = np.linspace(0, 2 * np.pi, 129)
        ground.stamp(centre + entry.size * np.column_stack([np.cos(turn), np.sin(turn)]))
        ground.stamp(centre[None])
        return entry.place, np.array([0.0, 1.0])

    def _no_entry(self, area: _Area) -> Unreached:
        spot, room = pole_of(components(area.fence)[0])
        return Unreached(
            reason=f"No room to enter: the axis has {2 * room:.2f} mm and the tool is not centre cutting.",
            place=(float(spot[0]), float(spot[1]), area.level),
            level_mm=area.level,
            area_mm2=area_of(area.fence),
            advice="Use a smaller or centre-cutting tool, or drill a hole to start in.",
        )

    def _told(self, area: _Area, clearing: SteadyClearing) -> list[Unreached]:
        """Material that no pass came to."""
        labels, count = ndimage.label(clearing.still_left())
        told = []
        for label in range(1, count + 1):
            nodes = np.argwhere(labels == label)
            size = len(nodes) * clearing.ground.ground.cell**2
            if size < self.least_told_mm2:
                continue
            x, y = clearing.ground.places(nodes[len(nodes) // 2])
            told.append(
                Unreached(
                    reason=f"No pass that keeps to {self.params.engagement_deg:g}° comes there.",
                    place=(float(x), float(y), area.level),
                    level_mm=area.level,
                    area_mm2=size,
                    advice="Allow more engagement, or rough the place with a smaller tool.",
                )
            )
        return told


class _Writer:
    """Writes the motions."""

    def __init__(self, given: Given, params: SteadyParams, setting: _Setting) -> None:
        self.params, self.setting = params, setting
        self.builder = skimming_builder(given, Landscape(given))
        self.radius, self.limit = setting.radius, setting.limit

    def write(self, area: _Area) -> None:
        if not area.passes:
            return
        if area.entry is not None:
            go_in(self.builder, self.params, area.entry, area.level, area.above, False)
        for number, one in enumerate(area.passes):
            self._come_to(area, one, entered=number == 0 and area.entry is not None)
            self.builder.next_pass()
            feeds = self.builder.feeds
            for a, b, times in stretches_of(one.points, one.held, self.limit, SLOWED_SHARE * self.radius):
                curve = self._curve(one.points[a : b + 1], one.exact)
                if times is None:
                    self.builder.follow(curve, Kind.LINK, feed=feeds.exit)
                else:
                    held = float(np.rad2deg(one.held[a : b + 1].max()))
                    self.builder.follow(curve, Kind.CUT, feed=min(times * feeds.cutting, feeds.most), held_deg=held)

    def _come_to(self, area: _Area, one: SteadyPass, entered: bool) -> None:
        """To the begin of a pass: through cleared ground, a little lifted, or over everything."""
        feeds, lead = self.builder.feeds, one.lead
        if entered:
            pass
        elif one.way is None or self.builder.place is None:
            height = min(area.level + START_GAP_MM, self.builder.retract_mm)
            self.builder.travel(float(lead[0, 0]), float(lead[0, 1]), height)
            self.builder.approach(np.array([*lead[0], area.level]))
        else:
            way = one.way
            far = np.linalg.norm(np.diff(way, axis=0), axis=1).sum() > NEAR_SHARE * self.radius
            down = np.array([[*lead[0], area.level]])
            if far:
                self.builder.link_at(to_points(way, area.level + LIFT_MM), feeds.most)
            self.builder.link_at(down if far else np.vstack([to_points(way, area.level), down]), feeds.exit)
        if len(lead) > 1:
            self.builder.follow(self._curve(lead, one.exact), Kind.LINK, feed=feeds.exit)

    def _curve(self, run: Points, exact: bool) -> Curve:
        if exact:
            return fit_arcs(run, False, ARC_FIT_MM)
        within = PASS_FIT_SHARE * self.setting.layer
        simple = shapely.get_coordinates(shapely.simplify(shapely.linestrings(run), 0.5 * within))
        return fit_arcs(simple, False, within)

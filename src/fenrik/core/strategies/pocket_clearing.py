"""Pocket clearing: everything between walls, islands and floor, at several depths.

At each level the places that the tool's axis can reach are the plane less the part's shadow from that level up, grown
by the tool's radius (exact polygons, see `regions.shadow`): so no level gouges, whatever the part is like. Passes are
fronts that grow from cleared ground (never full width), offsets of the walls, parallel lines, or a spiral. Only where
stock stands is anything cut; ground that is open already, a drilled hole or another pocket, is where the tool starts.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import ClassVar, Literal

import numpy as np
import shapely
from pydantic import Field

from fenrik.core.frames import Points
from fenrik.core.regions import (
    Rings,
    area_of,
    clip_lines,
    components,
    difference,
    fit_arcs,
    intersection,
    offset,
    union,
)
from fenrik.core.regions.polygons import bounds_of, line_length, pole_of, to_shape, widened
from fenrik.core.strategies.common import ARC_FIT_MM, MM, START_GAP_MM, Outcome, beside_when, require
from fenrik.core.strategies.declared import Strategy, mills
from fenrik.core.strategies.given import Given
from fenrik.core.strategies.ground.entries import Entry, EntryParams, go_in, plan_entry
from fenrik.core.strategies.ground.fronts import Front, fronts_from, in_order
from fenrik.core.strategies.ground.levels import depth_levels
from fenrik.core.strategies.ground.links import along_inside, ready, slanting_step
from fenrik.core.strategies.ground.passes import (
    closed_ring,
    offset_rings,
    parallel_passes,
    pass_curve,
    spiral_pass,
)
from fenrik.core.strategies.leading import lead_in, lead_out
from fenrik.core.strategies.picked import MillingParams
from fenrik.core.strategies.pocket_ground import PocketGround
from fenrik.core.strategies.prismatic import Workplace, need_targets
from fenrik.core.strategies.targets import Area
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.units import LEAST_STEP_MM

THIN_CELLS = 0.75
"""Stock thinner than so many cells of its field is not gone after: it may be no more than the field's error."""
LEAST_GROUND_MM2 = 1e-3
CORNER_ROOM = 0.02
"""How far ways round corners keep from the edge of the ground, as a share of the stepover."""
SWEPT_SHARE = 0.55
"""Half the way to the next pass, and a little."""


class PocketClearing(MillingParams, EntryParams):
    """Clears pockets, slots and open steps down to their floors."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "full_width",
        "direction_deg",
        "corner_mm",
        "order",
    )

    strategy: Literal["pocket clearing"] = "pocket clearing"
    uses = "areas"
    pattern: Literal["outward", "offset", "parallel", "spiral"] = Field(
        default="outward",
        title="Pattern",
        description="Outward: fronts from the entry, never full width; offset: along the walls",
    )
    stepover_mm: float = Field(
        ge=LEAST_STEP_MM, le=300, title="Stepover", description="Distance between passes", json_schema_extra=MM
    )
    full_width: bool = Field(
        default=False, title="Full width allowed", description="The first pass of an offset pattern cuts on both sides"
    )
    direction_deg: float = Field(
        default=0.0,
        ge=-360,
        le=360,
        title="Direction",
        description="Of parallel passes",
        json_schema_extra={"unit": "deg"},
    )
    corner_mm: float = Field(
        default=0.0,
        ge=0,
        le=100,
        title="Corner smoothing",
        description="Least radius of the axis in corners while clearing",
        json_schema_extra=MM,
    )
    wall_finish_mm: float = Field(
        default=0.0,
        ge=0,
        le=20,
        title="Wall finish",
        description="Left by clearing and taken by a last pass round the walls",
        json_schema_extra=MM,
    )
    floor_finish_mm: float = Field(
        default=0.0,
        ge=0,
        le=20,
        title="Floor finish",
        description="Left by clearing and taken by a last pass over the floor",
        json_schema_extra=MM,
    )
    break_through_mm: float = Field(
        default=0.5,
        ge=0,
        le=50,
        title="Break-through",
        description="Below pockets without a floor",
        json_schema_extra=MM,
    )
    order: Literal["pocket by pocket", "level by level"] = Field(
        default="pocket by pocket", title="Order", description="Level by level keeps thin walls between pockets stiff"
    )


@dataclass(frozen=True)
class _Task:
    """One level of one pocket."""

    area: Area
    above: float
    level: float
    allowance: float
    walls_only: bool = False


@dataclass
class _Plan:
    """How one connected piece of a level is cut."""

    piece: Rings
    entry: Entry
    fronts: list[Front]
    order: list[int]
    rings: list[Points]


def pocket_clearing(given: Given, params: PocketClearing) -> Outcome:
    """All pockets of the operation; those that cannot be entered are reported, the others are cut.

    Raises:
        FenrikError: for a stepover wider than the tool, or where nothing is picked.
    """
    cutter = given.cutter
    require(
        params.stepover_mm <= cutter.diameter_mm,
        "stepover_mm",
        f"is wider than the tool ({cutter.diameter_mm:g} mm).",
        f"Use at most {0.9 * cutter.diameter_mm:.3g} mm.",
        params.stepover_mm,
    )
    place = Workplace.of(given)
    need_targets(given.targets.areas, given, "floor or closed curve", "Pick pocket floors, walls or closed curves.")
    worker = _Clearing(place, params)
    tasks = list(_tasks(place, params, given.targets.areas))
    for number, task in enumerate(tasks):
        worker.cut(task)
        given.progress((number + 1) / len(tasks), "clearing pockets")
    return Outcome(worker.builder.finish(), place.unreached)


def _tasks(place: Workplace, params: PocketClearing, areas: list[Area]) -> Iterator[_Task]:
    """Levels in the order they are cut."""
    found: list[list[_Task]] = []
    for area in sorted(
        areas, key=lambda a: (-a.floor, round(a.rings[0][:, 0].min(), 3), round(a.rings[0][:, 1].min(), 3))
    ):
        floor = params.bottom_at(place.anchors, area.floor) + params.floor_allowance_mm
        if area.through:
            floor -= params.break_through_mm
        top = params.top_at(place.anchors, *bounds_of(area.rings), area.floor)
        if not np.isfinite(top) or top <= floor + 1e-6:
            continue
        rough = params.allowance_mm + params.wall_finish_mm
        levels = depth_levels(top, min(floor + params.floor_finish_mm, top), params.stepdown_mm)
        own = [_Task(area, a, z, rough) for a, z in zip([top, *levels], levels, strict=False)]
        if params.floor_finish_mm > 0:
            own.append(_Task(area, levels[-1], floor, rough))
        if params.wall_finish_mm > 0:
            own.append(_Task(area, levels[-1], floor, params.allowance_mm, walls_only=True))
        found.append(own)
    if params.order == "level by level":
        yield from sorted((t for own in found for t in own), key=lambda t: (t.walls_only, -t.level))
    else:
        for own in found:
            yield from own


class _Clearing:
    """Cuts level after level; what was planned for one level is used again where the next is alike."""

    def __init__(self, place: Workplace, params: PocketClearing) -> None:
        self.place, self.params = place, params
        self.builder: PathBuilder = place.builder()
        self.linker = place.linker(self.builder, place.radius + params.allowance_mm)
        self.clockwise = params.milling == "conventional"
        self.builder.beside = "both" if params.full_width else beside_when(params.milling)
        self.plans: dict[tuple[object, ...], list[_Plan]] = {}
        self.centre_cutting = place.given.cutter.centre_cutting
        self.ground = PocketGround(place, params.floor_allowance_mm)
        self.told: set[tuple[float, float, float]] = set()

    def cut(self, task: _Task) -> None:
        ground, area, level = self.ground, task.area, task.level
        standing, wanted = ground.standing(area, level), ground.standing(area, level, task.above)
        rounding = 0.0 if task.walls_only else self.params.corner_mm
        reachable = ground.reachable(area, level, task.allowance, standing, rounding)
        if not reachable:
            self._tell_narrow(task)
            return
        if task.walls_only:
            for piece in components(reachable):
                self._finish_walls(task, piece)
            return
        key = (
            task.area.place[:2],
            task.area.label,
            round(area_of(reachable), 4),
            round(area_of(standing), 3),
            round(area_of(wanted), 3),
            len(reachable),
        )
        if key not in self.plans:
            self.plans[key] = self._plan(task, reachable, standing, wanted)
        for plan in self.plans[key]:
            self._run(task, plan)
        ground.cleared.append((level, reachable))

    def _tell_narrow(self, task: _Task) -> None:
        """The tool does not fit: said once for each area, with the room that there is."""
        area = task.area
        if area.place in self.told:
            return
        self.told.add(area.place)
        free = difference(area.rings, self.place.shadow.above(task.level))
        rooms = [pole_of(piece) for piece in components(free)] or [(np.array(area.place[:2]), 0.0)]
        spot, room = max(rooms, key=lambda r: r[1])
        wide = 2 * (room - task.allowance)
        self.place.skip(
            area.label,
            f"is about {2 * room:.2f} mm wide and the tool {2 * self.place.radius:g} mm"
            + (f" with {task.allowance:g} mm allowance on each side." if task.allowance else "."),
            (float(spot[0]), float(spot[1]), task.level),
            f"Use a tool of at most {max(wide, 0):.2f} mm.",
            area_of(free),
        )

    def _plan(self, task: _Task, reachable: Rings, standing: Rings, stock: Rings) -> list[_Plan]:
        plans = []
        radius, cell = self.place.radius, self.place.landscape.stock.cell
        touching, touched = offset(stock, max(radius - THIN_CELLS * cell, radius / 2)), offset(standing, radius + cell)
        for piece in components(reachable):
            wanted = intersection(piece, touching)
            if area_of(wanted) < LEAST_GROUND_MM2:
                continue
            ground = [p for p in components(difference(piece, touched)) if pole_of(p)[1] > 0.05 * radius]
            if ground:
                piece = intersection(piece, union(*ground, offset(wanted, self.params.stepover_mm + 2 * cell)))
            for part in components(piece):
                if area_of(intersection(part, wanted)) < LEAST_GROUND_MM2:
                    continue
                own = [g for g in ground if to_shape(part).intersects(to_shape(g))]
                entry = plan_entry(radius, self.centre_cutting, self.params, part, max(own, key=area_of) if own else [])
                if entry is None:
                    self._tell_no_entry(task, part)
                    continue
                if own:
                    entry = replace(entry, cleared=union(*own))
                plans.append(self._passes(part, entry, wanted))
        return plans

    def _tell_no_entry(self, task: _Task, piece: Rings) -> None:
        spot, room = pole_of(piece)
        self.place.skip(
            task.area.label,
            f"no room to enter: the axis has {2 * room:.2f} mm and the tool is not centre cutting.",
            (float(spot[0]), float(spot[1]), task.level),
            "Use a smaller or a centre-cutting tool, or drill a hole to start in.",
            area_of(piece),
        )

    def _passes(self, piece: Rings, entry: Entry, wanted: Rings) -> _Plan:
        p = self.params
        step = p.stepover_mm
        if p.pattern == "spiral" and entry.kind == "helix":
            spiral = spiral_pass(piece, entry, step, self.clockwise)
            if spiral is not None:
                front = Front(spiral, ready(piece), spiral=True)
                return _Plan(piece, entry, [front], [0], [closed_ring(r) for r in piece])
        if p.pattern == "parallel":
            return self._parallel_plan(piece, entry, wanted)
        if p.pattern == "offset" and entry.kind != "open":
            return self._offset_plan(piece, entry)
        fronts = fronts_from(entry, piece, step, self.clockwise)
        return _Plan(piece, entry, fronts, in_order(fronts, entry.place), self._wall_rings(piece, wanted))

    def _wall_rings(self, piece: Rings, wanted: Rings) -> list[Points]:
        """The boundary of a piece where stock is near; whole where all of it is."""
        wide = offset(wanted, 2e-2)
        rings: list[Points] = []
        for ring in piece:
            kept = clip_lines([closed_ring(ring)], wide)
            length = sum(line_length(k) for k in kept)
            rings += [closed_ring(ring)] if length > 0.999 * line_length(closed_ring(ring)) else kept
        return rings

    def _parallel_plan(self, piece: Rings, entry: Entry, wanted: Rings) -> _Plan:
        """Lines to and fro, each from ground that the ones before it have cut."""
        step = self.params.stepover_mm
        lines = parallel_passes(piece, wanted, step, self.params.direction_deg)
        fronts: list[Front] = []
        swept: Rings = entry.cleared
        for line in lines:
            fronts.append(Front(line, ready(intersection(swept, piece))))
            swept = union(swept, widened([line], 0.6 * step))
        return _Plan(piece, entry, fronts, list(range(len(lines))), [closed_ring(r) for r in piece])

    def _offset_plan(self, piece: Rings, entry: Entry) -> _Plan:
        """Rings along the walls, the innermost first; each innermost one is opened by fronts."""
        fronts = offset_rings(piece, self.params.stepover_mm, self._open_up)
        order = in_order(fronts, entry.place)
        entry = fronts[order[0]].entry or entry
        return _Plan(piece, entry, fronts, order, [])

    def _open_up(self, shape: Rings, fronts: list[Front]) -> list[int]:
        """The passes that clear an innermost ring from a way in of its own; gives their numbers."""
        opening = plan_entry(self.place.radius, self.centre_cutting, self.params, shape, [])
        if opening is None:
            return []
        first = len(fronts)
        if self.params.full_width:
            fronts.append(Front(np.array([opening.place, shape[0][0]]), ready(shape), entry=opening))
            return [first]
        for front in fronts_from(opening, shape, self.params.stepover_mm, self.clockwise):
            fronts.append(replace(front, parents=[first + k for k in front.parents]))
        for front in fronts[first:]:
            if not front.parents:
                front.entry = opening
        return list(range(first, len(fronts)))

    def _run(self, task: _Task, plan: _Plan) -> None:
        fence = ready(plan.piece)
        self._go_in(task, plan.entry, fence)
        entered, last = plan.entry, -1
        lines: list[Points] = []
        for k in plan.order:
            front = plan.fronts[k]
            if front.entry is not None and front.entry is not entered:
                entered, last = front.entry, -1
                self._go_in(task, entered, None)
            run = self._from_here(front.points[::-1] if self.clockwise and not front.spiral else front.points)
            ground = front.ground
            if lines and last not in front.parents:
                ground = self._swept(plan, lines)
            self._link(task, run, ground, lines, last >= 0, fence)
            self._cut(run)
            lines.append(run)
            last = k
        for ring in plan.rings:
            run = self._from_here(ring[::-1] if self.clockwise else ring)
            self._link(task, run, fence, lines, bool(lines), fence)
            self._cut(run)
            lines.append(run)

    def _cut(self, run: Points) -> None:
        self.builder.next_pass()
        self.builder.follow(pass_curve(run), Kind.CUT)

    def _swept(self, plan: _Plan, lines: list[Points]) -> shapely.Geometry:
        """Where the axis has been, with what lies between neighbouring passes."""
        beside = widened(lines, SWEPT_SHARE * self.params.stepover_mm)
        around = offset(plan.entry.cleared, SWEPT_SHARE * self.params.stepover_mm, ARC_FIT_MM)
        return ready(union(plan.entry.cleared, intersection(union(around, beside), plan.piece)))

    def _go_in(self, task: _Task, entry: Entry, ground: shapely.Geometry | None) -> None:
        """Down to the level; straight on from the level above where its ground leads to the way in."""
        at = self.builder.place
        above, led = task.above, False
        if all(abs(level - above) > 1e-6 for level, _ in self.ground.cleared):
            # Nothing was cleared down to there yet: what stands higher is not gone through at rapid.
            reach = self.place.radius + entry.size
            above = max(above, self.place.landscape.stock.under(float(entry.place[0]), float(entry.place[1]), reach))
        if ground is not None and at is not None and abs(at[2] - task.above) < 1e-6:
            led = self.linker.through(ground, entry.place, room_mm=CORNER_ROOM * self.params.stepover_mm)
        go_in(self.builder, self.params, entry, task.level, above, led)

    def _from_here(self, run: Points) -> Points:
        """A closed pass begun at its place nearest to the tool."""
        at = self.builder.place
        if len(run) < 4 or at is None or np.abs(run[0] - run[-1]).max() > 1e-4:
            return run
        k = int(np.linalg.norm(run[:-1] - at[:2], axis=1).argmin())
        return np.vstack([run[k:-1], run[: k + 1]])

    def _link(
        self,
        task: _Task,
        run: Points,
        ground: shapely.Geometry,
        lines: list[Points],
        back: bool,
        fence: shapely.Geometry,
    ) -> None:
        """Go to the begin of a pass: straight through cleared ground, back along the pass before, round corners of the
        ground, or over the top; the last step, from the ground's edge, at the cutting feed and inside the fence."""
        edge = slanting_step(ground, fence, run, self.params.stepover_mm)
        room = CORNER_ROOM * self.params.stepover_mm
        if not self.linker.through(ground, edge, lines[-1][::-1] if back else None, room):
            self.linker.over(self._cut_place(lines, edge), task.level, task.level + START_GAP_MM)
            self.builder.cut(np.array([edge[0], edge[1], task.level]))
        self.builder.follow(pass_curve(np.vstack([edge, along_inside(fence, edge, run[0])])), Kind.CUT)

    def _cut_place(self, lines: list[Points], to: Points) -> Points:
        """Where the axis has been, nearest to a place: down there the tool meets nothing."""
        if not lines:
            return to
        passes = shapely.MultiLineString([line for line in lines if len(line) > 1])
        return np.asarray(shapely.get_coordinates(shapely.shortest_line(passes, shapely.Point(to)))[0])

    def _finish_walls(self, task: _Task, piece: Rings) -> None:
        """Once round each wall at the full depth, with arcs in and out."""
        ground = ready(piece)
        for ring in piece:
            run = closed_ring(ring[::-1] if self.clockwise else ring)
            curve = fit_arcs(run[:-1], True, ARC_FIT_MM)
            lead = min(0.5 * self.place.radius, pole_of(piece)[1])
            first = lead_in(curve, lead, 90.0, ground, "right" if self.clockwise else "left")
            last = lead_out(curve, lead, 90.0, ground, "right" if self.clockwise else "left")
            start = first.points[0] if first is not None else curve.points[0]
            self._over_to(task, start, ground)
            if first is not None:
                self.builder.follow(first, Kind.ENTRY)
            self.builder.next_pass()
            self.builder.follow(curve, Kind.CUT)
            if last is not None:
                self.builder.follow(last, Kind.EXIT)

    def _over_to(self, task: _Task, to: Points, ground: shapely.Geometry) -> None:
        """To a place in cleared ground at a level: through the ground where the tool is in it, else over the top."""
        at = self.builder.place
        if at is not None and abs(at[2] - task.level) < 1e-6 and ground.covers(shapely.LineString([at[:2], to])):
            self.builder.link_at(np.array([to[0], to[1], task.level]), self.builder.feeds.exit)
            return
        self.linker.over(to, task.level, task.level + START_GAP_MM)


STRATEGY = Strategy(
    params=PocketClearing,
    run=pocket_clearing,
    version=9,
    group="Faces and pockets",
    cutters=mills("flat", "bull-nose"),
    stage=2,
    of_diameter={"stepdown_mm": 0.4, "stepover_mm": 0.4},
    finishes=lambda params: ("level",) if params.allowance_mm else ("level", "upright"),
)

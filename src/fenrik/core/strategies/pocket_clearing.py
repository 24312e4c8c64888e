"""Pocket clearing: everything between walls, islands and floor, at several depths.

At each level the places that the tool's axis can reach are the plane less the part's shadow from that level up, grown
by the tool's radius (exact polygons, see `regions.shadow`): so no level gouges, whatever the part is like. Passes are
fronts that grow from cleared ground (never full width), offsets of the walls, parallel lines, or a spiral. Only where
stock stands is anything cut; ground that is open already, a drilled hole or another pocket, is where the tool starts.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Literal

import networkx
import numpy as np
import shapely
from pydantic import Field
from shapely.ops import substring

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
from fenrik.core.regions.polygons import from_shape, line_length, pole_of, signed_area, thinned, to_shape, widened
from fenrik.core.sketches import Curve
from fenrik.core.strategies.common import MM, START_GAP_MM, Outcome, require
from fenrik.core.strategies.declared import Strategy, mills
from fenrik.core.strategies.entering import Entry, EntryParams, go_in, plan_entry
from fenrik.core.strategies.fronts import RIM_MM, THIN_MM, Front, fronts_from, in_order
from fenrik.core.strategies.given import Given
from fenrik.core.strategies.leading import lead_in, lead_out
from fenrik.core.strategies.level_regions import stock_above
from fenrik.core.strategies.prismatic import (
    ARC_FIT_MM,
    MillingParams,
    Workplace,
    bounds_of,
    depth_levels,
    near,
    need_targets,
)
from fenrik.core.strategies.targets import Area
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.builder import Kind

BESIDE_MM = 1.0
"""How far beside the stock the cutter starts at an open side."""
MOST_BESIDE = 8
"""How often it is looked half a radius farther out for a place beside the stock."""
THIN_CELLS = 0.75
"""Stock thinner than so many cells of its field is not gone after: it may be no more than the field's error."""
LEAST_GROUND_MM2 = 1e-3
CORNER_ROOM = 0.02
"""How far ways round corners keep from the edge of the ground, as a share of the stepover."""
MOST_CORNERS = 250
SLANT = 3.0
"""Cotangent of the slant of steps, some 18°."""
THIN_SHARE = 0.35
SWEPT_SHARE = 0.55
"""Half the way to the next pass, and a little."""
SPIRAL_STEP = 0.02
"""Radians between the places of a spiral."""


class PocketClearing(MillingParams, EntryParams):
    """Clears pockets, slots and open steps down to their floors."""

    strategy: Literal["pocket clearing"] = "pocket clearing"
    uses = "areas"
    pattern: Literal["outward", "offset", "parallel", "spiral"] = Field(
        default="outward",
        title="Pattern",
        description="Outward: fronts from the entry, never full width; offset: along the walls",
    )
    stepover_mm: float = Field(
        gt=0, le=300, title="Stepover", description="Distance between passes", json_schema_extra=MM
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
        self.plans: dict[tuple[object, ...], list[_Plan]] = {}
        self.done: list[tuple[float, Rings]] = []
        self.stands: dict[float, Rings] = {}
        self.told: set[tuple[float, float, float]] = set()

    def cut(self, task: _Task) -> None:
        stock = self._stock(task)
        reachable = self._reachable(task, stock)
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
            round(area_of(stock), 3),
            len(reachable),
        )
        if key not in self.plans:
            self.plans[key] = self._plan(task, reachable, stock)
        for plan in self.plans[key]:
            self._run(task, plan)
        self.done.append((task.level, reachable))

    def _reachable(self, task: _Task, stock: Rings) -> Rings:
        """Where the axis may be at a level, in the pieces that belong to the area."""
        p, area = self.place, task.area
        reach = p.radius + task.allowance
        blocked = p.blocked(task.level - self.params.floor_allowance_mm, reach, self._window(area))
        own = to_shape(area.rings)
        shapely.prepare(own)

        # Islands stand in the shadow; what else is cut out of a floor is a deeper place, whose stock goes as well.
        whole = area.rings if area.fenced else [r for r in area.rings if signed_area(r) > 0]

        def room(grown_mm: float) -> Rings:
            free = difference(offset(whole, grown_mm), blocked)
            if self.params.corner_mm > 0 and not task.walls_only:
                free = offset(offset(free, -self.params.corner_mm), self.params.corner_mm)
            return [ring for piece in components(free) if own.intersects(to_shape(piece)) for ring in piece]

        if area.fenced:
            return room(-reach)
        closed, beside = room(1e-3), p.radius + p.landscape.stock.cell + BESIDE_MM
        if abs(area_of(room(beside)) - area_of(closed)) < 1e-2 * p.radius**2:
            return closed
        # At an open side the region goes on until the tool stands beside the stock.
        touched = offset(stock, p.radius + p.landscape.stock.cell)
        for more in range(MOST_BESIDE):
            found = room(beside + more * p.radius / 2)
            if any(pole_of(g)[1] > BESIDE_MM / 4 for g in components(difference(found, touched))):
                return found
        return room(p.radius / 4)

    def _stock(self, task: _Task) -> Rings:
        """Where stock stands above a level, less what this operation has cleared down to it."""
        stands = near(self._stock_at(task.level), self._window(task.area), self.place.radius)
        cleared = [offset(r, self.place.radius - 1e-3) for level, r in self.done if level <= task.level + 1e-9]
        return difference(stands, union(*cleared)) if cleared else stands

    def _stock_at(self, level: float) -> Rings:
        if level not in self.stands:
            self.stands[level] = from_shape(stock_above(self.place.landscape.stock, level))
        return self.stands[level]

    def _window(self, area: Area) -> tuple[Points, Points]:
        """A rectangle round an area that holds all that matters for it."""
        low, high = bounds_of(area.rings)
        far = (MOST_BESIDE / 2 + 2) * self.place.radius + BESIDE_MM
        return low - far, high + far

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

    def _plan(self, task: _Task, reachable: Rings, stock: Rings) -> list[_Plan]:
        plans = []
        radius, cell = self.place.radius, self.place.landscape.stock.cell
        touching, touched = offset(stock, max(radius - THIN_CELLS * cell, radius / 2)), offset(stock, radius + cell)
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
                entry = plan_entry(self.place, self.params, part, max(own, key=area_of) if own else [])
                if entry is None:
                    self._tell_closed(task, part)
                    continue
                if own:
                    entry = replace(entry, cleared=union(*own))
                plans.append(self._passes(part, entry, wanted))
        return plans

    def _tell_closed(self, task: _Task, piece: Rings) -> None:
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
            spiral = spiral_pass(piece, entry, step)
            if spiral is not None:
                return _Plan(piece, entry, [Front(spiral, _ready(piece))], [0], [_closed(r) for r in piece])
        if p.pattern == "parallel":
            return self._parallel_plan(piece, entry, wanted)
        if p.pattern == "offset" and entry.kind != "open":
            return self._offset_plan(piece, entry)
        fronts = fronts_from(entry, piece, step)
        return _Plan(piece, entry, fronts, in_order(fronts, entry.place), self._wall_rings(piece, wanted))

    def _wall_rings(self, piece: Rings, wanted: Rings) -> list[Points]:
        """The boundary of a piece where stock is near; whole where all of it is."""
        wide = offset(wanted, 2e-2)
        rings: list[Points] = []
        for ring in piece:
            kept = clip_lines([_closed(ring)], wide)
            length = sum(line_length(k) for k in kept)
            rings += [_closed(ring)] if length > 0.999 * line_length(_closed(ring)) else kept
        return rings

    def _parallel_plan(self, piece: Rings, entry: Entry, wanted: Rings) -> _Plan:
        """Lines to and fro, each from ground that the ones before it have cut."""
        step = self.params.stepover_mm
        lines = parallel_passes(piece, wanted, step, self.params.direction_deg)
        fronts: list[Front] = []
        swept: Rings = entry.cleared
        for line in lines:
            fronts.append(Front(line, _ready(intersection(swept, piece))))
            swept = union(swept, widened([line], 0.6 * step))
        return _Plan(piece, entry, fronts, list(range(len(lines))), [_closed(r) for r in piece])

    def _offset_plan(self, piece: Rings, entry: Entry) -> _Plan:
        """Rings along the walls, the innermost first; each innermost one is opened by fronts."""
        fronts = offset_rings(piece, self.params.stepover_mm, self._open_up)
        order = in_order(fronts, entry.place)
        entry = fronts[order[0]].entry or entry
        return _Plan(piece, entry, fronts, order, [])

    def _open_up(self, shape: Rings, fronts: list[Front]) -> list[int]:
        """The passes that clear an innermost ring from a way in of its own; gives their numbers."""
        opening = plan_entry(self.place, self.params, shape, [])
        if opening is None:
            return []
        first = len(fronts)
        if self.params.full_width:
            fronts.append(Front(np.array([opening.place, shape[0][0]]), _ready(shape), entry=opening))
            return [first]
        for front in fronts_from(opening, shape, self.params.stepover_mm):
            fronts.append(replace(front, parents=[first + k for k in front.parents]))
        for front in fronts[first:]:
            if not front.parents:
                front.entry = opening
        return list(range(first, len(fronts)))

    def _run(self, task: _Task, plan: _Plan) -> None:
        climb = self.params.milling == "climb"
        fence = _ready(plan.piece)
        self._go_in(task, plan.entry, fence)
        entered, last = plan.entry, -1
        lines: list[Points] = []
        for k in plan.order:
            front = plan.fronts[k]
            if front.entry is not None and front.entry is not entered:
                entered, last = front.entry, -1
                self._go_in(task, entered, None)
            run = self._from_here(front.points if climb else front.points[::-1])
            ground = front.ground
            if lines and last not in front.parents:
                ground = self._swept(plan, lines)
            self._link(task, run, ground, lines, last >= 0, fence)
            self._cut(run)
            lines.append(run)
            last = k
        for ring in plan.rings:
            run = self._from_here(ring if climb else ring[::-1])
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
        return _ready(union(plan.entry.cleared, intersection(union(around, beside), plan.piece)))

    def _go_in(self, task: _Task, entry: Entry, ground: shapely.Geometry | None) -> None:
        """Down to the level; straight on from the level above where its ground leads to the way in."""
        at = self.builder.place
        way = None
        if ground is not None and at is not None and abs(at[2] - task.above) < 1e-6:
            way = _way_through(ground, at[:2], entry.place, None, CORNER_ROOM * self.params.stepover_mm)
            if way is not None:
                self.builder.follow(pass_curve(np.vstack([at[:2], way])), Kind.LINK, feed=self.builder.feeds.exit)
        go_in(self.builder, self.params, entry, task.level, task.above, way is not None)

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
        builder, to = self.builder, run[0]
        at = builder.place
        assert at is not None
        edge = slanting_step(ground, fence, run, self.params.stepover_mm)
        room = CORNER_ROOM * self.params.stepover_mm
        way = _way_through(ground, at[:2], edge, lines[-1][::-1] if back else None, room)
        if way is None:
            spot = self._cut_place(lines, edge)
            builder.travel(float(spot[0]), float(spot[1]), task.level + START_GAP_MM)
            builder.approach(np.array([spot[0], spot[1], task.level]))
            builder.cut(np.array([edge[0], edge[1], task.level]))
        else:
            builder.follow(pass_curve(np.vstack([at[:2], way])), Kind.LINK, feed=builder.feeds.exit)
        builder.follow(pass_curve(np.vstack([edge, along_inside(fence, edge, to)])), Kind.CUT)

    def _cut_place(self, lines: list[Points], to: Points) -> Points:
        """Where the axis has been, nearest to a place: down there the tool meets nothing."""
        if not lines:
            return to
        passes = shapely.MultiLineString([line for line in lines if len(line) > 1])
        return np.asarray(shapely.get_coordinates(shapely.shortest_line(passes, shapely.Point(to)))[0])

    def _finish_walls(self, task: _Task, piece: Rings) -> None:
        """Once round each wall at the full depth, with arcs in and out."""
        ground = _ready(piece)
        for ring in piece:
            run = _closed(ring if self.params.milling == "climb" else ring[::-1])
            curve = fit_arcs(run[:-1], True, ARC_FIT_MM)
            lead = min(0.5 * self.place.radius, pole_of(piece)[1])
            first = lead_in(curve, lead, 90.0, ground, "left" if self.params.milling == "climb" else "right")
            last = lead_out(curve, lead, 90.0, ground, "left" if self.params.milling == "climb" else "right")
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
        self.builder.travel(float(to[0]), float(to[1]), task.level + START_GAP_MM)
        self.builder.approach(np.array([to[0], to[1], task.level]))


def offset_rings(
    piece: Rings, step: float, open_up: Callable[[Rings, list[Front]], list[int]] | None = None
) -> list[Front]:
    """Rings of a region, each a step inside the one round it; a ring waits for those inside it.

    Args:
        open_up: adds the passes that clear an innermost ring to the list, and gives their numbers.
    """
    fronts: list[Front] = []

    def descend(shape: Rings) -> list[int]:
        inner = components(thinned(offset(shape, -step, ARC_FIT_MM), THIN_MM))
        if open_up is not None and any(pole_of(child)[1] < THIN_SHARE * step for child in inner):
            inner = []  # too thin a core to open without cutting at full width: it is opened from here
        before = [k for child in inner for k in descend(child)]
        if not inner and open_up is not None:
            before = open_up(shape, fronts)
        ground = _ready([r for child in inner for r in child]) if inner else _ready(shape)
        mine = list(range(len(fronts), len(fronts) + len(shape)))
        fronts.extend(Front(_closed(ring), ground, list(before)) for ring in shape)
        return mine

    descend(piece)
    return fronts


def _closed(ring: Points) -> Points:
    return np.vstack([ring, ring[:1]])


def _ready(region: Rings) -> shapely.Geometry:
    """A region, hardly grown, made ready for questions."""
    shape = to_shape(offset(region, 2 * RIM_MM))
    shapely.prepare(shape)
    return shape


def pass_curve(run: Points) -> Curve:
    """A pass with its arcs; closed ones end where they begin."""
    return fit_arcs(run, False, ARC_FIT_MM)


def slanting_step(ground: shapely.Geometry, fence: shapely.Geometry, run: Points, step: float) -> Points:
    """Where on the edge of cleared ground to leave it for the begin of a pass, so that the way there slants.

    A step straight out would be full width; one that slants is engaged little more than the pass itself. A pass
    from wall to wall is met from ahead (its begin stands at the wall), a closed one from behind.
    """
    to = run[0]
    near = shapely.get_coordinates(shapely.shortest_line(ground, shapely.Point(to)))[0]
    if np.linalg.norm(near - to) < 0.2 * step:
        return near
    closed = np.abs(run[0] - run[-1]).max() < 1e-4
    way = shapely.LineString(run)
    for share in (1.0, 0.85, 0.7, 0.55, 0.4, 0.3, 0.2, 0.1):
        along = share * min(SLANT * step, 0.9 * way.length)
        beside = way.interpolate(way.length - along if closed else along)
        place = shapely.get_coordinates(shapely.shortest_line(ground, beside))[0]
        if ground.intersection(shapely.LineString([place, to])).length < 0.1 * step and _sees(fence, place, to):
            return place
    return near


def _sees(ground: shapely.Geometry, a: Points, b: Points) -> bool:
    """Whether the straight way from a to b stays in the ground; b itself may lie on its edge."""
    return bool(ground.covers(shapely.LineString([a, b + (a - b) * 1e-4])))


def _way_through(ground: shapely.Geometry, at: Points, to: Points, back: Points | None, room: float) -> Points | None:
    """Places of a way through the ground, `to` with them.

    Args:
        back: another way to begin, the pass before from its end to its begin.
    """
    if _sees(ground, at, to):
        return to[None]
    if back is not None and np.abs(back[0] - at).max() < 1e-6 and _sees(ground, back[-1], to):
        return np.vstack([back[1:], to])
    return shortest_way(ground, at, to, room)


def along_inside(fence: shapely.Geometry, a: Points, b: Points) -> Points:
    """Places from a to b (without a): straight, or along the fence's edge where the straight way would leave it."""
    if np.linalg.norm(b - a) < 2 * RIM_MM or _sees(fence, a, b):
        return b[None]
    rings = [r for p in shapely.get_parts(fence) for r in (p.exterior, *p.interiors)]
    ring = min(rings, key=lambda r: r.distance(shapely.Point(a)) + r.distance(shapely.Point(b)))
    start, end = ring.project(shapely.Point(a)), ring.project(shapely.Point(b))
    if abs(end - start) <= ring.length / 2:
        inner = substring(ring, start, end)
    else:
        rest = [substring(ring, max(start, end), ring.length), substring(ring, 0, min(start, end))]
        joined = np.vstack([shapely.get_coordinates(r) for r in rest])
        inner = shapely.LineString(joined if start > end else joined[::-1])
    # The fence is a little wider than the region; its edge is moved back inside.
    places = shapely.get_coordinates(inner)
    inside = shapely.get_coordinates(shapely.shortest_line(fence.buffer(-2 * RIM_MM), shapely.points(places)))[::2]
    return np.vstack([inside[1:-1], b])


def shortest_way(ground: shapely.Geometry, at: Points, to: Points, room: float) -> Points | None:
    """The shortest way inside a polygon, round its corners; None where the ends lie in different pieces."""
    own = next((p for p in shapely.get_parts(ground) if p.distance(shapely.Point(at)) < 1e-2), None)
    if own is None or own.distance(shapely.Point(to)) > 1e-2:
        return None
    simple = shapely.simplify(own.buffer(-room), room / 2)
    turns = [_corners(np.asarray(p.exterior.coords)[:-1], False) for p in shapely.get_parts(simple)]
    turns += [_corners(np.asarray(r.coords)[:-1], True) for p in shapely.get_parts(simple) for r in p.interiors]
    corners = np.vstack([at, to, *turns])
    if len(corners) > MOST_CORNERS:
        return None
    own = own.buffer(1e-4)
    shapely.prepare(own)
    a, b = np.triu_indices(len(corners), 1)
    seen = shapely.covers(own, shapely.linestrings(np.stack([corners[a], corners[b]], axis=1)))
    graph = networkx.Graph()
    graph.add_nodes_from(range(len(corners)))
    length = np.linalg.norm(corners[a] - corners[b], axis=1)
    graph.add_weighted_edges_from(zip(a[seen].tolist(), b[seen].tolist(), length[seen].tolist(), strict=True))
    try:
        found = networkx.shortest_path(graph, 0, 1, weight="weight")
    except networkx.NetworkXNoPath:
        return None
    return corners[found[1:]]


def _corners(ring: Points, hole: bool) -> Points:
    """Corners of a ring that ways inside a polygon go round: those that stand out into it."""
    before, after = ring - np.roll(ring, 1, axis=0), np.roll(ring, -1, axis=0) - ring
    turn = before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0]
    anticlockwise = signed_area(ring) > 0
    return ring[(turn < 0) == (anticlockwise != hole)]


def parallel_passes(piece: Rings, wanted: Rings, step: float, direction_deg: float) -> list[Points]:
    """Lines to and fro over a region where stock stands, evenly spaced, none farther apart than the step."""
    turn = np.deg2rad(direction_deg)
    spin = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
    turned = np.vstack(piece) @ spin
    low, high = turned.min(axis=0), turned.max(axis=0)
    rows = np.linspace(low[1], high[1], max(int(np.ceil((high[1] - low[1]) / step)), 1) + 1)
    lines = []
    for k, y in enumerate(np.clip(rows, low[1] + RIM_MM, high[1] - RIM_MM)):
        line = np.array([[low[0] - 1, y], [high[0] + 1, y]]) @ spin.T
        for cut in clip_lines([line if k % 2 == 0 else line[::-1]], piece):
            lines += clip_lines([cut], offset(wanted, step))
    return lines


def spiral_pass(piece: Rings, entry: Entry, step: float) -> Points | None:
    """One spiral from the entry's helix to the wall, none of its turns farther apart than the step.

    Between the helix and the wall it goes evenly outwards along each ray from the middle; None where a ray meets the
    wall twice (the region cannot be seen whole from its middle) or there is an island.
    """
    if len(piece) > 1:
        return None
    centre = entry.place - np.array([entry.size, 0.0])
    wall = piece[0] - centre
    angle = np.unwrap(np.arctan2(wall[:, 1], wall[:, 0]))
    if np.any(np.diff(np.append(angle, angle[0] + 2 * np.pi)) <= 0):
        return None
    steps = max(int(2 * np.pi / SPIRAL_STEP), 90)
    theta = np.arange(steps) * 2 * np.pi / steps
    rays = np.stack([np.zeros((steps, 2)), np.column_stack([np.cos(theta), np.sin(theta)]) * 1e5], axis=1)
    edge = shapely.LinearRing(wall)
    meets = shapely.intersection(shapely.linestrings(rays), edge)
    radius = shapely.distance(shapely.points(0, 0), meets)
    turns = max(int(np.ceil((radius.max() - entry.size) / step)), 1)
    share = np.arange(turns * steps + 1) / (turns * steps)
    r = entry.size + (np.resize(radius, len(share)) - entry.size) * share
    t = np.arange(len(share)) * 2 * np.pi / steps
    return centre + r[:, None] * np.column_stack([np.cos(t), np.sin(t)])


STRATEGY = Strategy(
    params=PocketClearing,
    run=pocket_clearing,
    version=4,
    group="Faces and pockets",
    cutters=mills("flat", "bull-nose"),
    stage=2,
    of_diameter={"stepdown_mm": 0.4, "stepover_mm": 0.4},
)

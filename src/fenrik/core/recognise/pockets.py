"""Pockets, slots, bosses, flat areas and outlines seen along one direction.

Flat areas that look along the direction are the anchors. Each of their edges leads up (a wall) or down; a boundary
that only leads up closes a pocket, an inner one is an island, mixed ones make open pockets. Upright walls that close
to a ring without a floor make through pockets (inwards) or outlines (outwards).
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np
import shapely
from shapely.geometry import Polygon

from fenrik.core.frames import Points, flatten
from fenrik.core.recognise.features import Boss, FlatArea, OuterProfile, Pocket
from fenrik.core.recognise.graph import FaceGraph, Neighbour

FLAT_COSINE = 1 - 1e-6
STRAIGHT_DEG = 0.5
SLOT_LENGTH_SHARE = 1.2
HALF_ROUND_DEG = 170.0
UP_COSINE = 0.02


@dataclass
class FlatRegion:
    """Flat faces at one level that hang together, and where their boundaries lead."""

    faces: list[int]
    level: float
    area: float
    outer_up: list[Neighbour] = field(default_factory=list)
    outer_down: list[Neighbour] = field(default_factory=list)
    inner_up: list[list[Neighbour]] = field(default_factory=list)


@dataclass
class View:
    """What is found along one direction."""

    pockets: list[Pocket] = field(default_factory=list)
    bosses: list[Boss] = field(default_factory=list)
    flat_areas: list[FlatArea] = field(default_factory=list)
    profiles: list[OuterProfile] = field(default_factory=list)


@dataclass(frozen=True)
class Ring:
    """Upright walls that close round; inwards where the void is inside."""

    faces: frozenset[int]
    inward: bool


def find_along(graph: FaceGraph, direction: Points, in_holes: set[int]) -> View:
    """Pockets, bosses, flat areas and outlines along one direction.

    Args:
        in_holes: faces that belong to holes; they are no pockets.
    """
    regions = _regions(graph, direction, in_holes)
    rings = _rings(graph, direction, in_holes)
    view = View()
    with_floor: set[int] = set()
    for region in regions:
        pocket = _pocket(graph, direction, region, in_holes)
        if pocket is not None:
            with_floor |= set(pocket.walls)
            view.pockets.append(pocket)
        view.bosses += _bosses(graph, direction, region)
    standing = {f for b in view.bosses for f in b.faces}
    for ring in rings:
        if ring.faces & with_floor or ring.faces & standing:
            continue
        if ring.inward:
            through = _through_pocket(graph, direction, ring)
            if through is not None:
                view.pockets.append(through)
        else:
            view.profiles.append(_profile(graph, direction, ring))
    view.flat_areas = [
        FlatArea(name="", faces=sorted(r.faces), direction=_vector(direction), level_mm=r.level, area_mm2=r.area)
        for r in regions
    ]
    return view


def _vector(v: Points) -> tuple[float, float, float]:
    return float(v[0]) + 0.0, float(v[1]) + 0.0, float(v[2]) + 0.0


def _regions(graph: FaceGraph, direction: Points, in_holes: set[int]) -> list[FlatRegion]:
    flat = {
        i
        for i, f in enumerate(graph.faces)
        if f.kind == "plane" and i not in in_holes and float(np.array(f.normal) @ direction) > FLAT_COSINE
    }
    left, regions = set(flat), []
    while left:
        faces = graph.reach([min(left)], ("smooth",), left)
        left -= faces
        level = graph.span(faces, direction)[1]
        region = FlatRegion(sorted(faces), level, sum(graph.faces[f].area_mm2 for f in faces))
        _follow_boundaries(graph, direction, region, in_holes)
        regions.append(region)
    return sorted(regions, key=lambda r: (-r.level, r.faces))


def _follow_boundaries(graph: FaceGraph, direction: Points, region: FlatRegion, in_holes: set[int]) -> None:
    inside = set(region.faces)
    loops = _region_loops(graph, direction, region)
    across = {n.edge: n for f in region.faces for n in graph.neighbours[f] if n.face not in inside}
    for k, loop in enumerate(loops):
        ways = [across[e] for e in loop if e in across]
        up = [n for n in ways if graph.rises(region.level, n, direction)]
        if k == 0:
            region.outer_up = up
            region.outer_down = [n for n in ways if n not in up]
        elif up and len(up) == len(ways) and not all(n.face in in_holes for n in ways):
            region.inner_up.append(up)


def _region_loops(graph: FaceGraph, direction: Points, region: FlatRegion) -> list[list[int]]:
    """Boundaries of a region, the outer one first (the one that spans most)."""
    inside = set(region.faces)
    rim = [
        e
        for f in region.faces
        for loop in graph.faces[f].loops
        for e in loop
        if not set(graph.edges[e].faces) <= inside
    ]
    at: dict[int, list[int]] = {}
    for e in rim:
        for v in graph.edges[e].ends:
            at.setdefault(v, []).append(e)
    loops, left = [], set(rim)
    while left:
        front = [min(left)]
        loop = []
        while front:
            e = front.pop()
            if e in left:
                left.remove(e)
                loop.append(e)
                front += [o for v in graph.edges[e].ends for o in at[v] if o in left]
        loops.append(loop)

    def size(loop: list[int]) -> float:
        points = flatten(np.concatenate([graph.edges[e].points for e in loop]), direction)
        return float(np.prod(np.ptp(points, axis=0)))

    return sorted(loops, key=size, reverse=True)


def _walls_from(graph: FaceGraph, start: Iterable[Neighbour], direction: Points, floor: Iterable[int]) -> set[int]:
    """Walls, upright corners and floor fillets that are reached from the edges of a flat area."""
    keep_out = set(floor)
    allowed = {
        i
        for i in range(len(graph.faces))
        if i not in keep_out and (graph.is_wall(i, direction) or _is_fillet_up(graph, i, direction))
    }
    return graph.reach([n.face for n in start], ("smooth", "concave"), allowed)


def _is_fillet_up(graph: FaceGraph, face: int, direction: Points) -> bool:
    """A rounded inner corner between floor and wall."""
    f = graph.faces[face]
    return (f.concave and f.kind in ("cylinder", "torus", "sphere", "cone") and f.span_deg < 359) or (
        f.concave and f.kind == "torus"
    )


def _pocket(graph: FaceGraph, direction: Points, region: FlatRegion, in_holes: set[int]) -> Pocket | None:
    if not region.outer_up:
        return None
    walls = _walls_from(graph, region.outer_up, direction, region.faces) - in_holes
    upright = {w for w in walls if graph.is_wall(w, direction)}
    if not upright:
        return None
    closed = not region.outer_down
    depth = min(graph.span([w], direction)[1] for w in upright) - region.level
    if depth <= 1e-6:
        return None
    share, over = graph.blocked(graph.middles(region.faces), direction)
    if not closed and share > 0.5:
        return None
    islands = [sorted(_walls_from(graph, up, direction, region.faces)) for up in region.inner_up]
    points = graph.outline([*region.faces, *walls], direction)
    across = _round_diameter(graph, upright)
    length, width = (across, across) if closed and across else _size(points)
    kind = "pocket" if closed else "open pocket"
    slot = _slot_width(graph, direction, upright, length, closed)
    if slot is not None and not islands:
        kind, width = ("slot" if closed else "open slot"), slot
    radii, floor_radius = _radii(graph, direction, walls, region)
    return Pocket(
        name="",
        kind=kind,
        faces=sorted({*region.faces, *walls}),
        direction=_vector(direction),
        accessible=share == 0,
        why="" if share == 0 else f"Face {over} stands over {share:.0%} of its floor.",
        level_mm=region.level,
        depth_mm=depth,
        length_mm=length,
        width_mm=width,
        area_mm2=_area(points) if closed else region.area,
        floor=region.faces,
        walls=sorted(walls),
        islands=islands,
        corner_radii_mm=radii,
        floor_radius_mm=floor_radius,
        draft_deg=_draft(graph, direction, upright),
    )


def _size(points: Points) -> tuple[float, float]:
    """Length and width of the smallest rectangle round points seen from above."""
    box = shapely.multipoints(points).minimum_rotated_rectangle
    if not isinstance(box, Polygon):
        return float(np.ptp(points, axis=0).max()), 0.0
    corners = np.array(box.exterior.coords)
    sides = np.linalg.norm(np.diff(corners[:3], axis=0), axis=1)
    return float(sides.max()), float(sides.min())


def _round_diameter(graph: FaceGraph, upright: set[int]) -> float:
    """The diameter where upright walls are one cylinder all round; 0 for anything else."""
    radii = {graph.faces[w].radius_mm for w in upright if graph.faces[w].kind == "cylinder"}
    if len(radii) != 1 or any(graph.faces[w].kind != "cylinder" for w in upright):
        return 0.0
    return 2 * (radii.pop() or 0.0) if graph.round_span(min(upright)) > 359 else 0.0


def _area(points: Points) -> float:
    return float(shapely.multipoints(points).convex_hull.area)


def _slot_width(graph: FaceGraph, direction: Points, walls: set[int], length: float, closed: bool) -> float | None:
    """Width between two parallel walls that face each other, where the rest are half-round ends (or it is open)."""
    flat = [w for w in walls if graph.faces[w].kind == "plane"]
    round_ = {w for w in walls if graph.faces[w].kind == "cylinder" and graph.round_span(w) >= HALF_ROUND_DEG}
    ends = {min(graph.same_surface(w)) for w in round_}
    if len(flat) != 2 or len(flat) + len(round_) != len(walls):
        return None
    a, b = (graph.faces[w] for w in flat)
    if float(np.dot(a.normal, b.normal)) > -FLAT_COSINE:
        return None
    width = abs(float(np.dot(np.subtract(a.centroid, b.centroid), a.normal)))
    if closed:
        fits = len(ends) == 2 and all(abs(2 * (graph.faces[e].radius_mm or 0) - width) < 1e-3 for e in ends)
        return width if fits else None
    return width if len(ends) <= 1 and length >= SLOT_LENGTH_SHARE * width else None


def _radii(
    graph: FaceGraph, direction: Points, walls: set[int], region: FlatRegion
) -> tuple[list[float], float | None]:
    """Radii of upright inner corners (0 for sharp ones), and the radius between floor and walls."""
    corners = set()
    for w in walls:
        f = graph.faces[w]
        if f.kind == "cylinder" and f.concave and graph.round_span(w) < HALF_ROUND_DEG and graph.is_wall(w, direction):
            corners.add(round(f.radius_mm or 0.0, 4))
        for n in graph.neighbours[w]:
            if n.face in walls and n.turn == "concave" and graph.is_upright(n.edge, direction):
                corners.add(0.0)
    smooth = [graph.faces[n.face] for n in region.outer_up if n.turn == "smooth"]
    rounds = [f.minor_radius_mm if f.kind == "torus" else f.radius_mm for f in smooth if f.concave]
    floor = [r for r in rounds if r is not None]
    return sorted(corners), min(floor) if floor else None


def _draft(graph: FaceGraph, direction: Points, walls: set[int]) -> float:
    """Largest angle between the walls and the direction."""
    sines = [
        float(np.average(np.abs(graph.normals(w) @ direction), weights=graph.triangle_areas(w)))
        for w in walls
        if graph.faces[w].kind != "cylinder"
    ]
    angle = math.degrees(math.asin(min(max(sines, default=0.0), 1.0)))
    return angle if angle > STRAIGHT_DEG else 0.0


def _bosses(graph: FaceGraph, direction: Points, region: FlatRegion) -> list[Boss]:
    found = []
    for up in region.inner_up:
        walls = _walls_from(graph, up, direction, region.faces)
        if not walls:
            continue
        points = graph.points(walls)
        upright = [w for w in walls if graph.is_wall(w, direction)]
        length, width = _size(graph.outline(upright or walls, direction))
        across = _round_diameter(graph, set(upright))
        if across:
            length = width = across
        found.append(
            Boss(
                name="",
                faces=sorted(walls),
                direction=_vector(direction),
                accessible=True,
                height_mm=float((points @ direction).max()) - region.level,
                length_mm=length,
                width_mm=width,
                round=across > 0,
            )
        )
    return found


def _rings(graph: FaceGraph, direction: Points, in_holes: set[int]) -> list[Ring]:
    """Walls that hang together over upright edges and close round."""
    walls = {i for i in range(len(graph.faces)) if i not in in_holes and graph.is_wall(i, direction)}
    left, rings = set(walls), []
    while left:
        start = min(left)
        group, front = {start}, [start]
        while front:
            for n in graph.neighbours[front.pop()]:
                if n.face in walls and n.face not in group and graph.is_upright(n.edge, direction):
                    group.add(n.face)
                    front.append(n.face)
        left -= group
        if _closes_round(graph, direction, group):
            rings.append(Ring(frozenset(group), _turns_inward(graph, direction, group)))
    return rings


def _closes_round(graph: FaceGraph, direction: Points, group: set[int]) -> bool:
    if len(group) == 1:
        return graph.faces[next(iter(group))].span_deg > 359
    for w in group:
        sides = [n for n in graph.neighbours[w] if n.face in group and graph.is_upright(n.edge, direction)]
        if len(sides) < 2:
            return False
    return True


def _turns_inward(graph: FaceGraph, direction: Points, group: set[int]) -> bool:
    """The flux of the plane's position through the walls is the area that they enclose; negative round a void."""
    flux = 0.0
    for w in group:
        middles = graph.corners(w).mean(axis=1)
        normals = graph.normals(w)
        outward = middles - direction * (middles @ direction)[:, None]
        flux += float((np.einsum("ij,ij->i", outward, normals) * graph.triangle_areas(w)).sum())
    centre = graph.points(group).mean(axis=0)
    shift = sum(float((graph.normals(w) @ centre * graph.triangle_areas(w)).sum()) for w in group)
    lift = sum(
        float((graph.normals(w) @ direction * graph.triangle_areas(w)).sum()) * float(centre @ direction) for w in group
    )
    return flux - (shift - lift) < 0


def _through_pocket(graph: FaceGraph, direction: Points, ring: Ring) -> Pocket | None:
    if any(
        n.face not in ring.faces and n.turn in ("concave", "smooth") and _looks_along(graph, n.face, direction)
        for w in ring.faces
        for n in graph.neighbours[w]
    ):
        return None  # there is a floor, or the ring hangs from a ceiling: it belongs to what was found from there
    low, high = graph.span(ring.faces, direction)
    points = graph.outline(ring.faces, direction)
    length, width = _size(points)
    slot = _slot_width(graph, direction, set(ring.faces), length, True)
    region = FlatRegion([], low, 0.0)
    radii, _ = _radii(graph, direction, set(ring.faces), region)
    rim = min(graph.span([w], direction)[1] for w in ring.faces)
    place = graph.points(ring.faces)
    centre = place.mean(axis=0)
    centre = centre + direction * (high - float(centre @ direction))
    share, over = graph.blocked(centre[None, :], direction)
    return Pocket(
        name="",
        kind="through slot" if slot is not None else "through pocket",
        faces=sorted(ring.faces),
        direction=_vector(direction),
        accessible=share == 0,
        why="" if share == 0 else f"Face {over} stands over it.",
        level_mm=low,
        depth_mm=rim - low,
        length_mm=length,
        width_mm=slot if slot is not None else width,
        area_mm2=_area(points),
        floor=[],
        walls=sorted(ring.faces),
        corner_radii_mm=radii,
        draft_deg=_draft(graph, direction, set(ring.faces)),
    )


def _looks_along(graph: FaceGraph, face: int, direction: Points) -> bool:
    """Whether a face looks up or down rather than sideways."""
    normals = graph.normals(face)
    return len(normals) > 0 and bool(np.abs(normals @ direction).max() > 0.9)


def _profile(graph: FaceGraph, direction: Points, ring: Ring) -> OuterProfile:
    low, high = graph.span(ring.faces, direction)
    areas = sum(float(graph.triangle_areas(w).sum()) for w in ring.faces)
    return OuterProfile(
        name="",
        faces=sorted(ring.faces),
        direction=_vector(direction),
        accessible=True,
        length_mm=areas / max(high - low, 1e-9),
        height_mm=high - low,
    )

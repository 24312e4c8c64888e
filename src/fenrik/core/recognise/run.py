"""The recogniser: looks at a solid along one direction, several, or all that its flat faces suggest."""

from __future__ import annotations

import numpy as np
import shapely

from fenrik.core.errors import fail
from fenrik.core.frames import Points, flatten
from fenrik.core.progress import Progress, silent
from fenrik.core.recognise.blends import find_blends, find_chamfers, find_draft, find_undercuts
from fenrik.core.recognise.features import Hole, Pocket, Recognition, Vector
from fenrik.core.recognise.graph import FaceGraph, clusters
from fenrik.core.recognise.holes import find_holes
from fenrik.core.recognise.pockets import View, find_along
from fenrik.core.solids.mesh_faces import MOST_PATCHES
from fenrik.core.solids.model import Solid

MAX_DIRECTIONS = 60
TOUCH_MM = 1e-2


def all_holes(solid: Solid) -> list[Hole]:
    """The holes of a solid, whatever their direction; none of a mesh that features are not looked for in."""
    return find_holes(FaceGraph(solid)) if _may_be_read(solid) else []


def _may_be_read(solid: Solid) -> bool:
    return solid.is_exact or len(solid.faces) <= MOST_PATCHES


def recognise(
    solid: Solid,
    directions: list[Vector] | None = None,
    progress: Progress = silent,
    holes: list[Hole] | None = None,
) -> Recognition:
    """Find the features of a solid from its faces: exact ones, or those that a mesh was found to have.

    None are looked for in a mesh of more than `MOST_PATCHES` patches; reading it said so.

    Args:
        directions: where tools may come from (out of the material), part coordinates. One or several: everything
            that these see, with flat areas, outlines, draft and undercuts for each. None: all directions that flat
            faces look along; flat areas, draft and undercuts are then left out, and what several directions see is
            listed once.
        holes: all of them, where they are known.

    Raises:
        FenrikError: when a direction has no length.
    """
    if not _may_be_read(solid):
        return Recognition(directions=directions or [])
    graph = FaceGraph(solid)
    progress(0.05, "looking for holes")
    holes = find_holes(graph) if holes is None else holes
    in_holes = {f for h in holes for f in h.faces}
    looks = [_unit(d) for d in directions] if directions is not None else _flat_directions(graph)
    found = Recognition(holes=_seen(holes, looks) if directions is not None else holes)
    views: list[View] = []
    for k, look in enumerate(looks):
        progress(0.1 + 0.7 * k / len(looks), "looking for pockets")
        views.append(find_along(graph, look, in_holes))
    if directions is None:
        _keep_once(found, looks, views)
    else:
        for look, view in zip(looks, views, strict=True):
            found.pockets += view.pockets
            found.bosses += view.bosses
            found.flat_areas += view.flat_areas
            found.outer_profiles += view.profiles
            found.draft_walls += find_draft(graph, look)
            found.undercuts += find_undercuts(graph, look)
    progress(0.85, "looking for chamfers and fillets")
    found.chamfers = find_chamfers(graph, in_holes)
    found.blends = find_blends(graph, in_holes)
    found.directions = [(float(v[0]), float(v[1]), float(v[2])) for v in looks]
    _name(graph, found)
    progress(1.0, "done")
    return found


def _unit(direction: Vector) -> Points:
    v = np.asarray(direction, float)
    length = float(np.linalg.norm(v))
    if not np.isfinite(length) or length < 1e-9:
        raise fail("direction", "has no length.", "Use for example 0,0,1.", list(direction))
    return v / length


def _flat_directions(graph: FaceGraph) -> list[Points]:
    """Directions of flat faces, those that most area looks along first."""
    flat = [f for f in graph.faces if f.kind == "plane"]
    if not flat:
        return [np.array([0.0, 0.0, 1.0])]
    normals = np.array([f.normal for f in flat])
    labels = clusters(normals, 1e-5)
    area = np.bincount(labels, [f.area_mm2 for f in flat])
    first = [int(np.flatnonzero(labels == k)[0]) for k in range(len(area))]
    order = sorted(range(len(area)), key=lambda k: (-area[k], *(-np.round(normals[first[k]], 6)).tolist()))
    return [normals[first[k]] for k in order[:MAX_DIRECTIONS]]


def _seen(holes: list[Hole], looks: list[Points]) -> list[Hole]:
    """Holes that open along one of the looks; a through hole also along its other end."""
    kept = []
    for hole in holes:
        for look in looks:
            along = float(np.array(hole.direction) @ look)
            if along > 1 - 1e-6 or (hole.through and along < -1 + 1e-6):
                kept.append(hole)
                break
    return kept


def _keep_once(found: Recognition, looks: list[Points], views: list[View]) -> None:
    """Of features that share a floor or walls, keep the one from the richest direction."""

    def poverty(k: int) -> tuple[int, int, int]:
        opens = sum(float(np.dot(h.direction or (0, 0, 0), looks[k])) > 1 - 1e-6 for h in found.holes)
        return -_closed(views[k].pockets) - opens, -len(views[k].pockets) - len(views[k].bosses), k

    order = sorted(range(len(views)), key=poverty)
    used: set[int] = set()
    for k in order:
        fresh = []
        for pocket in views[k].pockets:
            mark = set(pocket.floor) or set(pocket.walls)
            if pocket.accessible and not mark & used:
                fresh.append(pocket)
        for pocket in fresh:
            used |= set(pocket.faces)
        found.pockets += fresh
        for boss in views[k].bosses:
            if not set(boss.faces) & used:
                used |= set(boss.faces)
                found.bosses.append(boss)
    best = views[order[0]] if order else View()
    found.outer_profiles = best.profiles


def _closed(pockets: list[Pocket]) -> int:
    return sum(p.kind in ("pocket", "slot", "through pocket", "through slot") and p.accessible is True for p in pockets)


def _name(graph: FaceGraph, found: Recognition) -> None:
    """Give features their names, islands their pocket, and pockets the one that they lie in."""
    for k, pocket in enumerate(found.pockets):
        pocket.name = f"{pocket.kind} {k + 1}"
    for k, boss in enumerate(found.bosses):
        boss.name = f"boss {k + 1}"
        boss.island_of = next((p.name for p in found.pockets if boss.faces in p.islands), "")
    for k, area in enumerate(found.flat_areas):
        area.name = f"flat area {k + 1}"
    for k, profile in enumerate(found.outer_profiles):
        profile.name = f"outline {k + 1}"
    for k, undercut in enumerate(found.undercuts):
        undercut.name = f"undercut {k + 1}"
    _nest(graph, found.pockets)


def _nest(graph: FaceGraph, pockets: list[Pocket]) -> None:
    """A pocket lies in the smallest one round it whose floor its rim reaches."""
    shapes = []
    for pocket in pockets:
        assert pocket.direction is not None
        points = flatten(graph.points(pocket.faces), np.array(pocket.direction))
        shapes.append(shapely.multipoints(points).convex_hull.buffer(TOUCH_MM))
    for k, pocket in enumerate(pockets):
        round_it = [
            (shapes[j].area, other.name)
            for j, other in enumerate(pockets)
            if j != k
            and other.direction == pocket.direction
            and pocket.level_mm < other.level_mm - TOUCH_MM <= pocket.level_mm + pocket.depth_mm
            and shapes[j].buffer(TOUCH_MM).covers(shapes[k])
        ]
        pocket.parent = min(round_it)[1] if round_it else ""

"""Chamfers and rounded edges: narrow faces between two others."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.recognise.features import Blend, Chamfer, DraftWall, Undercut
from fenrik.core.recognise.graph import WALL_SINE, FaceGraph
from fenrik.core.solids.seeing import hidden_triangles

MAX_CHAMFER_MM = 8.0
CHAMFER_DEG = (14.0, 76.0)
HALF_ROUND_DEG = 175.0
LONG_SHARE = 0.55
DRAFT_DEG = 0.25
UNDERCUT_SHARE = 0.05


def find_chamfers(graph: FaceGraph, taken: set[int]) -> list[Chamfer]:
    """Chamfers on straight and round edges that are not part of a hole."""
    single = {}
    for i, f in enumerate(graph.faces):
        if i in taken or f.kind not in ("plane", "cone"):
            continue
        found = _chamfer(graph, i)
        if found is not None:
            single[i] = found
    alike: Callable[[int, int], bool] = lambda a, b: (  # noqa: E731
        abs(single[a][0] - single[b][0]) < 1e-3 and abs(single[a][1] - single[b][1]) < 0.1
    )
    chains = _chains(graph, set(single), alike)
    return [
        Chamfer(
            name=f"chamfer {k + 1}",
            faces=chain,
            width_mm=single[chain[0]][0],
            angle_deg=single[chain[0]][1],
            length_mm=sum(single[i][2] for i in chain),
        )
        for k, chain in enumerate(chains)
    ]


def _chamfer(graph: FaceGraph, face: int) -> tuple[float, float, float] | None:
    """Width, angle to the flatter neighbour and length of a face, where it is a chamfer."""
    f = graph.faces[face]
    sides = [n for n in graph.neighbours[face] if n.turn == "convex"]
    longest = sorted(sides, key=lambda n: -graph.edges[n.edge].length_mm)[:2]
    if len(longest) < 2 or longest[0].face == longest[1].face:
        return None
    first, second = (graph.edges[n.edge] for n in longest)
    rim = sum(graph.edges[n.edge].length_mm for n in graph.neighbours[face])
    if first.length_mm + second.length_mm < LONG_SHARE * rim:
        return None
    angles = first.angle_deg, second.angle_deg
    if not all(CHAMFER_DEG[0] <= a <= CHAMFER_DEG[1] for a in angles):
        return None
    if f.kind == "plane" and (first.kind != "line" or abs(float(np.dot(first.tangent, second.tangent))) < 1 - 1e-6):
        return None
    length = 0.5 * (first.length_mm + second.length_mm)
    width = f.area_mm2 / max(length, 1e-9)
    if (
        width > MAX_CHAMFER_MM
        or width > 0.75 * length
        or _is_narrow_between(graph, longest[0].face, longest[1].face, width)
    ):
        return None
    return width, min(angles), length


def _is_narrow_between(graph: FaceGraph, a: int, b: int, width: float) -> bool:
    """A facet among facets of its own size is no chamfer."""
    wide = min(
        graph.faces[n].area_mm2
        / max(max((graph.edges[e].length_mm for e in graph.faces[n].loops[0]), default=1.0), 1e-9)
        for n in (a, b)
    )
    return wide < 0.8 * width


def find_blends(graph: FaceGraph, taken: set[int]) -> list[Blend]:
    """Rounded edges of constant radius, convex and concave, and the balls where they meet."""
    radius: dict[int, float] = {}
    for i in range(len(graph.faces)):
        if i not in taken and (r := _blend_radius(graph, i)) is not None:
            radius[i] = r
    for i, f in enumerate(graph.faces):  # balls at corners: all their neighbours are blends
        if f.kind == "sphere" and i not in taken and f.radius_mm is not None:
            around = [n for n in graph.neighbours[i] if n.turn == "smooth"]
            if around and any(n.face in radius for n in around):
                radius[i] = f.radius_mm
    chains = _chains(
        graph,
        set(radius),
        lambda a, b: abs(radius[a] - radius[b]) < 1e-3 and graph.faces[a].concave == graph.faces[b].concave,
    )
    return [
        Blend(
            name=f"fillet {k + 1}",
            faces=chain,
            radius_mm=radius[chain[0]],
            concave=graph.faces[chain[0]].concave,
            length_mm=sum(_blend_length(graph, i) for i in chain),
        )
        for k, chain in enumerate(chains)
    ]


def _blend_radius(graph: FaceGraph, face: int) -> float | None:
    """The radius of a face that rounds an edge between two neighbours; None for any other face."""
    f = graph.faces[face]
    if f.kind == "cylinder":
        if graph.round_span(face) > HALF_ROUND_DEG:
            return None
        axis = np.array(f.normal)
        sides = [n for n in graph.neighbours[face] if abs(float(np.array(graph.edges[n.edge].tangent) @ axis)) > 0.9]
        ok = len(sides) >= 2 and all(n.turn == "smooth" for n in sides)
        return f.radius_mm if ok else None
    if f.kind == "torus":
        smooth = [n for n in graph.neighbours[face] if n.turn == "smooth"]
        return f.minor_radius_mm if len({n.face for n in smooth}) >= 2 else None
    return None


def _blend_length(graph: FaceGraph, face: int) -> float:
    f = graph.faces[face]
    if f.kind == "sphere":
        return 0.0
    smooth = sorted((graph.edges[n.edge].length_mm for n in graph.neighbours[face] if n.turn == "smooth"), reverse=True)
    return float(np.mean(smooth[:2])) if smooth else 0.0


def _chains(graph: FaceGraph, members: set[int], alike: Callable[[int, int], bool]) -> list[list[int]]:
    """Members that touch and are alike, as sorted lists."""
    left, chains = set(members), []
    while left:
        start = min(left)
        chain, front = {start}, [start]
        while front:
            here = front.pop()
            for n in graph.neighbours[here]:
                if n.face in members and n.face not in chain and alike(here, n.face):
                    chain.add(n.face)
                    front.append(n.face)
        left -= chain
        chains.append(sorted(chain))
    return sorted(chains)


def find_draft(graph: FaceGraph, direction: Points) -> list[DraftWall]:
    """Walls that lean by up to the wall limit, those of one angle together."""
    by_angle: dict[float, list[int]] = {}
    for i, f in enumerate(graph.faces):
        if f.kind == "plane":
            sine = float(np.array(f.normal) @ direction)
        elif f.kind in ("cone", "freeform") and graph.is_wall(i, direction):
            sine = float(np.average(graph.normals(i) @ direction, weights=graph.triangle_areas(i)))
        else:
            continue
        angle = math.degrees(math.asin(max(-1.0, min(1.0, sine))))
        if abs(angle) > DRAFT_DEG and abs(sine) <= WALL_SINE:
            by_angle.setdefault(round(angle, 2), []).append(i)
    return [
        DraftWall(
            name=f"draft {k + 1}",
            faces=faces,
            direction=(float(direction[0]), float(direction[1]), float(direction[2])),
            accessible=angle > 0,
            why="" if angle > 0 else "It leans over.",
            draft_deg=angle,
        )
        for k, (angle, faces) in enumerate(sorted(by_angle.items()))
    ]


def find_undercuts(graph: FaceGraph, direction: Points) -> list[Undercut]:
    """Faces of which neither the direction nor its opposite sees a good part."""
    mesh = graph.solid.mesh
    corners = mesh.corners()
    double = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    hidden = hidden_triangles(graph.solid, graph.rays, direction) & hidden_triangles(
        graph.solid, graph.rays, -direction
    )
    area = np.bincount(mesh.face_ids, double / 2 * hidden, len(graph.faces))
    whole = np.bincount(mesh.face_ids, double / 2, len(graph.faces))
    bad = {i for i in range(len(graph.faces)) if area[i] > UNDERCUT_SHARE * whole[i]}
    groups = _chains(graph, bad, lambda _a, _b: True)
    return [
        Undercut(
            name=f"undercut {k + 1}",
            faces=group,
            direction=(float(direction[0]), float(direction[1]), float(direction[2])),
            accessible=False,
            why="Other faces stand before it from above and from below.",
            area_mm2=float(area[group].sum()),
        )
        for k, group in enumerate(groups)
    ]

"""What a click takes: loops, tangent chains, faces that run on smoothly, and everything alike.

All of it is worked out once for a model and handed to the interface as tables, so that a hover only looks up.
"""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from fenrik.core.frames import Points
from fenrik.core.solids.model import Edge, Face, Solid

Likeness = Literal["radius", "level", "colour", "surface"]
TANGENT_DEG = 2.0
CHORD_SLACK_DEG = 12.0
"""End directions of free curves are those of their first chord, so they may be off by more."""
LEVEL_TOLERANCE_MM = 1e-3


def edge_chains(solid: Solid) -> NDArray[np.int32]:
    """The chain of each edge, (edges,): neighbours that run on tangentially and border one smooth
    surface are one chain."""
    groups = np.append(smooth_groups(solid), -1)
    at: dict[int, list[tuple[int, Points, float]]] = {}
    for k, edge in enumerate(solid.edges):
        if edge.closed or min(edge.ends) < 0 or len(edge.points) < 2:
            continue
        slack = CHORD_SLACK_DEG if edge.kind == "curve" else TANGENT_DEG
        for vertex, direction in zip(edge.ends, end_directions(edge), strict=True):
            at.setdefault(vertex, []).append((k, direction, slack))
    pairs = []
    for meeting in at.values():
        for i, (a, da, slack_a) in enumerate(meeting):
            for b, db, slack_b in meeting[i + 1 :]:
                straight = np.degrees(np.arccos(np.clip(-float(da @ db), -1.0, 1.0)))
                shared = set(groups[list(solid.edges[a].faces)]) & set(groups[list(solid.edges[b].faces)]) - {-1}
                if straight <= max(slack_a, slack_b) and shared:
                    pairs.append((a, b))
    return _labels(len(solid.edges), pairs)


def end_directions(edge: Edge) -> tuple[Points, Points]:
    """Directions into an edge from its first and from its last end, unit vectors."""
    first, last = edge.points[0], edge.points[-1]
    if edge.kind == "circle" and edge.centre is not None and edge.axis is not None:
        centre, axis = np.array(edge.centre), np.array(edge.axis)
        start, end = np.cross(axis, first - centre), np.cross(axis, last - centre)
        if float(start @ (edge.points[1] - first)) < 0:
            start = -start
        if float(end @ (edge.points[-2] - last)) < 0:
            end = -end
    else:
        start, end = edge.points[1] - first, edge.points[-2] - last
    return start / np.linalg.norm(start), end / np.linalg.norm(end)


def smooth_groups(solid: Solid) -> NDArray[np.int32]:
    """The group of each face, (faces,): faces that run on smoothly over their edges are one group."""
    pairs = [e.faces for e in solid.edges if e.turn == "smooth" and min(e.faces) >= 0]
    return _labels(len(solid.faces), pairs)


def _labels(count: int, pairs: list[tuple[int, int]]) -> NDArray[np.int32]:
    rows = np.array(pairs, np.int64).reshape(-1, 2)
    graph = coo_matrix((np.ones(len(rows), np.int8), (rows[:, 0], rows[:, 1])), shape=(count, count))
    return np.asarray(connected_components(graph, directed=False)[1], np.int32)


def loop_of(solid: Solid, edge: int, face: int) -> list[int]:
    """The boundary of a face that an edge belongs to; only the edge where it borders another face."""
    return next((list(loop) for loop in solid.faces[face].loops if edge in loop), [edge])


def alike_faces(solid: Solid, face: int, by: Likeness) -> list[int]:
    """All faces that share a radius, a level (height of a flat face along its normal), a colour or a surface."""
    wanted = likeness(solid.faces[face], by)
    if wanted is None:
        return [face]
    return [i for i, f in enumerate(solid.faces) if likeness(f, by) == wanted]


def likeness(face: Face, by: Likeness) -> tuple[object, ...] | None:
    """What alike faces have in common; None where a face has nothing of the kind."""
    if by == "colour":
        return (face.colour,) if face.colour else None
    if by == "surface":
        return (face.kind,)
    if by == "radius":
        radius = face.minor_radius_mm if face.kind == "torus" else face.radius_mm
        return None if radius is None else (face.kind, face.concave, round(radius, 3))
    if face.kind != "plane":
        return None
    level = float(np.dot(face.centroid, face.normal))
    return (*(round(v, 5) + 0.0 for v in face.normal), round(level / LEVEL_TOLERANCE_MM))

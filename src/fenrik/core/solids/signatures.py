"""What makes faces the same in two versions of a model: numbers that do not depend on the order of the file."""

from __future__ import annotations

from typing import Any

import numpy as np

from fenrik.core.frames import Frame, Points
from fenrik.core.solids.model import Edge, Face, Solid

DIGITS = 5


def face_signature(face: Face) -> tuple[Any, ...]:
    """A whole face: kind, size, place and box."""
    return (face.kind, face.concave, *_rounded(face.area_mm2, *face.centroid, *face.low, *face.high))


def signatures_near(solid: Solid, faces: list[int], frame: Frame, area: Points) -> list[tuple[Any, ...]]:
    """What some faces look like inside an area of the frame's plane.

    Faces that reach out of the area count by their surface and by those of their edges that meet the area, so that
    a change of a large face elsewhere does not matter.

    Args:
        area: (2, 2) lowest and highest corner.
    """
    found: set[tuple[Any, ...]] = set()
    boxes = face_boxes([solid.faces[f] for f in faces], frame)[:, :, :2]
    near = np.all((boxes[:, 1] >= area[0]) & (boxes[:, 0] <= area[1]), axis=1)
    within = np.all((boxes[:, 0] >= area[0]) & (boxes[:, 1] <= area[1]), axis=1)
    for k in np.flatnonzero(near):
        face = solid.faces[faces[k]]
        surface = _surface(face)
        if surface is None or within[k]:
            found.add(face_signature(face))
            continue
        found.add(surface)
        edges = [solid.edges[e] for e in {e for loop in face.loops for e in loop}]
        found |= {(*surface, *_edge(edges[e])) for e in _edges_near(edges, frame, area)}
    return list(found)


def _edges_near(edges: list[Edge], frame: Frame, area: Points) -> list[int]:
    """Which edges have a box that meets an area of the frame's plane."""
    if not edges:
        return []
    places = frame.to_local(np.concatenate([e.points for e in edges]))[:, :2]
    first = np.cumsum([0, *(len(e.points) for e in edges[:-1])])
    low, high = np.minimum.reduceat(places, first), np.maximum.reduceat(places, first)
    return np.flatnonzero(np.all((high >= area[0]) & (low <= area[1]), axis=1)).tolist()


def face_boxes(faces: list[Face], frame: Frame) -> Points:
    """The boxes in a frame round the own boxes of n faces, (n, 2, 3)."""
    sides = np.array([[f.low, f.high] for f in faces], dtype=np.float64).reshape(-1, 2, 3)
    which = np.array(np.meshgrid([0, 1], [0, 1], [0, 1])).reshape(3, -1).T
    corners = frame.to_local(sides[:, which, [0, 1, 2]].reshape(-1, 3)).reshape(-1, 8, 3)
    return np.stack([corners.min(axis=1), corners.max(axis=1)], axis=1)


def _surface(face: Face) -> tuple[Any, ...] | None:
    """The unbounded surface of a face; None where it has no closed form."""
    axis, origin = np.array(face.normal), np.array(face.origin)
    if face.kind == "plane":
        return ("plane", *_rounded(*axis, float(axis @ origin)))
    if face.kind in ("freeform", "mesh"):
        return None
    if float(axis[int(np.abs(axis).argmax())]) < 0:
        axis = -axis
    if face.kind == "cylinder":
        origin = origin - axis * float(origin @ axis)
    if face.kind == "sphere":
        axis = np.zeros(3)
    sizes = face.radius_mm or 0.0, face.minor_radius_mm or 0.0, face.half_angle_deg or 0.0
    return (face.kind, face.concave, *_rounded(*axis, *origin, *sizes))


def _edge(edge: Edge) -> tuple[Any, ...]:
    return (edge.kind, *_rounded(edge.length_mm, *edge.middle, edge.radius_mm or 0.0))


def _rounded(*values: float) -> tuple[float, ...]:
    return tuple(round(float(v), DIGITS) + 0.0 for v in values)

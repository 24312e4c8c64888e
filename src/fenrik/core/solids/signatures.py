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
    for f in faces:
        face = solid.faces[f]
        box = face_box(face, frame)[:, :2]
        if np.any(box[1] < area[0]) or np.any(box[0] > area[1]):
            continue
        surface = _surface(face)
        if surface is None or (np.all(box[0] >= area[0]) and np.all(box[1] <= area[1])):
            found.add(face_signature(face))
            continue
        found.add(surface)
        for e in {e for loop in face.loops for e in loop}:
            places = frame.to_local(solid.edges[e].points)[:, :2]
            if np.all(places.max(axis=0) >= area[0]) and np.all(places.min(axis=0) <= area[1]):
                found.add((*surface, *_edge(solid.edges[e])))
    return list(found)


def face_box(face: Face, frame: Frame) -> Points:
    """The box in a frame round a face's own box, (2, 3)."""
    corners = frame.to_local(np.array(np.meshgrid(*np.array([face.low, face.high]).T)).reshape(3, -1).T)
    return np.array([corners.min(axis=0), corners.max(axis=0)])


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

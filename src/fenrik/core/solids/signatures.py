"""What makes faces the same in two versions of a model: numbers that do not depend on the order of the file."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Frame, Points
from fenrik.core.solids.model import Edge, Face, Solid

DIGITS = 5


def face_signature(face: Face) -> tuple[Any, ...]:
    """A whole face: kind, size, place and box."""
    return (face.kind, face.concave, *_rounded(face.area_mm2, *face.centroid, *face.low, *face.high))


class FaceLooks:
    """What faces look like from above in one frame; what each of many rows asks for is worked out once."""

    def __init__(self, solid: Solid, frame: Frame) -> None:
        self._solid, self._frame = solid, frame
        self._boxes = face_boxes(solid.faces, frame)[:, :, :2]
        self._edges: dict[int, tuple[list[tuple[Any, ...]], Points]] = {}

    def near(self, faces: list[int], area: Points) -> set[tuple[Any, ...]]:
        """What some faces look like inside an area of the frame's plane.

        Faces that reach out of the area count by their surface and by those of their edges that meet the area, so that
        a change of a large face elsewhere does not matter.

        Args:
            area: (2, 2) lowest and highest corner.
        """
        found: set[tuple[Any, ...]] = set()
        boxes = self._boxes[faces]
        within = np.all((boxes[:, 0] >= area[0]) & (boxes[:, 1] <= area[1]), axis=1)
        for k in np.flatnonzero(_meet(boxes, area)):
            face = self._solid.faces[faces[k]]
            surface = _surface(face)
            if surface is None or within[k]:
                found.add(face_signature(face))
                continue
            signatures, edges = self._edges_of(faces[k])
            found |= {surface, *((*surface, *signatures[e]) for e in np.flatnonzero(_meet(edges, area)))}
        return found

    def _edges_of(self, face: int) -> tuple[list[tuple[Any, ...]], Points]:
        """Signatures of a face's edges, and their boxes in the plane (n, 2, 2)."""
        if face not in self._edges:
            edges = [self._solid.edges[e] for e in sorted({e for loop in self._solid.faces[face].loops for e in loop})]
            self._edges[face] = [_edge(e) for e in edges], self._boxes_of(edges)
        return self._edges[face]

    def _boxes_of(self, edges: list[Edge]) -> Points:
        if not edges:
            return np.zeros((0, 2, 2))
        places = self._frame.to_local(np.concatenate([e.points for e in edges]))[:, :2]
        first = np.cumsum([0, *(len(e.points) for e in edges[:-1])])
        return np.stack([np.minimum.reduceat(places, first), np.maximum.reduceat(places, first)], axis=1)


def _meet(boxes: Points, area: Points) -> NDArray[np.bool_]:
    """Which boxes (n, 2, 2) meet an area."""
    return np.all((boxes[:, 1] >= area[0]) & (boxes[:, 0] <= area[1]), axis=1)


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

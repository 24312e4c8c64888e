"""Which way is up: from axes, faces, edges, points, holes or the view; and frames named by what they came from."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.errors import fail
from fenrik.core.frames import AXES, Frame, Points, frame_with_up
from fenrik.core.recognise import Recognition
from fenrik.core.solids import EdgeReference, FaceReference, FaceRule, Solid, find_edge, find_faces

Vector = tuple[float, float, float]


class _Doc(BaseModel):
    model_config = ConfigDict(extra="forbid")


class UpAxis(_Doc):
    """A principal axis of the part points up."""

    kind: Literal["axis"] = "axis"
    axis: Literal["+x", "-x", "+y", "-y", "+z", "-z"] = "+z"


class UpFace(_Doc):
    """A flat face looks up; a round one's axis points up."""

    kind: Literal["face"] = "face"
    face: FaceReference | FaceRule


class UpEdge(_Doc):
    """A straight edge, or the axis of a round one, points up."""

    kind: Literal["edge"] = "edge"
    edge: EdgeReference


class UpPoints(_Doc):
    """Three points lie level; counter-clockwise seen from above."""

    kind: Literal["points"] = "points"
    points: tuple[Vector, Vector, Vector]


class UpDirection(_Doc):
    """A direction of its own: a hole's axis, the way you look."""

    kind: Literal["direction"] = "direction"
    direction: Vector
    came_from: str = Field(default="", max_length=80)


Up = Annotated[UpAxis | UpFace | UpEdge | UpPoints | UpDirection, Field(discriminator="kind")]


def up_vector(up: UpAxis | UpFace | UpEdge | UpPoints | UpDirection, solid: Solid, field: str) -> Points:
    """The direction that points up, part coordinates.

    Raises:
        FenrikError: naming `field`, when what it came from is lost or gives no direction.
    """
    if isinstance(up, UpAxis):
        return np.array(AXES[up.axis], dtype=float)
    if isinstance(up, UpDirection):
        return np.array(up.direction, dtype=float)
    if isinstance(up, UpFace):
        face = solid.faces[find_faces(solid, up.face, f"{field}.face")[0]]
        if face.kind not in ("plane", "cylinder", "cone", "torus"):
            raise fail(f"{field}.face", "has no direction.", "Pick a flat or round face.", face.kind)
        return np.array(face.normal)
    if isinstance(up, UpEdge):
        return edge_direction(solid, up.edge, f"{field}.edge")
    a, b, c = (np.array(p, float) for p in up.points)
    across = np.cross(b - a, c - a)
    if float(np.linalg.norm(across)) < 1e-9:
        raise fail(f"{field}.points", "lie in one line.", "Pick three points that span a plane.", list(up.points))
    return across


def edge_direction(solid: Solid, reference: EdgeReference, field: str) -> Points:
    """Along a straight edge, or along the axis of a round one."""
    edge = solid.edges[find_edge(solid, reference, field)]
    if edge.kind == "circle" and edge.axis is not None:
        return np.array(edge.axis)
    if edge.kind != "line":
        raise fail(field, "is neither straight nor round.", "Pick another edge.", edge.kind)
    return np.asarray(edge.points[-1] - edge.points[0])


def oriented_frame(
    up: UpAxis | UpFace | UpEdge | UpPoints | UpDirection,
    solid: Solid,
    field: str,
    *,
    flip: bool = False,
    x_along: EdgeReference | None = None,
    spin_deg: float = 0.0,
    name: str = "work",
) -> Frame:
    """A frame with the part's own zero: z up, x along an edge where one is given, then turned about z.

    Raises:
        FenrikError: when a reference is lost, or the edge for x stands upright.
    """
    z = up_vector(up, solid, field) * (-1.0 if flip else 1.0)
    if x_along is None:
        return frame_with_up(z, spin_deg, name)
    z = z / np.linalg.norm(z)
    along = edge_direction(solid, x_along, f"{field}.x_along")
    along = along - z * float(along @ z)
    if float(np.linalg.norm(along)) < 1e-6:
        raise fail(f"{field}.x_along", "stands upright.", "Pick an edge that lies across the upward direction.")
    plain = frame_with_up(z, 0.0, name)
    local = along @ plain.rotation
    # An edge has no sense: the one nearer to the x axis of the plain frame is meant.
    if local[0] < -1e-9:
        local = -local
    return frame_with_up(z, float(np.rad2deg(np.arctan2(local[1], local[0]))) + spin_deg, name)


def frame_words(up: UpAxis | UpFace | UpEdge | UpPoints | UpDirection, solid: Solid, found: Recognition | None) -> str:
    """What a frame came from, in words: `on floor of pocket 3`, `along the axis of hole 2`."""
    if isinstance(up, UpAxis):
        return f"{up.axis.upper()} of the part".replace("-", "−")
    if isinstance(up, UpDirection):
        return up.came_from or "along a direction"
    if isinstance(up, UpEdge):
        return f"along a {'round edge' if up.edge.edge == 'circle' else 'straight edge'} of {up.edge.length_mm:.4g} mm"
    if isinstance(up, UpPoints):
        return "through three points"
    index = find_faces(solid, up.face, "up.face")[0]
    if found is not None:
        for pocket in found.pockets:
            if index in pocket.floor:
                return f"on floor of {pocket.name}"
        for feature in [*found.holes, *found.bosses, *found.pockets, *found.chamfers]:
            if index in feature.faces:
                return f"on {feature.name}"
    face = solid.faces[index]
    if face.kind == "plane":
        level = float(np.dot(face.centroid, face.normal))
        return f"on a flat face at {level:.4g} mm"
    return f"along a {face.kind}" + (f" R {face.radius_mm:.4g}" if face.radius_mm else "")

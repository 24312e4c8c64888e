"""Measure on exact shapes: distances, angles, radii, lengths, areas, wall thickness.

Distances are those of `BRepExtrema`; what has no exact shape (a mesh) is measured on its triangles.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic import BaseModel, Field

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.solids.model import Edge, Face, Solid

Vector = tuple[float, float, float]


@dataclass(frozen=True)
class Spot:
    """One thing to measure at: a face or an edge of a solid, or a place.

    Attributes:
        solid: whose face or edge it is; None for a bare place.
        place: (3,) where it was picked, mm.
    """

    solid: Solid | None = None
    face: int | None = None
    edge: int | None = None
    place: Vector | None = None


class Value(BaseModel):
    """One measured number."""

    name: str
    value: float
    unit: str = "mm"


class Measured(BaseModel):
    """What was measured, and the line that shows it."""

    values: list[Value] = Field(default=[])
    line: list[Vector] = Field(default=[], description="two places that the shortest distance joins")

    def get(self, name: str) -> float:
        """A value by its name; raises KeyError where it is not there."""
        for v in self.values:
            if v.name == name:
                return v.value
        raise KeyError(name)


def measure_one(spot: Spot) -> Measured:
    """What one spot shows: coordinates of a place; length and radius of an edge; area, radius and wall of a face."""
    if spot.edge is not None and spot.solid is not None:
        return _edge_values(spot.solid.edges[spot.edge])
    if spot.face is not None and spot.solid is not None:
        return _face_values(spot)
    if spot.place is None:
        raise fail("measure", "has nothing to measure.", "Pick a point, an edge or a face.")
    names = ("X", "Y", "Z")
    return Measured(values=[Value(name=n, value=v) for n, v in zip(names, spot.place, strict=True)])


def _edge_values(edge: Edge) -> Measured:
    values = [Value(name="length", value=edge.length_mm)]
    if edge.radius_mm is not None:
        values += [Value(name="radius", value=edge.radius_mm), Value(name="diameter", value=2 * edge.radius_mm)]
        values.append(Value(name="arc", value=math.degrees(edge.length_mm / edge.radius_mm), unit="deg"))
    return Measured(values=values)


def _face_values(spot: Spot) -> Measured:
    assert spot.solid is not None
    assert spot.face is not None
    face = spot.solid.faces[spot.face]
    values = [Value(name="area", value=face.area_mm2, unit="mm²")]
    if face.radius_mm is not None:
        values.append(Value(name="radius", value=face.radius_mm))
    if face.minor_radius_mm is not None:
        values.append(Value(name="small radius", value=face.minor_radius_mm))
    if face.half_angle_deg is not None:
        values.append(Value(name="included angle", value=2 * face.half_angle_deg, unit="deg"))
    line: list[Vector] = []
    if spot.place is not None:
        wall = wall_thickness(spot.solid, spot.face, spot.place)
        if wall is not None:
            values.append(Value(name="wall thickness", value=wall[0]))
            line = [spot.place, wall[1]]
    return Measured(values=values, line=line)


def wall_thickness(solid: Solid, face: int, place: Vector) -> tuple[float, Vector] | None:
    """How far through the material it is from a place on a face to the other side, straight inwards.

    Measured on the exact shape; None where the ray leaves through nothing (an open model).
    """
    start, normal = np.array(place, float), outward_normal(solid, face, place)
    if normal is None:
        return None
    if solid.is_exact:
        return _through_exact(solid, start, -normal)
    from fenrik.core.solids.rays import RayCaster

    hits = RayCaster(solid.mesh).all_hits((start - 1e-4 * normal)[None, :], -normal[None, :])
    if len(hits.distance) == 0:
        return None
    nearest = float(hits.distance.min())
    return nearest, _vector(start - nearest * normal)


def outward_normal(solid: Solid, face: int, place: Vector) -> Points | None:
    """Unit normal out of the material at a place on a face."""
    f = solid.faces[face]
    if f.kind == "plane":
        return np.array(f.normal)
    at = np.array(place, float)
    if f.kind in ("cylinder", "sphere"):
        away = at - np.array(f.origin)
        if f.kind == "cylinder":
            axis = np.array(f.normal)
            away = away - axis * float(away @ axis)
        size = float(np.linalg.norm(away))
        return None if size < 1e-12 else (-away if f.concave else away) / size
    own = solid.mesh.face_ids == face
    corners = solid.mesh.corners()[own]
    if len(corners) == 0:
        return None
    nearest = corners[int(np.linalg.norm(corners.mean(axis=1) - at, axis=1).argmin())]
    cross = np.cross(nearest[1] - nearest[0], nearest[2] - nearest[0])
    return np.asarray(cross / np.linalg.norm(cross))


def _through_exact(solid: Solid, start: Points, direction: Points) -> tuple[float, Vector] | None:
    from OCP.gp import gp_Dir, gp_Lin, gp_Pnt
    from OCP.IntCurvesFace import IntCurvesFace_ShapeIntersector

    finder = IntCurvesFace_ShapeIntersector()
    finder.Load(solid.shape(), 1e-7)
    finder.Perform(gp_Lin(gp_Pnt(*start.tolist()), gp_Dir(*direction.tolist())), 1e-4, 1e6)
    reach = [finder.WParameter(i) for i in range(1, finder.NbPnt() + 1)]
    if not reach:
        return None
    nearest = min(reach)
    return nearest, _vector(start + nearest * direction)


def measure_between(a: Spot, b: Spot) -> Measured:
    """Shortest distance, its parts along each axis and along the normal of the first face, and the angle between.

    Two round things also give the distance of their centres or axes.
    """
    p, q = _nearest(a, b)
    gap = q - p
    values = [Value(name="distance", value=float(np.linalg.norm(gap)))]
    values += [Value(name=f"along {n}", value=abs(float(v))) for n, v in zip("XYZ", gap, strict=True)]
    normal = _plane_normal(a)
    if normal is not None:
        values.append(Value(name="along the first normal", value=abs(float(gap @ normal))))
    centres = _centre(a), _centre(b)
    if centres[0] is not None and centres[1] is not None:
        values.append(Value(name="between centres", value=_between_axes(a, b, centres[0], centres[1])))
    directions = _direction(a), _direction(b)
    if directions[0] is not None and directions[1] is not None:
        cosine = abs(float(directions[0] @ directions[1]))
        values.append(Value(name="angle", value=math.degrees(math.acos(min(cosine, 1.0))), unit="deg"))
    return Measured(values=values, line=[_vector(p), _vector(q)])


def _nearest(a: Spot, b: Spot) -> tuple[Points, Points]:
    first, second = _shape_of(a), _shape_of(b)
    if first is not None and second is not None:
        from OCP.BRepExtrema import BRepExtrema_DistShapeShape

        finder = BRepExtrema_DistShapeShape(first, second)
        if not finder.IsDone() or finder.NbSolution() == 0:
            raise fail("measure", "cannot be worked out between these two.", "Pick other faces or edges.")
        return np.array(finder.PointOnShape1(1).Coord()), np.array(finder.PointOnShape2(1).Coord())
    return _nearest_on_triangles(a, b)


def _shape_of(spot: Spot) -> Any:
    """The exact shape of a spot; None where its solid is a mesh."""
    if spot.solid is None or (spot.face is None and spot.edge is None):
        assert spot.place is not None
        from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeVertex
        from OCP.gp import gp_Pnt

        return BRepBuilderAPI_MakeVertex(gp_Pnt(*spot.place)).Vertex()
    if not spot.solid.is_exact:
        return None
    from fenrik.core.solids.describe import list_edges, list_faces

    shape = spot.solid.shape()
    return list_faces(shape)[spot.face] if spot.face is not None else list_edges(shape)[spot.edge or 0]


def _nearest_on_triangles(a: Spot, b: Spot) -> tuple[Points, Points]:
    import trimesh

    def triangles(spot: Spot) -> Points:
        assert spot.solid is not None
        if spot.face is not None:
            return spot.solid.mesh.corners()[spot.solid.mesh.face_ids == spot.face]
        points = spot.solid.edges[spot.edge or 0].points
        return np.stack([points[:-1], points[1:], points[1:]], axis=1)

    def places(spot: Spot) -> Points:
        return np.array([spot.place]) if spot.solid is None else triangles(spot).reshape(-1, 3)

    best: tuple[float, Points, Points] | None = None
    for one, other, swap in ((a, b, False), (b, a, True)):
        if other.solid is None:
            continue
        mesh = trimesh.Trimesh(**trimesh.triangles.to_kwargs(triangles(other)), process=False)
        from_, (on, distance, _) = places(one), trimesh.proximity.closest_point(mesh, places(one))
        k = int(distance.argmin())
        if best is None or distance[k] < best[0]:
            best = (float(distance[k]), *((on[k], from_[k]) if swap else (from_[k], on[k])))
    assert best is not None
    return best[1], best[2]


def _plane_normal(spot: Spot) -> Points | None:
    if spot.solid is None or spot.face is None:
        return None
    face = spot.solid.faces[spot.face]
    return np.array(face.normal) if face.kind == "plane" else None


def _direction(spot: Spot) -> Points | None:
    """Normal of a plane, axis of something round, direction of a straight edge."""
    if spot.solid is None:
        return None
    if spot.face is not None:
        face = spot.solid.faces[spot.face]
        return np.array(face.normal) if face.kind in ("plane", "cylinder", "cone", "torus") else None
    edge = spot.solid.edges[spot.edge or 0]
    if edge.kind == "line":
        along = edge.points[-1] - edge.points[0]
        return np.asarray(along / np.linalg.norm(along))
    return np.array(edge.axis) if edge.axis is not None else None


def _centre(spot: Spot) -> Points | None:
    if spot.solid is None:
        return None
    if spot.face is not None:
        face: Face = spot.solid.faces[spot.face]
        return np.array(face.origin) if face.kind in ("cylinder", "cone", "sphere", "torus") else None
    centre = spot.solid.edges[spot.edge or 0].centre
    return np.array(centre) if centre is not None else None


def _between_axes(a: Spot, b: Spot, p: Points, q: Points) -> float:
    """Distance of two centres; of two parallel axes across them."""
    first, second = _direction(a), _direction(b)
    gap = q - p
    faces = a.face is not None and b.face is not None
    if faces and first is not None and second is not None and abs(float(first @ second)) > 1 - 1e-9:
        gap = gap - first * float(gap @ first)
    return float(np.linalg.norm(gap))


def _vector(v: Points) -> Vector:
    return float(v[0]), float(v[1]), float(v[2])

"""Tables of an exact shape: its faces, edges and how they meet (the face adjacency graph).

Everything that picking, measuring, recognising and matching need is read out of Open CASCADE once, so that they work
on plain tables afterwards. The turn of an edge is the sign of (n₁ × n₂)·t with t along the edge and the first face at
its left (S. Joshi, T. C. Chang, "Graph-based heuristics for recognition of machined features", 1988).
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from OCP.Bnd import Bnd_Box
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve, BRepAdaptor_Curve2d, BRepAdaptor_Surface
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepGProp import BRepGProp
from OCP.BRepTools import BRepTools
from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as ShapeMap
from OCP.GCPnts import GCPnts_TangentialDeflection
from OCP.GeomAbs import GeomAbs_CurveType, GeomAbs_SurfaceType
from OCP.GeomLib import GeomLib_IsPlanarSurface
from OCP.gp import gp_Pnt, gp_Vec
from OCP.GProp import GProp_GProps
from OCP.TopAbs import TopAbs_EDGE, TopAbs_FACE, TopAbs_REVERSED, TopAbs_VERTEX, TopAbs_WIRE
from OCP.TopExp import TopExp, TopExp_Explorer
from OCP.TopoDS import TopoDS

from fenrik.core.solids.model import Edge, Face

Triple = tuple[float, float, float]
Moments = tuple[float, Triple]
"""Volume and centre of mass."""
_SURFACES = {
    GeomAbs_SurfaceType.GeomAbs_Plane: "plane",
    GeomAbs_SurfaceType.GeomAbs_Cylinder: "cylinder",
    GeomAbs_SurfaceType.GeomAbs_Cone: "cone",
    GeomAbs_SurfaceType.GeomAbs_Sphere: "sphere",
    GeomAbs_SurfaceType.GeomAbs_Torus: "torus",
}
_CURVES = {GeomAbs_CurveType.GeomAbs_Line: "line", GeomAbs_CurveType.GeomAbs_Circle: "circle"}
SMOOTH_DEG = 1.0
"""Faces whose normals differ by less than this along their edge meet smoothly."""
CURVE_DEFLECTION_RAD = 0.175
FLAT_MM = 1e-6
"""How far a free-form surface may leave a plane and still be one."""


def list_shapes(shape: Any, kind: Any) -> list[Any]:
    """Sub-shapes of a kind, each once, in the order of the file."""
    found = ShapeMap()
    TopExp.MapShapes_s(shape, kind, found)
    return [found.FindKey(i) for i in range(1, found.Extent() + 1)]


def list_faces(shape: Any) -> list[Any]:
    return [TopoDS.Face(s) for s in list_shapes(shape, TopAbs_FACE)]


def list_edges(shape: Any) -> list[Any]:
    """Edges that have a curve in space, numbered as `describe` numbers them."""
    return _EdgeNumbers(shape).curves


def explore(shape: Any, kind: Any) -> Iterator[Any]:
    """Sub-shapes of a kind with their own orientation; one that is used twice comes twice."""
    explorer = TopExp_Explorer(shape, kind)
    while explorer.More():
        yield explorer.Current()
        explorer.Next()


@dataclass(frozen=True)
class _Side:
    """An edge as the boundary of one face: outward normal, and the direction along it with the face at its left."""

    face: int
    normal: Triple
    tangent: Triple


def describe(shape: Any, deflection_mm: float) -> tuple[list[Face], list[Edge]]:
    """Faces and edges of a shape with everything that is known of them.

    Args:
        deflection_mm: how far the edges' polylines may stand from the exact curves.

    Returns:
        Faces in the order of the file; edges without those that are a point only.
    """
    faces = list_faces(shape)
    numbers = _EdgeNumbers(shape)
    sides: list[list[_Side]] = [[] for _ in numbers.curves]
    loops = [_loops(face, index, numbers, sides) for index, face in enumerate(faces)]
    vertices = ShapeMap()
    TopExp.MapShapes_s(shape, TopAbs_VERTEX, vertices)
    edges = [_edge(c, own, vertices, deflection_mm) for c, own in zip(numbers.curves, sides, strict=True)]
    touching: list[set[int]] = [set() for _ in faces]
    for edge in edges:
        a, b = edge.faces
        if a >= 0 and b >= 0 and a != b:
            touching[a].add(b)
            touching[b].add(a)
    return [_face(f, tuple(sorted(touching[i])), loops[i]) for i, f in enumerate(faces)], edges


class _EdgeNumbers:
    """Edges that have a curve in space, and the number of each whatever its orientation."""

    def __init__(self, shape: Any) -> None:
        self._found = ShapeMap()
        TopExp.MapShapes_s(shape, TopAbs_EDGE, self._found)
        self._numbers = [-1]
        self.curves: list[Any] = []
        for i in range(1, self._found.Extent() + 1):
            edge = TopoDS.Edge(self._found.FindKey(i))
            degenerated = BRep_Tool.Degenerated_s(edge)
            self._numbers.append(-1 if degenerated else len(self.curves))
            if not degenerated:
                self.curves.append(edge)
        self.along = [_along(edge) for edge in self.curves]
        """Unit direction in the middle of each, whatever way a face runs along it; None where there is none."""

    def of(self, edge: Any) -> int:
        """The edge's number; −1 where it is a point only."""
        return self._numbers[self._found.FindIndex(edge)]


def _loops(face: Any, index: int, numbers: _EdgeNumbers, sides: list[list[_Side]]) -> tuple[tuple[int, ...], ...]:
    """The edges of each boundary of a face, the outer one first; notes the face at its edges on the way."""
    surface = BRepAdaptor_Surface(face, False)
    reversed_ = face.Orientation() == TopAbs_REVERSED
    # On a plane it is the same everywhere, which saves looking for the edge's middle on it.
    level = _normal(surface, 0.0, 0.0, reversed_) if surface.GetType() == GeomAbs_SurfaceType.GeomAbs_Plane else None
    outer = BRepTools.OuterWire_s(face)
    loops: list[tuple[int, ...]] = []
    for wire in explore(face, TopAbs_WIRE):
        loop = []
        for sub in explore(wire, TopAbs_EDGE):
            edge = TopoDS.Edge(sub)
            number = numbers.of(edge)
            if number < 0:
                continue
            loop.append(number)
            along = numbers.along[number]
            normal = level if level is not None else _normal_beside(edge, face, surface, reversed_)
            if along is None or normal is None:
                continue
            # The face's own orientation is in that of the edge, since its wires were explored from it.
            if edge.Orientation() == TopAbs_REVERSED:
                along = (-along[0], -along[1], -along[2])
            sides[number].append(_Side(index, normal, along))
        if loop:
            loops.insert(0, tuple(loop)) if wire.IsSame(outer) else loops.append(tuple(loop))
    return tuple(loops)


def _along(edge: Any) -> Triple | None:
    curve = BRepAdaptor_Curve(edge)
    point, along = gp_Pnt(), gp_Vec()
    curve.D1(0.5 * (curve.FirstParameter() + curve.LastParameter()), point, along)
    length = along.Magnitude()
    return None if not length >= 1e-12 else (along.X() / length, along.Y() / length, along.Z() / length)


def _normal_beside(edge: Any, face: Any, surface: Any, reversed_: bool) -> Triple | None:
    """The face's normal in the middle of an edge."""
    flat = BRepAdaptor_Curve2d(edge, face)
    middle = 0.5 * (flat.FirstParameter() + flat.LastParameter())
    if not math.isfinite(middle):
        return None
    uv = flat.Value(middle)
    return _normal(surface, uv.X(), uv.Y(), reversed_)


def _normal(surface: Any, u: float, v: float, reversed_: bool) -> Triple | None:
    point, du, dv = gp_Pnt(), gp_Vec(), gp_Vec()
    surface.D1(u, v, point, du, dv)
    cross = du.Crossed(dv)
    size = cross.Magnitude()
    if size < 1e-14:
        return None
    if reversed_:
        size = -size
    return cross.X() / size, cross.Y() / size, cross.Z() / size


def _edge(edge: Any, sides: list[_Side], vertices: Any, deflection_mm: float) -> Edge:
    curve = BRepAdaptor_Curve(edge)
    kind = _CURVES.get(curve.GetType(), "curve")
    if kind == "line":
        points = np.array([curve.Value(t).Coord() for t in (curve.FirstParameter(), curve.LastParameter())])
    else:
        sampler = GCPnts_TangentialDeflection(curve, CURVE_DEFLECTION_RAD, deflection_mm, 2, 1e-7)
        points = np.array([sampler.Value(i).Coord() for i in range(1, sampler.NbPoints() + 1)])
    centre, radius, axis = None, None, None
    if kind == "circle":
        circle = curve.Circle()
        centre, radius, axis = circle.Location().Coord(), circle.Radius(), circle.Axis().Direction().Coord()
        length = radius * (curve.LastParameter() - curve.FirstParameter())
    elif kind == "line":
        length = math.dist(points[0], points[1])
    else:
        props = GProp_GProps()
        BRepGProp.LinearProperties_s(edge, props)
        length = props.Mass()
    middle = curve.Value(0.5 * (curve.FirstParameter() + curve.LastParameter())).Coord()
    faces, turn, angle, tangent, into = _meeting(sides)
    first, last = TopExp.FirstVertex_s(edge), TopExp.LastVertex_s(edge)
    ends = tuple(vertices.FindIndex(v) - 1 if not v.IsNull() else -1 for v in (first, last))
    closed = math.dist(points[0], points[-1]) < 1e-6
    return Edge(
        points,
        kind,
        length,
        centre,
        radius,
        closed,
        axis,
        faces,
        turn,
        angle,
        middle,
        tangent,
        into,
        (ends[0], ends[1]),
    )


def _meeting(sides: list[_Side]) -> tuple[tuple[int, int], str, float, Triple, tuple[Triple, Triple]]:
    """Which faces meet at an edge and how: faces, turn, angle, tangent, directions into both faces."""
    none = (0.0, 0.0, 0.0)
    if not sides:
        return (-1, -1), "open", 0.0, none, (none, none)
    a = sides[0]
    into_a = _cross(a.normal, a.tangent)
    if len(sides) != 2:
        return (a.face, -1), "open" if len(sides) == 1 else "pinch", 0.0, a.tangent, (into_a, none)
    b = sides[1]
    into_b = _cross(b.normal, b.tangent)
    angle = math.degrees(math.acos(min(max(_dot(a.normal, b.normal), -1.0), 1.0)))
    turn = "convex" if _dot(_cross(a.normal, b.normal), a.tangent) > 0 else "concave"
    if angle < SMOOTH_DEG:
        turn = "smooth"
    if a.face == b.face:
        turn = "seam"
    return (a.face, b.face), turn, angle, a.tangent, (into_a, into_b)


def _cross(a: Triple, b: Triple) -> Triple:
    # Plain numbers: numpy's overhead on single vectors would cost more than everything else here.
    return a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]


def _dot(a: Triple, b: Triple) -> float:
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


def _triple(v: Any) -> Triple:
    return float(v[0]), float(v[1]), float(v[2])


def _face(face: Any, neighbours: tuple[int, ...], loops: tuple[tuple[int, ...], ...]) -> Face:
    surface = BRepAdaptor_Surface(face)
    kind = _SURFACES.get(surface.GetType(), "freeform")
    plane = surface.Plane() if kind == "plane" else _hidden_plane(face) if kind == "freeform" else None
    if plane is not None:
        kind = "plane"
    props = GProp_GProps()
    BRepGProp.SurfaceProperties_s(face, props)
    box = Bnd_Box()
    BRepBndLib.AddOptimal_s(face, box, False, False) if kind != "freeform" else BRepBndLib.Add_s(face, box, False)
    box.SetGap(0.0)
    low, high = (box.CornerMin(), box.CornerMax()) if not box.IsVoid() else (gp_Pnt(0, 0, 0), gp_Pnt(0, 0, 0))
    reversed_ = face.Orientation() == TopAbs_REVERSED
    radius, minor, half_angle, concave, span = None, None, None, False, 0.0
    normal: Triple = (0.0, 0.0, 0.0)
    origin: Triple = (0.0, 0.0, 0.0)
    if plane is not None:
        outward = _normal(
            surface,
            0.5 * (surface.FirstUParameter() + surface.LastUParameter()),
            0.5 * (surface.FirstVParameter() + surface.LastVParameter()),
            reversed_,
        )
        normal, origin = _triple(plane.Axis().Direction().Coord()), plane.Location().Coord()
        if outward is not None and _dot(normal, outward) < 0:
            normal = (-normal[0], -normal[1], -normal[2])
    elif kind == "sphere":
        sphere = surface.Sphere()
        radius, origin, normal = sphere.Radius(), sphere.Location().Coord(), sphere.Position().Direction().Coord()
    elif kind != "freeform":
        what = {"cylinder": surface.Cylinder, "cone": surface.Cone, "torus": surface.Torus}[kind]()
        normal, origin = what.Axis().Direction().Coord(), what.Location().Coord()
        if kind == "cylinder":
            radius = what.Radius()
        elif kind == "torus":
            radius, minor = what.MajorRadius(), what.MinorRadius()
        else:
            half_angle, origin = math.degrees(abs(what.SemiAngle())), what.Apex().Coord()
    if kind in ("cylinder", "cone", "sphere", "torus"):
        concave = _is_concave(surface, kind, origin, normal, radius, reversed_)
        span = math.degrees(surface.LastUParameter() - surface.FirstUParameter())
    return Face(
        kind,
        abs(props.Mass()),
        props.CentreOfMass().Coord(),
        normal,
        radius,
        neighbours,
        low.Coord(),
        high.Coord(),
        origin,
        minor,
        half_angle,
        concave,
        span,
        loops,
    )


def _hidden_plane(face: Any) -> Any:
    """The plane that a free-form surface lies in, as drafts and lofts come from many systems; None where it is none."""
    looked = GeomLib_IsPlanarSurface(BRep_Tool.Surface_s(face), FLAT_MM)
    return looked.Plan() if looked.IsPlanar() else None


def _is_concave(surface: Any, kind: str, origin: Triple, axis: Triple, radius: float | None, reversed_: bool) -> bool:
    """Whether the outward normal points to the axis (to the tube's middle for a torus)."""
    u = 0.5 * (surface.FirstUParameter() + surface.LastUParameter())
    v = 0.5 * (surface.FirstVParameter() + surface.LastVParameter())
    normal = _normal(surface, u, v, reversed_)
    if normal is None:
        return False
    away = np.array(surface.Value(u, v).Coord()) - origin
    if kind != "sphere":
        out = away - np.array(axis) * float(away @ np.array(axis))
        away = away - radius * out / max(float(np.linalg.norm(out)), 1e-12) if kind == "torus" and radius else out
    return _dot(normal, _triple(away)) < 0


def volume_of(shape: Any) -> Moments:
    """Exact volume of a body and its centre of mass (`GProp`)."""
    volume = GProp_GProps()
    BRepGProp.VolumeProperties_s(shape, volume)
    return volume.Mass(), volume.CentreOfMass().Coord()


def measure(shape: Any) -> tuple[float, float, Triple]:
    """Exact volume, area and centre of mass of a shape (`GProp`)."""
    volume, surface = GProp_GProps(), GProp_GProps()
    BRepGProp.VolumeProperties_s(shape, volume)
    BRepGProp.SurfaceProperties_s(shape, surface)
    centre = volume.CentreOfMass() if abs(volume.Mass()) > 1e-12 else surface.CentreOfMass()
    return volume.Mass(), surface.Mass(), centre.Coord()

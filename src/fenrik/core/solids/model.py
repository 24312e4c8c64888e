"""The types of a solid: triangles that know their face, faces, edges, and the exact shape behind them."""

from __future__ import annotations

import io
from dataclasses import asdict, dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Frame, Points
from fenrik.core.solids.exact import ExactFaces, turned_out

MAX_EXACT_BOX_FACES = 4000


def unit_normals(corners: Points) -> Points:
    """Outward normals (m, 3) of triangles given by their corners (m, 3, 3); 0 for those without area."""
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return np.asarray(normal / np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None])


@dataclass(frozen=True)
class Mesh:
    """Triangles with the face each belongs to.

    Attributes:
        vertices: (n, 3) float64, mm.
        triangles: (m, 3) int32 into `vertices`, counter-clockwise seen from outside.
        face_ids: (m,) int32, index into the solid's faces.
        deflection_mm: how far the triangles may stand from the exact surface.
        parameters: (m, 3, 2) float32, of the corners on B-spline surfaces (zeros on others); None where not known.
    """

    vertices: Points
    triangles: NDArray[np.int32]
    face_ids: NDArray[np.int32]
    deflection_mm: float = 0.0
    parameters: NDArray[np.float32] | None = None

    def corners(self) -> Points:
        """Corner points of all triangles, (m, 3, 3)."""
        return self.vertices[self.triangles]

    def unit_normals(self) -> Points:
        """Outward normals of the triangles, (m, 3); 0 for those without area."""
        return unit_normals(self.corners())

    def in_frame(self, frame: Frame) -> Mesh:
        return replace(self, vertices=np.ascontiguousarray(frame.to_local(self.vertices)))

    def of_faces(self, faces: list[int]) -> Mesh:
        """Only the triangles of some faces, on the same vertices."""
        return self.rows(np.isin(self.face_ids, faces))

    def rows(self, index: NDArray[Any]) -> Mesh:
        """Some of the triangles, on the same vertices."""
        parameters = None if self.parameters is None else self.parameters[index]
        triangles = np.ascontiguousarray(self.triangles[index])
        return replace(self, triangles=triangles, face_ids=self.face_ids[index], parameters=parameters)

    def flipped(self) -> Mesh:
        """The triangles seen from their other sides."""
        parameters = None if self.parameters is None else np.ascontiguousarray(self.parameters[:, ::-1])
        return replace(self, triangles=np.ascontiguousarray(self.triangles[:, ::-1]), parameters=parameters)

    def bounds(self) -> Points:
        """Lowest and highest corner of the used vertices, (2, 3)."""
        used = self.vertices[self.triangles.ravel()]
        return np.array([used.min(axis=0), used.max(axis=0)])

    def volume_mm3(self) -> float:
        """Enclosed volume by the divergence theorem; meaningless for an open mesh."""
        a, b, c = np.moveaxis(self.corners(), 1, 0)
        return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6.0)

    def area_mm2(self) -> float:
        a, b, c = np.moveaxis(self.corners(), 1, 0)
        return float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2.0)


def facing_out(faces: ExactFaces, mesh: Mesh) -> ExactFaces:
    """The surfaces with the senses that the triangles on them say."""
    corners = mesh.corners()
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    starts = np.zeros((len(corners), 2)) if mesh.parameters is None else mesh.parameters.mean(axis=1)
    plain = replace(faces, senses=np.ones(len(faces)))
    return turned_out(plain, mesh.face_ids, corners.mean(axis=1), normals, starts)


@dataclass(frozen=True)
class Face:
    """What is known of one face: enough to pick it, measure it, recognise features with it and find it again.

    Attributes:
        kind: plane, cylinder, cone, sphere, torus, freeform; mesh for a patch of triangles.
        normal: outward normal of a plane, axis of a cylinder, cone or torus.
        origin: a point of the plane or of the axis, centre of a sphere or torus; for a cone its apex.
        radius_mm: of a cylinder or sphere; the larger radius of a torus.
        minor_radius_mm: the smaller radius of a torus.
        half_angle_deg: between axis and side of a cone.
        concave: the material lies outside (bore, inner fillet); False for planes and freeform faces.
        span_deg: how far a face goes round its axis.
        loops: edges of each boundary, the outer one first.
        body: which body of the model it belongs to.
    """

    kind: str
    area_mm2: float
    centroid: tuple[float, float, float]
    normal: tuple[float, float, float]
    radius_mm: float | None
    neighbours: tuple[int, ...]
    low: tuple[float, float, float]
    high: tuple[float, float, float]
    origin: tuple[float, float, float] = (0.0, 0.0, 0.0)
    minor_radius_mm: float | None = None
    half_angle_deg: float | None = None
    concave: bool = False
    span_deg: float = 0.0
    loops: tuple[tuple[int, ...], ...] = ()
    body: int = 0
    colour: str = ""


@dataclass(frozen=True)
class Edge:
    """One edge as a polyline (k, 3), and how its faces meet.

    Attributes:
        kind: line, circle or curve; circles know their centre, radius and axis.
        faces: the two faces, −1 where one is missing; the same twice at a seam.
        turn: convex, concave, smooth (tangent), seam, open, or pinch (more than two faces).
        angle_deg: between the outward normals in the middle.
        middle, tangent: half-way point, and direction there (with the face `faces[0]` at its left).
        into: directions from the middle into each of the two faces.
        ends: numbers of the vertices at its ends.
    """

    points: Points
    kind: str
    length_mm: float
    centre: tuple[float, float, float] | None = None
    radius_mm: float | None = None
    closed: bool = False
    axis: tuple[float, float, float] | None = None
    faces: tuple[int, int] = (-1, -1)
    turn: str = ""
    angle_deg: float = 0.0
    middle: tuple[float, float, float] = (0.0, 0.0, 0.0)
    tangent: tuple[float, float, float] = (0.0, 0.0, 0.0)
    into: tuple[tuple[float, float, float], tuple[float, float, float]] = ((0.0, 0.0, 0.0), (0.0, 0.0, 0.0))
    ends: tuple[int, int] = (-1, -1)


@dataclass(frozen=True)
class Body:
    """One body of a model file.

    Attributes:
        name: unique in the file; instances of an assembly carry their path.
        kind: solid, shell, or mesh.
        first_face, faces: the stretch of the model's faces that is this body.
    """

    name: str
    kind: str
    first_face: int
    faces: int
    volume_mm3: float
    colour: str = ""


@dataclass(frozen=True)
class HealthNote:
    """One thing that a check of the model found.

    Attributes:
        kind: open shell, pinch, sliver, tiny edge, self-crossing, invalid, facets.
        mended: it was put right on reading.
        place: where, in part coordinates.
    """

    kind: str
    message: str
    mended: bool
    place: tuple[float, float, float] | None = None
    amount_mm: float | None = None


@dataclass(frozen=True)
class Solid:
    """A part: its triangles, faces and edges, and its exact shape when the file had one.

    Attributes:
        brep: the exact shape in Open CASCADE's binary form, empty for a mesh file.
        volume_mm3, area_mm2, centroid: measured on the exact shape where there is one.
        warnings: what a person should know about the file.
        bodies: the bodies, in the order of the file; their faces stand one after another.
        health: what a check of the model found and mended (see `health.py`).
    """

    mesh: Mesh
    faces: list[Face]
    edges: list[Edge]
    brep: bytes
    volume_mm3: float
    area_mm2: float
    centroid: tuple[float, float, float]
    warnings: list[str] = field(default_factory=list)
    unit: str = "mm"
    scale: float = 1.0
    bodies: list[Body] = field(default_factory=list)
    health: list[HealthNote] = field(default_factory=list)

    @property
    def is_exact(self) -> bool:
        return bool(self.brep)

    def bounds(self, frame: Frame | None = None) -> Points:
        """Lowest and highest corner in a frame (the part's own where none is given), (2, 3).

        Exact for exact solids of up to some thousand faces; beyond that the box of the triangles.
        """
        frame = frame or Frame()
        turn = frame.rotation.tobytes()
        if turn not in self._boxes:
            if self.is_exact and len(self.faces) <= MAX_EXACT_BOX_FACES:
                from fenrik.core.solids.tessellate import bounds_of

                self._boxes[turn] = bounds_of(self.shape(), Frame(rotation=frame.rotation))
            else:
                self._boxes[turn] = self.mesh.in_frame(Frame(rotation=frame.rotation)).bounds()
        return self._boxes[turn] - frame.origin @ frame.rotation

    @cached_property
    def face_areas(self) -> Points:
        """Areas of the faces, (n,) mm²."""
        return np.array([f.area_mm2 for f in self.faces])

    @cached_property
    def _boxes(self) -> dict[bytes, Points]:
        return {}

    @cached_property
    def surfaces(self) -> ExactFaces | None:
        """The exact surfaces under the faces, with their own senses; None where there is no exact shape."""
        if not self.is_exact:
            return None
        from fenrik.core.solids.describe import list_faces
        from fenrik.core.solids.exact import exact_faces

        return exact_faces(list_faces(self.shape()))[0]

    @cached_property
    def outward(self) -> ExactFaces | None:
        """The same with normals that look out of the material."""
        return None if self.surfaces is None else facing_out(self.surfaces, self.mesh)

    def shape(self) -> Any:
        """The exact shape as an Open CASCADE shape; only where `is_exact`."""
        from OCP.BinTools import BinTools
        from OCP.TopoDS import TopoDS_Shape

        shape = TopoDS_Shape()
        BinTools.Read_s(shape, io.BytesIO(self.brep))
        return shape

    def summary(self) -> dict[str, Any]:
        """Size, volume, faces and warnings as plain JSON."""
        low, high = self.bounds()
        return {
            "size_mm": [round(float(v), 6) for v in high - low],
            "low_mm": [round(float(v), 6) for v in low],
            "high_mm": [round(float(v), 6) for v in high],
            "volume_mm3": self.volume_mm3,
            "area_mm2": self.area_mm2,
            "centroid_mm": list(self.centroid),
            "faces": len(self.faces),
            "edges": len(self.edges),
            "triangles": len(self.mesh.triangles),
            "exact": self.is_exact,
            "unit": self.unit,
            "scale": self.scale,
            "warnings": self.warnings,
            "bodies": [asdict(b) for b in self.bodies],
            "health": [asdict(h) for h in self.health],
        }

"""The types of a solid: triangles that know their face, faces, edges, and the exact shape behind them."""

from __future__ import annotations

import io
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Frame, Points


@dataclass(frozen=True)
class Mesh:
    """Triangles with the face each belongs to.

    Attributes:
        vertices: (n, 3) float64, mm.
        triangles: (m, 3) int32 into `vertices`, counter-clockwise seen from outside.
        face_ids: (m,) int32, index into the solid's faces.
        deflection_mm: how far the triangles may stand from the exact surface.
    """

    vertices: Points
    triangles: NDArray[np.int32]
    face_ids: NDArray[np.int32]
    deflection_mm: float = 0.0

    def corners(self) -> Points:
        """Corner points of all triangles, (m, 3, 3)."""
        return self.vertices[self.triangles]

    def in_frame(self, frame: Frame) -> Mesh:
        return replace(self, vertices=np.ascontiguousarray(frame.to_local(self.vertices)))

    def of_faces(self, faces: list[int]) -> Mesh:
        """Only the triangles of some faces, on the same vertices."""
        keep = np.isin(self.face_ids, faces)
        return replace(self, triangles=self.triangles[keep], face_ids=self.face_ids[keep])

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


@dataclass(frozen=True)
class Face:
    """What is known of one face: enough to pick it, measure it and find it again."""

    kind: str
    area_mm2: float
    centroid: tuple[float, float, float]
    normal: tuple[float, float, float]
    radius_mm: float | None
    neighbours: tuple[int, ...]
    low: tuple[float, float, float]
    high: tuple[float, float, float]


@dataclass(frozen=True)
class Edge:
    """One edge as a polyline (k, 3) with its kind; circles know their centre and radius."""

    points: Points
    kind: str
    length_mm: float
    centre: tuple[float, float, float] | None = None
    radius_mm: float | None = None
    closed: bool = False


@dataclass(frozen=True)
class Solid:
    """A part: its triangles, faces and edges, and its exact shape when the file had one.

    Attributes:
        brep: the exact shape in Open CASCADE's binary form, empty for a mesh file.
        volume_mm3, area_mm2, centroid: measured on the exact shape where there is one.
        warnings: what a person should know about the file.
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

    @property
    def is_exact(self) -> bool:
        return bool(self.brep)

    def bounds(self) -> Points:
        return self.mesh.bounds()

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
        }

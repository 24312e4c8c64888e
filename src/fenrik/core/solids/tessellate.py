"""Triangles out of an exact shape (Open CASCADE)."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from OCP.BinTools import BinTools
from OCP.Bnd import Bnd_Box
from OCP.BRep import BRep_Tool
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from OCP.BRepTools import BRepTools
from OCP.gp import gp_Trsf
from OCP.TopAbs import TopAbs_REVERSED
from OCP.TopLoc import TopLoc_Location
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from fenrik.core.frames import Frame, Points
from fenrik.core.solids.describe import list_faces
from fenrik.core.solids.model import Mesh

ANGULAR_DEFLECTION_RAD = 0.35
# The mesher overshoots its own limit by up to 1.7 times on a sphere (measured in the tests), so it is asked for less.
MESHER_SHARE = 0.5


def tessellate(shape: Any, deflection_mm: float) -> Mesh:
    """Triangles no further than `deflection_mm` from the exact faces.

    The order of faces is that of the file, so face ids are the same at every deflection.
    """
    BRepTools.Clean_s(shape)
    BRepMesh_IncrementalMesh(shape, MESHER_SHARE * deflection_mm, False, ANGULAR_DEFLECTION_RAD, True)
    vertices: list[np.ndarray] = []
    triangles: list[np.ndarray] = []
    ids: list[np.ndarray] = []
    base = 0
    for index, face in enumerate(list_faces(shape)):
        location = TopLoc_Location()
        poly = BRep_Tool.Triangulation_s(face, location)
        if poly is None:
            continue
        nodes, corners = _face_arrays(poly, location, face.Orientation() == TopAbs_REVERSED)
        vertices.append(nodes)
        triangles.append(corners + base)
        ids.append(np.full(len(corners), index, dtype=np.int32))
        base += len(nodes)
    if not vertices:
        return Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32), np.zeros(0, np.int32), deflection_mm)
    mesh = Mesh(np.concatenate(vertices), np.concatenate(triangles), np.concatenate(ids), deflection_mm)
    return weld(mesh)


def _face_arrays(poly: Any, location: Any, reversed_: bool) -> tuple[np.ndarray, np.ndarray]:
    nodes = np.array([poly.Node(i).Coord() for i in range(1, poly.NbNodes() + 1)], dtype=np.float64)
    corners = np.array([poly.Triangle(i).Get() for i in range(1, poly.NbTriangles() + 1)], dtype=np.int32) - 1
    if not location.IsIdentity():
        trsf = location.Transformation()
        matrix = np.array([[trsf.Value(r, c) for c in range(1, 5)] for r in range(1, 4)])
        nodes = nodes @ matrix[:, :3].T + matrix[:, 3]
    return nodes, corners[:, ::-1].copy() if reversed_ else corners


def weld(mesh: Mesh, tolerance_mm: float = 1e-7) -> Mesh:
    """Join equal vertices and drop triangles without area; neighbours then share their corners."""
    unique, inverse = np.unique(mesh.vertices, axis=0, return_inverse=True)
    pairs = cKDTree(unique).query_pairs(tolerance_mm, output_type="ndarray")
    count = len(unique)
    graph = coo_matrix((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    _, group = connected_components(graph, directed=False)
    _, first = np.unique(group, return_index=True)
    inverse = group[inverse.reshape(-1)]
    triangles = inverse[mesh.triangles].astype(np.int32)
    vertices = np.ascontiguousarray(unique[first])
    a, b, c = (vertices[triangles[:, i]] for i in range(3))
    keep = np.linalg.norm(np.cross(b - a, c - a), axis=1) > 1e-14
    return Mesh(vertices, np.ascontiguousarray(triangles[keep]), mesh.face_ids[keep], mesh.deflection_mm)


def open_edges(mesh: Mesh) -> int:
    """How many edges of a welded mesh do not join exactly two triangles."""
    ends = np.sort(np.concatenate([mesh.triangles[:, p] for p in ([0, 1], [1, 2], [2, 0])]), axis=1)
    _, count = np.unique(ends[:, 0].astype(np.int64) << 32 | ends[:, 1], return_counts=True)
    return int((count != 2).sum())


def bounds_of(shape: Any, frame: Frame | None = None) -> Points:
    """Lowest and highest corner of a shape's faces in a frame, (2, 3)."""
    if frame is not None:
        shape = shape.Moved(TopLoc_Location(transform_to(frame)))
    box = Bnd_Box()
    BRepBndLib.AddOptimal_s(shape, box, False, False)
    if box.IsVoid():
        return np.zeros((2, 3))
    box.SetGap(0.0)
    return np.array([box.CornerMin().Coord(), box.CornerMax().Coord()])


def transform_to(frame: Frame) -> Any:
    """Open CASCADE's transform of part coordinates into a frame."""
    turn = frame.rotation.T
    shift = -turn @ frame.origin
    trsf = gp_Trsf()
    rows = [v for r in range(3) for v in (*turn[r].tolist(), float(shift[r]))]
    trsf.SetValues(*rows)
    return trsf


def to_bytes(shape: Any) -> bytes:
    """The exact shape without its triangles, in Open CASCADE's binary form."""
    BRepTools.Clean_s(shape)
    stream = io.BytesIO()
    BinTools.Write_s(shape, stream)
    return stream.getvalue()

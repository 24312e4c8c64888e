"""Triangles out of an exact shape (Open CASCADE)."""

from __future__ import annotations

import io
import re
import struct
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from OCP.BinTools import BinTools
from OCP.Bnd import Bnd_Box
from OCP.BRep import BRep_Tool
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from OCP.BRepTools import BRepTools
from OCP.gp import gp_Trsf
from OCP.IMeshTools import IMeshTools_MeshAlgoType as MeshAlgorithm
from OCP.IMeshTools import IMeshTools_Parameters
from OCP.TopAbs import TopAbs_REVERSED
from OCP.TopLoc import TopLoc_Location

from fenrik.core.frames import Frame, Points
from fenrik.core.solids._surface_kernels import PLANE, SPLINE, UNKNOWN
from fenrik.core.solids.describe import list_edges, list_faces
from fenrik.core.solids.exact import ExactFaces, exact_faces
from fenrik.core.solids.facets import join_equal, weld_near
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.refining import FaceMesh, refined

ANGULAR_DEFLECTION_RAD = 0.35
# The mesher overshoots its own limit by up to 1.7 times on a sphere (measured in the tests), so it is asked for less.
MESHER_SHARE = 0.5
FEW_FACES = 40
ROUGH, ROUGH_SHARE = 64, 1e-3
"""How many times rougher Open CASCADE meshes inside faces that `refining` goes on with (at least this share of the
size): its own mesher is slow on free-form faces and misses its limit there."""
COARSER = 4.0
PEAK_SHARE = 5e-4
"""Share of the size within which a rough mesh finds the places that stand out farthest."""
REFINED_SHARE = 0.75
MOST_TRIANGLES = 1_500_000
_HEAD = struct.Struct("<ii??d")

Arrays = tuple[np.ndarray, np.ndarray]
"""Nodes (n, 3) and triangles (m, 3) of one triangulation."""

_MeshedFace = tuple[int, Any, Any, Any]
"""Number, face, triangulation, location."""


def tessellate(shape: Any, deflection_mm: float, most: int = MOST_TRIANGLES) -> Mesh:
    """Triangles within `deflection_mm` of the exact faces, as far as their number allows.

    The order of faces is that of the file, so face ids are the same at every deflection.

    Args:
        most: how many triangles there may be, about; where curved faces would need more, they stand off further.

    Returns:
        The triangles; their `deflection_mm` is what was asked, or how far they were found to stand off where that is
        more.
    """
    faces = list_faces(shape)
    exact, own = exact_faces(faces)
    size, rough, start_mm = _size(shape), not np.any(exact.kinds == UNKNOWN), deflection_mm
    meshed = _meshed(shape, faces, start_mm, max(ROUGH * start_mm, ROUGH_SHARE * size) if rough else None)
    while start_mm < size and sum(m[2].NbTriangles() for m in meshed) > most:
        start_mm *= COARSER
        meshed = _meshed(shape, faces, start_mm, max(ROUGH * start_mm, ROUGH_SHARE * size) if rough else None)
    if not meshed:
        return Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32), np.zeros(0, np.int32), deflection_mm)
    plain = _nodes_of(shape, meshed)
    curved = [k for k, (number, *_) in enumerate(meshed) if exact.kinds[number] not in (PLANE, UNKNOWN)]
    off, counts = max(deflection_mm, start_mm), [len(corners) for _, corners in plain]
    each = most / max(sum(counts[k] for k in curved), 1)
    parameters: dict[int, Points] = {}
    for k in curved:
        number = meshed[k][0]
        start = FaceMesh(*plain[k], _parameters(meshed[k], exact, own, plain[k][0]))
        fine, away = refined(start, exact, number, REFINED_SHARE * deflection_mm, int(max(each, 1.0) * counts[k]))
        plain[k], off = (fine.nodes, fine.corners), max(off, away)
        if exact.kinds[number] == SPLINE:
            parameters[k] = fine.parameters[fine.corners]
    return weld(_assembled(meshed, plain, parameters, off))


def _assembled(meshed: list[_MeshedFace], plain: list[Arrays], parameters: dict[int, Points], off: float) -> Mesh:
    """The triangles of all faces as one mesh, those of reversed faces turned to look outwards."""
    base = np.cumsum([0, *(len(nodes) for nodes, _ in plain)])
    pieces = []
    for k, (number, face, *_) in enumerate(meshed):
        corners = plain[k][1] + int(base[k])
        uv = parameters.get(k, np.zeros((len(corners), 3, 2))).astype(np.float32)
        ids = np.full(len(corners), number, np.int32)
        piece = Mesh(plain[k][0], corners.astype(np.int32), ids, off, uv)
        pieces.append(piece.flipped() if face.Orientation() == TopAbs_REVERSED else piece)
    return Mesh(
        np.concatenate([p.vertices for p in pieces]),
        np.concatenate([p.triangles for p in pieces]),
        np.concatenate([p.face_ids for p in pieces]),
        off,
        np.concatenate([p.parameters for p in pieces if p.parameters is not None]),
    )


def _nodes_of(shape: Any, meshed: list[_MeshedFace]) -> list[Arrays]:
    """Nodes in their places and triangles of each face."""
    stored = _stored(shape, meshed) if len(meshed) > FEW_FACES else None
    found = []
    for k, (_, _, poly, location) in enumerate(meshed):
        nodes, corners = stored[k] if stored is not None else _arrays(poly)
        if not location.IsIdentity():
            trsf = location.Transformation()
            matrix = np.array([[trsf.Value(r, c) for c in range(1, 5)] for r in range(1, 4)])
            nodes = nodes @ matrix[:, :3].T + matrix[:, 3]
        found.append((nodes, corners))
    return found


def _parameters(meshed: _MeshedFace, exact: ExactFaces, own: NDArray[np.bool_], nodes: Points) -> Points:
    """Parameters of a face's nodes on its B-spline surface; zeros on others."""
    number, _, poly, _ = meshed
    if exact.kinds[number] != SPLINE:
        return np.zeros((len(nodes), 2))
    if own[number] and poly.HasUVNodes():
        return np.array([poly.UVNode(k).Coord() for k in range(1, poly.NbNodes() + 1)])
    return exact.feet(np.full(len(nodes), number), nodes)[2]


def _meshed(shape: Any, faces: list[Any], deflection_mm: float, inside_mm: float | None) -> list[_MeshedFace]:
    """Mesh a shape, its edges within a deflection; inside its faces within another one that is not looked after, or
    (None) the same that is. Gives the faces that have triangles.

    The quicker of Open CASCADE's two planar meshers goes first (Delabella, lifting to a paraboloid; 2.5 times faster on
    large flat faces with many holes); where it leaves a face out, all is done by the other.
    """
    meshed: list[_MeshedFace] = []
    for algorithm in (MeshAlgorithm.IMeshTools_MeshAlgoType_Delabella, MeshAlgorithm.IMeshTools_MeshAlgoType_Watson):
        BRepTools.Clean_s(shape)
        parameters = IMeshTools_Parameters()
        parameters.Deflection = MESHER_SHARE * deflection_mm
        parameters.DeflectionInterior = MESHER_SHARE * deflection_mm if inside_mm is None else inside_mm
        parameters.Angle = parameters.AngleInterior = ANGULAR_DEFLECTION_RAD
        parameters.ControlSurfaceDeflection = inside_mm is None
        parameters.InParallel = True
        parameters.MeshAlgo = algorithm
        BRepMesh_IncrementalMesh(shape, parameters)
        meshed = [(i, f, *_triangulation(f)) for i, f in enumerate(faces)]
        meshed = [m for m in meshed if m[2] is not None]
        if len(meshed) == len(faces):
            break
    return meshed


def rough_bounds(shape: Any) -> Points:
    """Lowest and highest corner of a box that surely holds a shape, (2, 3), quickly."""
    box = Bnd_Box()
    BRepBndLib.Add_s(shape, box, False)
    return _corners(box)


def _corners(box: Any) -> Points:
    if box.IsVoid():
        return np.zeros((2, 3))
    box.SetGap(0.0)
    return np.array([box.CornerMin().Coord(), box.CornerMax().Coord()])


def _size(shape: Any) -> float:
    return float(np.linalg.norm(np.ptp(rough_bounds(shape), axis=0)))


def _triangulation(face: Any) -> tuple[Any, Any]:
    location = TopLoc_Location()
    return BRep_Tool.Triangulation_s(face, location), location


def _arrays(poly: Any) -> Arrays:
    """Nodes (n, 3) and triangles (m, 3) of one triangulation, asked for one by one."""
    nodes = np.array([poly.Node(i).Coord() for i in range(1, poly.NbNodes() + 1)], dtype=np.float64)
    corners = np.array([poly.Triangle(i).Get() for i in range(1, poly.NbTriangles() + 1)], dtype=np.int32) - 1
    return nodes, corners


def _stored(shape: Any, meshed: list[_MeshedFace]) -> list[Arrays] | None:
    """The same for all faces at once, out of Open CASCADE's own binary form; None where that is not as expected.

    The section holds each triangulation once: numbers of nodes and triangles, two flags, deflection, nodes, parameters,
    triangles. Asking for nodes one by one is ten times slower. Their order is that in which edges refer to them, so a
    triangulation is known again by its ends.
    """
    stream = io.BytesIO()
    BinTools.Write_s(shape, stream)
    data = stream.getvalue()
    wanted = [_ends_of(poly) for _, _, poly, _ in meshed]
    for mark in re.finditer(rb"(?<!On)Triangulations (\d+)\n", data):
        blocks = _read_blocks(data, mark.end(), int(mark.group(1)))
        known = _by_ends(blocks) if blocks is not None else None
        if known is not None and all(ends in known for ends in wanted):
            return [known[ends] for ends in wanted]
    return None


def _ends_of(poly: Any) -> tuple[Any, ...]:
    nodes, triangles = poly.NbNodes(), poly.NbTriangles()
    places = (poly.Node(k).Coord() for k in (1, nodes // 2 + 1, nodes))
    return nodes, triangles, *places, poly.Triangle(1).Get(), poly.Triangle(triangles).Get()


def _by_ends(blocks: list[Arrays]) -> dict[tuple[Any, ...], Arrays] | None:
    """Triangulations by what `_ends_of` says of them; None where two different ones would be taken for one another."""
    known: dict[tuple[Any, ...], Arrays] = {}
    for nodes, corners in blocks:
        places = (tuple(nodes[k].tolist()) for k in (0, len(nodes) // 2, -1))
        ends = len(nodes), len(corners), *places, *(tuple((corners[k] + 1).tolist()) for k in (0, -1))
        if ends in known and not all(np.array_equal(a, b) for a, b in zip(known[ends], (nodes, corners), strict=True)):
            return None
        known[ends] = nodes, corners
    return known


def _read_blocks(data: bytes, at: int, count: int) -> list[Arrays] | None:
    blocks = []
    for _ in range(count):
        if at + _HEAD.size > len(data):
            return None
        nodes, triangles, has_parameters, has_normals, _ = _HEAD.unpack_from(data, at)
        at += _HEAD.size
        after = at + nodes * (40 if has_parameters else 24)
        end = after + 12 * triangles + (12 * nodes if has_normals else 0)
        if nodes < 1 or triangles < 1 or end > len(data):
            return None
        blocks.append(
            (
                np.frombuffer(data, "<f8", 3 * nodes, at).reshape(-1, 3),
                np.frombuffer(data, "<i4", 3 * triangles, after).reshape(-1, 3) - 1,
            )
        )
        at = end
    return blocks if data[at : at + 16].lstrip().startswith(b"TShapes") else None


def weld(mesh: Mesh, tolerance_mm: float = 1e-7) -> Mesh:
    """Join equal vertices, and those on open edges within a tolerance; drop triangles without area."""
    used, numbers = np.unique(mesh.triangles, return_inverse=True)
    vertices, index = join_equal(mesh.vertices[used])
    vertices, triangles = weld_near(vertices, index[numbers.reshape(-1, 3)], tolerance_mm)
    a, b, c = (vertices[triangles[:, i]] for i in range(3))
    keep = np.linalg.norm(np.cross(b - a, c - a), axis=1) > 1e-14
    return replace(mesh, vertices=vertices, triangles=triangles).rows(keep)


def open_edges(mesh: Mesh) -> int:
    """How many edges of a welded mesh do not join exactly two triangles."""
    ends = np.sort(np.concatenate([mesh.triangles[:, p] for p in ([0, 1], [1, 2], [2, 0])]), axis=1)
    _, count = np.unique(ends[:, 0].astype(np.int64) << 32 | ends[:, 1], return_counts=True)
    return int((count != 2).sum())


def bounds_of(shape: Any, frame: Frame | None = None) -> Points:
    """Lowest and highest corner of a shape's faces in a frame, (2, 3).

    Open CASCADE finds them for all but B-spline faces, where it is slow: of these it takes the edges, and the places
    inside that stand out farthest are climbed to from those of a rough mesh.
    """
    if frame is not None:
        shape = shape.Moved(TopLoc_Location(transform_to(frame)))
    faces = list_faces(shape)
    exact, _ = exact_faces(faces)
    box = Bnd_Box()
    for face, kind in zip(faces, exact.kinds, strict=True):
        for part in list_edges(face) if kind == SPLINE else [face]:
            BRepBndLib.AddOptimal_s(part, box, False, False)
    found = _corners(box)
    if np.any(exact.kinds == SPLINE):
        mesh = tessellate(shape, max(_size(shape) * PEAK_SHARE, 1e-9))
        peaks = np.array(
            [_peaks(mesh.of_faces([int(k)]), exact, int(k)) for k in np.flatnonzero(exact.kinds == SPLINE)]
        )
        found = np.array([np.minimum(found[0], peaks[:, 0].min(axis=0)), np.maximum(found[1], peaks[:, 1].max(axis=0))])
    return found


def _peaks(mesh: Mesh, exact: ExactFaces, face: int) -> Points:
    """Lowest and highest coordinates of a B-spline face, (2, 3), climbed to from its triangles' corners."""
    assert mesh.parameters is not None
    corners, parameters = mesh.corners().reshape(-1, 3), mesh.parameters.reshape(-1, 2)
    ends = np.array([corners.argmin(axis=0), corners.argmax(axis=0)])
    found = np.empty((2, 3))
    for end, axis in np.ndindex(2, 3):
        row = ends[end, axis]
        found[end, axis] = exact.peak(
            face, axis, 2 * end - 1, parameters[row], corners[row, axis], 4 * mesh.deflection_mm
        )
    return found


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

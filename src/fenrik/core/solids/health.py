"""The health of a model: open shells, slivers, tiny edges, self-crossings; what could be mended and what could not."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeSolid, BRepBuilderAPI_Sewing
from OCP.BRepCheck import BRepCheck_Analyzer
from OCP.BRepLib import BRepLib
from OCP.TopAbs import TopAbs_SHELL
from OCP.TopoDS import TopoDS

from fenrik.core.solids.describe import Moments, list_faces, list_shapes, volume_of
from fenrik.core.solids.facets import EdgeTable
from fenrik.core.solids.model import Body, Edge, Face, HealthNote, Mesh, Solid
from fenrik.core.solids.splitting import kind_of
from fenrik.core.solids.xcaf import NamedShape

SEW_TOLERANCE_MM = 0.01
TINY_EDGE_MM = 0.001
SLIVER_MM = 0.005
MAX_NOTES_OF_A_KIND = 20


def mend(bodies: list[NamedShape]) -> tuple[list[NamedShape], list[Moments], list[HealthNote]]:
    """Sew open faces together, and turn solids the right way out.

    Returns:
        The bodies, their volumes with centres, and what was done; a body that cannot be mended is kept as it is.
    """
    mended, measured, notes = [], [], []
    for body in bodies:
        if kind_of(body.shape) != "solid":
            body, note = _sewn(body)
            notes += note
        moments = volume_of(body.shape)
        if kind_of(body.shape) == "solid" and moments[0] < 0:
            moments = -moments[0], moments[1]
            solid = TopoDS.Solid(body.shape)
            BRepLib.OrientClosedSolid_s(solid)
            body = replace(body, shape=solid)
            notes.append(HealthNote("invalid", f"{body.name} was inside out and has been turned round.", True))
        mended.append(body)
        measured.append(moments)
    return mended, measured, notes


def _sewn(body: NamedShape) -> tuple[NamedShape, list[HealthNote]]:
    count = len(list_faces(body.shape))
    sewing = BRepBuilderAPI_Sewing(SEW_TOLERANCE_MM)
    sewing.Add(body.shape)
    sewing.Perform()
    shells = list_shapes(sewing.SewedShape(), TopAbs_SHELL)
    if len(shells) != 1 or sewing.NbFreeEdges() or len(list_faces(shells[0])) != count:
        return body, []
    solid = BRepBuilderAPI_MakeSolid(TopoDS.Shell(shells[0])).Solid()
    BRepLib.OrientClosedSolid_s(solid)
    note = HealthNote("open shell", f"{body.name}: {count} faces were sewn together into a solid.", True)
    return replace(body, shape=solid), [note]


_ODD_EDGES = {
    "open": (
        "open shell",
        "is open: {count} edges ({total:.3g} mm) have a face on one side only. "
        "Volume and deviation near them are not right.",
    ),
    "pinch": (
        "pinch",
        "touches itself: {count} edges ({total:.3g} mm) have more than two faces. Walls there are thin.",
    ),
}


def check_tables(faces: list[Face], edges: list[Edge], bodies: list[Body]) -> list[HealthNote]:
    """What the tables of a model show at once: open edges, tiny edges, slivers."""
    notes: list[HealthNote] = []
    odd = [e for e in edges if e.turn in _ODD_EDGES and e.faces[0] >= 0]
    for k, body in enumerate(bodies):
        for turn, (kind, words) in _ODD_EDGES.items():
            found = [e for e in odd if e.turn == turn and faces[e.faces[0]].body == k]
            if found:
                total = sum(e.length_mm for e in found)
                message = f"{body.name} {words.format(count=len(found), total=total)}"
                notes.append(HealthNote(kind, message, False, found[0].middle, total))
    tiny = [e for e in edges if e.length_mm < TINY_EDGE_MM]
    notes += [
        HealthNote("tiny edge", f"An edge is only {e.length_mm:.2g} mm long.", False, e.middle, e.length_mm)
        for e in tiny[:MAX_NOTES_OF_A_KIND]
    ]
    slivers = [(width, f) for f in faces if (width := _width(f, edges)) < SLIVER_MM]
    notes += [
        HealthNote("sliver", f"A face is only {width:.2g} mm wide.", False, f.centroid, width)
        for width, f in slivers[:MAX_NOTES_OF_A_KIND]
    ]
    return notes


def _width(face: Face, edges: list[Edge]) -> float:
    """Twice the area over the length of the boundary: the width of a long strip."""
    length = sum(edges[i].length_mm for loop in face.loops for i in loop)
    return 2 * face.area_mm2 / length if length > 0 else math.inf


def check_thoroughly(solid: Solid) -> list[HealthNote]:
    """All that `check_tables` finds, and what takes longer: invalid topology and surfaces that cross each other."""
    notes = list(solid.health)
    if solid.is_exact:
        shape = solid.shape()
        if not BRepCheck_Analyzer(shape, True, False, False).IsValid():
            bad = [
                i for i, f in enumerate(list_faces(shape)) if not BRepCheck_Analyzer(f, True, False, False).IsValid()
            ]
            place = solid.faces[bad[0]].centroid if bad else None
            notes.append(
                HealthNote(
                    "invalid",
                    f"The topology is not valid{f' at {len(bad)} faces' if bad else ''}. Paths may fail near them; "
                    "heal the model where it was made.",
                    False,
                    place,
                )
            )
    return notes + _crossings(solid)


def _crossings(solid: Solid) -> list[HealthNote]:
    """Pairs of faces of one body whose triangles cross away from their common edges."""
    pairs = crossing_faces(solid.mesh)
    own = [(a, b, p) for a, b, p in pairs if solid.faces[a].body == solid.faces[b].body]
    return [
        HealthNote("self-crossing", f"Faces {a} and {b} cross each other.", False, place)
        for a, b, place in own[:MAX_NOTES_OF_A_KIND]
    ]


def crossing_faces(mesh: Mesh) -> list[tuple[int, int, tuple[float, float, float]]]:
    """Faces whose triangles are pierced by an edge of another face, with a place for each pair.

    Every edge of the mesh is cast as a ray through all triangles (Embree); a hit strictly inside the edge and away
    from the triangles at its ends is a crossing.
    """
    from fenrik.core.solids.rays import RayCaster

    table = EdgeTable.of(mesh.triangles)
    start, end = mesh.vertices[table.ends[:, 0]], mesh.vertices[table.ends[:, 1]]
    vector = end - start
    length = np.linalg.norm(vector, axis=1)
    keep = length > 1e-9
    hits = RayCaster(mesh).all_hits(start[keep], vector[keep] / length[keep, None])
    edge = np.flatnonzero(keep)[hits.ray]
    margin = np.maximum(1e-3 * length[edge], 1e-4)
    inside = (hits.distance > margin) & (hits.distance < length[edge] - margin)
    edge, triangle, place = edge[inside], hits.triangle[inside], hits.place[inside]
    shares = (mesh.triangles[triangle][:, :, None] == table.ends[edge][:, None, :]).any(axis=(1, 2))
    a, b = mesh.face_ids[table.owners[edge, 0]], mesh.face_ids[triangle]
    grazing = np.abs(np.einsum("ij,ij->i", _normals(mesh)[triangle], vector[edge] / length[edge, None])) < 1e-3
    good = ~shares & (a != b) & ~grazing
    found: dict[tuple[int, int], tuple[float, float, float]] = {}
    for i, j, p in zip(a[good].tolist(), b[good].tolist(), place[good].tolist(), strict=True):
        found.setdefault((min(i, j), max(i, j)), (p[0], p[1], p[2]))
    return [(i, j, p) for (i, j), p in sorted(found.items())]


def _normals(mesh: Mesh) -> np.ndarray:
    a, b, c = np.moveaxis(mesh.corners(), 1, 0)
    cross = np.cross(b - a, c - a)
    return cross / np.linalg.norm(cross, axis=1)[:, None]

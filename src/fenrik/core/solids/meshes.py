"""Read triangle files: STL by our own reader, OBJ and 3MF through trimesh."""

from __future__ import annotations

import io
import struct
from dataclasses import dataclass, replace

import numpy as np

from fenrik.core.errors import FenrikError, fail
from fenrik.core.frames import Points
from fenrik.core.solids.facets import weld_equal, weld_near
from fenrik.core.solids.mesh_faces import MOST_PATCHES, group_faces
from fenrik.core.solids.model import Body, Edge, Face, HealthNote, Mesh, Solid
from fenrik.core.unpacking import check_unpacked

MESH_SUFFIXES = (".stl", ".obj", ".3mf")
MAX_TRIANGLES = 20_000_000
MAX_UNPACKED = 512 * 1024 * 1024
"""Bytes of a 3MF when it is unpacked."""


@dataclass(frozen=True)
class NamedMesh:
    """Corner points (m, 3, 3) of the triangles of one body."""

    name: str
    corners: Points


def read_mesh_file(data: bytes, suffix: str, name: str) -> list[NamedMesh]:
    """The bodies of an STL, OBJ or 3MF file; 3MF lengths come in mm whatever the file's unit.

    Raises:
        FenrikError: field `part.file`, when the file is damaged or holds no triangle.
    """
    if suffix == ".stl":
        return [NamedMesh("", _read_stl(data, name))]
    return _read_scene(data, suffix, name)


def _read_scene(data: bytes, suffix: str, name: str) -> list[NamedMesh]:
    import trimesh

    if suffix == ".3mf":
        check_unpacked(data, MAX_UNPACKED, "part.file")
    try:
        scene = trimesh.load_scene(io.BytesIO(data), file_type=suffix[1:], process=False)
        bodies = [
            NamedMesh(str(key), np.asarray(mesh.triangles, dtype=np.float64))
            for key, mesh in _placed(scene)
            if len(mesh.faces)
        ]
        factor = trimesh.units.unit_conversion(scene.units, "mm") if suffix == ".3mf" and scene.units else 1.0
    except (FenrikError, MemoryError):
        raise
    except Exception as error:  # the package raises whatever its parsers raise
        raise fail(
            "part.file",
            f"is not a readable {suffix[1:].upper()} file: {type(error).__name__}.",
            "Export it again.",
            name,
        ) from error
    if not bodies:
        raise fail("part.file", "holds no whole triangle.", "Export it again.", name)
    return [NamedMesh(b.name, b.corners * factor) for b in bodies]


def _placed(scene):  # type: ignore[no-untyped-def]
    """Each instance of a mesh in its place, with its name."""
    count = 0
    for node in sorted(scene.graph.nodes_geometry):
        matrix, key = scene.graph[node]
        count += len(scene.geometry[key].faces)
        if count > MAX_TRIANGLES:
            raise fail("part.file", f"holds more than {MAX_TRIANGLES} triangles.", "Export a coarser mesh.")
        mesh = scene.geometry[key].copy()
        mesh.apply_transform(matrix)
        yield node if node != "world" else key, mesh


def _read_stl(data: bytes, name: str) -> Points:
    """Corner points (m, 3, 3) of a binary or text STL."""
    if len(data) >= 84:
        count = struct.unpack_from("<I", data, 80)[0]
        if 84 + 50 * count == len(data) and count > 0:
            record = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("rest", "<u2")])
            return np.frombuffer(data, record, count, 84)["corners"].astype(np.float64)
    if data.lstrip()[:5].lower() != b"solid":
        raise fail("part.file", "is not an STL file, or it breaks off before its end.", "Export it again.", name)
    words = [line.split()[1:4] for line in data.splitlines() if line.lstrip()[:6].lower() == b"vertex"]
    try:
        corners = np.array(words, dtype=np.float64)
    except ValueError as error:
        raise fail("part.file", "has a vertex that is not three numbers.", "Export it again.", name) from error
    if len(corners) == 0 or len(corners) % 3:
        raise fail("part.file", "holds no whole triangle.", "Export it again.", name)
    return corners.reshape(-1, 3, 3)


def solid_from_meshes(bodies: list[NamedMesh], scale: float) -> Solid:
    """Weld triangles, find their patches and creases, and measure.

    Raises:
        FenrikError: when all triangles are without area.
    """
    meshes: list[tuple[Mesh, int]] = []
    faces: list[Face] = []
    edges: list[Edge] = []
    health: list[HealthNote] = []
    listed: list[Body] = []
    corners_before = 0
    for body in bodies:
        mesh, own, creases, notes = _one_body(body.corners * scale)
        if mesh is None:
            continue
        first = len(faces)
        listed.append(Body(body.name or f"body {len(listed) + 1}", "mesh", first, len(own), mesh.volume_mm3()))
        meshes.append((mesh, first))
        faces += [_shifted(f, first, len(edges), len(listed) - 1) for f in own]
        edges += [_edge_of(e, first, corners_before) for e in creases]
        corners_before += len(mesh.vertices)
        health += notes
    if not meshes:
        raise fail("part.file", "holds only triangles without area.", "Export it again.")
    mesh = _joined(meshes)
    warnings = [n.message for n in health]
    centroid = _centroid(mesh)
    return Solid(
        mesh, faces, edges, b"", mesh.volume_mm3(), mesh.area_mm2(), centroid, warnings, "mm", scale, listed, health
    )


def _one_body(corners: Points) -> tuple[Mesh | None, list[Face], list[Edge], list[HealthNote]]:
    vertices, triangles = weld_equal(corners)
    a, b, c = (vertices[triangles[:, i]] for i in range(3))
    whole = np.linalg.norm(np.cross(b - a, c - a), axis=1) > 1e-14
    triangles = triangles[whole]
    if len(triangles) == 0:
        return None, [], [], []
    diagonal = float(np.linalg.norm(np.ptp(vertices, axis=0)))
    vertices, triangles = weld_near(vertices, triangles, max(1e-7, diagonal * 1e-9))
    mesh = Mesh(vertices, np.ascontiguousarray(triangles), np.zeros(len(triangles), np.int32))
    mesh, faces, edges, open_edges = group_faces(mesh)
    notes = []
    if dropped := int((~whole).sum()):
        notes.append(HealthNote("sliver", f"{dropped} triangles without area were left out.", True))
    if open_edges:
        notes.append(
            HealthNote(
                "open shell",
                f"The mesh is open: {open_edges} edges have a triangle on one side only. "
                "Paths work; volume and deviation near the gaps do not.",
                False,
            )
        )
    elif mesh.volume_mm3() < 0:
        turned = Mesh(mesh.vertices, np.ascontiguousarray(mesh.triangles[:, ::-1]), mesh.face_ids)
        mesh, faces, edges, _ = group_faces(turned)
        notes.append(HealthNote("invalid", "The triangles faced inwards and were turned round.", True))
    if len(faces) > MOST_PATCHES or len(faces) == 1:
        words = f"{len(faces)} patches" if len(faces) > 1 else "one patch"
        told = f"The mesh is {words}: flats, holes and pockets are not told apart. It is machined by its surface."
        notes.append(HealthNote("facets", told, False))
    return mesh, faces, edges, notes


def _shifted(face: Face, first: int, first_edge: int, body: int) -> Face:
    loops = tuple(tuple(e + first_edge for e in loop) for loop in face.loops)
    return replace(face, neighbours=tuple(n + first for n in face.neighbours), loops=loops, body=body)


def _edge_of(edge: Edge, first: int, first_corner: int) -> Edge:
    (left, right), (begin, end) = edge.faces, edge.ends
    faces = (left + first if left >= 0 else -1, right + first if right >= 0 else -1)
    return replace(edge, faces=faces, ends=(begin + first_corner, end + first_corner))


def _joined(meshes: list[tuple[Mesh, int]]) -> Mesh:
    if len(meshes) == 1:
        return meshes[0][0]
    base = np.cumsum([0, *(len(m.vertices) for m, _ in meshes)])
    return Mesh(
        np.concatenate([m.vertices for m, _ in meshes]),
        np.concatenate([m.triangles + int(b) for (m, _), b in zip(meshes, base, strict=False)]).astype(np.int32),
        np.concatenate([m.face_ids + first for m, first in meshes]).astype(np.int32),
    )


def _centroid(mesh: Mesh) -> tuple[float, float, float]:
    a, b, c = np.moveaxis(mesh.corners(), 1, 0)
    volumes = np.einsum("ij,ij->i", a, np.cross(b, c))
    total = volumes.sum()
    if abs(total) < 1e-12:
        x, y, z = mesh.vertices.mean(axis=0).tolist()
    else:
        x, y, z = (((a + b + c) * volumes[:, None]).sum(axis=0) / (4.0 * total)).tolist()
    return x, y, z

"""Write models: STEP with names and colours, STL, 3MF and GLB."""

from __future__ import annotations

import struct
from collections.abc import Callable

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.solids.model import Mesh, Solid

WRITE_SUFFIXES = (".step", ".stl", ".3mf", ".glb")

AT_ONCE = 100_000
"""Triangles that are worked on at one time."""


def write_solid(solid: Solid, suffix: str, deflection_mm: float = 0.01) -> bytes:
    """A solid as the bytes of a file.

    Args:
        suffix: `.step` (exact), `.stl`, `.3mf` or `.glb` (triangles).
        deflection_mm: how far the triangles may stand from an exact surface.

    Raises:
        FenrikError: for another ending, or STEP from a mesh.
    """
    writer = _WRITERS.get(suffix.lower())
    if writer is None:
        raise fail("file", f"has the ending {suffix}.", f"Use one of {', '.join(WRITE_SUFFIXES)}.", suffix)
    return writer(solid, deflection_mm)


def _step(solid: Solid, _deflection_mm: float) -> bytes:
    if not solid.is_exact:
        raise fail("file", "cannot be STEP: the model is a mesh.", "Write STL, 3MF or GLB.")
    from fenrik.core.solids.splitting import bodies_of
    from fenrik.core.solids.xcaf import NamedShape, write_step

    shapes = bodies_of(solid.shape(), [b.faces for b in solid.bodies])
    named = []
    for body, shape in zip(solid.bodies, shapes, strict=True):
        own = solid.faces[body.first_face : body.first_face + body.faces]
        colours = [f.colour for f in own]
        named.append(NamedShape(shape, body.name, body.colour, colours if any(colours) else []))
    return write_step(named)


def _stl(solid: Solid, deflection_mm: float) -> bytes:
    return stl_bytes(_mesh(solid, deflection_mm))


def stl_bytes(mesh: Mesh) -> bytes:
    """A mesh as binary STL."""
    count = len(mesh.triangles)
    record = np.zeros(count, np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("rest", "<u2")]))
    for first in range(0, count, AT_ONCE):
        part = slice(first, first + AT_ONCE)
        corners = mesh.vertices[mesh.triangles[part]]
        normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
        record["normal"][part], record["corners"][part] = normals, corners
    return b"".join([b"Fenrik".ljust(80, b"\0"), struct.pack("<I", count), record.tobytes()])


def write_mesh(mesh: Mesh, suffix: str) -> bytes:
    """A mesh as the bytes of a file.

    Args:
        suffix: `.stl` or `.3mf`.

    Raises:
        FenrikError: for another ending.
    """
    if suffix == ".stl":
        return stl_bytes(mesh)
    if suffix != ".3mf":
        raise fail("file", f"has the ending {suffix}.", "Use .stl or .3mf.", suffix)
    import trimesh

    body = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
    body.units = "mm"
    scene = trimesh.Scene(body)
    scene.units = "mm"
    return bytes(scene.export(file_type="3mf"))


def _scene(file_type: str) -> Callable[[Solid, float], bytes]:
    def write(solid: Solid, deflection_mm: float) -> bytes:
        import trimesh

        mesh = _mesh(solid, deflection_mm)
        scene = trimesh.Scene()
        scene.units = "mm"
        bodies = solid.bodies
        for body in bodies:
            own = (mesh.face_ids >= body.first_face) & (mesh.face_ids < body.first_face + body.faces)
            part = trimesh.Trimesh(mesh.vertices, mesh.triangles[own], process=False)
            part.remove_unreferenced_vertices()
            part.units = "mm"
            if body.colour:
                part.visual = trimesh.visual.ColorVisuals(part)
                part.visual.face_colors = [int(body.colour[i : i + 2], 16) for i in (1, 3, 5)] + [255]
            if file_type == "glb":
                part.apply_scale(0.001)  # glTF lengths are metres
            scene.add_geometry(part, node_name=body.name, geom_name=body.name)
        data = scene.export(file_type=file_type)
        return data if isinstance(data, bytes) else bytes(data)

    return write


def _mesh(solid: Solid, deflection_mm: float) -> Mesh:
    from fenrik.core.solids.reading import mesh_at

    return mesh_at(solid, deflection_mm)


_WRITERS: dict[str, Callable[[Solid, float], bytes]] = {
    ".step": _step,
    ".stl": _stl,
    ".3mf": _scene("3mf"),
    ".glb": _scene("glb"),
}

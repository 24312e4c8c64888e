"""Read STEP, IGES, BREP and STL files; say clearly what is wrong with them."""

from __future__ import annotations

import struct
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.solids.model import Face, Mesh, Solid

MAX_BYTES = 128 * 1024 * 1024
VIEW_DEFLECTION = 5e-4
"""Deflection of the picture as a share of the part's diagonal."""

SUFFIXES = (".step", ".stp", ".iges", ".igs", ".brep", ".brp", ".stl")
_USUAL_MM = (1.0, 5000.0)


def read_solid(data: bytes, name: str, scale: float = 1.0) -> Solid:
    """Read a solid from the bytes of a file.

    Args:
        data: the file's content.
        name: its name; the ending says the format.
        scale: factor applied to all lengths, to mend a model saved in the wrong unit.

    Raises:
        FenrikError: field `part.file`, when the file is empty, too large, not what its name says, holds no
            surface, or has coordinates that are not numbers; field `part.scale` for a scale that is not above 0.
    """
    suffix = Path(name).suffix.lower()
    if not np.isfinite(scale) or scale <= 0 or scale > 1e6:
        raise fail("part.scale", "must be above 0.", "Use 1 for a model in mm, 25.4 for one in inches.", scale)
    if suffix not in SUFFIXES:
        raise fail("part.file", f"has the ending {suffix or '(none)'}.", f"Use one of {', '.join(SUFFIXES)}.", name)
    if not data:
        raise fail("part.file", "is empty.", "Export the model again.", name)
    if len(data) > MAX_BYTES:
        raise fail(
            "part.file",
            f"is {len(data) / 2**20:.0f} MB; at most {MAX_BYTES // 2**20} MB are read.",
            "Export only the bodies that this job needs, or a coarser mesh.",
            name,
        )
    if suffix == ".stl":
        return _solid_from_mesh(_read_stl(data, name), scale)
    return solid_from_shape(_read_shape(data, suffix, name), scale)


def _read_shape(data: bytes, suffix: str, name: str) -> Any:
    from OCP.BRep import BRep_Builder
    from OCP.BRepTools import BRepTools
    from OCP.IFSelect import IFSelect_RetDone
    from OCP.IGESControl import IGESControl_Reader
    from OCP.STEPControl import STEPControl_Reader
    from OCP.TopoDS import TopoDS_Shape

    if suffix in (".step", ".stp") and b"ISO-10303-21" not in data[:2048]:
        raise fail(
            "part.file",
            "is not a STEP file: its first line does not say ISO-10303-21.",
            "Export it again as STEP (AP203, AP214 or AP242).",
            name,
        )
    if suffix in (".step", ".stp") and b"END-ISO-10303-21" not in data[-4096:]:
        raise fail(
            "part.file", "breaks off before its end (END-ISO-10303-21 is missing).", "Copy or export it again.", name
        )
    with tempfile.TemporaryDirectory(prefix="fenrik-") as folder:
        path = str(Path(folder) / f"model{suffix}")
        Path(path).write_bytes(data)
        if suffix in (".brep", ".brp"):
            shape = TopoDS_Shape()
            if not BRepTools.Read_s(shape, path, BRep_Builder()):
                raise fail("part.file", "is not a BREP file.", "Export it again.", name)
            return shape
        reader = STEPControl_Reader() if suffix in (".step", ".stp") else IGESControl_Reader()
        if reader.ReadFile(path) != IFSelect_RetDone:
            raise fail(
                "part.file", "cannot be read; it is damaged or not what its ending says.", "Export it again.", name
            )
        reader.TransferRoots()
        return reader.OneShape()


def solid_from_shape(shape: Any, scale: float = 1.0) -> Solid:
    """Tessellate, describe and measure an Open CASCADE shape.

    Raises:
        FenrikError: when it has no face, or its coordinates are not numbers.
    """
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
    from OCP.gp import gp_Pnt, gp_Trsf
    from OCP.TopAbs import TopAbs_SOLID

    from fenrik.core.solids import tessellate as tess

    if shape is None or shape.IsNull() or not tess.list_faces(shape):
        raise fail("part.file", "holds no surface at all.", "Export the solid body, not only curves or points.")
    if scale != 1.0:
        trsf = gp_Trsf()
        trsf.SetScale(gp_Pnt(0, 0, 0), scale)
        shape = BRepBuilderAPI_Transform(shape, trsf, True).Shape()
    warnings = []
    solids = tess.list_shapes(shape, TopAbs_SOLID)
    if not solids:
        warnings.append("The file holds faces but no closed solid; volume and collision checks may be wrong.")
    elif len(solids) > 1:
        warnings.append(f"The file holds {len(solids)} solids; they are taken together as one part.")
    faces = tess.describe_faces(shape)
    volume, area, centroid = tess.measure(shape)
    low = np.min([f.low for f in faces], axis=0)
    high = np.max([f.high for f in faces], axis=0)
    diagonal = float(np.linalg.norm(high - low))
    _check_numbers(np.array([low, high]))
    brep = tess.to_bytes(shape)
    mesh = tess.tessellate(shape, max(diagonal * VIEW_DEFLECTION, 1e-6))
    if len(mesh.triangles) == 0:
        raise fail("part.file", "has faces that cannot be meshed.", "Heal the model and export it again.")
    if solids and tess.open_edges(mesh):
        warnings.append(
            "The faces of the solid do not close. Paths work; volume and deviation near the gaps do not. "
            "Heal the model where it was made."
        )
    edges = tess.describe_edges(shape, max(diagonal * VIEW_DEFLECTION, 1e-6))
    warnings += size_warnings(high - low)
    return Solid(mesh, faces, edges, brep, volume, area, centroid, warnings, "mm", scale)


def mesh_at(solid: Solid, deflection_mm: float) -> Mesh:
    """Triangles of a solid within `deflection_mm`; a mesh file's own triangles when it has no exact shape."""
    if not solid.is_exact:
        return solid.mesh
    from fenrik.core.solids.tessellate import tessellate

    return tessellate(solid.shape(), deflection_mm)


def size_warnings(size: np.ndarray) -> list[str]:
    """A hint where a part is so large or small that its unit is probably wrong."""
    largest = float(np.max(size))
    if largest > _USUAL_MM[1]:
        return [
            f"The part is {largest:.0f} mm long. If it was saved in another unit, set the scale "
            f"(0.001 makes it {largest / 1000:.3g} mm, {1 / 25.4:.5f} makes it {largest / 25.4:.3g} mm)."
        ]
    if largest < _USUAL_MM[0]:
        return [
            f"The part is only {largest:.3g} mm long. If it was saved in another unit, set the scale "
            f"(25.4 makes it {largest * 25.4:.3g} mm, 1000 makes it {largest * 1000:.3g} mm)."
        ]
    return []


def _check_numbers(values: np.ndarray) -> None:
    if not np.all(np.isfinite(values)) or np.abs(values).max() > 1e7:
        raise fail(
            "part.file",
            "has coordinates that are not numbers or lie more than 10 km out.",
            "Export it again near its origin.",
        )


def _read_stl(data: bytes, name: str) -> np.ndarray:
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


def _solid_from_mesh(corners: np.ndarray, scale: float) -> Solid:
    from fenrik.core.solids.facets import group_faces
    from fenrik.core.solids.tessellate import weld

    _check_numbers(corners)
    count = len(corners)
    raw = Mesh(
        (corners * scale).reshape(-1, 3), np.arange(3 * count, dtype=np.int32).reshape(-1, 3), np.zeros(count, np.int32)
    )
    diagonal = float(np.linalg.norm(np.ptp(raw.vertices, axis=0)))
    mesh = weld(raw, max(1e-7, diagonal * 1e-9))
    if len(mesh.triangles) == 0:
        raise fail("part.file", "holds only triangles without area.", "Export it again.")
    mesh, faces, edges, open_edges = group_faces(mesh)
    warnings = size_warnings(np.ptp(mesh.vertices, axis=0))
    if open_edges:
        warnings.append(
            f"The mesh is open: {open_edges} edges have a triangle on one side only. "
            "Paths work; volume and deviation near the gaps do not."
        )
    if not open_edges and mesh.volume_mm3() < 0:
        mesh = Mesh(mesh.vertices, mesh.triangles[:, ::-1].copy(), mesh.face_ids)
        warnings.append("The triangles faced inwards and were turned round.")
    centroid = tuple(float(v) for v in _mesh_centroid(mesh))
    return Solid(
        mesh,
        _as_faces(mesh, faces),
        edges,
        b"",
        mesh.volume_mm3(),
        mesh.area_mm2(),
        (centroid[0], centroid[1], centroid[2]),
        warnings,
        "mm",
        scale,
    )


def _mesh_centroid(mesh: Mesh) -> np.ndarray:
    a, b, c = np.moveaxis(mesh.corners(), 1, 0)
    volumes = np.einsum("ij,ij->i", a, np.cross(b, c))
    total = volumes.sum()
    if abs(total) < 1e-12:
        return mesh.vertices.mean(axis=0)
    return ((a + b + c) * volumes[:, None]).sum(axis=0) / (4.0 * total)


def _as_faces(mesh: Mesh, neighbours: list[tuple[int, ...]]) -> list[Face]:
    faces = []
    for index, touching in enumerate(neighbours):
        a, b, c = np.moveaxis(mesh.vertices[mesh.triangles[mesh.face_ids == index]], 1, 0)
        cross = np.cross(b - a, c - a)
        areas = np.linalg.norm(cross, axis=1) / 2
        area = float(areas.sum())
        centroid = ((a + b + c) / 3 * areas[:, None]).sum(axis=0) / max(area, 1e-300)
        mean = cross.sum(axis=0) / max(2 * area, 1e-300)
        flat = float(np.linalg.norm(mean)) > 1 - 1e-6
        corners = np.concatenate([a, b, c])
        x, y, z = (float(v) for v in centroid)
        n = mean / np.linalg.norm(mean) if flat else np.zeros(3)
        low, high = corners.min(axis=0), corners.max(axis=0)
        faces.append(
            Face(
                "plane" if flat else "mesh",
                area,
                (x, y, z),
                (float(n[0]), float(n[1]), float(n[2])),
                None,
                touching,
                (float(low[0]), float(low[1]), float(low[2])),
                (float(high[0]), float(high[1]), float(high[2])),
            )
        )
    return faces

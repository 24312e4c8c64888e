"""Read model files: STEP, IGES, BREP, STL, 3MF and OBJ; say clearly what is wrong with them."""

from __future__ import annotations

import gc
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from fenrik.core.errors import FenrikError, fail
from fenrik.core.frames import Frame, Points
from fenrik.core.solids.meshes import MESH_SUFFIXES, read_mesh_file, solid_from_meshes
from fenrik.core.solids.model import Body, Face, Mesh, Solid

if TYPE_CHECKING:
    from fenrik.core.solids.describe import Moments, Triple
    from fenrik.core.solids.xcaf import NamedShape

MAX_BYTES = 128 * 1024 * 1024
VIEW_DEFLECTION = 5e-4
"""Deflection of the picture as a share of the part's diagonal."""

EXACT_SUFFIXES = (".step", ".stp", ".iges", ".igs", ".brep", ".brp")
SUFFIXES = (*EXACT_SUFFIXES, *MESH_SUFFIXES)
_USUAL_MM = (8.0, 5000.0)


def read_solid(data: bytes, name: str, scale: float = 1.0) -> Solid:
    """Read all bodies of a model file.

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
    if suffix in MESH_SUFFIXES:
        bodies = read_mesh_file(data, suffix, name)
        for body in bodies:
            _check_numbers(body.corners)
        solid = solid_from_meshes(bodies, scale)
        return replace(solid, warnings=[*solid.warnings, *size_warnings(np.ptp(solid.mesh.vertices, axis=0))])
    try:
        with _no_collecting():
            return solid_from_shapes(_read_shapes(data, suffix, name), scale)
    except (FenrikError, MemoryError):
        raise
    except Exception as error:  # the kernel raises whatever its readers and meshers raise
        raise fail(
            "part.file", f"is damaged: {type(error).__name__} in the CAD kernel.", "Export it again.", name
        ) from error


@contextmanager
def _no_collecting() -> Iterator[None]:
    """The tables of a large model are hundreds of thousands of small objects without cycles; looking for cycles among
    them again and again would take as long as reading."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def _read_shapes(data: bytes, suffix: str, name: str) -> list[NamedShape]:
    from OCP.BRep import BRep_Builder
    from OCP.BRepTools import BRepTools
    from OCP.IFSelect import IFSelect_RetDone
    from OCP.IGESControl import IGESControl_Reader
    from OCP.TopoDS import TopoDS_Shape

    from fenrik.core.solids.xcaf import NamedShape, read_step

    is_step = suffix in (".step", ".stp")
    if is_step and b"ISO-10303-21" not in data[:2048]:
        raise fail(
            "part.file",
            "is not a STEP file: its first line does not say ISO-10303-21.",
            "Export it again as STEP (AP203, AP214 or AP242).",
            name,
        )
    if is_step and b"END-ISO-10303-21" not in data[-4096:]:
        raise fail(
            "part.file", "breaks off before its end (END-ISO-10303-21 is missing).", "Copy or export it again.", name
        )
    with tempfile.TemporaryDirectory(prefix="fenrik-") as folder:
        path = Path(folder) / f"model{suffix}"
        path.write_bytes(data)
        if is_step:
            return read_step(path, name)
        if suffix in (".brep", ".brp"):
            shape = TopoDS_Shape()
            if not BRepTools.Read_s(shape, str(path), BRep_Builder()):
                raise fail("part.file", "is not a BREP file.", "Export it again.", name)
            return [NamedShape(shape)]
        reader = IGESControl_Reader()
        if reader.ReadFile(str(path)) != IFSelect_RetDone:
            raise fail(
                "part.file", "cannot be read; it is damaged or not what its ending says.", "Export it again.", name
            )
        reader.TransferRoots()
        return [NamedShape(reader.OneShape())]


def solid_from_shape(shape: Any, scale: float = 1.0) -> Solid:
    """Tessellate, describe and measure one Open CASCADE shape; see `solid_from_shapes`."""
    from fenrik.core.solids.xcaf import NamedShape

    return solid_from_shapes([NamedShape(shape)], scale)


def solid_from_shapes(shapes: list[NamedShape], scale: float = 1.0) -> Solid:
    """Take shapes apart into bodies, mend what can be mended, tessellate, describe and measure.

    Raises:
        FenrikError: when there is no face, or coordinates are not numbers.
    """
    from fenrik.core.solids import tessellate as tess
    from fenrik.core.solids.describe import describe
    from fenrik.core.solids.health import check_tables, mend
    from fenrik.core.solids.splitting import compound_of, split_bodies

    bodies = split_bodies(shapes, scale)
    if not bodies:
        raise fail("part.file", "holds no surface at all.", "Export the solid body, not only curves or points.")
    bodies, moments, notes = mend(bodies)
    shape = compound_of([b.shape for b in bodies])
    rough = tess.rough_bounds(shape)
    _check_numbers(rough)
    deflection = max(float(np.linalg.norm(rough[1] - rough[0])) * VIEW_DEFLECTION, 1e-6)
    faces, edges = describe(shape, deflection)
    listed, faces, centroid = _list_bodies(bodies, moments, faces)
    brep = tess.to_bytes(shape)
    mesh = tess.tessellate(shape, deflection)
    if len(mesh.triangles) == 0:
        raise fail("part.file", "has faces that cannot be meshed.", "Heal the model and export it again.")
    notes += check_tables(faces, edges, listed)
    warnings = [n.message for n in notes if not n.mended and n.kind in ("open shell", "invalid")]
    if all(b.kind != "solid" for b in listed):
        warnings.insert(0, "The file holds faces but no closed solid; volume and collision checks may be wrong.")
    elif tess.open_edges(mesh) and not any(n.kind in ("open shell", "pinch") for n in notes):
        warnings.append(
            "The faces of the solid do not close. Paths work; volume and deviation near the gaps do not. "
            "Heal the model where it was made."
        )
    warnings += size_warnings(np.ptp(mesh.bounds(), axis=0))
    volume, area = sum(b.volume_mm3 for b in listed), sum(f.area_mm2 for f in faces)
    return Solid(mesh, faces, edges, brep, volume, area, centroid, warnings, "mm", scale, listed, notes)


def _list_bodies(
    bodies: list[NamedShape], moments: list[Moments], faces: list[Face]
) -> tuple[list[Body], list[Face], Triple]:
    """Bodies with their stretch of faces, and the centre of mass of all; the faces learn their body and colour."""
    from fenrik.core.solids.describe import list_faces, volume_of
    from fenrik.core.solids.splitting import compound_of, kind_of

    counts = [len(list_faces(b.shape)) for b in bodies]
    if sum(counts) != len(faces):  # bodies that share faces are one body
        joined = compound_of([b.shape for b in bodies])
        bodies, moments = [replace(bodies[0], shape=joined, face_colours=[])], [volume_of(joined)]
        counts = [len(faces)]
    listed: list[Body] = []
    coloured: list[Face] = []
    for k, (body, count) in enumerate(zip(bodies, counts, strict=True)):
        own = faces[len(coloured) : len(coloured) + count]
        colours = body.face_colours if len(body.face_colours) == count else [""] * count
        listed.append(Body(body.name, kind_of(body.shape), len(coloured), count, moments[k][0], body.colour))
        coloured += [replace(f, body=k, colour=c or body.colour) for f, c in zip(own, colours, strict=True)]
    return listed, coloured, _middle(moments, coloured)


def _middle(moments: list[Moments], faces: list[Face]) -> Triple:
    """Centre of mass of bodies; of their surface where they enclose nothing."""
    if abs(sum(v for v, _ in moments)) < 1e-12:
        moments = [(f.area_mm2, f.centroid) for f in faces]
    x, y, z = np.average([c for _, c in moments], axis=0, weights=[w for w, _ in moments]).tolist()
    return x, y, z


def mesh_at(solid: Solid, deflection_mm: float) -> Mesh:
    """Triangles of a solid within `deflection_mm`; a mesh file's own triangles when it has no exact shape."""
    if not solid.is_exact:
        return solid.mesh
    from fenrik.core.solids.tessellate import tessellate

    return tessellate(solid.shape(), deflection_mm)


def face_bounds(solid: Solid, faces: list[int], frame: Frame) -> Points:
    """Lowest and highest corner of some faces in a frame, (2, 3); of their triangles where there is no exact shape."""
    if not solid.is_exact:
        return solid.mesh.in_frame(frame).of_faces(faces).bounds()
    from fenrik.core.solids.describe import list_faces
    from fenrik.core.solids.splitting import compound_of
    from fenrik.core.solids.tessellate import bounds_of

    shapes = list_faces(solid.shape())
    return bounds_of(compound_of([shapes[k] for k in faces]), frame)


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

"""Take shapes apart into bodies with names of their own, and put bodies together again."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import Any

import numpy as np
from OCP.BRep import BRep_Builder
from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
from OCP.gp import gp_Pnt, gp_Trsf
from OCP.TopAbs import TopAbs_FACE, TopAbs_SHELL, TopAbs_SOLID
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS_Compound, TopoDS_Iterator

from fenrik.core.solids.describe import list_faces, list_shapes, measure
from fenrik.core.solids.model import Body, Solid
from fenrik.core.solids.tessellate import to_bytes
from fenrik.core.solids.xcaf import NamedShape


def split_bodies(shapes: list[NamedShape], scale: float) -> list[NamedShape]:
    """Solids, shells outside solids, and loose faces, each as a body with a name that no other has."""
    found: list[NamedShape] = []
    for one in shapes:
        if one.shape is None or one.shape.IsNull():
            continue
        shape = _scaled(one.shape, scale)
        parts = _parts(shape)
        faces = 0
        for part in parts:
            count = len(list_faces(part))
            colours = one.face_colours[faces : faces + count]
            faces += count
            if count:
                found.append(NamedShape(part, one.name, one.colour, colours))
    return _with_names(found)


def _parts(shape: Any) -> list[Any]:
    parts = list_shapes(shape, TopAbs_SOLID)
    parts += _outside(shape, TopAbs_SHELL, TopAbs_SOLID)
    loose = _outside(shape, TopAbs_FACE, TopAbs_SHELL)
    return parts + ([compound_of(loose)] if loose else [])


def _outside(shape: Any, kind: Any, avoid: Any) -> list[Any]:
    """Sub-shapes of a kind that are not in a shape of another kind."""
    explorer = TopExp_Explorer(shape, kind, avoid)
    found = []
    while explorer.More():
        found.append(explorer.Current())
        explorer.Next()
    return found


def _scaled(shape: Any, scale: float) -> Any:
    if scale == 1.0:
        return shape
    trsf = gp_Trsf()
    trsf.SetScale(gp_Pnt(0, 0, 0), scale)
    return BRepBuilderAPI_Transform(shape, trsf, True).Shape()


def _with_names(bodies: list[NamedShape]) -> list[NamedShape]:
    counts: Counter[str] = Counter()
    named = []
    taken = {b.name for b in bodies}
    for k, body in enumerate(bodies):
        base = body.name or f"body {k + 1}"
        counts[base] += 1
        name = base
        while counts[base] > 1 and (name := f"{base} {counts[base]}") in taken:
            counts[base] += 1
        named.append(replace(body, name=name))
    return named


def compound_of(shapes: list[Any]) -> Any:
    """Several shapes as one; a single one as it is."""
    if len(shapes) == 1:
        return shapes[0]
    builder, compound = BRep_Builder(), TopoDS_Compound()
    builder.MakeCompound(compound)
    for shape in shapes:
        builder.Add(compound, shape)
    return compound


def take_bodies(solid: Solid, wanted: list[int]) -> Solid:
    """Some bodies of a model as a solid of their own; the model itself where all are wanted."""
    if wanted == list(range(len(solid.bodies))):
        return solid
    old_faces = [f for k in wanted for f in _faces_of(solid.bodies[k])]
    new_face = np.full(len(solid.faces) + 1, -1, np.int64)
    new_face[old_faces] = np.arange(len(old_faces))
    keep = np.isin(solid.mesh.face_ids, old_faces)
    mesh = replace(
        solid.mesh, triangles=solid.mesh.triangles[keep], face_ids=new_face[solid.mesh.face_ids[keep]].astype(np.int32)
    )
    old_edges = sorted({e for f in old_faces for loop in solid.faces[f].loops for e in loop})
    new_edge = {e: k for k, e in enumerate(old_edges)}
    body = {k: n for n, k in enumerate(wanted)}
    faces = [
        replace(
            solid.faces[f],
            neighbours=tuple(int(new_face[n]) for n in solid.faces[f].neighbours if new_face[n] >= 0),
            loops=tuple(tuple(new_edge[e] for e in loop) for loop in solid.faces[f].loops),
            body=body[solid.faces[f].body],
        )
        for f in old_faces
    ]
    edges = [
        replace(solid.edges[e], faces=(int(new_face[solid.edges[e].faces[0]]), int(new_face[solid.edges[e].faces[1]])))
        for e in old_edges
    ]
    bodies, at = [], 0
    for k in wanted:
        bodies.append(replace(solid.bodies[k], first_face=at))
        at += solid.bodies[k].faces
    if not solid.is_exact:
        chosen = replace(solid, mesh=mesh, faces=faces, edges=edges, bodies=bodies)
        return replace(chosen, volume_mm3=mesh.volume_mm3(), area_mm2=mesh.area_mm2())
    shapes = bodies_of(solid.shape(), [b.faces for b in solid.bodies])
    shape = compound_of([shapes[k] for k in wanted])
    volume, area, centroid = measure(shape)
    return replace(
        solid, mesh=mesh, faces=faces, edges=edges, bodies=bodies, brep=to_bytes(shape), volume_mm3=volume,
        area_mm2=area, centroid=centroid,
    )  # fmt: skip


def _faces_of(body: Body) -> range:
    return range(body.first_face, body.first_face + body.faces)


def kind_of(shape: Any) -> str:
    """Solid, shell, or faces."""
    if list_shapes(shape, TopAbs_SOLID):
        return "solid"
    return "shell" if list_shapes(shape, TopAbs_SHELL) else "faces"


def bodies_of(shape: Any, face_counts: list[int]) -> list[Any]:
    """The bodies of a compound made by `compound_of`, in order; each has as many faces as counted."""
    if len(face_counts) == 1:
        return [shape]
    found = []
    iterator = TopoDS_Iterator(shape)
    while iterator.More():
        found.append(iterator.Value())
        iterator.Next()
    assert [len(list_faces(s)) for s in found] == face_counts
    return found

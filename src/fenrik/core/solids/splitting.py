"""Take shapes apart into bodies with names of their own, and put bodies together again."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import Any

from OCP.BRep import BRep_Builder
from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
from OCP.gp import gp_Pnt, gp_Trsf
from OCP.TopAbs import TopAbs_FACE, TopAbs_SHELL, TopAbs_SOLID
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS_Compound

from fenrik.core.solids.describe import list_faces, list_shapes
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


def kind_of(shape: Any) -> str:
    """Solid, shell, or faces."""
    if list_shapes(shape, TopAbs_SOLID):
        return "solid"
    return "shell" if list_shapes(shape, TopAbs_SHELL) else "faces"

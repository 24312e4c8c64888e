"""A solid as bytes and back."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np

from fenrik.core.packing import pack, unpack
from fenrik.core.solids.model import Body, Edge, Face, HealthNote, Mesh, Solid


def pack_solid(solid: Solid) -> bytes:
    """All of a solid: triangles, tables, and the exact shape."""
    edges = solid.edges
    points = np.concatenate([e.points for e in edges]) if edges else np.zeros((0, 3))
    meta = {
        "faces": [f.__dict__ for f in solid.faces],
        "edges": [{k: v for k, v in e.__dict__.items() if k != "points"} | {"count": len(e.points)} for e in edges],
        "bodies": [asdict(b) for b in solid.bodies],
        "health": [asdict(h) for h in solid.health],
        "volume": solid.volume_mm3,
        "area": solid.area_mm2,
        "centroid": solid.centroid,
        "warnings": solid.warnings,
        "unit": solid.unit,
        "scale": solid.scale,
        "deflection": solid.mesh.deflection_mm,
    }
    return pack(
        meta,
        vertices=solid.mesh.vertices,
        triangles=solid.mesh.triangles,
        face_ids=solid.mesh.face_ids,
        edge_points=points,
        brep=np.frombuffer(solid.brep, np.uint8),
    )


def unpack_solid(data: bytes) -> Solid:
    """The solid of `pack_solid`."""
    meta, arrays = unpack(data)
    mesh = Mesh(arrays["vertices"], arrays["triangles"], arrays["face_ids"], meta["deflection"])
    edges, at = [], 0
    for e in meta["edges"]:
        count = e.pop("count")
        edges.append(Edge(points=arrays["edge_points"][at : at + count], **_tuples(e)))
        at += count
    x, y, z = meta["centroid"]
    return Solid(
        mesh,
        [Face(**_tuples(f)) for f in meta["faces"]],
        edges,
        arrays["brep"].tobytes(),
        meta["volume"],
        meta["area"],
        (x, y, z),
        meta["warnings"],
        meta["unit"],
        meta["scale"],
        [Body(**b) for b in meta["bodies"]],
        [HealthNote(**_tuples(h)) for h in meta["health"]],
    )


def _tuples(fields: dict[str, Any]) -> dict[str, Any]:
    """Lists as JSON gives them, as the tuples that the tables hold."""
    return {k: _tuple(v) for k, v in fields.items()}


def _tuple(value: Any) -> Any:
    return tuple(_tuple(v) for v in value) if isinstance(value, list) else value

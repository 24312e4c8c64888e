"""Put a new version of the model under a job: references follow the faces and edges that were matched."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenrik.core.errors import FenrikError
from fenrik.core.solids import (
    EdgeReference,
    FaceReference,
    FaceRule,
    Solid,
    edge_reference_to,
    find_edge,
    find_faces,
    reference_to,
)
from fenrik.core.solids.revisions import FaceChange, match_faces

_FACE_FIELDS = {"kind", "area_mm2", "centroid"}
_EDGE_FIELDS = {"edge", "length_mm", "middle"}
_RULE_FIELDS = {"normal", "at_z", "surface", "radius_mm", "concave", "colour"}


@dataclass
class Revised:
    """A document for the new model.

    Attributes:
        document: with references to the new faces and edges.
        followed: how many references were carried over.
        lost: paths of references whose face or edge is gone; they ask for a new pick.
        changes: what became of every face.
    """

    document: dict[str, Any]
    followed: int = 0
    lost: list[str] = field(default_factory=list)
    changes: list[FaceChange] = field(default_factory=list)


def revise(document: dict[str, Any], before: Solid, after: Solid) -> Revised:
    """Carry the references of a job's document over to a new version of its model.

    Rules (all cylinders of a radius, all flat faces at a height) need no carrying over: they are looked up anew.
    """
    changes = match_faces(before, after)
    partner = {c.before: c.after for c in changes if c.before >= 0 and c.after >= 0}
    result = Revised({}, changes=changes)
    result.document = _walk(document, "", before, after, partner, result)
    return result


def _walk(value: Any, path: str, before: Solid, after: Solid, partner: dict[int, int], result: Revised) -> Any:
    if isinstance(value, list):
        return [_walk(v, f"{path}.{_name_of(v, k)}", before, after, partner, result) for k, v in enumerate(value)]
    if not isinstance(value, dict):
        return value
    if value.keys() >= _FACE_FIELDS:
        return _follow(value, path, result, lambda: _next_face(value, before, after, partner))
    if value.keys() >= _EDGE_FIELDS:
        return _follow(value, path, result, lambda: _next_edge(value, before, after, partner))
    if value.get("tolerance_mm") is not None and value.keys() <= _RULE_FIELDS | {"tolerance_mm"}:
        if not _finds(FaceRule.model_validate(value), after):
            result.lost.append(path.lstrip("."))
        return value
    return {k: _walk(v, f"{path}.{k}", before, after, partner, result) for k, v in value.items()}


def _name_of(value: Any, index: int) -> str:
    if isinstance(value, dict):
        for key in ("number", "id", "name"):
            if value.get(key):
                return str(value[key])
    return str(index)


def _follow(value: dict[str, Any], path: str, result: Revised, find: Any) -> dict[str, Any]:
    found = find()
    if found is None:
        result.lost.append(path.lstrip("."))
        return value
    result.followed += 1
    fresh: dict[str, Any] = found.model_dump(mode="json")
    return fresh


def _finds(rule: FaceRule, solid: Solid) -> bool:
    try:
        return bool(find_faces(solid, rule, "rule"))
    except FenrikError:
        return False


def _next_face(value: dict[str, Any], before: Solid, after: Solid, partner: dict[int, int]) -> FaceReference | None:
    try:
        old = find_faces(before, FaceReference.model_validate(value), "face")[0]
    except FenrikError:
        return None
    return reference_to(after, partner[old]) if old in partner else None


def _next_edge(value: dict[str, Any], before: Solid, after: Solid, partner: dict[int, int]) -> EdgeReference | None:
    """The edge between the partners of the old edge's faces, the nearest where there are several."""
    try:
        old = before.edges[find_edge(before, EdgeReference.model_validate(value), "edge")]
    except FenrikError:
        return None
    sides = {partner.get(f, -2) for f in old.faces if f >= 0}
    if -2 in sides:
        return None
    fits = [k for k, e in enumerate(after.edges) if set(e.faces) - {-1} == sides and e.kind == old.kind]
    if not fits:
        return None
    nearest = min(fits, key=lambda k: float(np.linalg.norm(np.subtract(after.edges[k].middle, old.middle))))
    return edge_reference_to(after, nearest)

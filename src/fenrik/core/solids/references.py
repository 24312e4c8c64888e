"""Name a face so that it is found again: by rule, or by what it looks like. Lost is said, never guessed."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.errors import fail
from fenrik.core.solids.model import Solid

Vector = tuple[float, float, float]


class FaceRule(BaseModel):
    """All flat faces that look along `normal`, at a height along z when `at_z` is given (part coordinates, mm)."""

    model_config = ConfigDict(extra="forbid")
    normal: Vector
    at_z: float | None = None
    tolerance_mm: float = Field(default=0.01, gt=0)


class FaceReference(BaseModel):
    """One face by kind, size, place and neighbours, so that it is found again in a revised model."""

    model_config = ConfigDict(extra="forbid")
    kind: str
    area_mm2: float
    centroid: Vector
    normal: Vector = (0.0, 0.0, 0.0)
    radius_mm: float | None = None
    neighbours: int = 0


FaceSelector = FaceRule | FaceReference


def reference_to(solid: Solid, index: int) -> FaceReference:
    """The persistent reference to face `index`."""
    face = solid.faces[index]
    return FaceReference(
        kind=face.kind,
        area_mm2=face.area_mm2,
        centroid=face.centroid,
        normal=face.normal,
        radius_mm=face.radius_mm,
        neighbours=len(face.neighbours),
    )


def find_faces(solid: Solid, selector: FaceSelector, field: str) -> list[int]:
    """Indices of the faces that a selector means.

    Raises:
        FenrikError: naming `field`, when no face or (for a reference) no single face fits.
    """
    found = _by_rule(solid, selector) if isinstance(selector, FaceRule) else _by_look(solid, selector)
    if not found:
        raise fail(
            field,
            "is lost: no face of the part fits it.",
            "Pick the face again.",
            selector.model_dump(exclude_none=True),
        )
    return found


def _by_rule(solid: Solid, rule: FaceRule) -> list[int]:
    normal = np.asarray(rule.normal, dtype=float)
    length = float(np.linalg.norm(normal))
    if length < 1e-12:
        raise fail("face.normal", "has no length.", "Use for example [0, 0, 1].", list(rule.normal))
    normal /= length
    return [
        i
        for i, f in enumerate(solid.faces)
        if f.kind == "plane"
        and float(np.dot(f.normal, normal)) > 1 - 1e-6
        and (rule.at_z is None or abs(f.centroid[2] - rule.at_z) <= rule.tolerance_mm)
    ]


def _by_look(solid: Solid, wanted: FaceReference) -> list[int]:
    diagonal = float(np.linalg.norm(np.ptp(solid.bounds(), axis=0)))
    fits = []
    for i, f in enumerate(solid.faces):
        if f.kind != wanted.kind or abs(f.area_mm2 - wanted.area_mm2) > 0.01 * max(wanted.area_mm2, 1e-9):
            continue
        if wanted.radius_mm is not None and (f.radius_mm is None or abs(f.radius_mm - wanted.radius_mm) > 1e-3):
            continue
        apart = float(np.linalg.norm(np.subtract(f.centroid, wanted.centroid)))
        if apart > 0.002 * diagonal or float(np.dot(f.normal, wanted.normal)) < -0.5:
            continue
        fits.append((apart + 0.01 * diagonal * (len(f.neighbours) != wanted.neighbours), i))
    fits.sort()
    if len(fits) > 1 and fits[1][0] - fits[0][0] < 1e-6 * diagonal:
        return []
    return [fits[0][1]] if fits else []

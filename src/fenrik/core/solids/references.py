"""Name faces and edges so that they are found again: by rule or by look. Lost is said, never guessed."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from fenrik.core.errors import fail
from fenrik.core.solids.model import Edge, Face, Solid

Vector = tuple[float, float, float]
NEAR_SHARE = 0.002
"""How far a face may have moved, as a share of the part's diagonal, and still be taken for the same one."""


class FaceRule(BaseModel):
    """All faces that fulfil every condition given (part coordinates, mm); needs no new pick when the model changes."""

    model_config = ConfigDict(extra="forbid")
    normal: Vector | None = Field(default=None, description="flat faces that look along this")
    at_z: float | None = Field(default=None, description="height of the middle along z")
    surface: Literal["plane", "cylinder", "cone", "sphere", "torus", "freeform"] | None = None
    radius_mm: float | None = Field(default=None, gt=0, description="of cylinders, spheres and fillets")
    concave: bool | None = Field(default=None, description="bores and inner corners, or the opposite")
    colour: str | None = Field(default=None, pattern="^#[0-9a-f]{6}$")
    tolerance_mm: float = Field(default=0.01, gt=0)

    @model_validator(mode="after")
    def _says_something(self) -> FaceRule:
        if all(v is None for k, v in self if k != "tolerance_mm"):
            raise ValueError("the rule has no condition; give a normal, height, surface, radius or colour")
        return self


class FaceReference(BaseModel):
    """One face by kind, size, place and neighbours, so that it is found again in a revised model."""

    model_config = ConfigDict(extra="forbid")
    kind: str
    area_mm2: float
    centroid: Vector
    normal: Vector = (0.0, 0.0, 0.0)
    radius_mm: float | None = None
    neighbours: int = 0


class EdgeReference(BaseModel):
    """One edge by kind, length and place."""

    model_config = ConfigDict(extra="forbid")
    edge: str = Field(description="line, circle or curve")
    length_mm: float
    middle: Vector
    radius_mm: float | None = None


FaceSelector = FaceRule | FaceReference
Selector = FaceRule | FaceReference | EdgeReference


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


def edge_reference_to(solid: Solid, index: int) -> EdgeReference:
    """The persistent reference to edge `index`."""
    edge = solid.edges[index]
    return EdgeReference(edge=edge.kind, length_mm=edge.length_mm, middle=_middle(edge), radius_mm=edge.radius_mm)


def find_faces(solid: Solid, selector: FaceSelector, field: str) -> list[int]:
    """Indices of the faces that a selector means.

    Raises:
        FenrikError: naming `field`, when no face or (for a reference) no single face fits.
    """
    found = _by_rule(solid, selector) if isinstance(selector, FaceRule) else _by_look(solid, selector)
    if not found:
        raise _lost(field, "face", selector)
    return found


def find_edge(solid: Solid, reference: EdgeReference, field: str) -> int:
    """The edge that a reference means.

    Raises:
        FenrikError: naming `field`, when no single edge fits.
    """
    diagonal = _diagonal(solid)
    fits = []
    for i, e in enumerate(solid.edges):
        if e.kind != reference.edge or abs(e.length_mm - reference.length_mm) > 0.01 * max(reference.length_mm, 1e-9):
            continue
        apart = float(np.linalg.norm(np.subtract(_middle(e), reference.middle)))
        if apart <= NEAR_SHARE * diagonal:
            fits.append((apart, i))
    found = _single(fits, diagonal)
    if found is None:
        raise _lost(field, "edge", reference)
    return found


def find_selected(solid: Solid, selector: Selector, field: str) -> tuple[list[int], list[int]]:
    """Faces and edges that any selector means; raises like `find_faces` and `find_edge`."""
    if isinstance(selector, EdgeReference):
        return [], [find_edge(solid, selector, field)]
    return find_faces(solid, selector, field), []


def _lost(field: str, what: str, selector: BaseModel) -> Exception:
    return fail(
        field,
        f"is lost: no {what} of the part fits it.",
        f"Pick the {what} again.",
        selector.model_dump(exclude_none=True),
    )


def _middle(edge: Edge) -> Vector:
    if edge.turn:
        return edge.middle
    x, y, z = edge.points.mean(axis=0).tolist()
    return x, y, z


def _diagonal(solid: Solid) -> float:
    return float(np.linalg.norm(np.ptp(solid.bounds(), axis=0)))


def _by_rule(solid: Solid, rule: FaceRule) -> list[int]:
    normal = None
    if rule.normal is not None:
        normal = np.asarray(rule.normal, dtype=float)
        length = float(np.linalg.norm(normal))
        if length < 1e-12:
            raise fail("face.normal", "has no length.", "Use for example [0, 0, 1].", list(rule.normal))
        normal = normal / length
    return [i for i, f in enumerate(solid.faces) if _fulfils(f, rule, normal)]


def _fulfils(face: Face, rule: FaceRule, normal: np.ndarray | None) -> bool:
    if normal is not None and (face.kind != "plane" or float(np.dot(face.normal, normal)) <= 1 - 1e-6):
        return False
    if rule.at_z is not None and abs(face.centroid[2] - rule.at_z) > rule.tolerance_mm:
        return False
    if rule.surface is not None and face.kind != rule.surface:
        return False
    if rule.radius_mm is not None:
        radius = face.minor_radius_mm if face.kind == "torus" else face.radius_mm
        if radius is None or abs(radius - rule.radius_mm) > rule.tolerance_mm:
            return False
    if rule.concave is not None and face.concave != rule.concave:
        return False
    return rule.colour is None or face.colour == rule.colour


def _by_look(solid: Solid, wanted: FaceReference) -> list[int]:
    diagonal = _diagonal(solid)
    fits = []
    as_large = np.abs(solid.face_areas - wanted.area_mm2) <= 0.01 * max(wanted.area_mm2, 1e-9)
    for i in np.flatnonzero(as_large).tolist():
        f = solid.faces[i]
        if f.kind != wanted.kind:
            continue
        if wanted.radius_mm is not None and (f.radius_mm is None or abs(f.radius_mm - wanted.radius_mm) > 1e-3):
            continue
        apart = float(np.linalg.norm(np.subtract(f.centroid, wanted.centroid)))
        # Planes have a side; the axis of a cylinder may point either way after another export.
        turned = float(np.dot(f.normal, wanted.normal))
        if apart > NEAR_SHARE * diagonal or (f.kind == "plane" and turned < -0.5):
            continue
        fits.append((apart + 0.01 * diagonal * (len(f.neighbours) != wanted.neighbours), i))
    found = _single(fits, diagonal)
    return [] if found is None else [found]


def _single(fits: list[tuple[float, int]], diagonal: float) -> int | None:
    """The best fit; None where there is none, or two are as good."""
    fits.sort()
    if not fits or (len(fits) > 1 and fits[1][0] - fits[0][0] < 1e-6 * diagonal):
        return None
    return fits[0][1]

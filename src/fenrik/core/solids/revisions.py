"""Match the faces of two versions of a model, and say what changed.

First faces that are the same within tolerance are paired; then what is left is paired by kind, direction, and how many
already paired neighbours they share, the best pairs first. What finds no partner is gone or new.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.spatial import cKDTree

from fenrik.core.solids.model import Face, Solid

SAME_MM = 1e-4
SAME_SHARE = 1e-6
LEAST_SCORE = 0.5
MAX_CANDIDATES = 40


@dataclass(frozen=True)
class FaceChange:
    """What became of one face.

    Attributes:
        change: same, moved, resized (or reshaped), gone, or new.
        before, after: its number in either model, −1 where it is not there.
        words: what changed, with numbers.
    """

    change: Literal["same", "moved", "resized", "gone", "new"]
    before: int
    after: int
    words: str = ""


def match_faces(before: Solid, after: Solid) -> list[FaceChange]:
    """Pair the faces of two versions; in the order of the old model, new faces last."""
    partner = _same(before, after)
    _by_neighbours(before, after, partner)
    changes = []
    for i, face in enumerate(before.faces):
        j = partner.get(i, -1)
        changes.append(_describe(face, i, after.faces[j], j) if j >= 0 else FaceChange("gone", i, -1, _name(face)))
    taken = set(partner.values())
    changes += [FaceChange("new", -1, j, _name(f)) for j, f in enumerate(after.faces) if j not in taken]
    return changes


def _same(before: Solid, after: Solid) -> dict[int, int]:
    """Faces equal in kind, place, size and direction."""
    if not before.faces or not after.faces:
        return {}
    tree = cKDTree(np.array([f.centroid for f in after.faces]))
    near = tree.query_ball_point(np.array([f.centroid for f in before.faces]), SAME_MM)
    partner: dict[int, int] = {}
    taken: set[int] = set()
    for i, candidates in enumerate(near):
        for j in sorted(candidates):
            if j not in taken and _is_same(before.faces[i], after.faces[j]):
                partner[i] = j
                taken.add(j)
                break
    return partner


def _is_same(a: Face, b: Face) -> bool:
    if a.kind != b.kind or abs(a.area_mm2 - b.area_mm2) > SAME_SHARE * max(a.area_mm2, 1.0):
        return False
    if a.kind == "plane" and float(np.dot(a.normal, b.normal)) < 1 - 1e-6:
        return False
    boxes = np.abs(np.subtract([a.low, a.high], [b.low, b.high])).max()
    return a.concave == b.concave and float(boxes) < 10 * SAME_MM


def _by_neighbours(before: Solid, after: Solid, partner: dict[int, int]) -> None:
    """Pair the rest, the surest pairs first; every new pair makes its neighbours surer."""
    taken = set(partner.values())
    left = [i for i in range(len(before.faces)) if i not in partner]
    free = [j for j in range(len(after.faces)) if j not in taken]
    diagonal = float(np.linalg.norm(np.ptp(before.bounds(), axis=0)))
    while left and free:
        scores = {
            (i, j): _score(before.faces[i], after.faces[j], partner, diagonal)
            for i in left
            for j in _candidates(before.faces[i], free, after)
        }
        sure = _mutual(scores)
        if not sure:
            return
        partner.update(sure)
        left = [i for i in left if i not in partner]
        free = [j for j in free if j not in sure.values()]


def _mutual(scores: dict[tuple[int, int], float]) -> dict[int, int]:
    """Pairs that are each other's best and good enough."""
    best_after: dict[int, tuple[float, int]] = {}
    best_before: dict[int, tuple[float, int]] = {}
    for (i, j), score in scores.items():
        if score >= LEAST_SCORE:
            best_after[i] = max(best_after.get(i, (-1.0, -1)), (score, j))
            best_before[j] = max(best_before.get(j, (-1.0, -1)), (score, i))
    return {i: j for i, (_, j) in best_after.items() if best_before[j][1] == i}


def _candidates(face: Face, free: list[int], after: Solid) -> list[int]:
    """Free faces of the same kind and direction, the nearest first."""
    fits = [
        j
        for j in free
        if after.faces[j].kind == face.kind
        and after.faces[j].concave == face.concave
        and (face.kind != "plane" or float(np.dot(after.faces[j].normal, face.normal)) > 0.99)
    ]
    fits.sort(key=lambda j: float(np.linalg.norm(np.subtract(after.faces[j].centroid, face.centroid))))
    return fits[:MAX_CANDIDATES]


def _score(a: Face, b: Face, partner: dict[int, int], diagonal: float) -> float:
    """Likeness from 0 to about 2: shared neighbours, size, radius and place."""
    known = [partner[n] for n in a.neighbours if n in partner]
    shared = sum(n in b.neighbours for n in known) / max(len(a.neighbours), len(b.neighbours), 1)
    size = min(a.area_mm2, b.area_mm2) / max(a.area_mm2, b.area_mm2, 1e-12)
    radius = 1.0 if a.radius_mm is None or b.radius_mm is None or abs(a.radius_mm - b.radius_mm) < 1e-3 else 0.4
    apart = float(np.linalg.norm(np.subtract(a.centroid, b.centroid))) / max(diagonal, 1e-12)
    return shared + 0.4 * size * radius + 0.4 * max(0.0, 1.0 - 8.0 * apart)


def _describe(a: Face, i: int, b: Face, j: int) -> FaceChange:
    if _is_same(a, b):
        return FaceChange("same", i, j)
    shift = np.subtract(b.centroid, a.centroid)
    resized = abs(a.area_mm2 - b.area_mm2) > 1e-4 * max(a.area_mm2, 1e-9)
    if a.radius_mm is not None and b.radius_mm is not None and abs(a.radius_mm - b.radius_mm) > 1e-4:
        return FaceChange("resized", i, j, f"{_name(a)}: radius {a.radius_mm:.4g} mm is {b.radius_mm:.4g} mm")
    if resized:
        return FaceChange("resized", i, j, f"{_name(a)}: area {a.area_mm2:.4g} mm² is {b.area_mm2:.4g} mm²")
    x, y, z = (float(v) + 0.0 for v in np.round(shift, 4))
    return FaceChange("moved", i, j, f"{_name(a)} moved by {x:g}, {y:g}, {z:g} mm")


def _name(face: Face) -> str:
    radius = f" R {face.radius_mm:.4g}" if face.radius_mm is not None else ""
    x, y, z = (round(v, 2) + 0.0 for v in face.centroid)
    return f"{face.kind}{radius} at {x:g}, {y:g}, {z:g}"

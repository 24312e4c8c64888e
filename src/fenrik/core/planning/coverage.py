"""What of a part no operation makes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from pydantic import BaseModel

from fenrik.core.build import Build
from fenrik.core.build.picks import picked_faces
from fenrik.core.frames import Points
from fenrik.core.job import Operation
from fenrik.core.recognise.features import Chamfer, Feature, Hole, HoleStep, OuterProfile, Pocket, Vector
from fenrik.core.strategies.picked import MillingParams, TargetParams
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.strategies.targets import OutlineTarget

ALONG = 1 - 1e-6
OVER_MM = 0.01


class Uncovered(BaseModel):
    """A feature that no operation makes."""

    name: str
    kind: str
    words: str
    faces: list[int]
    direction: Vector | None = None
    why: str = ""


class Coverage(BaseModel):
    """How many features there are, and which of them are left."""

    features: int
    uncovered: list[Uncovered]


@dataclass(frozen=True)
class Made:
    """What the operations of a job make.

    Attributes:
        faces: numbers of the faces that they are applied to.
        roughed: directions along which roughing in levels leaves nothing.
        outlined: whether a contour runs round the whole part.
        faced: setups that are faced.
        begun: directions, each with the faces of bores that a row from there makes down to a part of their depth.
    """

    faces: frozenset[int]
    roughed: list[Points]
    outlined: bool
    faced: frozenset[str]
    begun: list[tuple[Points, frozenset[int]]]

    def begun_from(self, up: Points) -> frozenset[int]:
        """Faces of bores that are made down to a part of their depth from a side."""
        return frozenset().union(*(faces for d, faces in self.begun if float(d @ up) > ALONG))

    def covers(self, feature: Feature) -> bool:
        """Whether a feature is made."""
        if isinstance(feature, OuterProfile) and self.outlined:
            return True
        if isinstance(feature, Hole):
            return all(self.faces & set(s.faces) for s in bores_of(feature))
        if self.faces & set(feature.faces):
            return True
        if isinstance(feature, Pocket | OuterProfile) and feature.direction is not None:
            return any(float(d @ feature.direction) > ALONG for d in self.roughed)
        return False


def bores_of(hole: Hole) -> list[HoleStep]:
    """The cylindrical steps of a hole, from its opening down; all of its steps where it has none."""
    return [s for s in hole.steps if s.kind in ("bore", "counterbore")] or hole.steps


def what_is_made(build: Build) -> Made:
    """What all operations that are switched on make together.

    A hole counts as made when operations other than spotting are applied to each of its bores. Roughing in levels with
    no allowance makes every pocket and outline that opens along its setup's direction.

    Bores that a row goes down in part are made when another comes from the far side.

    Raises:
        FenrikError: when the part is missing, or picked geometry is lost.
    """
    faces: set[int] = set()
    roughed: list[Points] = []
    begun: list[tuple[Points, frozenset[int]]] = []
    outlined = False
    faced: set[str] = set()
    for operation in build.job.operations:
        if not operation.enabled or build.job.setup(operation.setup).makes:
            continue
        params = operation.params
        strategy = STRATEGIES[params.strategy]
        makes = strategy.makes(params)
        up = build.frame(build.job.setup(operation.setup)).rotation[:, 2]
        if makes == "the top":
            faced.add(operation.setup)
        if makes == "all from above":
            roughed.append(up)
        if makes == "far bores":
            faces |= _bored_back(build, operation, up)
        elif strategy.for_holes and isinstance(params, MillingParams) and params.bottom_mm > 0:
            begun.append((up, frozenset(picked_faces(build, operation))))
        elif makes in ("what is picked", "the top"):
            faces |= set(picked_faces(build, operation))
        if isinstance(params, TargetParams):
            outlined |= any(isinstance(t, OutlineTarget) for t in params.targets)
    faces |= {f for a, here in begun for b, there in begun if float(a @ b) < -ALONG for f in here & there}
    return Made(frozenset(faces), roughed, outlined, frozenset(faced), begun)


def _bored_back(build: Build, operation: Operation, up: Points) -> set[int]:
    """Faces of the far counterbores of the holes that a row bores back, whichever of their faces it names."""
    picked = set(picked_faces(build, operation))
    holes = [from_side(h, up) for h in build.recognition().holes if picked & set(h.faces)]
    return {f for h in holes for s in far_bores(h) for f in s.faces}


def from_side(hole: Hole, up: Points) -> Hole:
    """A hole with its steps from where it is looked at; a through hole may open the other way."""
    if float(np.array(hole.direction) @ up) > 0:
        return hole
    return hole.model_copy(update={"steps": hole.steps[::-1]})


def far_bores(hole: Hole) -> list[HoleStep]:
    """The bores that lie under a narrower one."""
    bores = bores_of(hole)
    core = min(range(len(bores)), key=lambda k: bores[k].diameter_mm)
    return [s for s in bores[core + 1 :] if s.diameter_mm > bores[core].diameter_mm + OVER_MM]


def coverage(build: Build) -> Coverage:
    """Holes, pockets, chamfers and the outline against all operations that are switched on.

    Raises:
        FenrikError: when the part is missing, or picked geometry is lost.
    """
    found = build.recognition()
    features: list[Feature] = [*found.holes, *found.pockets, *found.chamfers, *found.outer_profiles]
    made = what_is_made(build)
    left = [f for f in features if not made.covers(f)]
    return Coverage(features=len(features), uncovered=[as_uncovered(f) for f in left])


def as_uncovered(feature: Feature, why: str = "") -> Uncovered:
    """A feature told in words."""
    words = feature.name
    kind = "outline"
    if isinstance(feature, Hole):
        kind, words = "hole", f"⌀{feature.diameter_mm:g}, {feature.depth_mm:.1f} deep"
    elif isinstance(feature, Pocket):
        kind, words = feature.kind, f"{feature.length_mm:.1f} × {feature.width_mm:.1f}, {feature.depth_mm:.1f} deep"
    elif isinstance(feature, Chamfer):
        kind, words = "chamfer", f"{feature.width_mm:.2f} × {feature.angle_deg:.0f}°"
    return Uncovered(
        name=feature.name,
        kind=kind,
        words=words,
        faces=feature.faces,
        direction=feature.direction,
        why=why or feature.why,
    )

"""A machine in motion: where the frames of its joints stand, and how near two of its bodies come along a way.

Distances of convex bodies are those of a general-purpose library (coal, by Gilbert, Johnson and Keerthi). Between two
rows nothing is missed: no place of a body moves farther than the sum of what its joints make of it, so a distance less
that sum is a bound; where it does not suffice the step is halved (conservative advancement: B. Mirtich, "Impulse-based
dynamic simulation of rigid body systems", 1996).
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import coal
import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.machines.bodies import hull_of
from fenrik.core.machines.chain import Joint

FINE_MM = 0.02
"""A step in which nothing moves farther is not halved again."""


@dataclass(frozen=True)
class Solids:
    """A body as the library has it.

    Attributes:
        name: as findings call it. frame: number of the joint that moves it, or `STILL`.
        pieces: convex hulls (corners, triangles), or meshes. hollow: meshes, of which only the surface is known.
    """

    name: str
    frame: int
    pieces: list[tuple[Points, NDArray[Any]]]
    hollow: bool = False

    @classmethod
    def around(cls, name: str, frame: int, groups: list[Points]) -> Solids:
        """The convex hull of each group of places."""
        return cls(name, frame, [hull_of(g) for g in groups])

    @cached_property
    def shapes(self) -> list[Any]:
        return [_mesh(p, t) if self.hollow else _convex(p, t) for p, t in self.pieces]

    @cached_property
    def hulls(self) -> list[Any]:
        """Convex shapes round all: the pieces themselves, or what encloses the meshes."""
        return [_convex(*hull_of(self.corners))] if self.hollow else self.shapes

    @cached_property
    def corners(self) -> Points:
        return np.vstack([p for p, _ in self.pieces])


def _convex(places: Points, triangles: NDArray[Any]) -> Any:
    corners = coal.StdVec_Vec3s()
    for p in places:
        corners.append(np.asarray(p, dtype=np.float64))
    sides = coal.StdVec_Triangle()
    for a, b, c in triangles.tolist():
        sides.append(coal.Triangle(a, b, c))
    return coal.Convex(corners, sides)


def _mesh(places: Points, triangles: NDArray[Any]) -> Any:
    model = coal.BVHModelOBBRSS()
    model.beginModel(len(triangles), len(places))
    model.addVertices(np.ascontiguousarray(places, dtype=np.float64))
    model.addTriangles(np.ascontiguousarray(triangles, dtype=np.int32))
    model.endModel()
    return model


@dataclass(frozen=True)
class Near:
    """Where two bodies come nearer than is enough: after which row, when (share of the step), and how near; below 0
    how deep one stands in the other, where that can be told."""

    row: int
    share: float
    mm: float


@dataclass
class Linkage:
    """The joints of a machine, those of each branch in their order from the base; values are those of the machine."""

    joints: list[Joint]
    _request: Any = field(default_factory=coal.DistanceRequest)

    @cached_property
    def branches(self) -> tuple[list[int], list[int]]:
        """Numbers of the joints that carry the tool, and of those that carry the work, from the base on."""
        tool = [k for k, j in enumerate(self.joints) if j.carries == "tool"]
        return tool, [k for k, j in enumerate(self.joints) if j.carries == "work"]

    @cached_property
    def _axes(self) -> list[tuple[Points, Points, bool]]:
        """Direction, origin, and whether it is linear, of each joint."""
        return [
            (np.array(j.direction) / np.linalg.norm(j.direction), np.array(j.origin), j.kind == "linear")
            for j in self.joints
        ]

    def before(self, frame: int) -> list[int]:
        """The joints from the base to a frame, the frame's own last."""
        for branch in self.branches:
            if frame in branch:
                return branch[: branch.index(frame) + 1]
        return []

    def neighbours(self, a: int, b: int) -> bool:
        """Whether bodies of two frames hang on one another, so that they touch by their making."""
        one, two = self.before(a), self.before(b)
        if len(one) > len(two):
            one, two = two, one
        return two[: len(one)] == one and len(two) - len(one) <= 1

    def pose(self, frame: int, values: Points) -> tuple[Points, Points]:
        """How a frame stands for values (joints,): rotation (3, 3) and shift (3,)."""
        turn, shift = np.eye(3), np.zeros(3)
        for k in self.before(frame):
            along, origin, linear = self._axes[k]
            if linear:
                shift = shift + turn @ (values[k] * along)
                continue
            own = _rotation(along, float(np.deg2rad(values[k])))
            shift = shift + turn @ (origin - own @ origin)
            turn = turn @ own
        return turn, shift

    def distance_mm(self, a: Solids, b: Solids, values: Points, enough_mm: float = np.inf) -> float:
        """The gap between two bodies; not above 0 where they touch. One that is more than is enough may be less than it
        is: meshes are looked at only where what encloses them comes nearer."""
        places = [coal.Transform3s(*self.pose(s.frame, values)) for s in (a, b)]
        gap = self._least(a.hulls, b.hulls, places)
        if gap > enough_mm or not (a.hollow or b.hollow):
            return gap
        return self._least(a.shapes, b.shapes, places)

    def _least(self, first: list[Any], second: list[Any], places: list[Any]) -> float:
        result = coal.DistanceResult()
        least = np.inf
        for one in first:
            for other in second:
                result.clear()
                least = min(least, coal.distance(one, places[0], other, places[1], self._request, result))
        return float(least)

    def bounds_mm(self, a: Solids, b: Solids, values: Points) -> Points:
        """How far a place of the one may move against the other in each step between rows (n, joints), (n − 1,)."""
        total = np.zeros(max(len(values) - 1, 0))
        shared = set(self.before(a.frame)) & set(self.before(b.frame))
        for solids in (a, b):
            chain = self.before(solids.frame)
            for place, k in enumerate(chain):
                if k in shared:
                    continue
                moved = np.abs(np.diff(values[:, k]))
                if self.joints[k].kind == "linear":
                    total += moved
                    continue
                reach = float(np.linalg.norm(solids.corners - np.array(self.joints[k].origin), axis=1).max())
                reach += sum(
                    float(np.abs(values[:, i]).max(initial=0.0))
                    for i in chain[place + 1 :]
                    if self.joints[i].kind == "linear"
                )
                reach += sum(
                    float(np.linalg.norm(np.subtract(self.joints[i].origin, self.joints[k].origin)))
                    for i in chain[place + 1 :]
                    if self.joints[i].kind == "rotary"
                )
                total += np.deg2rad(moved) * reach
        return total

    def closest(self, a: Solids, b: Solids, values: Points, enough_mm: float) -> Iterator[Near]:
        """Where two bodies come nearer than is enough along rows of values, between them too."""
        bound = self.bounds_mm(a, b, values)
        gone = np.concatenate([[0.0], np.cumsum(bound)])
        row, last = 0, len(values) - 1
        while row <= last:
            gap = self.distance_mm(a, b, values[row], enough_mm)
            if gap <= enough_mm:
                yield Near(max(row - 1, 0), 1.0 if row else 0.0, gap)
                row += 1
                continue
            # All rows up to which nothing can have come so near are passed over.
            safe = int(np.searchsorted(gone, gone[row] + gap - enough_mm, "right")) - 1
            if safe >= last:
                return
            if safe > row:
                row = safe
                continue
            ends = gap, self.distance_mm(a, b, values[row + 1], enough_mm)
            yield from self._within(a, b, values[row : row + 2], (0.0, 1.0), ends, float(bound[row]), enough_mm, row)
            row += 1

    def _within(
        self, a: Solids, b: Solids, values: Points, span: tuple[float, float], gaps: tuple[float, float], bound: float,
        enough_mm: float, row: int,
    ) -> Iterator[Near]:  # fmt: skip
        """Where they come too near within a step (two rows of values), of which the gaps at both ends are known."""
        if 0.5 * (gaps[0] + gaps[1] - bound) > enough_mm:
            return
        if bound < FINE_MM or min(gaps) <= enough_mm:
            yield Near(row, span[0] if gaps[0] < gaps[1] else span[1], min(gaps))
            return
        middle = 0.5 * (span[0] + span[1])
        gap = self.distance_mm(a, b, values[0] + middle * (values[1] - values[0]), enough_mm)
        for part, ends in (((span[0], middle), (gaps[0], gap)), ((middle, span[1]), (gap, gaps[1]))):
            near = next(self._within(a, b, values, part, ends, 0.5 * bound, enough_mm, row), None)
            if near is not None:
                yield near
                return


def _rotation(along: Points, angle: float) -> Points:
    """The matrix of a turn about a unit vector (Rodrigues' formula): asked for one by one, where SciPy takes ten times
    as long."""
    x, y, z = along.tolist()
    c, s = math.cos(angle), math.sin(angle)
    t = 1.0 - c
    return np.array(
        [
            [c + x * x * t, x * y * t - z * s, x * z * t + y * s],
            [y * x * t + z * s, c + y * y * t, y * z * t - x * s],
            [z * x * t - y * s, z * y * t + x * s, c + z * z * t],
        ]
    )

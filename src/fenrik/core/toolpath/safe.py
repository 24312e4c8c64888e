"""Safe surfaces: beyond them a tool may go at rapid. A plane, a cylinder, a sphere, or one place of the machine.

Each says which places are beyond it, where a tool that leaves along a direction comes out, and how it goes from one
place beyond to another without coming back within.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.frames import Frame, Points
from fenrik.core.toolpath.model import Motion

ON_MM = 1e-9
"""A place that lies within by less than rounding counts as beyond."""


@dataclass(frozen=True)
class Way:
    """Motions one after another: ends (n, 3), `Motion` (n,), centres and normals (n, 3) of arcs."""

    point: Points
    motion: np.ndarray
    centre: Points
    normal: Points

    @classmethod
    def straight(cls, *places: Points) -> Way:
        """Lines to places."""
        n = len(places)
        up = np.tile([0.0, 0.0, 1.0], (n, 1))
        return cls(np.array(places, dtype=np.float64).reshape(-1, 3), np.zeros(n, np.int8), np.zeros((n, 3)), up)

    def then(self, other: Way) -> Way:
        """Both, one after the other."""
        names = self.__dataclass_fields__
        return Way(*(np.concatenate([getattr(self, k), getattr(other, k)]) for k in names))


class Safe(ABC):
    """What all safe surfaces can say; places and directions in the frame in which the surface is given."""

    @abstractmethod
    def beyond(self, points: Points) -> np.ndarray:
        """Whether places (n, 3) lie on it or beyond it, (n,)."""

    @abstractmethod
    def leave(self, point: Points, along: Points) -> Points:
        """Where a tool that goes from a place (3,) along a direction comes out; the place itself if it is beyond.

        Raises:
            FenrikError: when it never does.
        """

    @abstractmethod
    def over(self, start: Points, end: Points) -> Way:
        """From one place beyond to another, keeping beyond."""

    @abstractmethod
    def in_frame(self, frame: Frame) -> Safe:
        """The same surface, given in part coordinates, in a frame's own."""


@dataclass(frozen=True)
class SafePlane(Safe):
    """Beyond a plane, on the side of its normal (3,), of unit length."""

    point: Points
    normal: Points

    @classmethod
    def at_height(cls, height_mm: float) -> SafePlane:
        """Square to z."""
        return cls(np.array([0.0, 0.0, height_mm]), np.array([0.0, 0.0, 1.0]))

    def beyond(self, points: Points) -> np.ndarray:
        return np.asarray((np.atleast_2d(points) - self.point) @ self.normal >= -ON_MM)

    def leave(self, point: Points, along: Points) -> Points:
        short = float((self.point - point) @ self.normal)
        if short <= ON_MM:
            return np.asarray(point, dtype=np.float64)
        rate = float(np.asarray(along) @ self.normal)
        if rate < 1e-9:
            raise _never("plane")
        return np.asarray(point + short / rate * np.asarray(along))

    def over(self, start: Points, end: Points) -> Way:
        return Way.straight(end)

    def in_frame(self, frame: Frame) -> SafePlane:
        return SafePlane(frame.to_local(self.point), frame.direction_to_local(self.normal))


@dataclass(frozen=True)
class SafeCylinder(Safe):
    """Beyond a radius about an axis: a point of it (3,), and its direction (3,), of unit length."""

    point: Points
    axis: Points
    radius_mm: float

    def beyond(self, points: Points) -> np.ndarray:
        return np.asarray(np.linalg.norm(self._spokes(np.atleast_2d(points)), axis=1) >= self.radius_mm - ON_MM)

    def leave(self, point: Points, along: Points) -> Points:
        spoke, rate = self._spokes(point), self._across(np.asarray(along, dtype=np.float64))
        return _out_of_round(point, along, spoke, rate, self.radius_mm, "cylinder")

    def over(self, start: Points, end: Points) -> Way:
        """Straight where that keeps beyond; else round the axis the shorter way, evenly along it, and then out."""
        a, b = self._spokes(start), self._spokes(end)
        return _round(start, end, a, b, self.axis, self.radius_mm)

    def in_frame(self, frame: Frame) -> SafeCylinder:
        return SafeCylinder(frame.to_local(self.point), frame.direction_to_local(self.axis), self.radius_mm)

    def _across(self, vectors: Points) -> Points:
        return vectors - (vectors @ self.axis)[..., None] * self.axis

    def _spokes(self, points: Points) -> Points:
        """From the axis to places, square to it."""
        return self._across(np.asarray(points, dtype=np.float64) - self.point)


@dataclass(frozen=True)
class SafeSphere(Safe):
    """Beyond a radius about a place (3,)."""

    centre: Points
    radius_mm: float

    def beyond(self, points: Points) -> np.ndarray:
        away = np.linalg.norm(np.atleast_2d(points) - self.centre, axis=1)
        return np.asarray(away >= self.radius_mm - ON_MM)

    def leave(self, point: Points, along: Points) -> Points:
        spoke = np.asarray(point, dtype=np.float64) - self.centre
        return _out_of_round(point, along, spoke, np.asarray(along, dtype=np.float64), self.radius_mm, "sphere")

    def over(self, start: Points, end: Points) -> Way:
        """Straight where that keeps beyond; else along a great circle of the start's own radius, and then out."""
        a, b = (np.asarray(p, dtype=np.float64) - self.centre for p in (start, end))
        normal = np.cross(a, b)
        size = float(np.linalg.norm(normal))
        if size < 1e-9 * float(np.linalg.norm(a) * np.linalg.norm(b)):
            # Opposite (or alike): any plane through both will do; the steadiest one.
            normal = np.cross(a, np.eye(3)[int(np.abs(a).argmin())])
            size = float(np.linalg.norm(normal))
        return _round(start, end, a, b, normal / size, self.radius_mm)

    def in_frame(self, frame: Frame) -> SafeSphere:
        return SafeSphere(frame.to_local(self.centre), self.radius_mm)


@dataclass(frozen=True)
class SafePlace(Safe):
    """One place (3,), where a position of the machine puts the tip: all ways lead over it, straight."""

    point: Points

    def beyond(self, points: Points) -> np.ndarray:
        return np.asarray(np.linalg.norm(np.atleast_2d(points) - self.point, axis=1) <= ON_MM)

    def leave(self, point: Points, along: Points) -> Points:
        return np.asarray(self.point, dtype=np.float64)

    def over(self, start: Points, end: Points) -> Way:
        return Way.straight(self.point, end)

    def in_frame(self, frame: Frame) -> SafePlace:
        return SafePlace(frame.to_local(self.point))


def _out_of_round(
    point: Points, along: Points, spoke: Points, rate: Points, radius: float, name: str
) -> Points:  # fmt: skip
    """Where a place with a spoke from the middle, which changes at a rate along a way, comes to a radius."""
    short = radius * radius - float(spoke @ spoke)
    if short <= 2 * radius * ON_MM:
        return np.asarray(point, dtype=np.float64)
    a, half = float(rate @ rate), float(spoke @ rate)
    if a < 1e-18:
        raise _never(name)
    t = (-half + np.sqrt(half * half + a * short)) / a
    return np.asarray(point + t * np.asarray(along))


def _round(start: Points, end: Points, a: Points, b: Points, normal: Points, radius: float) -> Way:
    """Round a middle from spoke a to the direction of spoke b, and on to the end; straight where that keeps beyond.

    What start and end lie apart along the normal is made on the way round.
    """
    d = b - a
    t = min(max(-float(a @ d) / max(float(d @ d), 1e-300), 0.0), 1.0)
    if float(np.linalg.norm(a + t * d)) >= radius - ON_MM:
        return Way.straight(end)
    size_a, size_b = float(np.linalg.norm(a)), float(np.linalg.norm(b))
    turned = np.asarray(end + (size_a / size_b - 1.0) * b)
    left = float(np.cross(a, b) @ normal) >= 0.0
    motion = np.array([Motion.ARC_CCW if left else Motion.ARC_CW], np.int8)
    arc = Way(turned[None], motion, np.asarray(start - a)[None], np.asarray(normal)[None])
    return arc if abs(size_a - size_b) <= ON_MM else arc.then(Way.straight(end))


def _never(name: str) -> Exception:
    return fail(
        "safe", f"is a {name} that the tool never reaches along its axis.", "Choose another surface, or make it larger."
    )

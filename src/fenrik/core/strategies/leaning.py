"""What strategies with a leaning tool share: contact of any profile, passes with an axis of their own, ways between."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from fenrik.core.frames import Points
from fenrik.core.strategies.given import Given
from fenrik.core.toolpath import Feeds, Kind, Poses, Safe, Toolpath
from fenrik.core.tools import Profile

STEEP = 0.2
"""A tool whose axis rises by less than this share of its way leaves the work sideways before it goes up."""
SMALL = 1e-9
ALIGNED_RAD = 1e-4
ARC_STEPS = 181


def unit(vectors: Points) -> Points:
    """Vectors (n, 3) of length 1; those without a direction stay zero."""
    size = np.linalg.norm(vectors, axis=-1, keepdims=True)
    return np.where(size > SMALL, vectors / np.maximum(size, SMALL), 0.0)


def turned(vectors: Points, about: Points, angle_deg: float) -> Points:
    """Vectors (n, 3) turned right-handed about unit vectors (n, 3)."""
    return Rotation.from_rotvec(math.radians(angle_deg) * about).apply(vectors)


def outline(profile: Profile) -> Points:
    """Places (k, 2) of a profile, radius and height, close enough to be its corners and arcs."""
    rows = []
    for band in profile.bands:
        z = np.linspace(band[0], band[1], 2 if band[4] == 0.0 else ARC_STEPS)
        if band[4] == 0.0:
            r = np.linspace(band[2], band[3], 2)
        else:
            r = band[5] + np.sqrt(np.maximum(band[7] ** 2 - (z - band[6]) ** 2, 0.0))
        rows.append(np.column_stack([r, z]))
    rows.append(np.array([[0.0, profile.bottom_mm]]))
    return np.vstack(rows)


@dataclass(frozen=True)
class Touch:
    """How a tool touches planes: for each of n, the height of the place of its outline that touches, its radius there,
    and how far its tip stands from the plane."""

    radius: Points
    height: Points
    stands: Points


def touch(profile: Profile, lean_rad: Points, at_height_mm: float | None = None) -> Touch:
    """Where a convex tool touches planes whose normals stand at angles to its axis.

    The support of a body of revolution: the place (r, z) of its outline for which r·sin β − z·cos β is greatest. Where
    a whole side touches, it is the place nearest to a height.

    Args:
        lean_rad: (n,) from the axis to the normal, 0 to π.
        at_height_mm: on a side that touches as a whole, where; its middle where none is given.
    """
    places = outline(profile)
    sine, cosine = np.sin(lean_rad)[:, None], np.cos(lean_rad)[:, None]
    support = places[:, 0] * sine - places[:, 1] * cosine
    most = support.max(axis=1, keepdims=True)
    equal = support > most - 1e-7
    radius, height = np.empty(len(lean_rad)), np.empty(len(lean_rad))
    for k in range(len(lean_rad)):
        r, z = places[equal[k]].T
        if lean_rad[k] < ALIGNED_RAD:
            radius[k], height[k] = 0.0, profile.bottom_mm
            continue
        low, high = int(np.argmin(z)), int(np.argmax(z))
        wanted = 0.5 * (z[low] + z[high]) if at_height_mm is None else at_height_mm
        t = 0.0 if z[high] - z[low] < SMALL else float(np.clip((wanted - z[low]) / (z[high] - z[low]), 0.0, 1.0))
        radius[k], height[k] = r[low] + t * (r[high] - r[low]), z[low] + t * (z[high] - z[low])
    return Touch(radius, height, most[:, 0])


def tips(contact: Points, normal: Points, axis: Points, profile: Profile, at_height_mm: float | None = None) -> Points:
    """Where the tip stands when a tool touches planes through places.

    Args:
        contact, normal: (n, 3) places and outward unit normals. axis: (n, 3) unit vectors.
    """
    cosine = np.clip(np.einsum("ij,ij->i", normal, axis), -1.0, 1.0)
    across = unit(normal - cosine[:, None] * axis)
    met = touch(profile, np.arccos(cosine), at_height_mm)
    return contact + met.radius[:, None] * across - met.height[:, None] * axis


def box_around(given: Given) -> Points:
    """Lowest and highest corner of part, stock and obstacles, (2, 3)."""
    boxes = [given.part_box, given.stock.bounds()]
    if given.obstacles is not None:
        boxes.append(given.obstacles.bounds())
    return np.array([np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)])


@dataclass(frozen=True)
class Pass:
    """One pass of a leaning tool.

    Attributes:
        point, axis: (n, 3) of its tip. way_in, way_out: (3,) from its first and last place out of the material.
    """

    point: Points
    axis: Points
    way_in: Points
    way_out: Points


class LeaningBuilder:
    """Puts passes together: in and out along the tool's own axis, over at the safe surface.

    Args:
        box: (2, 3) round all that stands there. lift_mm: how far beside the work entries begin and exits end.
    """

    def __init__(self, feeds: Feeds, safe: Safe, box: Points, lift_mm: float) -> None:
        self.feeds, self.safe, self.box, self.lift_mm = feeds, safe, box, lift_mm
        self._rows: list[tuple[Points, Points, Kind, float, int]] = []
        self._passes = 0

    def add(self, one: Pass) -> None:
        """A pass with the ways to it and from it."""
        first, last = one.point[0] + self.lift_mm * one.way_in, one.point[-1] + self.lift_mm * one.way_out
        a, b = one.axis[0], one.axis[-1]
        for place in self._out(first, a)[::-1]:
            self._row(place, a, Kind.RAPID, 0.0)
        self._row(first, a, Kind.APPROACH, self.feeds.entry)
        self._row(one.point[0], a, Kind.ENTRY, self.feeds.entry)
        for place, axis in zip(one.point[1:], one.axis[1:], strict=True):
            self._row(place, axis, Kind.CUT, self.feeds.cutting, self._passes)
        self._passes += 1
        self._row(last, b, Kind.EXIT, self.feeds.exit)
        for place in self._out(last, b):
            self._row(place, b, Kind.RETRACT, 0.0)

    def _row(self, point: Points, axis: Points, kind: Kind, feed: float, number: int = -1) -> None:
        self._rows.append((point, axis, kind, feed, number))

    def _out(self, point: Points, axis: Points) -> list[Points]:
        """The way from a place to the safe surface: along the axis, and where that does not rise, out and then up."""
        if axis[2] >= STEEP:
            return [self.safe.leave(point, axis)]
        away = self._past_the_box(point, axis)
        return [away, self.safe.leave(away, np.array([0.0, 0.0, 1.0]))]

    def _past_the_box(self, point: Points, axis: Points) -> Points:
        """Where a tool that goes along its axis has left the box behind."""
        with np.errstate(divide="ignore"):
            far = np.where(axis > 0, self.box[1] - point, self.box[0] - point) / np.where(axis == 0, np.nan, axis)
        leaves = float(np.nanmin(np.where(far < 0, np.nan, far))) if np.any(far >= 0) else 0.0
        return np.asarray(point + (leaves + self.lift_mm) * axis)

    def finish(self) -> Toolpath:
        if not self._rows:
            return Toolpath.empty()
        n = len(self._rows)
        columns: list[Any] = list(zip(*self._rows, strict=True))
        made = Toolpath.plain(
            np.array(columns[0]),
            np.zeros(n, np.int8),
            np.zeros((n, 3)),
            np.array(columns[2], np.int8),
            np.array(columns[3], dtype=np.float64),
            np.array(columns[4], np.int32),
        )
        same = np.append(False, (np.abs(np.diff(made.point, axis=0)).max(axis=1) < SMALL))
        same &= np.append(False, np.abs(np.diff(np.array(columns[1]), axis=0)).max(axis=1) < SMALL)
        made.axis[:] = columns[1]
        return replace(made.rows(np.flatnonzero(~same)))


def finer(point: Points, axis: Points, step_mm: float, turn_deg: float) -> tuple[Points, Points]:
    """Rows put in between until neighbours are no farther apart than a distance and an angle; axes turn in the plane of
    both (as `Poses` has it)."""
    gap = np.linalg.norm(np.diff(point, axis=0), axis=1)
    steps = Poses(point[:-1], point[1:], axis[:-1], axis[1:], np.arange(len(gap)))
    wanted = np.maximum(gap / step_mm, np.rad2deg(steps.angles_rad()) / turn_deg)
    count = np.maximum(np.ceil(wanted - 1e-9), 1).astype(np.int64)
    row = np.repeat(np.arange(len(gap)), count)
    share = (np.arange(len(row)) - np.repeat(np.cumsum(count) - count, count)) / count[row]
    axes = steps.axis_at(row, share)
    points = point[row] + share[:, None] * (point[row + 1] - point[row])
    return np.vstack([points, point[-1:]]), np.vstack([axes, axis[-1:]])

"""What strategies with a leaning tool share: contact of any profile, passes with an axis of their own, ways between."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import KDTree
from scipy.spatial.transform import Rotation

from fenrik.core.contact.clearance import clearance, exact_depths
from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.dividing import in_pieces
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.strategies.given import Given
from fenrik.core.toolpath import Feeds, Kind, Poses, Safe, Toolpath
from fenrik.core.tools import Assembly, Profile

STEEP = 0.2
"""A tool whose axis rises by less than this share of its way leaves the work sideways before it goes up."""
SMALL = 1e-9
ALIGNED_RAD = 1e-4
TOUCHING_MM, DEEP_MM, LEAST_MM = 0.01, 0.2, 1.0
"""What touches a way; how much deeper it would go is not looked at where a cutter goes so much too deep."""
SMOOTH_COS = math.cos(math.radians(10.0))
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


def in_both_planes(
    edge: Points, left: Points, right: Points, along: Points, axis: Points, profile: Profile
) -> Points:  # fmt: skip
    """Where the tip stands when a tool touches the planes at both sides of an inner edge, square over a place of it.

    Args:
        edge: (n, 3). left, right: (n, 3) outward unit normals of the planes. along: (n, 3) of the edge.
    """
    square = np.stack([left, right, along], axis=1)
    stands = np.zeros((len(edge), 3))
    for k, normal in enumerate((left, right)):
        stands[:, k] = touch(profile, np.arccos(np.clip(np.einsum("ij,ij->i", normal, axis), -1.0, 1.0))).stands
    return edge + np.linalg.solve(square, stands[:, :, None])[:, :, 0]


def touching(index: DistanceIndex, way: Points) -> NDArray[np.int64]:
    """The faces that have a corner of their triangles on a way (n, 3)."""
    near, _ = KDTree(way).query(index.mesh.vertices, distance_upper_bound=TOUCHING_MM)
    return np.unique(index.mesh.face_ids[np.isfinite(near)[index.mesh.triangles].any(axis=1)])


def beyond(index: DistanceIndex, faces: NDArray[np.int64]) -> DistanceIndex | None:
    """The part without some faces and those that they go over into smoothly; None where nothing is left."""
    mesh, own = index.mesh, faces
    normal = mesh.unit_normals()
    rows, sides = np.nonzero(index.neighbours >= 0)
    across = index.neighbours[rows, sides]
    smooth = np.einsum("ij,ij->i", normal[rows], normal[across]) > SMOOTH_COS
    own = np.union1d(own, mesh.face_ids[across[smooth & np.isin(mesh.face_ids[rows], own)]])
    return index.without(own)


@dataclass(frozen=True)
class Gouges:
    """How deep the cutter goes into surfaces in each step of a pass (n − 1,), and where (n − 1, 3); 0 where it is no
    deeper than it may be."""

    mm: Points
    place: Points

    @classmethod
    def none(cls, one: Pass) -> Gouges:
        steps = len(one.point) - 1
        return cls(np.zeros(steps), np.full((steps, 3), np.nan))

    def and_at(self, rows: NDArray[np.int64], mm: Points, place: Points) -> Gouges:
        """With these steps as deep as this where they were less."""
        worse = mm > self.mm[rows]
        deep, where = self.mm.copy(), self.place.copy()
        deep[rows[worse]], where[rows[worse]] = mm[worse], place[worse]
        return Gouges(deep, where)


def gouges(one: Pass, index: DistanceIndex, profile: Profile, tolerance_mm: float, known: Gouges) -> Gouges:
    """What is known of a pass, and where its cutter goes into a surface by more than a tolerance."""
    profile, skin = _as_far_as(index, one, profile), bool(index.on_rim.any())
    steps = Poses(one.point[:-1], one.point[1:], one.axis[:-1], one.axis[1:], np.arange(len(one.point) - 1))
    # Triangles are off by so much, to either side.
    rows = _deeper_than(index, steps, profile, tolerance_mm - index.mesh.deflection_mm)
    deep_mm = max(DEEP_MM, 2.0 * tolerance_mm)
    much = rows[_deeper_than(index, steps.rows(rows), profile, deep_mm)]
    known = known.and_at(much, np.full(len(much), deep_mm), one.point[much])
    rows = np.setdiff1d(rows, much)
    (found,) = clearance(index, steps.rows(rows), Assembly(profile), 0.0, deep_mm, of_skin=skin)
    exact = exact_depths(index, steps.rows(rows), profile, found)
    return known.and_at(rows, np.where(exact > tolerance_mm, exact, 0.0), found.place)


def without(whole: Pass, found: Gouges, told: list[Unreached]) -> list[Pass]:
    """A pass without its steps in which the cutter goes too deep; these are told."""
    bad = np.flatnonzero(found.mm > 0)
    if len(bad) == 0:
        return [whole]
    for run in np.split(bad, np.flatnonzero(np.diff(bad) > 1) + 1):
        told.append(_too_deep(whole, run, found.mm[run], found.place[run]))
    runs = np.split(np.arange(len(whole.point)), bad + 1)
    return [_stretch(whole, r) for r in runs if len(r) > 1]


def _as_far_as(index: DistanceIndex, one: Pass, profile: Profile) -> Profile:
    """The lower part of a cutter: what stands above all of a surface in every pose cannot go into it."""
    corners = np.array(np.meshgrid(*index.mesh.bounds().T)).reshape(3, -1).T
    top = float(((corners @ one.axis.T) - np.einsum("ij,ij->i", one.point, one.axis)).max())
    return profile.between(profile.bottom_mm, max(top, profile.bottom_mm) + LEAST_MM) or profile


def _deeper_than(index: DistanceIndex, steps: Poses, profile: Profile, limit_mm: float) -> NDArray[np.int64]:
    """Steps in which triangles stand deeper than so much in the cutter: they meet what of it lies so deep. That is far
    less to ask than how deep."""
    core = profile.eroded(limit_mm)
    if core is None:
        return np.zeros(0, np.int64)
    (found,) = clearance(index, steps, Assembly(core), 0.0, 0.0, of_skin=bool(index.on_rim.any()))
    return np.flatnonzero(found.mm < 0.0)


def _stretch(whole: Pass, rows: NDArray[np.int64]) -> Pass:
    """Rows of a pass; the ways in and out of it are those of its ends, elsewhere along the axis."""
    point, axis = whole.point[rows], whole.axis[rows]
    way_in = whole.way_in if rows[0] == 0 else axis[0]
    way_out = whole.way_out if rows[-1] == len(whole.point) - 1 else axis[-1]
    return Pass(point, axis, way_in, way_out)


def _too_deep(whole: Pass, run: NDArray[np.int64], deep: Points, place: Points) -> Unreached:
    worst = int(np.argmax(deep))
    at = place[worst] if np.isfinite(place[worst]).all() else whole.point[run[worst]]
    much = f"{deep[worst]:.3g} mm" + (" or more" if deep[worst] >= DEEP_MM else "")
    long = float(np.linalg.norm(whole.point[run + 1] - whole.point[run], axis=1).sum())
    reason = f"{long:.3g} mm are left out: the cutter would go {much} too deep into the part."
    return Unreached.at(at, reason, "Take a smaller cutter, or lean it otherwise.")


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


def stations(one: Pass, step_mm: float, turn_deg: float) -> tuple[Points, Points, NDArray[np.int64]]:
    """Places of the tip (m, 3) along a pass, no farther apart, and its axis there; and the step that each lies in."""
    steps = Poses(one.point[:-1], one.point[1:], one.axis[:-1], one.axis[1:], np.arange(len(one.point) - 1))
    gap = np.linalg.norm(steps.end - steps.start, axis=1)
    count = np.maximum(np.ceil(np.maximum(gap / step_mm, np.rad2deg(steps.angles_rad()) / turn_deg)), 1).astype(int) + 1
    row, piece = in_pieces(count)
    share = piece / (count[row] - 1)
    return steps.start[row] + share[:, None] * (steps.end - steps.start)[row], steps.axis_at(row, share), row


def finer(point: Points, axis: Points, step_mm: float, turn_deg: float) -> tuple[Points, Points]:
    """Rows of a path put in between, see `put_between`."""
    point, axis = put_between((point,), (axis,), step_mm, turn_deg)
    return point, axis


def put_between(
    places: tuple[Points, ...], directions: tuple[Points, ...], step_mm: float, turn_deg: float
) -> tuple[Points, ...]:
    """Rows put in until neighbours are no farther apart than a distance and no direction turns more than an angle.

    Args:
        places: columns (n, 3), which go evenly. directions: columns (n, 3) of unit vectors, which turn evenly in the
            plane of both (as `Poses` has it).
    """
    gaps = [np.linalg.norm(np.diff(p, axis=0), axis=1) for p in places]
    index = np.arange(len(gaps[0]))
    steps = [Poses(places[0][:-1], places[0][1:], d[:-1], d[1:], index) for d in directions]
    wanted = np.max([g / step_mm for g in gaps] + [np.rad2deg(s.angles_rad()) / turn_deg for s in steps], axis=0)
    count = np.maximum(np.ceil(wanted - 1e-9), 1).astype(np.int64)
    row, piece = in_pieces(count)
    share = piece / count[row]
    found = [p[row] + share[:, None] * (p[row + 1] - p[row]) for p in places]
    found += [s.axis_at(row, share) for s in steps]
    return tuple(np.vstack([f, c[-1:]]) for f, c in zip(found, (*places, *directions), strict=True))

"""The closed outline of a body of revolution in the r–z plane: one description for contact, removal and collision.

The outline is kept as bands, stretches of height in which the radius follows a line or an arc. It may turn inwards:
a neck above a ball, the gaps between the teeth of a thread mill, the leaning sides of a dovetail cutter. Bands over
which the radius is a concave function of height make a run; a run is a convex body, so what it sweeps along a
straight way with a constant axis is convex too, and meets a ray in one stretch. The profile is the union of its runs.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.tools.contour import Piece

LINE, ARC = 0.0, 1.0
COLUMNS = 10
"""Columns of a band: z from, z to, r at from, r at to, kind, arc centre r, arc centre z, arc radius, and whether the
plane at its lower and at its upper end belongs to the outside of its run (or meets its neighbour in an edge)."""
HOLLOW_MM = 5e-4
"""A hollow arc is kept as chords that stand at most this far outside it."""
SAME_MM, SMOOTH_RAD = 1e-9, 1e-6
LEVELS = 2001


@dataclass(frozen=True)
class Profile:
    """Attributes:
    bands: (n, 10) float64, from the lowest up; see `COLUMNS`.
    runs: (k + 1,) int64; bands `runs[i]` to `runs[i + 1]` are one convex body.
    error_mm: how far the outline may stand outside the one it was made from (hollow arcs).
    """

    bands: Points
    runs: NDArray[np.int64]
    error_mm: float = 0.0

    @property
    def radius_mm(self) -> float:
        """The widest radius."""
        return max(_widest(b) for b in self.bands)

    @property
    def bottom_mm(self) -> float:
        return float(self.bands[0, 0])

    @property
    def top_mm(self) -> float:
        return float(self.bands[-1, 1])

    @property
    def is_plain(self) -> bool:
        """Whether it is one convex body that is as wide at its top as anywhere: an underside with a cylinder above."""
        return len(self.runs) == 2 and float(self.bands[-1, 3]) >= self.radius_mm - SAME_MM

    def radius_at(self, z_mm: float) -> float:
        """Radius at a height; −1 outside the body, the wider one where it jumps."""
        return max((_radius(b, z_mm) for b in self.bands if b[0] <= z_mm <= b[1]), default=-1.0)

    def convex(self) -> list[Profile]:
        """Each convex run as a profile of its own."""
        pairs = itertools.pairwise(self.runs.tolist())
        return [Profile(self.bands[a:b], np.array([0, b - a], np.int64), self.error_mm) for a, b in pairs]

    def lifted(self, height_mm: float) -> Profile:
        """The same body standing higher above the tip."""
        bands = self.bands.copy()
        bands[:, [0, 1, 6]] += height_mm
        return Profile(bands, self.runs, self.error_mm)

    def eroded(self, by_mm: float) -> Profile | None:
        """What of each convex run lies deeper than so much below its outline; None where nothing does."""
        pieces = [p for run in self.convex() if (p := _eroded(run.bands, by_mm)) is not None]
        if not pieces:
            return None
        ends = np.cumsum([len(p.bands) for p in pieces])
        return Profile(np.vstack([p.bands for p in pieces]), np.append(0, ends), self.error_mm)

    def between(self, low_mm: float, high_mm: float) -> Profile | None:
        """The part of the body between two heights; None where there is nothing."""
        rows = []
        for b in self.bands:
            z0, z1 = max(b[0], low_mm), min(b[1], high_mm)
            if z1 - z0 > SAME_MM:
                rows.append([z0, z1, _radius(b, z0), _radius(b, z1), *b[4:8]])
        return _in_runs(rows, self.error_mm) if rows else None


def profile_of(pieces: Iterable[Piece]) -> Profile:
    """The profile whose contour is a chain of lines and arcs, tip first.

    Where a contour runs back down, what lies inside its widest place at a height counts as full: a tool that moves
    sideways takes that too.

    Raises:
        FenrikError: when the contour encloses nothing.
    """
    parts = [q for p in pieces for q in _rising(p)]
    levels = np.unique([z for p in parts for z in (p.z0, p.z1)])
    levels = levels[np.append(True, np.diff(levels) > SAME_MM)]
    rows: list[list[float]] = []
    sources: list[Piece] = []
    hollow = False
    for z0, z1 in zip(levels[:-1].tolist(), levels[1:].tolist(), strict=True):
        middle = 0.5 * (z0 + z1)
        covering = [p for p in parts if min(p.z0, p.z1) <= middle <= max(p.z0, p.z1)]
        if not covering:
            continue
        widest = max(covering, key=lambda p: _piece_radius(p, middle))
        if rows and sources[-1] is widest and not widest.inward:
            rows[-1][1], rows[-1][3] = z1, _piece_radius(widest, z1)
            continue
        hollow |= widest.inward
        for row in _bands_of(widest, z0, z1):
            rows.append(row)
            sources.append(widest)
    if not rows:
        raise fail("tool.cutter", "has a contour that encloses nothing.", "Give it a height.")
    return _in_runs(rows, HOLLOW_MM if hollow else 0.0)


def bull_nose_profile(radius_mm: float, corner_mm: float, top_mm: float) -> Profile:
    """Flat (corner 0), ball (corner = radius) and bull-nose end as one family."""
    rows = []
    if corner_mm > 0:
        flat = radius_mm - corner_mm
        rows.append([0.0, corner_mm, flat, radius_mm, ARC, flat, corner_mm, corner_mm])
    if top_mm > corner_mm:
        rows.append([corner_mm, top_mm, radius_mm, radius_mm, LINE, 0.0, 0.0, 0.0])
    return _in_runs(rows, 0.0)


def cone_profile(lower_radius_mm: float, upper_radius_mm: float, height_mm: float) -> Profile:
    """A frustum standing on its tip plane."""
    return _in_runs([[0.0, height_mm, lower_radius_mm, upper_radius_mm, LINE, 0.0, 0.0, 0.0]], 0.0)


def _rising(p: Piece) -> list[Piece]:
    """A piece cut where its height turns; level lines, which bound no height, are left out."""
    if p.centre is None:
        return [p] if abs(p.z1 - p.z0) > SAME_MM else []
    (cr, cz), radius = p.centre, p.radius
    a0, a1 = math.atan2(p.z0 - cz, p.r0 - cr), math.atan2(p.z1 - cz, p.r1 - cr)
    sweep = (a1 - a0) % (2 * math.pi) if not p.inward else -((a0 - a1) % (2 * math.pi))
    turns = sorted(
        (
            t
            for k in range(-3, 4)
            if 1e-9 < (t := (math.pi / 2 + k * math.pi - a0) / sweep) < 1 - 1e-9
        ),
    )  # fmt: skip
    places = [(p.r0, p.z0)]
    places += [(cr, cz + radius * round(math.sin(a0 + t * sweep))) for t in turns]
    places += [(p.r1, p.z1)]
    return [Piece(*a, *b, p.centre, p.inward) for a, b in itertools.pairwise(places) if abs(b[1] - a[1]) > SAME_MM]


def _piece_radius(p: Piece, z: float) -> float:
    """Radius of a piece at a height; of an arc on the side on which it lies."""
    if p.centre is None:
        return p.r0 + (p.r1 - p.r0) * (z - p.z0) / (p.z1 - p.z0)
    if min(abs(z - p.z0), abs(z - p.z1)) < 1e-12:
        return p.r0 if abs(z - p.z0) < abs(z - p.z1) else p.r1
    half = math.sqrt(max(p.radius**2 - (z - p.centre[1]) ** 2, 0.0))
    return p.centre[0] + (half if p.r0 + p.r1 >= 2 * p.centre[0] else -half)


def _bands_of(p: Piece, z0: float, z1: float) -> list[list[float]]:
    """One band for a line or an arc that bulges outwards; chords for a hollow arc."""
    r0, r1 = _piece_radius(p, z0), _piece_radius(p, z1)
    if p.centre is None:
        return [[z0, z1, r0, r1, LINE, 0.0, 0.0, 0.0]]
    outside = r0 + r1 >= 2 * p.centre[0]
    if outside:
        return [[z0, z1, r0, r1, ARC, *p.centre, p.radius]]
    step = 2 * math.acos(max(1 - HOLLOW_MM / p.radius, -1.0))
    a0, a1 = (math.asin(max(min((z - p.centre[1]) / p.radius, 1.0), -1.0)) for z in (z0, z1))
    heights = p.centre[1] + p.radius * np.sin(np.linspace(a0, a1, max(math.ceil(abs(a1 - a0) / step), 1) + 1))
    heights[[0, -1]] = z0, z1
    radii = [_piece_radius(p, float(z)) for z in heights]
    return [
        [float(heights[k]), float(heights[k + 1]), radii[k], radii[k + 1], LINE, 0.0, 0.0, 0.0]
        for k in range(len(radii) - 1)
    ]


def _in_runs(rows: list[list[float]], error_mm: float) -> Profile:
    """Bands gathered into convex runs, with their open planes marked."""
    bands = np.array([[*row, 1.0, 1.0] for row in rows])
    begins = [0]
    for k in range(1, len(bands)):
        before, after = bands[k - 1], bands[k]
        bend = _lean(before, before[1]) - _lean(after, after[0])
        if abs(before[3] - after[2]) > SAME_MM or abs(before[1] - after[0]) > SAME_MM or bend < -SMOOTH_RAD:
            begins.append(k)
        elif bend <= SMOOTH_RAD:
            bands[k - 1, 9] = bands[k, 8] = 0.0
        else:
            bands[k, 8] = 0.0  # one of the two sees to the edge
    return Profile(bands, np.array([*begins, len(bands)], np.int64), error_mm)


def _lean(band: Points, z: float) -> float:
    """Angle of the outline from upright at a height of a band, above 0 where it widens upwards."""
    if band[4] == LINE:
        return math.atan2(band[3] - band[2], band[1] - band[0])
    return -math.asin(max(min((z - band[6]) / band[7], 1.0), -1.0))


def _eroded(bands: Points, by_mm: float) -> Profile | None:
    """A convex run moved in: lines and arcs each on its own, and at every height the innermost of them."""
    inner = [m for b in bands if (m := _moved_in(b, by_mm)) is not None]
    low, high = float(bands[0, 0]) + by_mm, float(bands[-1, 1]) - by_mm
    if high - low <= SAME_MM or not inner:
        return None

    def radii(z: Points) -> Points:
        return np.array([_inner_radius(b, z) for b in inner])

    low, high = _where_there_is(radii, low, high)
    if high - low <= SAME_MM:
        return None
    levels = np.linspace(low, high, LEVELS)
    which = radii(levels).argmin(axis=0)
    turns = [_turn(radii, levels[k], levels[k + 1], which[k]) for k in np.flatnonzero(np.diff(which))]
    rows = []
    for z0, z1 in itertools.pairwise([low, *turns, high]):
        b = inner[int(radii(np.array([0.5 * (z0 + z1)])).argmin())]
        r0, r1 = (float(_inner_radius(b, np.array([z]))[0]) for z in (z0 + SAME_MM, z1 - SAME_MM))
        if z1 - z0 > 10 * SAME_MM and max(r0, r1) > 0:
            rows.append([z0, z1, max(r0, 0.0), max(r1, 0.0), *b[4:8]])
    return _in_runs(rows, 0.0) if rows else None


def _where_there_is(radii: Callable[[Points], Points], low: float, high: float) -> tuple[float, float]:
    """The heights between which the innermost radius is above 0: a point moved in begins higher up."""
    levels = np.linspace(low, high, LEVELS)
    full = np.flatnonzero(radii(levels).min(axis=0) > 0.0)
    if len(full) == 0:
        return low, low
    ends = []
    for inside, outside in ((full[0], full[0] - 1), (full[-1], full[-1] + 1)):
        a, b = levels[inside], levels[min(max(outside, 0), LEVELS - 1)]
        for _ in range(60):
            middle = 0.5 * (a + b)
            a, b = (middle, b) if float(radii(np.array([middle])).min()) > 0.0 else (a, middle)
        ends.append(float(levels[inside] if inside in (0, LEVELS - 1) else a))
    return ends[0], ends[1]


def _moved_in(band: Points, by_mm: float) -> Points | None:
    """A band moved along its normals, with the heights between which it counts; None where an arc is gone."""
    moved = band.copy()
    if band[4] == LINE:
        rise, widen = band[1] - band[0], band[3] - band[2]
        size = math.hypot(rise, widen)
        moved[[0, 1]] += by_mm * widen / size
        moved[[2, 3]] -= by_mm * rise / size
        return moved
    if band[7] - by_mm <= SAME_MM:
        return None
    share = (band[7] - by_mm) / band[7]
    moved[[0, 1]] = band[6] + share * (band[[0, 1]] - band[6])
    moved[7] -= by_mm
    return moved


def _inner_radius(band: Points, z: Points) -> Points:
    """Radius of a band at heights: a line goes on past its ends, an arc does not count there."""
    if band[4] == LINE:
        return np.asarray(band[2] + (band[3] - band[2]) * (z - band[0]) / (band[1] - band[0]))
    half = np.sqrt(np.maximum(band[7] ** 2 - (z - band[6]) ** 2, 0.0))
    within = (z >= band[0] - SAME_MM) & (z <= band[1] + SAME_MM)
    return np.where(within, band[5] + half, np.inf)


def _turn(radii: Callable[[Points], Points], low: float, high: float, first: int) -> float:
    """The height between two from which on another band than the first is the innermost."""
    for _ in range(60):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if int(radii(np.array([middle])).argmin()) == first else (low, middle)
    return 0.5 * (low + high)


def _radius(band: Points, z: float) -> float:
    if band[4] == LINE:
        return float(band[2] + (band[3] - band[2]) * (z - band[0]) / (band[1] - band[0]))
    return float(band[5] + math.sqrt(max(band[7] ** 2 - (z - band[6]) ** 2, 0.0)))


def _widest(band: Points) -> float:
    if band[4] == ARC and band[0] <= band[6] <= band[1]:
        return float(band[5] + band[7])
    return float(max(band[2], band[3]))

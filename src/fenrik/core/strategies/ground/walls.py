"""Walls for a tool that goes round them: groups of them, what it may touch at a level, which levels there are."""

from __future__ import annotations

import numpy as np
from scipy import ndimage
from scipy.spatial import cKDTree

from fenrik.core.dividing import in_pieces
from fenrik.core.frames import Points
from fenrik.core.regions import told_apart
from fenrik.core.strategies.common import require
from fenrik.core.strategies.ground.levels import MAX_LEVELS
from fenrik.core.tools.kernels import radius_at
from fenrik.core.tools.underside import Underside

ABOVE_MM = 2e-3
"""How far over a level sections are taken: faces that end at it are left out."""
END_SHARES = (0.0, 0.1, 0.5, 1.0)
"""Heights of a round end, as shares of its corner, at which it may touch edges."""
MOST_LEANS = 12
"""How many leans of walls are told apart."""
LEAST_STEP_MM = 0.02
UPRIGHT_SINE = 2e-3
FOOT_MM, SAME_PLACE_MM = 0.01, 1e-4
MARK_MM = 0.25
MOST_CELLS, MOST_FEET = 1000, 40


def apart(corners: Points, radius: float) -> list[Points]:
    """Triangles (m, 3, 3) in groups that stand so far apart in the plane that the tool never touches two at once: on a
    raster of cells as wide as the tool."""
    low, high = corners[:, :, :2].min(axis=1) - radius, corners[:, :, :2].max(axis=1) + radius
    origin = low.min(axis=0)
    cell = max(radius, float((high.max(axis=0) - origin).max()) / MOST_CELLS)
    first, last = ((v - origin) // cell for v in (low, high))
    boxes, number = np.unique(np.hstack([first, last]).astype(int), axis=0, return_inverse=True)
    taken = np.zeros(boxes[:, 2:].max(axis=0) + 1, bool)
    for i0, j0, i1, j1 in boxes.tolist():
        taken[i0 : i1 + 1, j0 : j1 + 1] = True
    labels, count = ndimage.label(taken, np.ones((3, 3)))
    group = labels[boxes[:, 0], boxes[:, 1]][number.reshape(-1)]
    return [corners[group == k] for k in range(1, count + 1)]


def steeper_than(corners: Points, least_deg: float) -> Points:
    """Of triangles (m, 3, 3) those that lean more from level than an angle."""
    if least_deg <= 0:
        return corners
    area = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    flat = np.abs(area[:, 2]) > np.cos(np.deg2rad(least_deg)) * np.linalg.norm(area, axis=1)
    return corners[~flat]


class Walls:
    """A group of walls: the upright ones seen from above, of the others their sections.

    Attributes:
        seen: (n,) upright ones of some length. open: (n,) of those the ones that had no pass at their foot yet.
        heights: over the tip, at which a round end touches walls that lean or edges, mm.
        lines: (n, 2, 2) upright triangles seen from above. lows, highs: (n,) their lowest and highest place.
        leaning: all other triangles.
    """

    def __init__(self, corners: Points, corner_mm: float) -> None:
        area = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        size = np.linalg.norm(area, axis=1)
        stands = np.abs(area[:, 2]) < UPRIGHT_SINE * np.maximum(size, 1e-12)
        self.leaning = Leaning(corners[~stands])
        up = np.abs(area[~stands, 2]) / np.maximum(size[~stands], 1e-12)
        # A round corner touches a wall that leans where it leans alike itself.
        touching = np.concatenate([corner_mm * (1 - _told_apart(up)), corner_mm * np.array(END_SHARES)])
        self.heights = np.unique(np.round(touching, 4))
        self.lines = _plan_of(corners[stands])
        self.lows, self.highs = corners[stands][:, :, 2].min(axis=1), corners[stands][:, :, 2].max(axis=1)
        self.seen = np.linalg.norm(self.lines[:, 1] - self.lines[:, 0], axis=1) > 1e-6
        self.open = self.seen.copy()

    def feet_at(self, level: float, radius_mm: float) -> list[tuple[Points, float]]:
        """Of the upright walls those that end at a level, seen from above, with the tool's radius."""
        here = _each_once(self.lines[self.open & (np.abs(self.lows - level) < FOOT_MM)])
        return [(here, radius_mm)] if len(here) else []

    def at(self, level: float, radius_mm: float, end: Underside | None) -> list[tuple[Points, float]]:
        """What the tool may touch with its tip at a level, seen from above: lines (n, 2, 2) with each radius that the
        tool has there. Of upright walls that is all that stands over the level, also where it ends higher (what the
        stock has in front of an opening under it is in the way of necks and shanks), of others the section at the
        heights of the tool's end.

        Args:
            end: the underside of a tool whose end is slimmer than the tool; None where it is flat.
        """
        found = {radius_mm: [_each_once(self.lines[self.seen & (self.highs > level + ABOVE_MM)])]}
        for height in [0.0] if end is None else self.heights.tolist():
            r = radius_mm if end is None else round(float(radius_at(end.elements, height)), 6)
            found.setdefault(r, []).append(self.leaning.section(level + ABOVE_MM + height))
        touched = ((np.concatenate(lines), r) for r, lines in found.items())
        return [(lines, r) for lines, r in touched if len(lines)]

    def take_feet(self, level: float) -> Points:
        """The upright walls that had the pass at their foot with a level, seen from above, (n, 2, 2); each is given
        once."""
        done = self.open & (self.lows > level - FOOT_MM)
        self.open &= ~done
        return _each_once(self.lines[done])


def _told_apart(cosines: Points) -> Points:
    """Some of many cosines, evenly by angle where they are many, so that each is near one of them."""
    found = np.unique(np.round(cosines, 6))
    if len(found) <= MOST_LEANS:
        return found
    ends = np.arccos(np.clip([found[0], found[-1]], 0.0, 1.0))
    return np.cos(np.linspace(float(ends[0]), float(ends[1]), MOST_LEANS))


def _plan_of(corners: Points) -> Points:
    """Upright triangles (n, 3, 3) seen from above, as the longest of their sides, (n, 2, 2)."""
    if len(corners) == 0:
        return np.zeros((0, 2, 2))
    xy = corners[:, :, :2]
    sides = np.stack([xy, np.roll(xy, -1, axis=1)], axis=2)
    longest = np.linalg.norm(sides[:, :, 1] - sides[:, :, 0], axis=2).argmax(axis=1)
    return np.asarray(sides[np.arange(len(sides)), longest])


def _each_once(lines: Points) -> Points:
    """Lines (n, 2, 2) without those that are there twice, whichever way round."""
    if len(lines) == 0:
        return lines
    rounded = np.round(lines, 5)
    turned = (rounded[:, 0, 0] > rounded[:, 1, 0]) | (
        (rounded[:, 0, 0] == rounded[:, 1, 0]) & (rounded[:, 0, 1] > rounded[:, 1, 1])
    )
    keys = np.where(turned[:, None, None], rounded[:, ::-1], rounded)
    _, first = np.unique(keys.reshape(len(lines), 4), axis=0, return_index=True)
    return lines[np.sort(first)]


class Leaning:
    """Triangles that lean, to be cut by many level planes."""

    def __init__(self, corners: Points) -> None:
        self.corners = corners
        self.lows, self.highs = corners[:, :, 2].min(axis=1), corners[:, :, 2].max(axis=1)

    def section(self, height: float) -> Points:
        """Where they meet a level plane: lines (n, 2, 2)."""
        cut = np.flatnonzero((self.lows <= height) & (self.highs > height))
        # The corner that lies alone on its side of the plane, and the two others.
        upper = self.corners[cut, :, 2] > height
        alone = np.where(upper.sum(axis=1) == 1, upper.argmax(axis=1), (~upper).argmax(axis=1))
        apex = self.corners[cut, alone]
        ends = []
        for step in (1, 2):
            other = self.corners[cut, (alone + step) % 3]
            t = (height - apex[:, 2]) / (other[:, 2] - apex[:, 2])
            ends.append(apex[:, :2] + t[:, None] * (other[:, :2] - apex[:, :2]))
        lines = np.stack(ends, axis=1)
        return np.asarray(lines[np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1) > 1e-7])


def sampled(lines: Points) -> Points:
    """Places along lines (n, 2, 2), about `MARK_MM` apart; where lines lie upon each other only one of them."""
    size = np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1)
    count = np.maximum(np.ceil(size / MARK_MM).astype(int), 1)
    row, piece = in_pieces(count)
    t = (piece + 0.5) / count[row]
    places = lines[row, 0] + t[:, None] * (lines[row, 1] - lines[row, 0])
    _, first = np.unique(np.floor(places / MARK_MM).astype(np.int64), axis=0, return_index=True)
    return places[first]


def wall_levels(
    corners: Points, top: float, bottom: float, stepdown_mm: float | None, scallop_mm: float | None, corner_mm: float
) -> list[tuple[float, bool]]:
    """Heights of the tip from high to low, each with whether all walls get a pass there: as close as stepdown and
    scallop ask. Between them those that end above the next one get theirs at their foot.

    Between levels a wall that leans keeps a cusp: a sharp corner leaves the step times the sine of the lean (from
    upright), a round one of radius r steps of 2·√(2·r·h − h²) along the wall.

    Args:
        corner_mm: radius of the tool's corner.

    Raises:
        FenrikError: when levels are too many.
    """
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(normals, axis=1)
    keep = size > 1e-12
    lean = np.abs(normals[keep, 2]) / size[keep]
    z = corners[keep][:, :, 2]
    lows, highs = z.min(axis=1), z.max(axis=1)
    levels: list[float] = []
    at = top
    while at - bottom > 1e-6:
        step = _step_at(at, lows, highs, lean, stepdown_mm, scallop_mm, corner_mm)
        count = max(int(np.ceil((at - bottom) / step - 1e-9)), 1)
        at = bottom if count == 1 else at - (at - bottom) / count
        levels.append(at)
        require(
            len(levels) < MAX_LEVELS,
            "scallop_mm",
            f"makes more than {MAX_LEVELS} levels.",
            "Use a larger scallop height or stepdown.",
            scallop_mm,
        )
    levels = levels or [bottom]
    new = (f for f in _feet(corners) if np.abs(np.array(levels) - f).min() > 1e-6)
    feet = [f for f in new if bottom + FOOT_MM < f < top + 1e-6]
    return sorted([*((z, True) for z in levels), *((z, False) for z in feet)], reverse=True)


def _feet(corners: Points) -> list[float]:
    """Heights at which walls end below: of level lower edges with no wall under them; from high to low."""
    z = corners[:, :, 2]
    lower, upper = _level_edges(corners, z.min(axis=1)), _level_edges(corners, z.max(axis=1))
    if len(upper) and len(lower):
        # Triangles meet within a wall as well: its foot is where none goes on.
        lower = lower[~np.isfinite(cKDTree(upper).query(lower, distance_upper_bound=SAME_PLACE_MM)[0])]
    found, _ = told_apart(lower[:, 2])
    return found[::-1].tolist() if len(found) <= MOST_FEET else []


def _level_edges(corners: Points, heights: Points) -> Points:
    """Middles (m, 3) of the edges of triangles that lie level at the height given for each."""
    at = np.abs(corners[:, :, 2] - heights[:, None]) < 1e-6
    rows = np.flatnonzero(at.sum(axis=1) == 2)
    own = corners[rows][at[rows]].reshape(-1, 2, 3)
    return np.asarray(own.mean(axis=1))


def _step_at(
    at: float,
    lows: Points,
    highs: Points,
    lean: Points,
    stepdown_mm: float | None,
    scallop_mm: float | None,
    corner_mm: float,
) -> float:
    """The greatest step down from a height."""
    step = stepdown_mm or np.inf
    if scallop_mm is None:
        return step
    reach = stepdown_mm or 1.0
    here = (highs > at - reach) & (lows < at + 1e-6) & (lean > 1e-4)
    if not here.any():
        below = highs[(highs <= at - reach) & (lean > 1e-4)]
        gap = at - float(below.max(initial=-np.inf))
        return min(step, max(gap, LEAST_STEP_MM))
    steepest = float(lean[here].max())
    h, r = scallop_mm, corner_mm
    sharp = h / steepest
    round_ = 2 * np.sqrt(max(2 * r * h - h * h, 0.0)) * np.sqrt(max(1 - steepest**2, 1e-4)) if r > h else 0.0
    return float(min(step, max(sharp, round_, LEAST_STEP_MM)))

"""All postures of an arm that reach a pose, in closed form.

Two families of arms are known. With a **spherical wrist** the axes 4, 5 and 6 meet in a point and the axes 2 and 3
are parallel: the first joint follows from how far that point lies along the second axis, elbow and shoulder from a
triangle, the wrist from two turns of a direction (Paden and Kahan's subproblems, in Murray, Li and Sastry, chapter
3). With **three parallel axes** 2, 3 and 4, and 5 and 6 meeting in a point: the first joint from that point, the
fifth from how far axis 6 leans from the parallel ones, the sixth from where these lie seen from the flange, the
other three from a triangle, by the same subproblems. Both give up to eight postures.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.robots.arm import Arm, Screws, rotations

PARALLEL, MEET_MM = 1e-9, 1e-6
OUT = 1e-9
"""A cosine that is beyond 1 by no more counts as 1: rounding, not reach."""
FREE = 1e-9
WAYS = ((0, 0, 0), (0, 0, 1), (0, 1, 0), (0, 1, 1), (1, 0, 0), (1, 0, 1), (1, 1, 0), (1, 1, 1))
Family = Literal["spherical wrist", "three parallel axes"]


def family_of(screws: Screws) -> Family:
    """Which closed form an arm has.

    Raises:
        FenrikError: where it has none of those known here.
    """
    w, o = screws.along, screws.origin
    if _parallel(w[1], w[2]) and _meeting(w[3:], o[3:]) is not None and not _parallel(w[0], w[1]):
        return "spherical wrist"
    three = _parallel(w[1], w[2]) and _parallel(w[2], w[3])
    if three and _meeting(w[4:], o[4:]) is not None and not _parallel(w[0], w[1]) and not _parallel(w[3], w[4]):
        return "three parallel axes"
    raise fail(
        "links",
        "belong to an arm whose postures have no closed form known here.",
        "Axes 2 and 3 must be parallel, and 4, 5 and 6 meet in a point; or 2, 3 and 4 be parallel, and 5 and 6 meet.",
    )


def all_postures(arm: Arm, turn: Points, place: Points) -> Points:
    """All values of the joints that put the flange there, whatever the ends.

    Args:
        turn: (n, 3, 3) rotations of the flange. place: (n, 3) mm, in the base's frame.

    Returns:
        (n, 8, 6) degrees from −180 to 180, NaN where there is no such posture; the eight are shoulder, elbow and wrist
        the one way or the other (see `WAYS`). Where a joint may have any value it is 0.

    Raises:
        FenrikError: where the arm has no closed form.
    """
    screws = arm.screws()
    family = family_of(screws)
    # The pose with that at 0 taken off: what the six joints make of it together.
    moved = turn @ screws.turn.T
    shift = place - np.einsum("nij,j->ni", moved, screws.place)
    solve = _spherical if family == "spherical wrist" else _three_parallel
    found = np.stack([solve(screws, moved, shift, way) for way in WAYS], axis=1)
    found[np.isnan(found).any(axis=2)] = np.nan
    degrees = np.rad2deg(found)
    return degrees - 360.0 * np.round(degrees / 360.0)


def _spherical(screws: Screws, moved: Points, shift: Points, way: tuple[int, int, int]) -> Points:
    w, o = screws.along, screws.origin
    wrist = _meeting(w[3:], o[3:])
    assert wrist is not None
    values = np.full((len(moved), 6), np.nan)
    goal = np.einsum("nij,j->ni", moved, wrist) + shift
    values[:, 0] = _level(w[0], o[0], w[1], goal, np.full(len(goal), float(w[1] @ wrist)), way[0])
    back = rotations(w[0], -values[:, 0])
    goal = np.einsum("nij,nj->ni", back, goal - o[0]) + o[0]
    values[:, 1], values[:, 2] = _triangle(w[1], o[1], o[2], wrist, goal, way[1])
    rest = rotations(w[2], -values[:, 2]) @ rotations(w[1], -values[:, 1]) @ back @ moved
    values[:, 3:] = _wrist(w[3], w[4], w[5], rest, way[2])
    return values


def _three_parallel(screws: Screws, moved: Points, shift: Points, way: tuple[int, int, int]) -> Points:
    w, o = screws.along, screws.origin
    corner = _meeting(w[4:], o[4:])
    assert corner is not None
    n = len(moved)
    values = np.full((n, 6), np.nan)
    goal = np.einsum("nij,j->ni", moved, corner) + shift
    values[:, 0] = _level(w[0], o[0], w[1], goal, np.full(n, float(w[1] @ corner)), way[0])
    back = rotations(w[0], -values[:, 0])
    turn = back @ moved
    # How far axis 6 leans from the parallel ones is what joint 5 makes of it.
    wanted = np.einsum("nij,j->ni", turn, w[5]) @ w[1]
    values[:, 4] = _lean(w[4], w[5], w[1], wanted, way[2])
    bent = np.einsum("nij,j->ni", rotations(w[4], -values[:, 4]), w[1])
    seen = np.einsum("nji,j->ni", turn, w[1])
    values[:, 5] = -_between(w[5], bent, seen)
    flat = turn @ rotations(w[5], -values[:, 5]) @ rotations(w[4], -values[:, 4])
    across = _beside(w[1])
    turned = np.einsum("nij,j->ni", flat, across)
    whole = np.arctan2(np.einsum("j,nj->n", np.cross(w[1], across), turned), turned @ across)
    # Where the fourth axis comes to: the corner stays, as it lies on axes 5 and 6.
    goal = np.einsum("nij,nj->ni", back, goal - o[0]) + o[0]
    elbow = goal + np.einsum("nij,j->ni", flat, o[3] - corner)
    values[:, 1], values[:, 2] = _triangle(w[1], o[1], o[2], o[3], elbow, way[1])
    same = np.where(w[2] @ w[1] > 0, 1.0, -1.0), np.where(w[3] @ w[1] > 0, 1.0, -1.0)
    values[:, 3] = same[1] * (whole - values[:, 1] - same[0] * values[:, 2])
    return values


def _parallel(a: Points, b: Points) -> bool:
    return float(np.linalg.norm(np.cross(a, b))) < PARALLEL


def _meeting(along: Points, origin: Points) -> Points | None:
    """The point that all of some axes go through; None where there is none."""
    rows, rest = [], []
    for u, p in zip(along, origin, strict=True):
        flat = np.eye(3) - np.outer(u, u)
        rows.append(flat)
        rest.append(flat @ p)
    point, *_ = np.linalg.lstsq(np.vstack(rows), np.concatenate(rest), rcond=None)
    off = max(float(np.linalg.norm(np.cross(point - p, u))) for u, p in zip(along, origin, strict=True))
    return point if off < MEET_MM else None


def _beside(axis: Points) -> Points:
    other = np.cross(axis, [1.0, 0.0, 0.0] if abs(axis[0]) < 0.9 else [0.0, 1.0, 0.0])
    return np.asarray(other / np.linalg.norm(other))


def _cosine(value: Points) -> Points:
    """Angles of cosines, NaN where they are beyond 1 by more than rounding."""
    return np.where(np.abs(value) > 1.0 + OUT, np.nan, np.arccos(np.clip(value, -1.0, 1.0)))


def _level(axis: Points, origin: Points, along: Points, goal: Points, wanted: Points, way: int) -> Points:
    """The turn about an axis after which places (n, 3), turned back by it, lie at a distance along a direction."""
    # along · (R(−θ)(p − o) + o) = wanted; R(−θ)v = v∥ + cos θ v⊥ − sin θ (axis × v).
    away = goal - origin
    straight = np.outer(away @ axis, axis)
    a = (away - straight) @ along
    b = -np.cross(axis, away) @ along
    c = wanted - float(along @ origin) - straight @ along
    size = np.hypot(a, b)
    loose = size < FREE
    spread = _cosine(np.where(loose, 0.0, c / np.where(loose, 1.0, size)))
    angle = np.arctan2(b, a) + (spread if way == 0 else -spread)
    return np.where(loose, np.where(np.abs(c) < MEET_MM, 0.0, np.nan), angle)


def _lean(axis: Points, start: Points, along: Points, wanted: Points, way: int) -> Points:
    """The turn about an axis that brings a direction to a given component along another: (n,)."""
    straight = float(start @ axis) * axis
    a = float((start - straight) @ along)
    b = float(np.cross(axis, start) @ along)
    size = float(np.hypot(a, b))
    spread = _cosine((wanted - float(straight @ along)) / size)
    angle = float(np.arctan2(b, a)) + (spread if way == 0 else -spread)
    return np.asarray(angle)


def _triangle(
    along: Points, first: Points, second: Points, end: Points, goal: Points, way: int
) -> tuple[Points, Points]:
    """Turns about two parallel axes that bring a place to others (n, 3), all seen along the axes.

    Args:
        first, second: places of the axes. end: the place, all at 0.
    """
    x = _beside(along)
    plane = np.stack([x, np.cross(along, x)])
    a, b = plane @ (second - first), plane @ (end - second)
    c = (goal - first) @ plane.T
    la, lb, lc2 = float(np.hypot(*a)), float(np.hypot(*b)), np.einsum("ij,ij->i", c, c)
    inner = _cosine((lc2 - la * la - lb * lb) / (2.0 * la * lb))
    now = float(np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b))
    bend = (inner if way == 0 else -inner) - now
    cos, sin = np.cos(bend), np.sin(bend)
    reached = a + np.stack([cos * b[0] - sin * b[1], sin * b[0] + cos * b[1]], axis=1)
    shoulder = np.arctan2(reached[:, 0] * c[:, 1] - reached[:, 1] * c[:, 0], np.einsum("ij,ij->i", reached, c))
    return shoulder, bend


def _between(axis: Points, start: Points, end: Points) -> Points:
    """The turn about an axis that takes directions (n, 3) to others as near as it can; 0 where any would do."""
    a = start - np.outer(start @ axis, axis)
    b = end - np.outer(end @ axis, axis)
    angle = np.arctan2(np.cross(a, b) @ axis, np.einsum("ij,ij->i", a, b))
    loose = (np.linalg.norm(a, axis=1) < FREE) | (np.linalg.norm(b, axis=1) < FREE)
    return np.where(loose, 0.0, angle)


def _wrist(fourth: Points, fifth: Points, sixth: Points, turn: Points, way: int) -> Points:
    """Turns about three axes through a point that make rotations (n, 3, 3) together, (n, 3)."""
    n = len(turn)
    goal = np.einsum("nij,j->ni", turn, sixth)
    # Joint 5 gives axis 6 its lean from axis 4, joint 4 turns it where it is wanted, joint 6 does the rest.
    values = np.empty((n, 3))
    values[:, 1] = _lean(fifth, sixth, fourth, goal @ fourth, way)
    bent = np.einsum("nij,j->ni", rotations(fifth, values[:, 1]), sixth)
    values[:, 0] = _between(fourth, bent, goal)
    rest = rotations(fifth, -values[:, 1]) @ rotations(fourth, -values[:, 0]) @ turn
    across = _beside(sixth)
    seen = np.einsum("nij,j->ni", rest, across)
    values[:, 2] = np.arctan2(seen @ np.cross(sixth, across), seen @ across)
    return values

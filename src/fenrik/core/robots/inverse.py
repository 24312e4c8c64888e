"""All postures of an arm that reach a pose, in closed form.

Two families of arms are known. With a **spherical wrist** the axes 4, 5 and 6 meet in a point and the axes 2 and 3
are parallel: the first joint follows from how far that point lies along the second axis, elbow and shoulder from a
triangle, the wrist from two turns of a direction (Paden and Kahan's subproblems, in R. M. Murray, Z. Li, S. S. Sastry,
A Mathematical Introduction to Robotic Manipulation, chapter 3). With **three parallel axes** 2, 3 and 4, and 5 and 6
meeting in a point: the first joint from that point, the fifth from how far axis 6 leans from the parallel ones, the
sixth from where these lie seen from the flange, the other three from a triangle, by the same subproblems. Both give
up to eight postures.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.robots import _arm_kernels as kernels
from fenrik.core.robots._arm_kernels import MEET_MM, ArmShape
from fenrik.core.robots.arm import Arm, Screws

PARALLEL = 1e-9
WAYS = ((0, 0, 0), (0, 0, 1), (0, 1, 0), (0, 1, 1), (1, 0, 0), (1, 0, 1), (1, 1, 0), (1, 1, 1))
"""Shoulder, elbow and wrist the one way or the other, in the order of the postures."""
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


def shape_of(screws: Screws) -> ArmShape:
    """An arm as its kernels have it.

    Raises:
        FenrikError: where the arm has no closed form.
    """
    three = family_of(screws) == "three parallel axes"
    w, o = screws.along, screws.origin
    meet = _meeting(w[4:], o[4:]) if three else _meeting(w[3:], o[3:])
    assert meet is not None
    end = o[3] if three else meet
    x = _beside(w[1])
    plane = np.stack([x, np.cross(w[1], x)])
    return ArmShape(
        along=np.ascontiguousarray(w), origin=np.ascontiguousarray(o), turn=np.ascontiguousarray(screws.turn),
        place=np.array(screws.place, dtype=np.float64), meet=meet, end=np.array(end), plane=plane,
        across=_beside(w[5]), upper=plane @ (o[2] - o[1]), fore=plane @ (end - o[2]), three=three,
    )  # fmt: skip


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
    turn, place = np.ascontiguousarray(turn, dtype=np.float64), np.ascontiguousarray(place, dtype=np.float64)
    return np.rad2deg(kernels.all_of(shape_of(arm.screws()), turn, place))


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

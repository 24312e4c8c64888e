"""How far tools in any pose keep from a surface, and how far they must be pushed to clear it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.contact import _clearance_kernels as kernels
from fenrik.core.contact import _depth_kernels as depth
from fenrik.core.contact.distance import DistanceIndex, signed_distances
from fenrik.core.frames import Points
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Assembly, Profile

AT_ONCE = 512
"""Poses that are looked at with the places near any of them."""
TURN_MM = 0.002
"""How far a body may stray where the axis turns in a step, see `Poses.straightened`."""
ROUNDS, STILL_MM, MOST_CREEP = 60, 1e-5, 0.995
"""How often a place of the tool and one of the exact face are taken from each other, when they stand still, and which
share of the way before makes a series that is gone as a whole."""


@dataclass(frozen=True)
class Clearance:
    """How near a body comes in n steps.

    Attributes:
        mm: (n,) the least gap, below 0 how deep the surface stands in the body, or the body in the material where it
            is wholly in it; what was enough where it is no less.
        place: (n, 3) where on the surface; NaN where the gap is enough.
        share: (n,) of the step, when.
        bound_mm: (n,) how far off each may be.
    """

    mm: Points
    place: Points
    share: Points
    bound_mm: Points


def clearance(
    index: DistanceIndex,
    poses: Poses,
    assembly: Assembly,
    enough_mm: float | Sequence[float],
    deep_enough_mm: float = np.inf,
    *,
    of_skin: bool = False,
) -> list[Clearance]:
    """How near each body of a tool comes to a part in each step, in the order of the assembly's profiles.

    Triangles find the place, the exact face there gives a gap; depths are those of the triangles. What an outline that
    turns inwards has between its convex runs counts as outside; depths are those below its runs.

    Args:
        enough_mm: gaps that are no less are not measured; one for all bodies or one for each.
        deep_enough_mm: where a body stands so deep, it may stand deeper elsewhere in the same step; 0: only whether it
            stands in the surface at all is asked, and depths are no figures.
        of_skin: the surface is some faces of a part, which enclose nothing: a body that meets none of it is outside.

    Raises:
        FenrikError: where an axis turns over.
    """
    enough = np.broadcast_to(enough_mm, len(assembly.profiles))
    each = zip(assembly.profiles, enough, strict=True)
    return [_of_body(index, poses, p, float(e), deep_enough_mm, of_skin) for p, e in each]


def _of_body(
    index: DistanceIndex, poses: Poses, profile: Profile, enough: float, deep_enough: float, of_skin: bool
) -> Clearance:
    numbered = replace(poses, source=np.arange(len(poses)))
    steps, off = numbered.straightened(profile.bottom_mm, profile.top_mm, profile.radius_mm, TURN_MM)
    rough = index.mesh.deflection_mm
    mm, found = np.empty(len(steps)), np.empty((len(steps), 4))
    kernels.clear(
        *_columns(steps), profile.bands, profile.runs, index.corners, index.order, index.boxes, index.children,
        enough + rough, deep_enough, mm, found,
    )  # fmt: skip
    bound = np.full(len(steps), rough + off)
    found[mm >= enough + rough] = np.nan
    if not of_skin:
        _look_within(index, steps, profile, mm, found)
    if index.faces is not None:
        _refine(index, steps, profile, mm, found, bound, off)
    found[mm >= enough], mm = np.nan, np.minimum(mm, enough)
    if len(steps) == len(poses):
        return Clearance(mm, found[:, :3], found[:, 3], bound)
    # The least of the pieces of each step, which follow one another and are equally long.
    first = np.searchsorted(steps.source, np.arange(len(poses) + 1))
    least = np.lexsort((mm, steps.source))[first[:-1]]
    share = (least - first[:-1] + found[least, 3]) / np.diff(first)
    return Clearance(mm[least], found[least, :3], share, bound[least])


def _columns(steps: Poses) -> tuple[Points, Points, Points]:
    return tuple(np.ascontiguousarray(a) for a in (steps.start, steps.end, steps.start_axis))  # type: ignore[return-value]


def _look_within(index: DistanceIndex, steps: Poses, profile: Profile, mm: Points, found: Points) -> None:
    """Steps that come near no triangle because the body is wholly within the material, by a place of its axis."""
    rows = np.flatnonzero(np.isnan(found[:, 0]))
    middle = 0.5 * (profile.bottom_mm + profile.top_mm)
    places = steps.start[rows] + middle * steps.start_axis[rows]
    low, high = index.mesh.bounds()
    boxed = np.all((places > low) & (places < high), axis=1)
    rows, places = rows[boxed], places[boxed]
    away = signed_distances(index, places)
    within = (away.mm < 0) & away.known
    rows = rows[within]
    mm[rows], found[rows, :3], found[rows, 3] = away.mm[within], away.place[within], 0.0


def _refine(
    index: DistanceIndex, steps: Poses, profile: Profile, mm: Points, found: Points, bound: Points, off: float
) -> None:
    """Gaps to the exact faces in place of those to triangles.

    From the place on the triangles the nearest one of the tool is found, from there the nearest one of the exact
    faces, and so on: projections on one body and the other in turn (W. Cheney, A. Goldstein, "Proximity maps for
    convex sets", 1959), here on a convex body and a face that is curved little against it. Where both run nearly side
    by side the places creep, each way a share of the one before; every third time they go the whole of that series.
    """
    rows = np.flatnonzero(mm > 0.0)
    rows = rows[~np.isnan(found[rows, 0])]
    mm[rows] = np.inf
    near = found[rows, :3].copy()
    last = move = np.zeros_like(near)
    aim = near.copy()
    for turn in range(ROUNDS):
        if len(rows) == 0:
            return
        tool, share = np.empty_like(aim), np.zeros(len(rows))
        kernels.beside(*_columns(steps.rows(rows)), profile.bands, profile.runs, aim, tool, share)
        away = signed_distances(index, tool)
        # Past the rim of an open part no side is within.
        gap = np.where(away.known, away.mm, np.abs(away.mm))
        better = gap < mm[rows]
        at = rows[better]
        mm[at], bound[at] = gap[better], away.bound_mm[better] + off
        found[at, :3], found[at, 3] = away.place[better], share[better]
        last, move = move, away.place - near
        creep = np.einsum("ij,ij->i", move, last) / np.maximum(np.einsum("ij,ij->i", last, last), 1e-300)
        creep = np.clip(creep, 0.0, MOST_CREEP) if turn % 3 == 2 else np.zeros(len(rows))
        near = away.place
        aim = near + (creep / (1.0 - creep))[:, None] * move
        on = (np.linalg.norm(move, axis=1) > STILL_MM) & (gap > 0.0)
        rows, near, aim, last, move = rows[on], near[on], aim[on], last[on], move[on]


def exact_depths(index: DistanceIndex, poses: Poses, profile: Profile, found: Clearance) -> Points:
    """Depths (n,) in place of those that triangles gave: of the places of the exact faces nearest to where they are."""
    feet = signed_distances(index, found.place).place
    rows, share, out = np.arange(len(poses)), found.share, np.empty(len(poses))
    tips = poses.start + share[:, None] * (poses.end - poses.start)
    depth.depths(tips, poses.axis_at(rows, share), profile.bands, profile.runs, feet, out)
    return out


def deepest_places(tips: Points, axes: Points, profile: Profile, points: Points) -> tuple[Points, NDArray[np.int64]]:
    """How deep some places (m, 3) stand in a tool in each of its poses (n, 3), at most: mm (n,), 0 where none does, and
    which place that is, −1 for none."""
    out, which = np.zeros(len(tips)), np.full(len(tips), -1)
    reach = profile.radius_mm + max(abs(profile.bottom_mm), abs(profile.top_mm))
    for first in range(0, len(tips), AT_ONCE):
        some = slice(first, first + AT_ONCE)
        low, high = tips[some].min(axis=0) - reach, tips[some].max(axis=0) + reach
        near = np.flatnonzero(np.all((points > low) & (points < high), axis=1))
        poses = (np.ascontiguousarray(v[some], dtype=np.float64) for v in (tips, axes))
        depth.deepest(*poses, profile.bands, profile.runs, points[near], out[some], found := which[some].copy())
        which[some] = np.where(found >= 0, near[found], -1) if len(near) else -1
    return out, which


def pushed(index: DistanceIndex, tips: Points, axes: Points, ways: Points, profile: Profile) -> tuple[Points, NDArray]:
    """How far along a way each tool must stand from its place so that, coming back along it, it touches the mesh.

    With ways along upright axes this is how far the tip height lies over the tip.

    Args:
        tips: (n, 3). axes, ways: (3,) or (n, 3) of any length.

    Returns:
        (n,) mm, −inf where the tool meets nothing; (n,) the triangle touched, −1 where none is.
    """
    tips = np.ascontiguousarray(tips, dtype=np.float64)
    out, nearest = np.empty(len(tips)), np.empty(len(tips), np.int32)
    units = (np.broadcast_to(np.asarray(v, dtype=np.float64), tips.shape) for v in (axes, ways))
    axes, ways = (np.ascontiguousarray(u / np.linalg.norm(u, axis=1, keepdims=True)) for u in units)
    kernels.push(
        tips, axes, ways, profile.bands, profile.runs, index.corners, index.order, index.boxes, index.children, out,
        nearest,
    )  # fmt: skip
    return out, nearest

"""How far tools in any pose keep from a surface, and how far they must be pushed to clear it."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.contact import _clearance_kernels as kernels
from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.frames import Points
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Profile

TURN_MM = 0.002
"""How far a body may stray where the axis turns in a step, see `Poses.straightened`."""


@dataclass(frozen=True)
class Clearance:
    """How near a body comes in n steps.

    Attributes:
        mm: (n,) the least gap, below 0 how deep the surface stands in the body; `enough_mm` where it is no less.
        place: (n, 3) where on the surface; NaN where the gap is enough.
        share: (n,) of the step, when.
        bound_mm: how far off a gap may be, beside what the triangles stand off.
    """

    mm: Points
    place: Points
    share: Points
    bound_mm: float


def clearance(index: DistanceIndex, poses: Poses, profile: Profile, enough_mm: float) -> Clearance:
    """How near a body of revolution comes to the triangles of a mesh in each step.

    What an outline that turns inwards has between its convex runs counts as outside; depths are those below its runs.
    A step within the mesh that comes near no triangle is not told from one outside of it.

    Args:
        enough_mm: gaps that are no less are not measured.

    Raises:
        FenrikError: where an axis turns over.
    """
    numbered = replace(poses, source=np.arange(len(poses)))
    steps, off = numbered.straightened(profile.bottom_mm, profile.top_mm, profile.radius_mm, TURN_MM)
    mm, found = np.empty(len(steps)), np.empty((len(steps), 4))
    kernels.clear(
        *(np.ascontiguousarray(a) for a in (steps.start, steps.end, steps.start_axis)), profile.bands, profile.runs,
        index.corners, index.order, index.boxes, index.children, enough_mm, mm, found,
    )  # fmt: skip
    found[mm >= enough_mm] = np.nan
    if len(steps) == len(poses):
        return Clearance(mm, found[:, :3], found[:, 3], off)
    # The least of the pieces of each step, which follow one another and are equally long.
    first = np.searchsorted(steps.source, np.arange(len(poses) + 1))
    least = np.lexsort((mm, steps.source))[first[:-1]]
    share = (least - first[:-1] + found[least, 3]) / np.diff(first)
    return Clearance(mm[least], found[least, :3], share, off)


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

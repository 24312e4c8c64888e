"""What holds the feed of a cutting edge below what is asked on arcs, in words."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import BaseModel, Field

from fenrik.core.toolpath.model import Kind, Motion, Toolpath
from fenrik.core.toolpath.timing import MotionLimits

HELD_SHARE = 0.9
"""An edge that keeps less of its feed is held back."""
WORDS = {
    "machine feed": "the machine feeds at most {most:.0f} mm/min",
    "acceleration": "the machine's acceleration allows no more on arcs so small",
    "corner": "round corners tighter than the tool's radius the axis is sped up only in part",
}


class FeedLimit(BaseModel):
    """What holds the edge back on some arcs of a path."""

    limit: Literal["machine feed", "acceleration", "corner"]
    words: str
    motions: int
    length_mm: float
    least_share: float = Field(description="of the asked feed that the edge keeps, where that is least")
    place: tuple[float, float, float] = Field(description="end of that arc")


def feed_limits(path: Toolpath, limits: MotionLimits) -> list[FeedLimit]:
    """Limits that hold the edge below nine tenths of the asked feed on arcs, each with its worst place.

    On an arc of radius R a machine of acceleration a goes no faster than √(a·R) (motion in a circle).
    """
    arcs = np.flatnonzero((path.motion != Motion.LINE) & np.isin(path.kind, [Kind.CUT, Kind.ENTRY]) & (path.feed > 0))
    radius = np.linalg.norm((path.starts() - path.centre)[arcs, :2], axis=1)
    driven = 60.0 * np.sqrt(limits.acceleration_mm_s2 * np.maximum(radius, 1e-9)) / path.feed[arcs]
    length, found = path.lengths()[arcs], []
    held = path.edge[arcs] < HELD_SHARE
    top = path.feed[arcs] >= limits.max_feed_mm_min - 1e-6
    for limit, rows, share in (
        ("machine feed", held & top, path.edge[arcs]),
        ("corner", held & ~top, path.edge[arcs]),
        ("acceleration", driven < HELD_SHARE, driven * path.edge[arcs]),
    ):
        if not rows.any():
            continue
        k = np.flatnonzero(rows)[share[rows].argmin()]
        x, y, z = (float(v) for v in path.point[arcs[k]])
        found.append(
            FeedLimit(
                limit=limit,
                words=WORDS[limit].format(most=limits.max_feed_mm_min),
                motions=int(rows.sum()),
                length_mm=float(length[rows].sum()),
                least_share=float(share[k]),
                place=(x, y, z),
            )
        )
    return found

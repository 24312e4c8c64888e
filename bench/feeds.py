"""How fast the cutting edge goes on arcs of real paths, judged by where the exact part stands beside them."""

from __future__ import annotations

from typing import Any

import numpy as np

NEAR_MM = 0.05
"""Beyond the allowance: what is nearer to the edge is the wall that it cuts."""
OVER_FLOOR_MM = 0.3
TOLD_SHARE = 0.9
SHARP_MM = 0.05


def edge_feeds(build: Any, setups: list[Any]) -> dict[str, float]:
    """Lengths of level arcs with a wall on one side: all, with the edge more than a tenth too fast, and slower than
    nine tenths without a limit that is named; and how fast the fastest is, of what was asked.

    By hand: the edge on the outside of an arc of radius R goes (R + r) / R times as fast as the axis, on the inside
    (R − r) / R times.
    """
    found = {"arcs_mm": 0.0, "fast_mm": 0.0, "slow_mm": 0.0, "fastest": 0.0}
    for setup in setups:
        for operation in build.job.route(setup):
            length, share, named = _arcs(build, setup, operation)
            found["arcs_mm"] += float(length.sum())
            found["fast_mm"] += float(length[share > 1.1].sum())
            found["slow_mm"] += float(length[(share < TOLD_SHARE) & ~named].sum())
            found["fastest"] = max(found["fastest"], float(share.max(initial=0.0)))
    return found


def _arcs(build: Any, setup: Any, operation: Any) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of each arc with a wall on one side: length, how fast its edge goes of what was asked, whether a limit is named."""
    from fenrik.core.toolpath import Kind, Motion

    path = build.outcome(operation).toolpath
    cuts = np.isin(path.kind, [Kind.ENTRY, Kind.CUT]) & (path.feed > 0) & (np.abs(path.normal[:, 2]) > 0.999)
    arcs = np.flatnonzero((path.motion != Motion.LINE) & cuts)
    feeds, radius = build.job.feeds(operation), build.job.tool(operation.tool).cutter.radius_mm
    asked, feed = np.where(path.kind[arcs] == Kind.ENTRY, feeds.entry, feeds.cutting), path.feed[arcs]
    start, end, centre, length = path.starts()[arcs], path.point[arcs], path.centre[arcs], path.lengths()[arcs]
    bend = np.linalg.norm((start - centre)[:, :2], axis=1)
    sweep = length / bend * np.where(path.motion[arcs] == Motion.ARC_CCW, 1, -1)
    angle = np.arctan2(*(start - centre)[:, 1::-1].T) + sweep / 2
    out, z = np.column_stack([np.cos(angle), np.sin(angle)]), (start[:, 2] + end[:, 2]) / 2 + OVER_FLOOR_MM
    near = NEAR_MM + getattr(operation.params, "allowance_mm", 0.0)
    outer, inner = (
        np.abs(_distances(build, setup, centre[:, :2] + out * reach[:, None], z)) < near
        for reach in (bend + radius, bend - radius)
    )
    share = feed * np.where(outer, bend + radius, np.abs(bend - radius)) / bend / asked
    # Told; fed for the edge outside, since stock stands on both sides; or round a corner with no wall.
    for_outside = ~outer & (feed < asked) & (feed > 0.99 * asked * bend / (bend + radius))
    named = (path.edge[arcs] < TOLD_SHARE) | for_outside | (bend - radius < SHARP_MM)
    judged = outer != inner
    return length[judged], share[judged], named[judged]


def _distances(build: Any, setup: Any, place: np.ndarray, z: np.ndarray) -> np.ndarray:
    from fenrik.core.contact.distance import signed_distances

    return signed_distances(build.part_distances(setup), np.column_stack([place, z])).mm

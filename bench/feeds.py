"""How fast the cutting edge goes on arcs of real paths, judged by where the exact part stands beside them."""

from __future__ import annotations

from typing import Any

import numpy as np

NEAR_MM = 0.05
"""Beyond the allowance: what is nearer to the edge is the wall that it cuts."""
OVER_FLOOR_MM = 0.3
TOLD_SHARE = 0.9
SHARP_MM = 0.05


def edge_feeds(build: Any, setup: Any) -> dict[str, float]:
    """Lengths of arcs with a wall on one side: all, with the edge more than a tenth too fast, and slower than nine
    tenths without a limit that is named; and how fast the fastest is, of what was asked.

    By hand: the edge on the outside of an arc of radius R goes (R + r) / R times as fast as the axis, on the inside
    (R − r) / R times.
    """
    found = {"arcs_mm": 0.0, "fast_mm": 0.0, "slow_mm": 0.0, "fastest": 0.0}
    for operation in build.job.route(setup):
        path = build.outcome(operation).toolpath
        arcs = np.flatnonzero((path.motion != 0) & np.isin(path.kind, [2, 3]) & (path.feed > 0))
        if len(arcs) == 0:
            continue
        feeds, radius = build.job.feeds(operation), build.job.tool(operation.tool).cutter.diameter_mm / 2
        asked = np.where(path.kind[arcs] == 2, feeds.entry, feeds.cutting)
        start, end, centre = path.starts()[arcs], path.point[arcs], path.centre[arcs]
        bend = np.linalg.norm((start - centre)[:, :2], axis=1)
        length = path.lengths()[arcs]
        sweep = length / bend * np.where(path.motion[arcs] == 2, 1, -1)
        angle = np.arctan2(*(start - centre)[:, 1::-1].T) + sweep / 2
        out = np.column_stack([np.cos(angle), np.sin(angle)])
        z = (start[:, 2] + end[:, 2]) / 2 + OVER_FLOOR_MM
        near = NEAR_MM + getattr(operation.params, "allowance_mm", 0.0)
        outer, inner = (
            np.abs(_distances(build, setup, centre[:, :2] + out * reach[:, None], z)) < near
            for reach in (bend + radius, bend - radius)
        )
        share = path.feed[arcs] * np.where(outer, bend + radius, np.abs(bend - radius)) / bend / asked
        judged = outer != inner
        # Fed for the edge outside, in stock on both sides; told; or round a corner with no wall.
        full = path.feed[arcs] > 0.99 * asked * bend / (bend + radius)
        told = (path.edge[arcs] < TOLD_SHARE) | (~outer & full & (path.feed[arcs] < asked)) | (bend - radius < SHARP_MM)
        found["arcs_mm"] += float(length[judged].sum())
        found["fast_mm"] += float(length[judged & (share > 1.1)].sum())
        found["slow_mm"] += float(length[judged & (share < TOLD_SHARE) & ~told].sum())
        found["fastest"] = max(found["fastest"], float(share[judged].max(initial=0.0)))
    return found


def _distances(build: Any, setup: Any, place: np.ndarray, z: np.ndarray) -> np.ndarray:
    from fenrik.core.contact.distance import signed_distances

    return signed_distances(build.part_distances(setup), np.column_stack([place, z])).mm

"""How fast the cutting edge goes on arcs of real paths, judged by where the exact part stands beside them."""

from __future__ import annotations

from typing import Any

import numpy as np

NEAR_MM = 0.05
"""Beyond the allowance: what is nearer to the edge is the wall that it cuts."""
OVER_FLOOR_MM = 0.3
TOLD_SHARE = 0.9
SHARP_MM = 0.05
ALONG = np.linspace(0, 1, 9)
"""Shares of an arc at which its walls are looked for: the ends of its pieces."""
MADE_MM, REACH_MM = 0.02, 1.0
"""How far from the edge's way, and along it from a piece, surface lies that it made."""


def edge_feeds(build: Any, setups: list[Any]) -> dict[str, float]:
    """Lengths of level arcs with a wall on one side: all; with the edge that cuts it more than a tenth too fast; the
    same where that wall is cut already; slower than nine tenths without a limit that is named; and how fast the
    fastest that cuts is, of what was asked.

    By hand: the edge on the outside of an arc of radius R goes (R + r) / R times as fast as the axis, on the inside
    (R − r) / R times. Judged are pieces of arcs with a wall at both ends; on the inside of an arc tighter than the tool
    there is none that it could cut, since it covers more on both sides of each place of its rim there.
    """
    found = {"arcs_mm": 0.0, "fast_mm": 0.0, "fast_at_cut_walls_mm": 0.0, "slow_mm": 0.0, "fastest": 0.0}
    for setup in setups:
        for operation in build.job.route(setup):
            length, share, named, cuts = _arcs(build, setup, operation)
            fast = share > 1.1
            found["arcs_mm"] += float(length.sum())
            found["fast_mm"] += float(length[fast & cuts].sum())
            found["fast_at_cut_walls_mm"] += float(length[fast & ~cuts].sum())
            found["slow_mm"] += float(length[(share < TOLD_SHARE) & ~named].sum())
            found["fastest"] = max(found["fastest"], float(share[cuts].max(initial=0.0)))
    return found


def _arcs(build: Any, setup: Any, operation: Any) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Of each piece of an arc with a wall on one side: length, how fast its edge goes of what was asked, whether a
    limit is named, whether it cuts that wall (looked for where it is fast)."""
    from fenrik.core.toolpath import Kind, Motion

    path = build.outcome(operation).toolpath
    cuts = np.isin(path.kind, [Kind.ENTRY, Kind.CUT]) & (path.feed > 0) & (np.abs(path.normal[:, 2]) > 0.999)
    arcs = np.flatnonzero((path.motion != Motion.LINE) & cuts)
    feeds, radius = build.job.feeds(operation), build.job.tool(operation.tool).cutter.radius_mm
    asked, feed = np.where(path.kind[arcs] == Kind.ENTRY, feeds.entry, feeds.cutting), path.feed[arcs]
    start, end, centre, length = path.starts()[arcs], path.point[arcs], path.centre[arcs], path.lengths()[arcs]
    bend = np.linalg.norm((start - centre)[:, :2], axis=1)
    sweep = length / bend * np.where(path.motion[arcs] == Motion.ARC_CCW, 1, -1)
    angle = np.arctan2(*(start - centre)[:, 1::-1].T)[:, None] + sweep[:, None] * ALONG
    out = np.stack([np.cos(angle), np.sin(angle)], axis=-1)
    z = start[:, None, 2] + (end - start)[:, None, 2] * ALONG + OVER_FLOOR_MM
    near = NEAR_MM + getattr(operation.params, "allowance_mm", 0.0)
    bend, asked, feed = bend[:, None], asked[:, None], feed[:, None]
    outer, inner = (
        np.abs(_distances(build, setup, centre[:, None, :2] + out * reach[..., None], z)) < near
        for reach in (bend + radius, bend - radius)
    )
    outer, inner = (touched[:, 1:] & touched[:, :-1] for touched in (outer, inner & (bend > radius)))
    share = feed * np.where(outer, bend + radius, np.abs(bend - radius)) / bend / asked
    # Told; fed for the edge outside, since stock stands on both sides; or round a corner with no wall.
    for_outside = ~outer & (feed < asked) & (feed > 0.99 * asked * bend / (bend + radius))
    named = (path.edge[arcs] < TOLD_SHARE)[:, None] | for_outside | (bend - radius < SHARP_MM)
    judged = outer != inner
    makes = np.ones(share.shape, bool)
    fast = judged & (share > 1.1)
    if fast.any():
        edge = np.where(outer, bend + radius, bend - radius)
        middle = centre[:, None, :2] + (out[:, 1:] + out[:, :-1]) / 2 * edge[..., None]
        makes[fast] = _makes(build, operation, arcs[np.nonzero(fast)[0]], edge[fast], middle[fast])
    pieces = np.broadcast_to(length[:, None] / (len(ALONG) - 1), share.shape)
    return pieces[judged], share[judged], named[judged], makes[judged]


def _makes(build: Any, operation: Any, arcs: np.ndarray, edge: np.ndarray, middle: np.ndarray) -> np.ndarray:
    """Whether arcs leave walls of their own where their edge passes near places (n, 2) at distances from their
    centres."""
    from scipy.spatial import cKDTree

    from fenrik.core.proof.deviation import FLATTEN_MM
    from fenrik.core.stock import cut
    from fenrik.core.tools import assembly_of

    path = build.outcome(operation).toolpath
    poses = path.poses(FLATTEN_MM)
    stock, _ = cut(build.stock_before(operation).forgotten(), poses, assembly_of(build.job.tool(operation.tool)))
    made = np.zeros(len(arcs), bool)
    for places, normals, sources in stock.hits_by_tile(cut_only=True):
        arc = poses.source[sources]
        wall = np.flatnonzero(np.isin(arc, arcs) & (np.abs(normals[:, 2]) < 0.7))
        for k in np.flatnonzero(np.isin(arcs, arc[wall])) if len(wall) else ():
            mine = places[wall[arc[wall] == arcs[k]], :2]
            away = np.linalg.norm(mine - path.centre[arcs[k], :2], axis=1)
            mine = mine[np.abs(away - edge[k]) < MADE_MM]
            made[k] |= len(mine) > 0 and cKDTree(mine).query(middle[k])[0] < REACH_MM
    return made


def _distances(build: Any, setup: Any, place: np.ndarray, z: np.ndarray) -> np.ndarray:
    from fenrik.core.contact.distance import signed_distances

    asked = np.concatenate([place, z[..., None]], axis=-1).reshape(-1, 3)
    return signed_distances(build.part_distances(setup), asked).mm.reshape(z.shape)

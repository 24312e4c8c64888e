"""Paths as arms are given them: in straight steps that are short enough to be looked at one by one."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fenrik.core.dividing import in_pieces
from fenrik.core.toolpath import Poses, Toolpath

MOST_MM, MOST_RAD = 25.0, 0.1
FLATTEN_MM = 0.005


def in_steps(path: Toolpath) -> Toolpath:
    """A path of straight rows, no longer than a step, and turning no farther in one."""
    flat = path.flattened(FLATTEN_MM)[0]
    if len(flat) == 0:
        return flat
    before = np.vstack([flat.axis[:1], flat.axis[:-1]])
    turned = np.linalg.norm(flat.axis - before, axis=1)
    count = np.maximum(np.ceil(np.maximum(flat.lengths() / MOST_MM, turned / MOST_RAD)), 1).astype(np.int64)
    order, piece = in_pieces(count)
    share = (piece + 1) / count[order]
    poses = Poses(flat.starts(), flat.point, before, flat.axis, np.arange(len(flat)))
    some = flat.rows(order)
    point = poses.start[order] + share[:, None] * (flat.point[order] - poses.start[order])
    last = share >= 1.0
    point[last] = flat.point
    axis = poses.axis_at(order, share)
    axis[last] = flat.axis
    return replace(some, point=point, axis=axis, dwell_s=np.where(last, some.dwell_s, 0.0))

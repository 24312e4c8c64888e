"""Course: one answer for a whole path, out of all values of the joints that reach each of its poses.

Every solution at every pose, turned on by whole revolutions as far as the ends allow, is a node; the cost of an edge is
the time of its slowest rotary joint. The shortest way through is found at once (dynamic programming), so that a joint
does not run into an end that another choice at the beginning would have avoided. A step in which the tool would not
pass between its two axes is a jump: in cuts there are as few of them as can be.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.machines import _course_kernels as kernels
from fenrik.core.machines.chain import END_SLACK, FULL_TURN, Chain

ORDINARY_SPEED = 3600.0
"""Degrees per minute of a joint that names no speed; only ratios count."""


MOST_TURNS = 12.0
"""Whole turns either way that are looked at, of joints with ends far out."""


@dataclass(frozen=True)
class Course:
    """Values of the joints along a path.

    Attributes:
        joints: (n, joints) mm and degrees, NaN where a pose cannot be reached.
        jump: (n,) whether the joints cannot follow the tool on the way to a pose, but must turn round elsewhere.
    """

    joints: Points
    jump: NDArray[np.bool_]


def course(chain: Chain, point: Points, axis: Points, free: NDArray[np.bool_] | None = None) -> Course:
    """The joints along a path.

    Where the tool stands along a rotary joint, so that any value would do, that stays as it was. Ends of rotary joints
    are kept; those of linear ones are not looked at, as they depend on where the work lies.

    Args:
        point, axis: (n, 3) each. free: (n,) whether the tool is away from the work on the way to a pose; nowhere where
            it is not given.
    """
    n, rotary = len(point), chain.rotary
    axis = axis / np.maximum(np.linalg.norm(axis, axis=1, keepdims=True), 1e-300)
    if not rotary:
        return Course(chain.ways(point, axis)[0][:, 0], np.zeros(n, np.bool_))
    # Rows with an axis of their own; those between stand as the one before them.
    begins = np.flatnonzero(np.append(True, np.abs(np.diff(axis, axis=0)).max(axis=1) > 0.0)) if n else np.zeros(0, int)
    away = np.zeros(n, bool) if free is None else free
    turns, loose, able = chain.turns(axis[begins])
    turns = np.where(able[:, :, None], turns, np.nan)
    ends = [(chain.joints[k].low, chain.joints[k].high) for k in rotary]
    low = np.array([-np.inf if e[0] is None else e[0] - END_SLACK for e in ends])
    high = np.array([np.inf if e[1] is None else e[1] + END_SLACK for e in ends])
    states, any_value = _revolved(turns, loose, low, high)
    speed = np.array([chain.joints[k].speed or ORDINARY_SPEED for k in rotary])
    found, jump = kernels.shortest(
        states,
        any_value,
        ~(np.isfinite(low) & np.isfinite(high)),
        speed,
        np.array([chain.along[k] for k in rotary]),
        np.array([chain.sense[k] for k in rotary]),
        axis[begins],
        away[begins],
        np.zeros(len(rotary)),
    )
    own = np.searchsorted(begins, np.arange(n), "right") - 1
    values = np.zeros((n, len(chain.joints)))
    values[:, rotary] = found[own]
    leaps = np.zeros(n, np.bool_)
    leaps[begins] = jump
    return Course(chain.placed(point, values), leaps)


def _revolved(turns: Points, loose: NDArray[np.bool_], low: Points, high: Points) -> tuple[Points, NDArray[np.bool_]]:
    """All solutions (n, s, r) with joints turned on by whole revolutions within their ends; those without ends stay."""
    ends = np.isfinite(low) & np.isfinite(high)
    counts = []
    for j in range(turns.shape[2]):
        if not ends[j]:
            counts.append([0])
            continue
        first, last = np.floor((low[j] - 180.0) / FULL_TURN), np.ceil((high[j] + 180.0) / FULL_TURN)
        first, last = max(first, -MOST_TURNS), min(last, MOST_TURNS)
        counts.append(list(range(int(first), int(last) + 1)))
    shifts = FULL_TURN * np.array(list(itertools.product(*counts)), dtype=np.float64)
    n, ways, r = turns.shape
    states = (turns[:, :, None, :] + shifts).reshape(n, ways * len(shifts), r)
    any_value = np.repeat(loose[:, :, None, :], len(shifts), axis=2).reshape(states.shape)
    # A joint of which any value would do is one state, not one for each revolution.
    idle = (any_value & (states != 0.0)).any(axis=2)
    beyond = ((states < low) | (states > high)).any(axis=2) | idle
    states = np.where(beyond[:, :, None], np.nan, states)
    lost = np.isnan(states).any(axis=2).all(axis=0)
    used = np.flatnonzero(~lost) if not np.all(lost) else np.zeros(1, np.int64)
    return np.ascontiguousarray(states[:, used]), np.ascontiguousarray(any_value[:, used])

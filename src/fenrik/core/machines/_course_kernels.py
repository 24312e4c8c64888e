"""Kernel behind `course`: the shortest way through the solutions at each pose (dynamic programming)."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel, leaf

NOWHERE = 1e30
TURN = 360.0
JUMP_COST = 1e6
"""Beside it all turning of a path weighs little: jumps are as few as can be."""
MOST_TURN = 190.0
"""No step needs more: past a pole a joint turns by half a turn."""
WIDE_SHARE, WIDE_RAD = 0.5, 0.06
"""A step in which the axis halfway is off by more than this share of its turn and by more than this angle is a jump."""


@leaf
def _turned(axis, along, angle, out):
    """Rodrigues' formula."""
    c, s = np.cos(angle), np.sin(angle)
    dot = (along[0] * axis[0] + along[1] * axis[1] + along[2] * axis[2]) * (1.0 - c)
    x = along[1] * axis[2] - along[2] * axis[1]
    y = along[2] * axis[0] - along[0] * axis[2]
    z = along[0] * axis[1] - along[1] * axis[0]
    a, b, d = axis[0] * c + x * s, axis[1] * c + y * s, axis[2] * c + z * s
    out[0], out[1], out[2] = a + along[0] * dot, b + along[1] * dot, d + along[2] * dot


@leaf
def _is_jump(before, after, along, sense, first, last, work):
    """Whether the tool, its joints halfway between two rows, stands far from halfway between its axes."""
    for r in range(len(before)):
        if abs(after[r] - before[r]) > MOST_TURN:  # halfway through two whole turns all looks well
            return True
    work[0], work[1], work[2] = 0.0, 0.0, 1.0
    for r in range(len(before) - 1, -1, -1):
        _turned(work, along[r], np.deg2rad(0.5 * sense[r] * (before[r] + after[r])), work)
    x, y, z = first[0] + last[0], first[1] + last[1], first[2] + last[2]
    size = np.sqrt(x * x + y * y + z * z)
    if size < 1e-12:
        return False
    off = np.arccos(min(max((work[0] * x + work[1] * y + work[2] * z) / size, -1.0), 1.0))
    turn = 2.0 * np.arccos(min(0.5 * size, 1.0))
    return off > WIDE_RAD and off > WIDE_SHARE * turn


@kernel
def shortest(ways, loose, endless, speed, along, sense, axis, free, begin):
    """Values of the rotary joints along a path.

    Args:
        ways: (n, s, r) degrees, NaN where there is no such solution. loose: (n, s, r) whether any value would do.
        endless: (r,) joints without ends, whose values go on over the full turn. speed: (r,) degrees per minute.
        along, sense: (r, 3), (r,) of the joints, from work to tool.
        axis: (n, 3). free: (n,) whether joints may turn at will on the way to a pose. begin: (r,) where they stand.

    Returns:
        (n, r) values, NaN where there are none; (n,) whether the way to a pose is a jump.
    """
    n, s, r = ways.shape
    value = np.full((n, s, r), np.nan)
    cost, previous, jumped = np.full((n, s), NOWHERE), np.full((n, s), -1, np.int64), np.zeros((n, s), np.bool_)
    found, jump, work, moved = np.full((n, r), np.nan), np.zeros(n, np.bool_), np.empty(3), np.empty(r)
    last = -1
    for k in range(n):
        some = False
        for b in range(s):
            if np.isnan(ways[k, b, 0]):
                continue
            for a in range(s if last >= 0 else 1):
                if last >= 0 and cost[last, a] >= NOWHERE:
                    continue
                far = 0.0
                for j in range(r):
                    before = value[last, a, j] if last >= 0 else begin[j]
                    to = ways[k, b, j]
                    if loose[k, b, j]:
                        to = before
                    elif endless[j]:
                        to += TURN * np.round((before - to) / TURN)
                    moved[j] = to
                    far = max(far, abs(to - before) / speed[j])
                leap = last >= 0 and _is_jump(value[last, a], moved, along, sense, axis[last], axis[k], work)
                total = far + (cost[last, a] if last >= 0 else 0.0)
                if leap and not free[k]:
                    total += JUMP_COST
                if total < cost[k, b]:
                    cost[k, b], previous[k, b], jumped[k, b] = total, a, leap
                    value[k, b, :] = moved
            some = some or cost[k, b] < NOWHERE
        if some:
            last = k
    if last < 0:
        return found, jump
    b = int(np.argmin(cost[last]))
    for k in range(last, -1, -1):
        if cost[k].min() >= NOWHERE:
            continue
        found[k], jump[k] = value[k, b], jumped[k, b]
        b = max(previous[k, b], 0)
    return found, jump

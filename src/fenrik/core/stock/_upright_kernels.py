"""Heights that an upright tool sweeps over a row of rays.

The loops have choices in place of branches, so that the compiler takes several rays at once.
"""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import leaf


@leaf
def is_exact(slope, chain):
    """Whether `swept_heights` gives the heights themselves: on level ways, in plunges, and for a ball on any way."""
    return slope == 0.0 or _is_ball(chain)


@leaf
def _is_ball(chain):
    """Whether an underside is one arc about a place of the axis, up to where it stands upright."""
    return chain.shape[0] == 1 and chain[0, 2] == 1.0 and chain[0, 5] == 0.0 and chain[0, 1] >= chain[0, 7]


@leaf
def swept_heights(x, across, y, ahead, n, dx, slope, fall, chain, room):
    """Height of the swept underside over each ray of a row, or a height that it does not come under.

    That is the least of slope·(x + s) + h(√(y² + s²)) over the places s of the axis that reach the ray. h does not
    fall, so it is at least h at the nearest of them with the lowest tip of all; for a ball the least is known.

    Args:
        x, y: the first ray in the tool's frame at its start. across, ahead: what is added to them from ray to ray.
        n: rays. dx, slope, fall: as in `describe_sweep`. chain: elements of the run's underside.
        room: (3, n or more); its first row gets the heights, infinite where the tool does not reach the ray.
    """
    if _is_ball(chain):
        _ball_heights(x, across, y, ahead, n, dx, slope, fall + chain[0, 6], chain[0, 7] * chain[0, 7], room)
    else:
        _heights(x, across, y, ahead, n, dx, slope, fall, chain, room)


@leaf
def _ball_heights(x, across, y, ahead, n, dx, slope, centre, r2, room):
    lean = -slope / np.sqrt(1.0 + slope * slope)
    for k in range(n):
        px, py = x + k * across, y + k * ahead
        first, last, reach2 = -px, dx - px, r2 - py * py
        near = first if first > 0.0 else (last if last < 0.0 else 0.0)
        s = lean * np.sqrt(reach2 if reach2 > 0.0 else 0.0)
        s = s if s > first else first
        s = s if s < last else last
        q = reach2 - s * s
        height = slope * (px + s) + centre - np.sqrt(q if q > 0.0 else 0.0)
        room[0, k] = height if near * near <= reach2 else np.inf


@leaf
def _heights(x, across, y, ahead, n, dx, slope, fall, chain, room):
    """Any underside: nearest places of the axis in row 1 of the room, lowest tips in row 2."""
    wide2 = chain[chain.shape[0] - 1, 1] * chain[chain.shape[0] - 1, 1]
    for k in range(n):
        px, py = x + k * across, y + k * ahead
        first, last = -px, dx - px
        near = first if first > 0.0 else (last if last < 0.0 else 0.0)
        rho2 = py * py + near * near
        room[1, k] = np.sqrt(rho2) if rho2 <= wide2 else np.inf
        room[2, k] = fall
    if slope != 0.0:
        for k in range(n):
            px, py = x + k * across, y + k * ahead
            reach2 = wide2 - py * py
            reach = np.sqrt(reach2 if reach2 > 0.0 else 0.0)
            first, last = -px, dx - px
            first = first if first > -reach else -reach
            last = last if last < reach else reach
            room[2, k] = fall + slope * (px + (first if slope > 0.0 else last))
    for e in range(chain.shape[0]):
        begin = chain[e, 0] if e > 0 else -1.0
        if chain[e, 2] != 0.0:
            r2, c, centre = chain[e, 7] * chain[e, 7], chain[e, 5], chain[e, 6]
            for k in range(n):
                off = room[1, k] - c
                q = r2 - off * off
                height = room[2, k] + centre - np.sqrt(q if q > 0.0 else 0.0)
                room[0, k] = height if room[1, k] > begin else room[0, k]
        else:
            low, rise, rho = chain[e, 3], chain[e, 4], chain[e, 0]
            for k in range(n):
                height = room[2, k] + low + rise * (room[1, k] - rho)
                room[0, k] = height if room[1, k] > begin else room[0, k]
    for k in range(n):
        room[0, k] = room[0, k] if room[1, k] < np.inf else np.inf

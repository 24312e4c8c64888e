"""Kernels about one pose in a cell: where the flange must stand, and how near bodies come to what stands round."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.kernels import leaf
from fenrik.core.robots._arm_kernels import one_joint_on

FAR_MM = 1e6
MOST_GAP_MM, NEAR_MM = 200.0, 60.0
FLANGE = 5
"""Gaps that are wider are told as the first; below the second it is looked closer."""


class CellShape(NamedTuple):
    """A cell as kernels have it, for one tool and one place of the work.

    Attributes:
        base_turn, base_place: the arm's base in the cell, track at 0. track: (3,) its direction; 0: none.
        table_turn, table_place: the table in the cell, turntable at 0. at: (3,) the work zero on the table.
        grip: (3, 3) the flange's rotation in the frame of the tip. tip: (3,) the tip in the flange's frame.
    """

    base_turn: Points
    base_place: Points
    track: Points
    table_turn: Points
    table_place: Points
    at: Points
    grip: Points
    tip: Points


class Surroundings(NamedTuple):
    """What bodies of the arm are kept clear of: balls round them, and distances to what stands round.

    Attributes:
        link: (m,) number of the arm's joint that moves a ball, ascending. centre: (m, 3) in the base's frame, all at 0.
        radius: (m,). within: (m,) how many of the balls that follow are smaller ones within it, which count where it
            comes near. work: (i, j, k) distances from what stands on the table, in its frame, mm, below 0 inside.
            low: (3,) the first place of its lattice, and step its width.
        plain: (p, 16) boxes and rounds: first `turning` ones that go with the table, in its frame, then those in the
            cell; middle, rotation by rows, half sizes, and 1 for a round about its third axis.
        own, own_link: the same of the arm's first links, in the base's frame while all joints are at 0; what the flange
            carries is kept clear of them, too.
    """

    link: NDArray[np.int64]
    centre: Points
    radius: Points
    within: NDArray[np.int64]
    work: NDArray[np.float32]
    low: Points
    step: float
    plain: Points
    turning: int
    own: Points
    own_link: NDArray[np.int64]


@leaf
def flange_at(cell, point, axis, lead, spin, table, track, turn, place):
    """Where the flange must stand in the base's frame: rotation into `turn` (3, 3), place into `place` (3,).

    Args:
        point, axis: (3,) of the tip, in the work. lead: (3,) across the axis, the tip frame's x while `spin` is 0.
        spin, table: radians. track: mm.
    """
    c, s = math.cos(spin), math.sin(spin)
    # y of the tip's frame is axis × lead; x is turned from lead to it by the spin.
    wx = axis[1] * lead[2] - axis[2] * lead[1]
    wy = axis[2] * lead[0] - axis[0] * lead[2]
    wz = axis[0] * lead[1] - axis[1] * lead[0]
    ct, st = math.cos(table), math.sin(table)
    for column in range(4):
        if column == 0:
            x, y, z = c * lead[0] + s * wx, c * lead[1] + s * wy, c * lead[2] + s * wz
        elif column == 1:
            x, y, z = c * wx - s * lead[0], c * wy - s * lead[1], c * wz - s * lead[2]
        elif column == 2:
            x, y, z = axis[0], axis[1], axis[2]
        else:
            x, y, z = point[0] + cell.at[0], point[1] + cell.at[1], point[2] + cell.at[2]
        x, y = ct * x - st * y, st * x + ct * y
        t = cell.table_turn
        x, y, z = (
            t[0, 0] * x + t[0, 1] * y + t[0, 2] * z,
            t[1, 0] * x + t[1, 1] * y + t[1, 2] * z,
            t[2, 0] * x + t[2, 1] * y + t[2, 2] * z,
        )
        if column == 3:
            x += cell.table_place[0] - cell.base_place[0] - track * cell.track[0]
            y += cell.table_place[1] - cell.base_place[1] - track * cell.track[1]
            z += cell.table_place[2] - cell.base_place[2] - track * cell.track[2]
        b = cell.base_turn
        x, y, z = (
            b[0, 0] * x + b[1, 0] * y + b[2, 0] * z,
            b[0, 1] * x + b[1, 1] * y + b[2, 1] * z,
            b[0, 2] * x + b[1, 2] * y + b[2, 2] * z,
        )
        if column < 3:
            turn[0, column], turn[1, column], turn[2, column] = x, y, z
        else:
            place[0], place[1], place[2] = x, y, z
    g = cell.grip
    for i in range(3):
        x, y, z = turn[i, 0], turn[i, 1], turn[i, 2]
        turn[i, 0] = x * g[0, 0] + y * g[1, 0] + z * g[2, 0]
        turn[i, 1] = x * g[0, 1] + y * g[1, 1] + z * g[2, 1]
        turn[i, 2] = x * g[0, 2] + y * g[1, 2] + z * g[2, 2]
    for i in range(3):
        place[i] -= turn[i, 0] * cell.tip[0] + turn[i, 1] * cell.tip[1] + turn[i, 2] * cell.tip[2]


@leaf
def _looked_up(field, low, step, x, y, z):
    """The distance at a place, by its nearest place of the lattice, less what that may be off."""
    i, j, k = round((x - low[0]) / step), round((y - low[1]) / step), round((z - low[2]) / step)
    if i < 0 or j < 0 or k < 0 or i >= field.shape[0] or j >= field.shape[1] or k >= field.shape[2]:
        return MOST_GAP_MM
    dx, dy, dz = x - low[0] - i * step, y - low[1] - j * step, z - low[2] - k * step
    return field[i, j, k] - math.sqrt(dx * dx + dy * dy + dz * dz)


@leaf
def _from_plain(own, x, y, z, least):
    """The distance from a box or a round, or something above `least` where it is not below that."""
    x, y, z = x - own[0], y - own[1], z - own[2]
    far = math.sqrt(x * x + y * y + z * z) - math.sqrt(own[12] * own[12] + own[13] * own[13] + own[14] * own[14])
    if far > least:
        return far
    a = own[3] * x + own[4] * y + own[5] * z
    b = own[6] * x + own[7] * y + own[8] * z
    c = abs(own[9] * x + own[10] * y + own[11] * z) - own[14]
    if own[15] > 0.0:
        a, b = math.hypot(a, b) - own[12], -FAR_MM
    else:
        a, b = abs(a) - own[12], abs(b) - own[13]
    out = math.sqrt(max(a, 0.0) ** 2 + max(b, 0.0) ** 2 + max(c, 0.0) ** 2)
    return out + min(max(a, max(b, c)), 0.0)


@leaf
def clearance_at(shape, cell, around, q, table, track, turn, place):
    """The least gap between the balls of an arm and what stands round, mm, at least; below 0 where they may touch.

    Args:
        q: (6,) radians. turn, place: scratch, (6, 3, 3) and (6, 3).
    """
    least, last, m = FAR_MM, -1, -1
    ct, st = math.cos(table), math.sin(table)
    while m + 1 < len(around.radius):
        m += 1
        while last < around.link[m]:
            last += 1
            one_joint_on(shape, q[last], last, turn, place)
        a, b, c = around.centre[m, 0], around.centre[m, 1], around.centre[m, 2]
        t, s = turn[last], place[last]
        x = t[0, 0] * a + t[0, 1] * b + t[0, 2] * c + s[0]
        y = t[1, 0] * a + t[1, 1] * b + t[1, 2] * c + s[1]
        z = t[2, 0] * a + t[2, 1] * b + t[2, 2] * c + s[2]
        gap = MOST_GAP_MM
        if last == FLANGE:
            for k in range(len(around.own)):
                t, s = turn[around.own_link[k]], place[around.own_link[k]]
                a, b, c = x - s[0], y - s[1], z - s[2]
                gap = min(
                    gap,
                    _from_plain(
                        around.own[k],
                        t[0, 0] * a + t[1, 0] * b + t[2, 0] * c,
                        t[0, 1] * a + t[1, 1] * b + t[2, 1] * c,
                        t[0, 2] * a + t[1, 2] * b + t[2, 2] * c,
                        gap,
                    ),
                )
        r, o, d = cell.base_turn, cell.base_place, cell.track
        x, y, z = (
            r[0, 0] * x + r[0, 1] * y + r[0, 2] * z + o[0] + track * d[0],
            r[1, 0] * x + r[1, 1] * y + r[1, 2] * z + o[1] + track * d[1],
            r[2, 0] * x + r[2, 1] * y + r[2, 2] * z + o[2] + track * d[2],
        )
        for k in range(around.turning, len(around.plain)):
            gap = min(gap, _from_plain(around.plain[k], x, y, z, gap))
        x, y, z = x - cell.table_place[0], y - cell.table_place[1], z - cell.table_place[2]
        t = cell.table_turn
        x, y, z = (
            t[0, 0] * x + t[1, 0] * y + t[2, 0] * z,
            t[0, 1] * x + t[1, 1] * y + t[2, 1] * z,
            t[0, 2] * x + t[1, 2] * y + t[2, 2] * z,
        )
        x, y = ct * x + st * y, ct * y - st * x
        gap = min(gap, _looked_up(around.work, around.low, around.step, x, y, z))
        for k in range(around.turning):
            gap = min(gap, _from_plain(around.plain[k], x, y, z, gap))
        gap -= around.radius[m]
        if around.within[m] > 0:
            if gap < min(least, NEAR_MM):
                continue
            m += around.within[m]
        least = min(least, gap)
    return least

"""Kernel behind `whole_path`: the least costly way through the freedoms at each row of a path (dynamic programming)."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numba import prange

from fenrik.core.frames import Points
from fenrik.core.kernels import kernel, leaf
from fenrik.core.robots._arm_kernels import WAYS, measures, postures, turned_place
from fenrik.core.robots._cell_kernels import clearance_at, flange_at

NOWHERE = 1e30
TURN = 2.0 * math.pi
MOST_STEP = 1.9
"""Radians: a joint that would turn farther between two rows does not follow, but takes another way."""
NEAR_SINGULAR, SINGULAR_COST = 0.3, 4.0
NEAR_END, END_COST = 0.75, 2.0
TOUCH_COST = 1e3
LEAP = 255
"""Mark of a row to which the arm does not follow the tool, but comes by another way."""


class Wanted(NamedTuple):
    """What a way through is weighed by.

    Attributes:
        low, high, speed: (6,) of the arm, radians, and per second. external_speed: (2,) table, track: rad/s, mm/s.
        external_low, external_high: (2,).
        arm, external: weights of moving. elbow, facing, stay: weights of wishes. posture: (6,) to stay near, radians.
        clear_mm: gap below which nearness costs. leap, free_leap: cost of not following in a cut, and in air.
        elbow_mm: length that heights of the elbow are measured by.
    """

    low: Points
    high: Points
    speed: Points
    external_speed: Points
    external_low: Points
    external_high: Points
    arm: float
    external: float
    elbow: float
    facing: float
    stay: float
    posture: Points
    clear_mm: float
    leap: float
    free_leap: float
    elbow_mm: float


@leaf
def settled(q, low, high):
    """Values brought by whole turns to between their ends, or to the middle turn of those that have more room; whether
    all lie between their ends in one turn or another."""
    able = True
    for j in range(6):
        middle = 0.5 * (low[j] + high[j])
        q[j] -= TURN * round((q[j] - middle) / TURN)
        if q[j] < low[j] - 1e-9 or q[j] > high[j] + 1e-9:
            able = False
    return able


@leaf
def elbow_height(shape, cell, q):
    """How high the elbow is over the base, in the cell, mm."""
    o = shape.origin[2]
    x, y, z = turned_place(shape.along[1], shape.origin[1], q[1], o[0], o[1], o[2])
    x, y, z = turned_place(shape.along[0], shape.origin[0], q[0], x, y, z)
    b = cell.base_turn
    return b[2, 0] * x + b[2, 1] * y + b[2, 2] * z


@leaf
def standing_cost(shape, cell, around, wanted, q, table, track, turn, place, flange):
    """What a posture costs in a second, whichever turn its joints are in.

    Args:
        flange: (3,) direction of the flange's axis in the base's frame, with its place behind: (6,).
    """
    cost = 0.0
    shoulder, elbow, wrist = measures(shape, q)
    for measure in (shoulder, elbow, wrist):
        if measure < NEAR_SINGULAR:
            lack = 1.0 - measure / NEAR_SINGULAR
            cost += SINGULAR_COST * lack * lack / (0.02 + measure)
    if wanted.elbow > 0.0:
        cost += wanted.elbow * (1.0 - elbow_height(shape, cell, q) / wanted.elbow_mm)
    if wanted.facing > 0.0:
        # The flange faces the base where its axis points away from it, level: seen from above.
        x, y = flange[3], flange[4]
        size = math.hypot(x, y) * math.sqrt(flange[0] ** 2 + flange[1] ** 2 + flange[2] ** 2)
        cosine = (flange[0] * x + flange[1] * y) / max(size, 1e-9)
        cost += wanted.facing * (1.0 - cosine)
    if wanted.stay > 0.0:
        for j in range(6):
            off = q[j] - wanted.posture[j]
            cost += wanted.stay * off * off
    if len(around.radius) > 0:
        gap = clearance_at(shape, cell, around, q, table, track, turn, place)
        if gap < 0.0:
            cost += TOUCH_COST * (1.0 + min(-gap, 500.0) / max(wanted.clear_mm, 1.0))
        elif gap < wanted.clear_mm:
            lack = 1.0 - gap / wanted.clear_mm
            cost += 5.0 * lack * lack
    return cost


@leaf
def end_cost(value, low, high):
    """What a joint costs in a second by how near it is to an end."""
    share = abs(value - 0.5 * (low + high)) / (0.5 * (high - low))
    if share < NEAR_END:
        return 0.0
    over = (share - NEAR_END) / (1.0 - NEAR_END)
    return END_COST * over * over


@leaf
def _choice(g, count):
    """The numbers of spin, table and track of a place in the grid."""
    return g // (count[2] * count[1]), (g // count[2]) % count[1], g % count[2]


@leaf
def _value(centre, step, count, k, axis):
    """What the choice k of a freedom stands for."""
    return centre[axis] + step[axis] * (k - count[axis] // 2)


@kernel
def _all_moves(moves):
    """How far each of the moves between rows goes along each freedom, (m, 3)."""
    found = np.empty(((2 * moves[0] + 1) * (2 * moves[1] + 1) * (2 * moves[2] + 1), 3), np.int64)
    number = 0
    for d0 in range(-moves[0], moves[0] + 1):
        for d1 in range(-moves[1], moves[1] + 1):
            for d2 in range(-moves[2], moves[2] + 1):
                found[number, 0], found[number, 1], found[number, 2] = d0, d1, d2
                number += 1
    return found


@leaf
def _beside(k0, k1, k2, move, count, wraps):
    """The place in the grid that a move leads to; −1 where there is none."""
    a0, a1, a2 = k0 + move[0], k1 + move[1], k2 + move[2]
    if wraps[0]:
        a0 %= count[0]
    if wraps[1]:
        a1 %= count[1]
    if a0 < 0 or a0 >= count[0] or a1 < 0 or a1 >= count[1] or a2 < 0 or a2 >= count[2]:
        return -1
    return (a0 * count[1] + a1) * count[2] + a2


@leaf
def _turns(slot, joint, wide):
    """How many whole turns a slot has a joint from its middle one: −1, 0 or 1."""
    for v in range(len(wide)):
        if wide[v] == joint:
            return slot // 3**v % 3 - 1
    return 0


@leaf
def _slot_cost(own, slot, wide, low, high):
    """What the nearness of joints to their ends costs in a second in one of their turns; `NOWHERE` beyond them."""
    cost = 0.0
    for j in range(6):
        value = own[j] + TURN * _turns(slot, j, wide)
        if value < low[j] - 1e-9 or value > high[j] + 1e-9:
            return NOWHERE
        cost += end_cost(value, low[j], high[j])
    return cost


@leaf
def _moved(own, slot, other, wide, speed):
    """From a posture in some turns to another: the squared shares of speed, and the slot that the other must be in to
    be followed; −1 where there is none."""
    cost, code = 0.0, 0
    for j in range(6):
        moved = own[j] + TURN * _turns(slot, j, wide) - other[j]
        for v in range(len(wide)):
            if wide[v] == j:
                k = round(moved / TURN)
                if k < -1 or k > 1:
                    return 0.0, -1
                moved -= TURN * k
                code += 3**v * (k + 1)
        if abs(moved) > MOST_STEP:
            return 0.0, -1
        share = moved / speed[j]
        cost += share * share
    return cost, code


@leaf
def _slot_near(joints, other, wide):
    """The slot in which a posture is nearest to given joints."""
    code = 0
    for v in range(len(wide)):
        code += 3**v * (round((joints[wide[v]] - other[wide[v]]) / TURN) + 1)
    return code


@kernel(parallel=True, nogil=True)
def through(
    shape, cell, around, wanted, point, axis, lead, centre, step, count, wraps, moves, seconds, free, only, wide
):
    """The least costly choice at each row.

    Args:
        point, axis, lead: (n, 3) in the work. centre: (n, 3) spin, table and track about which the choices lie; the
            choice k of c is `centre + step * (k - c // 2)`. step, count: (3,). wraps: (3,) whether the last choice is
            beside the first. moves: (3,) choices by which one may move between rows.
        seconds: (n,) from the row before. free: (n,) whether the tool is in air on the way to a row.
        only: (n,) the posture that counts, −1 for all. wide: (w,) joints that have room for more than one turn.

    Returns:
        choice: (n, 3) numbers, −1 where a row cannot be reached. way: (n,). joints: (n, 6) radians. leaps: (n,) whether
        the arm does not follow the tool to a row. cost: of all.
    """
    n, slots = len(point), 3 ** len(wide)
    grid, states = count[0] * count[1] * count[2], WAYS * slots
    steps = _all_moves(moves)
    # Two rows are held: the one that is looked at, and the one before.
    q, able = np.empty((2, grid, WAYS, 6)), np.zeros((2, grid, WAYS), np.bool_)
    total = np.full((2, grid, states), NOWHERE)
    back = np.full((n, grid, states), np.uint8(LEAP), np.uint8)
    best, last_row = np.zeros(n, np.int64), np.full(n, -1, np.int64)
    now, before, reached = 0, -1, 0.0
    for i in range(n):
        old = 1 - now
        for g in prange(grid):
            turn, place = np.empty((3, 3)), np.empty(3)
            link_turn, link_place, flange = np.empty((6, 3, 3)), np.empty((6, 3)), np.empty(6)
            k0, k1, k2 = _choice(g, count)
            table, track = _value(centre[i], step, count, k1, 1), _value(centre[i], step, count, k2, 2)
            total[now, g, :] = NOWHERE
            able[now, g, :] = False
            outside = table < wanted.external_low[0] - 1e-9 or table > wanted.external_high[0] + 1e-9
            outside = outside or track < wanted.external_low[1] - 1e-9 or track > wanted.external_high[1] + 1e-9
            if outside:
                continue
            spin = _value(centre[i], step, count, k0, 0)
            flange_at(cell, point[i], axis[i], lead[i], spin, table, track, turn, place)
            postures(shape, turn, place, q[now, g])
            for c in range(3):
                flange[c], flange[3 + c] = turn[c, 2], place[c]
            # What carries arm and work goes by itself, beside what the choices make of it.
            gone = centre[i, 1] - centre[before, 1] if before >= 0 else 0.0
            ridden = centre[i, 2] - centre[before, 2] if before >= 0 else 0.0
            for way in range(WAYS):
                own = q[now, g, way]
                if math.isnan(own[0]) or (only[i] >= 0 and only[i] != way):
                    continue
                if not settled(own, wanted.low, wanted.high):
                    continue
                able[now, g, way] = True
                stands = standing_cost(shape, cell, around, wanted, own, table, track, link_turn, link_place, flange)
                for s in range(slots):
                    rest = _slot_cost(own, s, wide, wanted.low, wanted.high)
                    if rest >= NOWHERE:
                        continue
                    rest = (rest + stands) * seconds[i]
                    if before < 0:
                        total[now, g, way * slots + s] = rest
                        continue
                    least, taken = reached + (wanted.free_leap if free[i] else wanted.leap), LEAP
                    for number in range(len(steps)):
                        h = _beside(k0, k1, k2, steps[number], count, wraps)
                        if h < 0 or not able[old, h, way]:
                            continue
                        cost, code = _moved(own, s, q[old, h, way], wide, wanted.speed)
                        if code < 0:
                            continue
                        so_far = total[old, h, way * slots + code]
                        if so_far >= least:
                            continue
                        turned = (gone - step[1] * steps[number, 1]) / wanted.external_speed[0]
                        rode = (ridden - step[2] * steps[number, 2]) / wanted.external_speed[1]
                        cost = wanted.arm * cost + wanted.external * (turned * turned + rode * rode)
                        cost = so_far + cost / seconds[i]
                        if cost < least:
                            least, taken = cost, number
                    total[now, g, way * slots + s] = least + rest
                    back[i, g, way * slots + s] = taken
        at = np.argmin(total[now].ravel())
        if total[now].ravel()[at] >= NOWHERE:
            continue  # a row that is not reached: the next one follows the one before it
        best[i], reached, last_row[i] = at, total[now].ravel()[at], before
        before, now = i, 1 - now
    choice, ways, joints, leaps = _traced(
        shape, cell, wanted, point, axis, lead, centre, step, count, wraps, steps, wide, back, best, last_row, before
    )
    return choice, ways, joints, leaps, reached


@kernel(nogil=True)
def _traced(
    shape, cell, wanted, point, axis, lead, centre, step, count, wraps, steps, wide, back, best, last_row, last
):
    """The choices that led to the best one at the last row, back to the first."""
    n, slots = len(point), 3 ** len(wide)
    states = WAYS * slots
    choice, ways = np.full((n, 3), -1, np.int64), np.full(n, -1, np.int64)
    joints, leaps = np.full((n, 6), np.nan), np.zeros(n, np.bool_)
    turn, place, found = np.empty((3, 3)), np.empty(3), np.empty((WAYS, 6))
    i, g, way, slot, after = last, -1, -1, -1, -1
    while i >= 0:
        if g < 0:  # the last row, or one that the arm leaves by another way
            g, way, slot = best[i] // states, best[i] % states // slots, best[i] % slots
        k = _choice(g, count)
        spin, table = _value(centre[i], step, count, k[0], 0), _value(centre[i], step, count, k[1], 1)
        track = _value(centre[i], step, count, k[2], 2)
        flange_at(cell, point[i], axis[i], lead[i], spin, table, track, turn, place)
        postures(shape, turn, place, found)
        settled(found[way], wanted.low, wanted.high)
        if slot < 0:  # the turns from which the row after it was come to
            slot = _slot_near(joints[after], found[way], wide)
        for j in range(6):
            joints[i, j] = found[way, j] + TURN * _turns(slot, j, wide)
        choice[i, 0], choice[i, 1], choice[i, 2], ways[i] = k[0], k[1], k[2], way
        taken = back[i, g, way * slots + slot]
        after, i = i, last_row[i]
        slot = -1
        if i >= 0 and taken == LEAP:
            leaps[after] = True
            g = -1
        elif i >= 0:
            g = _beside(k[0], k[1], k[2], steps[taken], count, wraps)
    return choice, ways, joints, leaps


@kernel(parallel=True, nogil=True)
def clearances(shape, cell, around, joints, table, track):
    """The least gap at rows of joints (n, 6) in radians, (n,) mm, at least."""
    found = np.empty(len(joints))
    for i in prange(len(joints)):
        turn, place = np.empty((6, 3, 3)), np.empty((6, 3))
        found[i] = clearance_at(shape, cell, around, joints[i], table[i], track[i], turn, place)
    return found


@kernel(parallel=True, nogil=True)
def standings(shape, cell, around, wanted, point, axis, lead, spin, table, track):
    """How each pose of a grid of freedoms stands: 0 no posture, 1 beyond the ends, 2 singular, 3 touching, 4 reached.

    Args:
        point, axis, lead: (n, 3). spin, table, track: (g,) values of one choice each.

    Returns:
        (n, g) the best of all postures.
    """
    n, m = len(point), len(spin)
    found = np.zeros((n, m), np.int8)
    for i in prange(n):
        turn, place, own = np.empty((3, 3)), np.empty(3), np.empty((WAYS, 6))
        link_turn, link_place = np.empty((6, 3, 3)), np.empty((6, 3))
        for g in range(m):
            if table[g] < wanted.external_low[0] - 1e-9 or table[g] > wanted.external_high[0] + 1e-9:
                continue
            if track[g] < wanted.external_low[1] - 1e-9 or track[g] > wanted.external_high[1] + 1e-9:
                continue
            flange_at(cell, point[i], axis[i], lead[i], spin[g], table[g], track[g], turn, place)
            postures(shape, turn, place, own)
            best = 0
            for way in range(WAYS):
                if math.isnan(own[way, 0]):
                    continue
                stands = 1
                if settled(own[way], wanted.low, wanted.high):
                    a, b, c = measures(shape, own[way])
                    stands = 2
                    if min(a, min(b, c)) > 0.02:
                        gap = clearance_at(shape, cell, around, own[way], table[g], track[g], link_turn, link_place)
                        stands = 4 if gap >= 0.0 else 3
                best = max(best, stands)
                if best == 4:
                    break
            found[i, g] = best
    return found


@kernel(nogil=True)
def leads(axis, table):
    """Directions (n, 3) across axes that are carried along: turned as little as can be from row to row, as seen from
    the cell while the table stands so (n,) radians; given in the work."""
    n = len(axis)
    found = np.empty((n, 3))
    for i in range(n):
        c, s = math.cos(table[i]), math.sin(table[i])
        a, b, d = c * axis[i, 0] - s * axis[i, 1], s * axis[i, 0] + c * axis[i, 1], axis[i, 2]
        if i == 0:
            # Across the axis, as near to upwards as can be; a tool that stands upright begins along x.
            x, y, z = (0.0, 0.0, 1.0) if abs(d) < 0.9 else (1.0, 0.0, 0.0)
        dot = x * a + y * b + z * d
        x, y, z = x - dot * a, y - dot * b, z - dot * d
        size = math.sqrt(x * x + y * y + z * z)
        if size < 1e-9:
            x, y, z = (1.0, 0.0, 0.0) if abs(a) < 0.9 else (0.0, 1.0, 0.0)
            dot = x * a + y * b + z * d
            x, y, z = x - dot * a, y - dot * b, z - dot * d
            size = math.sqrt(x * x + y * y + z * z)
        x, y, z = x / size, y / size, z / size
        found[i, 0], found[i, 1], found[i, 2] = c * x + s * y, c * y - s * x, z
    return found


@kernel(nogil=True)
def followed(shape, cell, wanted, point, axis, lead, spin, table, track, way, start, begins):
    """The joints at all rows whose freedoms and postures are known, each in the turn nearest to that of the row before.

    Args:
        begins: (n,) rows that begin anew, in the turns of `start` (n, 6).

    Returns:
        (n, 6) radians, NaN where there is no such posture.
    """
    n = len(point)
    joints = np.full((n, 6), np.nan)
    turn, place, own, last = np.empty((3, 3)), np.empty(3), np.empty((WAYS, 6)), np.empty(6)
    for i in range(n):
        if begins[i]:
            last[:] = start[i]
        if way[i] < 0:
            continue
        flange_at(cell, point[i], axis[i], lead[i], spin[i], table[i], track[i], turn, place)
        postures(shape, turn, place, own)
        if math.isnan(own[way[i], 0]):
            continue
        for j in range(6):
            joints[i, j] = own[way[i], j] + TURN * round((last[j] - own[way[i], j]) / TURN)
            last[j] = joints[i, j]
    return joints


@kernel(nogil=True)
def elbow_heights(shape, cell, joints):
    """How high the elbow is over the base at rows of joints (n, 6) in radians, (n,) mm."""
    found = np.empty(len(joints))
    for i in range(len(joints)):
        found[i] = elbow_height(shape, cell, joints[i])
    return found

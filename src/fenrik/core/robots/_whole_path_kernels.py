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
    n, w = len(point), len(wide)
    slots = 3**w
    grid = count[0] * count[1] * count[2]
    states = WAYS * slots
    q = np.empty((2, grid, WAYS, 6))
    able = np.zeros((2, grid, WAYS), np.bool_)
    total = np.full((2, grid, states), NOWHERE)
    back = np.full((n, grid, states), np.uint8(LEAP), np.uint8)
    best_before = np.zeros(n, np.int64)
    best_cost = np.zeros(n)
    lost = np.zeros(n, np.bool_)
    last_row = np.full(n, -1, np.int64)
    now, before_row = 0, -1
    for i in range(n):
        old = 1 - now
        for g in prange(grid):
            turn, place = np.empty((3, 3)), np.empty(3)
            link_turn, link_place, flange = np.empty((6, 3, 3)), np.empty((6, 3)), np.empty(6)
            rest = np.empty(states)
            k2 = g % count[2]
            k1 = (g // count[2]) % count[1]
            k0 = g // (count[2] * count[1])
            spin = centre[i, 0] + step[0] * (k0 - count[0] // 2)
            table = centre[i, 1] + step[1] * (k1 - count[1] // 2)
            track = centre[i, 2] + step[2] * (k2 - count[2] // 2)
            total[now, g, :] = NOWHERE
            able[now, g, :] = False
            outside = table < wanted.external_low[0] - 1e-9 or table > wanted.external_high[0] + 1e-9
            outside = outside or track < wanted.external_low[1] - 1e-9 or track > wanted.external_high[1] + 1e-9
            if outside:
                continue
            flange_at(cell, point[i], axis[i], lead[i], spin, table, track, turn, place)
            postures(shape, turn, place, q[now, g])
            for c in range(3):
                flange[c], flange[3 + c] = turn[c, 2], place[c]
            for way in range(WAYS):
                own = q[now, g, way]
                if math.isnan(own[0]) or (only[i] >= 0 and only[i] != way):
                    continue
                if not settled(own, wanted.low, wanted.high):
                    continue
                able[now, g, way] = True
                stands = standing_cost(shape, cell, around, wanted, own, table, track, link_turn, link_place, flange)
                for s in range(slots):
                    cost, code, inside = stands, s, True
                    for j in range(6):
                        value = own[j]
                        for v in range(w):
                            if wide[v] == j:
                                value += TURN * (code // 3**v % 3 - 1)
                        if value < wanted.low[j] - 1e-9 or value > wanted.high[j] + 1e-9:
                            inside = False
                            break
                        cost += end_cost(value, wanted.low[j], wanted.high[j])
                    rest[way * slots + s] = cost * seconds[i] if inside else NOWHERE
            # From the row before.
            gone = centre[i, 1] - centre[before_row, 1] if before_row >= 0 else 0.0
            ridden = centre[i, 2] - centre[before_row, 2] if before_row >= 0 else 0.0
            for way in range(WAYS):
                if not able[now, g, way]:
                    continue
                own = q[now, g, way]
                for s in range(slots):
                    stands = rest[way * slots + s]
                    if stands >= NOWHERE:
                        continue
                    if before_row < 0:
                        total[now, g, way * slots + s] = stands
                        continue
                    least = best_cost[before_row] + (wanted.free_leap if free[i] else wanted.leap)
                    taken, number = LEAP, 0
                    for d0 in range(-moves[0], moves[0] + 1):
                        for d1 in range(-moves[1], moves[1] + 1):
                            for d2 in range(-moves[2], moves[2] + 1):
                                number += 1
                                a0, a1, a2 = k0 + d0, k1 + d1, k2 + d2
                                if wraps[0]:
                                    a0 %= count[0]
                                if wraps[1]:
                                    a1 %= count[1]
                                if a0 < 0 or a0 >= count[0] or a1 < 0 or a1 >= count[1] or a2 < 0 or a2 >= count[2]:
                                    continue
                                h = (a0 * count[1] + a1) * count[2] + a2
                                if not able[old, h, way]:
                                    continue
                                other = q[old, h, way]
                                cost, code = 0.0, 0
                                for j in range(6):
                                    moved = own[j] - other[j]
                                    for v in range(w):
                                        if wide[v] == j:
                                            moved += TURN * (s // 3**v % 3 - 1)
                                            k = round(moved / TURN)
                                            moved -= TURN * k
                                            code = -1 if k < -1 or k > 1 or code < 0 else code + 3**v * (k + 1)
                                    if abs(moved) > MOST_STEP:
                                        code = -1
                                    if code < 0:
                                        break
                                    share = moved / wanted.speed[j]
                                    cost += share * share
                                if code < 0:
                                    continue
                                so_far = total[old, h, way * slots + code]
                                if so_far >= least:
                                    continue
                                turned = (gone - step[1] * d1) / wanted.external_speed[0]
                                rode = (ridden - step[2] * d2) / wanted.external_speed[1]
                                cost = wanted.arm * cost + wanted.external * (turned * turned + rode * rode)
                                cost = so_far + cost / seconds[i]
                                if cost < least:
                                    least, taken = cost, number
                    total[now, g, way * slots + s] = least + stands
                    back[i, g, way * slots + s] = taken
        at = np.argmin(total[now].ravel())
        cost = total[now].ravel()[at]
        if cost >= NOWHERE:
            lost[i] = True
            continue
        best_before[i], best_cost[i] = at, cost
        last_row[i] = before_row
        before_row = i
        now = 1 - now
    choice = np.full((n, 3), -1, np.int64)
    chosen_way = np.full(n, -1, np.int64)
    joints = np.full((n, 6), np.nan)
    leaps = np.zeros(n, np.bool_)
    if before_row < 0:
        return choice, chosen_way, joints, leaps, 0.0
    i, at = before_row, best_before[before_row]
    turn, place, found = np.empty((3, 3)), np.empty(3), np.empty((WAYS, 6))
    while True:
        g, state = at // states, at % states
        way, s = state // slots, state % slots
        k2 = g % count[2]
        k1 = (g // count[2]) % count[1]
        k0 = g // (count[2] * count[1])
        choice[i, 0], choice[i, 1], choice[i, 2], chosen_way[i] = k0, k1, k2, way
        flange_at(
            cell, point[i], axis[i], lead[i], centre[i, 0] + step[0] * (k0 - count[0] // 2),
            centre[i, 1] + step[1] * (k1 - count[1] // 2), centre[i, 2] + step[2] * (k2 - count[2] // 2), turn, place,
        )  # fmt: skip
        postures(shape, turn, place, found)
        settled(found[way], wanted.low, wanted.high)
        for j in range(6):
            joints[i, j] = found[way, j]
            for v in range(w):
                if wide[v] == j:
                    joints[i, j] += TURN * (s // 3**v % 3 - 1)
        b = last_row[i]
        if b < 0:
            break
        taken = back[i, g, state]
        if taken == LEAP:
            leaps[i] = True
            at = best_before[b]
        else:
            number = 0
            for d0 in range(-moves[0], moves[0] + 1):
                for d1 in range(-moves[1], moves[1] + 1):
                    for d2 in range(-moves[2], moves[2] + 1):
                        number += 1
                        if number == taken:
                            a0, a1, a2 = k0 + d0, k1 + d1, k2 + d2
            if wraps[0]:
                a0 %= count[0]
            if wraps[1]:
                a1 %= count[1]
            h = (a0 * count[1] + a1) * count[2] + a2
            # The turns that the joints of the row before are in: nearest to those of this row.
            flange_at(
                cell, point[b], axis[b], lead[b], centre[b, 0] + step[0] * (a0 - count[0] // 2),
                centre[b, 1] + step[1] * (a1 - count[1] // 2), centre[b, 2] + step[2] * (a2 - count[2] // 2), turn,
                place,
            )  # fmt: skip
            postures(shape, turn, place, found)
            settled(found[way], wanted.low, wanted.high)
            code = 0
            for v in range(w):
                k = round((joints[i, wide[v]] - found[way, wide[v]]) / TURN)
                code += 3**v * (k + 1)
            at = h * states + way * slots + code
        i = b
    return choice, chosen_way, joints, leaps, best_cost[before_row]


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

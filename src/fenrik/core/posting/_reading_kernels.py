"""Kernel behind `reading`: tokens and modal state in one sweep over the bytes."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel, leaf
from fenrik.core.posting._cycle_kernels import steps_of_back_bore, steps_of_cycle
from fenrik.core.toolpath.model import BACK_BORE, ORIENTED

(
    BAD_CHARACTER,
    BAD_NUMBER,
    UNKNOWN_G,
    UNKNOWN_M,
    UNKNOWN_WORD,
    NO_FEED,
    BAD_ARC,
    NO_CENTRE,
    TWO_MOTIONS,
    OPEN_COMMENT,
    NO_END,
    BEYOND_END,
    NO_MOTION,
    NO_OFFSET,
    NO_DEPTH,
    DEPTH_ABOVE,
    NO_PECK,
    CYCLE_INCREMENTAL,
    SIDE_ON_ARC,
    SIDE_WITHOUT_OFFSET,
    NO_BACK,
    NO_HOME,
    MANY_PECKS,
    MANY_MOTIONS,
) = range(1, 25)

X, Y, Z, I, J, K, R, F, S, T, H, P, Q, D, A, B, C = range(17)  # noqa: E741
SLOTS = 17
TIP_ON, TIP_OFF = 2460, 2470
"""Ten times the words by which a control begins and ends to hold the tip on its line while rotary joints turn."""
FIRST_CYCLE = 73
MOST_PECKS = 10_000
"""A hole with more is a slip of the hand (a peck of a thousandth), not a hole."""
MOST_CYCLE_MOTIONS = 2_000_000
"""What the cycles of one program may become, beside its own lines."""
REALS, WHOLES = 13, 11
TURNS, MINUTES = 9, 12
"""Columns: values of A, B and C from the one on; the time that inverse time feed gives a motion, 0 for none."""
# Limits of the NIST report: 0.002 mm in millimetres, 0.0002 in in inches.
ARC_ABSOLUTE_MM = 0.002
ARC_ABSOLUTE_INCH_IN_MM = 0.0002 * 25.4
ARC_RELATIVE = 0.001
EXTENDED = 100
"""Extended work offsets, G54.1 P1 …, are numbered 101, 102, …"""
_SLOT = np.full(128, -1, np.int8)
for _i, _letter in enumerate(b"XYZIJKRFSTHPQDABC"):
    _SLOT[_letter] = _i


@leaf
def _arc_centre(start, end, value, given, plane, mode, limit, out):
    """Centre of an arc in its plane; returns 0 or the trouble."""
    a, b = (0, 1) if plane == 17 else ((2, 0) if plane == 18 else (1, 2))
    for c in range(3):
        out[c] = start[c]
    if given[R]:
        r = value[R]
        dx, dy = end[a] - start[a], end[b] - start[b]
        chord = np.sqrt(dx * dx + dy * dy)
        if chord < 1e-9:
            return BAD_ARC
        h2 = r * r - 0.25 * chord * chord
        if h2 < 0.0:
            if 0.5 * chord - abs(r) > max(limit, ARC_RELATIVE * abs(r)):
                return BAD_ARC
            h2 = 0.0
        h = np.sqrt(h2) / chord
        # A positive radius is the way of at most a half turn.
        side = 1.0 if (mode == 3) == (r > 0.0) else -1.0
        out[a] = 0.5 * (start[a] + end[a]) - side * dy * h
        out[b] = 0.5 * (start[b] + end[b]) + side * dx * h
        return 0
    if not (given[I] or given[J] or given[K]):
        return NO_CENTRE
    for c in range(3):
        if given[I + c]:
            out[c] = start[c] + value[I + c]
    r0 = np.sqrt((start[a] - out[a]) ** 2 + (start[b] - out[b]) ** 2)
    r1 = np.sqrt((end[a] - out[a]) ** 2 + (end[b] - out[b]) ** 2)
    if abs(r0 - r1) > max(limit, ARC_RELATIVE * r0) or r0 < 1e-9:
        return BAD_ARC
    return 0


@kernel
def _grown(table, needed):
    """The table with room for so many rows."""
    if needed <= len(table):
        return table
    larger = np.zeros((max(needed, 2 * len(table)), table.shape[1]), table.dtype)
    larger[: len(table)] = table
    return larger


@leaf
def _keep(real, whole, m, target, middle, feed, rpm, wait, code, state, line):
    """Write one motion down. `state`: plane, spindle, tool, length offset, work offset, known axes, side, D word, and
    whether the tip is held."""
    for k in range(3):
        real[m, k], real[m, 3 + k], real[m, TURNS + k] = target[k], middle[k], target[3 + k]
    real[m, 6], real[m, 7], real[m, 8] = feed, rpm, wait
    whole[m, 0] = code
    for k in range(8):
        whole[m, 1 + k] = state[k]
    whole[m, 9], whole[m, 10] = line, state[8]
    return m + 1


@kernel(nogil=True)
def interpret(data, first_tool):
    """Motions of a program as columns, behind a (trouble, line, letter, value) head."""
    n = len(data)
    count = 1
    for i in range(n):
        if data[i] == 10:
            count += 1
    real, integral = np.zeros((count, REALS)), np.zeros((count, WHOLES), np.int64)
    state = np.zeros(9, np.int64)
    side, side_fresh, radius_word = 0, False, 0
    deep = np.zeros(7)
    has_deep = np.zeros(7, np.bool_)
    back_to_start, began = True, 0.0
    place, target, middle = np.zeros(6), np.zeros(6), np.zeros(3)
    known = np.zeros(3, np.bool_)
    value = np.zeros(SLOTS)
    given = np.zeros(SLOTS, np.bool_)
    mode, plane, unit, absolute, feed_mode, offset, length, spin = -1, 17, 1.0, True, 94, 54, 0, 0
    feed, rpm, waited = 0.0, 0.0, 0.0
    tool, waiting_tool = first_tool, first_tool
    m = 0
    line = 0
    ended = False
    trouble, letter_at, value_at = 0, 0, 0.0
    i = 0
    while i <= n and trouble == 0:
        # One line.
        for k in range(SLOTS):
            given[k] = False
        motion_word, length_word, dwell, change, ends, words = -1, -1, False, False, False, 0
        side_word = 0
        home = False
        groups = 0
        while i < n and data[i] != 10 and trouble == 0:
            c = data[i]
            if c == 32 or c == 9 or c == 13 or c == 37:
                i += 1
                continue
            if c == 40:
                while i < n and data[i] != 41 and data[i] != 10:
                    i += 1
                if i >= n or data[i] == 10:
                    trouble = OPEN_COMMENT
                    break
                i += 1
                continue
            if c == 59:
                while i < n and data[i] != 10:
                    i += 1
                break
            if c == 47 and words == 0:
                while i < n and data[i] != 10:
                    i += 1
                break
            if 97 <= c <= 122:
                c -= 32
            if c < 65 or c > 90:
                trouble, letter_at = BAD_CHARACTER, 0
                break
            i += 1
            while i < n and data[i] == 32:
                i += 1
            sign = 1.0
            if i < n and (data[i] == 45 or data[i] == 43):
                sign = -1.0 if data[i] == 45 else 1.0
                i += 1
            whole, scale, digits, dotted = 0, 1, 0, False
            while i < n and ((48 <= data[i] <= 57) or data[i] == 46):
                if data[i] == 46:
                    if dotted:
                        trouble = BAD_NUMBER
                    dotted = True
                else:
                    digits += 1
                    if digits > 17:
                        trouble = BAD_NUMBER
                        break
                    whole = whole * 10 + (int(data[i]) - 48)
                    if dotted:
                        scale *= 10
                i += 1
            if digits == 0:
                trouble, letter_at = BAD_NUMBER, c
            if trouble:
                letter_at = c
                break
            number = sign * whole / scale
            words += 1
            if ended:
                trouble = BEYOND_END
                break
            letter_at, value_at = c, number
            if c == 71:
                g = int(round(number * 10))
                if g == 0 or g == 10 or g == 20 or g == 30:
                    if groups & 1:
                        trouble = TWO_MOTIONS
                    groups |= 1
                    motion_word = g // 10
                elif g == 40:
                    dwell = True
                elif g == 280:
                    home = True
                elif g == 170 or g == 180 or g == 190:
                    plane = g // 10
                elif g == 200:
                    unit = 25.4
                elif g == 210:
                    unit = 1.0
                elif g == 900 or g == 910:
                    if groups & 2:
                        trouble = TWO_MOTIONS
                    groups |= 2
                    absolute = g == 900
                elif g == 930 or g == 940 or g == 950:
                    feed_mode = g // 10
                elif 540 <= g <= 590 and g % 10 == 0:
                    offset = g // 10
                elif g == 541:
                    offset = EXTENDED
                elif g == 430 or g == 490:
                    length_word = g // 10
                elif g == 730 or g == 740 or (g % 10 == 0 and 810 <= g <= 870) or g == 890:
                    if groups & 1:
                        trouble = TWO_MOTIONS
                    groups |= 1
                    motion_word = g // 10
                elif g == 800:
                    if groups & 1:
                        trouble = TWO_MOTIONS
                    groups |= 1
                    motion_word = 80
                elif g == 980 or g == 990:
                    back_to_start = g == 980
                elif g in (TIP_ON, TIP_OFF):
                    state[8] = 1 if g == TIP_ON else 0
                    length_word = 43 if g == TIP_ON else 49
                elif g == 400 or g == 410 or g == 420:
                    side_word = g // 10
                else:
                    trouble = UNKNOWN_G
            elif c == 77:
                w = int(round(number))
                if w == 3 or w == 4:
                    spin = 1 if w == 3 else -1
                elif w == 5:
                    spin = 0
                elif w == 19:
                    spin = ORIENTED
                elif w == 6:
                    change = True
                elif w == 2 or w == 30:
                    ends = True
                elif w == 0 or w == 1 or w == 7 or w == 8 or w == 9:
                    pass
                else:
                    trouble = UNKNOWN_M
            elif c == 78 or c == 79:
                pass
            else:
                slot = _SLOT[c]
                if slot < 0:
                    trouble = UNKNOWN_WORD
                else:
                    value[slot] = number
                    given[slot] = True
        if trouble:
            break
        # Carry the line out.
        if given[S]:
            rpm = value[S]
        if given[T]:
            waiting_tool = int(value[T])
        if change:
            tool = waiting_tool
            length = 0
            for k in range(3):
                known[k] = known[k] and k < 2
        if length_word == 43:
            length = int(value[H]) if given[H] else tool
        elif length_word == 49:
            length = 0
        if side_word == 40:
            # Coming off is a motion of its own, as going on is; without compensation the word changes nothing.
            side, side_fresh = 0, side != 0
        elif side_word > 0:
            if not given[D] and side == 0:
                trouble, letter_at = SIDE_WITHOUT_OFFSET, 0
                break
            side, side_fresh = side_word, True
            if given[D]:
                radius_word = int(value[D])
        if dwell and given[P]:
            waited += value[P]
        if offset == EXTENDED:
            if not given[P] or value[P] < 1.0:
                trouble, letter_at = NO_OFFSET, 0
                break
            offset = EXTENDED + int(value[P])
        if motion_word >= FIRST_CYCLE and motion_word != 80 and motion_word != mode:
            # A cycle begins: nothing is kept from the one before, and this is the height that G98 goes back to.
            has_deep[:] = False
            began = place[2]
        if motion_word >= 0:
            mode = -1 if motion_word == 80 else motion_word
        for k in range(7):
            value[k] *= unit
        value[Q] *= unit
        moving = given[X] or given[Y] or given[Z] or given[A] or given[B] or given[C]
        state[0], state[1], state[2], state[3], state[4] = plane, spin, tool, length, offset
        state[6], state[7] = side, radius_word
        if home:
            # The axes that it names go to their places of the machine, which a program cannot know.
            if not moving or absolute or value[X] * given[X] or value[Y] * given[Y] or value[Z] * given[Z]:
                trouble, letter_at = NO_HOME, 0
                break
            for k in range(3):
                known[k] = known[k] and not given[k]
            moving = False
        arc = (mode == 2 or mode == 3) and (moving or given[I] or given[J] or given[K] or given[R])
        arc = arc and not (home or dwell)
        if given[F]:
            # With inverse time the word is the number of motions a minute and holds for this line only.
            feed = value[F] if feed_mode == 93 else value[F] * unit
        if mode >= FIRST_CYCLE:
            if not moving and motion_word < 0:
                i += 1
                line += 1
                ended = ended or ends
                continue
            letter_at = 0
            if not absolute:
                trouble = CYCLE_INCREMENTAL
                break
            for slot, word in enumerate((Z, R, Q, P, I, J, K)):
                if given[word]:
                    deep[slot], has_deep[slot] = value[word], True
            if not (has_deep[0] and has_deep[1]):
                trouble = NO_DEPTH
            elif deep[0] > deep[1]:
                trouble = DEPTH_ABOVE
            elif mode == BACK_BORE and not (has_deep[6] and deep[0] <= deep[6] <= deep[1]):
                trouble = NO_BACK
            elif (mode == 83 or mode == 73) and not (has_deep[2] and deep[2] > 0.0):
                trouble = NO_PECK
            elif (mode == 83 or mode == 73) and deep[1] - deep[0] > MOST_PECKS * deep[2]:
                trouble = MANY_PECKS
            elif feed <= 0.0 or feed_mode == 93:
                trouble = NO_FEED
            if trouble:
                break
            wait = deep[3] if has_deep[3] and (mode == 82 or mode == 86 or mode == 89) else 0.0
            if mode == BACK_BORE:
                heights, aside, cutting, turns, waits = steps_of_back_bore(deep[1], deep[0], deep[6], spin)
            else:
                heights, cutting, turns, waits = steps_of_cycle(mode, deep[1], deep[0], deep[2], wait)
                aside = np.zeros(len(heights))
            need = m + len(heights) + 4
            if need > count + MOST_CYCLE_MOTIONS:
                trouble = MANY_MOTIONS
                break
            real, integral = _grown(real, need), _grown(integral, need)
            middle[:] = 0.0
            for k in range(6):
                target[k] = place[k]
            known[0], known[1], known[2] = known[0] or given[X], known[1] or given[Y], True
            state[5] = known[0] + 2 * known[1] + 4 * known[2]
            if place[2] < deep[1]:
                target[2] = deep[1]
                m = _keep(real, integral, m, target, middle, 0.0, rpm, waited, 0, state, line)
                waited = 0.0
            for k in range(2):
                if given[k]:
                    target[k] = value[k]
            if target[0] != place[0] or target[1] != place[1]:
                m = _keep(real, integral, m, target, middle, 0.0, rpm, waited, 0, state, line)
                waited = 0.0
            if target[2] > deep[1]:
                target[2] = deep[1]
                m = _keep(real, integral, m, target, middle, 0.0, rpm, waited, 0, state, line)
                waited = 0.0
            rate = feed * rpm if feed_mode == 95 else feed
            hole_x, hole_y = target[0], target[1]
            for k in range(len(heights)):
                target[0], target[1] = hole_x + aside[k] * deep[4], hole_y + aside[k] * deep[5]
                target[2] = heights[k]
                if mode == 74 or mode == 84 or mode == 86 or mode == BACK_BORE:
                    state[1] = turns[k]
                done = 1 if cutting[k] else 0
                m = _keep(real, integral, m, target, middle, rate * done, rpm, waited + waits[k], done, state, line)
                waited = 0.0
            state[1] = spin
            if back_to_start and began > deep[1]:
                target[2] = began
                m = _keep(real, integral, m, target, middle, 0.0, rpm, 0.0, 0, state, line)
            for k in range(3):
                place[k] = target[k]
        elif moving or arc:
            if mode < 0:
                trouble, letter_at = NO_MOTION, 0
                break
            for k in range(3):
                target[k] = place[k]
                if given[k]:
                    target[k] = value[k] if absolute else place[k] + value[k]
                target[3 + k] = place[3 + k]
                if given[A + k]:
                    target[3 + k] = value[A + k] if absolute else place[3 + k] + value[A + k]
            for k in range(3):
                middle[k] = 0.0
            if mode >= 2:
                limit = ARC_ABSOLUTE_MM if unit == 1.0 else ARC_ABSOLUTE_INCH_IN_MM
                trouble = _arc_centre(place, target, value, given, plane, mode, limit, middle)
                letter_at = 0
                if trouble:
                    break
            if side_fresh and mode >= 2:
                trouble, letter_at = SIDE_ON_ARC, 0
                break
            side_fresh = False
            if mode > 0 and (feed <= 0.0 or (feed_mode == 93 and not given[F])):
                trouble, letter_at = NO_FEED, 0
                break
            for k in range(3):
                known[k] = known[k] or given[k]
            state[5] = known[0] + 2 * known[1] + 4 * known[2]
            rate = feed
            if feed_mode == 95:
                rate = feed * rpm
            elif feed_mode == 93:
                far = np.sqrt((target[0] - place[0]) ** 2 + (target[1] - place[1]) ** 2 + (target[2] - place[2]) ** 2)
                rate = feed * far
            real, integral = _grown(real, m + 1), _grown(integral, m + 1)
            m = _keep(real, integral, m, target, middle, rate if mode > 0 else 0.0, rpm, waited, mode, state, line)
            real[m - 1, MINUTES] = 1.0 / feed if feed_mode == 93 and mode > 0 else 0.0
            waited = 0.0
            for k in range(6):
                place[k] = target[k]
        ended = ended or ends
        i += 1
        line += 1
    if trouble == 0 and not ended:
        trouble, letter_at, line = NO_END, 0, max(line - 1, 0)
    return (trouble, line, letter_at, value_at), real[:m].copy(), integral[:m].copy()

"""Kernel behind `reading`: tokens and modal state in one sweep over the bytes."""

from __future__ import annotations

import numpy as np
from numba import njit

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
) = range(1, 15)

X, Y, Z, I, J, K, R, F, S, T, H, P = range(12)  # noqa: E741
# Limits of the NIST report: 0.002 mm in millimetres, 0.0002 in in inches.
ARC_ABSOLUTE_MM = 0.002
ARC_ABSOLUTE_INCH_IN_MM = 0.0002 * 25.4
ARC_RELATIVE = 0.001
EXTENDED = 100
"""Extended work offsets, G54.1 P1 …, are numbered 101, 102, …"""
_SLOT = np.full(128, -1, np.int8)
for _i, _letter in enumerate(b"XYZIJKRFSTHP"):
    _SLOT[_letter] = _i


@njit(cache=True)
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


@njit(cache=True, nogil=True)
def interpret(data, first_tool):
    """Motions of a program as columns, behind a (trouble, line, letter, value) head."""
    n = len(data)
    count = 1
    for i in range(n):
        if data[i] == 10:
            count += 1
    point, centre = np.zeros((count, 3)), np.zeros((count, 3))
    code, plane_of, spin_of = np.zeros(count, np.int8), np.zeros(count, np.int8), np.zeros(count, np.int8)
    feed_of, rpm_of, wait_of = np.zeros(count), np.zeros(count), np.zeros(count)
    tool_of, length_of = np.zeros(count, np.int32), np.zeros(count, np.int32)
    offset_of, line_of = np.zeros(count, np.int16), np.zeros(count, np.int64)
    known_of = np.zeros((count, 3), np.bool_)
    place, target, middle = np.zeros(3), np.zeros(3), np.zeros(3)
    known = np.zeros(3, np.bool_)
    value = np.zeros(12)
    given = np.zeros(12, np.bool_)
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
        for k in range(12):
            given[k] = False
        motion_word, length_word, dwell, change, ends, words = -1, -1, False, False, False, 0
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
                elif g == 400 or g == 800:
                    pass
                else:
                    trouble = UNKNOWN_G
            elif c == 77:
                w = int(round(number))
                if w == 3 or w == 4:
                    spin = 1 if w == 3 else -1
                elif w == 5:
                    spin = 0
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
        if dwell and given[P]:
            waited += value[P]
        if offset == EXTENDED:
            if not given[P] or value[P] < 1.0:
                trouble, letter_at = NO_OFFSET, 0
                break
            offset = EXTENDED + int(value[P])
        if motion_word >= 0:
            mode = motion_word
        for k in range(7):
            value[k] *= unit
        moving = given[X] or given[Y] or given[Z]
        arc = (mode == 2 or mode == 3) and (moving or given[I] or given[J] or given[K] or given[R]) and not dwell
        if given[F]:
            # With inverse time the word is the number of motions a minute and holds for this line only.
            feed = value[F] if feed_mode == 93 else value[F] * unit
        if moving or arc:
            if mode < 0:
                trouble, letter_at = NO_MOTION, 0
                break
            for k in range(3):
                target[k] = place[k]
                if given[k]:
                    target[k] = value[k] if absolute else place[k] + value[k]
            for k in range(3):
                middle[k] = 0.0
            if mode >= 2:
                limit = ARC_ABSOLUTE_MM if unit == 1.0 else ARC_ABSOLUTE_INCH_IN_MM
                trouble = _arc_centre(place, target, value, given, plane, mode, limit, middle)
                letter_at = 0
                if trouble:
                    break
            if mode > 0 and (feed <= 0.0 or (feed_mode == 93 and not given[F])):
                trouble, letter_at = NO_FEED, 0
                break
            for k in range(3):
                known[k] = known[k] or given[k]
                point[m, k], centre[m, k], known_of[m, k] = target[k], middle[k], known[k]
            rate = feed
            if feed_mode == 95:
                rate = feed * rpm
            elif feed_mode == 93:
                far = np.sqrt((target[0] - place[0]) ** 2 + (target[1] - place[1]) ** 2 + (target[2] - place[2]) ** 2)
                rate = feed * far
            code[m], plane_of[m], spin_of[m], line_of[m] = mode, plane, spin, line
            feed_of[m] = rate if mode > 0 else 0.0
            rpm_of[m], wait_of[m], tool_of[m], length_of[m], offset_of[m] = rpm, waited, tool, length, offset
            waited = 0.0
            for k in range(3):
                place[k] = target[k]
            m += 1
        ended = ended or ends
        i += 1
        line += 1
    if trouble == 0 and not ended:
        trouble, letter_at, line = NO_END, 0, max(line - 1, 0)
    head = (trouble, line, letter_at, value_at)
    return (
        head,
        point[:m],
        code[:m],
        centre[:m],
        plane_of[:m],
        feed_of[:m],
        wait_of[:m],
        tool_of[:m],
        offset_of[:m],
        length_of[:m],
        rpm_of[:m],
        spin_of[:m],
        line_of[:m],
        known_of[:m],
    )

"""Kernel behind `writing`: motions as words, straight into bytes."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel, leaf

LONGEST_LINE = 160


@leaf
def _put_int(out, at, value):
    if value == 0:
        out[at] = 48
        return at + 1
    digits = 0
    rest = value
    while rest > 0:
        digits += 1
        rest //= 10
    for k in range(digits - 1, -1, -1):
        out[at + k] = 48 + value % 10
        value //= 10
    return at + digits


@leaf
def _put_number(out, at, units, decimals, trailing):
    if units < 0:
        out[at] = 45
        at += 1
        units = -units
    if decimals == 0:
        return _put_int(out, at, units)
    scale = 10**decimals
    at = _put_int(out, at, units // scale)
    out[at] = 46
    at += 1
    rest = units % scale
    for k in range(decimals - 1, -1, -1):
        out[at + k] = 48 + rest % 10
        rest //= 10
    end = at + decimals
    if not trailing:
        while end > at and out[end - 1] == 48:
            end -= 1
    return end


@leaf
def _word(out, at, letter, units, decimals, trailing, space, first):
    if space and not first:
        out[at] = space
        at += 1
    out[at] = letter
    return _put_number(out, at + 1, units, decimals, trailing)


@kernel(nogil=True)
def write_motions(
    units,
    code,
    offsets,
    feeds,
    decimals,
    feed_decimals,
    trailing,
    space,
    modal_motion,
    modal_axes,
    by_radius,
    number,
    number_step,
    number_start,
    number_wrap,
    motion,
    feed,
    letters,
    every_feed,
):
    """Words for motions 1 … n − 1 (motion 0 stands already; `motion` and `feed` are the words in force after it).

    `units` has a column for each of `letters`; with `every_feed` each line has its own F word.

    Returns the text, the line (1 = first written here, 0 = the one before) of each motion, the next line number, and
    the motion and feed words in force.
    """
    n = len(units)
    out = np.empty(LONGEST_LINE * n + 1, np.uint8)
    lines = np.zeros(n, np.int64)
    at = 0
    line = 0
    for i in range(1, n):
        moved = False
        for a in range(len(letters)):
            moved = moved or units[i, a] != units[i - 1, a]
        if not moved and code[i] < 2:
            lines[i] = line
            continue
        first = True
        if number_step:
            at = _word(out, at, 78, number, 0, False, 0, True)
            number += number_step
            if number > number_wrap:
                number = number_start
            first = False
        if code[i] != motion or not modal_motion or code[i] >= 2:
            at = _word(out, at, 71, code[i], 0, False, space, first)
            first = False
            motion = code[i]
        for a in range(len(letters)):
            if units[i, a] != units[i - 1, a] or not modal_axes:
                at = _word(out, at, letters[a], units[i, a], decimals, trailing, space, first)
                first = False
        if code[i] >= 2:
            if by_radius:
                at = _word(out, at, 82, offsets[i, 0], decimals, trailing, space, first)
            else:
                at = _word(out, at, 73, offsets[i, 0], decimals, trailing, space, first)
                at = _word(out, at, 74, offsets[i, 1], decimals, trailing, space, False)
            first = False
        if code[i] > 0 and (every_feed or feeds[i] != feed):
            at = _word(out, at, 70, feeds[i], feed_decimals, trailing, space, first)
            feed = feeds[i]
        out[at] = 10
        at += 1
        line += 1
        lines[i] = line
    return out[:at].copy(), lines, number, motion, feed

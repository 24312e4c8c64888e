"""Kernels behind `_reading_kernels`: what canned cycles do at a hole, step by step (RS274/NGC)."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel
from fenrik.core.toolpath.model import ORIENTED

BACK_OFF_MM = 0.254
"""How far pecks back off: 0.010 in, as in the interpreter of the NIST report."""


@kernel
def steps_of_cycle(word, top, bottom, peck, wait):
    """What a cycle does from its R plane: heights, whether at feed, spindle, and seconds before each (RS274/NGC)."""
    count = 4
    if word == 83 or word == 73:
        count = 3 * int(np.ceil((top - bottom) / peck)) + 3
    z = np.zeros(count)
    cutting = np.zeros(count, np.bool_)
    turn = np.ones(count, np.int64)
    waits = np.zeros(count)
    n = 0
    if word == 83 or word == 73:
        depth = top
        while depth - peck > bottom + 1e-9:
            depth -= peck
            z[n], cutting[n] = depth, True
            n += 1
            if word == 83:
                z[n] = top
                z[n + 1] = min(depth + BACK_OFF_MM, top)
                n += 2
            else:
                z[n] = min(depth + BACK_OFF_MM, top)
                n += 1
    z[n], cutting[n] = bottom, True
    n += 1
    z[n], waits[n] = top, wait
    if word == 84 or word == 74:
        turn[:] = 1 if word == 84 else -1
        turn[n] = -turn[n]
        cutting[n] = True
    if word == 86:
        turn[n] = 0
    if word == 85 or word == 89:
        cutting[n] = True
    n += 1
    return z[:n], cutting[:n], turn[:n], waits[:n]


@kernel
def steps_of_back_bore(plane, below, top, spin):
    """What G87 of RS274/NGC does from its R plane: heights, whether beside the hole by I and J, whether at feed,
    spindle, and seconds before each. The tool goes in and out with the spindle stopped in its place, and bores upwards.
    """
    z = np.array([plane, below, below, top, below, below, plane, plane])
    aside = np.array([1.0, 1.0, 0.0, 0.0, 0.0, 1.0, 1.0, 0.0])
    cutting = np.array([False, False, False, True, True, False, False, False])
    turn = np.full(8, ORIENTED)
    turn[0] = turn[3] = turn[4] = spin
    return z, aside, cutting, turn, np.zeros(8)

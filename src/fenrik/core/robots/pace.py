"""How fast an arm may go along a path: no joint beyond its speed, none beyond its acceleration.

Every step has a pace of its own, that of its feed; it is slowed to a share of it until speeds, and the changes of speed
from step to step over half of both, keep to what the joints have: caps first, then forwards and backwards (after
J. E. Bobrow, S. Dubowsky, J. S. Gibson 1985, "Time-optimal control of robotic manipulators along specified paths").
"""

from __future__ import annotations

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.robots import _pace_kernels as kernels

LEAST_RATE = 1e-4


def paced(joints: Points, seconds: Points, speed: Points, acceleration: Points) -> Points:
    """The time of each step along rows of joints, (n,); 0 for the first.

    Args:
        joints: (n, joints) mm and degrees. seconds: (n,) of each step at its feed. speed, acceleration: (joints,) per
            second and per second squared.
    """
    n = len(joints)
    if n < 2:
        return np.zeros(n)
    moved = np.diff(joints, axis=0)
    span = np.maximum(seconds[1:], 1e-6)
    rate = kernels.rates(moved, span, speed, acceleration, LEAST_RATE)
    return np.append(0.0, span / rate)


def greatest_acceleration(joints: Points, seconds: Points) -> Points:
    """The greatest change of speed of each joint, (joints,), from step to step."""
    step = np.maximum(seconds[1:], 1e-12)
    speed = np.diff(joints, axis=0) / step[:, None]
    speed = np.vstack([np.zeros(joints.shape[1]), speed, np.zeros(joints.shape[1])])
    half = np.concatenate([[0.5 * step[0]], 0.5 * (step[1:] + step[:-1]), [0.5 * step[-1]]])
    return np.abs(np.diff(speed, axis=0) / half[:, None]).max(axis=0)

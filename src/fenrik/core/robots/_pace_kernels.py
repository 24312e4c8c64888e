"""Kernel behind `pace`: how fast each step of a path may be, so that no joint is asked for more than it has."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel, leaf

HALVINGS, ROUNDS, SAME = 40, 200, 1e-4


@leaf
def _lack(first, second, first_rate, second_rate, first_span, second_span, most):
    """How far the change of speed between two steps goes beyond what the joints have, (below 0: it does not)."""
    seconds = 0.5 * (first_span / first_rate + second_span / second_rate)
    worst = -1e30
    for j in range(len(most)):
        worst = max(worst, abs(second_rate * second[j] - first_rate * first[j]) - most[j] * seconds)
    return worst


@leaf
def _greatest(first, second, first_rate, cap, first_span, second_span, most):
    """The greatest rate of the second step, up to a cap, that the first one allows; halved until that is known."""
    if _lack(first, second, first_rate, cap, first_span, second_span, most) <= 0.0:
        return cap
    # Near the rate at which the joints' speeds change least there is room, which a search from rest could miss.
    same, size = 0.0, 0.0
    for j in range(len(most)):
        same += first[j] * second[j] / (most[j] * most[j])
        size += second[j] * second[j] / (most[j] * most[j])
    steady = max(first_rate * same / max(size, 1e-300), 0.0)
    if steady >= cap:
        return cap  # it slows down: that is for the other direction to see to
    low, high = 0.0, cap
    if steady > 0.0:
        if _lack(first, second, first_rate, steady, first_span, second_span, most) <= 0.0:
            low = steady
        else:
            high = steady
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        if middle > 0.0 and _lack(first, second, first_rate, middle, first_span, second_span, most) <= 0.0:
            low = middle
        else:
            high = middle
    return low


@kernel(nogil=True)
def rates(moved, span, speed, most, least):
    """Shares of their pace at which steps are made.

    Args:
        moved: (n, joints) how far each goes in each step. span: (n,) seconds of a step at its own pace. speed, most:
            (joints,) speed and acceleration. least: a rate that none goes below.

    Returns:
        (n,) rates up to 1; n steps begin and end at rest.
    """
    n, joints = moved.shape
    slope = np.empty_like(moved)
    rate = np.ones(n)
    for i in range(n):
        for j in range(joints):
            slope[i, j] = moved[i, j] / span[i]
            if abs(slope[i, j]) > 0.0:
                rate[i] = min(rate[i], speed[j] / abs(slope[i, j]))
    for end in (0, n - 1):
        # From rest to the speed of a step in half of its time.
        for j in range(joints):
            if abs(slope[end, j]) > 0.0:
                rate[end] = min(rate[end], np.sqrt(0.5 * most[j] * span[end] / abs(slope[end, j])))
    for i in range(1, n):
        for j in range(joints):
            turn = abs(slope[i, j] - slope[i - 1, j])
            if turn > 0.0:
                cap = np.sqrt(0.5 * most[j] * (span[i] + span[i - 1]) / turn)
                rate[i], rate[i - 1] = min(rate[i], cap), min(rate[i - 1], cap)
    for _ in range(ROUNDS):
        changed = False
        for i in range(1, n):
            new = max(_greatest(slope[i - 1], slope[i], rate[i - 1], rate[i], span[i - 1], span[i], most), least)
            changed = changed or new < (1.0 - SAME) * rate[i]
            rate[i] = min(rate[i], new)
        for i in range(n - 2, -1, -1):
            new = max(_greatest(slope[i + 1], slope[i], rate[i + 1], rate[i], span[i + 1], span[i], most), least)
            changed = changed or new < (1.0 - SAME) * rate[i]
            rate[i] = min(rate[i], new)
        if not changed:
            break
    return rate

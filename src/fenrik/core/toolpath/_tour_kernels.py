"""Kernel behind `tour`: 2-opt and or-opt moves with kicks, on a matrix of distances."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel


@kernel
def _length(order, distance):
    total = 0.0
    for k in range(len(order) - 1):
        total += distance[order[k], order[k + 1]]
    return total


@kernel
def _improve(order, distance):
    """2-opt and or-opt until nothing helps; the first place stays first, the end is free."""
    n = len(order)
    better = True
    while better:
        better = False
        for i in range(n - 2):
            a, b = order[i], order[i + 1]
            for j in range(i + 2, n):
                c = order[j]
                gain = distance[a, b] - distance[a, c]
                if j + 1 < n:
                    d = order[j + 1]
                    gain += distance[c, d] - distance[b, d]
                if gain > 1e-9:
                    order[i + 1 : j + 1] = order[i + 1 : j + 1][::-1].copy()
                    b = order[i + 1]
                    better = True
        for size in (1, 2, 3):
            for i in range(1, n - size + 1):
                j = i + size - 1
                before, first, last = order[i - 1], order[i], order[j]
                out = distance[before, first]
                closing = 0.0
                if j + 1 < n:
                    out += distance[last, order[j + 1]]
                    closing = distance[before, order[j + 1]]
                best, where, turned = 1e-9, -1, False
                for k in range(n):
                    if i - 1 <= k <= j:
                        continue
                    left = order[k]
                    gap, put, put_turned = 0.0, distance[left, first], distance[left, last]
                    if k + 1 < n:
                        gap = distance[left, order[k + 1]]
                        put += distance[last, order[k + 1]]
                        put_turned += distance[first, order[k + 1]]
                    gain = out - closing + gap - min(put, put_turned)
                    if gain > best:
                        best, where, turned = gain, k, put_turned < put
                if where >= 0:
                    piece = order[i : j + 1].copy()
                    if turned:
                        piece = piece[::-1].copy()
                    rest = np.concatenate((order[:i], order[j + 1 :]))
                    at = where + 1 if where < i else where + 1 - size
                    order[:at] = rest[:at]
                    order[at : at + size] = piece
                    order[at + size :] = rest[at:]
                    better = True
    return order


@kernel(nogil=True)
def shortest(distance, start, kicks):
    """An order of all places from `start`, short but not proven shortest. The same input gives the same order."""
    n = len(distance)
    order = np.empty(n, np.int64)
    used = np.zeros(n, np.bool_)
    order[0] = start
    used[start] = True
    for k in range(1, n):
        near, at = np.inf, -1
        for j in range(n):
            if not used[j] and distance[order[k - 1], j] < near:
                near, at = distance[order[k - 1], j], j
        order[k] = at
        used[at] = True
    order = _improve(order, distance)
    best = _length(order, distance)
    if n < 8:
        return order
    seed = np.uint64(88172645463325252)
    for _ in range(kicks):
        cuts = np.empty(3, np.int64)
        for c in range(3):
            seed ^= seed << np.uint64(13)
            seed ^= seed >> np.uint64(7)
            seed ^= seed << np.uint64(17)
            cuts[c] = 1 + np.int64(seed % np.uint64(n - 1))
        cuts.sort()
        a, b, c = cuts
        if a == b or b == c:
            continue
        # A double bridge: the two middle stretches change places.
        kicked = _improve(np.concatenate((order[:a], order[b:c], order[a:b], order[c:])), distance)
        length = _length(kicked, distance)
        if length < best - 1e-9:
            best, order = length, kicked
    return order

"""Kernel behind `shadow`: directed edges joined into closed rings."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel


@kernel
def trace(ends, first):
    """Follow edges from vertex to vertex until each way comes back to where it began, or ends.

    Args:
        ends: (n,) where edges end, sorted by where they begin. first: (vertices + 1,) the first edge from each.

    Returns:
        (m,) vertices of closed ways of three and more, one after the other, and (rings + 1,) where each begins.
    """
    left = first[1:].copy()
    way, starts = np.empty(len(ends), np.int64), np.empty(len(ends) // 3 + 2, np.int64)
    size, rings = 0, 0
    starts[0] = 0
    for start in range(len(first) - 1):
        while left[start] > first[start]:
            count, here = 0, start
            while True:
                way[size + count] = here
                count += 1
                left[here] -= 1
                here = ends[left[here]]
                if here == start or left[here] == first[here]:
                    break
            if here == start and count >= 3:
                size += count
                rings += 1
                starts[rings] = size
    return way[:size], starts[: rings + 1]

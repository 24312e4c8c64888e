"""Numba kernel that compares the material on rays with the surface of a body that they pass through."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel

SAME_MM = 1e-9


@kernel
def over_surface(
    start: np.ndarray,
    place: np.ndarray,
    slope: np.ndarray,
    steepest: float,
    first: np.ndarray,
    count: np.ndarray,
    at: np.ndarray,
    over: np.ndarray,
) -> None:
    """Length along the ray that stands over each place of the surface (below 0: is missing under it); NaN where the
    ray meets the surface at a flatter angle than `steepest`.

    Args:
        start: (rays + 1,) where the places of each ray begin. place: (n,) along the ray, rising within each ray.
        slope: (n,) part of the surface's outward normal along the ray.
        first: (rays,) where the hits of each ray begin in `at`. count: (rays,) how many there are, in pairs.
    """
    for ray in range(len(start) - 1):
        hits = first[ray]
        for k in range(start[ray], start[ray + 1]):
            if abs(slope[k]) < steepest:
                continue
            here, out = place[k], slope[k] > 0.0
            # What stands out from here: as far as the next place where the body itself begins again.
            bound = np.inf
            if out and k + 1 < start[ray + 1]:
                bound = place[k + 1] - here
            elif not out and k > start[ray]:
                bound = here - place[k - 1]
            found = -np.inf
            for pair in range(count[ray] // 2):
                low, high = at[hits + 2 * pair], at[hits + 2 * pair + 1]
                if out:
                    if low <= here + SAME_MM and high - here > found:
                        found = high - here
                elif high >= here - SAME_MM and here - low > found:
                    found = here - low
            over[k] = min(found, bound)

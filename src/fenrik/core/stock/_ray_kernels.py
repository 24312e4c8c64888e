"""Numba kernels that find where the rays of one family pass through the triangles of a closed mesh."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel


@kernel
def _side(ax: float, ay: float, bx: float, by: float, px: float, py: float) -> int:
    """On which side of the line a → b a place lies: 1 or −1, never 0.

    Endpoints are taken in a fixed order, so that two triangles that share an edge agree to the last bit; a place on the
    line itself goes to one of them by the line's direction.
    """
    flip = 1
    if ax > bx or (ax == bx and ay > by):
        ax, ay, bx, by = bx, by, ax, ay
        flip = -1
    value = (bx - ax) * (py - ay) - (by - ay) * (px - ax)
    if value > 0.0:
        return flip
    if value < 0.0:
        return -flip
    return flip if ax != bx else -flip


@kernel
def _covers(t: np.ndarray, u: int, v: int, pu: float, pv: float) -> bool:
    a = _side(t[0, u], t[0, v], t[1, u], t[1, v], pu, pv)
    b = _side(t[1, u], t[1, v], t[2, u], t[2, v], pu, pv)
    c = _side(t[2, u], t[2, v], t[0, u], t[0, v], pu, pv)
    return a == b and b == c


@kernel
def find_hits(
    corners: np.ndarray,
    normals: np.ndarray,
    u: int,
    v: int,
    along: int,
    origin: np.ndarray,
    cell: float,
    nu: int,
    nv: int,
    start: np.ndarray,
    place: np.ndarray,
    owner: np.ndarray,
    fill: bool,
) -> None:
    """First call (`fill` False): counts hits of each ray into `start`. Second: writes places and triangles."""
    for k in range(len(corners)):
        t = corners[k]
        slope = normals[k, along]
        if slope == 0.0:
            continue
        i0 = max(int(np.ceil((min(t[0, u], t[1, u], t[2, u]) - origin[u]) / cell - 1e-9)), 0)
        i1 = min(int(np.floor((max(t[0, u], t[1, u], t[2, u]) - origin[u]) / cell + 1e-9)), nu - 1)
        j0 = max(int(np.ceil((min(t[0, v], t[1, v], t[2, v]) - origin[v]) / cell - 1e-9)), 0)
        j1 = min(int(np.floor((max(t[0, v], t[1, v], t[2, v]) - origin[v]) / cell + 1e-9)), nv - 1)
        for i in range(i0, i1 + 1):
            pu = origin[u] + cell * i
            for j in range(j0, j1 + 1):
                pv = origin[v] + cell * j
                if not _covers(t, u, v, pu, pv):
                    continue
                ray = i * nv + j
                if fill:
                    at = t[0, along] - (normals[k, u] * (pu - t[0, u]) + normals[k, v] * (pv - t[0, v])) / slope
                    place[start[ray]] = at
                    owner[start[ray]] = k
                start[ray] += 1


@kernel
def pair_hits(
    start: np.ndarray,
    place: np.ndarray,
    owner: np.ndarray,
    normals: np.ndarray,
    along: int,
    count: np.ndarray,
    at: np.ndarray,
    normal: np.ndarray,
) -> int:
    """Stretches of material on each ray, overlapping bodies joined; gives how many rays do not close.

    `count` (rays,), `at` (rays, cap) and `normal` (rays, cap, 3) are filled; a ray that does not close stays empty.
    """
    wrong = 0
    for ray in range(len(count)):
        a, b = start[ray], start[ray + 1]
        order = np.argsort(place[a:b], kind="mergesort")
        depth, n = 0, 0
        # At equal places material begins before it ends, so that bodies that touch are one.
        i = 0
        while i < b - a:
            j = i
            here = place[a + order[i]]
            while j < b - a and place[a + order[j]] - here <= 1e-12:
                j += 1
            before = depth
            first_in, last_out = -1, -1
            for k in range(i, j):
                hit = a + order[k]
                if normals[owner[hit], along] < 0.0:
                    depth += 1
                    first_in = hit
                else:
                    depth -= 1
                    last_out = hit
            if before == 0 and depth > 0:
                _write(at, normal, ray, n, here, normals[owner[first_in]])
                n += 1
            elif before > 0 and depth <= 0:
                _write(at, normal, ray, n, here, normals[owner[last_out]])
                n += 1
                depth = min(depth, 0)
            i = j
        if depth != 0 or n % 2:
            wrong += 1
            n = 0
        count[ray] = n
    return wrong


@kernel
def _write(at: np.ndarray, normal: np.ndarray, ray: int, n: int, place: float, direction: np.ndarray) -> None:
    at[ray, n] = place
    for k in range(3):
        normal[ray, n, k] = np.int8(np.rint(direction[k] * 127.0))

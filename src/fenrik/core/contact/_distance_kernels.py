"""Kernels behind `distance`: a tree of boxes and the closest-point query (C. Ericson's point-triangle regions)."""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.kernels import kernel

LEAF = 4


@kernel
def build(corners):
    """Order of triangles, boxes (n, 6), children (n, 4: left, right, first, count) of a median-split tree."""
    n = len(corners)
    order = np.arange(n).astype(np.int32)
    boxes = np.empty((2 * n + 1, 6))
    children = np.full((2 * n + 1, 4), -1, np.int32)
    centres = np.empty((n, 3))
    for t in range(n):
        for c in range(3):
            centres[t, c] = (corners[t, 0, c] + corners[t, 1, c] + corners[t, 2, c]) / 3.0
    stack = np.empty((128, 3), np.int64)
    stack[0] = (0, 0, n)
    depth, used = 1, 1
    while depth > 0:
        depth -= 1
        node, first, last = stack[depth]
        for c in range(3):
            boxes[node, c], boxes[node, 3 + c] = np.inf, -np.inf
        for k in range(first, last):
            for q in range(3):
                for c in range(3):
                    value = corners[order[k], q, c]
                    boxes[node, c] = min(boxes[node, c], value)
                    boxes[node, 3 + c] = max(boxes[node, 3 + c], value)
        if last - first <= LEAF:
            children[node, 2], children[node, 3] = first, last - first
            continue
        axis = 0
        for c in range(1, 3):
            if boxes[node, 3 + c] - boxes[node, c] > boxes[node, 3 + axis] - boxes[node, axis]:
                axis = c
        piece = order[first:last].copy()
        order[first:last] = piece[np.argsort(centres[piece, axis])]
        middle = (first + last) // 2
        children[node, 0], children[node, 1] = used, used + 1
        stack[depth] = (used, first, middle)
        stack[depth + 1] = (used + 1, middle, last)
        depth += 2
        used += 2
    return order, boxes[:used].copy(), children[:used].copy()


@kernel
def _box_distance2(boxes, node, x, y, z):
    dx = max(boxes[node, 0] - x, x - boxes[node, 3], 0.0)
    dy = max(boxes[node, 1] - y, y - boxes[node, 4], 0.0)
    dz = max(boxes[node, 2] - z, z - boxes[node, 5], 0.0)
    return dx * dx + dy * dy + dz * dz


@kernel
def _closest(corners, t, px, py, pz, out):
    """Closest point of a triangle to a point, into out."""
    ax, ay, az = corners[t, 0, 0], corners[t, 0, 1], corners[t, 0, 2]
    ux, uy, uz = corners[t, 1, 0] - ax, corners[t, 1, 1] - ay, corners[t, 1, 2] - az
    vx, vy, vz = corners[t, 2, 0] - ax, corners[t, 2, 1] - ay, corners[t, 2, 2] - az
    wx, wy, wz = px - ax, py - ay, pz - az
    d1, d2 = ux * wx + uy * wy + uz * wz, vx * wx + vy * wy + vz * wz
    s = r = 0.0
    if not (d1 <= 0.0 and d2 <= 0.0):
        uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
        d3, d4 = d1 - uu, d2 - uv
        d5, d6 = d1 - uv, d2 - vv
        vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
        if d3 >= 0.0 and d4 <= d3:
            s = 1.0
        elif vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
            s = d1 / (d1 - d3)
        elif d6 >= 0.0 and d5 <= d6:
            r = 1.0
        elif vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
            r = d2 / (d2 - d6)
        elif va <= 0.0 and (d4 - d3) >= 0.0 and (d5 - d6) >= 0.0:
            r = (d4 - d3) / ((d4 - d3) + (d5 - d6))
            s = 1.0 - r
        else:
            s, r = vb / (va + vb + vc), vc / (va + vb + vc)
    out[0], out[1], out[2] = ax + s * ux + r * vx, ay + s * uy + r * vy, az + s * uz + r * vz


@kernel(parallel=True, nogil=True)
def query(points, corners, order, boxes, children):
    """Signed distances and closest triangles."""
    n = len(points)
    out = np.empty(n)
    nearest = np.empty(n, np.int32)
    for i in prange(n):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        spot = np.empty(3)
        stack = np.empty(128, np.int32)
        stack[0] = 0
        depth = 1
        best, square, side, found = np.inf, -1.0, 1.0, -1
        while depth > 0:
            depth -= 1
            node = stack[depth]
            if _box_distance2(boxes, node, x, y, z) > best * (1.0 + 1e-9) + 1e-18:
                continue
            if children[node, 0] < 0:
                for k in range(children[node, 2], children[node, 2] + children[node, 3]):
                    t = order[k]
                    _closest(corners, t, x, y, z, spot)
                    dx, dy, dz = x - spot[0], y - spot[1], z - spot[2]
                    d2 = dx * dx + dy * dy + dz * dz
                    if d2 > best * (1.0 + 1e-9) + 1e-18:
                        continue
                    ux, uy, uz = (
                        corners[t, 1, 0] - corners[t, 0, 0],
                        corners[t, 1, 1] - corners[t, 0, 1],
                        corners[t, 1, 2] - corners[t, 0, 2],
                    )
                    vx, vy, vz = (
                        corners[t, 2, 0] - corners[t, 0, 0],
                        corners[t, 2, 1] - corners[t, 0, 1],
                        corners[t, 2, 2] - corners[t, 0, 2],
                    )
                    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
                    size = np.sqrt(nx * nx + ny * ny + nz * nz) * np.sqrt(d2)
                    dot = nx * dx + ny * dy + nz * dz
                    facing = abs(dot) / size if size > 1e-30 else 0.0
                    if d2 < best * (1.0 - 1e-9) - 1e-18 or facing > square:
                        best = min(best, d2)
                        square = facing
                        side = 1.0 if dot >= 0.0 else -1.0
                        found = t
                continue
            a, b = children[node, 0], children[node, 1]
            if _box_distance2(boxes, a, x, y, z) < _box_distance2(boxes, b, x, y, z):
                stack[depth], stack[depth + 1] = b, a
            else:
                stack[depth], stack[depth + 1] = a, b
            depth += 2
        out[i] = side * np.sqrt(best)
        nearest[i] = found
    return out, nearest

"""Kernels behind `distance`: which triangle is closest, and on which side of it a point lies.

A tree of boxes and the closest point of a triangle (C. Ericson, Real-Time Collision Detection, 5.1.5); signs from
angle-weighted pseudonormals (J. A. Baerentzen and H. Aanaes, Signed distance computation using the angle weighted
pseudonormal, 2005). The same on the exact surfaces: `_exact_kernels`.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.kernels import kernel

LEAF, BINS = 4, 16
STACK, DEEP = 128, 64
"""Nodes that wait on the way through a tree, and the level from which on it is halved, so that they suffice."""
TOUCHING2 = 1e-18
"""Square of a distance that is none."""


@kernel
def build(corners):
    """Order of triangles, boxes (n, 6), children (n, 4: left, right, first, count) of a tree.

    Split where the surfaces of the boxes, times what is in them, come out least: flat faces with holes have long
    triangles whose boxes overlap, and a split in the middle makes a place ask for hundreds of them.
    """
    n = len(corners)
    order = np.arange(n).astype(np.int32)
    own = np.empty((n, 6))
    for t in range(n):
        _empty(own[t])
        for q in range(3):
            for c in range(3):
                own[t, c], own[t, 3 + c] = min(own[t, c], corners[t, q, c]), max(own[t, 3 + c], corners[t, q, c])
    boxes = np.empty((2 * n + 1, 6))
    children = np.full((2 * n + 1, 4), -1, np.int32)
    stack = np.empty((STACK, 4), np.int64)
    stack[0] = (0, 0, n, 0)
    depth, used = 1, 1
    bins, middles = (np.empty((BINS, 6)), np.empty(BINS, np.int64), np.empty(BINS)), np.empty(6)
    while depth > 0:
        depth -= 1
        node, first, last, level = stack[depth]
        _empty(boxes[node])
        _empty(middles)
        for k in range(first, last):
            _take_in(boxes[node], own[order[k]])
            for c in range(3):
                middle = own[order[k], c] + own[order[k], 3 + c]
                middles[c], middles[3 + c] = min(middles[c], middle), max(middles[3 + c], middle)
        if last - first <= LEAF:
            children[node, 2], children[node, 3] = first, last - first
            continue
        between = _split(order, own, first, last, middles, bins) if level < DEEP else first
        if between in (first, last):
            between = _halve(order, own, first, last, middles)
        children[node, 0], children[node, 1] = used, used + 1
        stack[depth] = (used, first, between, level + 1)
        stack[depth + 1] = (used + 1, between, last, level + 1)
        depth += 2
        used += 2
    return order, boxes[:used].copy(), children[:used].copy()


@kernel
def _empty(box):
    for c in range(3):
        box[c], box[3 + c] = np.inf, -np.inf


@kernel
def _take_in(box, other):
    for c in range(3):
        box[c], box[3 + c] = min(box[c], other[c]), max(box[3 + c], other[3 + c])


@kernel
def _surface(box):
    """Half the surface of a box; 0 of an empty one."""
    x, y, z = max(box[3] - box[0], 0.0), max(box[4] - box[1], 0.0), max(box[5] - box[2], 0.0)
    return x * y + y * z + z * x


@kernel
def _split(order, own, first, last, middles, bins):
    """Part triangles where surface times number comes out least, by bins of their middles (I. Wald, On fast
    construction of SAH-based bounding volume hierarchies, 2007); gives where the second half begins."""
    boxes, counts, beyond = bins
    total = np.empty(6)
    best, axis, last_bin = np.inf, -1, 0
    for c in range(3):
        width = middles[3 + c] - middles[c]
        if width <= 0.0:
            continue
        counts[:] = 0
        for q in range(BINS):
            _empty(boxes[q])
        for k in range(first, last):
            q = _bin_of(own[order[k]], c, middles[c], width)
            counts[q] += 1
            _take_in(boxes[q], own[order[k]])
        _empty(total)
        for q in range(BINS - 1, 0, -1):
            _take_in(total, boxes[q])
            beyond[q] = _surface(total)
        _empty(total)
        left = 0
        for q in range(BINS - 1):
            _take_in(total, boxes[q])
            left += counts[q]
            cost = _surface(total) * left + beyond[q + 1] * (last - first - left)
            if 0 < left < last - first and cost < best:
                best, axis, last_bin = cost, c, q
    if axis < 0:
        return first
    low, high = first, last - 1
    while low <= high:
        if _bin_of(own[order[low]], axis, middles[axis], middles[3 + axis] - middles[axis]) <= last_bin:
            low += 1
        else:
            order[low], order[high] = order[high], order[low]
            high -= 1
    return low


@kernel
def _bin_of(box, axis, low, width):
    return min(int((box[axis] + box[3 + axis] - low) / width * BINS), BINS - 1)


@kernel
def _halve(order, own, first, last, middles):
    """Part triangles into halves along the longer way of their middles."""
    axis = 0
    for c in range(1, 3):
        if middles[3 + c] - middles[c] > middles[3 + axis] - middles[axis]:
            axis = c
    piece = order[first:last].copy()
    order[first:last] = piece[np.argsort(own[piece, axis] + own[piece, 3 + axis])]
    return (first + last) // 2


@kernel
def box_distance2(boxes, node, x, y, z):
    dx = max(boxes[node, 0] - x, x - boxes[node, 3], 0.0)
    dy = max(boxes[node, 1] - y, y - boxes[node, 4], 0.0)
    dz = max(boxes[node, 2] - z, z - boxes[node, 5], 0.0)
    return dx * dx + dy * dy + dz * dz


@kernel
def closest(corners, t, px, py, pz, out):
    """Closest point of a triangle to a point: its shares of the second and third corner, and the place, into out."""
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
    out[3], out[4] = s, r


@kernel
def feature(s, r):
    """Where on a triangle a place is: 0 to 2 a corner, 3 to 5 the side after corner 0 to 2, 6 inside."""
    if s <= 0.0 and r <= 0.0:
        return 0
    if s >= 1.0:
        return 1
    if r >= 1.0:
        return 2
    if r <= 0.0:
        return 3
    if s <= 0.0:
        return 5
    return 4 if s + r >= 1.0 - 1e-14 else 6


@kernel
def _add_normal(corners, t, n):
    """Add the unit normal of a triangle."""
    ux, uy, uz = (
        corners[t, 1, 0] - corners[t, 0, 0], corners[t, 1, 1] - corners[t, 0, 1], corners[t, 1, 2] - corners[t, 0, 2]
    )  # fmt: skip
    vx, vy, vz = (
        corners[t, 2, 0] - corners[t, 0, 0], corners[t, 2, 1] - corners[t, 0, 1], corners[t, 2, 2] - corners[t, 0, 2]
    )  # fmt: skip
    x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    size = max(np.sqrt(x * x + y * y + z * z), 1e-300)
    n[0] += x / size
    n[1] += y / size
    n[2] += z / size


@kernel(parallel=True, nogil=True)
def query(points, corners, triangles, neighbours, weighted, on_rim, order, boxes, children):
    """Signed distances, closest triangles, what and where of these is closest, and whether the sign is known."""
    n = len(points)
    places = np.empty((n, 3))
    out = np.empty(n)
    nearest = np.empty(n, np.int32)
    features = np.empty(n, np.int8)
    known = np.empty(n, np.bool_)
    for i in prange(n):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        spot, normal = np.empty(5), np.zeros(3)
        stack = np.empty(STACK, np.int32)
        stack[0] = 0
        depth = 1
        best, found = np.inf, -1
        # On a flat face there is no nearer one: boxes of long triangles that hold the place need no look.
        while depth > 0 and best > TOUCHING2:
            depth -= 1
            node = stack[depth]
            if box_distance2(boxes, node, x, y, z) >= best:
                continue
            if children[node, 0] < 0:
                for k in range(children[node, 2], children[node, 2] + children[node, 3]):
                    t = order[k]
                    closest(corners, t, x, y, z, spot)
                    d2 = (x - spot[0]) ** 2 + (y - spot[1]) ** 2 + (z - spot[2]) ** 2
                    if d2 < best:
                        best, found = d2, t
                continue
            a, b = children[node, 0], children[node, 1]
            if box_distance2(boxes, a, x, y, z) < box_distance2(boxes, b, x, y, z):
                stack[depth], stack[depth + 1] = b, a
            else:
                stack[depth], stack[depth + 1] = a, b
            depth += 2
        closest(corners, found, x, y, z, spot)
        what = feature(spot[3], spot[4])
        if what < 3:
            vertex = triangles[found, what]
            known[i] = not on_rim[vertex]
            for c in range(3):
                normal[c] = weighted[vertex, c]
        elif what < 6:
            beside = neighbours[found, what - 3]
            known[i] = beside >= 0
            _add_normal(corners, found, normal)
            if beside >= 0:
                _add_normal(corners, beside, normal)
        else:
            known[i] = True
            _add_normal(corners, found, normal)
        lean = (x - spot[0]) * normal[0] + (y - spot[1]) * normal[1] + (z - spot[2]) * normal[2]
        out[i] = np.sqrt(best) if lean >= 0.0 else -np.sqrt(best)
        nearest[i] = found
        features[i] = what
        places[i, :] = spot[:3]
    return out, nearest, features, places, known

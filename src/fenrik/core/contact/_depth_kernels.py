"""Kernels behind `clearance`: how deep places and triangles stand in bodies of revolution, swept along straight steps.

A triangle in the body stands as deep as the deepest of its places: the depth of a place below a convex outline is a
concave function of triangle and step, searched by golden sections.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.contact._gap_kernels import ARC
from fenrik.core.kernels import kernel, leaf

PLACE_MM = 1e-4
"""How near a deepest place is found."""
GOLDEN = 0.5 * (np.sqrt(5.0) - 1.0)


@leaf
def depth_below(bands, first, last, r, z):
    """How deep a place (r, z) stands below the outline of a convex run; at most 0 outside of it.

    Outside it need not be the distance, but falls evenly, so that the whole is concave.
    """
    best = min(z - bands[first, 0], bands[last - 1, 1] - z)
    for b in range(first, last):
        z0, z1, r0, r1 = bands[b, 0], bands[b, 1], bands[b, 2], bands[b, 3]
        if bands[b, 4] == ARC:
            dr, dz = r - bands[b, 5], z - bands[b, 6]
            low, high = z0 - bands[b, 6], z1 - bands[b, 6]
            out = np.sqrt(dr * dr + dz * dz)
            # The tangent at the arc's own end where the nearest place of the whole circle is not on the arc.
            if dr >= 0.0 and low * out <= dz * bands[b, 7] <= high * out:
                best = min(best, bands[b, 7] - out)
                continue
            for end in range(2):
                nr, nz = (bands[b, 2 + end] - bands[b, 5]) / bands[b, 7], (bands[b, end] - bands[b, 6]) / bands[b, 7]
                best = min(best, bands[b, 7] - nr * dr - nz * dz)
            continue
        size = np.sqrt((r1 - r0) ** 2 + (z1 - z0) ** 2)
        best = min(best, ((r0 - r) * (z1 - z0) + (r1 - r0) * (z - z0)) / size)
    return best


@leaf
def _sections(x, y, z):
    """How many golden sections of a stretch (x, y, z) leave one of `PLACE_MM`."""
    size = np.sqrt(x * x + y * y + z * z)
    return int(np.ceil(np.log(PLACE_MM / size) / np.log(GOLDEN))) if size > PLACE_MM else 0


@leaf
def _side(corners, t, a, b):
    return (
        corners[t, b, 0] - corners[t, a, 0], corners[t, b, 1] - corners[t, a, 1], corners[t, b, 2] - corners[t, a, 2]
    )  # fmt: skip


@kernel
def depth_at(run, tool, way, p, s):
    """How deep a place stands below a run after a share of its way."""
    bands, first, last = run
    x, y, z = p[0] - tool[0] - s * way[0], p[1] - tool[1] - s * way[1], p[2] - tool[2] - s * way[2]
    h = x * tool[3] + y * tool[4] + z * tool[5]
    return depth_below(bands, first, last, np.sqrt(max(x * x + y * y + z * z - h * h, 0.0)), h)


@kernel
def depth_along(run, tool, way, p):
    """How deep a place stands below a run at most on its way, and after which share of it (a golden section)."""
    if way[0] == 0.0 and way[1] == 0.0 and way[2] == 0.0:
        return depth_at(run, tool, way, p, 0.0), 0.0
    low, high, a, b = 0.0, 1.0, 1.0 - GOLDEN, GOLDEN
    fa, fb = depth_at(run, tool, way, p, a), depth_at(run, tool, way, p, b)
    for _ in range(_sections(way[0], way[1], way[2])):
        if fa >= fb:
            high, b, fb = b, a, fa
            a = high - GOLDEN * (high - low)
            fa = depth_at(run, tool, way, p, a)
        else:
            low, a, fa = a, b, fb
            b = low + GOLDEN * (high - low)
            fb = depth_at(run, tool, way, p, b)
    return (fa, a) if fa >= fb else (fb, b)


@kernel(parallel=True, nogil=True)
def depths(tips, axes, bands, runs, points, out):
    """How deep each of some places stands below a profile that stands still, of each of n poses its own."""
    for i in prange(len(tips)):
        tool, still, p, best = np.empty(6), np.zeros(3), np.empty(3), -np.inf
        for c in range(3):
            tool[c], tool[3 + c], p[c] = tips[i, c], axes[i, c], points[i, c]
        for r in range(len(runs) - 1):
            best = max(best, depth_at((bands, runs[r], runs[r + 1]), tool, still, p, 0.0))
        out[i] = best


@kernel(parallel=True, nogil=True)
def deepest(tips, axes, bands, runs, points, out, which):
    """How deep the deepest of all places stands below a profile in each of n poses, 0 where none does; and which."""
    low, high, wide = bands[0, 0], bands[-1, 1], 0.0
    for r in range(len(runs) - 1):
        wide = max(wide, widest((bands, runs[r], runs[r + 1])))
    for i in prange(len(tips)):
        best, found = 0.0, -1
        for j in range(len(points)):
            x, y, z = points[j, 0] - tips[i, 0], points[j, 1] - tips[i, 1], points[j, 2] - tips[i, 2]
            h = x * axes[i, 0] + y * axes[i, 1] + z * axes[i, 2]
            r2 = x * x + y * y + z * z - h * h
            if h <= low or h >= high or r2 >= wide * wide:
                continue
            for r in range(len(runs) - 1):
                deep = depth_below(bands, runs[r], runs[r + 1], np.sqrt(max(r2, 0.0)), h)
                if deep > best:
                    best, found = deep, j
        out[i], which[i] = best, found


@kernel
def _on(corners, t, s, r, p):
    """A place of a triangle: a share s between its first two corners, then a share r towards the third."""
    for c in range(3):
        between = (1.0 - s) * corners[t, 0, c] + s * corners[t, 1, c]
        p[c] = (1.0 - r) * between + r * corners[t, 2, c]


@kernel
def _deepest_on_line(run, tool, way, corners, t, r, p):
    """The deepest place at a share r towards a triangle's third corner: its depth, its share s, that of the way."""
    low, high, a, b = 0.0, 1.0, 1.0 - GOLDEN, GOLDEN
    _on(corners, t, a, r, p)
    fa, wa = depth_along(run, tool, way, p)
    _on(corners, t, b, r, p)
    fb, wb = depth_along(run, tool, way, p)
    x, y, z = _side(corners, t, 0, 1)
    for _ in range(_sections((1.0 - r) * x, (1.0 - r) * y, (1.0 - r) * z)):
        if fa >= fb:
            high, b, fb, wb = b, a, fa, wa
            a = high - GOLDEN * (high - low)
            _on(corners, t, a, r, p)
            fa, wa = depth_along(run, tool, way, p)
        else:
            low, a, fa, wa = a, b, fb, wb
            b = low + GOLDEN * (high - low)
            _on(corners, t, b, r, p)
            fb, wb = depth_along(run, tool, way, p)
    return (fa, a, wa) if fa >= fb else (fb, b, wb)


@kernel
def depth_of(run, tool, way, corners, t, p):
    """How deep the deepest place of a triangle stands below a swept run, the place (into p), the share of the way."""
    low, high, a, b = 0.0, 1.0, 1.0 - GOLDEN, GOLDEN
    fa, sa, wa = _deepest_on_line(run, tool, way, corners, t, a, p)
    fb, sb, wb = _deepest_on_line(run, tool, way, corners, t, b, p)
    x, y, z = _side(corners, t, 0, 2)
    u, v, w = _side(corners, t, 1, 2)
    for _ in range(max(_sections(x, y, z), _sections(u, v, w))):
        if fa >= fb:
            high, b, fb, sb, wb = b, a, fa, sa, wa
            a = high - GOLDEN * (high - low)
            fa, sa, wa = _deepest_on_line(run, tool, way, corners, t, a, p)
        else:
            low, a, fa, sa, wa = a, b, fb, sb, wb
            b = low + GOLDEN * (high - low)
            fb, sb, wb = _deepest_on_line(run, tool, way, corners, t, b, p)
    if fa >= fb:
        _on(corners, t, sa, a, p)
        return fa, wa
    _on(corners, t, sb, b, p)
    return fb, wb


@kernel
def widest(run):
    """The widest radius of a run."""
    bands, first, last = run
    wide = 0.0
    for b in range(first, last):
        wide = max(wide, bands[b, 2], bands[b, 3])
        if bands[b, 4] == ARC and bands[b, 0] <= bands[b, 6] <= bands[b, 1]:
            wide = max(wide, bands[b, 5] + bands[b, 7])
    return wide


@kernel
def stray(run, tool, way, corners, t, p):
    """The most that any place of a triangle can be deep: that of its middle, and how far its corners are from there."""
    far2 = 0.0
    for c in range(3):
        p[c] = (corners[t, 0, c] + corners[t, 1, c] + corners[t, 2, c]) / 3.0
    for q in range(3):
        d2 = 0.0
        for c in range(3):
            d2 += (corners[t, q, c] - p[c]) ** 2
        far2 = max(far2, d2)
    return depth_along(run, tool, way, p)[0] + np.sqrt(far2)


@kernel
def stray_of_box(run, tool, way, boxes, node, p):
    """The same of what lies in a box."""
    half2 = 0.0
    for c in range(3):
        p[c] = 0.5 * (boxes[node, c] + boxes[node, 3 + c])
        half2 += (0.5 * (boxes[node, 3 + c] - boxes[node, c])) ** 2
    return depth_along(run, tool, way, p)[0] + np.sqrt(half2)

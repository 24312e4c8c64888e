"""Kernel behind `arcs`: the longest arcs that fit a polyline, in one sweep."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel

MIN_SEGMENTS = 3
"""An arc must stand for at least so many chords."""
STRAIGHT_MM = 4e-5
"""Places this near to a line lie on it (they were rounded to 10 nm); a looser rule would run lines into arcs."""


@kernel
def _circle(a, b, c):
    """Centre x, y and radius of the circle through three points; radius below 0 where they lie on a line."""
    bx, by, cx, cy = b[0] - a[0], b[1] - a[1], c[0] - a[0], c[1] - a[1]
    d = 2.0 * (bx * cy - by * cx)
    size = bx * bx + by * by + cx * cx + cy * cy
    if abs(d) < 1e-12 * size:
        return 0.0, 0.0, -1.0
    b2, c2 = bx * bx + by * by, cx * cx + cy * cy
    ux, uy = (cy * b2 - by * c2) / d, (bx * c2 - cx * b2) / d
    return a[0] + ux, a[1] + uy, np.sqrt(ux * ux + uy * uy)


@kernel
def _arc_fits(points, i, j, tolerance, max_radius, half_turn):
    """Whether points i … j lie on one arc of at most a half turn; gives its bulge, or 0."""
    m = (i + j) // 2
    x, y, r = _circle(points[i], points[m], points[j])
    if r <= 0.0 or r > max_radius:
        return 0.0
    turn = 0.0
    side = 0.0
    px, py = points[i, 0] - x, points[i, 1] - y
    for k in range(i, j):
        qx, qy = points[k + 1, 0] - x, points[k + 1, 1] - y
        if abs(np.sqrt(qx * qx + qy * qy) - r) > tolerance:
            return 0.0
        hx, hy = 0.5 * (px + qx), 0.5 * (py + qy)
        if abs(np.sqrt(hx * hx + hy * hy) - r) > tolerance:
            return 0.0
        step = np.arctan2(px * qy - py * qx, px * qx + py * qy)
        if side == 0.0:
            side = 1.0 if step > 0.0 else -1.0
        elif step * side <= 0.0:
            return 0.0
        turn += step
        px, py = qx, qy
    if abs(turn) > half_turn:
        return 0.0
    return np.tan(0.25 * turn)


@kernel
def _line_fits(points, i, j, tolerance):
    ax, ay = points[i, 0], points[i, 1]
    dx, dy = points[j, 0] - ax, points[j, 1] - ay
    length = np.sqrt(dx * dx + dy * dy)
    if length < 1e-12:
        return False
    last = 0.0
    for k in range(i + 1, j):
        qx, qy = points[k, 0] - ax, points[k, 1] - ay
        along = (qx * dx + qy * dy) / length
        if abs(qx * dy - qy * dx) > tolerance * length or along < last - tolerance or along > length + tolerance:
            return False
        last = along
    return True


@kernel(nogil=True)
def fit(points, tolerance, max_radius):
    """Indices of the kept points, and the bulge of the stretch that leads to each (the first is 0).

    Each stretch is grown by doubling and then by halving steps, so that the work stays near to linear.
    """
    n = len(points)
    kept = np.empty(n, np.int64)
    bulges = np.zeros(n)
    kept[0] = 0
    count = 1
    half_turn = np.pi * (1.0 + 1e-9)
    i = 0
    while i < n - 1:
        best, bulge = i + 1, 0.0
        # Arc.
        j, step = i + MIN_SEGMENTS, 1
        found, found_bulge = 0, 0.0
        while j < n:
            b = _arc_fits(points, i, j, tolerance, max_radius, half_turn)
            if b == 0.0:
                break
            found, found_bulge = j, b
            step *= 2
            j += step
        if found:
            while step >= 1:
                if found + step < n:
                    b = _arc_fits(points, i, found + step, tolerance, max_radius, half_turn)
                    if b != 0.0:
                        found, found_bulge = found + step, b
                        continue
                step //= 2
            best, bulge = found, found_bulge
        # Line.
        j, step, line = i + 2, 1, i + 1
        while j < n:
            if not _line_fits(points, i, j, STRAIGHT_MM):
                break
            line = j
            step *= 2
            j += step
        while step >= 1:
            if line + step < n and _line_fits(points, i, line + step, STRAIGHT_MM):
                line += step
                continue
            step //= 2
        if line >= best:
            best, bulge = line, 0.0
        kept[count] = best
        bulges[count] = bulge
        count += 1
        i = best
    return kept[:count].copy(), bulges[:count].copy()

"""Kernels behind `drop`: elements, the cells they matter for, and the query."""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.kernels import kernel, leaf
from fenrik.core.tools.kernels import height, lowest_along, radius_for_slope

EPS = 1e-6


@leaf
def _reach(cx, cy, cz, cos_alpha, profile, big, out):
    """Bounds of the shift from a contact point to the axis, over all normals within an angle of a direction.

    (cx, cy, cz) is the mean direction, cos_alpha the cosine of the angle; out gets x_low, y_low, x_high, y_high.
    """
    alpha = np.arccos(min(max(cos_alpha, -1.0), 1.0)) + 1e-6
    theta = np.arccos(min(max(cz, -1.0), 1.0))
    lean_low = max(theta - alpha, 0.0)
    lean_high = min(theta + alpha, 0.5 * np.pi)
    rho_low = radius_for_slope(profile, np.tan(lean_low) - 1e-9, False)
    steep = np.inf if lean_high > 0.5 * np.pi - 1e-7 else np.tan(lean_high) + 1e-9
    rho_high = big if np.isinf(steep) else radius_for_slope(profile, steep, True)
    side = np.sqrt(cx * cx + cy * cy)
    if alpha >= theta or np.sin(alpha) >= side:
        out[0], out[1], out[2], out[3] = -rho_high, -rho_high, rho_high, rho_high
        return
    half = np.arcsin(np.sin(alpha) / side)
    middle = np.arctan2(cy, cx)
    out[0] = out[1] = np.inf
    out[2] = out[3] = -np.inf
    for k in range(-2, 5):
        # The two ends of the sector, and any of the four axis directions inside it.
        if k == -2:
            a = middle - half
        elif k == -1:
            a = middle + half
        else:
            a = k * 0.5 * np.pi
            gap = (a - middle + 3.0 * np.pi) % (2.0 * np.pi) - np.pi
            if abs(gap) > half:
                continue
        for rho in (rho_low, rho_high):
            x, y = rho * np.cos(a), rho * np.sin(a)
            out[0], out[1] = min(out[0], x), min(out[1], y)
            out[2], out[3] = max(out[2], x), max(out[3], y)


@kernel
def make_facets(vertices, triangles, normals, profile):
    """Facets that look upwards, shifted to where the axis stands: (n, 9) x0 y0 x1 y1 x2 y2 A B C; boxes; triangles."""
    rows = np.empty((len(triangles), 9))
    boxes = np.empty((len(triangles), 4))
    kept = np.empty(len(triangles), np.int32)
    n = 0
    for t in range(len(triangles)):
        nx, ny, nz = normals[t]
        if nz < 1e-7:
            continue
        flat = np.sqrt(nx * nx + ny * ny)
        ox = oy = shift = 0.0
        if flat > 1e-9:
            rho = radius_for_slope(profile, flat / nz, False)
            ox, oy = rho * nx / flat, rho * ny / flat
            shift = height(profile, rho)
        a, b = -nx / nz, -ny / nz
        p = vertices[triangles[t, 0]]
        r = rows[n]
        for k in range(3):
            v = vertices[triangles[t, k]]
            r[2 * k], r[2 * k + 1] = v[0] + ox, v[1] + oy
        r[6], r[7] = a, b
        r[8] = p[2] - shift - a * (p[0] + ox) - b * (p[1] + oy)
        box = boxes[n]
        box[0], box[1] = min(r[0], r[2], r[4]), min(r[1], r[3], r[5])
        box[2], box[3] = max(r[0], r[2], r[4]), max(r[1], r[3], r[5])
        kept[n] = t
        n += 1
    return rows[:n].copy(), boxes[:n].copy(), kept[:n].copy()


@kernel
def make_edges(vertices, triangles, normals, pairs, owners, profile):
    """Convex and open edges: (n, 7) x y ux uy length z slope; the bounds of their shifts (n, 4); which they are."""
    big = profile[profile.shape[0] - 1, 1]
    rows = np.empty((len(pairs), 7))
    boxes = np.empty((len(pairs), 4))
    kept = np.empty(len(pairs), np.int32)
    out = np.empty(4)
    n = 0
    for k in range(len(pairs)):
        p, q = vertices[pairs[k, 0]], vertices[pairs[k, 1]]
        dx, dy, dz = q[0] - p[0], q[1] - p[1], q[2] - p[2]
        length = np.sqrt(dx * dx + dy * dy)
        if length < 1e-9:
            continue
        out[0], out[1], out[2], out[3] = -big, -big, big, big
        if owners[k, 1] >= 0:
            n1, n2 = normals[owners[k, 0]], normals[owners[k, 1]]
            if n1[2] <= 1e-7 and n2[2] <= 1e-7:
                continue
            other = triangles[owners[k, 1]]
            side = 0.0
            for j in range(3):
                v = vertices[other[j]]
                h = n1[0] * (v[0] - p[0]) + n1[1] * (v[1] - p[1]) + n1[2] * (v[2] - p[2])
                if abs(h) > abs(side):
                    side = h
            dot = n1[0] * n2[0] + n1[1] * n2[1] + n1[2] * n2[2]
            if side > 0.0 or 1.0 - dot < 1e-14:
                continue
            mx, my, mz = n1[0] + n2[0], n1[1] + n2[1], n1[2] + n2[2]
            size = np.sqrt(mx * mx + my * my + mz * mz)
            if size > 1e-6:
                _reach(mx / size, my / size, mz / size, size / 2.0, profile, big, out)
        r = rows[n]
        r[0], r[1], r[2], r[3], r[4] = p[0], p[1], dx / length, dy / length, length
        r[5], r[6] = p[2], dz / length
        boxes[n] = out
        kept[n] = k
        n += 1
    return rows[:n].copy(), boxes[:n].copy(), kept[:n].copy()


@kernel
def make_vertices(vertices, normals, start, owner, rim, profile):
    """Vertices that a tool can touch from above: (n, 3), the bounds of their shifts (n, 4), which they are."""
    big = profile[profile.shape[0] - 1, 1]
    rows = np.empty((len(vertices), 3))
    boxes = np.empty((len(vertices), 4))
    kept = np.empty(len(vertices), np.int32)
    out = np.empty(4)
    n = 0
    for v in range(len(vertices)):
        a, b = start[v], start[v + 1]
        if a == b:
            continue
        mx = my = mz = 0.0
        up = False
        for i in range(a, b):
            t = owner[i]
            mx, my, mz = mx + normals[t, 0], my + normals[t, 1], mz + normals[t, 2]
            up = up or normals[t, 2] > 1e-7
        if not up and not rim[v]:
            continue
        out[0], out[1], out[2], out[3] = -big, -big, big, big
        size = np.sqrt(mx * mx + my * my + mz * mz)
        if not rim[v] and size > 1e-6:
            mx, my, mz = mx / size, my / size, mz / size
            widest = 1.0
            for i in range(a, b):
                t = owner[i]
                widest = min(widest, mx * normals[t, 0] + my * normals[t, 1] + mz * normals[t, 2])
            if widest > 0.0:
                _reach(mx, my, mz, widest, profile, big, out)
        rows[n] = vertices[v]
        boxes[n] = out
        kept[n] = v
        n += 1
    return rows[:n].copy(), boxes[:n].copy(), kept[:n].copy()


@leaf(inline="always")
def _facet_meets(r, x0, y0, x1, y1):
    """Does a shifted facet meet a box (separating axes of its three sides)?"""
    turn = (r[2] - r[0]) * (r[5] - r[1]) - (r[3] - r[1]) * (r[4] - r[0])
    sign = 1.0 if turn >= 0.0 else -1.0
    for k in range(3):
        j = (k + 1) % 3
        ex, ey = r[2 * j] - r[2 * k], r[2 * j + 1] - r[2 * k + 1]
        nx, ny = -ey * sign, ex * sign
        far_x = x1 if nx > 0.0 else x0
        far_y = y1 if ny > 0.0 else y0
        if nx * (far_x - r[2 * k]) + ny * (far_y - r[2 * k + 1]) < -EPS * (abs(nx) + abs(ny)):
            return False
    return True


@leaf(inline="always")
def _segment_meets(px, py, qx, qy, x0, y0, x1, y1):
    """Does a segment meet a box (slab clipping)?"""
    t0, t1 = 0.0, 1.0
    dx, dy = qx - px, qy - py
    if abs(dx) < 1e-15:
        if px < x0 or px > x1:
            return False
    else:
        a, b = (x0 - px) / dx, (x1 - px) / dx
        t0, t1 = max(t0, min(a, b)), min(t1, max(a, b))
    if abs(dy) < 1e-15:
        if py < y0 or py > y1:
            return False
    else:
        a, b = (y0 - py) / dy, (y1 - py) / dy
        t0, t1 = max(t0, min(a, b)), min(t1, max(a, b))
    return t0 <= t1


@leaf
def _go_through_cells(facets, edges, points, edge_box, point_box, order, low, cell, nx, ny, fill, items):
    """Count the elements of each cell in `fill`, or, with room for items, put them where `fill` says."""
    nf, ne = len(facets), len(edges)
    for code in order:
        px = py = qx = qy = 0.0
        if code < nf:
            r = facets[code]
            bx0, by0 = min(r[0], r[2], r[4]), min(r[1], r[3], r[5])
            bx1, by1 = max(r[0], r[2], r[4]), max(r[1], r[3], r[5])
        elif code < nf + ne:
            r = edges[code - nf]
            b = edge_box[code - nf]
            px, py = r[0], r[1]
            qx, qy = r[0] + r[2] * r[4], r[1] + r[3] * r[4]
            bx0, by0 = min(px, qx) + b[0], min(py, qy) + b[1]
            bx1, by1 = max(px, qx) + b[2], max(py, qy) + b[3]
        else:
            r = points[code - nf - ne]
            b = point_box[code - nf - ne]
            bx0, by0, bx1, by1 = r[0] + b[0], r[1] + b[1], r[0] + b[2], r[1] + b[3]
        i0 = max(int((bx0 - EPS - low[0]) / cell), 0)
        j0 = max(int((by0 - EPS - low[1]) / cell), 0)
        i1 = min(int((bx1 + EPS - low[0]) / cell), nx - 1)
        j1 = min(int((by1 + EPS - low[1]) / cell), ny - 1)
        for i in range(i0, i1 + 1):
            x0 = low[0] + i * cell - EPS
            x1 = x0 + cell + 2 * EPS
            for j in range(j0, j1 + 1):
                y0 = low[1] + j * cell - EPS
                y1 = y0 + cell + 2 * EPS
                if code < nf:
                    if not _facet_meets(r, x0, y0, x1, y1):
                        continue
                elif code < nf + ne and not _segment_meets(px, py, qx, qy, x0 - b[2], y0 - b[3], x1 - b[0], y1 - b[1]):
                    continue
                slot = i * ny + j
                if len(items):
                    items[fill[slot]] = code
                fill[slot] += 1


@kernel
def fill_cells(facets, edges, points, edge_box, point_box, order, low, cell, nx, ny):
    """Lists of elements for each cell, as start offsets and items; item codes run over facets, edges, points and stand
    in each list in a given order."""
    count = np.zeros(nx * ny + 1, np.int64)
    _go_through_cells(
        facets, edges, points, edge_box, point_box, order, low, cell, nx, ny, count, np.zeros(0, np.int32)
    )
    start = np.cumsum(count) - count
    items = np.zeros(start[-1], np.int32)
    if len(items):
        _go_through_cells(facets, edges, points, edge_box, point_box, order, low, cell, nx, ny, start.copy(), items)
    return start, items


@leaf
def _facet_height(f, n, x, y):
    turn = (f[n, 2] - f[n, 0]) * (f[n, 5] - f[n, 1]) - (f[n, 3] - f[n, 1]) * (f[n, 4] - f[n, 0])
    sign = 1.0 if turn >= 0.0 else -1.0
    for k in range(3):
        j = 0 if k == 2 else k + 1
        ex, ey = f[n, 2 * j] - f[n, 2 * k], f[n, 2 * j + 1] - f[n, 2 * k + 1]
        if sign * (ex * (y - f[n, 2 * k + 1]) - ey * (x - f[n, 2 * k])) < -EPS * (abs(ex) + abs(ey)):
            return -np.inf
    return f[n, 6] * x + f[n, 7] * y + f[n, 8]


@leaf(inline="always")
def element_tip(code, x, y, facets, edges, points, profile, big):
    """Tip height that one element asks for over a place; −inf where it asks for none."""
    nf, ne = len(facets), len(edges)
    tip = -np.inf
    if code < nf:
        tip = _facet_height(facets, code, x, y)
    elif code < nf + ne:
        e = code - nf
        dx, dy = x - edges[e, 0], y - edges[e, 1]
        across = dx * edges[e, 3] - dy * edges[e, 2]
        if abs(across) <= big:
            along = dx * edges[e, 2] + dy * edges[e, 3]
            low, _ = lowest_along(profile, across * across, -edges[e, 6], -along, edges[e, 4] - along)
            tip = edges[e, 5] + edges[e, 6] * along - low
    else:
        v = code - nf - ne
        d2 = (x - points[v, 0]) ** 2 + (y - points[v, 1]) ** 2
        if d2 <= big * big:
            tip = points[v, 2] - height(profile, min(np.sqrt(d2), big))
    return tip


@leaf(inline="always")
def cell_of(x, y, origin, cell, nx, ny):
    """Number of the cell of a place; −1 outside."""
    i, j = int(np.floor((x - origin[0]) / cell)), int(np.floor((y - origin[1]) / cell))
    return -1 if i < 0 or j < 0 or i >= nx or j >= ny else i * ny + j


@leaf
def query_one(x, y, low, high, facets, edges, points, tops, start, items, origin, cell, nx, ny, profile):
    """Tip height over one place, `low` where it is lower; any height from `high` on where it is as high. No element
    lifts the tip above its own top, and they stand in order of these."""
    slot = cell_of(x, y, origin, cell, nx, ny)
    best = low
    if slot >= 0:
        big = profile[profile.shape[0] - 1, 1]
        for k in range(start[slot], start[slot + 1]):
            if tops[items[k]] <= best or best >= high:
                break
            best = max(best, element_tip(items[k], x, y, facets, edges, points, profile, big))
    return best


@kernel(parallel=True, nogil=True)
def query(xy, low, high, facets, edges, points, tops, start, items, origin, cell, nx, ny, profile):
    """Tip heights over many places, in parallel; each place is independent, so the result is always the same."""
    out = np.empty(len(xy))
    for i in prange(len(xy)):
        out[i] = query_one(
            xy[i, 0], xy[i, 1], low[i], high[i], facets, edges, points, tops, start, items, origin, cell, nx, ny,
            profile,
        )  # fmt: skip
    return out

"""Kernels behind `exact`: feet of perpendiculars on planes, quadrics, tori and B-spline surfaces.

A face is a row in `kinds`, `bases`, `axes`, `sizes`, `senses`, `grids`; poles (wx, wy, wz, w) and knots of all B-spline
faces stand one after another. B-splines after L. Piegl and W. Tiller, The NURBS Book, 2nd ed., algorithms A2.1, A2.3,
A4.4 and the point inversion of section 6.1, with steps that never lead away.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.kernels import kernel, leaf

PLANE, CYLINDER, CONE, SPHERE, TORUS, SPLINE, UNKNOWN = 0, 1, 2, 3, 4, 5, 6
NEWTON_STEPS = 24
SCAN = 24


@kernel
def _span(knots, first, degree, count, t):
    """Number of the knot span that holds a parameter."""
    low, high = degree, count
    if t >= knots[first + count]:
        high = count - 1
        while high > degree and knots[first + high] >= knots[first + count]:
            high -= 1
        return high
    while high - low > 1:
        middle = (low + high) // 2
        if t < knots[first + middle]:
            high = middle
        else:
            low = middle
    return low


@kernel
def _basis(knots, first, degree, span, t, table, out):
    """Basis functions and their first two derivatives, out[k, j] for k ≤ 2, j ≤ degree."""
    for j in range(degree + 1):
        out[1, j] = out[2, j] = 0.0
    table[0, 0] = 1.0
    for j in range(1, degree + 1):
        saved = 0.0
        for r in range(j):
            right = knots[first + span + r + 1] - t
            left = t - knots[first + span + 1 - j + r]
            table[j, r] = right + left
            share = table[r, j - 1] / table[j, r]
            table[r, j] = saved + right * share
            saved = left * share
        table[j, j] = saved
    for j in range(degree + 1):
        out[0, j] = table[j, degree]
    if degree < 1:
        return
    for r in range(degree + 1):
        low = table[r - 1, degree - 1] / table[degree, r - 1] if r >= 1 else 0.0
        high = table[r, degree - 1] / table[degree, r] if r < degree else 0.0
        out[1, r] = degree * (low - high)
        if degree < 2:
            continue
        a = table[r - 2, degree - 2] / table[degree - 1, r - 2] if r >= 2 else 0.0
        b = table[r - 1, degree - 2] / table[degree - 1, r - 1] if 1 <= r <= degree - 1 else 0.0
        c = table[r, degree - 2] / table[degree - 1, r] if r <= degree - 2 else 0.0
        first_part = (a - b) / table[degree, r - 1] if r >= 1 else 0.0
        second_part = (b - c) / table[degree, r] if r < degree else 0.0
        out[2, r] = degree * (degree - 1) * (first_part - second_part)


@kernel
def spline_at(grid, poles, knots, u, v, out):
    """Point and derivatives of a B-spline surface: out rows S, Su, Sv, Suu, Suv, Svv; (6, 3)."""
    pu, pv, nu, nv = grid[3], grid[4], grid[5], grid[6]
    tu, tv = np.empty((pu + 1, pu + 1)), np.empty((pv + 1, pv + 1))
    bu, bv = np.empty((3, pu + 1)), np.empty((3, pv + 1))
    su, sv = _span(knots, grid[1], pu, nu, u), _span(knots, grid[2], pv, nv, v)
    _basis(knots, grid[1], pu, su, u, tu, bu)
    _basis(knots, grid[2], pv, sv, v, tv, bv)
    sums = np.zeros((6, 4))
    row = np.zeros((3, 4))
    for i in range(pu + 1):
        row[:] = 0.0
        at = grid[0] + (su - pu + i) * nv + sv - pv
        for j in range(pv + 1):
            for c in range(4):
                value = poles[at + j, c]
                row[0, c] += bv[0, j] * value
                row[1, c] += bv[1, j] * value
                row[2, c] += bv[2, j] * value
        for c in range(4):
            sums[0, c] += bu[0, i] * row[0, c]
            sums[1, c] += bu[1, i] * row[0, c]
            sums[2, c] += bu[0, i] * row[1, c]
            sums[3, c] += bu[2, i] * row[0, c]
            sums[4, c] += bu[1, i] * row[1, c]
            sums[5, c] += bu[0, i] * row[2, c]
    w = sums[0, 3]
    for c in range(3):
        out[0, c] = sums[0, c] / w
    for c in range(3):
        out[1, c] = (sums[1, c] - sums[1, 3] * out[0, c]) / w
        out[2, c] = (sums[2, c] - sums[2, 3] * out[0, c]) / w
    for c in range(3):
        out[3, c] = (sums[3, c] - 2.0 * sums[1, 3] * out[1, c] - sums[3, 3] * out[0, c]) / w
        out[4, c] = (sums[4, c] - sums[4, 3] * out[0, c] - sums[1, 3] * out[2, c] - sums[2, 3] * out[1, c]) / w
        out[5, c] = (sums[5, c] - 2.0 * sums[2, 3] * out[2, c] - sums[5, 3] * out[0, c]) / w


@kernel
def _kept(t, low, high, closed):
    """A parameter within its ends; on a closed surface it goes round."""
    if closed:
        size = high - low
        return t - size * np.floor((t - low) / size)
    return min(max(t, low), high)


@kernel
def _away2(out, p):
    return (out[0, 0] - p[0]) ** 2 + (out[0, 1] - p[1]) ** 2 + (out[0, 2] - p[2]) ** 2


@kernel
def _step(out, p):
    """Newton's step of the foot of a perpendicular; of Gauss and Newton where the distance is not bent upwards."""
    g0 = g1 = a = b = c = ruu = ruv = rvv = 0.0
    for k in range(3):
        r = out[0, k] - p[k]
        g0 += r * out[1, k]
        g1 += r * out[2, k]
        a += out[1, k] * out[1, k]
        b += out[1, k] * out[2, k]
        c += out[2, k] * out[2, k]
        ruu += r * out[3, k]
        ruv += r * out[4, k]
        rvv += r * out[5, k]
    h, m, n = a + ruu, b + ruv, c + rvv
    if not (h > 0.05 * a and h * n - m * m > 0.05 * max(a * c - b * b, 1e-12 * a * c)):
        h, m, n = a, b, c
    det = h * n - m * m
    if not det > 1e-14 * h * n:
        return -g0 / max(a, 1e-300), -g1 / max(c, 1e-300)
    return (-g0 * n + g1 * m) / det, (-g1 * h + g0 * m) / det


@kernel
def _spline_foot(grid, poles, knots, p, uv, out):
    """Foot on a B-spline surface from a start in uv, which is moved there. Gives whether it settled."""
    u0, u1 = knots[grid[1] + grid[3]], knots[grid[1] + grid[5]]
    v0, v1 = knots[grid[2] + grid[4]], knots[grid[2] + grid[6]]
    round_u, round_v = grid[7] & 1, grid[7] & 2
    trial = np.empty((6, 3))
    u, v = _kept(uv[0], u0, u1, round_u), _kept(uv[1], v0, v1, round_v)
    spline_at(grid, poles, knots, u, v, out)
    best = _away2(out, p)
    settled = False
    for _ in range(NEWTON_STEPS):
        du, dv = _step(out, p)
        if not round_u and ((u <= u0 and du < 0.0) or (u >= u1 and du > 0.0)):
            du = 0.0
            dv = _along(out, p, 2)
        if not round_v and ((v <= v0 and dv < 0.0) or (v >= v1 and dv > 0.0)):
            dv = 0.0
            du = 0.0 if du == 0.0 else _along(out, p, 1)
            if not round_u and ((u <= u0 and du < 0.0) or (u >= u1 and du > 0.0)):
                du = 0.0
        way2 = 0.0
        for k in range(3):
            way2 += (out[1, k] * du + out[2, k] * dv) ** 2
        if way2 < 1e-18:
            settled = True
            break
        share = 1.0
        moved = False
        for _ in range(12):
            a, b = _kept(u + share * du, u0, u1, round_u), _kept(v + share * dv, v0, v1, round_v)
            spline_at(grid, poles, knots, a, b, trial)
            away = _away2(trial, p)
            if away < best:
                u, v, best, moved = a, b, away, True
                out[:] = trial
                break
            share *= 0.5
        if not moved:
            settled = way2 < 1e-10
            break
    uv[0], uv[1] = u, v
    return settled


@kernel
def _along(out, p, row):
    """Newton's step along one parameter alone."""
    g = a = r2 = 0.0
    for k in range(3):
        r = out[0, k] - p[k]
        g += r * out[row, k]
        a += out[row, k] * out[row, k]
        r2 += r * out[3 if row == 1 else 5, k]
    h = a + r2
    return -g / (h if h > 0.05 * a else max(a, 1e-300))


@kernel
def _scan(grid, poles, knots, p, uv, out):
    """The nearest of a lattice of places on a B-spline surface, as a start."""
    u0, u1 = knots[grid[1] + grid[3]], knots[grid[1] + grid[5]]
    v0, v1 = knots[grid[2] + grid[4]], knots[grid[2] + grid[6]]
    best = np.inf
    for i in range(SCAN):
        for j in range(SCAN):
            u, v = u0 + (u1 - u0) * (i + 0.5) / SCAN, v0 + (v1 - v0) * (j + 0.5) / SCAN
            spline_at(grid, poles, knots, u, v, out)
            away = _away2(out, p)
            if away < best:
                best, uv[0], uv[1] = away, u, v


@kernel
def foot(kinds, bases, axes, sizes, senses, grids, poles, knots, face, p, uv, x, n, out):
    """Foot x of the perpendicular from p on the whole surface under a face, and the outward normal n there.

    Args:
        uv: (2,) start on a B-spline surface, moved to the foot. out: (6, 3) for its derivatives.

    Returns:
        Whether the foot is known.
    """
    kind = kinds[face]
    if kind == UNKNOWN:
        return False
    if kind == SPLINE:
        settled = _spline_foot(grids[face], poles, knots, p, uv, out)
        size = 0.0
        for k in range(3):
            i, j = (k + 1) % 3, (k + 2) % 3
            n[k] = (out[1, i] * out[2, j] - out[1, j] * out[2, i]) * senses[face]
            size += n[k] * n[k]
            x[k] = out[0, k]
        size = np.sqrt(size)
        if size < 1e-30:
            return False
        for k in range(3):
            n[k] /= size
        return settled
    lx = ly = lz = 0.0
    for k in range(3):
        r = p[k] - bases[face, k]
        lx += axes[face, 0, k] * r
        ly += axes[face, 1, k] * r
        lz += axes[face, 2, k] * r
    across = np.sqrt(lx * lx + ly * ly)
    cx, cy = (lx / across, ly / across) if across > 1e-300 else (1.0, 0.0)
    fx = fy = fz = 0.0
    nx = ny = nz = 0.0
    if kind == PLANE:
        fx, fy, nz = lx, ly, 1.0
    elif kind == CYLINDER:
        r = sizes[face, 0]
        fx, fy, fz, nx, ny = r * cx, r * cy, lz, cx, cy
    elif kind == CONE:
        sa, ca = np.sin(sizes[face, 1]), np.cos(sizes[face, 1])
        t = (across - sizes[face, 0]) * sa + lz * ca
        rho, fz = sizes[face, 0] + t * sa, t * ca
        if rho < 0.0:
            rho, fz = 0.0, -sizes[face, 0] * ca / sa
        fx, fy, nx, ny, nz = rho * cx, rho * cy, ca * cx, ca * cy, -sa
    elif kind == SPHERE:
        away = np.sqrt(across * across + lz * lz)
        if away > 1e-300:
            nx, ny, nz = lx / away, ly / away, lz / away
        else:
            nz = 1.0
        r = sizes[face, 0]
        fx, fy, fz = r * nx, r * ny, r * nz
    else:
        away = np.sqrt((across - sizes[face, 0]) ** 2 + lz * lz)
        a, b = ((across - sizes[face, 0]) / away, lz / away) if away > 1e-300 else (1.0, 0.0)
        rho = sizes[face, 0] + sizes[face, 1] * a
        fx, fy, fz, nx, ny, nz = rho * cx, rho * cy, sizes[face, 1] * b, a * cx, a * cy, b
    for k in range(3):
        x[k] = bases[face, k] + axes[face, 0, k] * fx + axes[face, 1, k] * fy + axes[face, 2, k] * fz
        n[k] = (axes[face, 0, k] * nx + axes[face, 1, k] * ny + axes[face, 2, k] * nz) * senses[face]
    return True


@kernel
def climb(grid, poles, knots, axis, sense, uv):
    """Newton's way to the place of a B-spline surface that stands out farthest along an axis; its coordinate there."""
    u0, u1 = knots[grid[1] + grid[3]], knots[grid[1] + grid[5]]
    v0, v1 = knots[grid[2] + grid[4]], knots[grid[2] + grid[6]]
    out, trial = np.empty((6, 3)), np.empty((6, 3))
    u, v = _kept(uv[0], u0, u1, 0), _kept(uv[1], v0, v1, 0)
    spline_at(grid, poles, knots, u, v, out)
    for _ in range(NEWTON_STEPS):
        g0, g1 = out[1, axis], out[2, axis]
        a, b, c = out[3, axis], out[4, axis], out[5, axis]
        det = a * c - b * b
        if not (det > 0.0 and sense * a < 0.0):
            break
        du, dv = (-g0 * c + g1 * b) / det, (-g1 * a + g0 * b) / det
        spline_at(grid, poles, knots, _kept(u + du, u0, u1, 0), _kept(v + dv, v0, v1, 0), trial)
        if not sense * (trial[0, axis] - out[0, axis]) > 1e-12:
            break
        u, v = _kept(u + du, u0, u1, 0), _kept(v + dv, v0, v1, 0)
        out[:] = trial
    return out[0, axis]


@kernel(parallel=True, nogil=True)
def feet(kinds, bases, axes, sizes, senses, grids, poles, knots, faces, points, starts, scan, places, normals, known):
    """Feet of many points on their faces; `starts` (n, 2) are moved to the feet's parameters."""
    for i in prange(len(points)):
        out = np.empty((6, 3))
        if scan and kinds[faces[i]] == SPLINE:
            _scan(grids[faces[i]], poles, knots, points[i], starts[i], out)
        known[i] = foot(
            kinds, bases, axes, sizes, senses, grids, poles, knots,
            faces[i], points[i], starts[i], places[i], normals[i], out,
        )  # fmt: skip


@kernel(parallel=True, nogil=True)
def over_parameters(grid, poles, knots, parameters, points, places, off):
    """Places of one B-spline surface at parameters (n, 2), and how far points stand off it there, along its normal."""
    for i in prange(len(parameters)):
        out = np.empty((6, 3))
        spline_at(grid, poles, knots, parameters[i, 0], parameters[i, 1], out)
        size = along = whole = 0.0
        for k in range(3):
            a, b = (k + 1) % 3, (k + 2) % 3
            n = out[1, a] * out[2, b] - out[1, b] * out[2, a]
            size += n * n
            along += n * (points[i, k] - out[0, k])
            whole += (points[i, k] - out[0, k]) ** 2
            places[i, k] = out[0, k]
        off[i] = abs(along) / np.sqrt(size) if size > 1e-24 else np.sqrt(whole)


@leaf
def start_on(kinds, bases, axes, sizes, face, p, uv):
    """Parameters of a place near a face that is no B-spline, for `surface_at`; (2,) into uv. Gives how its axes turn.

    A sphere is taken about the axis that the place is farthest from: its poles are out of the way.
    """
    turn = 0
    if kinds[face] == SPHERE:
        least = np.inf
        for k in range(3):
            along = 0.0
            for c in range(3):
                along += axes[face, k, c] * (p[c] - bases[face, c])
            if abs(along) < least:
                least, turn = abs(along), (k + 1) % 3
    lx = ly = lz = 0.0
    for c in range(3):
        r = p[c] - bases[face, c]
        lx += axes[face, turn, c] * r
        ly += axes[face, (turn + 1) % 3, c] * r
        lz += axes[face, (turn + 2) % 3, c] * r
    across = np.sqrt(lx * lx + ly * ly)
    uv[0], uv[1] = np.arctan2(ly, lx), lz
    if kinds[face] == PLANE:
        uv[0], uv[1] = lx, ly
    elif kinds[face] == CONE:
        uv[1] = (across - sizes[face, 0]) * np.sin(sizes[face, 1]) + lz * np.cos(sizes[face, 1])
    elif kinds[face] == SPHERE:
        uv[1] = np.arctan2(lz, across)
    elif kinds[face] == TORUS:
        uv[1] = np.arctan2(lz, across - sizes[face, 0])
    return turn


@leaf
def _profile_at(kind, major, minor, v, out):
    """What a surface turns about its axis: distance from it and two derivatives in row 6, height along it in row 7."""
    if kind == CYLINDER:
        away, rise = (major, 0.0, 0.0), (v, 1.0, 0.0)
    elif kind == CONE:
        s, c = np.sin(minor), np.cos(minor)
        away, rise = (major + v * s, s, 0.0), (v * c, c, 0.0)
    else:
        r = major if kind == SPHERE else minor
        s, c = r * np.sin(v), r * np.cos(v)
        away, rise = (c + (0.0 if kind == SPHERE else major), -s, -c), (s, c, -s)
    for k in range(3):
        out[6, k], out[7, k] = away[k], rise[k]


@leaf
def turned_at(kinds, bases, axes, sizes, face, turn, u, v, out):
    """Point and derivatives of a plane, quadric or torus: out rows S, Su, Sv, Suu, Suv, Svv, each of 3; out has 8 rows.

    Args:
        turn: what `start_on` gave.
    """
    if kinds[face] == PLANE:
        for c in range(3):
            x, y = axes[face, 0, c], axes[face, 1, c]
            out[0, c], out[1, c], out[2, c] = bases[face, c] + u * x + v * y, x, y
            out[3, c] = out[4, c] = out[5, c] = 0.0
        return
    su, cu = np.sin(u), np.cos(u)
    _profile_at(kinds[face], sizes[face, 0], sizes[face, 1], v, out)
    for c in range(3):
        x, y, z = axes[face, turn, c], axes[face, (turn + 1) % 3, c], axes[face, (turn + 2) % 3, c]
        away, round_ = cu * x + su * y, cu * y - su * x
        out[0, c] = bases[face, c] + out[6, 0] * away + out[7, 0] * z
        out[1, c], out[2, c] = out[6, 0] * round_, out[6, 1] * away + out[7, 1] * z
        out[3, c], out[4, c], out[5, c] = -out[6, 0] * away, out[6, 1] * round_, out[6, 2] * away + out[7, 2] * z

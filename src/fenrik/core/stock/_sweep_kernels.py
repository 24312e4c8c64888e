"""Where a ray leaves what a convex body of revolution sweeps along a straight way with a constant axis.

In the tool's frame (z along its axis, the way in the x–z plane) a place on the ray, less the way that the tool has
made, is q(λ, t) = a + λ·w − t·d. The body is convex, so the pairs (λ, t) with q inside it form a convex set, and the
swept body meets the ray from the least to the greatest λ in it. On a band that is a cone, cylinder or sphere the set
is bounded by a conic, and its extreme lies at the conic's own, at t = 0 or 1, or on a plane between bands: all in
closed form. On a band of a torus the extreme is found by Newton's method on the least distance over t, which is a
convex function of λ, from outside and therefore without overshoot.

Sources: K. Weinert, S. Du, P. Damm, M. Stautner, "Swept volume generation for the simulation of machining
processes" (2004), for tools of revolution and their envelopes; the reduction to a planar convex set is our own.
"""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import leaf

SMOOTH, LOWER, UPPER = 0, 1, 2
NONE = -1
EDGE = 1e-9
RIM = 1e-7
FLAT = 1e-12
PLACES, MOMENTS = 5, 1e-4
"""Places of a stretch that are asked how deep they are, and how closely the moment is looked for."""


@leaf(inline="always")
def _root(a, d, f, first):
    """The λ with a·λ² + 2·d·λ + f = 0; `first` asks for the smaller one. Returns (found, λ)."""
    if abs(a) < FLAT:
        if abs(d) < FLAT:
            return False, 0.0
        return True, -0.5 * f / d
    s = d * d - a * f
    if s < 0.0:
        return False, 0.0
    s = np.sqrt(s)
    # The root of larger size first: no digits are lost.
    q = -(d + s) if d >= 0.0 else -d + s
    if q == 0.0:
        return True, 0.0
    r0, r1 = q / a, f / q
    if first:
        return True, min(r0, r1)
    return True, max(r0, r1)


@leaf
def _least_turn(c, px, py, pz, dx, dz, t0, t1):
    """t in [t0, t1] where a place moving by −t·d comes nearest to a disc of radius c about the axis (c below 0: the
    place's radius is lengthened by −c)."""
    lo, hi = t0, t1
    t = 0.5 * (t0 + t1)
    for step in range(60):
        if step == 0:
            t = lo
        elif step == 1:
            t = hi
        x, z = px - t * dx, pz - t * dz
        r = np.sqrt(x * x + py * py)
        slope, bend = -z * dz, dz * dz
        if r > c and r > 1e-15:
            turn = -x * dx / r
            slope += (r - c) * turn
            bend += turn * turn + (r - c) * (dx * dx - turn * turn) / r
        if step == 0:
            if slope >= 0.0:
                return lo
            t = hi
            continue
        if step == 1:
            if slope <= 0.0:
                return hi
            t = 0.5 * (lo + hi)
            continue
        if slope > 0.0:
            hi = t
        else:
            lo = t
        if hi - lo < 1e-13:
            break
        after = t - slope / bend if bend > 1e-300 else 0.5 * (lo + hi)
        if not (lo < after < hi):
            after = 0.5 * (lo + hi)
        if abs(after - t) < 1e-14:
            return after
        t = after
    return t


@leaf
def _torus_end(c, zc, big, ax, ay, az, wx, wy, wz, dx, dz, t0, t1):
    """Greatest λ at which the ray touches what a torus (or its lens) sweeps: (found, λ, t)."""
    bound = c + big if c >= 0.0 else np.sqrt(max(big * big - c * c, 0.0))
    away = -(ax * wx + ay * wy + (az - zc) * wz)
    ahead = dx * wx + dz * wz
    at = away + max(t0 * ahead, t1 * ahead) + bound
    for _ in range(80):
        px, py, pz = ax + at * wx, ay + at * wy, az - zc + at * wz
        t = _least_turn(c, px, py, pz, dx, dz, t0, t1)
        x, z = px - t * dx, pz - t * dz
        r = np.sqrt(x * x + py * py)
        rho = max(r - c, 0.0)
        far = np.sqrt(rho * rho + z * z)
        gap = far - big
        if gap <= 1e-11:
            return True, at, t
        slope = z * wz
        if rho > 0.0 and r > 1e-15:
            slope += rho * (x * wx + py * wy) / r
        slope /= far
        if slope <= 1e-13:
            return False, 0.0, 0.0
        at -= gap / slope
        if gap < 1e-9 and slope < 1e-4:
            return True, at, t
    return True, at, t


@leaf
def _plane_end(plane, r, ax, ay, az, wx, wy, wz, dx, dz):
    """Greatest λ at which the ray passes the disc of radius r that moves in a plane across the axis: (found, λ, t).

    There the place runs along a line, counted by t or, where the ray is more level than the way, by λ: each divides by
    the larger of the two.
    """
    by_ray = abs(wz) < abs(dz)
    if by_ray:
        t0, turn = (az - plane) / dz, wz / dz
        x, y, u, v = ax - t0 * dx, ay, wx - turn * dx, wy
        # t runs from 0 to 1 over these λ.
        low, high = min(-t0 / turn, (1.0 - t0) / turn), max(-t0 / turn, (1.0 - t0) / turn)
    else:
        t0, turn = (plane - az) / wz, dz / wz
        x, y, u, v = ax + t0 * wx, ay + t0 * wy, turn * wx - dx, turn * wy
        low, high = 0.0, 1.0
    length = u * u + v * v
    if length < FLAT * FLAT:
        if x * x + y * y > r * r:
            return False, 0.0, 0.0
    else:
        dot = x * u + y * v
        side = x * v - y * u
        s = length * r * r - side * side
        if s < 0.0:
            return False, 0.0, 0.0
        s = np.sqrt(s)
        low, high = max((-dot - s) / length, low), min((-dot + s) / length, high)
        if low > high:
            return False, 0.0, 0.0
    if by_ray:
        return True, high, t0 + high * turn
    t = high if turn > 0.0 else low
    return True, t0 + t * turn, t


@leaf
def furthest(bands, first, last, ax, ay, az, wx, wy, wz, dx, dz):
    """Greatest λ at which a ray lies in what the convex run of bands [first, last) sweeps.

    A place of the run's outside that lies within a band is the extreme of the run only if it is that of the band's
    whole cone, cylinder, sphere or torus; so each band is asked for one place, and counts where that lies on it.

    Args:
        a: the ray's zero, w: its direction (unit), d = (dx, 0, dz): the way, all in the tool's frame at its start.

    Returns:
        (λ, t, band, what): −inf where the ray misses; `what` says whether it leaves through the band's own surface,
        or through the plane at its lower or upper end.
    """
    best, at_t, at_band, what = -np.inf, 0.0, NONE, SMOOTH
    level = abs(wz) < FLAT
    way2 = dx * dx + dz * dz
    for b in range(first, last):
        z0, z1 = bands[b, 0], bands[b, 1]
        t0, t1 = 0.0, 1.0
        if level:
            # The ray is in the band's heights only for some of the way.
            if abs(dz) < FLAT:
                if az < z0 or az > z1:
                    continue
            else:
                inverse = 1.0 / dz
                ta, tb = (az - z0) * inverse, (az - z1) * inverse
                t0, t1 = max(min(ta, tb), 0.0), min(max(ta, tb), 1.0)
                if t0 > t1:
                    continue
        c, k = bands[b, 5], 0.0
        if bands[b, 4] == 1.0 and c != 0.0:
            ok, lam, t = _torus_end(c, bands[b, 6], bands[b, 7], ax, ay, az, wx, wy, wz, dx, dz, t0, t1)
            if not ok:
                # The torus holds all of its band: no place of the ray is in it.
                continue
            z = az + lam * wz - t * dz
            if z0 - EDGE <= z <= z1 + EDGE and lam > best:
                best, at_t, at_band, what = lam, t, b, SMOOTH
        else:
            if bands[b, 4] == 1.0:
                z = az - bands[b, 6]
                A, C = 1.0, way2
                B, D, E = -(wx * dx + wz * dz), ax * wx + ay * wy + z * wz, -(ax * dx + z * dz)
                F = ax * ax + ay * ay + z * z - bands[b, 7] * bands[b, 7]
            else:
                k = (bands[b, 3] - bands[b, 2]) / (z1 - z0)
                fa, fw, fd = bands[b, 2] + k * (az - z0), k * wz, k * dz
                A, C = wx * wx + wy * wy - fw * fw, dx * dx - fd * fd
                B, D, E = -(wx * dx - fw * fd), ax * wx + ay * wy - fa * fw, -(ax * dx - fa * fd)
                F = ax * ax + ay * ay - fa * fa
            ends, t = 2, t0
            if FLAT * way2 < C:
                inverse = 1.0 / C
                a2, d2, f2 = A - B * B * inverse, D - B * E * inverse, F - E * E * inverse
                q2 = d2 * d2 - a2 * f2
                if a2 > FLAT:
                    # An ellipse: its extreme, or the end of the way that is nearest to it.
                    if q2 < 0.0:
                        continue
                    lam = (-d2 + np.sqrt(q2)) / a2
                    t = -(B * lam + E) * inverse
                    ends = 0
                    if t < t0:
                        t, ends = t0, 1
                    elif t > t1:
                        t, ends = t1, 1
                    else:
                        z = az + lam * wz - t * dz
                        if z0 <= z <= z1:
                            # An extreme of a convex set with nothing in its way is the extreme of the whole run.
                            return lam, t, b, SMOOTH
                elif a2 < -FLAT and q2 >= 0.0:
                    # A hyperbola: the branch on our side ends at the smaller root, or begins at the larger one.
                    _, lam = _root(a2, d2, f2, True)
                    t = -(B * lam + E) * inverse
                    z = az + lam * wz - t * dz
                    if t0 <= t <= t1 and z0 <= z <= z1:
                        return lam, t, b, SMOOTH
                elif abs(a2) <= FLAT and abs(d2) > FLAT:
                    lam = -0.5 * f2 / d2
                    t = -(B * lam + E) * inverse
                    z = az + lam * wz - t * dz
                    if t0 <= t <= t1 and z0 <= z <= z1 and lam > best:
                        best, at_t, at_band, what = lam, t, b, SMOOTH
            elif bands[b, 4] == 0.0 and k == 0.0 and abs(dz) > FLAT:
                # A cylinder along its own axis: the place is the same all the way; a time at which it is in the band.
                ends = 1
                ok, lam = _root(A, D, F, False)
                t = min(max((az + lam * wz - 0.5 * (z0 + z1)) / dz, t0), t1) if ok else t0
            for end in range(ends):
                if ends == 2:
                    t = t1 if end == 1 else t0
                d3, f3 = D + t * B, F + t * (2.0 * E + t * C)
                ok, lam = _root(A, d3, f3, False)
                if not ok:
                    continue
                z = az + lam * wz - t * dz
                if (z < z0 - EDGE or z > z1 + EDGE) and A < FLAT:
                    ok, lam = _root(A, d3, f3, True)
                    z = az + lam * wz - t * dz
                if z0 - EDGE <= z <= z1 + EDGE and lam > best:
                    best, at_t, at_band, what = lam, t, b, SMOOTH
        if level:
            continue
        for side in range(2):
            if bands[b, 8 + side] == 0.0:
                continue
            ok, lam, t = _plane_end(bands[b, side], bands[b, 2 + side], ax, ay, az, wx, wy, wz, dx, dz)
            if ok and lam > best:
                best, at_t, at_band, what = lam, t, b, LOWER if side == 0 else UPPER
    return best, at_t, at_band, what


@leaf
def depth_of(px, py, pz, qx, qy, qz, dx, dz, bands, first, last):
    """How deep a run of bands has places of a stretch from p to q in it on its way: from the side or from below,
    whichever is less, at the moment when that is most."""
    deepest = 0.0
    for k in range(PLACES):
        s = k / (PLACES - 1.0)
        x, y, z = px + s * (qx - px), py + s * (qy - py), pz + s * (qz - pz)
        begin, end = 0.0, 1.0
        if dz != 0.0:  # The moments at which it is as high as the run.
            u, v = (z - bands[first, 0]) / dz, (z - bands[last - 1, 1]) / dz
            begin, end = max(min(u, v), 0.0), min(max(u, v), 1.0)
        elif dx > 0.0:
            begin = end = min(max(x / dx, 0.0), 1.0)
        # A convex body has a place deepest at one moment, and less deep the longer before and after.
        while end - begin > MOMENTS:
            t, u = begin + (end - begin) / 3, end - (end - begin) / 3
            if _depth_at(x - t * dx, y, z - t * dz, bands, first, last) < _depth_at(
                x - u * dx, y, z - u * dz, bands, first, last
            ):
                begin = t
            else:
                end = u
        if begin <= end:
            t = 0.5 * (begin + end)
            deepest = max(deepest, _depth_at(x - t * dx, y, z - t * dz, bands, first, last))
    return deepest


@leaf
def _depth_at(x, y, z, bands, first, last):
    return min(widest_at(bands, first, last, z) - np.sqrt(x * x + y * y), z - bands[first, 0])


@leaf
def surface_normal(bands, b, what, x, y, z, dx, dz):
    """Outward normal (not of unit length) of what a body sweeps where a place of its frame lies on a band's surface.

    On the rim of a plane between bands the surface is what the rim leaves behind it: it holds the rim and the way.
    """
    r = np.sqrt(x * x + y * y)
    if what != SMOOTH:
        out = -1.0 if what == LOWER else 1.0
        rim = bands[b, 2] if what == LOWER else bands[b, 3]
        nx, ny, nz = x * dz, y * dz, -x * dx
        size = np.sqrt(nx * nx + ny * ny + nz * nz)
        if r < rim - RIM or size < RIM * max(r, 1.0):
            return 0.0, 0.0, out
        turn = 1.0 if nx * x + ny * y + out * nz > 0.0 else -1.0
        return turn * nx, turn * ny, turn * nz
    if bands[b, 4] == 1.0:
        lean, rise = max(r - bands[b, 5], 0.0), z - bands[b, 6]
    else:
        lean, rise = bands[b, 1] - bands[b, 0], bands[b, 2] - bands[b, 3]
    if r > 1e-15:
        return lean * x / r, lean * y / r, rise
    return 0.0, 0.0, rise


@leaf
def widest_at(bands, first, last, z):
    """Radius of a run of bands at a height; −1 outside it."""
    r = -1.0
    for b in range(first, last):
        if bands[b, 0] <= z <= bands[b, 1]:
            if bands[b, 4] == 0.0:
                here = bands[b, 2] + (bands[b, 3] - bands[b, 2]) * (z - bands[b, 0]) / (bands[b, 1] - bands[b, 0])
            else:
                q = bands[b, 7] * bands[b, 7] - (z - bands[b, 6]) ** 2
                here = bands[b, 5] + (np.sqrt(q) if q > 0.0 else 0.0)
            r = max(r, here)
    return r

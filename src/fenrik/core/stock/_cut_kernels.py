"""Kernels behind `cut`: the stretch of a ray inside a swept tool, and taking it out of the ray."""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.kernels import kernel
from fenrik.core.tools.kernels import element_height, height, lowest_along, radius_at, slope_at

BRICK = 32
SLIVER = 1e-9


@kernel
def _put_normal(out, i, j, row, x, y, z):
    size = np.sqrt(x * x + y * y + z * z)
    if size < 1e-12:
        out[i, j, row, 0], out[i, j, row, 1], out[i, j, row, 2] = 0, 0, 127
        return
    f = 127.0 / size
    out[i, j, row, 0], out[i, j, row, 1], out[i, j, row, 2] = int(round(x * f)), int(round(y * f)), int(round(z * f))


@kernel
def _subtract(count, at, normal, source, i, j, a, b, na, nb, motion):
    """Take [a, b] out of one ray; returns (new count, removed length, place of the top of what was removed).

    A count of −1 says that the ray has no room for the new hits; then nothing was changed.
    """
    k = 0
    removed = 0.0
    top = -np.inf
    while k < count:
        lo, hi = at[i, j, k], at[i, j, k + 1]
        if hi <= a + SLIVER:
            k += 2
            continue
        if lo >= b - SLIVER:
            break
        top = max(top, min(hi, b))
        if a > lo + SLIVER and b < hi - SLIVER:
            if count + 2 > at.shape[2]:
                return -1, 0.0, 0.0
            for q in range(count - 1, k, -1):
                at[i, j, q + 2], source[i, j, q + 2] = at[i, j, q], source[i, j, q]
                normal[i, j, q + 2, 0], normal[i, j, q + 2, 1], normal[i, j, q + 2, 2] = (
                    normal[i, j, q, 0],
                    normal[i, j, q, 1],
                    normal[i, j, q, 2],
                )
            at[i, j, k + 1], source[i, j, k + 1] = a, motion
            at[i, j, k + 2], source[i, j, k + 2] = b, motion
            _put_normal(normal, i, j, k + 1, na[0], na[1], na[2])
            _put_normal(normal, i, j, k + 2, nb[0], nb[1], nb[2])
            return count + 2, b - a, top
        if a > lo + SLIVER:
            removed += hi - a
            at[i, j, k + 1], source[i, j, k + 1] = a, motion
            _put_normal(normal, i, j, k + 1, na[0], na[1], na[2])
            k += 2
        elif b < hi - SLIVER:
            removed += b - lo
            at[i, j, k], source[i, j, k] = b, motion
            _put_normal(normal, i, j, k, nb[0], nb[1], nb[2])
            break
        else:
            removed += hi - lo
            for q in range(k, count - 2):
                at[i, j, q], source[i, j, q] = at[i, j, q + 2], source[i, j, q + 2]
                normal[i, j, q, 0], normal[i, j, q, 1], normal[i, j, q, 2] = (
                    normal[i, j, q + 2, 0],
                    normal[i, j, q + 2, 1],
                    normal[i, j, q + 2, 2],
                )
            count -= 2
    return count, removed, top


@kernel
def _stadium(du, e0, dv, w, sa, sb, sign):
    """s in [sa, sb] that takes sign·(du·s + …) furthest: a disc of radius w moving past a line.

    e(s) = e0 − dv·s is the side distance from the disc's centre to the line. Returns (found, s).
    """
    if abs(dv) < 1e-12:
        if abs(e0) > w:
            return False, 0.0
        return True, sb if sign * du > 0.0 else sa
    t0, t1 = (e0 - w) / dv, (e0 + w) / dv
    low, high = max(sa, min(t0, t1)), min(sb, max(t0, t1))
    if low > high:
        return False, 0.0
    length = np.sqrt(du * du + dv * dv)
    e = -w * du * sign / length * (1.0 if dv > 0.0 else -1.0)
    return True, min(max((e0 - e) / dv, low), high)


@kernel
def _width(profile, zeta, e):
    w = radius_at(profile, zeta)
    return w - abs(e)


@kernel
def _corner(profile, du, e0, dv, zeta0, dz, sa, sb, sign):
    """The same for the lower part of any profile on a sloping motion, by bisection on concave functions."""
    a, b = sa, sb
    for _ in range(40):
        # Where the body is widest around the line.
        m1, m2 = a + (b - a) * 0.45, a + (b - a) * 0.55
        if _width(profile, zeta0 - dz * m1, e0 - dv * m1) < _width(profile, zeta0 - dz * m2, e0 - dv * m2):
            a = m1
        else:
            b = m2
    middle = 0.5 * (a + b)
    if _width(profile, zeta0 - dz * middle, e0 - dv * middle) < 0.0:
        for edge in (sa, sb):
            if _width(profile, zeta0 - dz * edge, e0 - dv * edge) >= 0.0:
                return True, edge
        return False, 0.0
    low, high = sa, sb
    if _width(profile, zeta0 - dz * sa, e0 - dv * sa) < 0.0:
        p, q = sa, middle
        for _ in range(40):
            h = 0.5 * (p + q)
            if _width(profile, zeta0 - dz * h, e0 - dv * h) < 0.0:
                p = h
            else:
                q = h
        low = q
    if _width(profile, zeta0 - dz * sb, e0 - dv * sb) < 0.0:
        p, q = middle, sb
        for _ in range(40):
            h = 0.5 * (p + q)
            if _width(profile, zeta0 - dz * h, e0 - dv * h) < 0.0:
                q = h
            else:
                p = h
        high = p
    for _ in range(40):
        m1, m2 = low + (high - low) * 0.45, low + (high - low) * 0.55
        if _chord_end(profile, du, e0, dv, zeta0, dz, m1, sign) < _chord_end(profile, du, e0, dv, zeta0, dz, m2, sign):
            low = m1
        else:
            high = m2
    return True, 0.5 * (low + high)


@kernel
def _chord_end(profile, du, e0, dv, zeta0, dz, s, sign):
    w = radius_at(profile, zeta0 - dz * s)
    e = e0 - dv * s
    q = w * w - e * e
    return sign * du * s + (np.sqrt(q) if q > 0.0 else 0.0)


@kernel
def _capsule(du, e0, dv, c0, dz, r, sign):
    """The same for a sphere whose centre passes the line at side distance e0 − dv·s, height c0 − dz·s."""
    d2 = dv * dv + dz * dz
    if d2 < 1e-24:
        if e0 * e0 + c0 * c0 > r * r:
            return False, 0.0
        return True, 1.0 if sign * du > 0.0 else 0.0
    dot = e0 * dv + c0 * dz
    h2 = r * r - (e0 * e0 + c0 * c0 - dot * dot / d2)
    if h2 < 0.0:
        return False, 0.0
    half = np.sqrt(h2 / d2)
    centre = dot / d2
    low, high = max(0.0, centre - half), min(1.0, centre + half)
    if low > high:
        return False, 0.0
    return True, min(max(centre + half * sign * du / np.sqrt(d2 + du * du), low), high)


@kernel
def _side_end(profile, top, du, e0, dv, zeta0, dz, sign):
    """Furthest reach of the swept tool along a horizontal ray: (found, reach·sign, s)."""
    n = profile.shape[0]
    big = profile[n - 1, 1]
    shoulder = element_height(profile, n - 1, big)
    best, at = -np.inf, 0.0
    if abs(dz) < 1e-12:
        if zeta0 < 0.0 or zeta0 > top:
            return False, 0.0, 0.0
        w = big if zeta0 >= shoulder else radius_at(profile, zeta0)
        ok, s = _stadium(du, e0, dv, w, 0.0, 1.0, sign)
        if not ok:
            return False, 0.0, 0.0
        e = e0 - dv * s
        q = w * w - e * e
        return True, sign * du * s + (np.sqrt(q) if q > 0.0 else 0.0), s
    # The cylinder above the shoulder.
    t0, t1 = (zeta0 - top) / dz, (zeta0 - shoulder) / dz
    sa, sb = max(0.0, min(t0, t1)), min(1.0, max(t0, t1))
    found = False
    if sa <= sb:
        ok, s = _stadium(du, e0, dv, big, sa, sb, sign)
        if ok:
            e = e0 - dv * s
            q = big * big - e * e
            best, at, found = sign * du * s + (np.sqrt(q) if q > 0.0 else 0.0), s, True
    if shoulder > 0.0:
        t0, t1 = (zeta0 - shoulder) / dz, zeta0 / dz
        sa, sb = max(0.0, min(t0, t1)), min(1.0, max(t0, t1))
        if sa <= sb:
            if n == 1 and profile[0, 2] == 1.0 and profile[0, 5] == 0.0:
                r = profile[0, 7]
                ok, s = _capsule(du, e0, dv, zeta0 - r, dz, r, sign)
                if ok:
                    e, c = e0 - dv * s, zeta0 - r - dz * s
                    q = r * r - e * e - c * c
                    value = sign * du * s + (np.sqrt(q) if q > 0.0 else 0.0)
                    if value > best:
                        best, at = value, s
                    found = True
            else:
                ok, s = _corner(profile, du, e0, dv, zeta0, dz, sa, sb, sign)
                if ok:
                    value = _chord_end(profile, du, e0, dv, zeta0, dz, s, sign)
                    if value > best:
                        best, at = value, s
                    found = True
    return found, best, at


@kernel
def _side_normal(profile, du, e0, dv, zeta0, dz, s, sign, u, v, out):
    """Outward normal of the stock where a horizontal ray leaves the swept tool."""
    n = profile.shape[0]
    big = profile[n - 1, 1]
    zeta, e = zeta0 - dz * s, e0 - dv * s
    w = big if zeta >= element_height(profile, n - 1, big) else radius_at(profile, zeta)
    q = w * w - e * e
    half = np.sqrt(q) if q > 0.0 else 0.0
    k = min(slope_at(profile, min(w, big)), 1e6)
    if w >= big - 1e-12:
        k = 1e6
    w = max(w, 1e-12)
    out[u] = -k * sign * half / w
    out[v] = -k * e / w
    out[2] = 1.0


@kernel
def _mark(dirty, family, iu, iv, a, b, low, cell):
    """Mark the bricks that a changed stretch [a, b] of a ray touches, one cell of margin around."""
    n0 = int((a - low) / cell) - 1
    n1 = int((b - low) / cell) + 2
    u0, u1 = (iu - 1) // BRICK, (iu + 1) // BRICK
    v0, v1 = (iv - 1) // BRICK, (iv + 1) // BRICK
    for p in range(max(u0, 0), u1 + 1):
        for q in range(max(v0, 0), v1 + 1):
            for r in range(max(n0 // BRICK, 0), n1 // BRICK + 1):
                if family == 0:
                    i, j, k = r, p, q
                elif family == 1:
                    i, j, k = p, r, q
                else:
                    i, j, k = p, q, r
                if i < dirty.shape[0] and j < dirty.shape[1] and k < dirty.shape[2]:
                    dirty[i, j, k] = 1


@kernel
def _mark_row(dirty, family, iu, v_low, v_high, a, b, low, cell):
    """Mark for the rays v_low to v_high of a row at once."""
    for v in range(v_low - 1, v_high + BRICK, BRICK):
        _mark(dirty, family, iu, min(v, v_high + 1), a, b, low, cell)


@kernel(parallel=True, nogil=True)
def cut_family(
    family,
    u,
    v,
    along,
    count,
    at,
    normal,
    source,
    changed,
    starts,
    ends,
    resume,
    stop,
    origin,
    cell,
    profile,
    top,
    sources,
    dirty,
    removed,
    sines,
    watched,
    offsets,
    touch,
    boxes,
):
    """Take motions [resume, stop) out of one family of rays; `resume` tells where a tile ran out of room.

    Tile by tile, so that the rays stay in the cache; each lane owns every n-th tile and its own sums, so that the
    result does not depend on the number of threads.
    """
    lanes = removed.shape[0]
    nu, nv = count.shape
    across = (nv + BRICK - 1) // BRICK
    floor = _floor_table(profile)
    for lane in prange(lanes):
        for tile in range(lane, resume.shape[0], lanes):
            u0, v0 = (tile // across) * BRICK, (tile % across) * BRICK
            u1, v1 = min(u0 + BRICK, nu), min(v0 + BRICK, nv)
            m = resume[tile]
            while m < stop:
                if boxes[m, 0] >= u1 or boxes[m, 1] < u0 or boxes[m, 2] >= v1 or boxes[m, 3] < v0:
                    m += 1
                    continue
                if family == 2:
                    ok = _cut_down(
                        m,
                        u0,
                        u1,
                        v0,
                        v1,
                        count,
                        at,
                        normal,
                        source,
                        changed,
                        starts[m],
                        ends[m],
                        origin,
                        cell,
                        profile,
                        floor,
                        top,
                        sources[m],
                        dirty,
                        removed[lane],
                        sines[lane],
                    )
                    if ok:
                        for w in range(len(offsets) - 1):
                            _watch(
                                m,
                                u0,
                                u1,
                                v0,
                                v1,
                                count,
                                at,
                                starts[m],
                                ends[m],
                                origin,
                                cell,
                                watched[offsets[w] : offsets[w + 1]],
                                touch[lane, m, w],
                            )
                else:
                    ok = _cut_side(
                        family,
                        u,
                        along,
                        u0,
                        u1,
                        v0,
                        v1,
                        count,
                        at,
                        normal,
                        source,
                        changed,
                        starts[m],
                        ends[m],
                        origin,
                        cell,
                        profile,
                        top,
                        sources[m],
                        dirty,
                    )
                if not ok:
                    break
                m += 1
            resume[tile] = m


TABLE = 128


@kernel
def _floor_table(profile):
    """A lower bound of h over even steps of ρ², to turn away rays that a motion cannot reach."""
    big = profile[profile.shape[0] - 1, 1]
    table = np.empty(TABLE + 1)
    for k in range(TABLE + 1):
        table[k] = height(profile, min(big * np.sqrt(k / TABLE), big))
    return table


@kernel
def _cut_down(
    m,
    u0,
    u1,
    v0,
    v1,
    count,
    at,
    normal,
    source,
    changed,
    p,
    q,
    origin,
    cell,
    profile,
    floor,
    top,
    motion,
    dirty,
    removed,
    sines,
):
    big = profile[profile.shape[0] - 1, 1]
    i0 = max(int(np.ceil((min(p[0], q[0]) - big - origin[0]) / cell)), u0)
    i1 = min(int(np.floor((max(p[0], q[0]) + big - origin[0]) / cell)), u1 - 1)
    j0 = max(int(np.ceil((min(p[1], q[1]) - big - origin[1]) / cell)), v0)
    j1 = min(int(np.floor((max(p[1], q[1]) + big - origin[1]) / cell)), v1 - 1)
    if i0 > i1 or j0 > j1:
        return True
    dx, dy, dz = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    length = np.sqrt(dx * dx + dy * dy)
    ux, uy = (dx / length, dy / length) if length > 1e-12 else (1.0, 0.0)
    slope = dz / length if length > 1e-12 else 0.0
    base = p[2] if length > 1e-12 else min(p[2], q[2])
    nearest = min(p[2], q[2])
    scale = TABLE / (big * big)
    down, up = np.zeros(3), np.zeros(3)
    up[2] = -1.0
    for i in range(i0, i1 + 1):
        x = origin[0] + i * cell - p[0]
        from_, to, j_low, j_high = np.inf, -np.inf, j1, j0
        for j in range(j0, j1 + 1):
            c = count[i, j]
            if c == 0 or at[i, j, c - 1] <= nearest:
                continue
            y = origin[1] + j * cell - p[1]
            side = x * uy - y * ux
            ahead = x * ux + y * uy
            beyond = max(-ahead, ahead - length, 0.0)
            near2 = side * side + beyond * beyond
            if near2 > big * big or at[i, j, c - 1] <= nearest + floor[int(near2 * scale)]:
                continue
            low, s = lowest_along(profile, side * side, slope, -ahead, length - ahead)
            if np.isinf(low):
                continue
            bottom = base + slope * ahead + low
            if bottom >= at[i, j, c - 1] - SLIVER:
                continue
            reach = np.sqrt(max(big * big - side * side, 0.0))
            s_low, s_high = max(0.0, ahead - reach), min(length, ahead + reach)
            ceiling = top + max(p[2] + slope * s_low, p[2] + slope * s_high)
            if length <= 1e-12:
                ceiling = top + max(p[2], q[2])
            if ceiling <= bottom:
                continue
            # Where the tool touched lowest: its axis stood s further along than the place.
            ax, ay = ux * s, uy * s
            cx, cy = -ax - side * -uy, -ay - side * ux
            rho = np.sqrt(side * side + s * s)
            k = min(slope_at(profile, min(rho, big)), 1e6)
            if rho > 1e-12:
                down[0], down[1] = -k * cx / rho, -k * cy / rho
            else:
                down[0] = down[1] = 0.0
            down[2] = 1.0
            new, gone, crest = _subtract(c, at, normal, source, i, j, bottom, ceiling, down, up, motion)
            if new < 0:
                return False
            if gone > 0.0:
                count[i, j] = new
                changed[i, j] = True
                removed[m] += gone * cell * cell
                from_, to = min(from_, bottom), max(to, crest)
                j_low, j_high = min(j_low, j), max(j_high, j)
                if gone > 1e-3 and length > 1e-12:
                    wide = crest - (p[2] + slope * min(max(ahead, 0.0), length))
                    w = big
                    if wide < height(profile, big):
                        w = max(radius_at(profile, wide), 1e-3)
                    # A ray stands for half a cell to each side of it.
                    half = 0.5 * cell / w
                    sines[m, 0] = min(sines[m, 0], side / w - half)
                    sines[m, 1] = max(sines[m, 1], side / w + half)
        if to > from_:
            _mark_row(dirty, 2, i, j_low, j_high, from_, to, origin[2], cell)
    return True


@kernel
def _watch(m, u0, u1, v0, v1, count, at, p, q, origin, cell, profile, out):
    """Deepest standing of a watched body in the stock during one motion; out gets depth, x, y, z."""
    big = profile[profile.shape[0] - 1, 1]
    i0 = max(int(np.ceil((min(p[0], q[0]) - big - origin[0]) / cell)), u0)
    i1 = min(int(np.floor((max(p[0], q[0]) + big - origin[0]) / cell)), u1 - 1)
    j0 = max(int(np.ceil((min(p[1], q[1]) - big - origin[1]) / cell)), v0)
    j1 = min(int(np.floor((max(p[1], q[1]) + big - origin[1]) / cell)), v1 - 1)
    if i0 > i1 or j0 > j1:
        return
    dx, dy, dz = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    length = np.sqrt(dx * dx + dy * dy)
    ux, uy = (dx / length, dy / length) if length > 1e-12 else (1.0, 0.0)
    slope = dz / length if length > 1e-12 else 0.0
    base = p[2] if length > 1e-12 else min(p[2], q[2])
    lowest = min(p[2], q[2]) + element_height(profile, 0, 0.0)
    for i in range(i0, i1 + 1):
        x = origin[0] + i * cell - p[0]
        for j in range(j0, j1 + 1):
            c = count[i, j]
            if c == 0 or at[i, j, c - 1] <= lowest:
                continue
            y = origin[1] + j * cell - p[1]
            side = x * uy - y * ux
            if abs(side) > big:
                continue
            ahead = x * ux + y * uy
            low, _ = lowest_along(profile, side * side, slope, -ahead, length - ahead)
            if np.isinf(low):
                continue
            depth = at[i, j, c - 1] - (base + slope * ahead + low)
            if depth > out[0]:
                out[0], out[1], out[2], out[3] = depth, x + p[0], y + p[1], at[i, j, c - 1]


@kernel
def _cut_side(
    family,
    u,
    along,
    u0,
    u1,
    v0,
    v1,
    count,
    at,
    normal,
    source,
    changed,
    p,
    q,
    origin,
    cell,
    profile,
    top,
    motion,
    dirty,
):
    """One motion on the x or y rays: `along` is the ray's axis, `u` the other horizontal one, `v` is z."""
    n = profile.shape[0]
    big = profile[n - 1, 1]
    shoulder = element_height(profile, n - 1, big)
    i0 = max(int(np.ceil((min(p[u], q[u]) - big - origin[u]) / cell)), u0)
    i1 = min(int(np.floor((max(p[u], q[u]) + big - origin[u]) / cell)), u1 - 1)
    k0 = max(int(np.ceil((min(p[2], q[2]) - origin[2]) / cell)), v0)
    k1 = min(int(np.floor((max(p[2], q[2]) + top - origin[2]) / cell)), v1 - 1)
    if i0 > i1 or k0 > k1:
        return True
    du, dv, dz = q[along] - p[along], q[u] - p[u], q[2] - p[2]
    left, right = min(p[along], q[along]), max(p[along], q[along])
    bottom = min(p[2], q[2])
    na, nb = np.zeros(3), np.zeros(3)
    for i in range(i0, i1 + 1):
        e0 = origin[u] + i * cell - p[u]
        nearest = max(max(min(e0, e0 - dv), -max(e0, e0 - dv)), 0.0)
        from_, to, k_low, k_high = np.inf, -np.inf, k1, k0
        for k in range(k0, k1 + 1):
            c = count[i, k]
            if c == 0:
                continue
            # The widest that the tool is at this height during the motion bounds its reach along the ray.
            zeta = origin[2] + k * cell - bottom
            w = big if zeta >= shoulder else radius_at(profile, zeta)
            q2 = w * w - nearest * nearest
            if q2 < 0.0:
                continue
            reach = np.sqrt(q2)
            meets = False
            for h in range(0, c, 2):
                if at[i, k, h] < right + reach and at[i, k, h + 1] > left - reach:
                    meets = True
                    break
            if not meets:
                continue
            zeta0 = origin[2] + k * cell - p[2]
            ok, high, s_high = _side_end(profile, top, du, e0, dv, zeta0, dz, 1.0)
            if not ok:
                continue
            b = p[along] + high
            ok, low, s_low = _side_end(profile, top, du, e0, dv, zeta0, dz, -1.0)
            if not ok:
                continue
            a = p[along] - low
            meets = False
            for h in range(0, c, 2):
                if at[i, k, h] < b - SLIVER and at[i, k, h + 1] > a + SLIVER:
                    meets = True
                    break
            if not meets or b <= a:
                continue
            _side_normal(profile, du, e0, dv, zeta0, dz, s_low, -1.0, along, u, na)
            _side_normal(profile, du, e0, dv, zeta0, dz, s_high, 1.0, along, u, nb)
            new, gone, crest = _subtract(c, at, normal, source, i, k, a, b, na, nb, motion)
            if new < 0:
                return False
            if gone > 0.0:
                count[i, k] = new
                changed[i, k] = True
                from_, to = min(from_, a), max(to, crest)
                k_low, k_high = min(k_low, k), max(k_high, k)
        if to > from_:
            _mark_row(dirty, family, i, k_low, k_high, from_, to, origin[along], cell)
    return True

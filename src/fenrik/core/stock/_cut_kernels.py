"""Kernels behind `cut`: a tool with any outline in any direction, its axis constant during each motion.

Most rays near a motion have nothing for it: their stock was taken by the motions before. That is seen at the ends of
a ray's stretches of stock, without asking where the tool would cut: a convex body and a place outside it are parted by
a plane, and where the ray from that place runs away from the body, so does the whole stretch. Only the other rays ask
`furthest` for the stretch that the tool sweeps.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.kernels import kernel
from fenrik.core.stock._sweep_kernels import furthest, surface_normal, widest_at
from fenrik.core.tools.kernels import lowest_along, slope_at

BRICK = 32
SLIVER = 1e-9
TABLE = 96
ALONG = 1.0 - 1e-12


@kernel
def _drop_segment(at, normal, source, i, j, k, hits):
    """Close the gap that a stretch of stock (hits k and k + 1) leaves on its ray."""
    for q in range(k, hits - 2):
        at[i, j, q], source[i, j, q] = at[i, j, q + 2], source[i, j, q + 2]
        for c in range(3):
            normal[i, j, q, c] = normal[i, j, q + 2, c]


@kernel
def _open_segment(at, normal, source, i, j, k, hits):
    """Make room for two hits after hit k."""
    for q in range(hits - 1, k, -1):
        at[i, j, q + 2], source[i, j, q + 2] = at[i, j, q], source[i, j, q]
        for c in range(3):
            normal[i, j, q + 2, c] = normal[i, j, q, c]


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
    ways,
    turns,
    boxes,
    envelopes,
    resume,
    stop,
    origin,
    cell,
    bands,
    runs,
    undersides,
    chains,
    owner,
    measured,
    sources,
    dirty,
    removed,
    sines,
    touch,
):
    """Take motions [resume, stop) out of one family of rays; `resume` tells where a tile ran out of room.

    Tile by tile, so that the rays stay in the cache; each lane owns every n-th tile and its own sums, so that the
    result does not depend on the number of threads.

    Args:
        starts, ways: (n, 3) tip at the start and its way, in the stock's frame.
        turns: (n, 3, 3) rows are the axes of the tool's frame (x along the level part of the way).
        boxes: (n, runs, 6) lowest and highest corner of what each run sweeps.
        envelopes: (n, runs, TABLE + 1) from `sweep_envelopes`.
        bands, runs: of all bodies, one after another. owner: (runs,) the watched body of each, −1 for the cutter.
        undersides, chains: the elements of each run's underside, and where they begin.
        measured: (n,) whether engagement is taken on this family.
        touch: (lanes, n, watched, 4) longest stretch of a ray in a watched body, and where.
    """
    lanes = removed.shape[0]
    nu, nv = count.shape
    across = (nv + BRICK - 1) // BRICK
    for lane in prange(lanes):
        for tile in range(lane, resume.shape[0], lanes):
            u0, v0 = (tile // across) * BRICK, (tile % across) * BRICK
            u1, v1 = min(u0 + BRICK, nu), min(v0 + BRICK, nv)
            low_u, high_u = origin[u] + u0 * cell, origin[u] + (u1 - 1) * cell
            low_v, high_v = origin[v] + v0 * cell, origin[v] + (v1 - 1) * cell
            m = resume[tile]
            while m < stop:
                ok = True
                for run in range(owner.shape[0]):
                    if (
                        boxes[m, run, u] > high_u
                        or boxes[m, run, 3 + u] < low_u
                        or boxes[m, run, v] > high_v
                        or boxes[m, run, 3 + v] < low_v
                    ):
                        continue
                    i0 = max(int(np.ceil((boxes[m, run, u] - origin[u]) / cell)), u0)
                    i1 = min(int(np.floor((boxes[m, run, 3 + u] - origin[u]) / cell)), u1 - 1)
                    j0 = max(int(np.ceil((boxes[m, run, v] - origin[v]) / cell)), v0)
                    j1 = min(int(np.floor((boxes[m, run, 3 + v] - origin[v]) / cell)), v1 - 1)
                    if i0 > i1 or j0 > j1:
                        continue
                    chain = undersides[chains[run] : chains[run + 1]]
                    if owner[run] < 0:
                        ok = _cut_rays(
                            family, u, v, along, i0, i1, j0, j1, count, at, normal, source, changed, starts[m], ways[m],
                            turns[m], boxes[m, run, along], boxes[m, run, 3 + along], envelopes[m, run], origin, cell,
                            bands, runs[run], runs[run + 1], chain, sources[m], dirty, removed[lane], sines[lane], m,
                            measured[m],
                        )  # fmt: skip
                        if not ok:
                            break
                    else:
                        _watch_rays(
                            u, v, along, i0, i1, j0, j1, count, at, starts[m], ways[m], turns[m], boxes[m, run, along],
                            boxes[m, run, 3 + along], envelopes[m, run], origin, cell, bands, runs[run], runs[run + 1],
                            chain, touch[lane, m, owner[run]],
                        )  # fmt: skip
                if not ok:
                    break
                m += 1
            resume[tile] = m


@kernel(parallel=True, nogil=True)
def sweep_envelopes(ways, turns, undersides, chains, radii):
    """Lower bounds of the height of what each run's underside sweeps over a place, (n, runs, TABLE + 1).

    Over even steps of the square of the place's distance from the level way: the least of m·σ + h(√(d² + σ²)) over
    all σ, m being the slope of the way. With m times the (clamped) way made at the place's foot it bounds the swept
    underside from below, for the foot of a place is the nearest on the way.
    """
    n, count = ways.shape[0], chains.shape[0] - 1
    out = np.empty((n, count, TABLE + 1))
    for m in prange(n):
        dx = turns[m, 0, 0] * ways[m, 0] + turns[m, 0, 1] * ways[m, 1] + turns[m, 0, 2] * ways[m, 2]
        dz = turns[m, 2, 0] * ways[m, 0] + turns[m, 2, 1] * ways[m, 1] + turns[m, 2, 2] * ways[m, 2]
        slope = dz / dx if dx > 1e-9 else 0.0
        for run in range(count):
            chain = undersides[chains[run] : chains[run + 1]]
            big = radii[run]
            for k in range(TABLE + 1):
                low, _ = lowest_along(chain, big * big * k / TABLE * (1.0 - 1e-12), slope, -big, big)
                out[m, run, k] = low + min(dz, 0.0) if dx <= 1e-9 else low
    return out


PARTED, INSIDE, OPEN, NEAR = 0, 1, 2, 3


@kernel(inline="always")
def _glance(x, y, z, wx, wy, wz, dx, slope, low_end, high_end, limit, scale, envelope):
    """Where a place lies to what a run sweeps, as far as its box, cylinder and envelope tell.

    PARTED: the place, and the ray from it against (wx, wy, wz), is parted from the swept run by a plane; INSIDE: it is
    in it; OPEN: not known; NEAR: to be looked at.

    Args:
        x, y, z: the place in the tool's frame at its start. low_end, high_end: least and greatest height swept.
        limit: square of the widest radius. scale: steps of the envelope over it.
    """
    where = NEAR
    if z <= low_end + SLIVER:
        where = PARTED if wz >= 0.0 else OPEN
    elif z >= high_end - SLIVER:
        where = PARTED if wz <= 0.0 else OPEN
    else:
        foot = min(max(x, 0.0), dx)
        ex = x - foot
        near = ex * ex + y * y
        if near >= limit:
            where = PARTED if ex * wx + y * wy <= 0.0 else OPEN
        # Along the axis every plane under the tool parts.
        elif wz >= ALONG and z <= slope * foot + envelope[int(near * scale)] + SLIVER:
            where = PARTED
    return where


@kernel
def _look(x, y, z, wx, wy, wz, dx, slope, fall, ceiling, chain):
    """The same by the swept underside itself, for a place that is NEAR.

    Args:
        fall: what a plunge adds to the underside. ceiling: height up to which the run is surely swept over the place.
        chain: elements of the run's underside.

    Returns:
        (where, height of the swept underside over the place, way along x from there to the axis that reaches it).
    """
    low, s = lowest_along(chain, y * y, slope, -x, dx - x)
    low += slope * x + fall
    if z > low + SLIVER:
        return INSIDE if z <= ceiling else OPEN, low, s
    rho = np.sqrt(y * y + s * s)
    if rho < 1e-12:
        return PARTED if wz >= 0.0 else OPEN, low, s
    rise = min(slope_at(chain, min(rho, chain[chain.shape[0] - 1, 1])), 1e9)
    return PARTED if rise * (y * wy - s * wx) <= wz * rho else OPEN, low, s


@kernel
def _cut_rays(
    family, u, v, along, i0, i1, j0, j1, count, at, normal, source, changed, start, way, turn, low_box, high_box,
    envelope, origin, cell, bands, first, last, chain, motion, dirty, removed, sines, m, measured,
):  # fmt: skip
    """One motion of a run of the cutter on a rectangle of rays; False where a ray had no room for its new hits."""
    wx, wy, wz = turn[0, along], turn[1, along], turn[2, along]
    dx = max(turn[0, 0] * way[0] + turn[0, 1] * way[1] + turn[0, 2] * way[2], 0.0)
    dz = turn[2, 0] * way[0] + turn[2, 1] * way[1] + turn[2, 2] * way[2]
    wide, z0, z1 = chain[chain.shape[0] - 1, 1], bands[first, 0], bands[last - 1, 1]
    plain = bands[last - 1, 3] >= wide - SLIVER
    slope, fall = (0.0, min(dz, 0.0)) if dx <= 1e-9 else (dz / dx, 0.0)
    low_end, high_end = z0 + min(dz, 0.0), z1 + max(dz, 0.0)
    limit, scale = wide * wide, TABLE / (wide * wide)
    ceiling = z1 + min(dz, 0.0) if plain else -np.inf
    middle = 0.5 * (low_box + high_box)
    local = np.zeros(3)
    xu, xv, yu, yv, zu, zv = turn[0, u], turn[0, v], turn[1, u], turn[1, v], turn[2, u], turn[2, v]
    x0, y0, h0 = turn[0, along] * start[along], turn[1, along] * start[along], turn[2, along] * start[along]
    for i in range(i0, i1 + 1):
        from_, to, j_low, j_high = np.inf, -np.inf, j1, j0
        pu = origin[u] + i * cell - start[u]
        for j in range(j0, j1 + 1):
            hits = count[i, j]
            if hits == 0 or at[i, j, 0] >= high_box or at[i, j, hits - 1] <= low_box:
                continue
            pv = origin[v] + j * cell - start[v]
            ax, ay, az = xu * pu + xv * pv - x0, yu * pu + yv * pv - y0, zu * pu + zv * pv - h0
            h = 0
            while h < hits:
                low, high = at[i, j, h], at[i, j, h + 1]
                if high <= low_box or low >= high_box:
                    h += 2
                    continue
                # Places where the sweep begins and ends on the ray, as far as they lie in this stretch.
                a, b = -np.inf, np.inf
                ta = tb = height = s = 0.0
                band_a = band_b = what_a = what_b = -1
                # The end that is nearer to the tool first: it mostly settles it.
                high_first = 0.5 * (low + high) <= middle
                at_high = high_first
                side, end = (1.0, high) if at_high else (-1.0, low)
                for _ in range(2):
                    x, y, z = ax + end * wx, ay + end * wy, az + end * wz
                    sx, sy, sz = side * wx, side * wy, side * wz
                    where = _glance(x, y, z, sx, sy, sz, dx, slope, low_end, high_end, limit, scale, envelope)
                    if where == NEAR:
                        where, height, s = _look(x, y, z, sx, sy, sz, dx, slope, fall, ceiling, chain)
                    if where != OPEN:
                        break
                    at_high = not at_high
                    side, end = (1.0, high) if at_high else (-1.0, low)
                if where == PARTED:
                    h += 2
                    continue
                if where == OPEN or not at_high:
                    b, tb, band_b, what_b = furthest(bands, first, last, ax, ay, az, wx, wy, wz, dx, dz)
                if where == OPEN and band_b < 0:
                    h += 2
                    continue
                if where == INSIDE and at_high and wz >= ALONG:
                    a = height - az
                elif where == OPEN or at_high:
                    a, ta, band_a, what_a = furthest(bands, first, last, ax, ay, az, -wx, -wy, -wz, dx, dz)
                    a = -a
                if a >= high - SLIVER or b <= low + SLIVER or b <= a:
                    h += 2
                    continue
                starts_in, ends_in = a > low + SLIVER, b < high - SLIVER
                if starts_in and ends_in:
                    if hits + 2 > at.shape[2]:
                        return False
                    _open_segment(at, normal, source, i, j, h, hits)
                    hits += 2
                elif not (starts_in or ends_in):
                    _drop_segment(at, normal, source, i, j, h, hits)
                    hits -= 2
                if starts_in:
                    at[i, j, h + 1], source[i, j, h + 1] = a, motion
                    if band_a >= 0:
                        surface_normal(
                            bands, band_a, what_a, ax + a * wx - ta * dx, ay + a * wy, az + a * wz - ta * dz, local
                        )  # fmt: skip
                    else:
                        rho = np.sqrt(ay * ay + s * s)
                        rise = min(slope_at(chain, min(rho, wide)), 1e6)
                        local[0] = -rise * s / rho if rho > 1e-12 else 0.0
                        local[1] = rise * ay / rho if rho > 1e-12 else 0.0
                        local[2] = -1.0
                    _into_stock(turn, local, normal, i, j, h + 1)
                if ends_in:
                    k = h + 2 if starts_in else h
                    at[i, j, k], source[i, j, k] = b, motion
                    surface_normal(
                        bands, band_b, what_b, ax + b * wx - tb * dx, ay + b * wy, az + b * wz - tb * dz, local
                    )  # fmt: skip
                    _into_stock(turn, local, normal, i, j, k)
                if starts_in or ends_in:
                    h += 4 if starts_in and ends_in else 2
                count[i, j] = hits
                changed[i, j] = True
                a, b = max(a, low), min(b, high)
                if family == 2:
                    removed[m] += (b - a) * cell * cell
                from_, to = min(from_, a), max(to, b)
                j_low, j_high = min(j_low, j), max(j_high, j)
                if measured and b - a > 1e-3 and dx > 1e-12:
                    end = b if wz >= 0.0 else a
                    x, y, z = ax + end * wx, ay + end * wy, az + end * wz
                    z -= min(max(x / dx, 0.0), 1.0) * dz
                    w = max(widest_at(bands, first, last, z), 1e-3)
                    # A ray stands for half a cell to each side of it.
                    half = 0.5 * cell / w
                    sines[m, 0] = min(sines[m, 0], y / w - half)
                    sines[m, 1] = max(sines[m, 1], y / w + half)
        if to > from_:
            _mark_row(dirty, family, i, j_low, j_high, from_, to, origin[along], cell)
    return True


@kernel
def _into_stock(turn, local, normal, i, j, k):
    """Keep the outward normal of the stock, in its own frame, made of that of the tool in the tool's."""
    x = -(turn[0, 0] * local[0] + turn[1, 0] * local[1] + turn[2, 0] * local[2])
    y = -(turn[0, 1] * local[0] + turn[1, 1] * local[1] + turn[2, 1] * local[2])
    z = -(turn[0, 2] * local[0] + turn[1, 2] * local[1] + turn[2, 2] * local[2])
    size = np.sqrt(x * x + y * y + z * z)
    if size < 1e-12:
        x, y, z, size = 0.0, 0.0, 1.0, 1.0
    f = 127.0 / size
    normal[i, j, k, 0] = int(np.floor(x * f + 0.5))
    normal[i, j, k, 1] = int(np.floor(y * f + 0.5))
    normal[i, j, k, 2] = int(np.floor(z * f + 0.5))


@kernel
def _watch_rays(
    u, v, along, i0, i1, j0, j1, count, at, start, way, turn, low_box, high_box, envelope, origin, cell, bands, first,
    last, chain, out,
):  # fmt: skip
    """Longest stretch of stock inside a run of a watched body during one motion; out gets its length and middle."""
    wx, wy, wz = turn[0, along], turn[1, along], turn[2, along]
    dx = max(turn[0, 0] * way[0] + turn[0, 1] * way[1] + turn[0, 2] * way[2], 0.0)
    dz = turn[2, 0] * way[0] + turn[2, 1] * way[1] + turn[2, 2] * way[2]
    wide, z0, z1 = chain[chain.shape[0] - 1, 1], bands[first, 0], bands[last - 1, 1]
    slope, fall = (0.0, min(dz, 0.0)) if dx <= 1e-9 else (dz / dx, 0.0)
    low_end, high_end = z0 + min(dz, 0.0), z1 + max(dz, 0.0)
    limit, scale = wide * wide, TABLE / (wide * wide)
    middle = 0.5 * (low_box + high_box)
    for i in range(i0, i1 + 1):
        pu = origin[u] + i * cell - start[u]
        for j in range(j0, j1 + 1):
            hits = count[i, j]
            if hits == 0 or at[i, j, 0] >= high_box or at[i, j, hits - 1] <= low_box:
                continue
            pv = origin[v] + j * cell - start[v]
            ax = turn[0, u] * pu + turn[0, v] * pv - turn[0, along] * start[along]
            ay = turn[1, u] * pu + turn[1, v] * pv - turn[1, along] * start[along]
            az = turn[2, u] * pu + turn[2, v] * pv - turn[2, along] * start[along]
            parted = True
            for h in range(0, hits, 2):
                at_high = at[i, j, h] + at[i, j, h + 1] <= 2 * middle
                side, end = (1.0, at[i, j, h + 1]) if at_high else (-1.0, at[i, j, h])
                x, y, z = ax + end * wx, ay + end * wy, az + end * wz
                sx, sy, sz = side * wx, side * wy, side * wz
                where = _glance(x, y, z, sx, sy, sz, dx, slope, low_end, high_end, limit, scale, envelope)
                if where == NEAR:
                    where, _, _ = _look(x, y, z, sx, sy, sz, dx, slope, fall, -np.inf, chain)
                parted &= where == PARTED
            if parted:
                continue
            b, _, band, _ = furthest(bands, first, last, ax, ay, az, wx, wy, wz, dx, dz)
            if band < 0:
                continue
            a = -furthest(bands, first, last, ax, ay, az, -wx, -wy, -wz, dx, dz)[0]
            for h in range(0, hits, 2):
                low, high = max(at[i, j, h], a), min(at[i, j, h + 1], b)
                if high - low > out[0]:
                    out[0] = high - low
                    out[1 + u], out[1 + v] = pu + start[u], pv + start[v]
                    out[1 + along] = 0.5 * (low + high)

"""Kernels behind `cut`: a tool with any outline in any direction, its axis constant during each motion.

Most rays near a motion have nothing for it: their stock was taken by the motions before. That is seen at the ends of
a ray's stretches of stock, without asking where the tool would cut: a convex body and a place outside it are parted by
a plane, and where the ray from that place runs away from the body, so does the whole stretch. Only the other rays ask
`furthest` for the stretch that the tool sweeps.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.kernels import kernel, leaf
from fenrik.core.stock._sweep_kernels import furthest, surface_normal, widest_at
from fenrik.core.tools.kernels import lowest_along, slope_at

BRICK = 32
SLIVER = 1e-9
BLOCK = 4
"""Rays on a side of a block: most are parted from the tool together."""
MIDDLE, AROUND = 0.5 * (BLOCK - 1), (BLOCK - 1) / np.sqrt(2.0)
ALONG = 1.0 - 1e-12


@leaf
def _drop_segment(at, normal, source, i, j, k, hits):
    """Close the gap that a stretch of stock (hits k and k + 1) leaves on its ray."""
    for q in range(k, hits - 2):
        at[i, j, q], source[i, j, q] = at[i, j, q + 2], source[i, j, q + 2]
        for c in range(3):
            normal[i, j, q, c] = normal[i, j, q + 2, c]


@leaf
def _open_segment(at, normal, source, i, j, k, hits):
    """Make room for two hits after hit k."""
    for q in range(hits - 1, k, -1):
        at[i, j, q + 2], source[i, j, q + 2] = at[i, j, q], source[i, j, q]
        for c in range(3):
            normal[i, j, q + 2, c] = normal[i, j, q, c]


@leaf
def _find_ends(count, at, i0, j0, ends):
    """Keep where the stock of a block of rays begins and ends on any of them."""
    low, high = np.inf, -np.inf
    for i in range(i0, i0 + BLOCK):
        for j in range(j0, j0 + BLOCK):
            hits = count[i, j]
            if hits > 0:
                low, high = min(low, at[i, j, 0]), max(high, at[i, j, hits - 1])
    ends[0], ends[1] = low, high


@kernel(parallel=True, nogil=True)
def cut_tiles(
    family, u, v, along, rays, tiles, count, at, normal, source, changed, starts, ways, turns, boxes, order, resume,
    origin, cell, bands, runs, undersides, chains, owner, measured, sources, removed, sines, touch,
):  # fmt: skip
    """Take motions out of some tiles of one family of rays, in an order.

    Tile by tile, so that the rays stay in the cache; each lane owns every n-th tile and its own sums, so that the
    result does not depend on the number of threads.

    Args:
        rays: how many there are along u and v. tiles: (t,) numbers of the tiles, row by row.
        count, at, normal, source: (t, 32, 32 …) their rays; changed: (t,) set where one of them was cut.
        order: (n,) the motions as they are taken. resume: (t,) how many of them a tile has had; less than n at the end
            where it ran out of room for its hits.
        starts, ways: (n, 3) tip at the start and its way, in the lattice's frame.
        turns: (n, 3, 3) rows are the axes of the tool's frame (x along the level part of the way).
        boxes: (n, runs, 6) lowest and highest corner of what each run sweeps.
        bands, runs: of all bodies, one after another. owner: (runs,) the watched body of each, −1 for the cutter.
        undersides, chains: the elements of each run's underside, and where they begin.
        measured: (n,) whether engagement is taken on this family.
        removed, sines: (lanes, n …) volume that each motion took, and the ends of its arc in material.
        touch: (lanes, n, watched, 4) longest stretch of a ray in a watched body, and where.
    """
    lanes = removed.shape[0]
    ends = np.empty((lanes, BRICK // BLOCK, BRICK // BLOCK, 2))
    for lane in prange(lanes):
        _cut_lane(
            family, u, v, along, rays, tiles, count, at, normal, source, changed, starts, ways, turns, boxes, order,
            resume, origin, cell, bands, runs, undersides, chains, owner, measured, sources, removed[lane],
            sines[lane], touch[lane], ends[lane], lane, lanes,
        )  # fmt: skip


@leaf
def _cut_lane(
    family, u, v, along, rays, tiles, count, at, normal, source, changed, starts, ways, turns, boxes, order, resume,
    origin, cell, bands, runs, undersides, chains, owner, measured, sources, removed, sines, touch, ends, lane, lanes,
):  # fmt: skip
    """The part of `cut_tiles` that one lane does; `ends` is room for a tile's blocks."""
    across = (rays[1] + BRICK - 1) // BRICK
    for t in range(lane, tiles.shape[0], lanes):
        u0, v0 = (tiles[t] // across) * BRICK, (tiles[t] % across) * BRICK
        nu, nv = min(BRICK, rays[0] - u0), min(BRICK, rays[1] - v0)
        low_u, low_v = origin[u] + u0 * cell, origin[v] + v0 * cell
        high_u, high_v = low_u + (nu - 1) * cell, low_v + (nv - 1) * cell
        known = False
        while resume[t] < order.shape[0]:
            m, ok = order[resume[t]], True
            for run in range(owner.shape[0]):
                box = boxes[m, run]
                if box[u] > high_u or box[3 + u] < low_u or box[v] > high_v or box[3 + v] < low_v:
                    continue
                i0 = max(int(np.ceil((box[u] - low_u) / cell)), 0)
                i1 = min(int(np.floor((box[3 + u] - low_u) / cell)), nu - 1)
                j0 = max(int(np.ceil((box[v] - low_v) / cell)), 0)
                j1 = min(int(np.floor((box[3 + v] - low_v) / cell)), nv - 1)
                if i0 > i1 or j0 > j1:
                    continue
                if not known:
                    known = True
                    for p in range(BRICK // BLOCK):
                        for q in range(BRICK // BLOCK):
                            _find_ends(count[t], at[t], p * BLOCK, q * BLOCK, ends[p, q])
                chain = undersides[chains[run] : chains[run + 1]]
                if owner[run] < 0:
                    ok = _cut_rays(
                        family, u, v, along, i0, i1, j0, j1, ends, count[t], at[t], normal[t], source[t], changed, t,
                        starts[m], ways[m], turns[m], box[along], box[3 + along], low_u, low_v, cell, bands, runs[run],
                        runs[run + 1], chain, sources[m], removed, sines, m, measured[m],
                    )  # fmt: skip
                    if not ok:
                        break
                else:
                    _watch_rays(
                        u, v, along, i0, i1, j0, j1, ends, count[t], at[t], starts[m], ways[m], turns[m], box[along],
                        box[3 + along], low_u, low_v, cell, bands, runs[run], runs[run + 1], chain,
                        touch[m, owner[run]],
                    )  # fmt: skip
            if not ok:
                break
            resume[t] += 1


PARTED, INSIDE, OPEN, NEAR = 0, 1, 2, 3


@leaf(inline="always")
def _glance(x, y, z, wx, wy, wz, dx, slope, low_end, high_end, limit):
    """Where a place lies to what a run sweeps, as far as its box and cylinder tell.

    PARTED: the place, and the ray from it against (wx, wy, wz), is parted from the swept run by a plane; INSIDE: it is
    in it; OPEN: not known; NEAR: to be looked at.

    Args:
        x, y, z: the place in the tool's frame at its start. low_end, high_end: least and greatest height swept.
        limit: square of the widest radius.
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
    return where


@leaf(inline="always")
def _rise(chain, rho, s, first, last, slope):
    """How steeply the plane rises that touches a swept underside, away from the axis that reaches a place.

    Within the way the plane holds the way; that decides it where the underside has a corner, at its rim too. At an end
    of the way it is the underside's own.

    Args:
        rho: distance of the place from that axis. s: the axis' way along x from the place, between `first` and `last`.
    """
    if first + SLIVER < s < last - SLIVER and abs(s) > SLIVER:
        return min(-slope * rho / s, 1e9)
    return min(slope_at(chain, min(rho, chain[chain.shape[0] - 1, 1])), 1e9)


@leaf
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
    rise = _rise(chain, rho, s, -x, dx - x, slope)
    return PARTED if rise * (y * wy - s * wx) <= wz * rho else OPEN, low, s


@leaf
def _swept(turn, way, along, bands, first, last, chain):
    """Numbers of what a run sweeps that all rays along an axis of the stock ask for.

    Returns:
        (direction of the rays in the tool's frame, 3), level and upright part of the way, its slope, what a plunge adds
        to the underside, least and greatest height swept, the widest radius, height up to which the run is surely
        swept over every place of its underside.
    """
    dx = max(turn[0, 0] * way[0] + turn[0, 1] * way[1] + turn[0, 2] * way[2], 0.0)
    dz = turn[2, 0] * way[0] + turn[2, 1] * way[1] + turn[2, 2] * way[2]
    wide, z0, z1 = chain[chain.shape[0] - 1, 1], bands[first, 0], bands[last - 1, 1]
    slope, fall = (0.0, min(dz, 0.0)) if dx <= 1e-9 else (dz / dx, 0.0)
    ceiling = z1 + min(dz, 0.0) if bands[last - 1, 3] >= wide - SLIVER else -np.inf
    return (
        turn[0, along], turn[1, along], turn[2, along], dx, dz, slope, fall, z0 + min(dz, 0.0), z1 + max(dz, 0.0),
        wide, ceiling,
    )  # fmt: skip


@leaf
def _block_parted(x, y, z, side, around, swept, chain):
    """Whether a plane parts what a run sweeps from all rays of a block.

    Args:
        x, y, z: where the stock of the block's middle ray ends, if it ends with the last ray that has any; `side` −1:
            where it begins.
        around: how far from there, across the rays, the other rays of the block stand.
    """
    wx, wy, wz, dx, _, slope, fall, low_end, high_end, wide, _ = swept
    wx, wy, wz = side * wx, side * wy, side * wz
    level = np.sqrt(max(1.0 - wz * wz, 0.0))
    if (wz >= 0.0 and low_end - z >= around * level) or (wz <= 0.0 and z - high_end >= around * level):
        return True
    foot = min(max(x, 0.0), dx)
    ex = x - foot
    near = ex * ex + y * y
    if near >= wide * wide:
        r = np.sqrt(near)
        toward = (ex * wx + y * wy) / r
        return toward <= 0.0 and r - wide >= around * np.sqrt(max(1.0 - toward * toward, 0.0))
    low, s = lowest_along(chain, y * y, slope, -x, dx - x)
    low += slope * x + fall
    if z > low:
        return False
    rho, rise, lean = np.sqrt(y * y + s * s), 0.0, 0.0
    if rho > 1e-12:
        rise = _rise(chain, rho, s, -x, dx - x, slope)
        lean = rise * (y * wy - s * wx) / rho
    size = np.sqrt(1.0 + rise * rise)
    toward = (lean - wz) / size
    return toward <= 0.0 and (low - z) / size >= around * np.sqrt(max(1.0 - toward * toward, 0.0))


@leaf
def _skips(own, ax, ay, az, around, low_box, high_box, swept, chain):
    """Whether no ray of a block, its stock between own[0] and own[1], has anything for a run of the tool."""
    if own[0] >= high_box or own[1] <= low_box:
        return True
    wx, wy, wz = swept[0], swept[1], swept[2]
    # The end that is nearer to the tool first: it mostly settles it.
    side = 1.0 if own[0] + own[1] <= low_box + high_box else -1.0
    for _ in range(2):
        t = own[1] if side > 0.0 else own[0]
        if _block_parted(ax + t * wx, ay + t * wy, az + t * wz, side, around, swept, chain):
            return True
        side = -side
    return False


@leaf
def _cut_block(
    family, u, v, i0, i1, j0, j1, count, at, normal, source, start, turn, places, low_box, high_box, swept, low_u,
    low_v, cell, bands, first, last, chain, motion, removed, sines, m, measured,
):  # fmt: skip
    """One motion of a run of the cutter on the rays of a block: (whether there was room, whether one was cut)."""
    wx, wy, wz, dx, dz, slope, fall, low_end, high_end, wide, ceiling = swept
    xu, xv, yu, yv, zu, zv, x0, y0, h0 = places
    limit = wide * wide
    middle = 0.5 * (low_box + high_box)
    was_cut = False
    for i in range(i0, i1 + 1):
        pu = low_u + i * cell - start[u]
        for j in range(j0, j1 + 1):
            hits = count[i, j]
            if hits == 0 or at[i, j, 0] >= high_box or at[i, j, hits - 1] <= low_box:
                continue
            pv = low_v + j * cell - start[v]
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
                    where = _glance(x, y, z, sx, sy, sz, dx, slope, low_end, high_end, limit)
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
                        return False, was_cut
                    _open_segment(at, normal, source, i, j, h, hits)
                    hits += 2
                elif not (starts_in or ends_in):
                    _drop_segment(at, normal, source, i, j, h, hits)
                    hits -= 2
                if starts_in:
                    at[i, j, h + 1], source[i, j, h + 1] = a, motion
                    if band_a >= 0:
                        nx, ny, nz = surface_normal(
                            bands, band_a, what_a, ax + a * wx - ta * dx, ay + a * wy, az + a * wz - ta * dz
                        )
                    else:
                        rho = np.sqrt(ay * ay + s * s)
                        rise = min(_rise(chain, rho, s, -x, dx - x, slope), 1e6) / max(rho, 1e-12)
                        nx, ny, nz = -rise * s, rise * ay, -1.0
                    _into_stock(turn, nx, ny, nz, normal, i, j, h + 1)
                if ends_in:
                    k = h + 2 if starts_in else h
                    at[i, j, k], source[i, j, k] = b, motion
                    nx, ny, nz = surface_normal(
                        bands, band_b, what_b, ax + b * wx - tb * dx, ay + b * wy, az + b * wz - tb * dz
                    )
                    _into_stock(turn, nx, ny, nz, normal, i, j, k)
                if starts_in or ends_in:
                    h += 4 if starts_in and ends_in else 2
                count[i, j] = hits
                was_cut = True
                a, b = max(a, low), min(b, high)
                if family == 2:
                    removed[m] += (b - a) * cell * cell
                if measured and b - a > 1e-3 and dx > 1e-12:
                    end = b if wz >= 0.0 else a
                    x, y, z = ax + end * wx, ay + end * wy, az + end * wz
                    z -= min(max(x / dx, 0.0), 1.0) * dz
                    w = max(widest_at(bands, first, last, z), 1e-3)
                    # A ray stands for half a cell to each side of it.
                    half = 0.5 * cell / w
                    sines[m, 0] = min(sines[m, 0], y / w - half)
                    sines[m, 1] = max(sines[m, 1], y / w + half)
    return True, was_cut


@leaf
def _cut_rays(
    family, u, v, along, i0, i1, j0, j1, ends, count, at, normal, source, changed, tile, start, way, turn, low_box,
    high_box, low_u, low_v, cell, bands, first, last, chain, motion, removed, sines, m, measured,
):  # fmt: skip
    """One motion of a run of the cutter on a rectangle of rays; False where a ray had no room for its new hits."""
    swept = _swept(turn, way, along, bands, first, last, chain)
    places = _places(turn, start, u, v, along)
    xu, xv, yu, yv, zu, zv, x0, y0, h0 = places
    for p in range(i0 // BLOCK * BLOCK, i1 + 1, BLOCK):
        pu = low_u + (p + MIDDLE) * cell - start[u]
        for q in range(j0 // BLOCK * BLOCK, j1 + 1, BLOCK):
            own = ends[p // BLOCK, q // BLOCK]
            pv = low_v + (q + MIDDLE) * cell - start[v]
            ax, ay, az = xu * pu + xv * pv - x0, yu * pu + yv * pv - y0, zu * pu + zv * pv - h0
            if _skips(own, ax, ay, az, AROUND * cell, low_box, high_box, swept, chain):
                continue
            ok, was_cut = _cut_block(
                family, u, v, max(p, i0), min(p + BLOCK - 1, i1), max(q, j0), min(q + BLOCK - 1, j1), count, at,
                normal, source, start, turn, places, low_box, high_box, swept, low_u, low_v, cell, bands, first, last,
                chain, motion, removed, sines, m, measured,
            )  # fmt: skip
            if was_cut:
                changed[tile] = True
                _find_ends(count, at, p, q, own)
            if not ok:
                return False
    return True


@leaf
def _places(turn, start, u, v, along):
    """What turns a ray's place across (u, v), counted from the tool's start, to the ray's zero in the tool's frame."""
    return (
        turn[0, u], turn[0, v], turn[1, u], turn[1, v], turn[2, u], turn[2, v],
        turn[0, along] * start[along], turn[1, along] * start[along], turn[2, along] * start[along],
    )  # fmt: skip


@leaf
def _into_stock(turn, nx, ny, nz, normal, i, j, k):
    """Keep the outward normal of the stock, in its own frame, made of that of the tool in the tool's."""
    x = -(turn[0, 0] * nx + turn[1, 0] * ny + turn[2, 0] * nz)
    y = -(turn[0, 1] * nx + turn[1, 1] * ny + turn[2, 1] * nz)
    z = -(turn[0, 2] * nx + turn[1, 2] * ny + turn[2, 2] * nz)
    size = np.sqrt(x * x + y * y + z * z)
    if size < 1e-12:
        x, y, z, size = 0.0, 0.0, 1.0, 1.0
    f = 127.0 / size
    normal[i, j, k, 0] = int(np.floor(x * f + 0.5))
    normal[i, j, k, 1] = int(np.floor(y * f + 0.5))
    normal[i, j, k, 2] = int(np.floor(z * f + 0.5))


@leaf
def _watch_rays(
    u, v, along, i0, i1, j0, j1, ends, count, at, start, way, turn, low_box, high_box, low_u, low_v, cell, bands,
    first, last, chain, out,
):  # fmt: skip
    """Longest stretch of stock inside a run of a watched body during one motion; out gets its length and middle."""
    swept = _swept(turn, way, along, bands, first, last, chain)
    wx, wy, wz, dx, dz, slope, fall, low_end, high_end, wide, _ = swept
    xu, xv, yu, yv, zu, zv, x0, y0, h0 = _places(turn, start, u, v, along)
    limit = wide * wide
    middle = 0.5 * (low_box + high_box)
    for p in range(i0 // BLOCK * BLOCK, i1 + 1, BLOCK):
        pu = low_u + (p + MIDDLE) * cell - start[u]
        for q in range(j0 // BLOCK * BLOCK, j1 + 1, BLOCK):
            own = ends[p // BLOCK, q // BLOCK]
            pv = low_v + (q + MIDDLE) * cell - start[v]
            ax, ay, az = xu * pu + xv * pv - x0, yu * pu + yv * pv - y0, zu * pu + zv * pv - h0
            if _skips(own, ax, ay, az, AROUND * cell, low_box, high_box, swept, chain):
                continue
            for i in range(max(p, i0), min(p + BLOCK - 1, i1) + 1):
                qu = low_u + i * cell - start[u]
                for j in range(max(q, j0), min(q + BLOCK - 1, j1) + 1):
                    hits = count[i, j]
                    if hits == 0 or at[i, j, 0] >= high_box or at[i, j, hits - 1] <= low_box:
                        continue
                    qv = low_v + j * cell - start[v]
                    ax, ay, az = xu * qu + xv * qv - x0, yu * qu + yv * qv - y0, zu * qu + zv * qv - h0
                    parted = True
                    for h in range(0, hits, 2):
                        at_high = at[i, j, h] + at[i, j, h + 1] <= 2 * middle
                        side, end = (1.0, at[i, j, h + 1]) if at_high else (-1.0, at[i, j, h])
                        x, y, z = ax + end * wx, ay + end * wy, az + end * wz
                        sx, sy, sz = side * wx, side * wy, side * wz
                        where = _glance(x, y, z, sx, sy, sz, dx, slope, low_end, high_end, limit)
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
                            out[1 + u], out[1 + v] = qu + start[u], qv + start[v]
                            out[1 + along] = 0.5 * (low + high)

"""Kernels behind `cut`: a tool with any outline in any direction, its axis constant during each motion.

Only rays that a plane does not part from the tool (`_parting_kernels`) ask `furthest` for the stretch that it sweeps;
where the tool stands along the rays, a row of them is looked at together from above (`_upright_kernels`). What a hit
came from stays a number below `PENDING` until a tile is done: only what is left then is asked for its normal.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.kernels import kernel, leaf
from fenrik.core.stock._parting_kernels import (
    BLOCK,
    INSIDE,
    NEAR,
    OPEN,
    PARTED,
    SLIVER,
    block_skips,
    describe_sweep,
    glance,
    look,
    places_of,
    rise_of,
)
from fenrik.core.stock._sweep_kernels import depth_of, furthest, surface_normal, widest_at
from fenrik.core.stock._upright_kernels import is_exact, swept_heights
from fenrik.core.tools.kernels import lowest_along

BRICK = 32
ALONG = 1.0 - 1e-14
PENDING = -(1 << 30)
"""Added to the number of a motion where its hit still waits for its normal."""


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
    ends = np.empty((lanes, BRICK // BLOCK, BRICK // BLOCK, 4))
    heights = np.empty((lanes, 3, BRICK))
    for lane in prange(lanes):
        _cut_lane(
            family, u, v, along, rays, tiles, count, at, normal, source, changed, starts, ways, turns, boxes, order,
            resume, origin, cell, bands, runs, undersides, chains, owner, measured, sources, removed[lane],
            sines[lane], touch[lane], ends[lane], heights[lane], lane, lanes,
        )  # fmt: skip


@leaf
def _cut_lane(
    family, u, v, along, rays, tiles, count, at, normal, source, changed, starts, ways, turns, boxes, order, resume,
    origin, cell, bands, runs, undersides, chains, owner, measured, sources, removed, sines, touch, ends, heights,
    lane, lanes,
):  # fmt: skip
    """The part of `cut_tiles` that one lane does; `ends` is room for a tile's blocks, `heights` for a row of rays."""
    across = (rays[1] + BRICK - 1) // BRICK
    for t in range(lane, tiles.shape[0], lanes):
        u0, v0 = (tiles[t] // across) * BRICK, (tiles[t] % across) * BRICK
        nu, nv = min(BRICK, rays[0] - u0), min(BRICK, rays[1] - v0)
        low_u, low_v = origin[u] + u0 * cell, origin[v] + v0 * cell
        high_u, high_v = low_u + (nu - 1) * cell, low_v + (nv - 1) * cell
        ends[:] = np.nan
        # Cutting takes away only: what lies beyond the stock now lies beyond it for good.
        lowest, highest = _span(count[t], at[t])
        while resume[t] < order.shape[0]:
            m, ok = order[resume[t]], True
            for run in range(owner.shape[0]):
                box = boxes[m, run]
                if box[u] > high_u or box[3 + u] < low_u or box[v] > high_v or box[3 + v] < low_v:
                    continue
                if box[along] > highest or box[3 + along] < lowest:
                    continue
                i0 = max(int(np.ceil((box[u] - low_u) / cell)), 0)
                i1 = min(int(np.floor((box[3 + u] - low_u) / cell)), nu - 1)
                j0 = max(int(np.ceil((box[v] - low_v) / cell)), 0)
                j1 = min(int(np.floor((box[3 + v] - low_v) / cell)), nv - 1)
                if i0 > i1 or j0 > j1:
                    continue
                chain = undersides[chains[run] : chains[run + 1]]
                if owner[run] < 0:
                    ok = _cut_rays(
                        family, u, v, along, i0, i1, j0, j1, ends, heights, count[t], at[t], normal[t], source[t],
                        changed, t, starts[m], ways[m], turns[m], box[along], box[3 + along], low_u, low_v, cell,
                        bands, runs[run], runs[run + 1], chain, removed, sines, m, measured[m],
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
        if changed[t]:
            _settle(
                u, v, along, count[t], at[t], normal[t], source[t], starts, ways, turns, low_u, low_v, cell, bands,
                runs, undersides, chains, owner, sources,
            )  # fmt: skip


@leaf
def _span(count, at):
    """Where the stock of a tile begins and ends along its rays."""
    lowest, highest = np.inf, -np.inf
    for i in range(count.shape[0]):
        for j in range(count.shape[1]):
            if count[i, j] > 0:
                lowest, highest = min(lowest, at[i, j, 0]), max(highest, at[i, j, count[i, j] - 1])
    return lowest, highest


@leaf
def _settle(
    u, v, along, count, at, normal, source, starts, ways, turns, low_u, low_v, cell, bands, runs, undersides, chains,
    owner, sources,
):  # fmt: skip
    """Give the hits that wait for them their normals, and the numbers of what they came from."""
    for i in range(count.shape[0]):
        for j in range(count.shape[1]):
            for k in range(count[i, j]):
                if source[i, j, k] > PENDING // 2:
                    continue
                m = source[i, j, k] - PENDING
                pu, pv = low_u + i * cell - starts[m, u], low_v + j * cell - starts[m, v]
                xu, xv, yu, yv, zu, zv, x0, y0, h0 = places_of(turns[m], starts[m], u, v, along)
                ax, ay, az = xu * pu + xv * pv - x0, yu * pu + yv * pv - y0, zu * pu + zv * pv - h0
                nearest, nx, ny, nz = np.inf, 0.0, 0.0, 1.0
                for run in range(owner.shape[0]):
                    if owner[run] >= 0:
                        continue
                    chain = undersides[chains[run] : chains[run + 1]]
                    swept = describe_sweep(turns[m], ways[m], along, bands, runs[run], runs[run + 1], chain)
                    t, x, y, z = _left_through(ax, ay, az, k % 2 == 1, swept, bands, runs[run], runs[run + 1], chain)
                    if abs(t - at[i, j, k]) < nearest:
                        nearest, nx, ny, nz = abs(t - at[i, j, k]), x, y, z
                _into_stock(turns[m], nx, ny, nz, normal, i, j, k)
                source[i, j, k] = sources[m]


@leaf
def _left_through(ax, ay, az, begins, swept, bands, first, last, chain):
    """Where the sweep of a run begins or ends on a ray, and the run's outward normal there: (place, x, y, z)."""
    wx, wy, wz, dx, dz, slope, fall, _, _, _, _ = swept
    if begins and wz >= ALONG:
        low, s = lowest_along(chain, ay * ay, slope, -ax, dx - ax)
        if low < np.inf:
            rho = np.sqrt(ay * ay + s * s)
            rise = min(rise_of(chain, rho, s, -ax, dx - ax, slope), 1e6) / max(rho, 1e-12)
            return low + slope * ax + fall - az, -rise * s, rise * ay, -1.0
    side = -1.0 if begins else 1.0
    t, way, band, what = furthest(bands, first, last, ax, ay, az, side * wx, side * wy, side * wz, dx, dz)
    if band < 0:
        return np.inf, 0.0, 0.0, 1.0
    t *= side
    x, y, z = surface_normal(bands, band, what, ax + t * wx - way * dx, ay + t * wy, az + t * wz - way * dz, dx, dz)
    return t, x, y, z


@leaf
def _cut_rays(
    family, u, v, along, i0, i1, j0, j1, ends, heights, count, at, normal, source, changed, tile, start, way, turn,
    low_box, high_box, low_u, low_v, cell, bands, first, last, chain, removed, sines, m, measured,
):  # fmt: skip
    """One motion of a run of the cutter on a rectangle of rays; False where a ray had no room for its new hits."""
    swept = describe_sweep(turn, way, along, bands, first, last, chain)
    places = places_of(turn, start, u, v, along)
    if swept[2] >= ALONG:
        return _cut_from_above(
            family, u, v, i0, i1, j0, j1, ends, heights, count, at, normal, source, changed, tile, start, places,
            low_box, high_box, swept, low_u, low_v, cell, bands, first, last, chain, removed, sines, m, measured,
        )  # fmt: skip
    for p in range(i0 // BLOCK * BLOCK, i1 + 1, BLOCK):
        for q in range(j0 // BLOCK * BLOCK, j1 + 1, BLOCK):
            own = ends[p // BLOCK, q // BLOCK]
            if block_skips(
                p, q, u, v, own, count, at, start, places, low_box, high_box, swept, low_u, low_v, cell, chain
            ):
                continue
            ok, was_cut = _cut_block(
                family, u, v, max(p, i0), min(p + BLOCK - 1, i1), max(q, j0), min(q + BLOCK - 1, j1), count, at,
                normal, source, start, places, low_box, high_box, swept, low_u, low_v, cell, bands, first, last, chain,
                removed, sines, m, measured,
            )  # fmt: skip
            if was_cut:
                changed[tile], own[0] = True, np.nan
            if not ok:
                return False
    return True


@leaf
def _cut_from_above(
    family, u, v, i0, i1, j0, j1, ends, heights, count, at, normal, source, changed, tile, start, places, low_box,
    high_box, swept, low_u, low_v, cell, bands, first, last, chain, removed, sines, m, measured,
):  # fmt: skip
    """The same for a tool that stands along the rays, row by row.

    Mostly it only lowers the top of a ray; what asks for more is left to `_cut_block`.
    """
    _, _, _, dx, dz, slope, fall, _, _, _, ceiling = swept
    xu, xv, yu, yv, zu, zv, x0, y0, h0 = places
    exact = is_exact(slope, chain)
    taken, low_sine, high_sine = 0.0, sines[m, 0], sines[m, 1]
    measured = measured and dx > 1e-12
    pv = low_v + j0 * cell - start[v]
    for i in range(i0, i1 + 1):
        pu = low_u + i * cell - start[u]
        x, y, z = xu * pu + xv * pv - x0, yu * pu + yv * pv - y0, zu * pu + zv * pv - h0
        swept_heights(x, xv * cell, y, yv * cell, j1 - j0 + 1, dx, slope, fall - z, chain, heights)
        # Indices without a sign: the compiler need not ask whether they count from the end.
        row = np.uintp(i)
        for k in range(j1 - j0 + 1):
            j, a = np.uintp(j0 + k), heights[0, k]
            hits = count[row, j]
            top = np.uintp(max(hits - 1, 0))
            high = at[row, j, top]
            if a >= high - SLIVER or hits == 0:
                continue
            ax, ay = x + xv * cell * k, y + yv * cell * k
            if not exact:
                a = lowest_along(chain, ay * ay, slope, -ax, dx - ax)[0] + slope * ax + fall - z
                if a >= high - SLIVER:
                    continue
            if high + z > ceiling or a <= at[row, j, top - np.uintp(1)] + SLIVER:
                ok, was_cut = _cut_block(
                    family, u, v, i, i, j0 + k, j0 + k, count, at, normal, source, start, places, low_box, high_box,
                    swept, low_u, low_v, cell, bands, first, last, chain, removed, sines, m, measured,
                )  # fmt: skip
                low_sine, high_sine = min(low_sine, sines[m, 0]), max(high_sine, sines[m, 1])
                if was_cut:
                    changed[tile], ends[i // BLOCK, (j0 + k) // BLOCK, 0] = True, np.nan
                if not ok:
                    _add_up(family, cell, taken, low_sine, high_sine, removed, sines, m)
                    return False
                continue
            at[row, j, top], source[row, j, top] = a, m + PENDING
            changed[tile], ends[i // BLOCK, (j0 + k) // BLOCK, 0] = True, np.nan
            taken += high - a
            if measured and high - a > 1e-3:
                low_sine, high_sine = _widen(low_sine, high_sine, ax, ay, high + z, dx, dz, cell, bands, first, last)
    _add_up(family, cell, taken, low_sine, high_sine, removed, sines, m)
    return True


@leaf
def _add_up(family, cell, taken, low_sine, high_sine, removed, sines, m):
    """Keep the length that a motion took from rays, and the ends of its arc."""
    if family == 2:
        removed[m] += taken * cell * cell
    sines[m, 0], sines[m, 1] = low_sine, high_sine


@leaf
def _widen(low, high, x, y, z, dx, dz, cell, bands, first, last):
    """The sines of the arc in material, widened to a place where the tool meets stock."""
    z -= min(max(x / dx, 0.0), 1.0) * dz
    w = max(widest_at(bands, first, last, z), 1e-3)
    # A ray stands for half a cell to each side of it.
    half = 0.5 * cell / w
    return min(low, y / w - half), max(high, y / w + half)


@leaf
def _cut_block(
    family, u, v, i0, i1, j0, j1, count, at, normal, source, start, places, low_box, high_box, swept, low_u, low_v,
    cell, bands, first, last, chain, removed, sines, m, measured,
):  # fmt: skip
    """One motion of a run of the cutter on the rays of a block: (whether there was room, whether one was cut)."""
    wx, wy, wz, dx, dz, slope, fall, low_end, high_end, wide, ceiling = swept
    xu, xv, yu, yv, zu, zv, x0, y0, h0 = places
    limit, middle = wide * wide, 0.5 * (low_box + high_box)
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
                a, b, height, where = -np.inf, np.inf, 0.0, OPEN
                # The end that is nearer to the tool first: it mostly settles it.
                at_high = 0.5 * (low + high) <= middle
                for _ in range(2):
                    side, end = (1.0, high) if at_high else (-1.0, low)
                    x, y, z = ax + end * wx, ay + end * wy, az + end * wz
                    sx, sy, sz = side * wx, side * wy, side * wz
                    where = glance(x, y, z, sx, sy, sz, dx, slope, low_end, high_end, limit)
                    if where == NEAR:
                        where, height, _ = look(x, y, z, sx, sy, sz, dx, slope, fall, ceiling, chain)
                    if where != OPEN:
                        break
                    at_high = not at_high
                if where == PARTED:
                    h += 2
                    continue
                if where == OPEN or not at_high:
                    b, _, band, _ = furthest(bands, first, last, ax, ay, az, wx, wy, wz, dx, dz)
                    if where == OPEN and band < 0:
                        h += 2
                        continue
                if where == INSIDE and at_high and wz >= ALONG:
                    a = height - az
                elif where == OPEN or at_high:
                    a = -furthest(bands, first, last, ax, ay, az, -wx, -wy, -wz, dx, dz)[0]
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
                    at[i, j, h + 1], source[i, j, h + 1] = a, m + PENDING
                if ends_in:
                    k = h + 2 if starts_in else h
                    at[i, j, k], source[i, j, k] = b, m + PENDING
                if starts_in or ends_in:
                    h += 4 if starts_in and ends_in else 2
                count[i, j], was_cut = hits, True
                a, b = max(a, low), min(b, high)
                if family == 2:
                    removed[m] += (b - a) * cell * cell
                if measured and b - a > 1e-3 and dx > 1e-12:
                    end = b if wz >= 0.0 else a
                    x, y, z = ax + end * wx, ay + end * wy, az + end * wz
                    sines[m, 0], sines[m, 1] = _widen(
                        sines[m, 0], sines[m, 1], x, y, z, dx, dz, cell, bands, first, last
                    )
    return True, was_cut


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
    """The stretch of stock that a run of a watched body has deepest in it during one motion; out gets how deep, and its
    middle.

    A ray that a wide shank only glances is long and not deep in it; where stock is thin, the way out is no longer than
    it is thick.
    """
    swept = describe_sweep(turn, way, along, bands, first, last, chain)
    wx, wy, wz, dx, dz, slope, fall, low_end, high_end, wide, _ = swept
    places = places_of(turn, start, u, v, along)
    xu, xv, yu, yv, zu, zv, x0, y0, h0 = places
    limit = wide * wide
    middle = 0.5 * (low_box + high_box)
    for p in range(i0 // BLOCK * BLOCK, i1 + 1, BLOCK):
        for q in range(j0 // BLOCK * BLOCK, j1 + 1, BLOCK):
            own = ends[p // BLOCK, q // BLOCK]
            if block_skips(
                p, q, u, v, own, count, at, start, places, low_box, high_box, swept, low_u, low_v, cell, chain
            ):
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
                        where = glance(x, y, z, sx, sy, sz, dx, slope, low_end, high_end, limit)
                        if where == NEAR:
                            where, _, _ = look(x, y, z, sx, sy, sz, dx, slope, fall, -np.inf, chain)
                        parted &= where == PARTED
                    if parted:
                        continue
                    b, _, band, _ = furthest(bands, first, last, ax, ay, az, wx, wy, wz, dx, dz)
                    if band < 0:
                        continue
                    a = -furthest(bands, first, last, ax, ay, az, -wx, -wy, -wz, dx, dz)[0]
                    for h in range(0, hits, 2):
                        low, high = max(at[i, j, h], a), min(at[i, j, h + 1], b)
                        deep = high - low
                        if deep > out[0]:
                            inside = depth_of(
                                ax + low * wx, ay + low * wy, az + low * wz,
                                ax + high * wx, ay + high * wy, az + high * wz, dx, dz, bands, first, last,
                            )  # fmt: skip
                            deep = min(deep, inside)
                        if deep > out[0]:
                            out[0] = deep
                            out[1 + u], out[1 + v] = qu + start[u], qv + start[v]
                            out[1 + along] = 0.5 * (low + high)

"""Kernels behind `cut` for a tool with any outline standing in any direction, its axis constant during each motion."""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.kernels import kernel
from fenrik.core.stock._cut_kernels import BRICK, SLIVER, _mark_row, _subtract
from fenrik.core.stock._sweep_kernels import furthest, surface_normal, widest_at


@kernel(parallel=True, nogil=True)
def cut_family_posed(
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
    resume,
    stop,
    origin,
    cell,
    bands,
    runs,
    bodies,
    cutting,
    measured,
    sources,
    dirty,
    removed,
    sines,
    touch,
):
    """Take motions [resume, stop) out of one family of rays; `resume` tells where a tile ran out of room.

    Args:
        starts, ways: (n, 3) tip at the start and its way, in the stock's frame.
        turns: (n, 3, 3) rows are the axes of the tool's frame (x along the level part of the way).
        boxes: (n, bodies, 6) lowest and highest corner of what each body sweeps.
        bands, runs: of all bodies, one after another; `bodies` (b + 1,) their runs. The first body cuts if `cutting`.
        measured: (n,) whether engagement is taken on this family.
        touch: (lanes, n, watched, 4) longest stretch of a ray in a watched body, and where.
    """
    lanes = removed.shape[0]
    nu, nv = count.shape
    across = (nv + BRICK - 1) // BRICK
    first_watched = 1 if cutting else 0
    for lane in prange(lanes):
        for tile in range(lane, resume.shape[0], lanes):
            u0, v0 = (tile // across) * BRICK, (tile % across) * BRICK
            u1, v1 = min(u0 + BRICK, nu), min(v0 + BRICK, nv)
            low_u, high_u = origin[u] + u0 * cell, origin[u] + (u1 - 1) * cell
            low_v, high_v = origin[v] + v0 * cell, origin[v] + (v1 - 1) * cell
            m = resume[tile]
            while m < stop:
                ok = True
                for body in range(bodies.shape[0] - 1):
                    box = boxes[m, body]
                    if box[u] > high_u or box[3 + u] < low_u or box[v] > high_v or box[3 + v] < low_v:
                        continue
                    i0 = max(int(np.ceil((box[u] - origin[u]) / cell)), u0)
                    i1 = min(int(np.floor((box[3 + u] - origin[u]) / cell)), u1 - 1)
                    j0 = max(int(np.ceil((box[v] - origin[v]) / cell)), v0)
                    j1 = min(int(np.floor((box[3 + v] - origin[v]) / cell)), v1 - 1)
                    if i0 > i1 or j0 > j1:
                        continue
                    if body == 0 and cutting:
                        ok = _cut_rays(
                            family, u, v, along, i0, i1, j0, j1, count, at, normal, source, changed, starts[m], ways[m],
                            turns[m], box, origin, cell, bands, runs, bodies[0], bodies[1], sources[m], dirty,
                            removed[lane], sines[lane], m, measured[m],
                        )  # fmt: skip
                        if not ok:
                            break
                    else:
                        _watch_rays(
                            u, v, along, i0, i1, j0, j1, count, at, starts[m], ways[m], turns[m], box, origin, cell,
                            bands, runs, bodies[body], bodies[body + 1], touch[lane, m, body - first_watched],
                        )  # fmt: skip
                if not ok:
                    break
                m += 1
            resume[tile] = m


@kernel
def _misses(ax, ay, wx, wy, dx, side, wide):
    """Whether a ray passes the tool's way, seen along the axis, at more than the widest radius."""
    across = np.sqrt(wx * wx + wy * wy)
    if across < 1e-9:
        ahead = min(max(ax, 0.0), dx)
        return (ax - ahead) * (ax - ahead) + ay * ay > wide * wide
    # Side distances of the two ends of the way from the ray.
    s0 = (ax * wy - ay * wx) / across
    s1 = s0 - side / across
    return (s0 > wide and s1 > wide) or (s0 < -wide and s1 < -wide)


@kernel
def _cut_rays(
    family, u, v, along, i0, i1, j0, j1, count, at, normal, source, changed, start, way, turn, box, origin, cell,
    bands, runs, first_run, last_run, motion, dirty, removed, sines, m, measured,
):  # fmt: skip
    """One motion of the cutter on a rectangle of rays; False where a ray had no room for its new hits."""
    wx, wy, wz = turn[0, along], turn[1, along], turn[2, along]
    dx = turn[0, 0] * way[0] + turn[0, 1] * way[1] + turn[0, 2] * way[2]
    dz = turn[2, 0] * way[0] + turn[2, 1] * way[1] + turn[2, 2] * way[2]
    wide = 0.0
    for b in range(runs[first_run], runs[last_run]):
        wide = max(wide, max(bands[b, 2], bands[b, 3]))
        if bands[b, 4] == 1.0:
            wide = max(wide, bands[b, 5] + bands[b, 7])
    side = dx * wy
    na, nb, local = np.zeros(3), np.zeros(3), np.zeros(3)
    low_box, high_box = box[along], box[3 + along]
    for i in range(i0, i1 + 1):
        from_, to, j_low, j_high = np.inf, -np.inf, j1, j0
        pu = origin[u] + i * cell - start[u]
        for j in range(j0, j1 + 1):
            hits = count[i, j]
            if hits == 0 or at[i, j, 0] >= high_box or at[i, j, hits - 1] <= low_box:
                continue
            pv = origin[v] + j * cell - start[v]
            ax = turn[0, u] * pu + turn[0, v] * pv - turn[0, along] * start[along]
            ay = turn[1, u] * pu + turn[1, v] * pv - turn[1, along] * start[along]
            if _misses(ax, ay, wx, wy, dx, side, wide):
                continue
            az = turn[2, u] * pu + turn[2, v] * pv - turn[2, along] * start[along]
            for run in range(first_run, last_run):
                b, tb, band_b, what_b = furthest(bands, runs[run], runs[run + 1], ax, ay, az, wx, wy, wz, dx, dz)
                if band_b < 0:
                    continue
                a, ta, band_a, what_a = furthest(bands, runs[run], runs[run + 1], ax, ay, az, -wx, -wy, -wz, dx, dz)
                a = -a
                if band_a < 0 or b <= a:
                    continue
                meets = False
                for h in range(0, hits, 2):
                    if at[i, j, h] < b - SLIVER and at[i, j, h + 1] > a + SLIVER:
                        meets = True
                        break
                if not meets:
                    continue
                _into_stock(
                    bands, band_a, what_a, ax + a * wx - ta * dx, ay + a * wy, az + a * wz - ta * dz, turn, local, na
                )
                _into_stock(
                    bands, band_b, what_b, ax + b * wx - tb * dx, ay + b * wy, az + b * wz - tb * dz, turn, local, nb
                )
                new, gone, crest = _subtract(hits, at, normal, source, i, j, a, b, na, nb, motion)
                if new < 0:
                    return False
                if gone <= 0.0:
                    continue
                count[i, j] = new
                hits = new
                changed[i, j] = True
                if family == 2:
                    removed[m] += gone * cell * cell
                from_, to = min(from_, a), max(to, crest)
                j_low, j_high = min(j_low, j), max(j_high, j)
                if measured and gone > 1e-3 and dx > 1e-12:
                    end = crest if wz >= 0.0 else crest - gone
                    x, y, z = ax + end * wx, ay + end * wy, az + end * wz
                    z -= min(max(x / dx, 0.0), 1.0) * dz
                    w = max(widest_at(bands[runs[first_run] : runs[last_run]], z), 1e-3)
                    half = 0.5 * cell / w
                    sines[m, 0] = min(sines[m, 0], y / w - half)
                    sines[m, 1] = max(sines[m, 1], y / w + half)
        if to > from_:
            _mark_row(dirty, family, i, j_low, j_high, from_, to, origin[along], cell)
    return True


@kernel
def _into_stock(bands, band, what, x, y, z, turn, local, out):
    """Outward normal of the stock, in its own frame, where the tool's surface bounds it."""
    surface_normal(bands, band, what, x, y, z, local)
    for k in range(3):
        out[k] = -(turn[0, k] * local[0] + turn[1, k] * local[1] + turn[2, k] * local[2])


@kernel
def _watch_rays(
    u, v, along, i0, i1, j0, j1, count, at, start, way, turn, box, origin, cell, bands, runs, first_run, last_run, out
):  # fmt: skip
    """Longest stretch of stock inside a watched body during one motion; out gets its length and middle."""
    wx, wy, wz = turn[0, along], turn[1, along], turn[2, along]
    dx = turn[0, 0] * way[0] + turn[0, 1] * way[1] + turn[0, 2] * way[2]
    dz = turn[2, 0] * way[0] + turn[2, 1] * way[1] + turn[2, 2] * way[2]
    low_box, high_box = box[along], box[3 + along]
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
            for run in range(first_run, last_run):
                b, _, band, _ = furthest(bands, runs[run], runs[run + 1], ax, ay, az, wx, wy, wz, dx, dz)
                if band < 0:
                    continue
                a = -furthest(bands, runs[run], runs[run + 1], ax, ay, az, -wx, -wy, -wz, dx, dz)[0]
                for h in range(0, hits, 2):
                    low, high = max(at[i, j, h], a), min(at[i, j, h + 1], b)
                    if high - low > out[0]:
                        out[0] = high - low
                        out[1 + u], out[1 + v] = pu + start[u], pv + start[v]
                        out[1 + along] = 0.5 * (low + high)

"""Kernels that tell which stock a motion leaves alone, without asking where its tool would cut.

Most rays near a motion have nothing for it: their stock was taken by the motions before. That is seen at the ends of
a ray's stretches of stock: a convex body and a place outside it are parted by a plane, and where the ray from that
place runs away from the body, so does the whole stretch. Blocks of rays are parted together.
"""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import leaf
from fenrik.core.tools.kernels import element_height, lowest_along, slope_at

SLIVER = 1e-9
BLOCK = 4
"""Rays on a side of a block: most are parted from the tool together."""
MIDDLE, AROUND = 0.5 * (BLOCK - 1), (BLOCK - 1) / np.sqrt(2.0)
PARTED, INSIDE, OPEN, NEAR = 0, 1, 2, 3


@leaf
def describe_sweep(turn, way, along, bands, first, last, chain):
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
def places_of(turn, start, u, v, along):
    """What turns a ray's place across (u, v), counted from the tool's start, to the ray's zero in the tool's frame."""
    return (
        turn[0, u], turn[0, v], turn[1, u], turn[1, v], turn[2, u], turn[2, v],
        turn[0, along] * start[along], turn[1, along] * start[along], turn[2, along] * start[along],
    )  # fmt: skip


@leaf(inline="always")
def glance(x, y, z, wx, wy, wz, dx, slope, low_end, high_end, limit):
    """Where a place lies to what a run sweeps, as far as its box and cylinder tell.

    PARTED: the place, and the ray from it against (wx, wy, wz), is parted from the swept run by a plane; INSIDE: it is
    in it; OPEN: not known; NEAR: to be looked at.

    Args:
        x, y, z: the place in the tool's frame at its start. low_end, high_end: least and greatest height swept.
        limit: square of the widest radius.
    """
    where = NEAR
    if (z <= low_end + SLIVER and wz >= 0.0) or (z >= high_end - SLIVER and wz <= 0.0):
        where = PARTED
    else:
        foot = min(max(x, 0.0), dx)
        ex = x - foot
        near = ex * ex + y * y
        if near >= limit:
            where = PARTED if ex * wx + y * wy <= 0.0 else OPEN
        elif z >= high_end - SLIVER:
            where = OPEN
    return where


@leaf(inline="always")
def rise_of(chain, rho, s, first, last, slope):
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
def look(x, y, z, wx, wy, wz, dx, slope, fall, ceiling, chain):
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
    rise = rise_of(chain, rho, s, -x, dx - x, slope)
    return PARTED if rise * (y * wy - s * wx) <= wz * rho else OPEN, low, s


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
        rise = rise_of(chain, rho, s, -x, dx - x, slope)
        lean = rise * (y * wy - s * wx) / rho
    size = np.sqrt(1.0 + rise * rise)
    toward = (lean - wz) / size
    return toward <= 0.0 and (low - z) / size >= around * np.sqrt(max(1.0 - toward * toward, 0.0))


@leaf
def _stretch_skips(low, high, ax, ay, az, around, low_box, high_box, swept, chain):
    """The same for the block's stock between two places."""
    if low >= high_box or high <= low_box:
        return True
    wx, wy, wz = swept[0], swept[1], swept[2]
    # The end that is nearer to the tool first: it mostly settles it.
    side = 1.0 if low + high <= low_box + high_box else -1.0
    for _ in range(2):
        t = high if side > 0.0 else low
        if _block_parted(ax + t * wx, ay + t * wy, az + t * wz, side, around, swept, chain):
            return True
        side = -side
    return False


@leaf
def _support(chain, nr, nz):
    """The place of an underside that is furthest in a direction (nr, nz) of unit length, nz < 0: (ρ, h, how far)."""
    best, rho, h = -np.inf, 0.0, 0.0
    for e in range(chain.shape[0]):
        at = chain[e, 1]
        if chain[e, 2] != 0.0:
            at = min(max(chain[e, 5] + chain[e, 7] * nr, chain[e, 0]), at)
        elif nr + nz * chain[e, 4] < 0.0:
            at = chain[e, 0]
        low = element_height(chain, e, at)
        if nr * at + nz * low > best:
            best, rho, h = nr * at + nz * low, at, low
    return rho, h, best


@leaf
def _misses(ax, ay, az, around, swept, chain):
    """Whether a plane along the rays of a block has all of them on one side and what a run sweeps on the other.

    Its normal is sought from a place within the run, then from the place that is furthest along that normal (the first
    steps of E. Gilbert, D. Johnson, S. Keerthi, "A fast procedure for computing the distance between complex objects
    in three-dimensional space", 1988, on the shadow of the run along the rays).
    """
    wx, wy, wz, dx, dz, _, _, _, high_end, wide, _ = swept
    top = high_end - max(dz, 0.0)
    last = chain.shape[0] - 1
    qx, qy, qz = 0.0, 0.0, element_height(chain, last, chain[last, 1])
    ahead = dx * wx + dz * wz
    ex, ey, ez = dx - ahead * wx, -ahead * wy, dz - ahead * wz
    way2 = ex * ex + ey * ey + ez * ez
    for _ in range(2):
        nx, ny, nz = ax - qx, ay - qy, az - qz
        k = nx * wx + ny * wy + nz * wz
        nx, ny, nz = nx - k * wx, ny - k * wy, nz - k * wz
        if way2 > 1e-18:
            t = min(max((nx * ex + ny * ey + nz * ez) / way2, 0.0), 1.0)
            nx, ny, nz = nx - t * ex, ny - t * ey, nz - t * ez
        size = np.sqrt(nx * nx + ny * ny + nz * nz)
        if size < around:
            return False
        nx, ny, nz = nx / size, ny / size, nz / size
        nr = np.sqrt(nx * nx + ny * ny)
        if nz >= 0.0:
            rho, h = wide, top
            far = nr * rho + nz * h
        else:
            rho, h, far = _support(chain, nr, nz)
        if ax * nx + ay * ny + az * nz - far - max(nx * dx + nz * dz, 0.0) >= around:
            return True
        if nr < 1e-12:
            return False
        qx, qy, qz = rho * nx / nr, rho * ny / nr, h
    return False


@leaf
def skips(own, ax, ay, az, around, low_box, high_box, swept, chain):
    """Whether no ray of a block has anything for a run of the tool; `own` is what `find_ends` kept."""
    parted = _stretch_skips(own[2], own[3], ax, ay, az, around, low_box, high_box, swept, chain) and _stretch_skips(
        own[0], own[1], ax, ay, az, around, low_box, high_box, swept, chain
    )
    return parted or _misses(ax, ay, az, around, swept, chain)


@leaf
def block_skips(
    p, q, u, v, own, count, at, start, places, low_box, high_box, swept, low_u, low_v, cell, chain,
):  # fmt: skip
    """The same for the block of a tile that begins at its ray (p, q); `own`, its ends, are found where not known."""
    xu, xv, yu, yv, zu, zv, x0, y0, h0 = places
    pu, pv = low_u + (p + MIDDLE) * cell - start[u], low_v + (q + MIDDLE) * cell - start[v]
    ax, ay, az = xu * pu + xv * pv - x0, yu * pu + yv * pv - y0, zu * pu + zv * pv - h0
    if np.isnan(own[0]):
        find_ends(count, at, p, q, 0.5 * (low_box + high_box), own)
    return skips(own, ax, ay, az, AROUND * cell, low_box, high_box, swept, chain)


@leaf
def find_ends(count, at, i0, j0, place, ends):
    """Keep where the stock of a block of rays begins and ends on any of them, below a place and above it.

    Where all rays are empty at the place, there is a gap between the two; else both reach to the place.
    """
    low, below, above, high = np.inf, -np.inf, np.inf, -np.inf
    for i in range(i0, i0 + BLOCK):
        for j in range(j0, j0 + BLOCK):
            hits = count[i, j]
            if hits == 0:
                continue
            first, last = at[i, j, 0], at[i, j, hits - 1]
            low, high = min(low, first), max(high, last)
            if hits == 2:
                below = max(below, min(last, place)) if first < place else below
                above = min(above, max(first, place)) if last > place else above
                continue
            for h in range(0, hits, 2):
                if at[i, j, h] < place:
                    below = max(below, min(at[i, j, h + 1], place))
                if at[i, j, h + 1] > place:
                    above = min(above, max(at[i, j, h], place))
    ends[0], ends[1], ends[2], ends[3] = low, below, above, high

"""Kernels behind `surface`: from where triangles say that a tool touches to where it touches the exact faces.

A tool over a place (x, y) stands as low as the highest of S_z − h(ρ) lets it, over all places S of a face, ρ their
distance from the tool's axis. The triangles give the face and a place near; Newton's method on the parameters of the
face climbs from there. Where the tool has a corner, the place stays on that corner's circle and the slope that it
carries is the multiplier of the constraint (J. Nocedal, S. Wright, Numerical Optimization, 2nd ed., chapter 18).
"""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.contact._drop_kernels import cell_of, element_tip
from fenrik.core.kernels import kernel, leaf
from fenrik.core.solids._surface_kernels import PLANE, SPLINE, UNKNOWN, spline_at, start_on, turned_at
from fenrik.core.tools.kernels import height, lowest_along, radius_for_slope, slope_at

CANDIDATES = 8
"""Places of faces that are looked at; where there are more, the triangles' height counts."""
STEPS, CHANGES, WALK = 12, 4, 12
AT = 1e-7
"""How near a place is to a corner of the tool that it touches there."""
FOUND, AWAY, LOST = 0, 1, 2
SETTLED = 1e-9
STIFF = 1e-7
"""Share of a step's own size that keeps it finite along a ridge, on which all places are as high."""


@leaf
def _touched(code, x, y, tip, facets, edges, points, profile, place):
    """Place of an element that a tool touches whose tip is over (x, y)."""
    nf, ne = len(facets), len(edges)
    if code < nf:
        a, b = facets[code, 6], facets[code, 7]
        rise = np.sqrt(a * a + b * b)
        rho = radius_for_slope(profile, rise, False) if rise > 1e-9 else 0.0
        cx, cy = (a / rise, b / rise) if rise > 1e-9 else (0.0, 0.0)
        place[0], place[1], place[2] = x + rho * cx, y + rho * cy, tip + height(profile, rho)
    elif code < nf + ne:
        e = code - nf
        dx, dy = x - edges[e, 0], y - edges[e, 1]
        across = dx * edges[e, 3] - dy * edges[e, 2]
        along = dx * edges[e, 2] + dy * edges[e, 3]
        _, s = lowest_along(profile, across * across, -edges[e, 6], -along, edges[e, 4] - along)
        t = along + s
        place[0], place[1] = edges[e, 0] + t * edges[e, 2], edges[e, 1] + t * edges[e, 3]
        place[2] = edges[e, 5] + t * edges[e, 6]
    else:
        for c in range(3):
            place[c] = points[code - nf - ne, c]


@leaf
def _weights(corners, t, p, out):
    """Barycentric coordinates of a place in the plane of a triangle; (3,) into out."""
    uu = uv = vv = pu = pv = 0.0
    for c in range(3):
        u, v, w = corners[t, 1, c] - corners[t, 0, c], corners[t, 2, c] - corners[t, 0, c], p[c] - corners[t, 0, c]
        uu, uv, vv, pu, pv = uu + u * u, uv + u * v, vv + v * v, pu + w * u, pv + w * v
    det = uu * vv - uv * uv
    out[1], out[2] = (pu * vv - pv * uv) / det, (pv * uu - pu * uv) / det
    out[0] = 1.0 - out[1] - out[2]


@leaf
def _is_on(corners, neighbours, face_ids, t, p, weights):
    """Whether a place lies over a face: a walk from one of its triangles comes to one that is under it."""
    before = -1
    for _ in range(WALK):
        _weights(corners, t, p, weights)
        least = 0
        for k in range(1, 3):
            least = k if weights[k] < weights[least] else least
        if weights[least] >= -1e-9:
            return True
        across = neighbours[t, (least + 1) % 3]
        if across < 0 or face_ids[across] != face_ids[t]:
            return False
        if across == before:
            # Beside a side that two triangles share, seen along their normals it can be outside of both.
            return True
        before, t = t, across
    return False


@kernel
def _point(tables, face, turn, uv, out):
    """Point and derivatives of a face at parameters; False where they are outside it."""
    kinds, bases, axes, sizes, _, grids, poles, knots = tables
    if kinds[face] != SPLINE:
        turned_at(kinds, bases, axes, sizes, face, turn, uv[0], uv[1], out)
        return True
    grid = grids[face]
    for k in range(2):
        low, high = knots[grid[1 + k] + grid[3 + k]], knots[grid[1 + k] + grid[5 + k]]
        if grid[7] & (1 + k):
            uv[k] -= (high - low) * np.floor((uv[k] - low) / (high - low))
        elif uv[k] < low - 1e-3 * (high - low) or uv[k] > high + 1e-3 * (high - low):
            return False
        uv[k] = min(max(uv[k], low), high)
    spline_at(grid, poles, knots, uv[0], uv[1], out)
    return True


@leaf
def _climb(profile, e, x, y, out, step):
    """Newton's step to the highest tip with element e of the tool; (2,) into step. Gives whether there is one."""
    rx, ry = out[0, 0] - x, out[0, 1] - y
    rho = np.sqrt(rx * rx + ry * ry)
    if profile[e, 2] == 0.0:
        rise, bend = profile[e, 4], 0.0
        if rise > 0.0 and rho < 1e-12:
            return False
        turn = rise / rho if rise > 0.0 else 0.0
    else:
        off = rho - profile[e, 5]
        q = profile[e, 7] * profile[e, 7] - off * off
        if q < 1e-12:
            return False
        q = np.sqrt(q)
        rise, bend = off / q, profile[e, 7] * profile[e, 7] / (q * q * q)
        turn = 1.0 / q if profile[e, 5] == 0.0 else (rise / rho if rho > 1e-12 else bend)
    un, vn = rx * out[1, 0] + ry * out[1, 1], rx * out[2, 0] + ry * out[2, 1]
    gu, gv = out[1, 2] - turn * un, out[2, 2] - turn * vn
    more = (bend - turn) / max(rho * rho, 1e-24)
    uu = out[1, 0] * out[1, 0] + out[1, 1] * out[1, 1]
    uv = out[1, 0] * out[2, 0] + out[1, 1] * out[2, 1]
    vv = out[2, 0] * out[2, 0] + out[2, 1] * out[2, 1]
    a = -out[3, 2] + turn * (rx * out[3, 0] + ry * out[3, 1] + uu) + more * un * un
    b = -out[4, 2] + turn * (rx * out[4, 0] + ry * out[4, 1] + uv) + more * un * vn
    c = -out[5, 2] + turn * (rx * out[5, 0] + ry * out[5, 1] + vv) + more * vn * vn
    a += STIFF * (uu + out[1, 2] * out[1, 2])
    c += STIFF * (vv + out[2, 2] * out[2, 2])
    det = a * c - b * b
    if not (a > 0.0 and det > 0.0):
        return False
    step[0], step[1] = (gu * c - gv * b) / det, (gv * a - gu * b) / det
    return True


@leaf
def _within(profile, e, x, y, out, step, share):
    """The share of a step that stays within element e, and whether the whole of it would not."""
    rx, ry = out[0, 0] - x, out[0, 1] - y
    rho = np.sqrt(rx * rx + ry * ry)
    ex, ey = out[1, 0] * step[0] + out[2, 0] * step[1], out[1, 1] * step[0] + out[2, 1] * step[1]
    after = np.sqrt((rx + share * ex) ** 2 + (ry + share * ey) ** 2)
    if profile[e, 0] - AT <= after <= profile[e, 1] + AT:
        return share, False
    to = profile[e, 1] if after > profile[e, 1] else profile[e, 0]
    return share * min(max((to - rho) / (after - rho), 0.0), 1.0), True


@leaf
def _climb_on(radius, x, y, out, step, rise):
    """The same for a place that stays on the circle of a corner; (2,) into step, the slope it carries into rise."""
    rx, ry = out[0, 0] - x, out[0, 1] - y
    rho = np.sqrt(rx * rx + ry * ry)
    if radius == 0.0:
        # The tip itself: straight over the place.
        det = out[1, 0] * out[2, 1] - out[1, 1] * out[2, 0]
        if abs(det) < 1e-12:
            return False
        step[0], step[1] = (-rx * out[2, 1] + ry * out[2, 0]) / det, (rx * out[1, 1] - ry * out[1, 0]) / det
        return True
    if rho < 1e-9:
        return False
    un, vn = (rx * out[1, 0] + ry * out[1, 1]) / rho, (rx * out[2, 0] + ry * out[2, 1]) / rho
    size = un * un + vn * vn
    if size < 1e-18:
        return False
    if np.isnan(rise[0]):
        rise[0] = (out[1, 2] * un + out[2, 2] * vn) / size
    k = rise[0] / rho
    uu = out[1, 0] * out[1, 0] + out[1, 1] * out[1, 1]
    uv = out[1, 0] * out[2, 0] + out[1, 1] * out[2, 1]
    vv = out[2, 0] * out[2, 0] + out[2, 1] * out[2, 1]
    a = -out[3, 2] + k * (rx * out[3, 0] + ry * out[3, 1] + uu - un * un)
    b = -out[4, 2] + k * (rx * out[4, 0] + ry * out[4, 1] + uv - un * vn)
    c = -out[5, 2] + k * (rx * out[5, 0] + ry * out[5, 1] + vv - vn * vn)
    toward = (radius - rho) / size
    tu, tv = -vn, un
    stiff = a * tu * tu + 2.0 * b * tu * tv + c * tv * tv + STIFF * (uu * tu * tu + vv * tv * tv)
    if not stiff > 0.0:
        return False
    bent = (a * tu + b * tv) * un + (b * tu + c * tv) * vn
    round_ = (tu * out[1, 2] + tv * out[2, 2] - toward * bent) / stiff
    step[0], step[1] = round_ * tu + toward * un, round_ * tv + toward * vn
    held = (a * step[0] + b * step[1]) * un + (b * step[0] + c * step[1]) * vn
    rise[0] = (out[1, 2] * un + out[2, 2] * vn - held) / size
    return True


@leaf
def _corner_at(profile, rho):
    """The corner of an underside at a radius: its number (0 the tip, n the rim); −1 where there is none."""
    n = profile.shape[0]
    if rho < AT and profile[0, 2] == 0.0 and profile[0, 4] > 0.0:
        return 0
    for b in range(1, n + 1):
        at = profile[b - 1, 1]
        if abs(rho - at) < AT:
            return b if b == n or _slope_above(profile, b) > slope_at(profile, at) + 1e-6 else -1
    return -1


@leaf
def _slope_above(profile, b):
    """Slope with which element b begins."""
    if profile[b, 2] == 0.0:
        return profile[b, 4]
    off = profile[b, 0] - profile[b, 5]
    return off / np.sqrt(max(profile[b, 7] * profile[b, 7] - off * off, 1e-300))


@leaf
def _size2(corners, t):
    """Squares of two sides of a triangle, added."""
    size2 = 0.0
    for c in range(3):
        size2 += (corners[t, 1, c] - corners[t, 0, c]) ** 2 + (corners[t, 2, c] - corners[t, 0, c]) ** 2
    return size2


@leaf
def _apart2(a, b):
    return (a[0] - b[0]) ** 2 + (a[1] - b[1]) ** 2 + (a[2] - b[2]) ** 2


@leaf
def _upright(out):
    """Upward share of a face's normal."""
    nx, ny = out[1, 1] * out[2, 2] - out[1, 2] * out[2, 1], out[1, 2] * out[2, 0] - out[1, 0] * out[2, 2]
    nz = out[1, 0] * out[2, 1] - out[1, 1] * out[2, 0]
    return abs(nz) / np.sqrt(max(nx * nx + ny * ny + nz * nz, 1e-300))


@leaf
def _found_on(face, face_ids, own, outcomes, found):
    """Whether the tool was found to touch a face."""
    here = False
    for k in range(found):
        here = here or (outcomes[k] == FOUND and face_ids[own[k]] == face)
    return here


@kernel
def _settle_one(x, y, rho, profile, tables, face, turn, uv, reach, out, step, rise):
    """Climb from parameters of a face to where the tool touches it: (how that went, its tip there).

    `FOUND`; `AWAY`, where it climbs to some other place of the face, which is another one's to find; `LOST`.

    Args:
        rho: how far from the tool's axis its triangle is touched.
        reach: how far the place may move. out: (8, 3), step: (2,), rise: (1,): room; out[0] is the place then.
    """
    n = profile.shape[0]
    if not _point(tables, face, turn, uv, out):
        return LOST, 0.0
    px, py, pz = out[0, 0], out[0, 1], out[0, 2]
    tip = pz - height(profile, np.sqrt((px - x) ** 2 + (py - y) ** 2))
    corner, e = _corner_at(profile, rho), 0
    while e < n - 1 and rho > profile[e, 1]:
        e += 1
    for _ in range(CHANGES):
        rise[0] = np.nan
        done = leaves = False
        for _ in range(STEPS):
            if corner < 0:
                ok = _climb(profile, e, x, y, out, step)
                if not ok and profile[e, 2] == 0.0:
                    # No hilltop within a straight element: its corners are higher.
                    leaves = done = True
                    break
            else:
                ok = _climb_on(profile[corner - 1, 1] if corner > 0 else 0.0, x, y, out, step, rise)
            if not ok:
                return LOST, 0.0
            way = 0.0
            for c in range(3):
                way += (out[1, c] * step[0] + out[2, c] * step[1]) ** 2
            share = min(reach / np.sqrt(max(way, 1e-300)), 1.0)
            if corner < 0:
                share, leaves = _within(profile, e, x, y, out, step, share)
            uv[0], uv[1] = uv[0] + share * step[0], uv[1] + share * step[1]
            if not _point(tables, face, turn, uv, out):
                return LOST, 0.0
            if (out[0, 0] - px) ** 2 + (out[0, 1] - py) ** 2 + (out[0, 2] - pz) ** 2 > 4.0 * reach * reach:
                after = np.sqrt((out[0, 0] - x) ** 2 + (out[0, 1] - y) ** 2)
                return AWAY if out[0, 2] - height(profile, after) > tip else LOST, 0.0
            if leaves or way < SETTLED * SETTLED:
                done = True
                break
        if not done:
            return LOST, 0.0
        rho = np.sqrt((out[0, 0] - x) ** 2 + (out[0, 1] - y) ** 2)
        if corner < 0:
            if not leaves:
                return FOUND, out[0, 2] - height(profile, min(rho, profile[n - 1, 1]))
            corner = e + 1 if rho - profile[e, 0] > profile[e, 1] - rho else e
            # Where two elements meet smoothly there is no corner: the next one takes over.
            if _corner_at(profile, profile[corner - 1, 1] if corner > 0 else 0.0) < 0:
                e, corner = (corner if corner > e else max(corner - 1, 0)), -1
        else:
            at = profile[corner - 1, 1] if corner > 0 else 0.0
            if corner > 0 and rise[0] < slope_at(profile, at) - 1e-9:
                e, corner = corner - 1, -1
            elif 0 < corner < n and rise[0] > _slope_above(profile, corner) + 1e-9:
                e, corner = corner, -1
            else:
                return FOUND, out[0, 2] - height(profile, at)
    return LOST, 0.0


@kernel(parallel=True, nogil=True)
def settle(
    xy, tips, facets, edges, points, start, items, origin, cell, nx, ny, profile, owners, corners, face_ids,
    neighbours, parameters, tables, within, settled,
):  # fmt: skip
    """Move tip heights from the triangles to the exact faces.

    Args:
        xy, tips: (n, 2) places and (n,) what the triangles say, changed.
        owners: (codes, 2) triangles of each element; −1 where it has no face of its own.
        within: how far the triangles stand off. settled: (n,) set where an exact face gave the height.
    """
    big = profile[profile.shape[0] - 1, 1]
    for i in prange(len(xy)):
        x, y, tip = xy[i, 0], xy[i, 1], tips[i]
        slot = cell_of(x, y, origin, cell, nx, ny)
        if slot < 0 or not np.isfinite(tip):
            continue
        out, place, weights, uv = np.empty((8, 3)), np.empty(3), np.empty(3), np.empty(2)
        step, rise = np.empty(2), np.empty(1)
        own, asks, places = np.empty(CANDIDATES, np.int64), np.empty(CANDIDATES), np.empty((CANDIDATES, 3))
        outcomes = np.empty(CANDIDATES, np.int64)
        found, exact, rough = 0, -np.inf, -np.inf
        for k in range(start[slot], start[slot + 1]):
            code = items[k]
            height_here = element_tip(code, x, y, facets, edges, points, profile, big)
            steep = np.sqrt(1.0 + facets[code, 6] ** 2 + facets[code, 7] ** 2) if code < len(facets) else 2.0
            if height_here < tip - 2.0 * within * min(steep, 50.0) - 1e-9:
                continue
            for side in range(2):
                t = owners[code, side]
                if t < 0:
                    rough = max(rough, height_here) if side == 0 else rough
                    continue
                face = face_ids[t]
                if face < 0 or tables[0][face] == UNKNOWN:
                    rough = max(rough, height_here)
                    continue
                if tables[0][face] == PLANE and code < len(facets):
                    exact = max(exact, height_here)
                    continue
                _touched(code, x, y, height_here, facets, edges, points, profile, place)
                reach2, same = _size2(corners, t), 0
                while same < found and (face_ids[own[same]] != face or _apart2(places[same], place) > 4.0 * reach2):
                    same += 1
                if same == CANDIDATES:
                    rough = max(rough, height_here)
                elif same == found or height_here > asks[same]:
                    own[same], asks[same] = t, height_here
                    for c in range(3):
                        places[same, c] = place[c]
                    found = max(found, same + 1)
        for k in range(found):
            t, face = own[k], face_ids[own[k]]
            rho = np.sqrt((places[k, 0] - x) ** 2 + (places[k, 1] - y) ** 2)
            _weights(corners, t, places[k], weights)
            turn = 0
            if tables[0][face] == SPLINE:
                for c in range(2):
                    uv[c] = weights[0] * parameters[t, 0, c]
                    uv[c] += weights[1] * parameters[t, 1, c] + weights[2] * parameters[t, 2, c]
            else:
                turn = start_on(tables[0], tables[1], tables[2], tables[3], face, places[k], uv)
            reach = np.sqrt(_size2(corners, t))
            how, z = _settle_one(x, y, rho, profile, tables, face, turn, uv, reach, out, step, rise)
            if how == FOUND and (
                not _is_on(corners, neighbours, face_ids, t, out[0], weights)
                or abs(z - asks[k]) > 4.0 * within / max(_upright(out), 0.02) + 1e-6
            ):
                how = LOST
            outcomes[k] = how
            if how == FOUND:
                exact = max(exact, z)
            elif how == LOST:
                rough = max(rough, asks[k])
        for k in range(found):
            # Where it climbed away and nothing was found on that face, its triangles' height counts.
            if outcomes[k] == AWAY and not _found_on(face_ids[own[k]], face_ids, own, outcomes, found):
                rough = max(rough, asks[k])
        if exact > -np.inf and exact >= rough:
            tips[i], settled[i] = exact, True
        elif rough > -np.inf:
            tips[i] = rough

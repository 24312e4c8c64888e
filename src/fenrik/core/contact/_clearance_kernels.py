"""Kernels behind `clearance`: bodies of revolution, swept along straight steps, against triangles.

A convex run of a profile swept along a step whose axis does not turn is a convex body, known by its support in each
direction. Its distance to a triangle is found from supports alone (E. Gilbert, D. Johnson, S. Keerthi, "A fast
procedure for computing the distance between complex objects in three-dimensional space", 1988); the way along a line
until both touch by advancing as far as the plane between them allows (G. van den Bergen, "Ray casting against general
convex objects with application to continuous collision detection", 2004). A triangle in the body stands as deep as the
deepest of its places: the depth of a place below a convex outline is a concave function of triangle and step.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.contact._distance_kernels import STACK, _closest
from fenrik.core.kernels import kernel, leaf

NEAR_MM, SAME_MM = 1e-7, 1e-9
STEPS = 80
PLACE_MM = 1e-4
"""How near a deepest place is found."""
GOLDEN = 0.5 * (np.sqrt(5.0) - 1.0)
ARC = 1.0


@leaf
def furthest(bands, first, last, nr, nz):
    """The place (r, z) of a convex run that is furthest in a direction of its half-plane, nr ≥ 0."""
    best, r, z = -np.inf, 0.0, 0.0
    for b in range(first, last):
        for end in range(2):
            far = nr * bands[b, 2 + end] + nz * bands[b, end]
            if far > best:
                best, r, z = far, bands[b, 2 + end], bands[b, end]
        if bands[b, 4] == ARC:
            size = bands[b, 7] / np.sqrt(nr * nr + nz * nz)
            at_r, at_z = bands[b, 5] + size * nr, bands[b, 6] + size * nz
            if bands[b, 0] <= at_z <= bands[b, 1] and nr * at_r + nz * at_z > best:
                best, r, z = nr * at_r + nz * at_z, at_r, at_z
    return r, z


@leaf
def depth_below(bands, first, last, r, z):
    """How deep a place (r, z) stands below the outline of a convex run; at most 0 outside of it.

    Outside it need not be the distance, but falls evenly, so that the whole is concave.
    """
    best = min(z - bands[first, 0], bands[last - 1, 1] - z)
    for b in range(first, last):
        z0, z1, r0, r1 = bands[b, 0], bands[b, 1], bands[b, 2], bands[b, 3]
        if bands[b, 4] == ARC:
            dr, dz = r - bands[b, 5], z - bands[b, 6]
            low, high = z0 - bands[b, 6], z1 - bands[b, 6]
            out = np.sqrt(dr * dr + dz * dz)
            # The tangent at the arc's own end where the nearest place of the whole circle is not on the arc.
            if dr >= 0.0 and low * out <= dz * bands[b, 7] <= high * out:
                best = min(best, bands[b, 7] - out)
                continue
            for end in range(2):
                nr, nz = (bands[b, 2 + end] - bands[b, 5]) / bands[b, 7], (bands[b, end] - bands[b, 6]) / bands[b, 7]
                best = min(best, bands[b, 7] - nr * dr - nz * dz)
            continue
        size = np.sqrt((r1 - r0) ** 2 + (z1 - z0) ** 2)
        best = min(best, ((r0 - r) * (z1 - z0) + (r1 - r0) * (z - z0)) / size)
    return best


@kernel
def _support(run, tool, way, d, sign, k):
    """The place of a swept run furthest in direction sign · d, into k[:3]; k[3] is 1 where it is at the end of the way.

    Args:
        run: (bands, first, last). tool: (6,) tip at the start, and axis. way: (3,) of the step.
    """
    bands, first, last = run
    dx, dy, dz = sign * d[0], sign * d[1], sign * d[2]
    nz = dx * tool[3] + dy * tool[4] + dz * tool[5]
    ex, ey, ez = dx - nz * tool[3], dy - nz * tool[4], dz - nz * tool[5]
    nr = np.sqrt(ex * ex + ey * ey + ez * ez)
    r, z = furthest(bands, first, last, nr, nz)
    side = r / nr if nr > 1e-12 else 0.0
    k[3] = 1.0 if dx * way[0] + dy * way[1] + dz * way[2] > 0.0 else 0.0
    k[0] = tool[0] + z * tool[3] + side * ex + k[3] * way[0]
    k[1] = tool[1] + z * tool[4] + side * ey + k[3] * way[1]
    k[2] = tool[2] + z * tool[5] + side * ez + k[3] * way[2]


@kernel
def _nearest_of(simplex, count, faces, weights, v):
    """The place of a simplex nearest to the origin, into v, and its weights; False where the origin is within."""
    for c in range(4):
        weights[c] = 0.0
    if count == 1:
        weights[0] = 1.0
        for c in range(3):
            v[c] = simplex[0, c]
        return True
    if count == 2:
        along, length2 = 0.0, 0.0
        for c in range(3):
            e = simplex[1, c] - simplex[0, c]
            along -= e * simplex[0, c]
            length2 += e * e
        s = min(max(along / length2, 0.0), 1.0) if length2 > 0.0 else 0.0
        weights[0], weights[1] = 1.0 - s, s
        for c in range(3):
            v[c] = (1.0 - s) * simplex[0, c] + s * simplex[1, c]
        return True
    spot = np.empty(5)
    best, outside = np.inf, count == 3
    for skip in range(3, -1, -1):
        if count == 3 and skip < 3:
            break
        a, b, c = (1 if skip == 0 else 0), (2 if skip <= 1 else 1), (3 if skip <= 2 else 2)
        for k in range(3):
            faces[0, 0, k], faces[0, 1, k], faces[0, 2, k] = simplex[a, k], simplex[b, k], simplex[c, k]
        if count == 4:
            volume = _volume(faces, simplex[skip, 0], simplex[skip, 1], simplex[skip, 2])
            if volume * _volume(faces, 0.0, 0.0, 0.0) > 0.0 and abs(volume) > 1e-30:
                continue
            outside = True
        _closest(faces, 0, 0.0, 0.0, 0.0, spot)
        d2 = spot[0] * spot[0] + spot[1] * spot[1] + spot[2] * spot[2]
        if d2 < best:
            best = d2
            for k in range(4):
                weights[k] = 0.0
            weights[a], weights[b], weights[c] = 1.0 - spot[3] - spot[4], spot[3], spot[4]
            v[0], v[1], v[2] = spot[0], spot[1], spot[2]
    return outside


@kernel
def _volume(faces, x, y, z):
    """Six times the volume of a tetrahedron over a face, signed."""
    ux, uy, uz = faces[0, 1, 0] - faces[0, 0, 0], faces[0, 1, 1] - faces[0, 0, 1], faces[0, 1, 2] - faces[0, 0, 2]
    vx, vy, vz = faces[0, 2, 0] - faces[0, 0, 0], faces[0, 2, 1] - faces[0, 0, 1], faces[0, 2, 2] - faces[0, 0, 2]
    wx, wy, wz = x - faces[0, 0, 0], y - faces[0, 0, 1], z - faces[0, 0, 2]
    return ux * (vy * wz - vz * wy) + uy * (vz * wx - vx * wz) + uz * (vx * wy - vy * wx)


@kernel
def gap_to(run, tool, way, corners, t, shift, enough, v, witness):
    """Distance from a swept run to a triangle, less by `NEAR_MM` at most, and 0 where they meet; what is at least
    `enough` need not be exact.

    Args:
        shift: (3,) added to the triangle's corners. v: (3,) where to begin to look; on return from triangle to run.
        witness: (7,) on return the place of the run, its share of the way, and the triangle's place.
    """
    simplex, own, faces, weights, k = np.empty((4, 3)), np.empty((4, 7)), np.empty((1, 3, 3)), np.empty(4), np.empty(4)
    count, least, size = 0, 0.0, np.inf
    if v[0] == 0.0 and v[1] == 0.0 and v[2] == 0.0:
        v[2] = 1.0
    for _ in range(STEPS):
        _support(run, tool, way, v, -1.0, k)
        q, far = 0, -np.inf
        for c in range(3):
            along = corners[t, c, 0] * v[0] + corners[t, c, 1] * v[1] + corners[t, c, 2] * v[2]
            if along > far:
                q, far = c, along
        length = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
        bound, known = 0.0, False
        for c in range(3):
            own[count, c], own[count, 4 + c] = k[c], corners[t, q, c] + shift[c]
            simplex[count, c] = k[c] - corners[t, q, c] - shift[c]
            bound += v[c] * simplex[count, c] / length
        own[count, 3] = k[3]
        if bound > least:
            least = bound
            if least >= enough:
                return least
        if size - least <= NEAR_MM:
            break
        for other in range(count):
            same = True
            for c in range(3):
                same &= abs(simplex[other, c] - simplex[count, c]) < 1e-13
            known |= same
        if known:
            break
        count += 1
        if not _nearest_of(simplex, count, faces, weights, v):
            return 0.0
        kept = 0
        for other in range(count):
            if weights[other] > 0.0:
                weights[kept] = weights[other]
                for c in range(3):
                    simplex[kept, c] = simplex[other, c]
                for c in range(7):
                    own[kept, c] = own[other, c]
                kept += 1
        count = kept
        for c in range(7):
            witness[c] = 0.0
            for other in range(count):
                witness[c] += weights[other] * own[other, c]
        size = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
        if size <= NEAR_MM or count == 4:
            return 0.0
    return least


@leaf
def _sections(x, y, z):
    """How many golden sections of a stretch (x, y, z) leave one of `PLACE_MM`."""
    size = np.sqrt(x * x + y * y + z * z)
    return int(np.ceil(np.log(PLACE_MM / size) / np.log(GOLDEN))) if size > PLACE_MM else 0


@leaf
def _side(corners, t, a, b):
    return (
        corners[t, b, 0] - corners[t, a, 0], corners[t, b, 1] - corners[t, a, 1], corners[t, b, 2] - corners[t, a, 2]
    )  # fmt: skip


@kernel
def _depth_at(run, tool, way, p, s):
    """How deep a place stands below a run after a share of its way."""
    bands, first, last = run
    x, y, z = p[0] - tool[0] - s * way[0], p[1] - tool[1] - s * way[1], p[2] - tool[2] - s * way[2]
    h = x * tool[3] + y * tool[4] + z * tool[5]
    return depth_below(bands, first, last, np.sqrt(max(x * x + y * y + z * z - h * h, 0.0)), h)


@kernel
def _depth_along(run, tool, way, p):
    """How deep a place stands below a run at most on its way, and after which share of it (a golden section)."""
    if way[0] == 0.0 and way[1] == 0.0 and way[2] == 0.0:
        return _depth_at(run, tool, way, p, 0.0), 0.0
    low, high, a, b = 0.0, 1.0, 1.0 - GOLDEN, GOLDEN
    fa, fb = _depth_at(run, tool, way, p, a), _depth_at(run, tool, way, p, b)
    for _ in range(_sections(way[0], way[1], way[2])):
        if fa >= fb:
            high, b, fb = b, a, fa
            a = high - GOLDEN * (high - low)
            fa = _depth_at(run, tool, way, p, a)
        else:
            low, a, fa = a, b, fb
            b = low + GOLDEN * (high - low)
            fb = _depth_at(run, tool, way, p, b)
    return (fa, a) if fa >= fb else (fb, b)


@kernel(parallel=True, nogil=True)
def depths(tips, axes, bands, runs, points, out):
    """How deep each of some places stands below a profile that stands still, of each of n poses its own."""
    for i in prange(len(tips)):
        tool, still, p, best = np.empty(6), np.zeros(3), np.empty(3), -np.inf
        for c in range(3):
            tool[c], tool[3 + c], p[c] = tips[i, c], axes[i, c], points[i, c]
        for r in range(len(runs) - 1):
            best = max(best, _depth_at((bands, runs[r], runs[r + 1]), tool, still, p, 0.0))
        out[i] = best


@kernel(parallel=True, nogil=True)
def deepest(tips, axes, bands, runs, points, out, which):
    """How deep the deepest of all places stands below a profile in each of n poses, 0 where none does; and which."""
    low, high, wide = bands[0, 0], bands[-1, 1], 0.0
    for r in range(len(runs) - 1):
        wide = max(wide, _widest((bands, runs[r], runs[r + 1])))
    for i in prange(len(tips)):
        best, found = 0.0, -1
        for j in range(len(points)):
            x, y, z = points[j, 0] - tips[i, 0], points[j, 1] - tips[i, 1], points[j, 2] - tips[i, 2]
            h = x * axes[i, 0] + y * axes[i, 1] + z * axes[i, 2]
            r2 = x * x + y * y + z * z - h * h
            if h <= low or h >= high or r2 >= wide * wide:
                continue
            for r in range(len(runs) - 1):
                deep = depth_below(bands, runs[r], runs[r + 1], np.sqrt(max(r2, 0.0)), h)
                if deep > best:
                    best, found = deep, j
        out[i], which[i] = best, found


@kernel
def _on(corners, t, s, r, p):
    """A place of a triangle: a share s between its first two corners, then a share r towards the third."""
    for c in range(3):
        between = (1.0 - s) * corners[t, 0, c] + s * corners[t, 1, c]
        p[c] = (1.0 - r) * between + r * corners[t, 2, c]


@kernel
def _deepest_on_line(run, tool, way, corners, t, r, p):
    """The deepest place at a share r towards a triangle's third corner: its depth, its share s, that of the way."""
    low, high, a, b = 0.0, 1.0, 1.0 - GOLDEN, GOLDEN
    _on(corners, t, a, r, p)
    fa, wa = _depth_along(run, tool, way, p)
    _on(corners, t, b, r, p)
    fb, wb = _depth_along(run, tool, way, p)
    x, y, z = _side(corners, t, 0, 1)
    for _ in range(_sections((1.0 - r) * x, (1.0 - r) * y, (1.0 - r) * z)):
        if fa >= fb:
            high, b, fb, wb = b, a, fa, wa
            a = high - GOLDEN * (high - low)
            _on(corners, t, a, r, p)
            fa, wa = _depth_along(run, tool, way, p)
        else:
            low, a, fa, wa = a, b, fb, wb
            b = low + GOLDEN * (high - low)
            _on(corners, t, b, r, p)
            fb, wb = _depth_along(run, tool, way, p)
    return (fa, a, wa) if fa >= fb else (fb, b, wb)


@kernel
def depth_of(run, tool, way, corners, t, p):
    """How deep the deepest place of a triangle stands below a swept run, the place (into p), the share of the way."""
    low, high, a, b = 0.0, 1.0, 1.0 - GOLDEN, GOLDEN
    fa, sa, wa = _deepest_on_line(run, tool, way, corners, t, a, p)
    fb, sb, wb = _deepest_on_line(run, tool, way, corners, t, b, p)
    x, y, z = _side(corners, t, 0, 2)
    u, v, w = _side(corners, t, 1, 2)
    for _ in range(max(_sections(x, y, z), _sections(u, v, w))):
        if fa >= fb:
            high, b, fb, sb, wb = b, a, fa, sa, wa
            a = high - GOLDEN * (high - low)
            fa, sa, wa = _deepest_on_line(run, tool, way, corners, t, a, p)
        else:
            low, a, fa, sa, wa = a, b, fb, sb, wb
            b = low + GOLDEN * (high - low)
            fb, sb, wb = _deepest_on_line(run, tool, way, corners, t, b, p)
    if fa >= fb:
        _on(corners, t, sa, a, p)
        return fa, wa
    _on(corners, t, sb, b, p)
    return fb, wb


@kernel
def _box_of(run, tool, way, box):
    """The box of a swept run: least and greatest place in each direction."""
    d, k = np.zeros(3), np.empty(4)
    for c in range(3):
        for end in range(2):
            d[c] = 2.0 * end - 1.0
            _support(run, tool, way, d, 1.0, k)
            box[3 * end + c] = k[c]
        d[c] = 0.0


@kernel
def _between_boxes2(boxes, node, box):
    total = 0.0
    for c in range(3):
        d = max(boxes[node, c] - box[3 + c], box[c] - boxes[node, 3 + c], 0.0)
        total += d * d
    return total


@kernel
def _widest(run):
    """The widest radius of a run."""
    bands, first, last = run
    wide = 0.0
    for b in range(first, last):
        wide = max(wide, bands[b, 2], bands[b, 3])
        if bands[b, 4] == ARC and bands[b, 0] <= bands[b, 6] <= bands[b, 1]:
            wide = max(wide, bands[b, 5] + bands[b, 7])
    return wide


@kernel
def _apart(run, tool, boxes, node, wide):
    """How far a box keeps, at least, from all places no farther than `wide` from the axis of a standing run."""
    bands, first, last = run
    along, half2 = 0.0, 0.0
    for c in range(3):
        along += (0.5 * (boxes[node, c] + boxes[node, 3 + c]) - tool[c]) * tool[3 + c]
        half2 += (0.5 * (boxes[node, 3 + c] - boxes[node, c])) ** 2
    along = min(max(along, bands[first, 0]), bands[last - 1, 1])
    away2 = 0.0
    for c in range(3):
        away2 += (0.5 * (boxes[node, c] + boxes[node, 3 + c]) - tool[c] - along * tool[3 + c]) ** 2
    return np.sqrt(away2) - np.sqrt(half2) - wide


@kernel
def _stray(run, tool, way, corners, t, p):
    """The most that any place of a triangle can be deep: that of its middle, and how far its corners are from there."""
    far2 = 0.0
    for c in range(3):
        p[c] = (corners[t, 0, c] + corners[t, 1, c] + corners[t, 2, c]) / 3.0
    for q in range(3):
        d2 = 0.0
        for c in range(3):
            d2 += (corners[t, q, c] - p[c]) ** 2
        far2 = max(far2, d2)
    return _depth_along(run, tool, way, p)[0] + np.sqrt(far2)


@kernel
def _stray_of_box(run, tool, way, boxes, node, p):
    """The same of what lies in a box."""
    half2 = 0.0
    for c in range(3):
        p[c] = 0.5 * (boxes[node, c] + boxes[node, 3 + c])
        half2 += (0.5 * (boxes[node, 3 + c] - boxes[node, c])) ** 2
    return _depth_along(run, tool, way, p)[0] + np.sqrt(half2)


@kernel
def _clear(run, tool, way, corners, order, boxes, children, best, deep_enough, place):
    """The least gap of one swept run if it is below `best`, else `best`; less than 0 where it stands in triangles.

    Args:
        deep_enough: nothing deeper is looked for once it stands so deep; 0: nor is it measured how deep.
        place: (4,) on return the place of the surface and the share of the way, where the gap is below `best`.
    """
    stack, box, v, p, witness = np.empty(STACK, np.int32), np.empty(6), np.zeros(3), np.empty(3), np.empty(7)
    still = np.zeros(3)
    _box_of(run, tool, way, box)
    wide = _widest(run) + np.sqrt(way[0] ** 2 + way[1] ** 2 + way[2] ** 2)
    stack[0] = 0
    depth = 1
    while depth > 0 and best > -deep_enough:
        depth -= 1
        node = stack[depth]
        apart2 = _between_boxes2(boxes, node, box)
        if apart2 >= max(best, 0.0) ** 2 and apart2 > 0.0:
            continue
        if _apart(run, tool, boxes, node, wide) > max(best, 0.0):
            continue
        if best < 0.0 and _stray_of_box(run, tool, way, boxes, node, p) <= -best:
            continue
        if children[node, 0] >= 0:
            a, b = children[node, 0], children[node, 1]
            # What comes last on the stack is looked at first: the nearer, of two that the tool stands in the deeper.
            near_a, near_b = _between_boxes2(boxes, a, box), _between_boxes2(boxes, b, box)
            if near_a == 0.0 and near_b == 0.0:
                near_a = -_stray_of_box(run, tool, way, boxes, a, p)
                near_b = -_stray_of_box(run, tool, way, boxes, b, p)
            if near_a < near_b:
                a, b = b, a
            stack[depth], stack[depth + 1] = a, b
            depth += 2
            continue
        for at in range(children[node, 2], children[node, 2] + children[node, 3]):
            t = order[at]
            if best < 0.0 and _stray(run, tool, way, corners, t, p) <= -best:
                continue
            gap = gap_to(run, tool, way, corners, t, still, max(best, NEAR_MM), v, witness)
            share = witness[3]
            if gap == 0.0 and deep_enough == 0.0:
                for c in range(3):
                    place[c] = (corners[t, 0, c] + corners[t, 1, c] + corners[t, 2, c]) / 3.0
                place[3] = share
                return -NEAR_MM
            if gap == 0.0:
                deep, share = depth_of(run, tool, way, corners, t, p)
                gap = -max(deep, 0.0)
            else:
                for c in range(3):
                    p[c] = witness[4 + c]
            if gap < best:
                best = gap
                place[0], place[1], place[2], place[3] = p[0], p[1], p[2], share
    return best


@kernel(parallel=True, nogil=True)
def clear(start, end, axis, bands, runs, corners, order, boxes, children, enough, deep_enough, mm, place):
    """Least gap between a profile and a mesh in each step, into mm where it is below `enough`; see `_clear`."""
    for i in prange(len(start)):
        tool, way, spot = np.empty(6), np.empty(3), np.zeros(4)
        for c in range(3):
            tool[c], tool[3 + c], way[c] = start[i, c], axis[i, c], end[i, c] - start[i, c]
        best = enough
        for r in range(len(runs) - 1):
            run = (bands, runs[r], runs[r + 1])
            best = _clear(run, tool, way, corners, order, boxes, children, best, deep_enough, spot)
        mm[i] = best
        for c in range(4):
            place[i, c] = spot[c]


@kernel(parallel=True, nogil=True)
def beside(start, end, axis, bands, runs, points, places, share):
    """The place of a profile nearest to a point in each step, and the share of the step; the point itself where it is
    within."""
    for i in prange(len(start)):
        tool, way, v, witness = np.empty(6), np.empty(3), np.empty(3), np.empty(7)
        corners, still, best = np.empty((1, 3, 3)), np.zeros(3), np.inf
        for c in range(3):
            tool[c], tool[3 + c], way[c] = start[i, c], axis[i, c], end[i, c] - start[i, c]
            corners[0, :, c] = points[i, c]
        for r in range(len(runs) - 1):
            v[:] = 0.0
            gap = gap_to((bands, runs[r], runs[r + 1]), tool, way, corners, 0, still, best, v, witness)
            if gap <= 0.0:
                places[i, :] = points[i]
                break
            if gap < best:
                best = gap
                places[i, :], share[i] = witness[:3], witness[3]


@kernel
def _advance(run, tool, d, corners, t, at, room):
    """How far along d a run must stand to clear a triangle on its way back, at least `at`."""
    way, v, witness = np.zeros(3), room[0], room[1]
    shift = np.empty(3)
    # From where a plane across d parts them.
    k = np.empty(4)
    _support(run, tool, way, d, -1.0, k)
    least = k[0] * d[0] + k[1] * d[1] + k[2] * d[2]
    top = -np.inf
    for q in range(3):
        top = max(top, corners[t, q, 0] * d[0] + corners[t, q, 1] * d[1] + corners[t, q, 2] * d[2])
    now = top - least
    if now <= at:
        return at
    for c in range(3):
        v[c] = d[c]
    for _ in range(STEPS):
        for c in range(3):
            shift[c] = -now * d[c]
        away = gap_to(run, tool, way, corners, t, shift, np.inf, v, witness)
        if away <= NEAR_MM:
            return now
        size = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
        toward = (v[0] * d[0] + v[1] * d[1] + v[2] * d[2]) / size
        if toward <= 1e-12:
            return at
        now -= away / toward
        if now <= at:
            return at
    return now


@kernel(parallel=True, nogil=True)
def push(tips, axes, ways, bands, runs, corners, order, boxes, children, out, nearest):
    """How far each tool must stand from its place along a way to touch the mesh, coming back along it; −inf: nowhere.

    Args:
        tips, axes, ways: (n, 3), axes and ways unit vectors. nearest: (n,) on return the triangle touched.
    """
    for i in prange(len(tips)):
        tool, d, still, k, room = np.empty(6), np.empty(3), np.zeros(3), np.empty(4), np.zeros((2, 7))
        stack = np.empty(STACK, np.int32)
        for c in range(3):
            tool[c], tool[3 + c], d[c] = tips[i, c], axes[i, c], ways[i, c]
        best, found = -np.inf, -1
        for r in range(len(runs) - 1):
            run = (bands, runs[r], runs[r + 1])
            middle = 0.5 * (bands[runs[r], 0] + bands[runs[r + 1] - 1, 1])
            wide = 0.0
            for b in range(runs[r], runs[r + 1]):
                for z, rho in ((bands[b, 0], bands[b, 2]), (bands[b, 1], bands[b, 3])):
                    wide = max(wide, np.sqrt((z - middle) ** 2 + rho * rho))
                if bands[b, 4] == ARC:
                    wide = max(wide, np.sqrt((bands[b, 6] - middle) ** 2 + bands[b, 5] ** 2) + bands[b, 7])
            _support(run, tool, still, d, -1.0, k)
            least = k[0] * d[0] + k[1] * d[1] + k[2] * d[2]
            stack[0] = 0
            depth = 1
            while depth > 0:
                depth -= 1
                node = stack[depth]
                if _beside(boxes, node, tool, d, middle, wide) or _top_of(boxes, node, d) - least <= best:
                    continue
                if children[node, 0] >= 0:
                    a, b = children[node, 0], children[node, 1]
                    if _top_of(boxes, a, d) > _top_of(boxes, b, d):
                        a, b = b, a
                    stack[depth], stack[depth + 1] = a, b
                    depth += 2
                    continue
                for at in range(children[node, 2], children[node, 2] + children[node, 3]):
                    far = _advance(run, tool, d, corners, order[at], best, room)
                    if far > best:
                        best, found = far, order[at]
        out[i], nearest[i] = best, found


@kernel
def _top_of(boxes, node, d):
    """The furthest that a box reaches in a direction."""
    top = 0.0
    for c in range(3):
        top += d[c] * (boxes[node, 3 + c] if d[c] > 0.0 else boxes[node, c])
    return top


@kernel
def _beside(boxes, node, tool, d, middle, wide):
    """Whether a box lies wholly beside the tube that a ball round a run makes along a line."""
    along, away2, half2 = 0.0, 0.0, 0.0
    for c in range(3):
        e = 0.5 * (boxes[node, c] + boxes[node, 3 + c]) - tool[c] - middle * tool[3 + c]
        along += e * d[c]
        away2 += e * e
        half2 += (0.5 * (boxes[node, 3 + c] - boxes[node, c])) ** 2
    reach = wide + np.sqrt(half2) + SAME_MM
    return away2 - along * along > reach * reach

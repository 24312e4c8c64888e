"""Kernels behind `distance`.

A tree of boxes and the closest point of a triangle (C. Ericson, Real-Time Collision Detection, 5.1.5); signs from
angle-weighted pseudonormals (J. A. Baerentzen and H. Aanaes, Signed distance computation using the angle weighted
pseudonormal, 2005); then the same on the exact surfaces near the place that the triangles found.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.kernels import kernel
from fenrik.core.solids._surface_kernels import foot

LEAF, BINS = 4, 16
STACK, DEEP = 128, 64
"""Nodes that wait on the way through a tree, and the level from which on it is halved, so that they suffice."""
BORDER_MM, SMOOTH_MM = 1e-7, 1e-5
SQUARE = 1.0 - 1e-5
CORNER, NOWHERE = -2, -1
FACES, EDGE_STEPS = 8, 30
TOUCHING2 = 1e-18
"""Square of a distance that is none."""


@kernel
def build(corners):
    """Order of triangles, boxes (n, 6), children (n, 4: left, right, first, count) of a tree.

    Split where the surfaces of the boxes, times what is in them, come out least: flat faces with holes have long
    triangles whose boxes overlap, and a split in the middle makes a place ask for hundreds of them.
    """
    n = len(corners)
    order = np.arange(n).astype(np.int32)
    own = np.empty((n, 6))
    for t in range(n):
        _empty(own[t])
        for q in range(3):
            for c in range(3):
                own[t, c], own[t, 3 + c] = min(own[t, c], corners[t, q, c]), max(own[t, 3 + c], corners[t, q, c])
    boxes = np.empty((2 * n + 1, 6))
    children = np.full((2 * n + 1, 4), -1, np.int32)
    stack = np.empty((STACK, 4), np.int64)
    stack[0] = (0, 0, n, 0)
    depth, used = 1, 1
    bins, middles = (np.empty((BINS, 6)), np.empty(BINS, np.int64), np.empty(BINS)), np.empty(6)
    while depth > 0:
        depth -= 1
        node, first, last, level = stack[depth]
        _empty(boxes[node])
        _empty(middles)
        for k in range(first, last):
            _take_in(boxes[node], own[order[k]])
            for c in range(3):
                middle = own[order[k], c] + own[order[k], 3 + c]
                middles[c], middles[3 + c] = min(middles[c], middle), max(middles[3 + c], middle)
        if last - first <= LEAF:
            children[node, 2], children[node, 3] = first, last - first
            continue
        between = _split(order, own, first, last, middles, bins) if level < DEEP else first
        if between in (first, last):
            between = _halve(order, own, first, last, middles)
        children[node, 0], children[node, 1] = used, used + 1
        stack[depth] = (used, first, between, level + 1)
        stack[depth + 1] = (used + 1, between, last, level + 1)
        depth += 2
        used += 2
    return order, boxes[:used].copy(), children[:used].copy()


@kernel
def _empty(box):
    for c in range(3):
        box[c], box[3 + c] = np.inf, -np.inf


@kernel
def _take_in(box, other):
    for c in range(3):
        box[c], box[3 + c] = min(box[c], other[c]), max(box[3 + c], other[3 + c])


@kernel
def _surface(box):
    """Half the surface of a box; 0 of an empty one."""
    x, y, z = max(box[3] - box[0], 0.0), max(box[4] - box[1], 0.0), max(box[5] - box[2], 0.0)
    return x * y + y * z + z * x


@kernel
def _split(order, own, first, last, middles, bins):
    """Part triangles where surface times number comes out least, by bins of their middles (I. Wald, On fast
    construction of SAH-based bounding volume hierarchies, 2007); gives where the second half begins."""
    boxes, counts, beyond = bins
    total = np.empty(6)
    best, axis, last_bin = np.inf, -1, 0
    for c in range(3):
        width = middles[3 + c] - middles[c]
        if width <= 0.0:
            continue
        counts[:] = 0
        for q in range(BINS):
            _empty(boxes[q])
        for k in range(first, last):
            q = _bin_of(own[order[k]], c, middles[c], width)
            counts[q] += 1
            _take_in(boxes[q], own[order[k]])
        _empty(total)
        for q in range(BINS - 1, 0, -1):
            _take_in(total, boxes[q])
            beyond[q] = _surface(total)
        _empty(total)
        left = 0
        for q in range(BINS - 1):
            _take_in(total, boxes[q])
            left += counts[q]
            cost = _surface(total) * left + beyond[q + 1] * (last - first - left)
            if 0 < left < last - first and cost < best:
                best, axis, last_bin = cost, c, q
    if axis < 0:
        return first
    low, high = first, last - 1
    while low <= high:
        if _bin_of(own[order[low]], axis, middles[axis], middles[3 + axis] - middles[axis]) <= last_bin:
            low += 1
        else:
            order[low], order[high] = order[high], order[low]
            high -= 1
    return low


@kernel
def _bin_of(box, axis, low, width):
    return min(int((box[axis] + box[3 + axis] - low) / width * BINS), BINS - 1)


@kernel
def _halve(order, own, first, last, middles):
    """Part triangles into halves along the longer way of their middles."""
    axis = 0
    for c in range(1, 3):
        if middles[3 + c] - middles[c] > middles[3 + axis] - middles[axis]:
            axis = c
    piece = order[first:last].copy()
    order[first:last] = piece[np.argsort(own[piece, axis] + own[piece, 3 + axis])]
    return (first + last) // 2


@kernel
def _box_distance2(boxes, node, x, y, z):
    dx = max(boxes[node, 0] - x, x - boxes[node, 3], 0.0)
    dy = max(boxes[node, 1] - y, y - boxes[node, 4], 0.0)
    dz = max(boxes[node, 2] - z, z - boxes[node, 5], 0.0)
    return dx * dx + dy * dy + dz * dz


@kernel
def _closest(corners, t, px, py, pz, out):
    """Closest point of a triangle to a point: its shares of the second and third corner, and the place, into out."""
    ax, ay, az = corners[t, 0, 0], corners[t, 0, 1], corners[t, 0, 2]
    ux, uy, uz = corners[t, 1, 0] - ax, corners[t, 1, 1] - ay, corners[t, 1, 2] - az
    vx, vy, vz = corners[t, 2, 0] - ax, corners[t, 2, 1] - ay, corners[t, 2, 2] - az
    wx, wy, wz = px - ax, py - ay, pz - az
    d1, d2 = ux * wx + uy * wy + uz * wz, vx * wx + vy * wy + vz * wz
    s = r = 0.0
    if not (d1 <= 0.0 and d2 <= 0.0):
        uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
        d3, d4 = d1 - uu, d2 - uv
        d5, d6 = d1 - uv, d2 - vv
        vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
        if d3 >= 0.0 and d4 <= d3:
            s = 1.0
        elif vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
            s = d1 / (d1 - d3)
        elif d6 >= 0.0 and d5 <= d6:
            r = 1.0
        elif vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
            r = d2 / (d2 - d6)
        elif va <= 0.0 and (d4 - d3) >= 0.0 and (d5 - d6) >= 0.0:
            r = (d4 - d3) / ((d4 - d3) + (d5 - d6))
            s = 1.0 - r
        else:
            s, r = vb / (va + vb + vc), vc / (va + vb + vc)
    out[0], out[1], out[2] = ax + s * ux + r * vx, ay + s * uy + r * vy, az + s * uz + r * vz
    out[3], out[4] = s, r


@kernel
def _feature(s, r):
    """Where on a triangle a place is: 0 to 2 a corner, 3 to 5 the side after corner 0 to 2, 6 inside."""
    if s <= 0.0 and r <= 0.0:
        return 0
    if s >= 1.0:
        return 1
    if r >= 1.0:
        return 2
    if r <= 0.0:
        return 3
    if s <= 0.0:
        return 5
    return 4 if s + r >= 1.0 - 1e-14 else 6


@kernel
def _add_normal(corners, t, n):
    """Add the unit normal of a triangle."""
    ux, uy, uz = (
        corners[t, 1, 0] - corners[t, 0, 0], corners[t, 1, 1] - corners[t, 0, 1], corners[t, 1, 2] - corners[t, 0, 2]
    )  # fmt: skip
    vx, vy, vz = (
        corners[t, 2, 0] - corners[t, 0, 0], corners[t, 2, 1] - corners[t, 0, 1], corners[t, 2, 2] - corners[t, 0, 2]
    )  # fmt: skip
    x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    size = max(np.sqrt(x * x + y * y + z * z), 1e-300)
    n[0] += x / size
    n[1] += y / size
    n[2] += z / size


@kernel(parallel=True, nogil=True)
def query(points, corners, triangles, neighbours, weighted, on_rim, order, boxes, children):
    """Signed distances, closest triangles, what and where of these is closest, and whether the sign is known."""
    n = len(points)
    places = np.empty((n, 3))
    out = np.empty(n)
    nearest = np.empty(n, np.int32)
    features = np.empty(n, np.int8)
    known = np.empty(n, np.bool_)
    for i in prange(n):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        spot, normal = np.empty(5), np.zeros(3)
        stack = np.empty(STACK, np.int32)
        stack[0] = 0
        depth = 1
        best, found = np.inf, -1
        # On a flat face there is no nearer one: boxes of long triangles that hold the place need no look.
        while depth > 0 and best > TOUCHING2:
            depth -= 1
            node = stack[depth]
            if _box_distance2(boxes, node, x, y, z) >= best:
                continue
            if children[node, 0] < 0:
                for k in range(children[node, 2], children[node, 2] + children[node, 3]):
                    t = order[k]
                    _closest(corners, t, x, y, z, spot)
                    d2 = (x - spot[0]) ** 2 + (y - spot[1]) ** 2 + (z - spot[2]) ** 2
                    if d2 < best:
                        best, found = d2, t
                continue
            a, b = children[node, 0], children[node, 1]
            if _box_distance2(boxes, a, x, y, z) < _box_distance2(boxes, b, x, y, z):
                stack[depth], stack[depth + 1] = b, a
            else:
                stack[depth], stack[depth + 1] = a, b
            depth += 2
        _closest(corners, found, x, y, z, spot)
        what = _feature(spot[3], spot[4])
        if what < 3:
            vertex = triangles[found, what]
            known[i] = not on_rim[vertex]
            for c in range(3):
                normal[c] = weighted[vertex, c]
        elif what < 6:
            beside = neighbours[found, what - 3]
            known[i] = beside >= 0
            _add_normal(corners, found, normal)
            if beside >= 0:
                _add_normal(corners, beside, normal)
        else:
            known[i] = True
            _add_normal(corners, found, normal)
        lean = (x - spot[0]) * normal[0] + (y - spot[1]) * normal[1] + (z - spot[2]) * normal[2]
        out[i] = np.sqrt(best) if lean >= 0.0 else -np.sqrt(best)
        nearest[i] = found
        features[i] = what
        places[i, :] = spot[:3]
    return out, nearest, features, places, known


@kernel
def _start(parameters, t, s, r, uv):
    """Parameters on a triangle's surface at a place of the triangle."""
    for c in range(2):
        uv[c] = parameters[t, 0, c] * (1.0 - s - r) + parameters[t, 1, c] * s + parameters[t, 2, c] * r


@kernel
def _over(tables, face, p, parameters, t, q, x, n, out):
    """Height of a point over a face's surface, met near a triangle of that face; NaN where it is not known."""
    spot, uv = np.empty(5), np.empty(2)
    kinds, bases, axes, sizes, senses, grids, poles, knots, corners = tables
    _closest(corners, t, q[0], q[1], q[2], spot)
    _start(parameters, t, spot[3], spot[4], uv)
    if not foot(kinds, bases, axes, sizes, senses, grids, poles, knots, face, p, uv, x, n, out):
        return np.nan
    return (p[0] - x[0]) * n[0] + (p[1] - x[1]) * n[1] + (p[2] - x[2]) * n[2]


@kernel
def _length(p, x):
    return np.sqrt((p[0] - x[0]) ** 2 + (p[1] - x[1]) ** 2 + (p[2] - x[2]) ** 2)


@kernel
def _on_edge(tables, a, b, ta, tb, p, parameters, q, x, out):
    """Distance to the curve in which two surfaces meet, near a place q, and its foot x; NaN where it is not found."""
    x[:] = q
    xa, xb, na, nb = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    before, moved = 0.0, 0.0
    for _ in range(EDGE_STEPS):
        fa = _over(tables, a, x, parameters, ta, q, xa, na, out)
        fb = _over(tables, b, x, parameters, tb, q, xb, nb, out)
        if np.isnan(fa) or np.isnan(fb):
            return np.nan
        c = na[0] * nb[0] + na[1] * nb[1] + na[2] * nb[2]
        s2 = 1.0 - c * c
        if s2 < 1e-6:
            return np.nan
        u, w = (c * fb - fa) / s2, (c * fa - fb) / s2
        along, way = 0.0, 0.0
        for k in range(3):
            i, j = (k + 1) % 3, (k + 2) % 3
            out[5, k] = (na[i] * nb[j] - na[j] * nb[i]) / np.sqrt(s2)
            along += out[5, k] * (p[k] - x[k])
        # The secant: how the way along the curve changes with the place tells how the curve bends.
        share = moved / (before - along) if moved * (before - along) > 0.0 else 1.0
        before, moved = along, along * min(max(share, 0.05), 4.0)
        for k in range(3):
            step = out[5, k] * moved + u * na[k] + w * nb[k]
            x[k] += step
            way += step * step
        if way < 1e-16:
            return _length(p, x)
    return np.nan


@kernel
def _across(corners, t, side, corner, c, m):
    """Unit direction from a side of a triangle to a corner `c` of any triangle, square to the side, added to m."""
    a, b = side, (side + 1) % 3
    share, length2 = 0.0, 0.0
    for k in range(3):
        e = corners[t, b, k] - corners[t, a, k]
        share += e * (corners[corner, c, k] - corners[t, a, k])
        length2 += e * e
    share /= length2
    size = 0.0
    for k in range(3):
        size += (corners[corner, c, k] - corners[t, a, k] - share * (corners[t, b, k] - corners[t, a, k])) ** 2
    size = np.sqrt(size)
    if size > 0.0:
        for k in range(3):
            m[k] += (
                corners[corner, c, k] - corners[t, a, k] - share * (corners[t, b, k] - corners[t, a, k])
            ) / size  # fmt: skip
    return size


@kernel
def _inwards(corners, t, side, beside, x, room):
    """How far a place lies on a triangle's side of one of its sides, between it and the triangle beside."""
    m, other = room[6], room[7]
    m[:] = 0.0
    _across(corners, t, side, t, (side + 2) % 3, m)
    most, far = 0, -1.0
    for c in range(3):
        other[:] = 0.0
        size = _across(corners, t, side, beside, c, other)
        if size > far:
            most, far = c, size
    other[:] = 0.0
    _across(corners, t, side, beside, most, other)
    along, size = 0.0, 0.0
    for k in range(3):
        along += (x[k] - corners[t, side, k]) * (m[k] - other[k])
        size += (m[k] - other[k]) ** 2
    return along / np.sqrt(size) if size > 1e-12 else 0.0


@kernel
def _border(t, k, triangles, neighbours, face_of, side_at):
    """A side on the border of a triangle's face: its own side k, or (from k = 3 on) one at its corner k − 3.

    Returns:
        A triangle of the same face and its side; −1 where there is none.
    """
    if k < 3:
        nb = neighbours[t, k]
        return (t, k) if nb >= 0 and face_of[nb] != face_of[t] else (-1, 0)
    here = side_at[triangles[t, k - 3]]
    for own in range(3):
        nb = neighbours[t, own]
        if nb >= 0 and face_of[nb] != face_of[t] and (own == k - 3 or (own + 1) % 3 == k - 3):
            return -1, 0
    if here < 0:
        return -1, 0
    at, side = here // 3, here % 3
    if face_of[at] == face_of[t]:
        return at, side
    nb = neighbours[at, side]
    if face_of[nb] != face_of[t]:
        return -1, 0
    for back in range(3):
        if neighbours[nb, back] == at:
            return nb, back
    return -1, 0


@kernel
def _past_corner(corners, t, side, x, triangles, side_at):
    """The corner of a triangle at an end of its side where three faces meet, if a place lies past that end; else −1."""
    a, b = side, (side + 1) % 3
    along, length2 = 0.0, 0.0
    for k in range(3):
        e = corners[t, b, k] - corners[t, a, k]
        along += e * (x[k] - corners[t, a, k])
        length2 += e * e
    if along < 0.0 and side_at[triangles[t, a]] == CORNER:
        return a
    return b if along > length2 and side_at[triangles[t, b]] == CORNER else -1


@kernel
def _near_face(p, t, given, rough, triangles, neighbours, turns, face_of, parameters, side_at, tables, room):
    """Distance and sign to the exact face of a triangle and to the curves at the triangle's sides in which it meets
    others; infinite where no foot lies on them. The foot goes into room[8]."""
    corners = tables[-1]
    spot, out = np.empty(5), np.empty((6, 3))
    x, n, y, m, q, z = room[0], room[1], room[2], room[3], room[4], room[5]
    far, given_sign = abs(given), 1.0 if given >= 0.0 else -1.0
    _closest(corners, t, p[0], p[1], p[2], spot)
    q[:] = spot[:3]
    a = face_of[t]
    best, sign = np.inf, 1.0
    over = _over(tables, a, p, parameters, t, q, x, n, out)
    if np.isnan(over):
        return best, sign
    on_face = True
    for k in range(6):
        at, side = _border(t, k, triangles, neighbours, face_of, side_at)
        if at < 0:
            continue
        nb = neighbours[at, side]
        inwards = _inwards(corners, at, side, nb, x, room)
        if inwards > 2.0 * rough + 1e-6:
            continue
        turn = turns[at, side]
        if turn == 0:
            on_face &= inwards >= -SMOOTH_MM
            continue
        # Where the surface beside ends before it comes to the foot, the triangles say on which side that lies.
        beyond = turn * _over(tables, face_of[nb], x, parameters, nb, q, y, m, out)
        if beyond > BORDER_MM or (np.isnan(beyond) and inwards < -SMOOTH_MM):
            on_face = False
        away, side_sign = _on_edge(tables, a, face_of[nb], at, nb, p, parameters, q, z, out), float(turn)
        end = _past_corner(corners, at, side, z, triangles, side_at)
        if end >= 0:
            for c in range(3):
                z[c] = corners[at, end, c]
            away, side_sign = _length(p, z), given_sign
        if away < best and abs(away - far) <= 2.0 * rough + 1e-9:
            best, sign = away, side_sign
            room[8, :] = z
    length = _length(p, x)
    # At the end of a surface the foot is where it ends, not square under the point: that is for the curve there to say.
    if on_face and length <= best and abs(over) >= SQUARE * length - 1e-7:
        best, sign = length, 1.0 if over >= 0.0 else -1.0
        room[8, :] = x
    return best, sign


@kernel
def _other_faces(p, reach, first, corners, face_of, order, boxes, children, faces, nearest, away):
    """The closest triangle of each other face that is within reach of a point, into `nearest`; how many faces."""
    stack, spot = np.empty(STACK, np.int32), np.empty(5)
    stack[0] = 0
    depth, found = 1, 0
    while depth > 0:
        depth -= 1
        node = stack[depth]
        if _box_distance2(boxes, node, p[0], p[1], p[2]) >= reach * reach:
            continue
        if children[node, 0] >= 0:
            stack[depth], stack[depth + 1] = children[node, 0], children[node, 1]
            depth += 2
            continue
        for k in range(children[node, 2], children[node, 2] + children[node, 3]):
            t = order[k]
            if face_of[t] == first:
                continue
            _closest(corners, t, p[0], p[1], p[2], spot)
            d = _length(p, spot)
            if d >= reach:
                continue
            slot = 0
            while slot < found and faces[slot] != face_of[t]:
                slot += 1
            if slot == len(faces):
                continue
            if slot == found:
                faces[slot], away[slot] = face_of[t], np.inf
                found += 1
            if d < away[slot]:
                away[slot], nearest[slot] = d, t
    return found


@kernel(parallel=True, nogil=True)
def settle(
    points, signed, nearest, features, triangles, neighbours, turns, face_of, parameters, side_at, tables,
    order, boxes, children, rough, settled, doubtful, places,
):  # fmt: skip
    """Distances to the exact faces in place of those to triangles; True in `settled` where that was possible. In
    `doubtful` where only the triangles about a corner or an edge say the side, from far enough that a look can tell it
    too. `places` is where they are reached.

    The face of the closest triangle gives the number, and other faces whose triangles are hardly farther, if the foot
    on their surface lies on them, or the curves in which two of them meet. A foot lies on a face where it is on the
    material's side of the surface beside (convex borders; on the other side at concave ones; on its own side of the
    border at smooth ones). Farther from the triangles than these are from the faces, both lie on the same side: a foot
    that says otherwise is none.
    """
    corners = tables[-1]
    for i in prange(len(points)):
        p, t = points[i], nearest[i]
        far, slack = abs(signed[i]), 2.0 * rough + 1e-9
        if features[i] < 3:
            here = side_at[triangles[t, features[i]]]
            if here == CORNER:
                settled[i], doubtful[i] = True, far > slack
                continue
            t = here // 3 if here >= 0 else t
        room, spot, there = np.empty((9, 3)), np.empty(5), np.empty(3)
        best, sign = _near_face(
            p, t, signed[i], rough, triangles, neighbours, turns, face_of, parameters, side_at, tables, room
        )  # fmt: skip
        side = 0.0 if far <= slack else (1.0 if signed[i] >= 0.0 else -1.0)
        if side * sign < 0.0:
            best = np.inf
        there[:] = room[8]
        faces, close, away = np.empty(FACES, np.int64), np.empty(FACES, np.int64), np.empty(FACES)
        found = _other_faces(p, far + slack, face_of[t], corners, face_of, order, boxes, children, faces, close, away)
        for k in range(found):
            _closest(corners, close[k], p[0], p[1], p[2], spot)
            what = _feature(spot[3], spot[4])
            here = side_at[triangles[close[k], what]] if what < 3 else NOWHERE
            if here == CORNER:
                continue
            near = here // 3 if here >= 0 else close[k]
            other, its = _near_face(
                p, near, signed[i], rough, triangles, neighbours, turns, face_of, parameters, side_at, tables, room
            )  # fmt: skip
            if other < best and abs(other - far) <= slack and side * its >= 0.0:
                best, sign = other, its
                there[:] = room[8]
        if abs(best - far) <= slack:
            signed[i] = sign * best
            settled[i] = True
            places[i, :] = there
        else:
            doubtful[i] = side != 0.0

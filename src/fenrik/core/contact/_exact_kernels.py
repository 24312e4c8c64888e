"""Kernels behind `distance`: from the place that the triangles found to the exact surfaces near it, their edges and
corners."""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.contact._distance_kernels import STACK, box_distance2, closest, feature
from fenrik.core.kernels import kernel
from fenrik.core.solids._surface_kernels import foot

BORDER_MM, SMOOTH_MM = 1e-7, 1e-5
SQUARE = 1.0 - 1e-5
CORNER, NOWHERE = -2, -1
FACES, EDGE_STEPS = 8, 30


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
    closest(corners, t, q[0], q[1], q[2], spot)
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
    closest(corners, t, p[0], p[1], p[2], spot)
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
        if box_distance2(boxes, node, p[0], p[1], p[2]) >= reach * reach:
            continue
        if children[node, 0] >= 0:
            stack[depth], stack[depth + 1] = children[node, 0], children[node, 1]
            depth += 2
            continue
        for k in range(children[node, 2], children[node, 2] + children[node, 3]):
            t = order[k]
            if face_of[t] == first:
                continue
            closest(corners, t, p[0], p[1], p[2], spot)
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
            closest(corners, close[k], p[0], p[1], p[2], spot)
            what = feature(spot[3], spot[4])
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

"""Kernels behind `clearance`: bodies of revolution, swept along straight steps, against a tree of triangles.

The way along a line until both touch is found by advancing as far as the plane between them allows (G. van den Bergen,
"Ray casting against general convex objects with application to continuous collision detection", 2004).
"""

from __future__ import annotations

import numpy as np
from numba import prange

from fenrik.core.contact._depth_kernels import depth_of, stray, stray_of_box, widest
from fenrik.core.contact._distance_kernels import STACK
from fenrik.core.contact._gap_kernels import ARC, NEAR_MM, STEPS, gap_to, support
from fenrik.core.kernels import kernel

SAME_MM = 1e-9


@kernel
def _box_of(run, tool, way, box):
    """The box of a swept run: least and greatest place in each direction."""
    d, k = np.zeros(3), np.empty(4)
    for c in range(3):
        for end in range(2):
            d[c] = 2.0 * end - 1.0
            support(run, tool, way, d, 1.0, k)
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
def _clear(run, tool, way, corners, order, boxes, children, best, deep_enough, place):
    """The least gap of one swept run if it is below `best`, else `best`; less than 0 where it stands in triangles.

    Args:
        deep_enough: nothing deeper is looked for once it stands so deep; 0: nor is it measured how deep.
        place: (4,) on return the place of the surface and the share of the way, where the gap is below `best`.
    """
    stack, box, v, p, witness = np.empty(STACK, np.int32), np.empty(6), np.zeros(3), np.empty(3), np.empty(7)
    still = np.zeros(3)
    _box_of(run, tool, way, box)
    wide = widest(run) + np.sqrt(way[0] ** 2 + way[1] ** 2 + way[2] ** 2)
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
        if best < 0.0 and stray_of_box(run, tool, way, boxes, node, p) <= -best:
            continue
        if children[node, 0] >= 0:
            a, b = children[node, 0], children[node, 1]
            # What comes last on the stack is looked at first: the nearer, of two that the tool stands in the deeper.
            near_a, near_b = _between_boxes2(boxes, a, box), _between_boxes2(boxes, b, box)
            if near_a == 0.0 and near_b == 0.0:
                near_a = -stray_of_box(run, tool, way, boxes, a, p)
                near_b = -stray_of_box(run, tool, way, boxes, b, p)
            if near_a < near_b:
                a, b = b, a
            stack[depth], stack[depth + 1] = a, b
            depth += 2
            continue
        for at in range(children[node, 2], children[node, 2] + children[node, 3]):
            t = order[at]
            if best < 0.0 and stray(run, tool, way, corners, t, p) <= -best:
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
    support(run, tool, way, d, -1.0, k)
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
            support(run, tool, still, d, -1.0, k)
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

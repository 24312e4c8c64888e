"""Kernels behind `clearance`: how far a body of revolution, swept along a straight step, is from a triangle.

A convex run of a profile swept along a step whose axis does not turn is a convex body, known by its support in each
direction. Its distance to a triangle is found from supports alone (E. Gilbert, D. Johnson, S. Keerthi, "A fast
procedure for computing the distance between complex objects in three-dimensional space", 1988).
"""

from __future__ import annotations

import numpy as np

from fenrik.core.contact._distance_kernels import closest
from fenrik.core.kernels import kernel, leaf

NEAR_MM = 1e-7
STEPS = 80
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


@kernel
def support(run, tool, way, d, sign, k):
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
        closest(faces, 0, 0.0, 0.0, 0.0, spot)
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
        support(run, tool, way, v, -1.0, k)
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

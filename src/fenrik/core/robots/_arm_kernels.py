"""Kernels behind `inverse`: all postures of an arm that reach one pose, and how near each stands to a singular one.

The methods are told in `inverse`; here they are written for one pose, since whole paths ask for millions of them.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numba import prange

from fenrik.core.frames import Points
from fenrik.core.kernels import kernel, leaf

WAYS = 8
MEET_MM = 1e-6
OUT = 1e-9
"""A cosine that is beyond 1 by no more counts as 1: rounding, not reach."""
FREE = 1e-9


class ArmShape(NamedTuple):
    """An arm as kernels have it: axes at 0, the flange, and what its closed form needs of them.

    Attributes:
        along, origin: (6, 3). turn, place: the flange's pose at 0.
        meet: (3,) where the wrist's axes meet (4, 5, 6; or 5 and 6). end: (3,) the far corner of the elbow's triangle.
        plane: (2, 3) two directions across the parallel axes. across: (3,) one across axis 6.
        upper, fore: (2,) sides of the triangle in that plane, at 0. three: whether 2, 3 and 4 are parallel.
    """

    along: Points
    origin: Points
    turn: Points
    place: Points
    meet: Points
    end: Points
    plane: Points
    across: Points
    upper: Points
    fore: Points
    three: bool


@leaf
def turned(axis, angle, x, y, z):
    """A direction turned about a unit vector."""
    return _by(axis, math.cos(angle), math.sin(angle), x, y, z)


@leaf
def _by(axis, c, s, x, y, z):
    """A direction turned about a unit vector by an angle of which cosine and sine are known (Rodrigues' formula)."""
    a, b, d = axis[0], axis[1], axis[2]
    dot = (a * x + b * y + d * z) * (1.0 - c)
    return (
        x * c + (b * z - d * y) * s + a * dot,
        y * c + (d * x - a * z) * s + b * dot,
        z * c + (a * y - b * x) * s + d * dot,
    )


@leaf
def turned_place(axis, origin, angle, x, y, z):
    """A place turned about an axis."""
    a, b, c = turned(axis, angle, x - origin[0], y - origin[1], z - origin[2])
    return a + origin[0], b + origin[1], c + origin[2]


@leaf
def _cosine(value):
    if abs(value) > 1.0 + OUT:
        return math.nan
    return math.acos(min(max(value, -1.0), 1.0))


@leaf
def _level(axis, origin, along, x, y, z, wanted, way):
    """The turn about an axis after which a place, turned back by it, lies at a distance along a direction."""
    # along · (R(−θ)(p − o) + o) = wanted; R(−θ)v = v∥ + cos θ v⊥ − sin θ (axis × v).
    x, y, z = x - origin[0], y - origin[1], z - origin[2]
    high = x * axis[0] + y * axis[1] + z * axis[2]
    sx, sy, sz = high * axis[0], high * axis[1], high * axis[2]
    a = (x - sx) * along[0] + (y - sy) * along[1] + (z - sz) * along[2]
    b = -(
        (axis[1] * z - axis[2] * y) * along[0]
        + (axis[2] * x - axis[0] * z) * along[1]
        + (axis[0] * y - axis[1] * x) * along[2]
    )
    c = wanted - (along[0] * (origin[0] + sx) + along[1] * (origin[1] + sy) + along[2] * (origin[2] + sz))
    size = math.hypot(a, b)
    if size < FREE:
        return 0.0 if abs(c) < MEET_MM else math.nan
    spread = _cosine(c / size)
    angle = math.atan2(b, a)
    return angle + spread if way == 0 else angle - spread


@leaf
def _lean(axis, start, along, wanted, way):
    """The turn about an axis that brings a direction to a given component along another."""
    high = start[0] * axis[0] + start[1] * axis[1] + start[2] * axis[2]
    sx, sy, sz = high * axis[0], high * axis[1], high * axis[2]
    a = (start[0] - sx) * along[0] + (start[1] - sy) * along[1] + (start[2] - sz) * along[2]
    b = (
        (axis[1] * start[2] - axis[2] * start[1]) * along[0]
        + (axis[2] * start[0] - axis[0] * start[2]) * along[1]
        + (axis[0] * start[1] - axis[1] * start[0]) * along[2]
    )
    size = math.hypot(a, b)
    spread = _cosine((wanted - (sx * along[0] + sy * along[1] + sz * along[2])) / size)
    angle = math.atan2(b, a)
    return angle + spread if way == 0 else angle - spread


@leaf
def _between(axis, x, y, z, u, v, w):
    """The turn about an axis that takes one direction to another as near as it can; 0 where any would do."""
    high = x * axis[0] + y * axis[1] + z * axis[2]
    x, y, z = x - high * axis[0], y - high * axis[1], z - high * axis[2]
    high = u * axis[0] + v * axis[1] + w * axis[2]
    u, v, w = u - high * axis[0], v - high * axis[1], w - high * axis[2]
    if x * x + y * y + z * z < FREE * FREE or u * u + v * v + w * w < FREE * FREE:
        return 0.0
    across = (y * w - z * v) * axis[0] + (z * u - x * w) * axis[1] + (x * v - y * u) * axis[2]
    return math.atan2(across, x * u + y * v + z * w)


@leaf
def _triangle(shape, x, y, z, way):
    """Turns about axes 2 and 3 that bring the far corner of the elbow's triangle to a place."""
    first = shape.origin[1]
    x, y, z = x - first[0], y - first[1], z - first[2]
    plane, a, b = shape.plane, shape.upper, shape.fore
    c0 = plane[0, 0] * x + plane[0, 1] * y + plane[0, 2] * z
    c1 = plane[1, 0] * x + plane[1, 1] * y + plane[1, 2] * z
    la, lb = math.hypot(a[0], a[1]), math.hypot(b[0], b[1])
    inner = _cosine((c0 * c0 + c1 * c1 - la * la - lb * lb) / (2.0 * la * lb))
    bend = (inner if way == 0 else -inner) - math.atan2(a[0] * b[1] - a[1] * b[0], a[0] * b[0] + a[1] * b[1])
    cos, sin = math.cos(bend), math.sin(bend)
    r0, r1 = a[0] + cos * b[0] - sin * b[1], a[1] + sin * b[0] + cos * b[1]
    return math.atan2(r0 * c1 - r1 * c0, r0 * c0 + r1 * c1), bend


@leaf
def _wrapped(angle):
    return angle - 2.0 * math.pi * round(angle / (2.0 * math.pi))


@leaf
def postures(shape, turn, place, out):
    """All postures of an arm that put the flange at a pose: `out` (8, 6) radians from −π to π, NaN where there is none.

    Rows are shoulder, elbow and wrist the one way or the other.
    """
    w, o = shape.along, shape.origin
    # The pose with that at 0 taken off: what the six joints make of it together.
    m = out[:3, :3]  # used as scratch until the postures are written
    for i in range(3):
        for j in range(3):
            m[i, j] = turn[i, 0] * shape.turn[j, 0] + turn[i, 1] * shape.turn[j, 1] + turn[i, 2] * shape.turn[j, 2]
    m00, m01, m02, m10, m11, m12 = m[0, 0], m[0, 1], m[0, 2], m[1, 0], m[1, 1], m[1, 2]
    m20, m21, m22 = m[2, 0], m[2, 1], m[2, 2]
    # Where the wrist meets.
    x, y, z = shape.meet[0] - shape.place[0], shape.meet[1] - shape.place[1], shape.meet[2] - shape.place[2]
    gx = m00 * x + m01 * y + m02 * z + place[0]
    gy = m10 * x + m11 * y + m12 * z + place[1]
    gz = m20 * x + m21 * y + m22 * z + place[2]
    # Axis 6 and a direction across it as the pose has them.
    a, s = w[5], shape.across
    x6, y6, z6 = m00 * a[0] + m01 * a[1] + m02 * a[2], m10 * a[0] + m11 * a[1] + m12 * a[2], 0.0
    z6 = m20 * a[0] + m21 * a[1] + m22 * a[2]
    xs, ys, zs = m00 * s[0] + m01 * s[1] + m02 * s[2], m10 * s[0] + m11 * s[1] + m12 * s[2], 0.0
    zs = m20 * s[0] + m21 * s[1] + m22 * s[2]
    wanted = w[1, 0] * shape.meet[0] + w[1, 1] * shape.meet[1] + w[1, 2] * shape.meet[2]
    out[:] = math.nan
    for shoulder in range(2):
        q1 = _level(w[0], o[0], w[1], gx, gy, gz, wanted, shoulder)
        if math.isnan(q1):
            continue
        c1, s1 = math.cos(q1), math.sin(q1)
        hx, hy, hz = _by(w[0], c1, -s1, gx - o[0, 0], gy - o[0, 1], gz - o[0, 2])
        hx, hy, hz = hx + o[0, 0], hy + o[0, 1], hz + o[0, 2]
        if not shape.three:
            for elbow in range(2):
                q2, q3 = _triangle(shape, hx, hy, hz, elbow)
                if math.isnan(q3):
                    continue
                c2, s2, c3, s3 = math.cos(q2), math.sin(q2), math.cos(q3), math.sin(q3)
                x, y, z = _by(w[0], c1, -s1, x6, y6, z6)
                x, y, z = _by(w[1], c2, -s2, x, y, z)
                x, y, z = _by(w[2], c3, -s3, x, y, z)
                u, v, t = _by(w[0], c1, -s1, xs, ys, zs)
                u, v, t = _by(w[1], c2, -s2, u, v, t)
                u, v, t = _by(w[2], c3, -s3, u, v, t)
                high = x * w[3, 0] + y * w[3, 1] + z * w[3, 2]
                for wrist in range(2):
                    q5 = _lean(w[4], w[5], w[3], high, wrist)
                    if math.isnan(q5):
                        continue
                    c5, s5 = math.cos(q5), math.sin(q5)
                    bx, by, bz = _by(w[4], c5, s5, w[5, 0], w[5, 1], w[5, 2])
                    q4 = _between(w[3], bx, by, bz, x, y, z)
                    p, q, r = turned(w[3], -q4, u, v, t)
                    p, q, r = _by(w[4], c5, -s5, p, q, r)
                    q6 = _between(w[5], s[0], s[1], s[2], p, q, r)
                    row = out[4 * shoulder + 2 * elbow + wrist]
                    row[0], row[1], row[2] = _wrapped(q1), _wrapped(q2), _wrapped(q3)
                    row[3], row[4], row[5] = _wrapped(q4), _wrapped(q5), _wrapped(q6)
            continue
        # How far axis 6 leans from the parallel ones is what joint 5 makes of it.
        bx, by, bz = _by(w[0], c1, s1, w[1, 0], w[1, 1], w[1, 2])
        lean = x6 * bx + y6 * by + z6 * bz
        # The parallel direction as the pose sees it.
        u, v, t = m00 * bx + m10 * by + m20 * bz, m01 * bx + m11 * by + m21 * bz, m02 * bx + m12 * by + m22 * bz
        for wrist in range(2):
            q5 = _lean(w[4], w[5], w[1], lean, wrist)
            if math.isnan(q5):
                continue
            c5, s5 = math.cos(q5), math.sin(q5)
            x, y, z = _by(w[4], c5, -s5, w[1, 0], w[1, 1], w[1, 2])
            q6 = -_between(w[5], x, y, z, u, v, t)
            # A direction across the parallel axes after all but joints 5 and 6: how far 2, 3 and 4 turn together.
            d = shape.plane[0]
            x, y, z = _by(w[4], c5, -s5, d[0], d[1], d[2])
            x, y, z = turned(w[5], -q6, x, y, z)
            p, q, r = m00 * x + m01 * y + m02 * z, m10 * x + m11 * y + m12 * z, m20 * x + m21 * y + m22 * z
            p, q, r = _by(w[0], c1, -s1, p, q, r)
            whole = _between(w[1], d[0], d[1], d[2], p, q, r)
            x, y, z = shape.end[0] - shape.meet[0], shape.end[1] - shape.meet[1], shape.end[2] - shape.meet[2]
            x, y, z = turned(w[1], whole, x, y, z)
            for elbow in range(2):
                q2, q3 = _triangle(shape, hx + x, hy + y, hz + z, elbow)
                if math.isnan(q3):
                    continue
                same3 = w[2, 0] * w[1, 0] + w[2, 1] * w[1, 1] + w[2, 2] * w[1, 2]
                same4 = w[3, 0] * w[1, 0] + w[3, 1] * w[1, 1] + w[3, 2] * w[1, 2]
                row = out[4 * shoulder + 2 * elbow + wrist]
                third = q3 if same3 > 0 else -q3
                fourth = whole - q2 - q3
                row[0], row[1], row[2] = _wrapped(q1), _wrapped(q2), _wrapped(third)
                row[3], row[4], row[5] = _wrapped(fourth if same4 > 0 else -fourth), _wrapped(q5), _wrapped(q6)


@leaf
def measures(shape, q):
    """How far a posture is from a singular one: of shoulder, elbow and wrist, 0 where it is singular, at most 1."""
    w, o = shape.along, shape.origin
    a, b = shape.upper, shape.fore
    sense = 1.0 if w[2, 0] * w[1, 0] + w[2, 1] * w[1, 1] + w[2, 2] * w[1, 2] > 0 else -1.0
    now = math.atan2(a[0] * b[1] - a[1] * b[0], a[0] * b[0] + a[1] * b[1])
    elbow = abs(math.sin(sense * q[2] + now))
    bx, by, bz = turned(w[4], q[4], w[5, 0], w[5, 1], w[5, 2])
    x, y, z = w[3, 1] * bz - w[3, 2] * by, w[3, 2] * bx - w[3, 0] * bz, w[3, 0] * by - w[3, 1] * bx
    wrist = math.sqrt(x * x + y * y + z * z)
    x, y, z = shape.meet[0], shape.meet[1], shape.meet[2]
    if shape.three:
        x, y, z = turned_place(w[3], o[3], q[3], x, y, z)
    x, y, z = turned_place(w[2], o[2], q[2], x, y, z)
    x, y, z = turned_place(w[1], o[1], q[1], x, y, z)
    # The distance from axis 1, as it is seen along the parallel axes.
    p = w[0, 1] * w[1, 2] - w[0, 2] * w[1, 1]
    r = w[0, 2] * w[1, 0] - w[0, 0] * w[1, 2]
    s = w[0, 0] * w[1, 1] - w[0, 1] * w[1, 0]
    far = abs(p * (x - o[0, 0]) + r * (y - o[0, 1]) + s * (z - o[0, 2]))
    reach = math.hypot(a[0], a[1]) + math.hypot(b[0], b[1])
    return far / reach, elbow, wrist


@leaf
def one_joint_on(shape, angle, k, turn, place):
    """How what joint k carries stands, relative to all at 0, from what joint k − 1 carries: a place p comes to
    turn[k] · p + place[k]; (6, 3, 3), (6, 3)."""
    axis, origin = shape.along[k], shape.origin[k]
    c, s = math.cos(angle), math.sin(angle)
    # The columns of the joint's own turn, then where it takes the base's origin.
    ax, ay, az = _by(axis, c, s, 1.0, 0.0, 0.0)
    bx, by, bz = _by(axis, c, s, 0.0, 1.0, 0.0)
    dx, dy, dz = _by(axis, c, s, 0.0, 0.0, 1.0)
    x, y, z = _by(axis, c, s, origin[0], origin[1], origin[2])
    x, y, z = origin[0] - x, origin[1] - y, origin[2] - z
    for i in range(3):
        t0, t1, t2, at = 1.0 if i == 0 else 0.0, 1.0 if i == 1 else 0.0, 1.0 if i == 2 else 0.0, 0.0
        if k > 0:
            t0, t1, t2, at = turn[k - 1, i, 0], turn[k - 1, i, 1], turn[k - 1, i, 2], place[k - 1, i]
        place[k, i] = at + t0 * x + t1 * y + t2 * z
        turn[k, i, 0] = t0 * ax + t1 * ay + t2 * az
        turn[k, i, 1] = t0 * bx + t1 * by + t2 * bz
        turn[k, i, 2] = t0 * dx + t1 * dy + t2 * dz


@kernel(parallel=True, nogil=True)
def all_of(shape, turn, place):
    """Postures of poses (n, 3, 3), (n, 3): (n, 8, 6) radians."""
    n = len(place)
    found = np.empty((n, WAYS, 6))
    for i in prange(n):
        postures(shape, turn[i], place[i], found[i])
    return found


@kernel(nogil=True)
def measures_of(shape, values):
    """The measures of shoulder, elbow and wrist at values (n, 6) in radians, (n, 3)."""
    found = np.empty((len(values), 3))
    for i in range(len(values)):
        found[i, 0], found[i, 1], found[i, 2] = measures(shape, values[i])
    return found

"""How long motions take: trapezoidal speed profiles with slow-down at corners and look-ahead.

The speed at a corner is the one at which a circular rounding that leaves the corner by the machine's path tolerance
needs no more than the machine's acceleration: v² = a·ρ with ρ = δ·sin(θ/2)/(1 − sin(θ/2)), θ the angle between the
two motions. Entry speeds follow from a backward and a forward sweep (v² = u² + 2·a·s); each motion then runs up,
holds and runs down (standard kinematics of trapezoidal profiles).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.kernels import kernel
from fenrik.core.toolpath.model import Toolpath

FLATTEN_MM = 0.01


@dataclass(frozen=True)
class MotionLimits:
    """What a machine's drives allow."""

    rapid_mm_min: float = 20_000.0
    max_feed_mm_min: float = 10_000.0
    acceleration_mm_s2: float = 3000.0
    path_tolerance_mm: float = 0.02


def motion_times(path: Toolpath, limits: MotionLimits) -> Points:
    """Seconds for each motion of a path, (n,); the first row, where the path begins, takes none."""
    if len(path) == 0:
        return np.zeros(0)
    flat, source = path.flattened(FLATTEN_MM)
    speed = np.where(flat.feed > 0, np.minimum(flat.feed, limits.max_feed_mm_min), limits.rapid_mm_min) / 60.0
    seconds = _profile_times(
        np.ascontiguousarray(flat.point), speed, limits.acceleration_mm_s2, limits.path_tolerance_mm
    )
    return np.asarray(np.bincount(source, seconds, minlength=len(path)), dtype=np.float64) + path.dwell_s


@kernel
def _profile_times(point: np.ndarray, speed: np.ndarray, acceleration: float, tolerance: float) -> np.ndarray:
    n = len(point)
    length = np.zeros(n)
    corner = np.zeros(n + 1)
    ux = uy = uz = 0.0
    last = -1
    for i in range(1, n):
        dx, dy, dz = point[i, 0] - point[i - 1, 0], point[i, 1] - point[i - 1, 1], point[i, 2] - point[i - 1, 2]
        size = np.sqrt(dx * dx + dy * dy + dz * dz)
        length[i] = size
        if size < 1e-12:
            corner[i] = corner[i - 1] if last < 0 else min(speed[last], speed[i])
            continue
        dx, dy, dz = dx / size, dy / size, dz / size
        if last >= 0:
            # sin(θ/2) from the turn between the directions: θ = π means straight on.
            cosine = -(ux * dx + uy * dy + uz * dz)
            half = np.sqrt(max(0.5 * (1.0 - cosine), 0.0))
            limit = np.inf if half > 1.0 - 1e-9 else np.sqrt(acceleration * tolerance * half / (1.0 - half))
            corner[i] = min(limit, speed[i], speed[last])
        ux, uy, uz = dx, dy, dz
        last = i
    for i in range(n - 1, 0, -1):
        corner[i] = min(corner[i], np.sqrt(corner[i + 1] ** 2 + 2.0 * acceleration * length[i]))
    out = np.zeros(n)
    for i in range(1, n):
        u = corner[i]
        corner[i + 1] = min(corner[i + 1], np.sqrt(u * u + 2.0 * acceleration * length[i]))
        w, top, s = corner[i + 1], max(speed[i], u), length[i]
        if s <= 0.0:
            continue
        peak = min(top, np.sqrt(acceleration * s + 0.5 * (u * u + w * w)))
        up, down = (peak * peak - u * u) / (2 * acceleration), (peak * peak - w * w) / (2 * acceleration)
        out[i] = (peak - u) / acceleration + (peak - w) / acceleration + max(s - up - down, 0.0) / max(peak, 1e-9)
    return out

"""Numba kernels on profile elements: height, slope, and the lowest point of a profile along a line.

Rows are indexed, never sliced: views cost more than the arithmetic.

`lowest_along` is the heart of both contact and removal. Dropping a tool on an edge asks for the highest tip at
which the edge still touches the profile; the trace of a tool moving along a line asks for the lowest point of the
profile above a place. Both are the minimum over s of  m·s + h(√(d² + s²)),  a convex function of s because h is
convex and does not fall, so its one stationary point is the answer.
"""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import leaf

INF = np.inf


@leaf
def element_height(profile: np.ndarray, i: int, rho: float) -> float:
    """h(ρ) on element i, without asking whether ρ belongs to it."""
    if profile[i, 2] == 0.0:
        return profile[i, 3] + profile[i, 4] * (rho - profile[i, 0])
    q = profile[i, 7] * profile[i, 7] - (rho - profile[i, 5]) ** 2
    return profile[i, 6] - np.sqrt(q) if q > 0.0 else profile[i, 6]


@leaf
def height(profile: np.ndarray, rho: float) -> float:
    """h(ρ); infinite outside the profile."""
    for i in range(profile.shape[0]):
        if rho <= profile[i, 1]:
            return element_height(profile, i, rho)
    return INF


@leaf
def radius_at(profile: np.ndarray, zeta: float) -> float:
    """Radius of the body at height ζ above the tip; negative below the profile."""
    best = -1.0
    for i in range(profile.shape[0]):
        low, high = element_height(profile, i, profile[i, 0]), element_height(profile, i, profile[i, 1])
        if zeta < low:
            break
        if zeta >= high:
            best = profile[i, 1]
        elif profile[i, 2] == 0.0:
            best = profile[i, 0] + (zeta - profile[i, 3]) / profile[i, 4]
        else:
            q = profile[i, 7] * profile[i, 7] - (profile[i, 6] - zeta) ** 2
            best = profile[i, 5] + (np.sqrt(q) if q > 0.0 else 0.0)
    return best


@leaf
def slope_at(profile: np.ndarray, rho: float) -> float:
    """dh/dρ just inside ρ; very large at a vertical wall."""
    for i in range(profile.shape[0]):
        if rho <= profile[i, 1]:
            if profile[i, 2] == 0.0:
                return profile[i, 4]
            q = profile[i, 7] * profile[i, 7] - (rho - profile[i, 5]) ** 2
            return (rho - profile[i, 5]) / np.sqrt(q) if q > 1e-18 else 1e9
    return 1e9


@leaf
def radius_for_slope(profile: np.ndarray, slope: float, upper: bool) -> float:
    """ρ where the profile has a slope; the least such ρ, or with `upper` the greatest."""
    rho = 0.0
    for i in range(profile.shape[0]):
        if profile[i, 2] == 0.0:
            if profile[i, 4] < slope or (upper and profile[i, 4] <= slope):
                rho = profile[i, 1]
            else:
                return profile[i, 0]
        else:
            start = (profile[i, 0] - profile[i, 5]) / np.sqrt(
                max(profile[i, 7] * profile[i, 7] - (profile[i, 0] - profile[i, 5]) ** 2, 1e-300)
            )
            if slope <= start:
                return profile[i, 0]
            if np.isinf(slope):
                rho = profile[i, 1]
                continue
            at = profile[i, 5] + profile[i, 7] * slope / np.sqrt(1.0 + slope * slope)
            if at < profile[i, 1]:
                return at
            rho = profile[i, 1]
    return rho


@leaf
def _arc_stationary(profile: np.ndarray, i: int, d: float, steep: float, s_low: float, s_high: float) -> float:
    """s in [s_low, s_high] where h'(ρ)·s/ρ = steep on an arc element whose centre is off the axis.

    With ρ = c + r·sin ψ the condition is sin ψ·√(1 − (d/ρ)²) = steep·cos ψ; solved by Newton inside a bracket.
    """
    c, r = profile[i, 5], profile[i, 7]
    rho_low, rho_high = np.sqrt(d * d + s_low * s_low), np.sqrt(d * d + s_high * s_high)
    low = np.arcsin(min(max((rho_low - c) / r, -1.0), 1.0))
    high = np.arcsin(min(max((rho_high - c) / r, -1.0), 1.0))
    psi = min(max(np.arctan(steep), low), high)
    for _ in range(60):
        rho = c + r * np.sin(psi)
        w2 = 1.0 - (d / rho) ** 2 if rho > d else 0.0
        w = np.sqrt(w2) if w2 > 0.0 else 0.0
        f = np.sin(psi) * w - steep * np.cos(psi)
        if f > 0.0:
            high = psi
        else:
            low = psi
        slope = np.cos(psi) * w + steep * np.sin(psi)
        if w > 1e-12:
            slope += np.sin(psi) * (d * d / rho**3) * r * np.cos(psi) / w
        step = psi - f / slope if slope > 1e-300 else 0.5 * (low + high)
        if not (low < step < high):
            step = 0.5 * (low + high)
        if abs(step - psi) < 1e-14:
            psi = step
            break
        psi = step
    rho = c + r * np.sin(psi)
    s2 = rho * rho - d * d
    return np.sqrt(s2) if s2 > 0.0 else 0.0


@leaf
def lowest_along(profile: np.ndarray, d2: float, m: float, s0: float, s1: float) -> tuple[float, float]:
    """Minimum over s in [s0, s1] of m·s + h(√(d2 + s²)), and the s where it is taken.

    Args:
        profile: (n, 8) elements.
        d2: square of the distance from the axis to the line.
        m: slope of the line.
        s0, s1: stretch of the line, s counted from the foot of the axis.

    Returns:
        (value, s); the value is infinite where the line never comes under the profile.
    """
    big = profile[profile.shape[0] - 1, 1]
    r2 = big * big - d2
    if r2 < 0.0:
        return INF, 0.0
    s_max = np.sqrt(r2)
    low, high = max(s0, -s_max), min(s1, s_max)
    if low > high:
        return INF, 0.0
    steep = abs(m)
    if profile.shape[0] == 1 and profile[0, 2] == 1.0 and profile[0, 5] == 0.0:
        # A ball: the section beside its middle is a circle of radius s_max (or wider, where it ends early).
        r2 = profile[0, 7] * profile[0, 7] - d2
        at = -m * np.sqrt(r2 / (1.0 + m * m))
        at = min(max(at, low), high)
        q = r2 - at * at
        return m * at + profile[0, 6] - (np.sqrt(q) if q > 0.0 else 0.0), at
    d = np.sqrt(d2)
    at = s_max
    s_start = 0.0
    for i in range(profile.shape[0]):
        if profile[i, 1] <= d:
            continue
        s_end = np.sqrt(max(profile[i, 1] * profile[i, 1] - d2, 0.0))
        rho_start = max(profile[i, 0], d)
        if profile[i, 2] == 0.0:
            k = profile[i, 4]
            lead = s_start / rho_start if rho_start > 0.0 else 1.0
            if k * lead >= steep:
                at = s_start
                break
            if k * s_end >= steep * profile[i, 1]:
                q = steep / k
                at = d * q / np.sqrt(max(1.0 - q * q, 1e-300))
                break
        else:
            reach = profile[i, 7] * profile[i, 7] - (profile[i, 1] - profile[i, 5]) ** 2
            steep_end = (
                INF if reach <= 0.0 else (profile[i, 1] - profile[i, 5]) / np.sqrt(reach) * s_end / profile[i, 1]
            )
            reach0 = profile[i, 7] * profile[i, 7] - (rho_start - profile[i, 5]) ** 2
            steep_start = 0.0
            if rho_start > 0.0 and reach0 > 0.0:
                steep_start = (rho_start - profile[i, 5]) / np.sqrt(reach0) * s_start / rho_start
            if steep_start >= steep:
                at = s_start
                break
            if steep_end >= steep:
                if profile[i, 5] == 0.0:
                    at = steep * np.sqrt(max(profile[i, 7] * profile[i, 7] - d2, 0.0)) / np.sqrt(1.0 + steep * steep)
                else:
                    at = _arc_stationary(profile, i, d, steep, s_start, s_end)
                break
        s_start = s_end
    if m > 0.0:
        at = -at
    at = min(max(at, low), high)
    rho = np.sqrt(d2 + at * at)
    return m * at + height(profile, min(rho, big)), at

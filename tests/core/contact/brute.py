"""Plain NumPy reference for tip heights: every triangle, edge and vertex, by dense sampling of the tool's contact."""

import numpy as np


def profile_height(rho, radius, corner):
    """Height of a bull-nose (flat, ball) end above its tip."""
    rho = np.asarray(rho, float)
    flat = radius - corner
    out = np.zeros_like(rho)
    arc = rho > flat
    out[arc] = corner - np.sqrt(np.maximum(corner**2 - (rho[arc] - flat) ** 2, 0))
    out[rho > radius + 1e-12] = np.inf
    return out


def drop_brute(triangles, x, y, radius, corner):
    """Highest tip over all triangles: facets and vertices in closed form, edges by golden-section search."""
    best = -np.inf
    for tri in triangles:
        best = max(best, _facet(tri, x, y, radius, corner))
        for k in range(3):
            p, q = tri[k], tri[(k + 1) % 3]
            best = max(best, p[2] - float(profile_height(np.hypot(x - p[0], y - p[1]), radius, corner)))
            best = max(best, _edge(p, q, x, y, radius, corner))
    return best


def _facet(tri, x, y, radius, corner):
    n = np.cross(tri[1] - tri[0], tri[2] - tri[0])
    n /= np.linalg.norm(n)
    if n[2] < 1e-9:
        return -np.inf
    flat = np.hypot(n[0], n[1])
    # The point of the tool whose outward normal is -n: on the torus of the corner.
    side = n[:2] / flat if flat > 1e-12 else np.zeros(2)
    contact = np.array([x, y]) - side * (radius - corner) - corner * n[:2]
    z = tri[0][2] - (n[0] * (contact[0] - tri[0][0]) + n[1] * (contact[1] - tri[0][1])) / n[2]
    a, b, c = (t[:2] for t in tri)
    sides = [(u[0] * v[1] - u[1] * v[0]) for u, v in ((b - a, contact - a), (c - b, contact - b), (a - c, contact - c))]
    if min(sides) < -1e-12:
        return -np.inf
    return z - (corner - corner * n[2])


def _edge(p, q, x, y, radius, corner):
    def tip(t):
        point = p + (q - p) * t
        rho = np.hypot(x - point[0], y - point[1])
        return point[2] - (profile_height(np.minimum(rho, radius), radius, corner) if rho <= radius else np.inf)

    d = (q - p)[:2]
    a, b, c = d @ d, 2 * d @ (p[:2] - [x, y]), (p[:2] - [x, y]) @ (p[:2] - [x, y]) - radius**2
    disc = b * b - 4 * a * c
    if a < 1e-18 or disc < 0:
        return -np.inf
    low, high = max(0.0, (-b - disc**0.5) / (2 * a)), min(1.0, (-b + disc**0.5) / (2 * a))
    if low > high:
        return -np.inf
    low, high = low + 1e-14, high - 1e-14
    best = max(tip(low), tip(high))
    g = (5**0.5 - 1) / 2
    for _ in range(80):
        u, v = high - g * (high - low), low + g * (high - low)
        if tip(u) > tip(v):
            high = v
        else:
            low = u
    return max(best, tip((low + high) / 2))

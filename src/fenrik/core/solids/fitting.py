"""Cylinders and cones under patches of triangles, and circles under chains of their edges.

The normals of a cylinder's facets lie in a plane across its axis, those of a cone on a circle about it: the axis is the
direction in which they are spread least (principal components). The facets of a cone all pass through its apex, and
the corners of both lie on the true surface; what they do not lie on within a tolerance is not taken for one.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.optimize import leastsq

from fenrik.core.frames import Points, flatten, plane_axes

NEAR_MM, NEAR_SHARE = 1e-3, 2e-4
"""How far corners may lie beside a fitted surface: so much, and such a share of its radius."""
MOST_SPREAD, LEAST_SPREAD = 2e-3, 3e-3
ROUGHLY = 0.1
"""How far off the first guess may be, as a share of the radius."""
LEAST_SPAN_DEG, MOST_TRIES = 15.0, 300
SNAP = 1 - 5e-9
UPRIGHT = 0.02
"""Cosine between axis and normals under which a patch is a cylinder."""
LEAST_FACETS, LEAST_OF_CONE, LEAST_CIRCLE = 3, 6, 4
"""Facets that look different ways of a cylinder and of a cone (any few lie on some cone), and sides of a circle."""


@dataclass(frozen=True)
class Round:
    """A cylinder (`half_angle_deg` 0) or a cone.

    Attributes:
        axis: unit vector. origin: a place on the axis; the apex of a cone. radius_mm: 0 for a cone.
        concave: the material lies outside. span_deg: how far it goes round.
    """

    axis: Points
    origin: Points
    radius_mm: float
    half_angle_deg: float
    concave: bool
    span_deg: float


def fit_round(corners: Points) -> Round | None:
    """The cylinder or cone whose facets some triangles (n, 3, 3) are; None where they are of none."""
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(cross, axis=1)
    normals = cross / size[:, None]
    mean = size @ normals / size.sum()
    spread, ways = np.linalg.eigh((normals - mean).T @ ((normals - mean) * size[:, None]) / size.sum())
    if spread[0] > MOST_SPREAD or spread[1] < LEAST_SPREAD * spread[2]:
        return None
    facets = len(np.unique(np.round(normals, 3), axis=0))
    if facets < LEAST_FACETS:
        return None
    axis = ways[:, 0]
    leans = float(size @ (normals @ axis) / size.sum())
    places = np.unique(corners.reshape(-1, 3), axis=0)
    found = _cylinder(places, axis) if abs(leans) < UPRIGHT else None
    if found is None and facets >= LEAST_OF_CONE:
        apex = np.linalg.lstsq(
            normals * size[:, None], size * np.einsum("ij,ij->i", normals, corners[:, 0]), rcond=None
        )
        found = _cone(places, axis, apex[0])
    if found is None or found.span_deg < LEAST_SPAN_DEG:
        return None
    away = corners.mean(axis=1) - found.origin
    away -= (away @ found.axis)[:, None] * found.axis
    return replace(found, concave=bool(np.sum(size * np.einsum("ij,ij->i", away, normals)) < 0))


def _cylinder(places: Points, axis: Points) -> Round | None:
    """The cylinder nearest to places, begun from an axis."""
    x, y = plane_axes(axis)
    middle, radius = circle_through(flatten(places, axis))
    first = middle[0] * x + middle[1] * y

    def off(v: Points) -> Points:
        way = axis + v[0] * x + v[1] * y
        way = way / np.linalg.norm(way)
        away = places - (first + v[2] * x + v[3] * y)
        return np.linalg.norm(away - (away @ way)[:, None] * way, axis=1) - v[4]

    start = np.array([0.0, 0, 0, 0, radius])
    if np.abs(off(start)).max() > ROUGHLY * radius:
        return None
    v = leastsq(off, start, full_output=True, maxfev=MOST_TRIES)[0] if len(places) >= len(start) else start
    if np.abs(off(v)).max() > NEAR_MM + NEAR_SHARE * v[4]:
        return None
    way, origin = _snapped(axis + v[0] * x + v[1] * y), first + v[2] * x + v[3] * y
    return Round(way, origin, float(v[4]), 0.0, False, span_of(flatten(places - origin, way)))


def _cone(places: Points, axis: Points, apex: Points) -> Round | None:
    """The cone nearest to places, begun from an axis and an apex."""
    x, y = plane_axes(axis)

    def off(v: Points) -> Points:
        way = axis + v[0] * x + v[1] * y
        way = way / np.linalg.norm(way)
        away = places - (apex + v[2:5])
        along = away @ way
        return np.linalg.norm(away - along[:, None] * way, axis=1) * np.cos(v[5]) - np.abs(along) * np.sin(v[5])

    along = (places - apex) @ axis
    radius = np.linalg.norm(places - apex - along[:, None] * axis, axis=1)
    start = np.array([0.0, 0, 0, 0, 0, np.arctan(np.abs(along) @ radius / max(float(along @ along), 1e-300))])
    if np.abs(off(start)).max() > ROUGHLY * radius.max():
        return None
    v = leastsq(off, start, full_output=True, maxfev=MOST_TRIES)[0]
    if np.abs(off(v)).max() > NEAR_MM + NEAR_SHARE * radius.max():
        return None
    way, tip, half = _snapped(axis + v[0] * x + v[1] * y), apex + v[2:5], float(np.rad2deg(v[5]))
    along = (places - tip) @ way
    both = along.min() < -NEAR_MM and along.max() > NEAR_MM  # sides of its apex
    if both or not 1.0 < half < 89.0:
        return None
    return Round(way, tip, 0.0, half, False, span_of(flatten(places - tip, way)[radius > NEAR_MM]))


def _snapped(axis: Points) -> Points:
    """A direction, or the coordinate axis that it is but for rounding."""
    axis = axis / np.linalg.norm(axis)
    k = int(np.abs(axis).argmax())
    return np.eye(3)[k] if abs(axis[k]) > SNAP else np.asarray(axis * np.sign(axis[k]))


def span_of(places: Points) -> float:
    """How far places (n, 2) go round the origin, deg; a full turn where no gap between them is wider than others."""
    turn = np.sort(np.unique(np.round(np.arctan2(places[:, 1], places[:, 0]), 7)))
    if len(turn) < 2:
        return 0.0
    gaps = np.diff(np.append(turn, turn[0] + 2 * np.pi))
    widest = float(gaps.max())
    others = np.delete(gaps, gaps.argmax())
    return 360.0 if widest < 1.25 * float(others.max()) else float(np.rad2deg(2 * np.pi - widest))


def circle_through(places: Points) -> tuple[Points, float]:
    """Middle and radius of the circle nearest to places (n, 2), by least squares on x² + y² = 2ax + 2by + c (Kåsa,
    1976)."""
    shift = places.mean(axis=0)
    near = places - shift
    known = np.column_stack([2 * near, np.ones(len(near))])
    a, b, c = np.linalg.lstsq(known, np.einsum("ij,ij->i", near, near), rcond=None)[0]
    return np.array([a, b]) + shift, float(np.sqrt(max(c + a * a + b * b, 0.0)))


def fit_circle(line: Points) -> tuple[Points, float, Points] | None:
    """Centre, radius and axis of the circle that a polyline (n, 3) follows; None where it follows none."""
    if len(line) <= LEAST_CIRCLE:
        return None
    mean = line.mean(axis=0)
    _, size, ways = np.linalg.svd(line - mean, full_matrices=False)
    axis = _snapped(ways[2])
    if np.abs((line - mean) @ axis).max() > NEAR_MM or size[1] < 1e-6 * size[0]:
        return None
    x, y = plane_axes(axis)
    flat = flatten(line - mean, axis)
    middle, radius = circle_through(flat)
    if np.abs(np.linalg.norm(flat - middle, axis=1) - radius).max() > NEAR_MM + NEAR_SHARE * radius:
        return None
    return mean + middle[0] * x + middle[1] * y, radius, axis

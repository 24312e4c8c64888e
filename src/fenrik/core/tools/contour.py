"""The contour of a tool of revolution as lines and arcs, from its tip up: one description for drawing and cutting."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np

from fenrik.core.frames import Points


@dataclass(frozen=True)
class Piece:
    """A line, or an arc bulging outwards, from (r0, z0) to (r1, z1); `centre` is that of the arc.

    `inward` marks an arc that is hollow (its centre lies outside the body).
    """

    r0: float
    z0: float
    r1: float
    z1: float
    centre: tuple[float, float] | None = None
    inward: bool = False

    @property
    def radius(self) -> float:
        assert self.centre is not None
        return math.hypot(self.r0 - self.centre[0], self.z0 - self.centre[1])


def line_through(*points: tuple[float, float]) -> list[Piece]:
    """Straight pieces through places (radius, height); pieces without length are left out."""
    return [Piece(*p, *q) for p, q in itertools.pairwise(points) if math.dist(p, q) > 1e-12]


def corner_arc(radius: float, corner: float, height: float = 0.0) -> list[Piece]:
    """The rounded end of a cylinder standing at a height: flat, then a quarter arc up to the side."""
    flat = radius - corner
    pieces = line_through((0.0, height), (flat, height))
    if corner > 0:
        pieces.append(Piece(flat, height, radius, height + corner, (flat, height + corner)))
    return pieces


def flatten_contour(pieces: list[Piece], step_deg: float = 7.5) -> list[tuple[float, float]]:
    """The contour as places (radius, height), arcs in steps."""
    if not pieces:
        return []
    places = [(pieces[0].r0, pieces[0].z0)]
    for p in pieces:
        if p.centre is not None:
            a0 = math.atan2(p.z0 - p.centre[1], p.r0 - p.centre[0])
            a1 = math.atan2(p.z1 - p.centre[1], p.r1 - p.centre[0])
            sweep = (a1 - a0) % (2 * math.pi) if not p.inward else -((a0 - a1) % (2 * math.pi))
            count = max(int(abs(math.degrees(sweep)) / step_deg), 1)
            for k in range(1, count):
                angle = a0 + sweep * k / count
                places.append((p.centre[0] + p.radius * math.cos(angle), p.centre[1] + p.radius * math.sin(angle)))
        places.append((p.r1, p.z1))
    return places


@dataclass(frozen=True)
class ConvexBody:
    """A stretch of a contour as a convex body: elements of growing slope, closed above at `top_mm`."""

    elements: Points
    radius_mm: float
    top_mm: float


LINE, ARC = 0.0, 1.0


def convex_bodies(pieces: list[Piece]) -> tuple[list[ConvexBody], bool]:
    """A contour as a stack of convex bodies that together are the tool, and whether something is left out.

    A contour that goes straight up and then further outwards begins a new body; where it turns inwards (a lollipop's
    upper half, a dovetail's sides) the rest cannot be described by its lower side, and is left out.
    """
    bodies: list[ConvexBody] = []
    rows: list[list[float]] = []
    at = (0.0, 0.0)

    def close(top: float) -> None:
        if rows:
            bodies.append(ConvexBody(np.array(rows), rows[-1][1], top))
            rows.clear()

    for p in pieces:
        if p.r1 < p.r0 - 1e-12 or p.inward:
            close(p.z0)
            return bodies, True
        if abs(p.r1 - p.r0) <= 1e-12:
            close(p.z1)
        else:
            if not rows and p.r0 > 1e-12:
                rows.append([0.0, p.r0, LINE, p.z0, 0.0, 0.0, 0.0, 0.0])
            if p.centre is None:
                rows.append([p.r0, p.r1, LINE, p.z0, (p.z1 - p.z0) / (p.r1 - p.r0), 0.0, 0.0, 0.0])
            else:
                rows.append([p.r0, p.r1, ARC, 0.0, 0.0, p.centre[0], p.centre[1], p.radius])
        at = (p.r1, p.z1)
    close(at[1])
    return bodies, False


def grown_elements(elements: Points, offset: float) -> Points:
    """The elements of a convex body grown by an offset on its lower side and rim; its tip is put back to 0.

    Lines and arcs move along their normals; an arc of the offset's radius goes round every corner.
    """
    if offset <= 0:
        return elements
    rows: list[list[float]] = []
    last = (0.0, -1.0)  # the normal at the axis points straight down
    at = (0.0, float(_height(elements[0], 0.0)))

    def round_corner(to: tuple[float, float]) -> None:
        r0, r1 = at[0] + offset * last[0], at[0] + offset * to[0]
        if r1 - r0 > 1e-12:
            rows.append([r0, r1, ARC, 0.0, 0.0, at[0], at[1] + offset, offset])

    for e in elements:
        normals = _normal(e, e[0]), _normal(e, e[1])
        round_corner(normals[0])
        r0, r1 = e[0] + offset * normals[0][0], e[1] + offset * normals[1][0]
        if e[2] == LINE:
            h0 = e[3] + offset * normals[0][1] + offset
            rows.append([r0, r1, LINE, h0, e[4], 0.0, 0.0, 0.0])
        else:
            rows.append([r0, r1, ARC, 0.0, 0.0, e[5], e[6] + offset, e[7] + offset])
        last, at = normals[1], (float(e[1]), float(_height(e, e[1])))
    round_corner((1.0, 0.0))
    return np.array(rows)


def _height(e: Points, rho: float) -> float:
    if e[2] == LINE:
        return float(e[3] + e[4] * (rho - e[0]))
    return float(e[6] - math.sqrt(max(e[7] ** 2 - (rho - e[5]) ** 2, 0.0)))


def _normal(e: Points, rho: float) -> tuple[float, float]:
    """Outward normal of an element in the plane of radius and height."""
    if e[2] == LINE:
        size = math.hypot(e[4], 1.0)
        return float(e[4] / size), -1.0 / size
    x = (rho - e[5]) / e[7]
    return float(x), -math.sqrt(max(1.0 - x * x, 0.0))

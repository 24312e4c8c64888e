"""The contour of a tool of revolution as lines and arcs, from its tip up: one description for drawing and cutting."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass


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

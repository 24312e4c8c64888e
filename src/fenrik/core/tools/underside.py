"""The underside of a body of revolution: what a tool that is dropped from above touches with.

The underside gives the height h(ρ) of the body's lowest point at distance ρ from the axis, for ρ from 0 to R, as a
chain of line and arc elements of growing slope. A body whose lower side is no such chain (a centre drill, a thread
mill with many rows) has several; the tip then stands at the highest of the heights that they ask for.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.tools.profile import ARC, LINE, SAME_MM, Profile

COLUMNS = 8
"""Columns of an element: ρ from, ρ to, kind, h at ρ from, slope, arc centre ρ, arc centre h, arc radius."""


@dataclass(frozen=True)
class Underside:
    """Attributes:
    elements: (n, 8) float64; see `COLUMNS`.
    radius_mm: R, where it ends.
    """

    elements: Points
    radius_mm: float

    def grown(self, offset_mm: float) -> Underside:
        """The same grown on all sides, its tip put back to 0: it touches where the body comes within the offset."""
        if offset_mm <= 0:
            return self
        return Underside(_grown(self.elements, offset_mm), self.radius_mm + offset_mm)


def underside_of(profile: Profile, offset_mm: float = 0.0) -> Underside:
    """The one underside of a profile, grown by an offset on all sides (its tip put back to 0) for an allowance.

    Raises:
        FenrikError: for a body whose lower side is no single convex chain.
    """
    found = undersides_of(profile)
    if len(found) != 1:
        raise fail(
            "tool.cutter",
            "has an end that is not a single convex body, which this strategy cannot use.",
            "Choose a flat, ball, bull-nose, tapered, chamfer or barrel cutter, or a drill.",
        )
    return found[0].grown(offset_mm)


def undersides_of(profile: Profile) -> list[Underside]:
    """The lower side of a profile as convex chains."""
    chains: list[list[list[float]]] = []
    reach, end_z, end_slope = 0.0, -math.inf, math.inf
    for band in profile.bands:
        start = max(float(band[2]), reach)
        for row in _outward(band, start):
            z, slope = _height(row, row[0]), _slope(row, row[0])
            joined = (
                bool(chains) and abs(z - end_z) <= SAME_MM and slope >= end_slope - 1e-9 and row[0] <= reach + SAME_MM
            )
            if not joined:
                chains.append([[0.0, row[0], LINE, z, 0.0, 0.0, 0.0, 0.0]] if row[0] > SAME_MM else [])
            chains[-1].append(row)
            reach, end_z, end_slope = row[1], _height(row, row[1]), _slope(row, row[1])
        if float(band[2]) > reach + SAME_MM:
            # It jumps outwards, and goes straight up or inwards from there.
            chains.append([[0.0, float(band[2]), LINE, float(band[0]), 0.0, 0.0, 0.0, 0.0]])
            reach, end_z, end_slope = float(band[2]), math.inf, math.inf
    return [Underside(np.array(rows), rows[-1][1]) for rows in chains]


def _outward(band: Points, start: float) -> list[list[float]]:
    """The stretch of a band that widens upwards beyond a radius, as an element."""
    z0, z1, r0, r1 = (float(v) for v in band[:4])
    if band[4] == LINE:
        if r1 <= start + SAME_MM:
            return []
        slope = (z1 - z0) / (r1 - r0)
        return [[start, r1, LINE, z0 + slope * (start - r0), slope, 0.0, 0.0, 0.0]]
    widest = float(band[5] + band[7]) if z1 >= band[6] else r1
    if widest <= start + SAME_MM or z0 >= band[6]:
        return []
    return [[start, widest, ARC, 0.0, 0.0, *(float(v) for v in band[5:8])]]


def _grown(elements: Points, offset: float) -> Points:
    """The elements of a convex underside grown by an offset on its lower side and rim; its tip is put back to 0.

    Lines and arcs move along their normals; an arc of the offset's radius goes round every corner.
    """
    rows: list[list[float]] = []
    last = (0.0, -1.0)  # the normal at the axis points straight down
    at = (0.0, _height(elements[0], 0.0))

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
        last, at = normals[1], (float(e[1]), _height(e, e[1]))
    round_corner((1.0, 0.0))
    return np.array(rows)


def _height(e: Points | list[float], rho: float) -> float:
    if e[2] == LINE:
        return float(e[3] + e[4] * (rho - e[0]))
    return float(e[6] - math.sqrt(max(e[7] ** 2 - (rho - e[5]) ** 2, 0.0)))


def _slope(e: Points | list[float], rho: float) -> float:
    if e[2] == LINE:
        return float(e[4])
    x = rho - e[5]
    return float(x / math.sqrt(max(e[7] ** 2 - x * x, 1e-300)))


def _normal(e: Points, rho: float) -> tuple[float, float]:
    """Outward normal of an element in the plane of radius and height."""
    if e[2] == LINE:
        size = math.hypot(e[4], 1.0)
        return float(e[4] / size), -1.0 / size
    x = (rho - e[5]) / e[7]
    return float(x), -math.sqrt(max(1.0 - x * x, 0.0))

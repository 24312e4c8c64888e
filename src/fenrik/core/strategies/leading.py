"""Ways onto a pass and off it: arcs or lines that touch nothing, tangent to the pass."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np
import shapely
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.frames import Points
from fenrik.core.sketches import Curve
from fenrik.core.sketches.curve import arc_of
from fenrik.core.units import LEAST_STEP_MM

Side = Literal["left", "right"]
LEAST_LEAD_MM = 0.05
SHRINK = 0.7
LEAST_CORNER = np.deg2rad(10)


class LeadParams(BaseModel):
    """How a pass is entered and left."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "lead_percent",
        "lead_deg",
        "overlap_mm",
    )

    model_config = ConfigDict(extra="forbid")
    lead: Literal["arc", "line", "none"] = Field(default="arc", title="Entry and exit")
    lead_percent: float = Field(
        default=25.0,
        ge=1,
        le=500,
        title="Entry size",
        description="Radius or length, as a share of the tool's diameter",
        json_schema_extra={"unit": "%"},
    )
    lead_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=500,
        title="Entry size in mm",
        description="In place of the share",
        json_schema_extra={"unit": "mm"},
    )
    lead_deg: float = Field(
        default=90.0, gt=0, le=180, title="Entry angle", description="Sweep of the arc, slope of the line",
        json_schema_extra={"unit": "deg"},
    )  # fmt: skip
    overlap_mm: float = Field(
        default=1.0,
        ge=0,
        le=100,
        title="Overlap",
        description="How far a closed pass goes past its start, so that no mark is left",
        json_schema_extra={"unit": "mm"},
    )

    def lead_size(self, diameter_mm: float) -> float:
        """Radius or length of the ways in and out of a tool."""
        return self.lead_mm if self.lead_mm is not None else self.lead_percent / 100 * diameter_mm


@dataclass(frozen=True)
class Ways:
    """A pass with its ways in and out, ready to be followed."""

    first: Curve | None
    run: Curve
    last: Curve | None

    @property
    def begin(self) -> Points:
        return (self.run if self.first is None else self.first).points[0]

    def lines(self, within_mm: float) -> list[Points]:
        """All of it as lines (n, 2)."""
        return [c.flattened(within_mm) for c in (self.first, self.run, self.last) if c is not None]


def start_direction(curve: Curve) -> Points:
    """Unit direction in which a curve begins."""
    return _direction(*curve.stretches[0], at_end=False)


def end_direction(curve: Curve) -> Points:
    """Unit direction in which a curve ends."""
    return _direction(*curve.stretches[-1], at_end=True)


def _direction(a: Points, b: Points, bulge: float, at_end: bool) -> Points:
    if not bulge:
        return (b - a) / np.linalg.norm(b - a)
    centre, _, _, sweep = arc_of(a, b, bulge)
    away = (b if at_end else a) - centre
    turned = np.array([-away[1], away[0]]) * (1.0 if sweep > 0 else -1.0)
    return np.asarray(turned / np.linalg.norm(turned))


def lead_in(
    curve: Curve, size: float, angle_deg: float, ground: Any, side: Side, straight: bool = False
) -> Curve | None:
    """A way that ends tangent where a curve begins, as large as fits in the ground up to `size`; None: none fits.

    Args:
        ground: prepared Shapely area that it must stay in; None: anywhere.
        side: the side without material.
    """
    return _fit(curve.points[0], start_direction(curve), size, angle_deg, ground, side, straight, into=True)


def lead_out(
    curve: Curve, size: float, angle_deg: float, ground: Any, side: Side, straight: bool = False
) -> Curve | None:
    """A way off the end of a curve; see `lead_in`."""
    end = curve.points[0] if curve.closed else curve.points[-1]
    return _fit(end, end_direction(curve), size, angle_deg, ground, side, straight, into=False)


def run_on(curve: Curve, length: float, ground: Any) -> Curve:
    """An open curve that runs straight on past both its ends, as far as the ground allows."""
    ends = [(curve.points[0], -start_direction(curve)), (curve.points[-1], end_direction(curve))]
    first, last = (_room(at, way, length, ground) for at, way in ends)
    points, bulges = curve.points, curve.bulges
    if first > LEAST_LEAD_MM:
        points, bulges = np.vstack([points[0] + first * ends[0][1], points]), np.append(0.0, bulges)
    if last > LEAST_LEAD_MM:
        points, bulges = np.vstack([points, points[-1] + last * ends[1][1]]), np.append(bulges, 0.0)
    return Curve(points, bulges)


def straight_on(curve: Curve, length: float, ground: Any, into: bool) -> Curve | None:
    """A way in (or out) with a straight piece before (or behind) it; None where there is no room for that."""
    at, way = (curve.points[0], -start_direction(curve)) if into else (curve.points[-1], end_direction(curve))
    if _room(at, way, length, ground) < length:
        return None
    other = at + length * way
    if into:
        return Curve(np.vstack([other, curve.points]), np.append(0.0, curve.bulges))
    return Curve(np.vstack([curve.points, other]), np.append(curve.bulges, 0.0))


def _room(at: Points, way: Points, length: float, ground: Any) -> float:
    """How far one can go straight on, at most `length`, where the ground (None: anywhere) allows it."""
    while length > LEAST_LEAD_MM:
        if ground is None or ground.covers(shapely.LineString([at, at + length * way])):
            return length
        length *= SHRINK
    return 0.0


def with_loops(curve: Curve, size: float, ground: Any, side: Side) -> Curve:
    """An open curve that goes past its corners and comes back to them in a loop on its free side, so that they stay
    sharp and the tool never stops in them; a corner where the loop has no room stays as it is.

    Args:
        size: how far past the corner. side: the side without material.
    """
    points, bulges = [curve.points[0]], []
    for k, (_, end, bulge) in enumerate(curve.stretches):
        points.append(end)
        bulges.append(bulge)
        if k + 1 == len(curve.stretches):
            break
        u, v = _direction(*curve.stretches[k], at_end=True), _direction(*curve.stretches[k + 1], at_end=False)
        turn = float(np.arctan2(u[0] * v[1] - u[1] * v[0], u @ v))
        away = -turn if side == "left" else turn
        if not LEAST_CORNER < away < np.pi - LEAST_CORNER:
            continue
        sweep = -np.sign(turn) * (2 * np.pi - away)
        loop = Curve(
            np.array([end, end + size * u, end - size * v, end]), np.array([0.0, float(np.tan(sweep / 4)), 0.0])
        )
        if ground is None or ground.covers(shapely.LineString(loop.flattened(0.01))):
            points += list(loop.points[1:])
            bulges += loop.bulges.tolist()
    return Curve(np.array(points), np.array(bulges))


def _fit(
    at: Points, along: Points, size: float, angle_deg: float, ground: Any, side: Side, straight: bool, into: bool
) -> Curve | None:
    left = np.array([-along[1], along[0]]) * (1.0 if side == "left" else -1.0)
    while size >= LEAST_LEAD_MM:
        made = (
            _line(at, along, left, size, angle_deg, into) if straight else _arc(at, left, size, angle_deg, side, into)
        )
        if ground is None or ground.covers(shapely.LineString(made.flattened(0.01))):
            return made
        size *= SHRINK
    return None


def _arc(at: Points, off: Points, radius: float, sweep_deg: float, side: Side, into: bool) -> Curve:
    centre = at + radius * off
    turn = float(np.degrees(np.arctan2(*(at - centre)[::-1])))
    sign = 1.0 if side == "left" else -1.0
    return Curve.arc(centre, radius, turn - sign * sweep_deg if into else turn, sign * sweep_deg)


def _line(at: Points, along: Points, off: Points, length: float, angle_deg: float, into: bool) -> Curve:
    slope = np.deg2rad(angle_deg)
    way = np.cos(slope) * along * (-1.0 if into else 1.0) + np.sin(slope) * off
    other = at + length * way
    return Curve.polyline([other, at] if into else [at, other])

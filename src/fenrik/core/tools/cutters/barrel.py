"""A flank that bulges with a large radius, run tangentially into the corner radius."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters.cutter import CutterBase, mm


class BarrelCutter(CutterBase):
    """A flank that bulges with a large radius, run tangentially into the corner radius."""

    kind: Literal["barrel"] = "barrel"
    corner_radius_mm: float = mm("Corner radius")
    flank_radius_mm: float = mm("Flank radius", "Much larger than half the diameter", le=10_000)
    widest_at_mm: float = mm("Widest at", "Height of the largest diameter above the tip")

    @property
    def corner_mm(self) -> float:
        return self.corner_radius_mm

    @model_validator(mode="after")
    def _arcs_meet(self) -> BarrelCutter:
        if self.flank_radius_mm <= self.radius_mm:
            raise ValueError("the flank radius must be larger than half the diameter")
        if self.widest_at_mm > self.flute_length_mm:
            raise ValueError("the widest place lies beyond the cutting length")
        if self._corner_centre() is None:
            raise ValueError("corner and flank do not meet; lower the widest place or take a larger corner radius")
        return self

    def _corner_centre(self) -> float | None:
        """Distance of the corner arc's centre from the axis, so that it touches the flank from inside."""
        apart, lift = self.flank_radius_mm - self.corner_radius_mm, self.widest_at_mm - self.corner_radius_mm
        if apart <= abs(lift) or lift < 0:
            return None
        x = self.radius_mm - self.flank_radius_mm + math.sqrt(apart**2 - lift**2)
        return x if x >= 0 else None

    def contour(self) -> list[Piece]:
        x, c, big, z = self._corner_centre() or 0.0, self.corner_radius_mm, self.flank_radius_mm, self.widest_at_mm
        centre = (self.radius_mm - big, z)
        k = big / (big - c)
        touch = (centre[0] + (x - centre[0]) * k, centre[1] + (c - centre[1]) * k)
        pieces = [*line_through((0, 0), (x, 0)), Piece(x, 0, *touch, (x, c)), Piece(*touch, self.radius_mm, z, centre)]
        top = self.flute_length_mm
        if top > z + 1e-9:
            side = centre[0] + math.sqrt(max(big**2 - (top - z) ** 2, 0.0))
            pieces.append(Piece(self.radius_mm, z, max(side, 0.1), top, centre))
        return pieces

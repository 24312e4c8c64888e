"""What the pointed cutters share."""

from __future__ import annotations

import math
from typing import Self

from pydantic import model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters.cutter import CutterBase, mm


class Pointed(CutterBase):
    """A cone at the end; `tip_mm` flat at its point."""

    def _cone(self, tip_mm: float, included_deg: float) -> list[Piece]:
        rise = (self.radius_mm - tip_mm / 2) / math.tan(math.radians(included_deg / 2))
        return line_through(
            (0, 0), (tip_mm / 2, 0), (self.radius_mm, rise), (self.radius_mm, max(self.flute_length_mm, rise))
        )


class Tipped(Pointed):
    """One whose point is a flat; the cone's angle is each cutter's own."""

    tip_diameter_mm: float = mm("Tip diameter", ge=0)
    included_deg: float

    @model_validator(mode="after")
    def _tip_fits(self) -> Self:
        if self.tip_diameter_mm >= self.diameter_mm:
            raise ValueError("the tip is as wide as the cutter; make it smaller")
        return self

    def contour(self) -> list[Piece]:
        return self._cone(self.tip_diameter_mm, self.included_deg)

"""What the pointed cutters share."""

from __future__ import annotations

import math

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters.cutter import CutterBase


class Pointed(CutterBase):
    """A cone at the end; `tip_mm` flat at its point."""

    def _cone(self, tip_mm: float, included_deg: float) -> list[Piece]:
        rise = (self.radius_mm - tip_mm / 2) / math.tan(math.radians(included_deg / 2))
        return line_through(
            (0, 0), (tip_mm / 2, 0), (self.radius_mm, rise), (self.radius_mm, max(self.flute_length_mm, rise))
        )

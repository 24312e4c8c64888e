"""Pilot and 60° cone in one."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters.cutter import CutterBase, Family, deg, mm


class CentreDrill(CutterBase):
    """Pilot and 60° cone in one."""

    kind: Literal["centre drill"] = "centre drill"
    pilot_diameter_mm: float = mm("Pilot diameter")
    pilot_length_mm: float = mm("Pilot length", "With its point")
    included_deg: float = deg(60, "Cone angle", 30, 150)

    @property
    def family(self) -> Family:
        return "drilling"

    @model_validator(mode="after")
    def _pilot_fits(self) -> CentreDrill:
        if self.pilot_diameter_mm >= self.diameter_mm:
            raise ValueError("the pilot is as wide as the body; make it smaller")
        if self.pilot_length_mm <= self._point():
            raise ValueError(f"the pilot is shorter than its point ({self._point():.3g} mm)")
        return self

    def _point(self) -> float:
        return self.pilot_diameter_mm / 2 / math.tan(math.radians(59))

    def contour(self) -> list[Piece]:
        d, r = self.pilot_diameter_mm / 2, self.radius_mm
        top = self.pilot_length_mm + (r - d) / math.tan(math.radians(self.included_deg / 2))
        return line_through(
            (0, 0), (d, self._point()), (d, self.pilot_length_mm), (r, top), (r, max(self.flute_length_mm, top))
        )

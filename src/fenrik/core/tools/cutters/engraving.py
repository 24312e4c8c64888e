"""Pointed cutter for engraving."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from fenrik.core.tools.contour import Piece
from fenrik.core.tools.cutters._pointed import Pointed
from fenrik.core.tools.cutters.cutter import Family, deg, mm


class EngravingCutter(Pointed):
    """Pointed cutter for engraving."""

    kind: Literal["engraving"] = "engraving"
    tip_diameter_mm: float = mm("Tip diameter", ge=0)
    included_deg: float = deg(30, "Included angle", 5, 150)
    flutes: int = Field(default=1, ge=1, le=40, title="Flutes")

    @property
    def family(self) -> Family:
        return "engraving"

    @model_validator(mode="after")
    def _tip_fits(self) -> EngravingCutter:
        if self.tip_diameter_mm >= self.diameter_mm:
            raise ValueError("the tip is as wide as the cutter; make it smaller")
        return self

    def contour(self) -> list[Piece]:
        return self._cone(self.tip_diameter_mm, self.included_deg)

"""Conical cutter for chamfers."""

from __future__ import annotations

from typing import Literal

from pydantic import model_validator

from fenrik.core.tools.contour import Piece
from fenrik.core.tools.cutters._pointed import Pointed
from fenrik.core.tools.cutters.cutter import deg, mm


class ChamferMill(Pointed):
    """Conical cutter for chamfers."""

    kind: Literal["chamfer mill"] = "chamfer mill"
    tip_diameter_mm: float = mm("Tip diameter", ge=0)
    included_deg: float = deg(90, "Included angle", 10, 170)

    @model_validator(mode="after")
    def _tip_fits(self) -> ChamferMill:
        if self.tip_diameter_mm >= self.diameter_mm:
            raise ValueError("the tip is as wide as the cutter; make it smaller")
        return self

    def contour(self) -> list[Piece]:
        return self._cone(self.tip_diameter_mm, self.included_deg)

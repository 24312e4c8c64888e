"""Face mill with inserts; its sides lean by the lead angle."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import Field, model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters.cutter import DEG, CutterBase, Family


class FaceMill(CutterBase):
    """Face mill with inserts; its sides lean by the lead angle."""

    kind: Literal["face mill"] = "face mill"
    lead_deg: float = Field(
        default=90, ge=30, le=90, title="Lead angle", description="Between insert and floor", json_schema_extra=DEG
    )
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def family(self) -> Family:
        return "face milling"

    @model_validator(mode="after")
    def _leaves_a_flat(self) -> FaceMill:
        if self._tip_radius() <= 0:
            raise ValueError("the lead angle takes away the whole face; shorten the cutting length or widen the angle")
        return self

    def _tip_radius(self) -> float:
        return self.radius_mm - self.flute_length_mm / math.tan(math.radians(self.lead_deg))

    def contour(self) -> list[Piece]:
        return line_through((0, 0), (self._tip_radius(), 0), (self.radius_mm, self.flute_length_mm))

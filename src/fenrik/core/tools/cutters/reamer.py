"""Reamer with a short 45° lead."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters.cutter import MM, CutterBase, Family


class Reamer(CutterBase):
    """Reamer with a short 45° lead."""

    kind: Literal["reamer"] = "reamer"
    lead_mm: float = Field(default=0.5, ge=0, le=20, title="Lead", json_schema_extra=MM)
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def family(self) -> Family:
        return "reaming"

    @model_validator(mode="after")
    def _lead_fits(self) -> Reamer:
        if self.lead_mm >= min(self.radius_mm, self.flute_length_mm):
            raise ValueError("the lead is longer than the reamer allows; make it shorter")
        return self

    def contour(self) -> list[Piece]:
        r = self.radius_mm
        return line_through((0, 0), (r - self.lead_mm, 0), (r, self.lead_mm), (r, self.flute_length_mm))

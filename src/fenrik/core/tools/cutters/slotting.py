"""Disc on a neck: side and face cutter, T-slot cutter."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from fenrik.core.tools.contour import Piece, corner_arc, line_through
from fenrik.core.tools.cutters.cutter import MM, CutterBase, mm


class SlottingCutter(CutterBase):
    """Disc on a neck: side and face cutter, T-slot cutter."""

    kind: Literal["slotting cutter"] = "slotting cutter"
    neck_diameter_mm: float = mm("Neck diameter")
    corner_radius_mm: float = Field(default=0, ge=0, le=100, title="Corner radius", json_schema_extra=MM)
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def corner_mm(self) -> float:
        return self.corner_radius_mm

    @model_validator(mode="after")
    def _neck_fits(self) -> SlottingCutter:
        if self.neck_diameter_mm >= self.diameter_mm:
            raise ValueError("the neck is as wide as the disc; make it smaller")
        if 2 * self.corner_radius_mm > self.flute_length_mm or self.corner_radius_mm >= self.radius_mm:
            raise ValueError("the corners are rounder than the disc is thick; make the radius smaller")
        return self

    def contour(self) -> list[Piece]:
        r, c, t = self.radius_mm, self.corner_radius_mm, self.flute_length_mm
        top = [Piece(r, t - c, r - c, t, (r - c, t - c))] if c > 0 else []
        return [
            *corner_arc(r, c),
            *line_through((r, c), (r, t - c)),
            *top,
            *line_through((r - c, t), (self.neck_diameter_mm / 2, t)),
        ]

"""Conical end mill; its diameter is the one at the tip, measured over the corner radius."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import Field, model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters.cutter import MM, CutterBase, deg


class TaperedCutter(CutterBase):
    """Conical end mill; its diameter is the one at the tip, measured over the corner radius."""

    kind: Literal["tapered"] = "tapered"
    corner_radius_mm: float = Field(
        default=0, ge=0, le=100, title="Corner radius", description="Half the diameter: a ball", json_schema_extra=MM
    )
    taper_deg: float = deg(3, "Taper", 0, 60, "Each side")

    @property
    def corner_mm(self) -> float:
        return self.corner_radius_mm

    @property
    def widest_mm(self) -> float:
        """Diameter at the end of the cutting length."""
        return 2 * self.contour()[-1].r1

    @model_validator(mode="after")
    def _corner_fits(self) -> TaperedCutter:
        if self.corner_radius_mm > self.radius_mm + 1e-9:
            raise ValueError("the corner radius is larger than half the diameter; make it smaller")
        if self.flute_length_mm <= self.corner_radius_mm:
            raise ValueError("the cutting length is shorter than the corner radius; make it longer")
        return self

    def contour(self) -> list[Piece]:
        c, lean = self.corner_radius_mm, math.radians(self.taper_deg)
        flat = self.radius_mm - c
        # The arc ends where it runs into the leaning side.
        start = (flat + c * math.cos(lean), c * (1 - math.sin(lean)))
        end = (start[0] + (self.flute_length_mm - start[1]) * math.tan(lean), self.flute_length_mm)
        arc = [Piece(flat, 0, *start, (flat, c))] if c > 0 else []
        return [*line_through((0, 0), (flat, 0)), *arc, *line_through(start, end)]

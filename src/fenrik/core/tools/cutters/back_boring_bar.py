"""Bar with one edge on the upper side of its foot, for work on the far side of a hole."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import Field, model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters.cutter import DEG, LEAST_MM, MM, CutterBase, Family, mm


class BackBoringBar(CutterBase):
    """Bar with one edge on the upper side of its foot, for work on the far side of a hole.

    It goes through the hole with the spindle stopped in its place and beside the hole's axis, so that bar and edge lie
    evenly about that axis.
    """

    kind: Literal["back boring bar"] = "back boring bar"
    flute_length_mm: float = Field(
        ge=LEAST_MM, le=200, title="Height of the foot", description="From the tip to the edge", json_schema_extra=MM
    )
    bar_diameter_mm: float = mm("Bar diameter")
    edge_deg: float = Field(
        default=0,
        ge=0,
        lt=360,
        title="Edge points to",
        description="From X plus, where the spindle stops in its place",
        json_schema_extra=DEG,
    )
    flutes: int = Field(default=1, ge=1, le=1, title="Edges")
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def family(self) -> Family:
        return "boring"

    @property
    def shank_mm(self) -> float:
        return self.bar_diameter_mm

    @property
    def only(self) -> str:
        return "cuts on its upper side only"

    @property
    def passing_mm(self) -> float:
        """Diameter of the narrowest hole round bar and edge together."""
        return self.radius_mm + self.bar_diameter_mm / 2

    @property
    def aside_mm(self) -> tuple[float, float]:
        """Way (x, y) from the axis of a hole to that of the spindle, when bar and edge lie evenly about the hole's."""
        away = (self.radius_mm - self.bar_diameter_mm / 2) / 2
        angle = math.radians(self.edge_deg)
        return -away * math.cos(angle), -away * math.sin(angle)

    @model_validator(mode="after")
    def _edge_stands_out(self) -> BackBoringBar:
        if self.bar_diameter_mm >= self.diameter_mm:
            raise ValueError("the bar is as wide as its edge cuts; make it thinner")
        return self

    def contour(self) -> list[Piece]:
        r, t = self.radius_mm, self.flute_length_mm
        return line_through((0, 0), (r, 0), (r, t), (self.bar_diameter_mm / 2, t))

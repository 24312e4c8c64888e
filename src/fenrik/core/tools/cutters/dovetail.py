"""Wider at its end than above."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import Field, model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters.cutter import CutterBase, deg


class DovetailCutter(CutterBase):
    """Wider at its end than above."""

    kind: Literal["dovetail"] = "dovetail"
    angle_deg: float = deg(60, "Angle", 30, 89, "Between side and floor")
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @model_validator(mode="after")
    def _leaves_a_neck(self) -> DovetailCutter:
        if self._neck() <= 0:
            raise ValueError("the sides meet before the cutting length ends; shorten it or open the angle")
        return self

    def _neck(self) -> float:
        return self.radius_mm - self.flute_length_mm / math.tan(math.radians(self.angle_deg))

    def contour(self) -> list[Piece]:
        return line_through((0, 0), (self.radius_mm, 0), (self._neck(), self.flute_length_mm))

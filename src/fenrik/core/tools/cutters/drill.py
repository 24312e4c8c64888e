"""Twist drill."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import model_validator

from fenrik.core.tools.contour import Piece
from fenrik.core.tools.cutters._pointed import Pointed
from fenrik.core.tools.cutters.cutter import Family, deg


class Drill(Pointed):
    """Twist drill."""

    kind: Literal["drill"] = "drill"
    point_deg: float = deg(118, "Point angle", 60, 180)

    @property
    def family(self) -> Family:
        return "drilling"

    @property
    def point_mm(self) -> float:
        """Height of the point."""
        return self.radius_mm / math.tan(math.radians(self.point_deg / 2))

    @model_validator(mode="after")
    def _longer_than_its_point(self) -> Drill:
        if self.flute_length_mm <= self.point_mm:
            raise ValueError(f"the cutting length is shorter than the point ({self.point_mm:.3g} mm)")
        return self

    def contour(self) -> list[Piece]:
        return self._cone(0.0, self.point_deg)

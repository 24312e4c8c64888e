"""A ball on a thinner neck."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters.cutter import CutterBase, mm


class Lollipop(CutterBase):
    """A ball on a thinner neck."""

    kind: Literal["lollipop"] = "lollipop"
    neck_diameter_mm: float = mm("Neck diameter")

    @property
    def corner_mm(self) -> float:
        return self.radius_mm

    @model_validator(mode="after")
    def _neck_fits(self) -> Lollipop:
        if self.neck_diameter_mm >= self.diameter_mm:
            raise ValueError("the neck is as wide as the ball; make it smaller")
        if self.flute_length_mm < self._ball_top() - 1e-9:
            raise ValueError(f"the cutting length must reach the neck ({self._ball_top():.3g} mm)")
        return self

    @property
    def edge_length_mm(self) -> float:
        return self._ball_top()

    def _ball_top(self) -> float:
        r = self.radius_mm
        return r + math.sqrt(r * r - (self.neck_diameter_mm / 2) ** 2)

    def contour(self) -> list[Piece]:
        r, n = self.radius_mm, self.neck_diameter_mm / 2
        ball = [Piece(0, 0, r, r, (0, r)), Piece(r, r, n, self._ball_top(), (0, r))]
        return [*ball, *line_through((n, self._ball_top()), (n, self.flute_length_mm))]

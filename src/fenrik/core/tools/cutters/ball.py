"""Ball-nose cutter."""

from __future__ import annotations

from typing import Literal

from pydantic import model_validator

from fenrik.core.tools.cutters.cutter import CutterBase


class BallCutter(CutterBase):
    """Ball-nose cutter."""

    kind: Literal["ball"] = "ball"

    @property
    def corner_mm(self) -> float:
        return self.radius_mm

    @model_validator(mode="after")
    def _long_enough(self) -> BallCutter:
        if self.flute_length_mm < self.radius_mm:
            raise ValueError(
                f"the cutting length {self.flute_length_mm:g} mm is shorter than the ball's radius "
                f"{self.radius_mm:g} mm; make it at least as long"
            )
        return self

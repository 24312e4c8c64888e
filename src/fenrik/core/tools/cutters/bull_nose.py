"""End mill with a corner radius."""

from __future__ import annotations

from typing import Literal

from pydantic import model_validator

from fenrik.core.tools.cutters.cutter import CutterBase, mm


class BullNoseCutter(CutterBase):
    """End mill with a corner radius."""

    kind: Literal["bull-nose"] = "bull-nose"
    corner_radius_mm: float = mm("Corner radius")

    @property
    def corner_mm(self) -> float:
        return self.corner_radius_mm

    @model_validator(mode="after")
    def _corner_fits(self) -> BullNoseCutter:
        if self.corner_radius_mm >= self.radius_mm:
            raise ValueError(
                f"the corner radius {self.corner_radius_mm:g} mm must be below half the diameter "
                f"({self.radius_mm:g} mm); for a full radius use a ball cutter"
            )
        if self.flute_length_mm < self.corner_radius_mm:
            raise ValueError("the cutting length is shorter than the corner radius; make it longer")
        return self

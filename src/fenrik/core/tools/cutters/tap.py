"""Tap; its diameter is the thread's nominal one."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters._threading import Threading
from fenrik.core.tools.cutters.cutter import Family


class Tap(Threading):
    """Tap; its diameter is the thread's nominal one."""

    kind: Literal["tap"] = "tap"
    hand: Literal["right", "left"] = Field(default="right", title="Hand")
    lead_threads: float = Field(default=2.5, ge=0, le=12, title="Lead", description="In threads")
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def family(self) -> Family:
        return "tapping"

    @property
    def lead_mm(self) -> float:
        return self.lead_threads * self.pitch_mm

    @model_validator(mode="after")
    def _pitch_fits(self) -> Tap:
        if self.pitch_mm >= self.radius_mm:
            raise ValueError(f"the pitch {self.pitch_mm:g} mm is too coarse for a diameter of {self.diameter_mm:g} mm")
        if self.lead_mm >= self.flute_length_mm:
            raise ValueError("the lead is longer than the cutting length")
        return self

    def contour(self) -> list[Piece]:
        r = self.radius_mm
        tip = r - 0.613 * self.pitch_mm  # depth of the external thread of ISO 724
        return line_through((0, 0), (tip, 0), (r, self.lead_mm), (r, self.flute_length_mm))

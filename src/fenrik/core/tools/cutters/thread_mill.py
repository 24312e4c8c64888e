"""Thread mill with one tooth or a full row of them."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import Field, model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters._threading import Threading
from fenrik.core.tools.cutters.cutter import Family, deg, mm


class ThreadMill(Threading):
    """Thread mill with one tooth or a full row of them."""

    kind: Literal["thread mill"] = "thread mill"
    teeth: Literal["single", "full form"] = Field(default="full form", title="Teeth")
    profile_deg: float = deg(60, "Profile angle", 20, 90)
    neck_diameter_mm: float = mm("Neck diameter")
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def family(self) -> Family:
        return "thread milling"

    @property
    def tooth_mm(self) -> float:
        """Depth of a tooth beyond the neck of a single-tooth mill, else that of the thread."""
        sharp = self.pitch_mm / 2 / math.tan(math.radians(self.profile_deg / 2))
        return min(0.625 * sharp, self.radius_mm * 0.45)

    @property
    def edge_length_mm(self) -> float:
        return self._teeth()[-1][1]

    @model_validator(mode="after")
    def _neck_fits(self) -> ThreadMill:
        if self.neck_diameter_mm > self.diameter_mm - 2 * self.tooth_mm + 1e-9:
            raise ValueError(
                f"the neck is wider than the root of the teeth ({self.diameter_mm - 2 * self.tooth_mm:.3g} mm)"
            )
        return self

    def _teeth(self) -> list[tuple[float, float]]:
        """Places (radius, height) of the contour from the tip to the end of the last tooth."""
        r, root = self.radius_mm, self.radius_mm - self.tooth_mm
        slope = math.tan(math.radians(self.profile_deg / 2)) * self.tooth_mm
        rows = 1 if self.teeth == "single" else max(int(self.flute_length_mm // self.pitch_mm), 1)
        land = max(self.pitch_mm / 8, 1e-3)
        places: list[tuple[float, float]] = [(0, 0), (root, 0)]
        for k in range(rows):
            z = k * self.pitch_mm
            places += [(root, z), (r, z + slope), (r, z + slope + land), (root, z + 2 * slope + land)]
        return places

    def contour(self) -> list[Piece]:
        places = self._teeth()
        return line_through(*places, (places[-1][0], max(self.flute_length_mm, places[-1][1])))

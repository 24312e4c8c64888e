"""Pointed cutter for engraving."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from fenrik.core.tools.cutters._pointed import Tipped
from fenrik.core.tools.cutters.cutter import Family, deg


class EngravingCutter(Tipped):
    """Pointed cutter for engraving."""

    kind: Literal["engraving"] = "engraving"
    included_deg: float = deg(30, "Included angle", 5, 150)
    flutes: int = Field(default=1, ge=1, le=40, title="Flutes")

    @property
    def family(self) -> Family:
        return "engraving"

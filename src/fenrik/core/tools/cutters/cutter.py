"""What every cutter has, and how the numbers of one are declared."""

from __future__ import annotations

import math
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.tools.contour import Piece, corner_arc, line_through

MM: dict[str, Any] = {"unit": "mm"}
DEG: dict[str, Any] = {"unit": "deg"}
LEAST_MM = 0.01
"""Nothing of a cutter is smaller; micro mills begin at 0.02 mm."""
Family = Literal["milling", "face milling", "drilling", "reaming", "tapping", "thread milling", "engraving", "boring"]


def mm(title: str, description: str | None = None, **limits: Any) -> Any:
    """A length that must be given; at least 0.01 and at most 1000 mm where `limits` say nothing else."""
    return Field(title=title, description=description, json_schema_extra=MM, **({"ge": LEAST_MM, "le": 1000} | limits))


def deg(default: float, title: str, low: float, high: float, description: str | None = None) -> Any:
    """An angle between `low` and `high`, neither of them allowed."""
    return Field(default=default, gt=low, lt=high, title=title, description=description, json_schema_extra=DEG)


class CutterBase(BaseModel):
    """What every cutter has."""

    model_config = ConfigDict(extra="forbid")
    diameter_mm: float = Field(ge=LEAST_MM, le=500, title="Diameter", json_schema_extra=MM)
    flute_length_mm: float = Field(ge=LEAST_MM, le=1000, title="Cutting length", json_schema_extra=MM)
    flutes: int = Field(default=2, ge=1, le=40, title="Flutes")
    centre_cutting: bool = Field(default=True, title="Centre cutting")

    @property
    def family(self) -> Family:
        """How it is used; cutting data go by it."""
        return "milling"

    @property
    def radius_mm(self) -> float:
        return self.diameter_mm / 2

    @property
    def corner_mm(self) -> float:
        """Radius of the end's corner; 0 for a sharp one."""
        return 0.0

    @property
    def shank_mm(self) -> float:
        """Diameter of what stands above the cutting part where the tool says nothing of it."""
        return self.diameter_mm

    @property
    def edge_length_mm(self) -> float:
        """How far up from the tip it cuts; what its contour has above that is neck."""
        return math.inf

    @property
    def only(self) -> str:
        """What keeps it from most work, in words; empty where nothing does."""
        return ""

    def contour(self) -> list[Piece]:
        """The cutting part from its tip up to the end of the cutting length."""
        r = self.radius_mm
        return [*corner_arc(r, self.corner_mm), *line_through((r, self.corner_mm), (r, self.flute_length_mm))]

"""What holds the part: vices, clamps, plates, chucks, or bodies and files, as data.

Every fixture stands at a place relative to the middle of the stock's underside, so that it keeps its place when the
stock changes. Its own zero is where it carries the part.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from fenrik.core.frames import Points

MM: dict[str, Any] = {"unit": "mm"}
MAX_PLATE_HOLES = 600


class _Doc(BaseModel):
    model_config = ConfigDict(extra="forbid")


def _length(default: float, title: str, description: str = "", least: float = 0.1) -> Any:
    return Field(default=default, ge=least, le=5000, title=title, description=description or None, json_schema_extra=MM)


class Place(_Doc):
    """Where a fixture stands, from the middle of the stock's underside, and how it is turned about z."""

    x_mm: float = Field(default=0, ge=-10_000, le=10_000, title="X", json_schema_extra=MM)
    y_mm: float = Field(default=0, ge=-10_000, le=10_000, title="Y", json_schema_extra=MM)
    z_mm: float = Field(default=0, ge=-10_000, le=10_000, title="Z", json_schema_extra=MM)
    turn_deg: float = Field(default=0, ge=-360, le=360, title="Turn about Z", json_schema_extra={"unit": "deg"})


class _Fixture(_Doc):
    id: str = Field(pattern=r"^[a-z0-9-]{1,40}$")
    name: str = Field(default="", max_length=80, title="Name")
    place: Place = Field(default_factory=Place, title="Place")


class Vice(_Fixture):
    """Two jaws that grip along y; the part stands on the base, on steps, or in a nest cut into soft jaws."""

    kind: Literal["vice"] = "vice"
    jaws: Literal["hard", "step", "soft"] = Field(default="hard", title="Jaws")
    opening_mm: float | None = Field(
        default=None, gt=0, le=2000, title="Opening", description="Empty: the stock's width", json_schema_extra=MM
    )
    jaw_width_mm: float = _length(125, "Jaw width")
    jaw_height_mm: float = _length(30, "Jaw height", "Above where the part stands")
    jaw_thickness_mm: float = _length(20, "Jaw thickness")
    base_height_mm: float = _length(50, "Base height", "From the table to where the part stands")
    ledge_mm: float = _length(4, "Ledge", "How far step or nest reaches under the part")
    ledge_height_mm: float = _length(12, "Ledge height", "Of step or nest above the base")


class ToeClamp(_Fixture):
    """A strap that presses down at its nose; its zero is the nose's underside."""

    kind: Literal["toe clamp"] = "toe clamp"
    length_mm: float = _length(70, "Length")
    width_mm: float = _length(25, "Width")
    thickness_mm: float = _length(14, "Thickness")
    reach_mm: float = _length(10, "Reach", "Of the nose over the part")
    support_mm: float = _length(20, "Support", "Height of the heel block")


class Plate(_Fixture):
    """A plate with a grid of holes; its zero is the middle of its top."""

    kind: Literal["plate"] = "plate"
    size_x_mm: float = _length(300, "Size X")
    size_y_mm: float = _length(200, "Size Y")
    thickness_mm: float = _length(25, "Thickness")
    pitch_mm: float = _length(25, "Hole pitch")
    hole_mm: float = Field(default=10, ge=0, le=200, title="Hole", description="0: none", json_schema_extra=MM)

    @model_validator(mode="after")
    def _holes_fit(self) -> Plate:
        if self.hole_mm > 0:
            if self.hole_mm >= self.pitch_mm:
                raise ValueError(f"the holes ({self.hole_mm:g} mm) are wider than their pitch ({self.pitch_mm:g} mm)")
            count = len(self.hole_places())
            if count > MAX_PLATE_HOLES:
                raise ValueError(f"{count} holes are too many (at most {MAX_PLATE_HOLES}); widen the pitch")
        return self

    def hole_places(self) -> list[tuple[float, float]]:
        """Middles of the holes."""
        nx, ny = (int((s - self.pitch_mm) // (2 * self.pitch_mm)) for s in (self.size_x_mm, self.size_y_mm))
        if min(nx, ny) < 0 or self.hole_mm <= 0:
            return []
        return [(i * self.pitch_mm, j * self.pitch_mm) for i in range(-nx, nx + 1) for j in range(-ny, ny + 1)]


class Chuck(_Fixture):
    """A chuck with its axis along z; its zero is the middle of its face."""

    kind: Literal["chuck"] = "chuck"
    diameter_mm: float = _length(160, "Diameter")
    height_mm: float = _length(70, "Height")
    jaws: int = Field(default=3, ge=2, le=6, title="Jaws")
    grip_mm: float | None = Field(
        default=None, gt=0, le=2000, title="Grip diameter", description="Empty: the stock's", json_schema_extra=MM
    )
    jaw_height_mm: float = _length(25, "Jaw height")
    jaw_width_mm: float = _length(22, "Jaw width")
    jaw_length_mm: float = _length(40, "Jaw length")


class BodyFixture(_Fixture):
    """A body of the model, where it stands in the model."""

    kind: Literal["body"] = "body"
    body: str = Field(max_length=200, title="Body")


class FileFixture(_Fixture):
    """A model file of the job; its zero is the file's own."""

    kind: Literal["file"] = "file"
    file: str = Field(max_length=200, title="File")


Fixture = Annotated[Vice | ToeClamp | Plate | Chuck | BodyFixture | FileFixture, Field(discriminator="kind")]
MadeFixture = Vice | ToeClamp | Plate | Chuck


def stock_foot(stock: Points) -> Points:
    """The middle of the stock's underside."""
    return np.array([*(stock[0, :2] + stock[1, :2]) / 2, stock[0, 2]])

"""What a programmer says of a tool: cutter, shank, stick-out, holder."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

MM: dict[str, Any] = {"unit": "mm"}


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid")


class _CutterBase(_Part):
    diameter_mm: float = Field(gt=0, le=500, title="Diameter", json_schema_extra=MM)
    flute_length_mm: float = Field(gt=0, le=1000, title="Cutting length", json_schema_extra=MM)
    flutes: int = Field(default=2, ge=1, le=40, title="Flutes")
    centre_cutting: bool = Field(default=True, title="Centre cutting")

    @property
    def radius_mm(self) -> float:
        return self.diameter_mm / 2


class FlatCutter(_CutterBase):
    """Square-ended end mill."""

    kind: Literal["flat"] = "flat"

    @property
    def corner_mm(self) -> float:
        return 0.0


class BallCutter(_CutterBase):
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


class BullNoseCutter(_CutterBase):
    """End mill with a corner radius."""

    kind: Literal["bull-nose"] = "bull-nose"
    corner_radius_mm: float = Field(gt=0, title="Corner radius", json_schema_extra=MM)

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


Cutter = Annotated[FlatCutter | BallCutter | BullNoseCutter, Field(discriminator="kind")]


class HolderSection(_Part):
    """One cone (or cylinder) of a holder, stacked upwards from the one before."""

    lower_diameter_mm: float = Field(gt=0, le=1000, title="Lower diameter", json_schema_extra=MM)
    upper_diameter_mm: float = Field(gt=0, le=1000, title="Upper diameter", json_schema_extra=MM)
    height_mm: float = Field(gt=0, le=2000, title="Height", json_schema_extra=MM)


class Tool(_Part):
    """A cutter in its holder, with the data it is run at."""

    number: int = Field(ge=1, le=9999, title="Number")
    name: str = Field(default="", max_length=80, title="Name")
    cutter: Cutter
    shank_diameter_mm: float | None = Field(default=None, gt=0, le=500, title="Shank diameter", json_schema_extra=MM)
    stick_out_mm: float = Field(gt=0, le=2000, title="Stick-out", json_schema_extra=MM)
    holder: list[HolderSection] = Field(default_factory=list, max_length=20, title="Holder")
    spindle_rpm: float = Field(default=8000, gt=0, le=200_000, title="Spindle speed", json_schema_extra={"unit": "rpm"})
    cutting_feed_mm_min: float = Field(
        default=1000, gt=0, le=100_000, title="Cutting feed", json_schema_extra={"unit": "mm/min"}
    )
    entry_feed_mm_min: float = Field(
        default=300, gt=0, le=100_000, title="Entry feed", json_schema_extra={"unit": "mm/min"}
    )
    exit_feed_mm_min: float = Field(
        default=2000, gt=0, le=100_000, title="Exit feed", json_schema_extra={"unit": "mm/min"}
    )
    coolant: bool = Field(default=True, title="Coolant")

    @model_validator(mode="before")
    @classmethod
    def _from_cutting_data(cls, data: Any) -> Any:
        """Accept surface speed and chip load in place of spindle speed and feed."""
        if not isinstance(data, dict):
            return data
        data = dict(data)
        speed, chip = data.pop("surface_speed_m_min", None), data.pop("chip_load_mm", None)
        cutter = data.get("cutter")
        if isinstance(cutter, dict) and (speed is not None or chip is not None):
            from fenrik.core.cutting.speeds import feed_rate, spindle_speed

            if speed is not None:
                data["spindle_rpm"] = spindle_speed(float(speed), float(cutter.get("diameter_mm", 0)))
            if chip is not None:
                flutes = int(cutter.get("flutes", 2))
                data["cutting_feed_mm_min"] = feed_rate(float(data.get("spindle_rpm", 8000)), flutes, float(chip))
        return data

    @model_validator(mode="after")
    def _lengths_agree(self) -> Tool:
        if self.stick_out_mm < self.cutter.flute_length_mm:
            raise ValueError(
                f"the stick-out {self.stick_out_mm:g} mm is shorter than the cutting length "
                f"{self.cutter.flute_length_mm:g} mm; lengthen the one or shorten the other"
            )
        return self

    @property
    def shank_mm(self) -> float:
        """Shank diameter; that of the cutter where none is given."""
        return self.shank_diameter_mm if self.shank_diameter_mm is not None else self.cutter.diameter_mm

    @property
    def label(self) -> str:
        c = self.cutter
        text = f"{c.kind} ⌀{c.diameter_mm:g}" + (f" r{c.corner_mm:g}" if c.kind == "bull-nose" else "")
        return self.name or text

    @property
    def length_mm(self) -> float:
        """From the tip to the top of the holder."""
        return self.stick_out_mm + sum(s.height_mm for s in self.holder)

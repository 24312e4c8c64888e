"""What a programmer says of a tool: cutter, shank, stick-out, holder."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from fenrik.core.cutting.speeds import feed_rate, spindle_speed
from fenrik.core.tools.cutters import Cutter
from fenrik.core.tools.cutters.cutter import LEAST_MM, MM
from fenrik.core.units import LEAST_FEED_MM_MIN, LEAST_SPINDLE_RPM


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid")


class HolderSection(_Part):
    """One cone (or cylinder) of a holder, stacked upwards from the one before."""

    lower_diameter_mm: float = Field(ge=LEAST_MM, le=1000, title="Lower diameter", json_schema_extra=MM)
    upper_diameter_mm: float = Field(ge=LEAST_MM, le=1000, title="Upper diameter", json_schema_extra=MM)
    height_mm: float = Field(ge=LEAST_MM, le=2000, title="Height", json_schema_extra=MM)


class Tool(_Part):
    """A cutter in its holder, with the data it is run at."""

    number: int = Field(ge=1, le=9999, title="Number")
    name: str = Field(default="", max_length=80, title="Name")
    cutter: Cutter
    material: Literal["carbide", "HSS", "cermet", "CBN", "diamond"] = Field(default="carbide", title="Cutting material")
    coating: str = Field(default="", max_length=40, title="Coating")
    use: Literal["", "roughing", "finishing", "both"] = Field(default="", title="Use")
    shank_diameter_mm: float | None = Field(
        default=None,
        ge=LEAST_MM,
        le=500,
        title="Shank diameter",
        description="Empty: the cutter's",
        json_schema_extra=MM,
    )
    neck_diameter_mm: float | None = Field(
        default=None,
        ge=LEAST_MM,
        le=500,
        title="Neck diameter",
        description="Thinner stretch above the flutes",
        json_schema_extra=MM,
    )
    neck_length_mm: float = Field(default=0, ge=0, le=1000, title="Neck length", json_schema_extra=MM)
    length_mm: float | None = Field(
        default=None,
        ge=LEAST_MM,
        le=2000,
        title="Overall length",
        description="Of the cutter, out of the holder",
        json_schema_extra=MM,
    )
    stick_out_mm: float = Field(ge=LEAST_MM, le=2000, title="Stick-out", json_schema_extra=MM)
    holder_name: str = Field(default="", max_length=80, title="Holder")
    holder: list[HolderSection] = Field(default_factory=list, max_length=20, title="Holder sections")
    length_offset: int | None = Field(
        default=None, ge=1, le=999, title="Length offset", description="Empty: the tool's number"
    )
    diameter_offset: int | None = Field(
        default=None, ge=1, le=999, title="Diameter offset", description="Empty: the tool's number"
    )
    spindle_rpm: float = Field(
        default=8000, ge=LEAST_SPINDLE_RPM, le=200_000, title="Spindle speed", json_schema_extra={"unit": "rpm"}
    )
    cutting_feed_mm_min: float = Field(
        default=1000, ge=LEAST_FEED_MM_MIN, le=100_000, title="Cutting feed", json_schema_extra={"unit": "mm/min"}
    )
    entry_feed_mm_min: float = Field(
        default=300, ge=LEAST_FEED_MM_MIN, le=100_000, title="Entry feed", json_schema_extra={"unit": "mm/min"}
    )
    exit_feed_mm_min: float = Field(
        default=2000, ge=LEAST_FEED_MM_MIN, le=100_000, title="Exit feed", json_schema_extra={"unit": "mm/min"}
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
        if self.length_mm is not None and self.stick_out_mm > self.length_mm:
            raise ValueError(
                f"the stick-out {self.stick_out_mm:g} mm is more than the tool is long ({self.length_mm:g} mm)"
            )
        if self.neck_length_mm and self.cutter.flute_length_mm + self.neck_length_mm > self.stick_out_mm + 1e-9:
            raise ValueError(
                f"flutes and neck ({self.cutter.flute_length_mm + self.neck_length_mm:g} mm) are longer than the "
                f"stick-out ({self.stick_out_mm:g} mm); shorten the neck or lengthen the stick-out"
            )
        return self

    @property
    def shank_mm(self) -> float:
        """Shank diameter; that of the cutter where none is given."""
        return self.shank_diameter_mm if self.shank_diameter_mm is not None else self.cutter.shank_mm

    @property
    def label(self) -> str:
        c = self.cutter
        text = f"{c.kind} ⌀{c.diameter_mm:g}" + (f" r{c.corner_mm:g}" if c.kind == "bull-nose" else "")
        return self.name or text

    @property
    def assembly_mm(self) -> float:
        """From the tip to the top of the holder."""
        return self.stick_out_mm + sum(s.height_mm for s in self.holder)

    def stations(self) -> list[tuple[str, float, float, float]]:
        """What stands between the flutes and the holder: name, diameter, from and to which height."""
        found = []
        at = self.cutter.flute_length_mm
        if self.neck_length_mm > 0:
            found.append(("neck", self.neck_diameter_mm or self.cutter.diameter_mm, at, at + self.neck_length_mm))
            at += self.neck_length_mm
        if self.stick_out_mm > at + 1e-9:
            found.append(("shank", self.shank_mm, at, self.stick_out_mm))
        return found

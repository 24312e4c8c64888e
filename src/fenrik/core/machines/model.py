"""A three-axis machine as data."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field, field_validator

from fenrik.core.toolpath import MotionLimits


class Machine(BaseModel):
    """Speeds, drives and reach of a machine with three linear axes (names as in ISO 841)."""

    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=80, title="Name")
    spindle_max_rpm: float = Field(
        default=12_000, gt=0, le=200_000, title="Fastest spindle speed", json_schema_extra={"unit": "rpm"}
    )
    rapid_mm_min: float = Field(default=20_000, gt=0, le=200_000, title="Rapid", json_schema_extra={"unit": "mm/min"})
    max_feed_mm_min: float = Field(
        default=10_000, gt=0, le=200_000, title="Fastest feed", json_schema_extra={"unit": "mm/min"}
    )
    acceleration_mm_s2: float = Field(
        default=3000, gt=0, le=100_000, title="Acceleration", json_schema_extra={"unit": "mm/s²"}
    )
    path_tolerance_mm: float = Field(
        default=0.02,
        gt=0,
        le=1,
        title="Corner tolerance",
        description="How far the control may round a corner",
        json_schema_extra={"unit": "mm"},
    )
    travel_mm: tuple[float, float, float] = Field(
        default=(500, 400, 400), title="Travel", json_schema_extra={"unit": "mm"}
    )
    longest_tool_mm: float = Field(default=250, gt=0, le=2000, title="Longest tool", json_schema_extra={"unit": "mm"})
    power_kw: float = Field(default=11, gt=0, le=500, title="Spindle power", json_schema_extra={"unit": "kW"})
    torque_nm: float = Field(default=60, gt=0, le=5000, title="Spindle torque", json_schema_extra={"unit": "Nm"})
    taper: str = Field(default="ISO 40", max_length=40, title="Taper")
    table_mm: tuple[float, float] = Field(
        default=(700, 450), title="Table", description="Length along X, width along Y", json_schema_extra={"unit": "mm"}
    )
    magazine_places: int = Field(default=24, ge=0, le=500, title="Magazine places")
    tool_change_s: float = Field(default=8, ge=0, le=3600, title="Tool change", json_schema_extra={"unit": "s"})

    @field_validator("travel_mm", "table_mm")
    @classmethod
    def _has_size(cls, value: tuple[float, ...]) -> tuple[float, ...]:
        if any(not 0 < v <= 100_000 for v in value):
            raise ValueError("every length must be above 0 and at most 100 000 mm")
        return value

    def limits(self) -> MotionLimits:
        return MotionLimits(self.rapid_mm_min, self.max_feed_mm_min, self.acceleration_mm_s2, self.path_tolerance_mm)

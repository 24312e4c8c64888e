"""What every check reports."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

Severity = Literal["fault", "attention", "note"]


class Finding(BaseModel):
    """One thing that a check has found: what, how bad, where, when, how much, and what to do."""

    kind: str = Field(description="gouge, rapid in stock, holder contact, shank contact, near miss, overtravel …")
    severity: Severity
    message: str
    advice: str = ""
    operation: int | None = None
    motion: int | None = Field(default=None, description="index of the motion in the proof of its setup")
    line: int | None = Field(default=None, description="line of the posted program")
    time_s: float | None = None
    place: tuple[float, float, float] | None = Field(default=None, description="mm, in the work frame")
    bodies: list[str] = Field(default_factory=list)
    amount: float | None = Field(default=None, description="in `unit`")
    unit: str = "mm"
    count: int = Field(default=1, description="motions in a row that show the same")


class Unreached(BaseModel):
    """A place that an operation could not machine, and why."""

    reason: str
    place: tuple[float, float, float] = Field(description="mm, in the work frame")
    level_mm: float | None = None
    area_mm2: float | None = None
    advice: str = ""

"""The rules by which features become operations. A job carries its own; the shop keeps one for new jobs."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.solids.references import FaceReference

MM: dict[str, Any] = {"unit": "mm"}
PERCENT: dict[str, Any] = {"unit": "%"}
HoleWay = Literal["automatic", "drill", "ream", "tap", "bore milling", "thread milling", "back boring", "leave"]


class HoleChoice(BaseModel):
    """How some holes are made, in place of what the recipe says."""

    model_config = ConfigDict(extra="forbid")
    face: FaceReference = Field(description="a bore of the hole")
    way: HoleWay


class Recipe(BaseModel):
    """How the shop makes things."""

    model_config = ConfigDict(extra="forbid")
    name: str = Field(default="House rules", max_length=80, title="Name")
    face_top: bool = Field(default=True, title="Face the top", description="Where stock stands over the part")
    outside: bool = Field(default=True, title="Outside", description="Contour round the part")
    largest_mill_mm: float = Field(default=20, gt=0, le=200, title="Largest mill", json_schema_extra=MM)
    wall_allowance_mm: float = Field(default=0.3, ge=0, le=10, title="Wall allowance of roughing", json_schema_extra=MM)
    fit_percent: float = Field(
        default=70,
        gt=10,
        le=98,
        title="Roughing mill",
        description="Largest share of a pocket's width",
        json_schema_extra=PERCENT,
    )
    stepover_percent: float = Field(
        default=40, gt=1, le=95, title="Stepover", description="Share of the mill's diameter", json_schema_extra=PERCENT
    )
    stepdown_percent: float = Field(
        default=80,
        gt=1,
        le=400,
        title="Stepdown",
        description="Share of the mill's diameter",
        json_schema_extra=PERCENT,
    )
    spot_holes: bool = Field(default=True, title="Spot holes")
    spot_up_to_mm: float = Field(default=16, gt=0, le=100, title="Spot up to", json_schema_extra=MM)
    mill_over_mm: float = Field(
        default=32, gt=0, le=500, title="Mill holes over", description="And those without a drill", json_schema_extra=MM
    )
    drill_short_mm: float = Field(default=0.1, ge=0, le=2, title="Drill may be smaller by", json_schema_extra=MM)
    peck_over: float = Field(
        default=4,
        ge=1,
        le=50,
        title="Peck from a depth of",
        description="In diameters, in steel; deeper in cast iron and light metals, sooner in tough ones",
        json_schema_extra={"unit": "×"},
    )
    threads: Literal["tap", "mill", "leave plain"] = Field(
        default="tap", title="Bores of tap-drill size", description="In metric coarse sizes"
    )
    ream: Literal["never", "where a reamer fits"] = Field(default="never", title="Ream")
    break_through_mm: float = Field(default=1.0, ge=0, le=20, title="Break-through", json_schema_extra=MM)
    chamfers: bool = Field(default=True, title="Chamfers", description="Those of the model")

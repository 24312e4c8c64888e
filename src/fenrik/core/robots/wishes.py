"""What a person wishes of an arm's way through a path, and what its freedoms may do."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

Freedom = Literal["held", "set once", "moves along"]


class JointRange(BaseModel):
    """A narrower range of a joint."""

    model_config = ConfigDict(extra="forbid")
    joint: str = Field(min_length=1, max_length=20, title="Joint")
    low: float = Field(ge=-100_000, le=100_000, title="Lowest")
    high: float = Field(ge=-100_000, le=100_000, title="Highest")

    @model_validator(mode="after")
    def _has_a_way(self) -> JointRange:
        if not self.low < self.high:
            raise ValueError("the lowest value must be below the highest")
        return self


def _wish(title: str, description: str, default: float = 0.0) -> float:
    value: float = Field(
        default=default, ge=0, le=1, title=title, description=description, json_schema_extra={"slider": True}
    )
    return value


class ArmWishes(BaseModel):
    """How the arm of a cell goes along a path: wishes from 0 (none) to 1, and what the axes round it may do."""

    model_config = ConfigDict(extra="forbid")
    elbow_high: float = _wish("Keep the elbow high", "Away from the work and what stands on the table")
    facing: float = _wish(
        "Keep the flange facing the base", "Seen from above its axis stays in line with the arm's base"
    )
    table_turns: float = _wish("Let the table turn", "The more, the less the arm has to move", 0.5)
    arm_turns: float = _wish("Let the arm turn", "The more, the less table and track have to move", 0.5)
    stay: float = _wish("Stay near a posture", "One that was taught")
    posture: str = Field(default="", max_length=40, title="Posture", description="By its name in the cell")
    table: Freedom = Field(default="moves along", title="Turntable")
    table_deg: float = Field(
        default=0.0, ge=-36_000, le=36_000, title="Turntable at", description="While it is held",
        json_schema_extra={"unit": "deg", "when": {"table": "held"}},
    )  # fmt: skip
    track: Freedom = Field(default="set once", title="Track")
    track_mm: float = Field(
        default=0.0, ge=-100_000, le=100_000, title="Track at", description="While it is held",
        json_schema_extra={"unit": "mm", "when": {"track": "held"}},
    )  # fmt: skip
    ranges: list[JointRange] = Field(default_factory=list, max_length=12, title="Narrower ranges")

"""What every check reports."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, Field

Severity = Literal["fault", "attention", "note"]


class Occurrence(BaseModel):
    """Where a finding shows once more."""

    motion: int | None = None
    time_s: float | None = None
    place: tuple[float, float, float] | None = None
    amount: float | None = None


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
    count: int = Field(default=1, description="motions that show the same, all together")
    places: int = Field(default=1, description="how many stretches of the program show the same in this row")
    also: list[Occurrence] = Field(
        default_factory=list, description="the other stretches, in order of time, as many as are worth a look"
    )
    until_s: float | None = Field(default=None, description="when it is seen last, where there are several stretches")


MOST_OCCURRENCES = 100


def as_causes(found: list[Finding]) -> list[Finding]:
    """Findings of one kind by one row on the same bodies as one: the worst of them, with where else it shows."""
    groups: dict[tuple[object, ...], list[Finding]] = {}
    for one in found:
        alone = one.operation is None or one.motion is None
        key = (id(one),) if alone else (one.kind, one.severity, one.operation, *one.bodies)
        groups.setdefault(key, []).append(one)
    return [_joined(alike) for alike in groups.values()]


def _joined(alike: list[Finding]) -> Finding:
    if len(alike) == 1:
        return alike[0]
    worst = (
        min(alike, key=lambda f: f.amount or 0.0)
        if _less_is_worse(alike[0])
        else max(alike, key=lambda f: f.amount or 0.0)
    )
    others = sorted((f for f in alike if f is not worst), key=lambda f: f.time_s or 0.0)
    times = [f.time_s for f in alike if f.time_s is not None]
    more = len(others)
    return worst.model_copy(
        update={
            "message": f"{worst.message} The worst of {more + 1} places in this row.",
            "count": sum(f.count for f in alike),
            "places": len(alike),
            "also": [
                Occurrence(motion=f.motion, time_s=f.time_s, place=f.place, amount=f.amount)
                for f in others[:MOST_OCCURRENCES]
            ],
            "until_s": max(times, default=None),
        }
    )


def _less_is_worse(one: Finding) -> bool:
    """Of gaps the smallest is the worst."""
    return one.kind == "near miss" and "fixture" in one.bodies


class Unreached(BaseModel):
    """A place that an operation could not machine, and why."""

    reason: str
    place: tuple[float, float, float] = Field(description="mm, in the work frame")
    level_mm: float | None = None
    area_mm2: float | None = None
    volume_mm3: float | None = None
    stick_out_mm: float | None = Field(default=None, description="with which the tool would come there")
    advice: str = ""

    @classmethod
    def at(cls, place: NDArray[np.float64], reason: str, advice: str) -> Unreached:
        """What is left out along a way, told with a place (3,) on it."""
        x, y, z = place.tolist()
        return cls(reason=reason, place=(x, y, z), level_mm=z, area_mm2=0.0, advice=advice)

"""The heights of an operation: where they are, what they are counted from, which number of the document moves them."""

from __future__ import annotations

from typing import Literal, cast

import numpy as np
from pydantic import BaseModel, Field

from fenrik.core.build import Build
from fenrik.core.frames import Points
from fenrik.core.inputs import ENDS, End, absolute_params, safe_over, targets_of
from fenrik.core.job import Operation, Setup
from fenrik.core.strategies.common import StockTops
from fenrik.core.strategies.facing import Facing
from fenrik.core.strategies.level_roughing import LevelRoughing
from fenrik.core.strategies.prismatic import Anchors, TargetParams, bounds_of
from fenrik.core.strategies.targets import Targets


class Height(BaseModel):
    """One height of an operation, in the work frame."""

    name: Literal["clearance", "retract", "top", "bottom"]
    level_mm: float
    base_mm: float = Field(description="what it is counted from; the number in the document is level − base")
    path: str = Field(description="place of that number in the document")
    counted_from: str


def heights_of(build: Build, operation: Operation) -> list[Height]:
    """Clearance and retract height of an operation, and the top and bottom of what it cuts, where it has them.

    Of geometry at several levels the highest top and the lowest bottom are given. Before the stock is computed, the top
    of the first stock stands for it.

    Raises:
        FenrikError: when picked geometry is lost.
    """
    setup = build.job.setup(operation.setup)
    zero = float(build.zero(setup)[2])
    over = safe_over(build, setup, operation.instance) - zero
    found = [
        Height(
            name=name,
            level_mm=over + mm,
            base_mm=over,
            path=f"setups/{setup.id}/{name}_mm",
            counted_from="top of stock and fixtures",
        )
        for name, mm in (("clearance", setup.clearance_mm), ("retract", setup.retract_mm))
    ]
    params = operation.params
    if isinstance(params, LevelRoughing):
        return found + _of_levels(build, setup, operation, params, zero)
    if not isinstance(params, TargetParams):
        return found
    ends = [e for e in ENDS if e in params.heights]
    if not ends:
        return found
    absolute, targets = cast(TargetParams, absolute_params(build, operation)), targets_of(build, operation)
    anchors = _anchors(build, setup, operation)
    for end in ends:
        level = _level(absolute, end, anchors, targets) - zero
        if np.isfinite(level):
            own = float(getattr(params, f"{end}_mm"))
            found.append(_height(operation, end, level, level - own, getattr(params, f"{end}_from")))
    return found


def _height(operation: Operation, end: End, level: float, base: float, counted_from: str) -> Height:
    path = f"operations/{operation.number}/params/{end}_mm"
    return Height(name=end, level_mm=level, base_mm=base, path=path, counted_from=counted_from)


def _of_levels(build: Build, setup: Setup, operation: Operation, params: LevelRoughing, zero: float) -> list[Height]:
    """Roughing in levels counts from the work zero; without numbers it goes from the stock's top to its bottom."""
    low, high = build.placing(setup).stock[:, 2]
    ends: list[tuple[End, float | None, float]] = [("top", params.top_mm, high), ("bottom", params.bottom_mm, low)]
    return [_height(operation, e, float(stock - zero if mm is None else mm), 0.0, "work zero") for e, mm, stock in ends]


def _anchors(build: Build, setup: Setup, operation: Operation) -> Anchors:
    placing = build.placing(setup)
    part_low, part_high = placing.parts[:, 2]
    stock_top = float(placing.stock[1][2])
    zero = float(build.zero(setup)[2])
    if build.has_stock_before(operation):
        tops = StockTops(build.stock_before(operation))
        return Anchors(tops.over, tops.highest, float(part_low), float(part_high), zero)
    return Anchors(lambda a, b: stock_top, stock_top, float(part_low), float(part_high), zero)


def _level(params: TargetParams, end: End, anchors: Anchors, targets: Targets) -> float:
    """The highest top or lowest bottom over all geometry, in the setup's frame; not finite where there is none."""
    places: list[tuple[Points, Points, float]] = [
        *((*bounds_of(a.rings), a.floor) for a in targets.areas),
        *((c.curve.points.min(axis=0), c.curve.points.max(axis=0), c.level) for c in targets.chains),
        *((h.xy - h.diameter / 2, h.xy + h.diameter / 2, h.top if end == "top" else h.bottom) for h in targets.holes),
    ]
    if not places and isinstance(params, Facing):
        places = [(np.zeros(2), np.zeros(2), anchors.part_top)]
    if end == "top":
        return max((anchors.top_of(params, low, high, level) for low, high, level in places), default=np.nan)
    return min((anchors.bottom_of(params, level) for _, _, level in places), default=np.nan)

"""The heights of an operation: where they are, what they are counted from, which number of the document moves them."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from fenrik.core.build import Build
from fenrik.core.build.given import safe_over
from fenrik.core.build.picks import absolute_params, targets_of
from fenrik.core.job import Operation, Setup
from fenrik.core.strategies.common import Anchors, StockTops
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

    def targets() -> Targets:
        return targets_of(build, operation)

    absolute = absolute_params(build, operation)
    for level in absolute.levels(_anchors(build, setup, operation), targets):
        own = getattr(operation.params, f"{level.end}_mm")
        height = level.level_mm - zero
        found.append(
            Height(
                name=level.end,
                level_mm=height,
                base_mm=0.0 if own is None else height - own,
                path=f"operations/{operation.number}/params/{level.end}_mm",
                counted_from=getattr(operation.params, f"{level.end}_from", level.counted_from),
            )
        )
    return found


def _anchors(build: Build, setup: Setup, operation: Operation) -> Anchors:
    placing = build.placing(setup)
    part_low, part_high = (float(z) for z in placing.parts[:, 2])
    stock_low, stock_top = (float(z) for z in placing.stock[:, 2])
    zero = float(build.zero(setup)[2])
    if build.has_stock_before(operation):
        tops = StockTops(build.stock_seen(operation))
        return Anchors(tops.over, tops.highest, stock_low, part_low, part_high, zero)
    return Anchors(lambda a, b: stock_top, stock_top, stock_low, part_low, part_high, zero)

"""Rest roughing: clear with a smaller tool what an earlier one left, and nothing else.

What is left is what the stock really holds, or, by the name of the earlier tool, what that cannot come to: the area
that its cutter covers at a level, where part, holder and fixtures let it be, is taken for cleared (the opening of the
free area by the cutter; Serra, Image Analysis and Mathematical Morphology, 1982). The passes are those of steady-load
roughing: they come from the side that is cleared and hold the engagement.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from pydantic import Field
from shapely.geometry.base import BaseGeometry

from fenrik.core.strategies.common import MM, Outcome, require
from fenrik.core.strategies.declared import Strategy, mills
from fenrik.core.strategies.given import ON_SURFACE, Given
from fenrik.core.strategies.ground.level_ground import FRESH, LevelGround, Rest, finishes, makes
from fenrik.core.strategies.ground.steady_row import SteadyParams, clear_steadily, require_flutes


class RestRoughing(SteadyParams):
    """Clears with a smaller tool what an earlier one left, with a held load."""

    strategy: Literal["rest roughing"] = "rest roughing"
    reference_tool: int | None = Field(
        default=None,
        title="Left by tool",
        description="What that tool cannot come to is cleared; empty: what the stock holds",
        json_schema_extra={"names": "tool"},
    )
    thicker_mm: float = Field(
        default=0.3,
        ge=0,
        le=50,
        title="Thicker than",
        description="What is left thinner, seen from above, is left alone",
        json_schema_extra=MM,
    )


def rest_roughing(given: Given, params: RestRoughing) -> Outcome:
    """Roughing of what is left.

    Raises:
        FenrikError: for levels in the wrong order, or too many; a stepdown longer than the flutes; an earlier tool that
            is no larger.
    """
    require_flutes(given, params)
    return clear_steadily(given, params, LevelGround(given, params, Rest(params.thicker_mm, _cleared(given, params))))


def _cleared(given: Given, params: RestRoughing) -> Callable[[float, float], BaseGeometry] | None:
    """Where the earlier tool leaves nothing at a level, by the level and the one over it; None where the stock says."""
    earlier = given.reference
    if earlier is None:
        return None
    require(
        earlier.cutter.radius_mm > given.cutter.radius_mm,
        "reference_tool",
        f"has {earlier.cutter.diameter_mm:g} mm, no more than this tool's {given.cutter.diameter_mm:g} mm.",
        "Choose the larger tool that cleared before.",
    )
    return LevelGround(given.with_tool(earlier), params).cleared_by


STRATEGY = Strategy(
    params=RestRoughing,
    run=rest_roughing,
    version=4,
    feeds_by_load=True,
    skims=True,
    group="Free shapes",
    needs=(*ON_SURFACE, "tool", "region", "keep_out", "stay_in", "reference"),
    cutters=mills("flat", "bull-nose"),
    stage=2,
    everywhere=True,
    makes=makes,
    left_to="rest roughing",
    fresh=FRESH,
    of_diameter={"stepdown_mm": 1.0},
    finishes=finishes,
)

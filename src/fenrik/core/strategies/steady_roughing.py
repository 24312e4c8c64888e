"""Steady-load roughing: clear material with an engagement of the cutter that is held all along."""

from __future__ import annotations

from typing import Literal

from fenrik.core.strategies.common import Outcome
from fenrik.core.strategies.declared import Strategy, mills
from fenrik.core.strategies.given import ON_SURFACE, Given
from fenrik.core.strategies.ground.level_ground import FRESH, LevelGround, finishes, makes
from fenrik.core.strategies.ground.steady_row import SteadyParams, clear_steadily, require_flutes


class SteadyRoughing(SteadyParams):
    """Clears stock with a held load, from outside or from a helix."""

    strategy: Literal["steady roughing"] = "steady roughing"


def steady_roughing(given: Given, params: SteadyRoughing) -> Outcome:
    """Roughing with a held engagement.

    Raises:
        FenrikError: for levels in the wrong order, or too many; a stepdown longer than the flutes.
    """
    require_flutes(given, params)
    return clear_steadily(given, params, LevelGround(given, params))


STRATEGY = Strategy(
    params=SteadyRoughing,
    run=steady_roughing,
    version=5,
    feeds_by_load=True,
    skims=True,
    group="Free shapes",
    needs=(*ON_SURFACE, "tool", "region", "keep_out", "stay_in"),
    cutters=mills("flat", "bull-nose"),
    stage=1,
    everywhere=True,
    makes=makes,
    left_to="rest roughing",
    fresh=FRESH,
    of_diameter={"stepdown_mm": 1.0},
    finishes=finishes,
)

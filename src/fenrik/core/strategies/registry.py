"""What strategies there are: parameter model and function of each."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from pydantic import BaseModel, Field

from fenrik.core.strategies.common import Outcome, StrategyInputs
from fenrik.core.strategies.level_roughing import LevelRoughing, level_roughing
from fenrik.core.strategies.parallel_finishing import ParallelFinishing, parallel_finishing

StrategyParams = Annotated[LevelRoughing | ParallelFinishing, Field(discriminator="strategy")]

STRATEGIES: dict[str, tuple[type[BaseModel], Callable[..., Outcome], int]] = {
    "level roughing": (LevelRoughing, level_roughing, 2),
    "parallel finishing": (ParallelFinishing, parallel_finishing, 2),
}
"""Name → parameter model, function, version of the algorithm (raise it when the path it makes changes)."""


def run_strategy(inputs: StrategyInputs, params: Any) -> Outcome:
    """Compute an operation's path with the strategy that its parameters belong to."""
    return STRATEGIES[params.strategy][1](inputs, params)

"""Strategies: one file each, one function each. The registry is in `registry`."""

from fenrik.core.strategies.common import Outcome, StrategyInputs
from fenrik.core.strategies.registry import STRATEGIES, StrategyParams, run_strategy

__all__ = ["STRATEGIES", "Outcome", "StrategyInputs", "StrategyParams", "run_strategy"]

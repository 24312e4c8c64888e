"""What strategies there are: every file of this folder that declares one."""

from __future__ import annotations

import functools
import importlib
import operator
import pkgutil
from typing import TYPE_CHECKING, Annotated, Any

from pydantic import Field

from fenrik.core import strategies
from fenrik.core.errors import fail
from fenrik.core.strategies.common import Outcome
from fenrik.core.strategies.declared import Strategy
from fenrik.core.strategies.given import Given


def _declared() -> dict[str, Strategy]:
    names = [m.name for m in pkgutil.iter_modules(strategies.__path__) if not m.name.startswith("_")]
    modules = [importlib.import_module(f"{strategies.__name__}.{n}") for n in names if n != "registry"]
    found: list[Strategy] = [m.STRATEGY for m in modules if hasattr(m, "STRATEGY")]
    for strategy in found:
        strategy.params.declared = strategy.says()
    return {s.name: s for s in sorted(found, key=lambda s: (s.order, s.name))}


STRATEGIES: dict[str, Strategy] = _declared()
"""By name, in the order of the menu."""

if TYPE_CHECKING:
    StrategyParams = Any
else:
    StrategyParams = Annotated[
        functools.reduce(operator.or_, (s.params for s in STRATEGIES.values())), Field(discriminator="strategy")
    ]


def run_strategy(given: Given, params: Any) -> Outcome:
    """Compute an operation's path with the strategy that its parameters belong to.

    Raises:
        FenrikError: when the strategy cannot use the tool, or as the strategy says.
    """
    strategy, cutter = STRATEGIES[params.strategy], given.cutter
    if cutter.kind not in strategy.cutters:
        raise fail(
            "tool.cutter",
            f"is a {cutter.kind}, which {cutter.only or f'{strategy.name} cannot use'}.",
            f"Choose a {', '.join(strategy.cutters)}, or another strategy.",
            cutter.kind,
        )
    return strategy.run(given, params)

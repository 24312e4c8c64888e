"""What strategies there are: parameter model and function of each."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from pydantic import BaseModel, Field

from fenrik.core.strategies.back_boring import BackBoring, back_boring
from fenrik.core.strategies.bore_milling import BoreMilling, bore_milling
from fenrik.core.strategies.common import Outcome, StrategyInputs, require
from fenrik.core.strategies.contour import Contour, contour
from fenrik.core.strategies.drilling import Drilling, drilling
from fenrik.core.strategies.edge_chamfer import EdgeChamfer, edge_chamfer
from fenrik.core.strategies.engraving import Engraving, engraving
from fenrik.core.strategies.facing import Facing, facing
from fenrik.core.strategies.level_roughing import LevelRoughing, level_roughing
from fenrik.core.strategies.parallel_finishing import ParallelFinishing, parallel_finishing
from fenrik.core.strategies.pocket_clearing import PocketClearing, pocket_clearing
from fenrik.core.strategies.slot import Slot, slot
from fenrik.core.strategies.thread_milling import ThreadMilling, thread_milling
from fenrik.core.tools.cutters import BackBoringBar

StrategyParams = Annotated[
    LevelRoughing
    | ParallelFinishing
    | Facing
    | PocketClearing
    | Contour
    | Slot
    | Drilling
    | BackBoring
    | BoreMilling
    | ThreadMilling
    | EdgeChamfer
    | Engraving,
    Field(discriminator="strategy"),
]

STRATEGIES: dict[str, tuple[type[BaseModel], Callable[..., Outcome], int]] = {
    "level roughing": (LevelRoughing, level_roughing, 5),
    "parallel finishing": (ParallelFinishing, parallel_finishing, 5),
    "facing": (Facing, facing, 3),
    "pocket clearing": (PocketClearing, pocket_clearing, 4),
    "contour": (Contour, contour, 4),
    "slot": (Slot, slot, 3),
    "drilling": (Drilling, drilling, 4),
    "bore milling": (BoreMilling, bore_milling, 4),
    "back boring": (BackBoring, back_boring, 1),
    "thread milling": (ThreadMilling, thread_milling, 4),
    "edge chamfer": (EdgeChamfer, edge_chamfer, 3),
    "engraving": (Engraving, engraving, 3),
}
"""Name → parameter model, function, version of the algorithm (raise it when the path it makes changes)."""


def run_strategy(inputs: StrategyInputs, params: Any) -> Outcome:
    """Compute an operation's path with the strategy that its parameters belong to.

    Raises:
        FenrikError: when the strategy cannot use the tool, or as the strategy says.
    """
    cutter = inputs.tool.cutter
    require(
        not isinstance(cutter, BackBoringBar) or isinstance(params, BackBoring),
        "tool.cutter",
        f"is a {cutter.kind}, which cuts on its upper side only.",
        "Choose the strategy back boring, or another tool.",
        cutter.kind,
    )
    return STRATEGIES[params.strategy][1](inputs, params)

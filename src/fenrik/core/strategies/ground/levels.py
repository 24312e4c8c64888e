"""Heights at which a tool goes round."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from fenrik.core.strategies.common import require

MAX_LEVELS = 2000
APART_MM = 1e-3


def depth_levels(top: float, bottom: float, stepdown_mm: float | None) -> list[float]:
    """Heights of the passes from high to low: even steps, none larger than the stepdown."""
    if stepdown_mm is None or top - bottom <= 1e-9:
        return [bottom]
    require(
        (top - bottom) / stepdown_mm < MAX_LEVELS,
        "stepdown_mm",
        f"makes more than {MAX_LEVELS} levels.",
        "Use a larger stepdown.",
        stepdown_mm,
    )
    count = max(int(np.ceil((top - bottom) / stepdown_mm - 1e-9)), 1)
    return [float(z) for z in top - (top - bottom) * np.arange(1, count + 1) / count]


def levels_with_stops(top: float, bottom: float, stepdown_mm: float, stops: Iterable[float]) -> list[float]:
    """Heights from high to low that hold all stops between top and bottom, in even steps between them."""
    within = {round(z, 6) for z in stops if bottom + APART_MM < z < top - APART_MM}
    levels, upper = [], top
    for stop in sorted({*within, round(bottom, 6)}, reverse=True):
        levels += depth_levels(upper, stop, stepdown_mm)
        upper = stop
    return levels

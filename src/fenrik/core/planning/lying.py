"""How places of a surface lie to a tool's axis, and which strategy finishes those that lie so."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.strategies.declared import Duty

LEVEL, STEEP, STANDS = 0.9999, 0.5, 0.02
"""Cosines to the axis: over the first a place is level; under the second it is followed as a wall (flatter than 60° it
is finished in lines); within the third it stands upright."""
STEEPEST_SLOPE = 0.35
"""Cosine of the steepest place that lines are made close enough for."""
STRATEGY_FOR: dict[Duty, str] = {
    "level": "pocket clearing",
    "upright": "waterline",
    "leaning": "waterline",
    "slope": "parallel finishing",
}

Mask = NDArray[np.bool_]


def lying(cosine: Points) -> dict[Duty, Mask]:
    """Places by how they lie; slopes go on into the steepest places that lines are made for.

    Args:
        cosine: (n,) of the outward normals to the axis.
    """
    return {
        "level": cosine > LEVEL,
        "upright": np.abs(cosine) <= STANDS,
        "leaning": (cosine > STANDS) & (cosine <= STEEP),
        "slope": (cosine > STEEPEST_SLOPE) & (cosine <= LEVEL),
    }


def duty_of(cosine: float) -> Duty:
    """What a place asks for first."""
    found = lying(np.array([cosine]))
    first: tuple[Duty, ...] = ("level", "upright", "leaning", "slope")
    return next((d for d in first if found[d][0]), "upright")

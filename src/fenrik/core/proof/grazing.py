"""How much a cutter takes that only grazes a wall which it passes."""

from __future__ import annotations

import numpy as np

from fenrik.core.frames import Points


def grazed_mm3(lengths_mm: Points, radius_mm: float, deep_mm: float, cell_mm: float) -> Points:
    """Most that motions take which come no deeper than so much into walls beside them: along each a segment of the
    cutter's circle (area ⅔ · chord · height, for small heights), and what one ray of the stock stands for.

    Args:
        lengths_mm: (n,) of the motions. cell_mm: distance of the stock's rays.

    Returns:
        (n,) mm³.
    """
    chord = 2.0 * np.sqrt(2.0 * radius_mm * deep_mm)
    return np.asarray(deep_mm * (cell_mm**2 + 2.0 / 3.0 * chord * lengths_mm))

"""Find the arcs again in polylines whose round stretches were made of short chords."""

from __future__ import annotations

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.regions import _arc_kernels as kernels
from fenrik.core.sketches import Curve

MAX_RADIUS_MM = 5000.0
LEAST_STEP_MM = 2e-5


def fit_arcs(points: Points, closed: bool, tolerance_mm: float) -> Curve:
    """A polyline as lines and arcs.

    Every place of the result lies within the tolerance of the polyline and the other way round. Arcs go through a
    first, a middle and a last point of the polyline; each stretch is taken as long as it fits, none longer than a half
    turn, so that a circle becomes two arcs.

    Args:
        points: (n, 2) mm; a closed one does not repeat its first point.
    """
    points = np.asarray(points, float)
    step = np.linalg.norm(np.diff(points, axis=0), axis=1)
    points = points[np.concatenate([[True], step > LEAST_STEP_MM])]
    if closed:
        if len(points) > 2 and np.linalg.norm(points[0] - points[-1]) <= LEAST_STEP_MM:
            points = points[:-1]
        points = np.roll(points, -_seam(points), axis=0)
        points = np.vstack([points, points[:1]])
    if len(points) < 2:
        return Curve(points, np.zeros(0), False)
    kept, bulges = kernels.fit(np.ascontiguousarray(points), tolerance_mm, MAX_RADIUS_MM)
    if closed:
        return Curve(points[kept[:-1]], bulges[1:], True)
    return Curve(points[kept], bulges[1:], False)


def _seam(points: Points) -> int:
    """Where a closed polyline is best begun: at its longest stretch, so that no arc is cut there."""
    return int(np.linalg.norm(np.roll(points, -1, axis=0) - points, axis=1).argmax())

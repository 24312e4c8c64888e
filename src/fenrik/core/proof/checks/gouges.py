"""Places that were cut into the part deeper than tolerance and bound allow, and places of which nobody can say."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.findings import Finding
from fenrik.core.frames import Points
from fenrik.core.proof.checks.telling import finding_at
from fenrik.core.proof.deviation import Compared
from fenrik.core.proof.run import Run

CLUSTER_MM = 5.0


def check(run: Run, surface: Compared) -> list[Finding]:
    """Gouges of each operation, and how much of the surface is unknown."""
    found = _unknown(surface.places[~surface.known] - run.inputs.zero, len(surface.places))
    for number, tolerance in run.inputs.tolerances.items():
        deep = surface.distance < -(tolerance + surface.bound)
        rows = np.flatnonzero((surface.operation == number) & surface.known & deep)
        found += _gouges(run, surface, rows, tolerance)
    return found


def _gouges(run: Run, surface: Compared, rows: NDArray[Any], tolerance: float) -> list[Finding]:
    """One finding for each cluster of places that were cut too deep, the deepest first."""
    found: list[Finding] = []
    seen: set[tuple[int, ...]] = set()
    places, depth = surface.places[rows] - run.inputs.zero, -surface.distance[rows]
    for k in np.argsort(-depth, kind="stable"):
        cell = tuple(np.floor(places[k] / CLUSTER_MM).astype(int).tolist())
        if cell in seen:
            continue
        seen.add(cell)
        found.append(
            finding_at(
                run,
                int(surface.motion[rows[k]]),
                kind="gouge",
                severity="fault",
                place=tuple(float(v) for v in places[k]),
                bodies=["cutter", "part"],
                amount=float(depth[k]),
                message=f"Cut {depth[k]:.3f} mm into the part; the operation's tolerance is {tolerance:g} mm.",
                advice="Check allowance, tolerance and heights of this operation.",
            )
        )
    return found


def _unknown(places: Points, of: int) -> list[Finding]:
    """Says how much of the cut surface cannot be told inside from outside, since the model is open there.

    Args:
        places: (n, 3) such places of the cut surface. of: how many places were looked at.
    """
    if len(places) == 0:
        return []
    share = 100 * len(places) / of
    x, y, z = places[0].tolist()
    return [
        Finding(
            kind="deviation unknown",
            severity="attention",
            place=(x, y, z),
            amount=share,
            unit="%",
            count=len(places),
            bodies=["part", "stock"],
            message=f"The model is open: for {share:.2g} % of the cut surface nobody can say whether it is gouged.",
            advice="Close the model where it was made, or look at these places yourself.",
        )
    ]

"""Rapids that took material with them, and feed motions that took it while the spindle stood still."""

from __future__ import annotations

import numpy as np

from fenrik.core.findings import Finding
from fenrik.core.proof.checks.telling import taken
from fenrik.core.proof.run import Run
from fenrik.core.toolpath import ORIENTED, Kind


def check(run: Run) -> list[Finding]:
    """Both, group by group."""
    path, found = run.motions.path, []
    for group in run.groups:
        rows = group.rows
        fast = rows[np.isin(path.kind[rows], [Kind.RAPID, Kind.RETRACT])]
        found += taken(
            run,
            group,
            fast,
            kind="rapid in stock",
            message="The cutter goes through {:.2f} mm³ of stock at rapid.",
            advice="Raise the retract height, or check the start height of this operation.",
        )
        still = rows[np.isin(path.spindle[rows], [0, ORIENTED]) & (path.feed[rows] > 0)]
        found += taken(
            run,
            group,
            still,
            kind="spindle stopped",
            message="The tool goes into {:.2f} mm³ of stock while the spindle stands still.",
            advice="Start the spindle before this motion.",
        )
    return found

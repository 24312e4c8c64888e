"""The tip under the top of the table."""

from __future__ import annotations

import numpy as np

from fenrik.core.findings import Finding
from fenrik.core.proof.checks.telling import CONTACT_MM, finding_at
from fenrik.core.proof.run import Run


def check(run: Run) -> list[Finding]:
    """The deepest motion under the table's top, where its height is known."""
    if run.inputs.table is None or len(run.motions.path) == 0:
        return []
    under = run.inputs.table - run.motions.path.point[:, 2]
    row = int(under.argmax())
    if under[row] <= CONTACT_MM:
        return []
    return [
        finding_at(
            run,
            row,
            kind="table contact",
            severity="fault",
            amount=float(under[row]),
            count=int(np.count_nonzero(under > CONTACT_MM)),
            bodies=["cutter", "table"],
            message=f"The tip goes {under[row]:.2f} mm into the table.",
            advice="Set the part higher, or go less deep below it.",
        )
    ]

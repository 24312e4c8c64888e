"""Operations that could not be computed, which the programs go without."""

from __future__ import annotations

from fenrik.core.findings import Finding
from fenrik.core.proof.run import Run


def check(run: Run) -> list[Finding]:
    """One fault for each."""
    return [
        Finding(
            kind="not computed",
            severity="fault",
            operation=number,
            message=f"Row {number} is not in the program: {why}",
            advice="Mend the row, or switch it off.",
        )
        for number, why in run.inputs.failed.items()
    ]

"""Operations, or rows of their paths, that the programs go without."""

from __future__ import annotations

from fenrik.core.findings import Finding
from fenrik.core.proof.run import Run


def check(run: Run) -> list[Finding]:
    """One fault for each; and what of the others was left out."""
    return [
        *run.inputs.left_out,
        *(
            Finding(
                kind="not computed",
                severity="fault",
                operation=number,
                message=f"Row {number} is not in the program: {why}",
                advice="Mend the row, or switch it off.",
            )
            for number, why in run.inputs.failed.items()
        ),
    ]

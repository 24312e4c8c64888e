"""The program that was read back against the path that was posted, along every motion."""

from __future__ import annotations

import numpy as np

from fenrik.core.findings import Finding
from fenrik.core.proof.checks.telling import finding_at
from fenrik.core.proof.run import Run

LIMIT_MM = 0.003
"""More than rounding to the last digit can move a motion, in mm or inch, along an arc too."""


def check(run: Run) -> list[Finding]:
    """The motion that strays farthest, and motions that are missing in the program."""
    apart, missing, found = run.motions.apart, run.motions.missing, []
    advice = "Report this job: the program must not be run. Another controller may post it right."
    strays = np.flatnonzero(np.nan_to_num(apart) > LIMIT_MM)
    if len(strays):
        worst = int(strays[apart[strays].argmax()])
        found.append(
            finding_at(
                run,
                worst,
                kind="program differs",
                severity="fault",
                amount=float(apart[worst]),
                count=len(strays),
                bodies=["program", "path"],
                message=f"The program strays {apart[worst]:.4f} mm from the path that it was posted from.",
                advice=advice,
            )
        )
    found += _between(run)
    if missing:
        found.append(
            Finding(
                kind="program differs",
                severity="fault",
                count=missing,
                bodies=["program", "path"],
                message=f"{missing} motions of the path are missing in the program.",
                advice=advice,
            )
        )
    return found


def _between(run: Run) -> list[Finding]:
    """Motions on which the tool strays by more than its row allows while the joints turn evenly."""
    motions = run.motions
    allowed = np.array([run.inputs.tolerances.get(int(o), np.inf) for o in motions.operation.tolist()])
    far = np.flatnonzero((motions.between > allowed + LIMIT_MM) & (motions.path.feed > 0))
    if len(far) == 0:
        return []
    worst = int(far[motions.between[far].argmax()])
    return [
        finding_at(
            run,
            worst,
            kind="program differs",
            severity="fault",
            amount=float(motions.between[worst]),
            count=len(far),
            bodies=["program", "path"],
            message=f"Between two lines the tool strays {motions.between[worst]:.4f} mm while the joints turn.",
            advice="Post the program again: the lines are too far apart for the turning of the joints.",
        )
    ]

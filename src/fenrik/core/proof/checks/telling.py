"""What checks share: stretches of motions, and findings that know their motion, line, time and place."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.findings import Finding
from fenrik.core.proof.grazing import grazed_mm3
from fenrik.core.proof.run import Group, Run

CONTACT_MM = 2e-3
"""Bodies that come nearer than this touch: less is the rounding of a program's last digit."""


def runs_of(index: NDArray) -> list[NDArray]:
    """Stretches of numbers in a row."""
    if len(index) == 0:
        return []
    return np.split(index, np.flatnonzero(np.diff(index) > 1) + 1)


def finding_at(run: Run, motion: int, **rest: Any) -> Finding:
    """A finding at a motion; its place is the motion's end where none is given."""
    motions = run.motions
    place = motions.path.point[motion] - run.inputs.zero
    return Finding(
        **{
            "operation": int(motions.operation[motion]),
            "motion": int(motion),
            "line": int(motions.line[motion]),
            "time_s": float(run.times[motion]),
            "place": tuple(float(v) for v in place),
            **rest,
        }
    )


def taken(run: Run, group: Group, rows: NDArray, kind: str, message: str, advice: str) -> list[Finding]:
    """A finding for each stretch of motions of a group that took material and should not, more than by grazing a wall;
    the volume goes into the message."""
    radius, cell = group.tool.cutter.radius_mm, run.inputs.stock.lattice.cell_mm
    bad = rows[run.removed_mm3[rows] > grazed_mm3(run.lengths_mm[rows], radius, CONTACT_MM, cell)]
    return [
        finding_at(
            run,
            stretch[run.removed_mm3[stretch].argmax()],
            kind=kind,
            severity="fault",
            amount=float(run.removed_mm3[stretch].sum()),
            unit="mm³",
            count=len(stretch),
            bodies=["cutter", "stock"],
            message=message.format(run.removed_mm3[stretch].sum()),
            advice=advice,
        )
        for stretch in runs_of(bad)
    ]

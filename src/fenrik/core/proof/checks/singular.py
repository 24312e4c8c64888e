"""Postures in which an arm is, or nearly is, singular: a little of the tool's way would ask much of its joints."""

from __future__ import annotations

import numpy as np

from fenrik.core.findings import Finding
from fenrik.core.proof.checks.telling import finding_at
from fenrik.core.proof.run import Run

SINGULAR = 0.03
"""Of what a measure is at best: the sine of 1.7 degrees between the axes that come into line."""


def check(run: Run) -> list[Finding]:
    """The motion along the path that is nearest to a singular posture, where any is too near."""
    motions, machine = run.motions, run.inputs.machine
    if len(motions.path) == 0 or not machine.by_joints:
        return []
    share = np.where(motions.path.feed > 0, machine.chain().from_singular(motions.joints), 1.0)
    near = np.flatnonzero(share < SINGULAR)
    if len(near) == 0:
        return []
    worst = int(near[share[near].argmin()])
    return [
        finding_at(
            run,
            worst,
            kind="singularity",
            severity="attention",
            amount=float(share[worst]),
            unit="",
            count=len(near),
            bodies=[machine.name],
            message=f"The arm stands singular, or nearly so, on {len(near)} motions: at worst {share[worst]:.3f} of 1.",
            advice="Let turntable or track move along, lean the tool a little, or put the work elsewhere.",
        )
    ]

"""Joints of a machine that turns: between their ends where the work stands, and no faster than they can."""

from __future__ import annotations

import numpy as np

from fenrik.core.findings import Finding
from fenrik.core.machines import turned_deg, wanted_minutes
from fenrik.core.proof.checks.telling import finding_at
from fenrik.core.proof.run import Run

SLACK, FASTER, CYCLE_S = 1e-3, 1.02, 0.01
"""Ends are not passed by the rounding of a word; a joint is too fast beyond what rounding a feed can do."""


def check(run: Run) -> list[Finding]:
    """Joints beyond their ends, and motions that ask more speed of a joint than it has."""
    if not run.inputs.machine.turns or len(run.motions.path) == 0:
        return []
    return [*_beyond(run), *_too_fast(run)]


def _beyond(run: Run) -> list[Finding]:
    found = []
    lengths = np.array([run.inputs.tools[int(t)].assembly_mm for t in run.motions.tool.tolist()])
    own = run.inputs.machine.stands(run.motions.joints, run.inputs.at, lengths)
    for joint, stands in zip(run.inputs.machine.joints, own.T, strict=True):
        low, high = (-np.inf if joint.low is None else joint.low), (np.inf if joint.high is None else joint.high)
        past = np.nan_to_num(np.fmax(stands - high, low - stands), nan=-np.inf)
        row = int(past.argmax())
        if past[row] <= SLACK:
            continue
        found.append(
            finding_at(
                run,
                row,
                kind="overtravel",
                severity="fault",
                amount=float(past[row]),
                unit=joint.unit,
                count=int((past > SLACK).sum()),
                bodies=[run.inputs.machine.name],
                message=f"{joint.name} runs {past[row]:.2f} {joint.unit} past its end, to {stands[row]:.2f}.",
                advice="Move the work on the table, tilt the tool less, or choose another machine.",
            )
        )
    return found


def _too_fast(run: Run) -> list[Finding]:
    motions, machine = run.motions, run.inputs.machine
    chain, feed = machine.chain(), motions.path.feed
    wanted = wanted_minutes(feed, run.lengths_mm, turned_deg(chain, motions.joints))
    least = 60.0 * chain.least_minutes(motions.joints, wanted)
    cutting = (feed > 0) & ~motions.fresh & (run.lengths_mm > 0)
    asked = 60.0 * run.lengths_mm / np.where(cutting, feed, 1.0)
    # What is less than a cycle of the control is its own to even out.
    fast = np.flatnonzero(cutting & (least > FASTER * asked) & (least > asked + CYCLE_S))
    if len(fast) == 0:
        return []
    worst = int(fast[(least[fast] / np.maximum(asked[fast], 1e-12)).argmax()])
    moved = np.abs(motions.joints[worst] - motions.joints[worst - 1])
    speeds = np.array([j.speed or np.inf for j in machine.joints])
    joint = machine.joints[int((moved / speeds).argmax())]
    return [
        finding_at(
            run,
            worst,
            kind="joint too fast",
            severity="attention",
            amount=float(least[worst] - asked[worst]),
            unit="s",
            count=len(fast),
            bodies=[machine.name],
            message=f"The feed asks {joint.name} for more than its {joint.speed:.0f} {joint.unit}/min: the motion "
            f"takes {least[worst]:.2f} s instead of {asked[worst]:.2f} s.",
            advice="Post the program again, or lower the feed there.",
        )
    ]

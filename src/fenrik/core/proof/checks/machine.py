"""Reach, tool length and spindle speed against the machine."""

from __future__ import annotations

import numpy as np

from fenrik.core.findings import Finding
from fenrik.core.frames import Points
from fenrik.core.machines import Machine
from fenrik.core.proof.checks.telling import finding_at
from fenrik.core.proof.run import Run


def check(run: Run) -> list[Finding]:
    """Travel of the joints, length of tools, and speed of the spindle."""
    motions, machine, tools, on_table = run.motions, run.inputs.machine, run.inputs.tools, run.inputs.on_table
    if len(motions.path) == 0:
        return []
    found = [*_out_of_reach(run), *_spans(motions.joints, machine)]
    if on_table is not None and not machine.turns:
        found += _ends(run, on_table)
    for number in np.unique(motions.tool):
        tool = tools[int(number)]
        if tool.assembly_mm > machine.longest_tool_mm:
            found.append(
                Finding(
                    kind="tool too long",
                    severity="fault",
                    bodies=[f"tool {number}"],
                    amount=tool.assembly_mm - machine.longest_tool_mm,
                    message=f"Tool {number} is {tool.assembly_mm:.0f} mm long; {machine.name} takes "
                    f"{machine.longest_tool_mm:.0f} mm.",
                    advice="Shorten stick-out or holder.",
                )
            )
        fastest = float(motions.rpm[motions.tool == number].max(initial=0.0))
        if fastest > machine.spindle_max_rpm:
            found.append(
                Finding(
                    kind="spindle speed",
                    severity="fault",
                    bodies=[f"tool {number}"],
                    unit="rpm",
                    amount=fastest - machine.spindle_max_rpm,
                    message=f"Tool {number} runs at {fastest:.0f} rpm; {machine.name} reaches "
                    f"{machine.spindle_max_rpm:.0f}.",
                    advice="Lower the spindle speed.",
                )
            )
    return found


def _out_of_reach(run: Run) -> list[Finding]:
    """Poses that no values of the joints reach."""
    beyond = np.flatnonzero(np.isnan(run.motions.joints).any(axis=1))
    if len(beyond) == 0:
        return []
    return [
        finding_at(
            run,
            int(beyond[0]),
            kind="out of reach",
            severity="fault",
            count=len(beyond),
            bodies=[run.inputs.machine.name],
            message=f"The program has {len(beyond)} poses that the machine does not reach.",
            advice="Turn the part, or choose a machine with the joints that it needs.",
        )
    ]


def _spans(joints: Points, machine: Machine) -> list[Finding]:
    """Joints that need more way than they have, wherever the part lies."""
    found = []
    for joint, values in zip(machine.all_joints(), joints.T, strict=True):
        if joint.kind == "rotary" or joint.low is None or joint.high is None or np.isnan(values).all():
            continue
        need, has = float(np.nanmax(values) - np.nanmin(values)), joint.high - joint.low
        if need > has:
            found.append(
                Finding(
                    kind="overtravel",
                    severity="fault",
                    amount=need - has,
                    bodies=[machine.name],
                    message=f"The program needs {need:.0f} mm along {joint.name}; {machine.name} has {has:.0f} mm.",
                    advice="Turn the part, or choose a larger machine.",
                )
            )
    return found


def _ends(run: Run, on_table: tuple[float, float]) -> list[Finding]:
    """Level joints that run past an end where the part lies on the table, though their way would do elsewhere."""
    machine, found, at = run.inputs.machine, [], np.array([*on_table, 0.0])
    for joint, values in zip(machine.all_joints(), run.motions.joints.T, strict=True):
        if joint.low is None or joint.high is None or joint.kind == "rotary" or abs(joint.direction[2]) > 1e-9:
            continue
        values = values + at @ np.array(joint.direction)
        past = np.fmax(values - joint.high, joint.low - values)
        if np.isnan(past).all():
            continue
        row = int(np.nanargmax(past))
        if past[row] > 0 and float(np.nanmax(values) - np.nanmin(values)) <= joint.high - joint.low:
            found.append(
                finding_at(
                    run,
                    row,
                    kind="overtravel",
                    severity="fault",
                    amount=float(past[row]),
                    bodies=[machine.name],
                    message=f"Where the part lies on the table, {joint.name} runs {past[row]:.0f} mm past its end.",
                    advice="Move the part on the table.",
                )
            )
    return found

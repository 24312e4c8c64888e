"""Reach, tool length and spindle speed against the machine."""

from __future__ import annotations

import numpy as np

from fenrik.core.errors import FenrikError
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
    work = motions.path.point - run.inputs.zero
    try:
        found = _spans(work, motions.path.axis, machine)
        if on_table is not None:
            found += _ends(work, motions.path.axis, machine, on_table)
    except FenrikError as error:
        found = [_out_of_reach(run, error)]
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


def _out_of_reach(run: Run, error: FenrikError) -> Finding:
    """A pose that no values of the joints reach."""
    problem = error.problems[0]
    details = {
        "kind": "out of reach",
        "severity": "fault",
        "bodies": [run.inputs.machine.name],
        "message": f"The program {problem.message}",
        "advice": problem.way_out,
    }
    return finding_at(run, problem.value, **details) if isinstance(problem.value, int) else Finding(**details)


def _spans(work: Points, axis: Points, machine: Machine) -> list[Finding]:
    """Joints that need more way than they have, wherever the part lies."""
    chain = machine.chain()
    values, found = chain.follow(work, axis), []
    for k in chain.linear:
        joint = chain.joints[k]
        if joint.low is None or joint.high is None:
            continue
        need, has = float(np.ptp(values[:, k])), joint.high - joint.low
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


def _ends(work: Points, axis: Points, machine: Machine, on_table: tuple[float, float]) -> list[Finding]:
    """Level joints that run past an end where the part lies on the table, though their way would do elsewhere."""
    chain = machine.chain()
    values, found = chain.follow(work + [*on_table, 0.0], axis), []
    for k in chain.linear:
        joint = chain.joints[k]
        if joint.low is None or joint.high is None or abs(joint.direction[2]) > 1e-9:
            continue
        past = np.maximum(values[:, k] - joint.high, joint.low - values[:, k])
        row = int(past.argmax())
        if past[row] > 0 and float(np.ptp(values[:, k])) <= joint.high - joint.low:
            found.append(
                Finding(
                    kind="overtravel",
                    severity="fault",
                    amount=float(past[row]),
                    bodies=[machine.name],
                    motion=row,
                    place=(float(work[row, 0]), float(work[row, 1]), float(work[row, 2])),
                    message=f"Where the part lies on the table, {joint.name} runs {past[row]:.0f} mm past its end.",
                    advice="Move the part on the table.",
                )
            )
    return found

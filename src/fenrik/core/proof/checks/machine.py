"""Reach, tool length and spindle speed against the machine."""

from __future__ import annotations

import numpy as np

from fenrik.core.findings import Finding
from fenrik.core.frames import Points
from fenrik.core.machines import Machine
from fenrik.core.proof.run import Run


def check(run: Run) -> list[Finding]:
    """Travel, length of tools, and speed of the spindle."""
    motions, machine, tools, on_table = run.motions, run.inputs.machine, run.inputs.tools, run.inputs.on_table
    found = []
    if len(motions.path) == 0:
        return []
    span = np.ptp(motions.path.point, axis=0)
    for axis, need, has in zip("XYZ", span, machine.travel_mm, strict=True):
        if need > has:
            found.append(
                Finding(
                    kind="overtravel",
                    severity="fault",
                    amount=float(need - has),
                    bodies=[machine.name],
                    message=f"The program needs {need:.0f} mm along {axis}; {machine.name} has {has:.0f} mm.",
                    advice="Turn the part, or choose a larger machine.",
                )
            )
    if on_table is not None:
        found += _check_travel(motions.path.point - run.inputs.zero, machine, on_table)
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


def _check_travel(work: Points, machine: Machine, on_table: tuple[float, float]) -> list[Finding]:
    """Whether the table reaches every place where the part lies on it; X and Y travel evenly about its middle."""
    found = []
    for axis in (0, 1):
        along = work[:, axis] + on_table[axis]
        beyond = float(np.abs(along).max()) - machine.travel_mm[axis] / 2
        if beyond > 0 and float(np.ptp(along)) <= machine.travel_mm[axis]:
            row = int(np.abs(along).argmax())
            found.append(
                Finding(
                    kind="overtravel",
                    severity="fault",
                    amount=beyond,
                    bodies=[machine.name],
                    motion=row,
                    place=(float(work[row, 0]), float(work[row, 1]), float(work[row, 2])),
                    message=f"Where the part lies on the table, {'XY'[axis]} runs {beyond:.0f} mm past its end.",
                    advice="Move the part on the table.",
                )
            )
    return found

"""Cutter location data as text in the words of ISO 3592 / ISO 4343."""

from __future__ import annotations

import numpy as np

from fenrik.core.toolpath import ORIENTED, Motion, Toolpath
from fenrik.core.tools import Tool
from fenrik.core.tools.apt import apt_parameters
from fenrik.core.tools.cutters import BackBoringBar

FLATTEN_MM = 0.001


def cutter_location(number: int, name: str, tool: Tool, rpm: float, path: Toolpath) -> str:
    """The whole path of one operation, in the work frame, arcs as chords within a micrometre."""
    flat, _ = path.flattened(FLATTEN_MM)
    assert not np.any(flat.motion != Motion.LINE)
    words = ",".join(f"{v:.6g}" for v in apt_parameters(tool.cutter))
    plain = name.encode("ascii", "replace").decode().replace("\n", " ")
    head = [
        f"PARTNO/ OPERATION {number} {plain}".rstrip(),
        "UNITS/ MM",
        "MULTAX/ ON",
        f"CUTTER/ {words}",
        f"LOADTL/ {tool.number}",
        f"SPINDL/ {rpm:.0f},RPM,CLW",
        "COOLNT/ ON" if tool.coolant else "COOLNT/ OFF",
    ]
    return "\n".join([*head, *_motions(flat, rpm, tool), "COOLNT/ OFF", "SPINDL/ OFF", "FINI", ""])


def _motions(flat: Toolpath, rpm: float, tool: Tool) -> list[str]:
    lines: list[str] = []
    rows = np.hstack([flat.point, flat.axis])
    edge = tool.cutter.edge_deg if isinstance(tool.cutter, BackBoringBar) else 0.0
    spindles = {1: f"{rpm:.0f},RPM,CLW", -1: f"{rpm:.0f},RPM,CCLW", 0: "OFF", ORIENTED: f"ORIENT,{edge:g}"}
    current, turning = -1.0, 1
    for row, rate, spindle in zip(rows.tolist(), flat.feed.tolist(), flat.spindle.tolist(), strict=True):
        if spindle != turning:
            lines.append(f"SPINDL/ {spindles[spindle]}")
            turning = spindle
        if rate <= 0:
            lines.append("RAPID")
        elif rate != current:
            lines.append(f"FEDRAT/ {rate:.6g},MMPM")
            current = rate
        lines.append("GOTO/ {:.6f},{:.6f},{:.6f},{:.6f},{:.6f},{:.6f}".format(*tuple(row)))
    return lines

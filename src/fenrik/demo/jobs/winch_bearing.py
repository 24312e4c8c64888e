"""The winch bearing: holes, threads, and collars bored from behind."""

from __future__ import annotations

from typing import Any

from fenrik.demo.jobs.rows import SIDES, bores, floor, materials, row, shelf
from fenrik.demo.own import MACHINES, TOOLS


def document() -> dict[str, Any]:
    """Cut to size before; on the ledges of a vice, with room below. Collars are bored back through the shaft bores."""
    return {
        "name": "Winch bearing",
        "part": {"file": "winch-bearing.step"},
        "machines": MACHINES,
        "tools": [*TOOLS[:2], *shelf(201, 214, 244, 263)],
        **materials("Gunmetal"),
        "setups": [
            {
                "id": "top",
                "name": "Top",
                "machine": "Gull (three-axis mill)",
                "stock": {"kind": "box", **dict.fromkeys(SIDES, 0), "z_plus_mm": 1.5},
                "fixtures": [{"kind": "vice", "id": "vice", "name": "Vice", "jaws": "step", "jaw_height_mm": 10}],
                "work_zero": {"kind": "box point", "of": "part", "at": [-1, -1, 1]},
                "work_offset": 54,
            }
        ],
        "operations": [
            row(10, "Face it", "top", 1, "facing"),
            row(20, "Cut the oil groove", "top", 2, "pocket clearing", floor(22), stepover_mm=2.4, stepdown_mm=3),
            row(30, "Spot the threads", "top", 201, "drilling", bores(2.5), cycle="spot"),
            row(40, "Drill for M6", "top", 214, "drilling", bores(2.5), cycle="peck", peck_mm=5, depth_mm=12.4),
            row(50, "Tap M6", "top", 244, "drilling", bores(2.5), cycle="tap", depth_mm=10, depth_from="tip"),
            row(60, "Mill the shaft bores", "top", 1, "bore milling", bores(11), break_through_mm=7, finish_mm=0.2),
            row(70, "Bore the collars back", "top", 263, "back boring", bores(11)),
        ],
    }

"""The rail brackets: six copies on one plate."""

from __future__ import annotations

from typing import Any

from fenrik.demo.jobs.rows import bores, floor, materials, row, shelf
from fenrik.demo.own import MACHINES, TOOLS


def document() -> dict[str, Any]:
    """Six blanks on one plate, every other column turned round."""
    return {
        "name": "Rail brackets",
        "part": {"file": "rail-bracket.step"},
        "machines": MACHINES,
        "tools": [TOOLS[0], *shelf(104, 201, 217)],
        **materials("Aluminium, wrought"),
        "setups": [
            {
                "id": "plate",
                "name": "On the plate",
                "machine": "Gull (three-axis mill)",
                "stock": {"kind": "box", "z_minus_mm": 4, "z_plus_mm": 1},
                "grid": {
                    "columns": 3,
                    "rows": 2,
                    "pitch_x_mm": 84,
                    "pitch_y_mm": 64,
                    "turn_deg": 180,
                    "which": "every other column",
                    "blanks": "one each",
                },
                "fixtures": [{"kind": "plate", "id": "plate", "name": "Plate", "size_x_mm": 320, "size_y_mm": 200}],
                "work_zero": {"kind": "box point", "of": "stock", "at": [-1, -1, 1]},
                "work_offset": 101,
            }
        ],
        "operations": [
            row(10, "Face all six", "plate", 1, "facing"),
            row(20, "Round the outsides", "plate", 1, "contour", {"kind": "outline"}, stepdown_mm=6, overlap_mm=2),
            row(
                30,
                "Mill the steps",
                "plate",
                1,
                "pocket clearing",
                floor(7),
                stepover_mm=5,
                wall_finish_mm=0.2,
                tolerance_mm=0.01,
            ),
            row(
                40,
                "Cut the slots",
                "plate",
                104,
                "pocket clearing",
                bores(3),
                stepover_mm=1.5,
                stepdown_mm=3,
                ramp_deg=6,
                tolerance_mm=0.01,
            ),
            row(50, "Spot the holes", "plate", 201, "drilling", bores(3.3), cycle="spot"),
            row(60, "Drill the holes", "plate", 217, "drilling", bores(3.3), cycle="drill"),
        ],
    }

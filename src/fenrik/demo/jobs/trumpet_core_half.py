"""The core half of the fog signal's trumpet: a deep flaring hollow, roughed with a held load by two tools, then with a
third where they leave much, finished, and its dowel holes bored."""

from __future__ import annotations

from typing import Any

from fenrik.demo.jobs.rows import SIDES, bores, materials, row
from fenrik.demo.own import DEEP_TOOLS, MACHINES

HOLLOW = [{"surface": "freeform"}]
ROUGHING = {"tolerance_mm": 0.05, "allowance_mm": 0.4, "floor_allowance_mm": 0.4, "around": HOLLOW}


def _rough(number: int, name: str, tool: int, strategy: str, **own: Any) -> dict[str, Any]:
    """A row that roughs the hollow with a held load."""
    params = {"strategy": strategy, "engagement_deg": 60, **ROUGHING, **own}
    return {"number": number, "name": name, "setup": "hollow", "tool": tool, "params": params}


def document() -> dict[str, Any]:
    return {
        "name": "Trumpet core half",
        "part": {"file": "trumpet-core-half.step"},
        "machines": MACHINES,
        "tools": DEEP_TOOLS,
        **materials("Aluminium, wrought"),
        "setups": [
            {
                "id": "hollow",
                "name": "Hollow side",
                "machine": "Gull (three-axis mill)",
                "dialect": "Plain ISO",
                "stock": {"kind": "box", **dict.fromkeys(SIDES, 0), "z_minus_mm": 0, "z_plus_mm": 1},
                "work_zero": {"kind": "box point", "of": "part", "at": [-1, -1, 1]},
                "work_offset": 54,
            }
        ],
        "operations": [
            row(10, "Face the parting", "hollow", 1, "facing"),
            row(15, "Round the corners", "hollow", 1, "contour", {"kind": "outline"}, stepdown_mm=14),
            _rough(20, "Rough the hollow", 1, "steady roughing", stepdown_mm=16, step_mm=4, ramp_deg=3),
            _rough(30, "Rough what the first leaves", 2, "rest roughing", stepdown_mm=9, step_mm=2, thicker_mm=0.5),
            _rough(40, "Rough the narrow end once more", 3, "rest roughing", stepdown_mm=6, thicker_mm=1),
            {
                "number": 50,
                "name": "Finish the hollow",
                "setup": "hollow",
                "tool": 4,
                "params": {
                    "strategy": "parallel finishing", "scallop_mm": 0.01, "direction_deg": 0, "way": "both ways",
                    "tolerance_mm": 0.01, "boundary": {"kind": "faces", "faces": HOLLOW},
                },
            },
            row(60, "Bore the dowel holes", "hollow", 5, "bore milling", bores(4), stepdown_mm=1),
        ],
    }  # fmt: skip

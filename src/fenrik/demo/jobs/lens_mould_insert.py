"""The insert of the lens mould: a cavity in tool steel, roughed, half finished and finished."""

from __future__ import annotations

from typing import Any

from fenrik.demo.jobs.rows import SIDES, materials
from fenrik.demo.own import MACHINES, TOOLS


def document() -> dict[str, Any]:
    return {
        "name": "Lens mould insert",
        "part": {"file": "lens-mould-insert.step"},
        "machines": MACHINES,
        "tools": [TOOLS[0], TOOLS[2], TOOLS[3], TOOLS[4]],
        **materials("Tool steel, annealed"),
        "setups": [
            {
                "id": "cavity",
                "name": "Cavity side",
                "machine": "Gull (three-axis mill)",
                "dialect": "Numbered with tool stop",
                "stock": {"kind": "box", **dict.fromkeys(SIDES, 2), "z_minus_mm": 0, "z_plus_mm": 1},
                "work_zero": {"kind": "box point", "of": "part", "at": [0, 0, 1]},
                "work_offset": 55,
            }
        ],
        "operations": [
            {
                "number": 10,
                "name": "Rough the cavity and the seat",
                "setup": "cavity",
                "tool": 1,
                "params": {
                    "strategy": "steady roughing",
                    "stepdown_mm": 6,
                    "engagement_deg": 50,
                    "allowance_mm": 0.35,
                    "floor_allowance_mm": 0.2,
                    "tolerance_mm": 0.05,
                },
            },
            {
                "number": 15,
                "name": "Rough the steps of the cavity",
                "setup": "cavity",
                "tool": 3,
                "params": {
                    "strategy": "rest roughing",
                    "stepdown_mm": 2,
                    "engagement_deg": 50,
                    "allowance_mm": 0.35,
                    "floor_allowance_mm": 0.2,
                    "tolerance_mm": 0.05,
                    "thicker_mm": 0.5,
                },
            },
            {
                "number": 20,
                "name": "Dowel holes and outer walls",
                "setup": "cavity",
                "tool": 5,
                "params": {
                    "strategy": "level roughing",
                    "stepdown_mm": 2,
                    "stepover_mm": 1.5,
                    "allowance_mm": 0.0,
                    "floor_allowance_mm": 0.0,
                    "tolerance_mm": 0.02,
                    "entry": "helix",
                    "ramp_deg": 4,
                    "helix_percent": 40,
                },
            },
            {
                "number": 30,
                "name": "Semi-finish the cavity",
                "setup": "cavity",
                "tool": 3,
                "params": {
                    "strategy": "parallel finishing",
                    "stepover_mm": 1.2,
                    "direction_deg": 45,
                    "way": "both ways",
                    "allowance_mm": 0.1,
                    "floor_allowance_mm": 0.1,
                    "tolerance_mm": 0.02,
                    "boundary": {"kind": "part outline"},
                },
            },
            {
                "number": 40,
                "name": "Finish the cavity",
                "setup": "cavity",
                "tool": 4,
                "params": {
                    "strategy": "parallel finishing",
                    "scallop_mm": 0.004,
                    "direction_deg": -45,
                    "way": "both ways",
                    "tolerance_mm": 0.008,
                    "boundary": {"kind": "part outline"},
                },
            },
        ],
    }

"""The lantern bracket: one side, two roughing tools, a saddle finished with a ball."""

from __future__ import annotations

from typing import Any

from fenrik.demo.jobs.rows import SIDES, bores, floor, materials, row
from fenrik.demo.own import MACHINES, TOOLS


def document() -> dict[str, Any]:
    return {
        "name": "Lantern bracket",
        "part": {"file": "lantern-bracket.step"},
        "machines": MACHINES,
        "tools": TOOLS[:4],
        **materials("Aluminium, wrought"),
        "setups": [
            {
                "id": "top",
                "name": "Top side",
                "machine": "Gull (three-axis mill)",
                "dialect": "Plain ISO",
                "stock": {
                    "kind": "box",
                    **dict.fromkeys(SIDES, 3),
                    "z_minus_mm": 0,
                    "z_plus_mm": 1.5,
                },
                "work_zero": {"kind": "box point", "of": "stock", "at": [0, 0, 1]},
                "work_offset": 54,
            }
        ],
        "operations": [
            {
                "number": 10,
                "name": "Rough the outside and the pockets",
                "setup": "top",
                "tool": 1,
                "spindle_rpm": 12000,
                "cutting_feed_mm_min": 3600,
                "params": {
                    "strategy": "steady roughing",
                    "stepdown_mm": 10,
                    "engagement_deg": 50,
                    "allowance_mm": 0.4,
                    "floor_allowance_mm": 0.2,
                    "tolerance_mm": 0.05,
                },
            },
            {
                "number": 20,
                "name": "Corners, walls and floors",
                "setup": "top",
                "tool": 2,
                "params": {
                    "strategy": "level roughing",
                    "stepdown_mm": 3,
                    "stepover_mm": 2.4,
                    "allowance_mm": 0.0,
                    "floor_allowance_mm": 0.0,
                    "tolerance_mm": 0.02,
                },
            },
            {
                "number": 30,
                "name": "Finish block, saddle and fillets",
                "setup": "top",
                "tool": 4,
                "params": {
                    "strategy": "parallel finishing",
                    "scallop_mm": 0.01,
                    "direction_deg": 0,
                    "way": "both ways",
                    "tolerance_mm": 0.01,
                    "boundary": {"kind": "part outline"},
                    "overlap_mm": 0.0,
                },
            },
            row(40, "Walls of the pockets", "top", 2, "contour", floor(6), overlap_mm=2, tolerance_mm=0.01),
            row(50, "Bore for the guide rod", "top", 1, "bore milling", bores(9), finish_mm=0.2, stepdown_mm=1.5),
        ],
    }

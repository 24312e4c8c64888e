"""The bilge pump's housing ring: a ruled wall by the side of a mill, the rim of a leaning seat broken in five axes."""

from __future__ import annotations

from typing import Any

from fenrik.demo.jobs.rows import SIDES, materials, rough, row, shelf
from fenrik.demo.own import MACHINES, TILTING_TABLE, TOOLS

RIM = {
    "edge": "curve",
    "length_mm": 343.09248816,
    "middle": [-54.0, 0.0, 47.47805433],
}
"""The seat's outer edge, an ellipse in space."""


LEANING = [0.20791169, 0.0, 0.9781476]
"""The seat looks 12° off the ring's axis."""


def document() -> dict[str, Any]:
    return {
        "name": "Bilge pump ring",
        "part": {"file": "pump-ring.step"},
        "machines": [*MACHINES, TILTING_TABLE],
        "tools": [TOOLS[0], TOOLS[2], *shelf(109, 302)],
        **materials("Gunmetal"),
        "setups": [
            {
                "id": "seat",
                "name": "Seat side",
                "machine": TILTING_TABLE["name"],
                "dialect": "Five axes, tip held",
                "stock": {"kind": "box", **dict.fromkeys(SIDES, 1.5), "z_minus_mm": 0, "z_plus_mm": 1},
                "work_zero": {"kind": "box point", "of": "part", "at": [0, 0, -1]},
                "work_offset": 54,
                "on_table_mm": [0, 0],
                "table_below_mm": 60,
            }
        ],
        "operations": [
            rough(10, "Rough the ring", "seat", 1, 5, 6.5),
            {
                "number": 15,
                "name": "Finish the seat",
                "setup": "seat",
                "tool": 3,
                "params": {
                    "strategy": "parallel finishing",
                    "stepover_mm": 1.0,
                    "direction_deg": 90,
                    "tolerance_mm": 0.02,
                    "boundary": {"kind": "faces", "faces": [{"normal": LEANING}]},
                },
            },
            row(
                20,
                "Finish the wall by its side",
                "seat",
                109,
                "swarf milling",
                {"kind": "faces", "faces": [{"surface": "freeform"}]},
                floor_clearance_mm=-0.5,
                stepdown_mm=24,
            ),
            row(
                30,
                "Break the rim of the seat",
                "seat",
                302,
                "5-axis curve following",
                {"kind": "edges", "edges": [RIM]},
                depth_mm=0.5,
                tilt_deg=45,
            ),
        ],
        "cell_mm": 0.8,
    }

"""The dial plate: round, with a scale that is drawn and engraved."""

from __future__ import annotations

import math
from typing import Any

from fenrik.demo.jobs.rows import bores, floor, materials, row, shelf
from fenrik.demo.own import MACHINES, TOOLS


def document() -> dict[str, Any]:
    """On a plate with clamps; the scale is construction geometry that waits for engraving."""
    ticks: list[dict[str, Any]] = []
    for k in range(72):
        turn = math.radians(5 * k)
        outer, inner = 60.0, 54.0 if k % 6 == 0 else 57.0
        ticks.append(
            {
                "kind": "line",
                "id": f"tick-{k + 1}",
                "x_mm": round(inner * math.sin(turn), 6),
                "y_mm": round(inner * math.cos(turn), 6),
                "to_x_mm": round(outer * math.sin(turn), 6),
                "to_y_mm": round(outer * math.cos(turn), 6),
            }
        )
    for k in range(12):
        turn = math.radians(30 * k)
        ticks.append(
            {
                "kind": "text",
                "id": f"hour-{k + 1}",
                "text": str(k or 12),
                "height_mm": 4.5,
                "align": "middle",
                "x_mm": round(49 * math.sin(turn), 6),
                "y_mm": round(49 * math.cos(turn) - 2.25, 6),
            }
        )
    ring = [
        {"kind": "circle", "id": "outer", "radius_mm": 61},
        {"kind": "circle", "id": "inner", "radius_mm": 45},
    ]
    return {
        "name": "Dial plate",
        "part": {"file": "dial-plate.step"},
        "machines": MACHINES,
        "tools": [TOOLS[0], *shelf(105, 201, 215, 312)],
        **materials("Gunmetal"),
        "setups": [
            {
                "id": "face",
                "name": "Face",
                "machine": "Gull (three-axis mill)",
                "stock": {"kind": "round bar", "axis": "z", "radial_mm": 5, "start_mm": 4, "end_mm": 1},
                "fixtures": [{"kind": "plate", "id": "plate", "name": "Plate", "size_x_mm": 220, "size_y_mm": 220}],
                "work_zero": {"kind": "box point", "of": "part", "at": [0, 0, 1]},
                "work_offset": 54,
            }
        ],
        "sketches": [
            {"id": "scale", "name": "Scale", "setup": "face", "level_mm": -1.5, "items": ticks},
            {"id": "ring", "name": "Ring of the scale", "setup": "face", "level_mm": -1.5, "items": ring},
        ],
        "operations": [
            row(10, "Face it", "face", 1, "facing", way="spiral in"),
            row(
                20,
                "Round the outside",
                "face",
                1,
                "contour",
                {"kind": "outline"},
                stepdown_mm=4,
                side_passes=2,
                side_step_mm=4,
            ),
            row(
                30,
                "Sink the ring of the scale",
                "face",
                1,
                "pocket clearing",
                floor(6.5),
                stepover_mm=5,
                wall_finish_mm=0.2,
                tolerance_mm=0.01,
            ),
            row(40, "Bore the hub", "face", 1, "bore milling", bores(10), stepdown_mm=1, finish_mm=0.2),
            row(50, "Spot the screw holes", "face", 201, "drilling", bores(2.75), cycle="spot"),
            row(60, "Drill the screw holes", "face", 215, "drilling", bores(2.75), cycle="drill"),
            row(70, "Sink the screw heads", "face", 105, "bore milling", bores(5), stepdown_mm=1),
            row(
                80,
                "Engrave the scale",
                "face",
                312,
                "engraving",
                {"kind": "sketch", "sketch": "scale"},
                depth_mm=0.25,
                spindle_rpm=12_000,
                cutting_feed_mm_min=600,
            ),
        ],
    }

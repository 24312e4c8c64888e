"""The plate of many holes and nested pockets that benchmarks and the test of few clicks begin with."""

from __future__ import annotations

from typing import Any

from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.collections import List_TopoDS_Shape

from fenrik.demo.modelling import box, cylinder, round_upright_edges

SIZES = (2.0, 2.5, 3.3, 4.2, 5.0, 5.5, 6.0, 6.6, 6.8, 8.0, 8.5, 10.0, 11.0, 12.0)


def bench_plate(seed: float = 0.0) -> Any:
    """A plate 420 × 300 × 40 with 150 holes in 14 sizes and 24 pockets, nested by threes, at 9 levels."""
    tools = []
    for k in range(8):  # each with a pocket in its floor, and one in that
        x, y = 20 + (k % 4) * 100, 20 + (k // 4) * 150
        for depth, inset in ((6 + k % 3, 0), (14 + k % 3, 12), (22 + k % 3, 24)):
            size = (80 - 2 * inset, 100 - 2 * inset)
            tools.append(round_upright_edges(box(x + inset, y + inset, 40 - depth, *size, depth + 5), 8 - inset / 6))
    for k in range(150):
        along, y = 8 + (k % 25) * 16.8 + seed, (6, 128, 145, 162, 278, 293)[k // 25]
        blind = k % 3 == 0
        tools.append(cylinder(along, y, 25 if blind else -1, SIZES[k % 14] / 2, 60))
    arguments, cutters = List_TopoDS_Shape(), List_TopoDS_Shape()
    arguments.Append(box(0, 0, 0, 420, 300, 40))
    for tool in tools:
        cutters.Append(tool)
    maker = BRepAlgoAPI_Cut()
    maker.SetArguments(arguments)
    maker.SetTools(cutters)
    maker.Build()
    return maker.Shape()


def long_drills() -> list[dict[str, Any]]:
    """Drills of the plate's sizes that go through its 40 mm; the shop's own are stub drills."""
    return [
        {
            "number": 901 + k,
            "name": f"Long drill {d:g}",
            "cutter": {"kind": "drill", "diameter_mm": d, "point_deg": 140, "flute_length_mm": 56},
            "stick_out_mm": 64,
            "holder": [{"lower_diameter_mm": 16, "upper_diameter_mm": 24, "height_mm": 40}],
        }
        for k, d in enumerate(SIZES)
    ]

"""The valve manifold: two setups, the second on what the first leaves."""

from __future__ import annotations

from typing import Any

from fenrik.demo.jobs.rows import SIDES, materials, shelf, steadily
from fenrik.demo.own import MACHINES, TOOLS


def document() -> dict[str, Any]:
    """In a vice, then turned over; the leaning ports wait for indexed work."""
    vice = {"kind": "vice", "id": "vice", "name": "Vice", "jaw_height_mm": 7, "jaw_width_mm": 125}
    allowances = dict.fromkeys(SIDES, 3)
    return {
        "name": "Valve manifold",
        "part": {"file": "valve-manifold.step"},
        "machines": MACHINES,
        "tools": [{**TOOLS[0], "stick_out_mm": 58}, TOOLS[1], *shelf(201, 214, 216, 224, 244)],
        **materials("Gunmetal"),
        "setups": [
            {
                "id": "top",
                "name": "Top",
                "machine": "Gull (three-axis mill)",
                "stock": {"kind": "box", **allowances, "z_minus_mm": 10, "z_plus_mm": 2},
                "fixtures": [vice],
                "work_zero": {"kind": "box point", "of": "part", "at": [-1, -1, 1]},
                "work_offset": 54,
            },
            {
                "id": "bottom",
                "name": "Turned over",
                "machine": "Gull (three-axis mill)",
                "up": {"kind": "axis", "axis": "-z"},
                "stock": {"kind": "earlier setup", "setup": "top"},
                "fixtures": [{**vice, "jaws": "soft", "jaw_height_mm": 20, "opening_mm": 70, "place": {"z_mm": 2}}],
                "work_zero": {"kind": "box point", "of": "part", "at": [-1, -1, 1]},
                "work_offset": 55,
            },
        ],
        "operations": [steadily(10, "Rough the outside, ports and leaning faces", "top", 1, 14, 50, step_mm=3)],
        "selections": [{"name": "Tapped holes", "items": [{"surface": "cylinder", "radius_mm": 2.5, "concave": True}]}],
    }

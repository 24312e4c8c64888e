"""What the demo's jobs have of their own: the machines, and tools that are in no library."""

from __future__ import annotations

from typing import Any

MACHINES: list[dict[str, Any]] = [
    {
        "name": "Gull (three-axis mill)",
        "spindle_max_rpm": 15000,
        "rapid_mm_min": 24000,
        "max_feed_mm_min": 12000,
        "acceleration_mm_s2": 3500,
        "path_tolerance_mm": 0.02,
        "travel_mm": [600, 400, 450],
        "longest_tool_mm": 220,
        "tool_change_s": 7,
    },
    {
        "name": "Wren (small router)",
        "spindle_max_rpm": 24000,
        "rapid_mm_min": 6000,
        "max_feed_mm_min": 4000,
        "acceleration_mm_s2": 900,
        "path_tolerance_mm": 0.05,
        "travel_mm": [300, 200, 90],
        "longest_tool_mm": 110,
        "tool_change_s": 120,
    },
]

TILTING_TABLE: dict[str, Any] = {
    "name": "Razorbill (tilting table)",
    "spindle_max_rpm": 18000,
    "rapid_mm_min": 30000,
    "max_feed_mm_min": 15000,
    "acceleration_mm_s2": 4000,
    "path_tolerance_mm": 0.02,
    "travel_mm": [640, 520, 520],
    "table_mm": [320, 320],
    "longest_tool_mm": 220,
    "tool_change_s": 6,
    "joints": [
        {"name": "X", "direction": [1, 0, 0], "low": -320, "high": 320, "speed": 30000},
        {"name": "Y", "direction": [0, 1, 0], "low": -260, "high": 260, "speed": 30000},
        {"name": "Z", "direction": [0, 0, 1], "low": 80, "high": 600, "speed": 30000},
        {
            "name": "A", "kind": "rotary", "carries": "work", "direction": [1, 0, 0], "origin": [0, 0, 45],
            "low": -115, "high": 35, "speed": 9000,
        },
        {
            "name": "C", "kind": "rotary", "carries": "work", "direction": [0, 0, 1],
            "low": -720, "high": 720, "speed": 21600,
        },
    ],
    "bodies": [
        {
            "name": "head", "moves_with": "Z",
            "shapes": [
                {"kind": "round", "foot_mm": [0, 0, 0], "height_mm": 60, "radius_mm": 45, "upper_radius_mm": 80},
                {"kind": "box", "low_mm": [-110, -90, 60], "high_mm": [110, 210, 420]},
            ],
        },
        {
            "name": "cradle", "moves_with": "A",
            "shapes": [
                {"kind": "box", "low_mm": [-190, -95, -120], "high_mm": [190, 95, -60]},
                {"kind": "box", "low_mm": [-240, -70, -120], "high_mm": [-190, 70, 85]},
                {"kind": "box", "low_mm": [190, -70, -120], "high_mm": [240, 70, 85]},
            ],
        },
        {
            "name": "table", "moves_with": "C",
            "shapes": [{"kind": "round", "foot_mm": [0, 0, -60], "height_mm": 60, "radius_mm": 160}],
        },
        {
            "name": "bed", "moves_with": "",
            "shapes": [
                {"kind": "box", "low_mm": [-330, -160, -330], "high_mm": [-245, 160, 60]},
                {"kind": "box", "low_mm": [245, -160, -330], "high_mm": [330, 160, 60]},
                {"kind": "box", "low_mm": [-330, -160, -420], "high_mm": [330, 160, -330]},
            ],
        },
    ],
}  # fmt: skip

HOLDER: list[dict[str, float]] = [
    {"lower_diameter_mm": 24, "upper_diameter_mm": 30, "height_mm": 22},
    {"lower_diameter_mm": 40, "upper_diameter_mm": 46, "height_mm": 36},
]
SLIM: list[dict[str, float]] = [
    {"lower_diameter_mm": 14, "upper_diameter_mm": 22, "height_mm": 40},
    {"lower_diameter_mm": 40, "upper_diameter_mm": 46, "height_mm": 30},
]


def _tool(
    number: int,
    name: str,
    cutter: dict[str, Any],
    stick_out: float,
    rpm: float,
    feed: float,
    entry: float,
    holder: list[dict[str, float]],
    **rest: Any,
) -> dict[str, Any]:
    return {
        "number": number,
        "name": name,
        "cutter": cutter,
        "stick_out_mm": stick_out,
        "holder": holder,
        "spindle_rpm": rpm,
        "cutting_feed_mm_min": feed,
        "entry_feed_mm_min": entry,
        "exit_feed_mm_min": 3000,
        **rest,
    }


TOOLS = [
    _tool(
        1,
        "Rougher 12",
        {"kind": "flat", "diameter_mm": 12, "flute_length_mm": 38, "flutes": 3},
        52,
        6400,
        1500,
        600,
        HOLDER,
    ),
    _tool(
        2,
        "Slot mill 6",
        {"kind": "flat", "diameter_mm": 6, "flute_length_mm": 28, "flutes": 3},
        44,
        9500,
        1100,
        400,
        SLIM,
        shank_diameter_mm=6,
    ),
    _tool(
        3,
        "Bull-nose 8 r1",
        {"kind": "bull-nose", "diameter_mm": 8, "corner_radius_mm": 1, "flute_length_mm": 32, "flutes": 4},
        46,
        8600,
        1600,
        500,
        SLIM,
    ),
    _tool(
        4, "Ball 6", {"kind": "ball", "diameter_mm": 6, "flute_length_mm": 30, "flutes": 2}, 46, 12000, 1800, 700, SLIM
    ),
    _tool(
        5,
        "Slot mill 4",
        {"kind": "flat", "diameter_mm": 4, "flute_length_mm": 18, "flutes": 3},
        34,
        12000,
        800,
        400,
        SLIM,
        shank_diameter_mm=4,
    ),
]

DEEP_TOOLS = [
    _tool(
        1,
        "Rougher 20",
        {"kind": "flat", "diameter_mm": 20, "flute_length_mm": 45, "flutes": 3},
        70,
        9000,
        3600,
        1200,
        HOLDER,
    ),
    _tool(
        2,
        "Rougher 12 long",
        {"kind": "flat", "diameter_mm": 12, "flute_length_mm": 30, "flutes": 3},
        68,
        12000,
        3000,
        1000,
        SLIM,
        neck_diameter_mm=11.4,
        neck_length_mm=30,
    ),
    _tool(
        3,
        "Bull-nose 8 r1 long",
        {"kind": "bull-nose", "diameter_mm": 8, "corner_radius_mm": 1, "flute_length_mm": 16, "flutes": 4},
        62,
        14000,
        2800,
        900,
        SLIM,
        neck_diameter_mm=7.4,
        neck_length_mm=36,
    ),
    _tool(
        4,
        "Ball 10 long",
        {"kind": "ball", "diameter_mm": 10, "flute_length_mm": 20, "flutes": 2},
        66,
        14000,
        3200,
        1200,
        SLIM,
        neck_diameter_mm=9.4,
        neck_length_mm=36,
    ),
    TOOLS[1] | {"number": 5},
]
"""For hollows about 50 mm deep."""

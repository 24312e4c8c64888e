"""The demo's jobs: documents built in code over the shipped STEP files."""

from __future__ import annotations

from importlib import resources
from typing import Any

from fenrik.core.job import Job, parse_job

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


def _bracket() -> dict[str, Any]:
    return {
        "name": "Lantern bracket",
        "part": {"file": "lantern-bracket.step"},
        "machines": MACHINES,
        "tools": TOOLS[:4],
        "setups": [
            {
                "id": "top",
                "name": "Top side",
                "machine": "Gull (three-axis mill)",
                "dialect": "Plain ISO",
                "stock": {
                    "kind": "box",
                    "x_minus_mm": 3,
                    "x_plus_mm": 3,
                    "y_minus_mm": 3,
                    "y_plus_mm": 3,
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
                "params": {
                    "strategy": "level roughing",
                    "stepdown_mm": 5,
                    "stepover_mm": 5.5,
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
        ],
    }


def _insert() -> dict[str, Any]:
    return {
        "name": "Lens mould insert",
        "part": {"file": "lens-mould-insert.step"},
        "machines": MACHINES,
        "tools": [TOOLS[0], TOOLS[2], TOOLS[3], TOOLS[4]],
        "setups": [
            {
                "id": "cavity",
                "name": "Cavity side",
                "machine": "Gull (three-axis mill)",
                "dialect": "Numbered with tool stop",
                "stock": {
                    "kind": "box",
                    "x_minus_mm": 2,
                    "x_plus_mm": 2,
                    "y_minus_mm": 2,
                    "y_plus_mm": 2,
                    "z_minus_mm": 0,
                    "z_plus_mm": 1,
                },
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
                    "strategy": "level roughing",
                    "stepdown_mm": 3,
                    "stepover_mm": 5,
                    "allowance_mm": 0.35,
                    "floor_allowance_mm": 0.2,
                    "tolerance_mm": 0.05,
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


DEMO_JOBS = {"lantern-bracket": _bracket, "lens-mould-insert": _insert}


def demo_job(name: str) -> Job:
    """A demo job by its short name."""
    return parse_job(DEMO_JOBS[name]())


def demo_model(name: str) -> bytes:
    """The model file of a demo job."""
    return resources.files("fenrik.demo").joinpath("models", f"{name}.step").read_bytes()


def write_demo(folder: Any) -> None:
    """Write the demo jobs and their models into a folder, as files for the command line."""
    for name in DEMO_JOBS:
        (folder / f"{name}.json").write_text(demo_job(name).model_dump_json(indent=2, exclude_none=True), "utf-8")
        (folder / f"{name}.step").write_bytes(demo_model(name))

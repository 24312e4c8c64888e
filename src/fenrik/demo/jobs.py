"""The demo's jobs: documents built in code over the shipped STEP files."""

from __future__ import annotations

import math
from importlib import resources
from typing import Any

from fenrik.core.job import Job, parse_job
from fenrik.demo.shop import SHOP_MATERIALS, SHOP_TOOLS

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
SIDES = ("x_minus_mm", "x_plus_mm", "y_minus_mm", "y_plus_mm")


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
        **_materials("Aluminium, wrought"),
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
            _row(40, "Walls of the pockets", "top", 2, "contour", _floor(6), overlap_mm=2, tolerance_mm=0.01),
            _row(50, "Bore for the guide rod", "top", 1, "bore milling", _bores(9), finish_mm=0.2, stepdown_mm=1.5),
        ],
    }


def _insert() -> dict[str, Any]:
    return {
        "name": "Lens mould insert",
        "part": {"file": "lens-mould-insert.step"},
        "machines": MACHINES,
        "tools": [TOOLS[0], TOOLS[2], TOOLS[3], TOOLS[4]],
        **_materials("Tool steel, annealed"),
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


def _materials(name: str) -> dict[str, Any]:
    return {"materials": SHOP_MATERIALS, "material": name}


def _rough(number: int, name: str, setup: str, tool: int, stepdown: float, stepover: float) -> dict[str, Any]:
    return {
        "number": number,
        "name": name,
        "setup": setup,
        "tool": tool,
        "params": {
            "strategy": "level roughing",
            "stepdown_mm": stepdown,
            "stepover_mm": stepover,
            "allowance_mm": 0.3,
            "floor_allowance_mm": 0.2,
            "tolerance_mm": 0.05,
        },
    }


UP = [0.0, 0.0, 1.0]


def _floor(z: float) -> dict[str, Any]:
    return {"kind": "faces", "faces": [{"normal": UP, "at_z": z}]}


def _bores(radius: float) -> dict[str, Any]:
    return {"kind": "faces", "faces": [{"surface": "cylinder", "radius_mm": radius, "concave": True}]}


def _row(
    number: int, name: str, setup: str, tool: int, strategy: str, *targets: dict[str, Any], **rest: Any
) -> dict[str, Any]:
    """One row of a route on geometry that is named by rule."""
    own: dict[str, Any] = {k: rest.pop(k) for k in ("spindle_rpm", "cutting_feed_mm_min", "copies") if k in rest}
    params = {"strategy": strategy, "targets": list(targets), **rest}
    return {"number": number, "name": name, "setup": setup, "tool": tool, "params": params, **own}


def _manifold() -> dict[str, Any]:
    """In a vice, then turned over; the leaning ports wait for indexed work."""
    vice = {"kind": "vice", "id": "vice", "name": "Vice", "jaw_height_mm": 7, "jaw_width_mm": 125}
    allowances = dict.fromkeys(SIDES, 3)
    return {
        "name": "Valve manifold",
        "part": {"file": "valve-manifold.step"},
        "machines": MACHINES,
        "tools": [{**TOOLS[0], "stick_out_mm": 58}, TOOLS[1], *_shelf(201, 214, 216, 224, 244)],
        **_materials("Gunmetal"),
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
        "operations": [_rough(10, "Rough the outside, ports and leaning faces", "top", 1, 6, 5.5)],
        "selections": [{"name": "Tapped holes", "items": [{"surface": "cylinder", "radius_mm": 2.5, "concave": True}]}],
    }


def _dial() -> dict[str, Any]:
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
        "tools": [TOOLS[0], *_shelf(105, 201, 215, 312)],
        **_materials("Gunmetal"),
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
            _row(10, "Face it", "face", 1, "facing", way="spiral in"),
            _row(
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
            _row(
                30,
                "Sink the ring of the scale",
                "face",
                1,
                "pocket clearing",
                _floor(6.5),
                stepover_mm=5,
                wall_finish_mm=0.2,
                tolerance_mm=0.01,
            ),
            _row(40, "Bore the hub", "face", 1, "bore milling", _bores(10), stepdown_mm=1, finish_mm=0.2),
            _row(50, "Spot the screw holes", "face", 201, "drilling", _bores(2.75), cycle="spot"),
            _row(60, "Drill the screw holes", "face", 215, "drilling", _bores(2.75), cycle="drill"),
            _row(70, "Sink the screw heads", "face", 105, "bore milling", _bores(5), stepdown_mm=1),
            _row(
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


def _brackets() -> dict[str, Any]:
    """Six blanks on one plate, every other column turned round."""
    return {
        "name": "Rail brackets",
        "part": {"file": "rail-bracket.step"},
        "machines": MACHINES,
        "tools": [TOOLS[0], *_shelf(104, 201, 217)],
        **_materials("Aluminium, wrought"),
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
            _row(10, "Face all six", "plate", 1, "facing"),
            _row(20, "Round the outsides", "plate", 1, "contour", {"kind": "outline"}, stepdown_mm=6, overlap_mm=2),
            _row(
                30,
                "Mill the steps",
                "plate",
                1,
                "pocket clearing",
                _floor(7),
                stepover_mm=5,
                wall_finish_mm=0.2,
                tolerance_mm=0.01,
            ),
            _row(
                40,
                "Cut the slots",
                "plate",
                104,
                "pocket clearing",
                _bores(3),
                stepover_mm=1.5,
                stepdown_mm=3,
                ramp_deg=6,
                tolerance_mm=0.01,
            ),
            _row(50, "Spot the holes", "plate", 201, "drilling", _bores(3.3), cycle="spot"),
            _row(60, "Drill the holes", "plate", 217, "drilling", _bores(3.3), cycle="drill"),
        ],
    }


def _bearing() -> dict[str, Any]:
    """Cut to size before; on the ledges of a vice, with room below. Collars are bored back through the shaft bores."""
    return {
        "name": "Winch bearing",
        "part": {"file": "winch-bearing.step"},
        "machines": MACHINES,
        "tools": [*TOOLS[:2], *_shelf(201, 214, 244, 263)],
        **_materials("Gunmetal"),
        "setups": [
            {
                "id": "top",
                "name": "Top",
                "machine": "Gull (three-axis mill)",
                "stock": {"kind": "box", **dict.fromkeys(SIDES, 0), "z_plus_mm": 1.5},
                "fixtures": [{"kind": "vice", "id": "vice", "name": "Vice", "jaws": "step", "jaw_height_mm": 10}],
                "work_zero": {"kind": "box point", "of": "part", "at": [-1, -1, 1]},
                "work_offset": 54,
            }
        ],
        "operations": [
            _row(10, "Face it", "top", 1, "facing"),
            _row(20, "Cut the oil groove", "top", 2, "pocket clearing", _floor(22), stepover_mm=2.4, stepdown_mm=3),
            _row(30, "Spot the threads", "top", 201, "drilling", _bores(2.5), cycle="spot"),
            _row(40, "Drill for M6", "top", 214, "drilling", _bores(2.5), cycle="peck", peck_mm=5, depth_mm=12.4),
            _row(50, "Tap M6", "top", 244, "drilling", _bores(2.5), cycle="tap", depth_mm=10, depth_from="tip"),
            _row(60, "Mill the shaft bores", "top", 1, "bore milling", _bores(11), break_through_mm=7, finish_mm=0.2),
            _row(70, "Bore the collars back", "top", 263, "back boring", _bores(11)),
        ],
    }


def _shelf(*numbers: int) -> list[dict[str, Any]]:
    """Tools of the shop's library by number."""
    return [t for t in SHOP_TOOLS if t["number"] in numbers]


DEMO_JOBS = {
    "lantern-bracket": _bracket,
    "lens-mould-insert": _insert,
    "valve-manifold": _manifold,
    "dial-plate": _dial,
    "rail-brackets": _brackets,
    "winch-bearing": _bearing,
}


def demo_job(name: str) -> Job:
    """A demo job by its short name."""
    return parse_job(DEMO_JOBS[name]())


def demo_model(name: str) -> bytes:
    """The model file of a demo job."""
    file = DEMO_JOBS[name]()["part"]["file"]
    return resources.files("fenrik.demo").joinpath("models", file).read_bytes()


def write_demo(folder: Any) -> None:
    """Write the demo jobs and their models into a folder, as files for the command line."""
    for name in DEMO_JOBS:
        (folder / f"{name}.json").write_text(demo_job(name).model_dump_json(indent=2, exclude_none=True), "utf-8")
        job = demo_job(name)
        assert job.part is not None
        (folder / job.part.file).write_bytes(demo_model(name))

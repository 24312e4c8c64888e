"""The two cells of Skarrow Point, made up like all else there: an arm on a plinth before a turntable, and an arm
without a spherical wrist on a track along a fixed stand."""

from __future__ import annotations

from typing import Any


def _joints(*rows: tuple[float, float, float, float]) -> list[dict[str, Any]]:
    return [
        {"name": f"J{k + 1}", "low_deg": low, "high_deg": high, "speed_deg_s": speed, "acceleration_deg_s2": more}
        for k, (low, high, speed, more) in enumerate(rows)
    ]  # fmt: skip


def _round(foot: list[float], along: list[float], height: float, radius: float) -> dict[str, Any]:
    return {"kind": "round", "foot_mm": foot, "along": along, "height_mm": height, "radius_mm": radius}


def _box(low: list[float], high: list[float]) -> dict[str, Any]:
    return {"kind": "box", "low_mm": low, "high_mm": high}


Z, X, Y = [0.0, 0.0, 1.0], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]

GANNET: dict[str, Any] = {
    "name": "Gannet",
    "joints": _joints((-175, 175, 110, 250), (-65, 130, 105, 220), (-140, 75, 110, 260), (-190, 190, 180, 500),
                      (-120, 120, 180, 520), (-350, 350, 240, 700)),
    "shape": {"kind": "link table", "rows": [
        {"d_mm": 735, "a_mm": 345, "alpha_deg": -90}, {"a_mm": 1130, "zero_deg": -90}, {"a_mm": 155, "alpha_deg": -90},
        {"d_mm": 1240, "alpha_deg": 90}, {"alpha_deg": -90}, {"d_mm": 212},
    ]},
}  # fmt: skip

PLINTH: dict[str, Any] = {
    "name": "Boathouse cell (arm on a plinth)",
    "arm": GANNET,
    "base": {"at_mm": [0, 0, 420]},
    "table": {"at_mm": [1980, 0, 380]},
    "table_mm": [1000, 1000],
    "turntable": {"name": "E1", "speed_deg_s": 60, "acceleration_deg_s2": 90},
    "mount": {"at_mm": [190, 0, 95], "turns_deg": [0, -90, 0]},
    "home_deg": [0, -35, 25, 0, 70, 0],
    "spindle_max_rpm": 18000, "power_kw": 9, "torque_nm": 9, "longest_tool_mm": 320, "rapid_mm_min": 30000,
    "max_feed_mm_min": 12000, "acceleration_mm_s2": 2500, "tool_change_s": 25,
    "bodies": [
        {"name": "floor", "of": "cell", "shapes": [_box([-1100, -1700, -60], [3300, 1700, -8])]},
        {"name": "plinth", "of": "cell", "shapes": [_round([0, 0, 0], Z, 415, 390)]},
        {"name": "turntable foot", "of": "cell", "shapes": [_round([1980, 0, 0], Z, 245, 420)]},
        {"name": "turntable", "of": "table", "shapes": [_round([0, 0, -125], Z, 125, 500)]},
        {"name": "foot of the arm", "of": "base", "shapes": [_round([0, 0, 0], Z, 150, 330)]},
        {"name": "column", "of": "base", "moves_with": "J1",
         "shapes": [_round([0, 0, 155], Z, 420, 280), _box([60, -205, 470], [470, -120, 860]),
                    _box([60, 120, 470], [470, 205, 860])]},
        {"name": "upper arm", "of": "base", "moves_with": "J2", "shapes": [_box([240, -112, 640], [450, 112, 1960])]},
        {"name": "elbow", "of": "base", "moves_with": "J3",
         "shapes": [_box([200, -185, 1880], [480, -120, 2140]), _box([200, 120, 1880], [480, 185, 2140]),
                    _box([200, -185, 1965], [760, 185, 2140])]},
        {"name": "forearm", "of": "base", "moves_with": "J4",
         "shapes": [_round([770, 0, 2020], X, 640, 95), _round([1405, 0, 2020], X, 105, 58)]},
        {"name": "wrist", "of": "base", "moves_with": "J5", "shapes": [_round([1585, -95, 2020], Y, 190, 82),
                                                                        _round([1600, 0, 2020], X, 150, 70)]},
        {"name": "mount", "of": "face", "shapes": [_box([-185, -90, 40], [-60, 90, 290]),
                                                    _box([-185, -75, 90], [80, 75, 260])]},
        {"name": "spindle", "of": "face", "shapes": [_round([0, 0, 0], Z, 340, 68)]},
    ],
    "keep_out": [{"name": "tool rack", "box": _box([-900, 1150, 0], [-200, 1650, 1500])}],
    "postures": [{"name": "Over the table", "joints_deg": [0, 10, 10, 0, 70, 0]}],
}  # fmt: skip

TURNSTONE: dict[str, Any] = {
    "name": "Turnstone",
    "joints": _joints((-358, 358, 130, 300), (-250, 70, 130, 300), (-160, 160, 150, 340), (-358, 358, 190, 520),
                      (-358, 358, 190, 520), (-358, 358, 200, 600)),
    "shape": {"kind": "link table", "rows": [
        {"d_mm": 260, "alpha_deg": 90}, {"a_mm": -780}, {"a_mm": -690}, {"d_mm": 196, "alpha_deg": 90},
        {"d_mm": 138, "alpha_deg": -90}, {"d_mm": 124},
    ]},
}  # fmt: skip

TRACK: dict[str, Any] = {
    "name": "Slipway cell (arm on a track)",
    "arm": TURNSTONE,
    "base": {"at_mm": [0, 0, 560]},
    "track": {"name": "E1", "along": [1, 0, 0], "low_mm": 0, "high_mm": 3200, "speed_mm_s": 700,
              "acceleration_mm_s2": 900},
    "table": {"at_mm": [1600, 1050, 520]},
    "table_mm": [2600, 800],
    "mount": {"at_mm": [0, 110, 90], "turns_deg": [90, 0, 0]},
    "home_deg": [90, -100, 100, -90, -90, 0],
    "spindle_max_rpm": 24000, "power_kw": 3, "torque_nm": 3, "longest_tool_mm": 220, "rapid_mm_min": 24000,
    "max_feed_mm_min": 9000, "acceleration_mm_s2": 1800, "tool_change_s": 30,
    "bodies": [
        {"name": "floor", "of": "cell", "shapes": [_box([-900, -700, -60], [4200, 1700, -8])]},
        {"name": "rail", "of": "cell", "shapes": [_box([-350, -190, 0], [3550, 190, 240])]},
        {"name": "carriage", "of": "base", "shapes": [_box([-230, -230, -300], [230, 230, 0])]},
        {"name": "stand", "of": "cell", "shapes": [_box([300, 650, 440], [2900, 1450, 520])]},
        {"name": "legs", "of": "cell", "shapes": [_box([380, 720, 0], [500, 1380, 440]),
                                                   _box([2700, 720, 0], [2820, 1380, 440])]},
        {"name": "shoulder", "of": "base", "moves_with": "J1", "shapes": [_round([0, 0, 20], Z, 330, 105)]},
        {"name": "upper arm", "of": "base", "moves_with": "J2",
         "shapes": [_round([0, -235, 260], Y, 120, 92), _box([-790, -225, 190], [10, -125, 330])]},
        {"name": "lower arm", "of": "base", "moves_with": "J3",
         "shapes": [_round([-780, -105, 260], Y, 110, 78), _box([-1475, -105, 205], [-780, -5, 315])]},
        {"name": "wrist", "of": "base", "moves_with": "J5", "shapes": [_round([-1470, -196, 70], Z, 130, 56)]},
        {"name": "mount", "of": "face", "shapes": [_box([-60, -85, 75], [60, -35, 150]),
                                                    _box([-60, -60, 75], [60, 60, 150])]},
        {"name": "spindle", "of": "face", "shapes": [_round([0, 0, 0], Z, 210, 48)]},
    ],
    "keep_out": [],
    "postures": [],
}  # fmt: skip

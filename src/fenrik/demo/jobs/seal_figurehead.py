"""The seal figurehead: 1.8 m of oak, spiralled from head to base by the arm on its plinth while the table turns."""

from __future__ import annotations

from typing import Any

from fenrik.demo import figurehead
from fenrik.demo.cells import PLINTH

BALL_MM, PITCH_MM, AROUND, RPM, FEED = 40.0, 12.0, 32, 9000, 6000.0
NUMBER = 341

BALL: dict[str, Any] = {
    "number": NUMBER,
    "name": "Long ball 40",
    "cutter": {"kind": "ball", "diameter_mm": BALL_MM, "flute_length_mm": 2 * BALL_MM, "flutes": 2},
    "stick_out_mm": 150,
    "shank_diameter_mm": 32,
    "holder": [{"lower_diameter_mm": 60, "upper_diameter_mm": 63, "height_mm": 75}],
    "spindle_rpm": RPM,
    "cutting_feed_mm_min": FEED,
    "entry_feed_mm_min": FEED / 2,
    "exit_feed_mm_min": FEED,
}


def document() -> dict[str, Any]:
    return {
        "name": "Seal figurehead",
        "part": {"file": "seal-figurehead.stl"},
        "files": ["sawn-blank.stl", "seal-spiral.cl"],
        "cells": [PLINTH],
        "tools": [BALL],
        "setups": [
            {
                "id": "standing",
                "name": "Standing on the turntable",
                "machine": PLINTH["name"],
                "dialect": "Posed arm",
                "stock": {"kind": "file", "file": "sawn-blank.stl"},
                "work_zero": {"kind": "box point", "of": "part", "at": [0, 0, -1]},
                "on_table_mm": [0, 0],
                "table_below_mm": 0,
            }
        ],
        "operations": [
            {
                "number": 10,
                "name": "Spiral from head to base",
                "setup": "standing",
                "tool": NUMBER,
                "params": {"strategy": "cutter location text", "file": "seal-spiral.cl", "tolerance_mm": 0.2},
                "arm": {"elbow_high": 0.3},
            }
        ],
        "proof": {"band_mm": 1.0},
        "cell_mm": 8,
    }


def files() -> dict[str, bytes]:
    """The model, and the further files of the job."""
    return {
        "seal-figurehead.stl": figurehead.model(),
        "sawn-blank.stl": figurehead.model(figurehead.SAWN_MM),
        "seal-spiral.cl": figurehead.cutter_location(NUMBER, BALL_MM, PITCH_MM, AROUND, RPM, FEED),
    }

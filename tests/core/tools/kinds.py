"""One cutter of each kind."""

import math

from pydantic import TypeAdapter

from fenrik.core.tools import Cutter

KINDS = {
    "flat": {},
    "ball": {},
    "bull-nose": {"corner_radius_mm": 1},
    "face mill": {"lead_deg": 45, "diameter_mm": 50, "flute_length_mm": 6},
    "chamfer mill": {"tip_diameter_mm": 1},
    "drill": {},
    "spot drill": {},
    "centre drill": {"pilot_diameter_mm": 3, "pilot_length_mm": 4},
    "reamer": {},
    "tap": {"thread": "M10"},
    "thread mill": {"pitch_mm": 1.5, "neck_diameter_mm": 7},
    "slotting cutter": {"neck_diameter_mm": 4, "flute_length_mm": 3, "corner_radius_mm": 0.5},
    "lollipop": {"neck_diameter_mm": 6},
    "tapered": {"corner_radius_mm": 2, "taper_deg": 5},
    "barrel": {"corner_radius_mm": 2, "flank_radius_mm": 60, "widest_at_mm": 15},
    "dovetail": {"angle_deg": 60, "flute_length_mm": 5},
    "engraving": {"tip_diameter_mm": 0.2},
    "boring head": {},
    "back boring bar": {"bar_diameter_mm": 4, "flute_length_mm": 6},
    "own contour": {"places": [[0, 0, 0], [3, 0, math.tan(math.pi / 8)], [5, 2, 0], [5, 20, 0]]},
}


def cutter(kind, **rest):
    data = {"kind": kind, "diameter_mm": 10, "flute_length_mm": 20} | KINDS[kind] | rest
    return TypeAdapter(Cutter).validate_python(data)

"""Machines: what they can do, and where their joints put the tool."""

from fenrik.core.machines.bodies import PlacedBody
from fenrik.core.machines.chain import Chain, Joint, Pose
from fenrik.core.machines.course import Course, course
from fenrik.core.machines.fitting import (
    SAME_PLACE_MM,
    Clamped,
    Fitted,
    Held,
    filled,
    fitted,
    held_back,
    lifted_out,
    strayed,
    turned_deg,
    wanted_minutes,
)
from fenrik.core.machines.model import Machine

__all__ = [
    "SAME_PLACE_MM", "Chain", "Clamped", "Course", "Fitted", "Held", "Joint", "Machine", "PlacedBody", "Pose", "course",
    "filled", "fitted", "held_back", "lifted_out", "strayed", "turned_deg", "wanted_minutes",
]  # fmt: skip

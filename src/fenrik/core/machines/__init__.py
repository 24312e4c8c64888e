"""Machines: what they can do, and where their joints put the tool."""

from fenrik.core.machines.chain import Chain, Joint, Pose
from fenrik.core.machines.course import Course, course, near
from fenrik.core.machines.fitting import (
    SAME_PLACE_MM,
    Clamped,
    Fitted,
    fitted,
    joint_minutes,
    strayed,
    turned_deg,
)
from fenrik.core.machines.model import Machine

__all__ = [
    "SAME_PLACE_MM", "Chain", "Clamped", "Course", "Fitted", "Joint", "Machine", "Pose", "course", "fitted",
    "joint_minutes", "near", "strayed", "turned_deg",
]  # fmt: skip

"""Machines: what they can do, and where their joints put the tool."""

from fenrik.core.machines.chain import Chain, Joint, Pose
from fenrik.core.machines.course import Course, course, near
from fenrik.core.machines.fitting import Ball, Fitted, fitted, joint_minutes
from fenrik.core.machines.model import Machine

__all__ = [
    "Ball", "Chain", "Course", "Fitted", "Joint", "Machine", "Pose", "course", "fitted", "joint_minutes", "near",
]  # fmt: skip

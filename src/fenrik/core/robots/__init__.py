"""Arms: what their joints reach, and all postures that reach it."""

from fenrik.core.robots.arm import Arm, ArmJoint, Axes, Axis, Link, LinkTable
from fenrik.core.robots.inverse import all_postures
from fenrik.core.robots.urdf import arm_from_urdf

__all__ = ["Arm", "ArmJoint", "Axes", "Axis", "Link", "LinkTable", "all_postures", "arm_from_urdf"]

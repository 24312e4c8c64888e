"""Arms: what their joints reach, and all postures that reach it."""

from fenrik.core.robots.arm import Arm, Link
from fenrik.core.robots.inverse import all_postures

__all__ = ["Arm", "Link", "all_postures"]

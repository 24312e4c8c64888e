"""The Toolpath type, how paths are put together, and how long they take."""

from fenrik.core.toolpath.builder import Feeds, PathBuilder
from fenrik.core.toolpath.model import BACK_BORE, ORIENTED, Kind, Motion, Toolpath
from fenrik.core.toolpath.poses import Poses
from fenrik.core.toolpath.safe import Safe, SafePlane
from fenrik.core.toolpath.timing import MotionLimits, motion_times

__all__ = [
    "BACK_BORE",
    "ORIENTED",
    "Feeds",
    "Kind",
    "Motion",
    "MotionLimits",
    "PathBuilder",
    "Poses",
    "Safe",
    "SafePlane",
    "Toolpath",
    "motion_times",
]

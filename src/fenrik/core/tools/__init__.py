"""Tools: cutters, shanks and holders as profiles of revolution; tool library formats."""

from fenrik.core.tools.cutters import (
    BallCutter,
    BullNoseCutter,
    ChamferMill,
    ContourCutter,
    Cutter,
    Drill,
    FlatCutter,
    Tap,
    ThreadMill,
)
from fenrik.core.tools.model import HolderSection, Tool
from fenrik.core.tools.profile import Profile, cone_profile, cutter_profile, cutter_profiles

__all__ = [
    "BallCutter",
    "BullNoseCutter",
    "ChamferMill",
    "ContourCutter",
    "Cutter",
    "Drill",
    "FlatCutter",
    "HolderSection",
    "Profile",
    "Tap",
    "ThreadMill",
    "Tool",
    "cone_profile",
    "cutter_profile",
    "cutter_profiles",
]

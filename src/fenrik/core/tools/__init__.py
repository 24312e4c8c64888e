"""Tools: cutters, shanks and holders as profiles of revolution; tool library formats."""

from fenrik.core.tools.assembly import Assembly, Body, assembly_of, cutting_profile
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
from fenrik.core.tools.profile import Profile, bull_nose_profile, cone_profile, profile_of

__all__ = [
    "Assembly",
    "BallCutter",
    "Body",
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
    "assembly_of",
    "bull_nose_profile",
    "cone_profile",
    "cutting_profile",
    "profile_of",
]

"""Tools: cutters, shanks and holders as profiles of revolution."""

from fenrik.core.tools.model import BallCutter, BullNoseCutter, Cutter, FlatCutter, HolderSection, Tool
from fenrik.core.tools.profile import Profile, cone_profile, cutter_profile

__all__ = [
    "BallCutter",
    "BullNoseCutter",
    "Cutter",
    "FlatCutter",
    "HolderSection",
    "Profile",
    "Tool",
    "cone_profile",
    "cutter_profile",
]

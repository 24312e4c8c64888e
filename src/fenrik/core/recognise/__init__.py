"""Recognise what a solid is made of: holes, pockets, slots, bosses, flat areas, chamfers, fillets, undercuts."""

from fenrik.core.recognise.features import (
    Blend,
    Boss,
    Chamfer,
    DraftWall,
    FlatArea,
    Hole,
    HoleStep,
    OuterProfile,
    Pocket,
    Recognition,
    Undercut,
)
from fenrik.core.recognise.run import all_holes, recognise

__all__ = [
    "Blend",
    "Boss",
    "Chamfer",
    "DraftWall",
    "FlatArea",
    "Hole",
    "HoleStep",
    "OuterProfile",
    "Pocket",
    "Recognition",
    "Undercut",
    "all_holes",
    "recognise",
]

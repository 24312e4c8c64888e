"""The shortest stick-out at which the holder stays clear of the part wherever the cutter reaches it.

Over each place the lowest height of the holder's nose is the tip height of the holder itself (as a tool of its own);
what it lacks above the cutter's tip must be made up by the stick-out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fenrik.core.contact.drop import DropIndex, tip_heights
from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh
from fenrik.core.tools.assembly import cutting_profile
from fenrik.core.tools.model import Tool
from fenrik.core.tools.profile import cone_profile

MOST_PLACES = 20_000


@dataclass(frozen=True)
class StickOut:
    """Attributes:
    shortest_mm: shortest safe stick-out; never below the cutting length.
    place: (3,) where the tip stands when it is needed, in the frame of the mesh.
    bound: holder, or cutting length where the holder never comes near.
    """

    shortest_mm: float
    place: tuple[float, float, float]
    bound: str


def shortest_stick_out(mesh: Mesh, tool: Tool, margin_mm: float = 1.0, tips: Points | None = None) -> StickOut:
    """How far a tool must stand out of its holder over a part.

    Args:
        mesh: part (and fixtures), z along the tool.
        margin_mm: how far the holder keeps from the part.
        tips: (n, 3) places of the tip; where none are given, the lowest ones that the cutter can reach over the part.

    Raises:
        FenrikError: for a cutter whose contour is not a single convex body.
    """
    flutes = tool.cutter.flute_length_mm
    places = lowest_tips(mesh, tool) if tips is None else tips
    if len(places) > MOST_PLACES:
        places = places[np.linspace(0, len(places) - 1, MOST_PLACES).astype(int)]
    best, where, bound = flutes, places[0] if len(places) else np.zeros(3), "cutting length"
    height = 0.0
    for section in tool.holder:
        body = cone_profile(
            section.lower_diameter_mm / 2 + margin_mm, section.upper_diameter_mm / 2 + margin_mm, section.height_mm
        )
        nose = tip_heights(DropIndex.build(mesh, body), places[:, :2]) - height + margin_mm
        need = nose - places[:, 2]
        k = int(np.argmax(need)) if len(need) else -1
        if k >= 0 and float(need[k]) > best:
            best, where, bound = float(need[k]), places[k], "holder"
        height += section.height_mm
    return StickOut(best, (float(where[0]), float(where[1]), float(where[2])), bound)


def lowest_tips(mesh: Mesh, tool: Tool, count: int = 120) -> Points:
    """The tip on the part, on a grid over its box, (n, 3)."""
    low, high = mesh.bounds()
    x, y = (np.linspace(low[a], high[a], count) for a in (0, 1))
    gx, gy = np.meshgrid(x, y, indexing="ij")
    xy = np.column_stack([gx.ravel(), gy.ravel()])
    z = tip_heights(DropIndex.build(mesh, cutting_profile(tool.cutter)), xy)
    keep = np.isfinite(z)
    return np.column_stack([xy[keep], z[keep]])

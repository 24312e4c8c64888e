"""The shortest stick-out at which the holder stays clear of the part wherever the cutter reaches it.

A holder whose nose stood at the tip would have to be pushed back along its axis until it clears the part; so far at
least the tool must stand out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fenrik.core.contact.clearance import pushed
from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.contact.drop import DropIndex, tip_heights
from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh
from fenrik.core.toolpath.poses import SAME_AXIS, UPRIGHT
from fenrik.core.tools.assembly import cutting_profile, holder_of
from fenrik.core.tools.model import Tool
from fenrik.core.tools.profile import Profile
from fenrik.core.tools.underside import undersides_of

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


def shortest_stick_out(
    mesh: Mesh, tool: Tool, margin_mm: float = 1.0, tips: Points | None = None, axes: Points | None = None
) -> StickOut:
    """How far a tool must stand out of its holder over a part.

    Args:
        mesh: part (and fixtures), z along the tool where no axes are given.
        margin_mm: how far the holder keeps from the part.
        tips: (n, 3) places of the tip; where none are given, the lowest ones that the cutter can reach over the part.
        axes: (n, 3) of the tool at these places; upright where none are given.

    Raises:
        FenrikError: for a cutter whose contour is not a single convex body.
    """
    flutes = tool.cutter.flute_length_mm
    places = lowest_tips(mesh, tool) if tips is None else tips
    along = np.broadcast_to(UPRIGHT if axes is None else axes, places.shape)
    if len(places) > MOST_PLACES:
        some = np.linspace(0, len(places) - 1, MOST_PLACES).astype(int)
        places, along = places[some], along[some]
    best, where, bound = flutes, places[0] if len(places) else np.zeros(3), "cutting length"
    for body in holder_of(tool, margin_mm):
        # Its nose at the tip, the holder would have to go back by so much.
        nose = body.profile.lifted(-tool.stick_out_mm)
        need = _back(mesh, places, along, nose)
        k = int(np.argmax(need)) if len(need) else -1
        if k >= 0 and float(need[k]) > best:
            best, where, bound = float(need[k]), places[k], "holder"
    return StickOut(best, (float(where[0]), float(where[1]), float(where[2])), bound)


def _back(mesh: Mesh, places: Points, along: Points, body: Profile) -> Points:
    """How far a body at each place must go back along its axis to clear a mesh, (n,)."""
    if np.abs(along - UPRIGHT).max(initial=0.0) > SAME_AXIS:
        return pushed(DistanceIndex.build(mesh), places, along, along, body)[0]
    # With one axis for all places an index over the plane across it answers hundreds of times as fast.
    sides = [DropIndex.of(mesh, side) for side in undersides_of(body)]
    return np.asarray(np.max([tip_heights(side, places[:, :2]) for side in sides], axis=0) - places[:, 2])


def lowest_tips(mesh: Mesh, tool: Tool, count: int = 120) -> Points:
    """The tip on the part, on a grid over its box, (n, 3)."""
    low, high = mesh.bounds()
    x, y = (np.linspace(low[a], high[a], count) for a in (0, 1))
    gx, gy = np.meshgrid(x, y, indexing="ij")
    xy = np.column_stack([gx.ravel(), gy.ravel()])
    z = tip_heights(DropIndex.build(mesh, cutting_profile(tool.cutter)), xy)
    keep = np.isfinite(z)
    return np.column_stack([xy[keep], z[keep]])

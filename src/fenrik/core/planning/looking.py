"""From which sides a part must be looked at: the directions in which most of what is left can be reached."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from fenrik.core.frames import AXES, Points
from fenrik.core.planning.lying import Mask
from fenrik.core.recognise.features import Hole
from fenrik.core.solids import Solid
from fenrik.core.solids.sampling import SurfacePlaces

SAME = 1 - 1e-6
STEEP_WORTH = 0.4
"""What a place that is seen at a grazing angle counts against one that is looked at straight."""
MOST_DIRECTIONS = 60


def directions_of(solid: Solid, holes: Iterable[Hole]) -> list[Points]:
    """Directions worth looking along: the part's axes, those of its flat and round faces (the larger ones first), and
    of its holes; each once."""
    found: list[Points] = [np.array(a, float) for a in AXES.values()]
    faces = sorted((f for f in solid.faces if f.kind in ("plane", "cylinder", "cone")), key=lambda f: -f.area_mm2)
    wanted = [np.array(h.direction) for h in holes if h.direction is not None]
    for f in faces:
        normal = np.array(f.normal)
        wanted += [normal] if f.kind == "plane" else [normal, -normal]
    for d in wanted:
        if len(found) < MOST_DIRECTIONS and all(float(d @ other) < SAME for other in found):
            found.append(d / np.linalg.norm(d))
    return found


def worth_of(places: SurfacePlaces, seen: Mask, direction: Points, holes: Iterable[Hole]) -> float:
    """Area that a look along a direction is worth; holes count where they open that way only."""
    worth = places.area_mm2 * np.where(places.normal @ direction > 1 - 1e-4, 1.0, STEEP_WORTH)
    other = {
        f
        for h in holes
        if h.direction is not None
        and float(np.array(h.direction) @ direction) < SAME
        and not (h.through and float(np.array(h.direction) @ direction) < -SAME)
        for f in h.faces
    }
    mine = seen & ~np.isin(places.face, sorted(other))
    return float(worth[mine].sum())

"""Quick looks at a body along rays: which places may lie deeper in it than they may."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.rays import RayCaster

RAY_MM, GRAZING = 1e-3, 1e-3
"""What rays may be off by; a face met at a smaller cosine tells nothing."""
LOOKS = np.array([[3, 5, 7], [-5, 7, 3], [7, -3, 5], [-7, -5, 3], [5, 3, -7], [-3, 7, -5], [-5, -3, -7]]) / np.sqrt(
    83.0
)


class PartRays:
    """A closed body made ready: most places are seen to be outside it, or hardly inside, before an exact distance is
    asked for."""

    def __init__(self, mesh: Mesh) -> None:
        self._rays, self._corners, self._normal = RayCaster(mesh), mesh.corners(), mesh.unit_normals()
        self._stray_mm = 2 * mesh.deflection_mm + RAY_MM

    def inside(self, places: Points) -> NDArray[np.bool_]:
        """Which of some places (n, 3) that lie clear of the faces are inside: most of some looks in all directions meet
        a face from behind first. A sliver that lies the wrong way round, as rounding leaves them, cannot outvote."""
        votes = np.zeros(len(places))
        for along in LOOKS:
            met = self._rays.first_hits(places, np.tile(along, (len(places), 1)))
            votes += np.where(met >= 0, np.sign(self._normal[met] @ along), -1.0)
        return votes > 0

    def may_be_deeper(self, places: Points, normals: Points, limit_mm: float) -> NDArray[np.bool_]:
        """Which of some places (n, 3) may lie more than so much inside the part.

        Seen from one that does, both ways along its normal, the first that is met is a face from behind; and none is
        nearer than the depth.
        """
        may = np.ones(len(places), bool)
        for sign in (1.0, -1.0):
            rows = np.flatnonzero(may)
            met = self._rays.first_hits(places[rows], sign * normals[rows])
            seen = met >= 0
            facing = np.einsum("ij,ij->i", self._normal[met], sign * normals[rows])
            far = np.einsum("ij,ij->i", self._normal[met], self._corners[met, 0] - places[rows])
            with np.errstate(divide="ignore", invalid="ignore"):
                way = np.where(np.abs(facing) > GRAZING, far / facing, np.inf)
            may[rows] = seen & ((facing > 0) | (np.abs(facing) <= GRAZING)) & (way > limit_mm - self._stray_mm)
        return may

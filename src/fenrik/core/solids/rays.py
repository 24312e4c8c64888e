"""Straight looks through a mesh (Embree): what is hit first, everything that is hit."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh


@dataclass(frozen=True)
class Hits:
    """Attributes:
    ray: (n,) which ray hit.
    triangle: (n,) what it hit.
    distance: (n,) how far from its start, mm.
    place: (n, 3) where.
    """

    ray: NDArray[np.int64]
    triangle: NDArray[np.int64]
    distance: Points
    place: Points


class RayCaster:
    """A mesh made ready for rays. Places are Embree's (single precision): about 1e-6 of the part's size."""

    def __init__(self, mesh: Mesh) -> None:
        import trimesh
        from trimesh.ray.ray_pyembree import RayMeshIntersector

        self._rays = RayMeshIntersector(trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False))

    def all_hits(self, origins: Points, directions: Points) -> Hits:
        """Everything that rays (n, 3) with unit directions (n, 3) pass through."""
        if len(origins) == 0:
            return Hits(np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0), np.zeros((0, 3)))
        triangle, ray, place = self._rays.intersects_id(origins, directions, multiple_hits=True, return_locations=True)
        place = np.asarray(place, dtype=np.float64).reshape(-1, 3)
        ray = np.asarray(ray, dtype=np.int64)
        distance = np.einsum("ij,ij->i", place - origins[ray], directions[ray])
        return Hits(ray, np.asarray(triangle, np.int64), distance, place)

    def first_hits(self, origins: Points, directions: Points) -> NDArray[np.int64]:
        """The first triangle that each ray meets, −1 for none."""
        return np.asarray(self._rays.intersects_first(origins, directions), np.int64)

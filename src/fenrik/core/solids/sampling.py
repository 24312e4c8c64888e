"""Places spread evenly over the surface of a solid."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Frame, Points
from fenrik.core.solids.model import Mesh

GOLDEN = (0.7548776662466927, 0.5698402909980532)
"""Steps of an additive sequence that fills the square evenly (M. Roberts, 2018: the plastic number)."""


@dataclass(frozen=True)
class SurfacePlaces:
    """Attributes:
    place, normal: (n, 3) outward. face: (n,) number of the face. area_mm2: (n,) what each place stands for.
    """

    place: Points
    normal: Points
    face: NDArray[np.int32]
    area_mm2: Points

    def __len__(self) -> int:
        return len(self.place)

    def rows(self, index: NDArray) -> SurfacePlaces:
        return SurfacePlaces(self.place[index], self.normal[index], self.face[index], self.area_mm2[index])

    def in_frame(self, frame: Frame) -> SurfacePlaces:
        """The same in the coordinates of a frame."""
        return SurfacePlaces(
            frame.to_local(self.place), frame.direction_to_local(self.normal), self.face, self.area_mm2
        )


def surface_places(mesh: Mesh, count: int) -> SurfacePlaces:
    """About `count` places on a mesh, at least one on every triangle that is no sliver; always the same ones.

    Each place lies inside a triangle and has its normal.
    """
    corners = mesh.corners()
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(cross, axis=1)
    keep = size > 1e-9
    corners, face, area = corners[keep], mesh.face_ids[keep], size[keep] / 2
    normal = cross[keep] / size[keep, None]
    each = np.maximum(np.ceil(area * count / max(float(area.sum()), 1e-12)).astype(int), 1)
    row = np.repeat(np.arange(len(each)), each)
    # One sequence over all triangles: those of a strip, which look alike, would each have theirs at the same heights.
    k = np.arange(len(row)) + 1
    u, v = ((0.5 + k * g) % 1.0 for g in GOLDEN)
    over = u + v > 1
    u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
    # A little inwards, so that no place lies on an edge.
    u, v = 0.02 + 0.94 * u, 0.02 + 0.94 * v
    a, b, c = corners[row, 0], corners[row, 1], corners[row, 2]
    place = a + u[:, None] * (b - a) + v[:, None] * (c - a)
    return SurfacePlaces(place, normal[row], face[row], area[row] / each[row])

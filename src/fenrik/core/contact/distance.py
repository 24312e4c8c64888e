"""Signed distance from points to a part: closest triangle in a bounding-volume tree, sign from its outward side."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.contact import _distance_kernels as kernels
from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh


@dataclass(frozen=True)
class DistanceIndex:
    """A mesh made ready for distance queries; leaves of a few triangles under boxes, split at medians."""

    corners: Points
    order: NDArray[np.int32]
    boxes: Points
    children: NDArray[np.int32]

    @classmethod
    def build(cls, mesh: Mesh) -> DistanceIndex:
        corners = np.ascontiguousarray(mesh.corners())
        order, boxes, children = kernels.build(corners)
        return cls(corners, order, boxes, children)


def signed_distances(index: DistanceIndex, points: Points) -> tuple[Points, NDArray[np.int32]]:
    """Distance of each point to the surface, positive outside, and the triangle it is closest to.

    Where a point is closest to an edge or corner, the triangle that it faces most squarely gives the sign.

    Args:
        points: (n, 3) mm.

    Returns:
        (n,) mm, and (n,) int32 triangle numbers.
    """
    return kernels.query(
        np.ascontiguousarray(points, dtype=np.float64), index.corners, index.order, index.boxes, index.children
    )

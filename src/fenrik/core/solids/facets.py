"""Give the triangles of a bare mesh corners in common, and find which of them share edges."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from fenrik.core.frames import Points
from fenrik.core.solids import _weld_kernels as kernels


@dataclass(frozen=True)
class EdgeTable:
    """Each edge of a mesh once.

    Attributes:
        ends: (n, 2) int32 vertices.
        owners: (n, 2) int32 triangles, −1 where there is no second one.
        uses: (n,) how many triangles have it; 2 in a closed surface.
    """

    ends: NDArray[np.int32]
    owners: NDArray[np.int32]
    uses: NDArray[np.int32]

    @classmethod
    def of(cls, triangles: NDArray[np.int32]) -> EdgeTable:
        room = 3 * len(triangles)
        ends, owners = np.empty((room, 2), np.int32), np.empty((room, 2), np.int32)
        uses = np.empty(room, np.int32)
        count = kernels.pair_edges(np.ascontiguousarray(triangles, np.int32), ends, owners, uses)
        return cls(ends[:count], owners[:count], uses[:count])


def weld_equal(corners: Points) -> tuple[Points, NDArray[np.int32]]:
    """Join equal corners of triangles (m, 3, 3): vertices (n, 3) and triangles (m, 3)."""
    vertices, index = join_equal(corners.reshape(-1, 3))
    return vertices, index.reshape(-1, 3)


def join_equal(places: Points) -> tuple[Points, NDArray[np.int32]]:
    """Places (m, 3) each once, and for each given one the number of its own."""
    flat = np.ascontiguousarray(places + 0.0)  # makes −0 into 0, so that equal numbers have equal bits
    index, first = np.empty(len(flat), np.int32), np.empty(len(flat), np.int32)
    count = kernels.join_equal(flat.view(np.int64), index, first)
    return flat[first[:count]], index


def weld_near(vertices: Points, triangles: NDArray[np.int32], tolerance_mm: float) -> tuple[Points, NDArray[np.int32]]:
    """Join corners on open edges that lie within a tolerance; the rest of the mesh is left as it is."""
    table = EdgeTable.of(triangles)
    rim = np.unique(table.ends[table.uses != 2])
    if len(rim) == 0:
        return vertices, triangles
    pairs = cKDTree(vertices[rim]).query_pairs(tolerance_mm, output_type="ndarray")
    if len(pairs) == 0:
        return vertices, triangles
    labels = np.empty(len(rim), np.int32)
    kernels.label_patches(len(rim), pairs[:, 0].astype(np.int32), pairs[:, 1].astype(np.int32), labels)
    _, first = np.unique(labels, return_index=True)
    target = np.arange(len(vertices), dtype=np.int32)
    target[rim] = rim[first[labels]]
    return vertices, target[triangles]

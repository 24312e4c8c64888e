"""Give a bare triangle mesh corners in common, faces and edges: patches that meet at less than a crease angle."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from fenrik.core.frames import Points
from fenrik.core.solids import _weld_kernels as kernels
from fenrik.core.solids.model import Edge, Face, Mesh

CREASE_DEG = 30.0
MAX_FACES = 20_000
MAX_EDGES = 40_000
FLAT_LENGTH = 1 - 1e-6


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


def group_faces(mesh: Mesh) -> tuple[Mesh, list[Face], list[Edge], int]:
    """Split a welded mesh into patches at creases.

    Returns:
        The mesh with `face_ids` set, a face for each patch, the crease edges, and how many edges are open.
    """
    a, b, c = np.moveaxis(mesh.corners(), 1, 0)
    cross = np.cross(b - a, c - a)
    double = np.linalg.norm(cross, axis=1)
    normals = cross / double[:, None]
    table = EdgeTable.of(mesh.triangles)
    paired = table.uses == 2
    left, right = table.owners[paired, 0], table.owners[paired, 1]
    smooth = np.einsum("ij,ij->i", normals[left], normals[right]) > np.cos(np.deg2rad(CREASE_DEG))
    labels = np.empty(len(mesh.triangles), np.int32)
    count = kernels.label_patches(len(labels), left[smooth], right[smooth], labels)
    if count > MAX_FACES:
        count, labels = 1, np.zeros(len(labels), np.int32)
    sharp = np.column_stack([labels[left[~smooth]], labels[right[~smooth]]])
    faces = _patches(mesh, labels, count, cross, double, sharp)
    creases = np.concatenate([table.ends[paired][~smooth], table.ends[~paired]])
    if len(creases) > MAX_EDGES:
        creases = creases[:0]
    lines = mesh.vertices[creases]
    lengths = np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1)
    edges = [Edge(line, "line", float(length)) for line, length in zip(lines, lengths, strict=True)]
    return replace(mesh, face_ids=labels), faces, edges, int((~paired).sum())


def _patches(
    mesh: Mesh, labels: NDArray[np.int32], count: int, cross: Points, double: Points, sharp: NDArray[np.int32]
) -> list[Face]:
    """Area, place, direction and neighbours of each patch."""
    area = np.bincount(labels, double / 2, count)
    middles = mesh.corners().mean(axis=1)
    weigh = np.column_stack([np.bincount(labels, middles[:, k] * double / 2, count) for k in range(3)])
    centroid = weigh / np.maximum(area, 1e-300)[:, None]
    mean = np.column_stack([np.bincount(labels, cross[:, k] / 2, count) for k in range(3)])
    direction = mean / np.maximum(area, 1e-300)[:, None]
    length = np.linalg.norm(direction, axis=1)
    flat = length > FLAT_LENGTH
    order = np.argsort(labels, kind="stable")
    starts = np.searchsorted(labels[order], np.arange(count))
    corners = mesh.corners()[order]
    low = np.minimum.reduceat(corners.min(axis=1), starts)
    high = np.maximum.reduceat(corners.max(axis=1), starts)
    touching: list[set[int]] = [set() for _ in range(count)]
    for i, j in np.unique(np.sort(sharp, axis=1), axis=0).tolist():
        if i != j:
            touching[i].add(j)
            touching[j].add(i)
    normal = np.where(flat[:, None], direction / np.maximum(length, 1e-300)[:, None], 0.0)
    return [
        Face(
            "plane" if flat[k] else "mesh",
            float(area[k]),
            _triple(centroid[k]),
            _triple(normal[k]),
            None,
            tuple(sorted(touching[k])),
            _triple(low[k]),
            _triple(high[k]),
        )
        for k in range(count)
    ]


def _triple(values: np.ndarray) -> tuple[float, float, float]:
    x, y, z = values.tolist()
    return x, y, z

"""Give a bare triangle mesh faces and edges: patches that meet at less than a crease angle."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from fenrik.core.solids.model import Edge, Mesh

CREASE_DEG = 30.0
MAX_FACES = 20_000


def group_faces(mesh: Mesh) -> tuple[Mesh, list[tuple[int, ...]], list[Edge], int]:
    """Split a welded mesh into patches at creases.

    Returns:
        The mesh with `face_ids` set, the neighbours of each patch, the crease edges, and how many edges are open.
    """
    tri = mesh.triangles
    a, b, c = np.moveaxis(mesh.corners(), 1, 0)
    normals = np.cross(b - a, c - a)
    normals /= np.linalg.norm(normals, axis=1)[:, None]
    ends = np.sort(np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]]), axis=1)
    owner = np.tile(np.arange(len(tri)), 3)
    order = np.lexsort((ends[:, 1], ends[:, 0]))
    ends, owner = ends[order], owner[order]
    same = np.all(ends[1:] == ends[:-1], axis=1)
    paired = np.zeros(len(ends), bool)
    paired[1:] |= same
    paired[:-1] |= same
    first = np.flatnonzero(same)
    left, right = owner[first], owner[first + 1]
    smooth = np.einsum("ij,ij->i", normals[left], normals[right]) > np.cos(np.deg2rad(CREASE_DEG))
    graph = coo_matrix((np.ones(int(smooth.sum())), (left[smooth], right[smooth])), shape=(len(tri), len(tri)))
    count, labels = connected_components(graph, directed=False)
    if count > MAX_FACES:
        count, labels = 1, np.zeros(len(tri), np.int32)
    pairs = {(int(labels[i]), int(labels[j])) for i, j in zip(left[~smooth], right[~smooth], strict=True)}
    touching: list[set[int]] = [set() for _ in range(count)]
    for i, j in pairs:
        if i != j:
            touching[i].add(j)
            touching[j].add(i)
    creases = np.concatenate([ends[first[~smooth]], ends[~paired]])
    edges = [
        Edge(mesh.vertices[pair], "line", float(np.linalg.norm(np.diff(mesh.vertices[pair], axis=0))))
        for pair in creases[:100_000]
    ]
    return (
        replace(mesh, face_ids=labels.astype(np.int32)),
        [tuple(sorted(t)) for t in touching],
        edges,
        int((~paired).sum()),
    )

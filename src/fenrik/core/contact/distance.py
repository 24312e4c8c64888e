"""Signed distance from points to a part: the closest triangle finds the place, the exact face there the number."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.contact import _distance_kernels as kernels
from fenrik.core.contact import _exact_kernels as exact
from fenrik.core.contact.inside import PartRays
from fenrik.core.frames import Points
from fenrik.core.solids.exact import FITTED_MM, ExactFaces
from fenrik.core.solids.model import Mesh, facing_out, unit_normals

SETTLED_MM, SETTLED_SHARE, FAR_SHARE = 1e-4, 4e-3, 0.02
"""Bound of a distance that was taken from an exact face: so much, a share of what the triangles stand off (of two faces
that meet smoothly, they may choose the wrong one beside the border), and for each mm away another one (from afar, a
corner where three faces meet may be taken for a place of its edges)."""
SMOOTH_COS = np.cos(np.deg2rad(2.0))


@dataclass(frozen=True)
class Distances:
    """Signed distances of n points.

    Attributes:
        mm: (n,) positive outside of the material.
        bound_mm: (n,) how far off each may be.
        place: (n, 3) where the surface is closest.
        known: (n,) whether inside and outside can be told: not where the closest place is on the rim of an open mesh.
    """

    mm: Points
    bound_mm: Points
    place: Points
    known: NDArray[np.bool_]

    @property
    def worst_bound_mm(self) -> float:
        return float(self.bound_mm.max(initial=0.0))


@dataclass(frozen=True)
class DistanceIndex:
    """A mesh made ready for distance queries; leaves of a few triangles under boxes, split at medians.

    Attributes:
        neighbours: (m, 3) the triangle across each side; −1 where there is none, or more than one.
        weighted: (n, 3) normals of the vertices, weighted by angles. on_rim: (n,) vertices with an open side.
        faces: the exact surfaces, by the mesh's face numbers; None for what only has triangles.
    """

    mesh: Mesh
    corners: Points
    order: NDArray[np.int32]
    boxes: Points
    children: NDArray[np.int32]
    neighbours: NDArray[np.int32]
    weighted: Points
    on_rim: NDArray[np.bool_]
    faces: ExactFaces | None = None

    @classmethod
    def build(cls, mesh: Mesh, faces: ExactFaces | None = None) -> DistanceIndex:
        corners = np.ascontiguousarray(mesh.corners())
        order, boxes, children = kernels.build(corners)
        neighbours = neighbours_of(mesh)
        rim = np.zeros(len(mesh.vertices), bool)
        for side in range(3):
            open_ones = neighbours[:, side] < 0
            rim[mesh.triangles[open_ones][:, [side, (side + 1) % 3]]] = True
        if faces is not None:
            faces = facing_out(faces, mesh)
        return cls(mesh, corners, order, boxes, children, neighbours, _weighted_normals(mesh, corners), rim, faces)

    def without(self, faces: NDArray[np.int64]) -> DistanceIndex | None:
        """The surface without some faces; None where nothing is left."""
        left = ~np.isin(self.mesh.face_ids, faces)
        return DistanceIndex.build(self.mesh.rows(left), self.faces) if left.any() else None

    @cached_property
    def _borders(self) -> tuple[NDArray[np.int8], NDArray[np.int32]]:
        """How two faces meet at each side (m, 3): 1 convex, −1 concave, 0 smooth; and for each vertex a side (3 ·
        triangle + side) on the border of a face, `CORNER` where three faces meet."""
        assert self.faces is not None
        mesh, ids = self.mesh, self.mesh.face_ids
        rows, sides = np.nonzero((self.neighbours >= 0) & (ids[self.neighbours] != ids[:, None]))
        a, b = (mesh.vertices[mesh.triangles[rows, (sides + k) % 3]] for k in (0, 1))
        across = self.neighbours[rows, sides]
        mine, other = (self._normals_at(t, (a + b) / 2) for t in (rows.astype(np.int64), across))
        turns = np.zeros((len(ids), 3), np.int8)
        lean = np.einsum("ij,ij->i", np.cross(mine, other), b - a)
        smooth = np.einsum("ij,ij->i", mine, other) > SMOOTH_COS
        turns[rows, sides] = np.where(smooth, 0, np.sign(lean))
        side_at = np.full(len(mesh.vertices), exact.NOWHERE, np.int32)
        for k in (0, 1):
            side_at[mesh.triangles[rows, (sides + k) % 3]] = 3 * rows + sides
        vertex = np.unique(np.column_stack([mesh.triangles.ravel(), np.repeat(ids, 3)]), axis=0)[:, 0]
        side_at[np.flatnonzero(np.bincount(vertex, minlength=len(side_at)) >= 3)] = exact.CORNER
        return turns, side_at

    def _normals_at(self, rows: NDArray[Any], places: Points) -> Points:
        """Outward normals of the exact faces of triangles near places; those of the triangles where none is known."""
        assert self.faces is not None
        starts = self._parameters[rows].mean(axis=1)
        _, normals, _, known = self.faces.feet(self.mesh.face_ids[rows], places, starts)
        return np.where(known[:, None], normals, unit_normals(self.corners[rows]))

    @cached_property
    def rays(self) -> PartRays:
        """The triangles made ready for quick looks."""
        return PartRays(self.mesh)

    @cached_property
    def _parameters(self) -> NDArray[np.float32]:
        given = self.mesh.parameters
        return np.zeros((len(self.corners), 3, 2), np.float32) if given is None else given


def signed_distances(index: DistanceIndex, points: Points) -> Distances:
    """Distance of each point to the surface, positive outside.

    Args:
        points: (n, 3) mm.
    """
    points, mesh = np.ascontiguousarray(points, dtype=np.float64), index.mesh
    mm, nearest, features, places, known = _of_triangles(index, points)
    bound = np.full(len(points), mesh.deflection_mm)
    if index.faces is not None:
        settled = np.zeros(len(points), bool)
        doubtful = _settle(index, points, mm, nearest, features, settled, places)
        turned = doubtful[index.rays.inside(points[doubtful]) != (mm[doubtful] < 0)]
        if len(turned):
            found = tuple(table[turned] for table in (-mm, nearest, features, settled, places))
            _settle(index, points[turned], *found)
            mm[turned], settled[turned], places[turned] = found[0], found[3], found[4]
        fitted = np.where(index.faces.fitted[mesh.face_ids[nearest]], FITTED_MM, 0.0)
        share = np.minimum(SETTLED_SHARE + FAR_SHARE * np.abs(mm), 1.0)
        bound = np.where(settled, SETTLED_MM + share * mesh.deflection_mm + fitted, bound)
    return Distances(mm, bound, places, known)


def nearest_faces(index: DistanceIndex, points: Points) -> NDArray[np.int64]:
    """The face that each point (n, 3) is nearest to, of the triangles."""
    _, nearest, *_ = _of_triangles(index, np.ascontiguousarray(points, dtype=np.float64))
    return np.asarray(index.mesh.face_ids[nearest], np.int64)


def _of_triangles(index: DistanceIndex, points: Points) -> tuple[Any, ...]:
    """Signed distances, nearest triangles and their features, places, and whether the sides are known."""
    found: tuple[Any, ...] = kernels.query(
        points, index.corners, index.mesh.triangles, index.neighbours, index.weighted, index.on_rim,
        index.order, index.boxes, index.children,
    )  # fmt: skip
    return found


def _settle(
    index: DistanceIndex, points: Points, mm: Points, nearest: NDArray[Any], features: NDArray[Any],
    settled: NDArray[np.bool_], places: Points,
) -> NDArray[np.int64]:  # fmt: skip
    """Put distances right by the exact faces, in place; gives the rows whose side is doubtful."""
    assert index.faces is not None
    turns, side_at = index._borders
    mesh, doubtful = index.mesh, np.zeros(len(points), bool)
    tables = (*index.faces.tables, index.corners)
    exact.settle(
        points, mm, nearest, features, mesh.triangles, index.neighbours, turns, mesh.face_ids,
        index._parameters, side_at, tables, index.order, index.boxes, index.children, mesh.deflection_mm,
        settled, doubtful, places,
    )  # fmt: skip
    return np.flatnonzero(doubtful)


def neighbours_of(mesh: Mesh) -> NDArray[np.int32]:
    """The triangle across each side of each triangle, (m, 3); −1 where there is not exactly one that faces alike."""
    m = len(mesh.triangles)
    start = mesh.triangles.T.ravel().astype(np.int64)
    end = mesh.triangles[:, [1, 2, 0]].T.ravel().astype(np.int64)
    keys = np.minimum(start, end) << 32 | np.maximum(start, end)
    order = np.argsort(keys, kind="stable")
    same = keys[order][1:] == keys[order][:-1]
    first = np.concatenate([[True], ~same])
    pairs = np.flatnonzero(first & np.concatenate([same, [False]]) & ~np.concatenate([same[1:], [False, False]]))
    one, two = order[pairs], order[pairs + 1]
    agree = start[one] == end[two]
    one, two = one[agree], two[agree]
    found = np.full(3 * m, -1, np.int32)
    found[one], found[two] = two % m, one % m
    return np.ascontiguousarray(found.reshape(3, m).T)


def _weighted_normals(mesh: Mesh, corners: Points) -> Points:
    """Sum of the normals round each vertex, each weighted by its triangle's angle there."""
    normal, total = unit_normals(corners), np.zeros((len(mesh.vertices), 3))
    for k in range(3):
        u, v = corners[:, (k + 1) % 3] - corners[:, k], corners[:, (k + 2) % 3] - corners[:, k]
        size = np.maximum(np.linalg.norm(u, axis=1) * np.linalg.norm(v, axis=1), 1e-300)
        angle = np.arccos(np.clip(np.einsum("ij,ij->i", u, v) / size, -1, 1))
        for c in range(3):
            total[:, c] += np.bincount(mesh.triangles[:, k], angle * normal[:, c], minlength=len(total))
    return total

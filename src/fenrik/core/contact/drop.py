"""Tip heights: how low a tool with a vertical axis can stand over a place before it touches the part.

Method. The surface that the tip sweeps is the upper envelope of facets shifted sideways and of the offsets of
convex edges and vertices. A facet shifts by a constant; an edge or vertex is touched only with normals between
those of its facets, so each element matters for a small patch of places. A grid index lists for each cell the
elements whose patch meets it; a query evaluates those and takes the highest. The facet, edge and vertex tests are
those of K. Hwang, B. Choi et al. ("drop cutter"), generalised to any convex profile of revolution.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.contact import _drop_kernels as kernels
from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh
from fenrik.core.tools.profile import Profile
from fenrik.core.tools.underside import Underside, underside_of

ROUNDING_MM = 1e-9


@dataclass(frozen=True)
class DropIndex:
    """A part made ready for one profile; build it with `DropIndex.build`.

    Attributes:
        facets, edges, vertices: what the tool can touch. tops: (n,) their highest places, in this order. start, items:
            which of them matter for each cell, the highest first.
        owners: (n, 2) the triangles at each of them, facets first; −1 where there is none, or no one face.
    """

    underside: Underside
    facets: Points
    edges: Points
    vertices: Points
    tops: Points
    owners: NDArray[np.int32]
    start: NDArray[np.int64]
    items: NDArray[np.int32]
    origin: Points
    cell_mm: float
    shape: tuple[int, int]

    @classmethod
    def build(cls, mesh: Mesh, profile: Profile, allowance_mm: float = 0.0) -> DropIndex:
        """Index a mesh (in the frame whose z is the tool axis) for a profile, grown on all sides by an allowance.

        Cost grows with the number of triangles; about a second for 70 000 on one core.

        Raises:
            FenrikError: for a body whose lower side is no single convex chain.
        """
        return cls.of(mesh, underside_of(profile, allowance_mm))

    @classmethod
    def of(cls, mesh: Mesh, underside: Underside) -> DropIndex:
        """Index a mesh for one underside."""
        return DropGround.of(mesh).index(underside)


@dataclass(frozen=True)
class DropGround:
    """What is the same for all tools that are dropped on a mesh.

    Attributes:
        normals: (m, 3) of the triangles. pairs, owners: edges and their triangles. one_face: see `_one_face`.
        around, start: triangles round each vertex. rim: vertices with an open edge.
    """

    vertices: Points
    triangles: NDArray[np.int32]
    normals: Points
    pairs: NDArray[np.int32]
    owners: NDArray[np.int32]
    one_face: NDArray[np.int32]
    around: NDArray[np.int32]
    start: NDArray[np.int64]
    rim: NDArray[np.bool_]

    @classmethod
    def of(cls, mesh: Mesh) -> DropGround:
        triangles = np.ascontiguousarray(mesh.triangles, dtype=np.int32)
        vertices = np.ascontiguousarray(mesh.vertices, dtype=np.float64)
        pairs, owners = _edge_table(triangles)
        around = (np.argsort(triangles.ravel(), kind="stable") // 3).astype(np.int32)
        count = np.bincount(triangles.ravel(), minlength=len(vertices))
        rim = np.zeros(len(vertices), bool)
        rim[pairs[owners[:, 1] < 0].ravel()] = True
        return cls(
            vertices, triangles, np.ascontiguousarray(mesh.unit_normals()), pairs, owners, _one_face(mesh), around,
            np.concatenate([[0], np.cumsum(count)]).astype(np.int64), rim,
        )  # fmt: skip

    def index(self, underside: Underside) -> DropIndex:
        """Made ready for one underside."""
        vertices, triangles, normals, owners = self.vertices, self.triangles, self.normals, self.owners
        elements = underside.elements
        facets, facet_box, facet_of = kernels.make_facets(vertices, triangles, normals, elements)
        edges, edge_box, edge_of = kernels.make_edges(vertices, triangles, normals, self.pairs, owners, elements)
        points, point_box, point_of = kernels.make_vertices(
            vertices, normals, self.start, self.around, self.rim, elements
        )
        far_end = edges[:, :2] + edges[:, 2:4] * edges[:, 4:5]
        boxes = np.concatenate(
            [
                facet_box,
                np.hstack([np.minimum(edges[:, :2], far_end), np.maximum(edges[:, :2], far_end)]) + edge_box,
                np.hstack([points[:, :2], points[:, :2]]) + point_box,
            ]
        )
        if len(boxes) == 0:
            return DropIndex(
                underside, facets, edges, points, np.zeros(0), np.zeros((0, 2), np.int32), np.zeros(2, np.int64),
                np.zeros(0, np.int32), np.zeros(2), 1.0, (1, 1),
            )  # fmt: skip
        low = boxes[:, :2].min(axis=0) - 1e-6
        high = boxes[:, 2:].max(axis=0) + 1e-6
        cell = float(np.sqrt(np.prod(high - low) / min(max(len(boxes) / 3, 16), 400_000)))
        shape = (int((high[0] - low[0]) / cell) + 1, int((high[1] - low[1]) / cell) + 1)
        facet_tops = vertices[triangles[facet_of], 2].max(axis=1) if len(facet_of) else np.zeros(0)
        edge_tops = edges[:, 5] + np.maximum(edges[:, 6] * edges[:, 4], 0.0)
        tops = np.concatenate([facet_tops, edge_tops, points[:, 2]])
        order = np.argsort(-tops, kind="stable")
        start, items = kernels.fill_cells(facets, edges, points, edge_box, point_box, order, low, cell, *shape)
        ends = np.maximum(owners[edge_of], -1)
        at = np.concatenate(
            [
                np.column_stack([facet_of, np.full(len(facet_of), -1)]),
                np.where(ends.min(axis=1, keepdims=True) < 0, -1, ends),
                self.one_face[point_of],
            ]
        )
        return DropIndex(
            underside, facets, edges, points, tops + ROUNDING_MM, at.astype(np.int32), start, items, low, cell, shape
        )


@dataclass(frozen=True)
class DropStack:
    """A part made ready for the bodies of a tool that stand over each other: each with its height over the tip."""

    parts: tuple[tuple[DropIndex, float], ...]


def tip_heights(
    index: DropIndex | DropStack, xy: Points, low: Points | float = -np.inf, high: Points | float = np.inf
) -> Points:
    """Tip height over each place; of several bodies the highest that one of them asks for.

    Args:
        xy: (n, 2) mm.
        low, high: heights between which it matters, for all places or each (n,): quicker where they are close.

    Returns:
        (n,) mm, the z of the tool tip; `low` where it would be lower or meets nothing at all; where it is `high` or
        more, anything from there on.
    """
    places = np.ascontiguousarray(xy, dtype=np.float64)
    low, high = _each(low, len(places)), _each(high, len(places))
    if isinstance(index, DropStack):
        best = low
        for part, height in index.parts:
            best = tip_heights(part, places, best + height, high + height) - height
        return best
    return kernels.query(
        places,
        low,
        high,
        index.facets,
        index.edges,
        index.vertices,
        index.tops,
        index.start,
        index.items,
        index.origin,
        index.cell_mm,
        index.shape[0],
        index.shape[1],
        index.underside.elements,
    )


def _each(height: Points | float, count: int) -> Points:
    """Heights (count,), the same for all where one is given."""
    return np.ascontiguousarray(height, dtype=np.float64) if np.ndim(height) else np.full(count, float(height))


def tip_heights_grid(index: DropIndex | DropStack, x: Points, y: Points, low: float = -np.inf) -> Points:
    """Tip heights on a grid, (len(x), len(y)) mm, `low` at least."""
    gx, gy = np.meshgrid(x, y, indexing="ij")
    return tip_heights(index, np.column_stack([gx.ravel(), gy.ravel()]), low).reshape(len(x), len(y))


def _one_face(mesh: Mesh) -> NDArray[np.int32]:
    """A triangle at each vertex, (n, 2) with −1; −1 where triangles of different faces meet."""
    found, low, high = (np.full(len(mesh.vertices), fill, np.int32) for fill in (-1, 2**31 - 1, -1))
    found[mesh.triangles] = np.arange(len(mesh.triangles), dtype=np.int32)[:, None]
    np.minimum.at(low, mesh.triangles, mesh.face_ids[:, None])
    np.maximum.at(high, mesh.triangles, mesh.face_ids[:, None])
    return np.column_stack([np.where(low == high, found, -1), np.full(len(found), -1, np.int32)])


def _edge_table(triangles: NDArray[np.int32]) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Each edge once with its two triangles; −1 where open, −2 where more than two meet."""
    ends = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
    owner = np.tile(np.arange(len(triangles), dtype=np.int32), 3)
    order = np.lexsort((ends[:, 1], ends[:, 0]))
    ends, owner = ends[order], owner[order]
    new = np.ones(len(ends), bool)
    new[1:] = np.any(ends[1:] != ends[:-1], axis=1)
    first = np.flatnonzero(new)
    count = np.diff(np.append(first, len(ends)))
    owners = np.full((len(first), 2), -1, np.int32)
    owners[:, 0] = owner[first]
    owners[count == 2, 1] = owner[first[count == 2] + 1]
    owners[count > 2, 1] = -2
    return np.ascontiguousarray(ends[first]), owners

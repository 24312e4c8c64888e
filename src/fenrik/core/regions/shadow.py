"""What stands above a height, seen from above: where a tool with its tip at that height may not be.

Every material above a level ends upwards in surface that looks up; so the region covered from a level up is the union
of the upward triangles cut off at that level and seen from above. Triangles share their corners along edges, so
all edges between them cancel, and what is left are closed rings that wind once round each covered place for every
layer above it: a union by winding numbers (Clipper2) gives the region.
"""

from __future__ import annotations

from collections import defaultdict

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from fenrik.core.frames import Points
from fenrik.core.regions.polygons import Rings, offset, thinned, to_shape, union
from fenrik.core.solids.model import Mesh

UPWARD = 1e-7
WELD_MM = 1e-6
THIN_MM = 3e-4
"""Places of outlines that lie this near to the way past them are left out."""
SEAL_MM = 2e-4
"""Gaps narrower than twice this are closed: they come from rounding, never from the part."""


class Shadow:
    """The part's cover from any height up.

    Args:
        mesh: triangles in the setup's frame; their deflection is the error of the result.
    """

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        used, own = np.unique(mesh.triangles, return_inverse=True)
        keys = np.round(mesh.vertices[used] / WELD_MM).astype(np.int64)
        unique, inverse = np.unique(keys, axis=0, return_inverse=True)
        self.points: Points = np.asarray(unique * WELD_MM, dtype=np.float64)
        self.heights: Points = np.unique(np.round(self.points[:, 2], 4))
        corners = inverse.reshape(-1)[own.reshape(-1, 3)]
        a, b, c = (self.points[corners[:, k]] for k in range(3))
        cross = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
        up = cross > UPWARD
        self.triangles = corners[up]
        self.top = np.max(self.points[self.triangles][:, :, 2], axis=1) if up.any() else np.zeros(0)
        self.bottom = np.min(self.points[self.triangles][:, :, 2], axis=1) if up.any() else np.zeros(0)
        self._shapes: dict[int, BaseGeometry] = {}
        self._kept: dict[tuple[int, float], Rings] = {}

    def above(self, level_mm: float) -> Rings:
        """The region covered by what stands higher than a level by more than a rounding error."""
        level = round(level_mm, 6) + 1e-5
        crossed = bool(np.any((self.bottom < level) & (self.top > level)))
        # Between two heights where nothing slopes the region is the same.
        key = (int(np.count_nonzero(self.bottom >= level)), level if crossed else 0.0)
        if key not in self._kept:
            self._kept[key] = self._above(level)
        return self._kept[key]

    def covers(self, level_mm: float, points: Points) -> np.ndarray:
        """Whether each place (n, 2) lies under what stands higher than a level."""
        region = self.above(level_mm)
        if not region:
            return np.zeros(len(points), bool)
        key = id(region)
        if key not in self._shapes:
            self._shapes[key] = to_shape(region)
            shapely.prepare(self._shapes[key])
        return np.asarray(shapely.intersects_xy(self._shapes[key], points[:, 0], points[:, 1]))

    def _above(self, level: float) -> Rings:
        high = self.triangles[self.bottom >= level]
        crossing = self.triangles[(self.bottom < level) & (self.top > level)]
        edges = [high[:, [0, 1]], high[:, [1, 2]], high[:, [2, 0]]]
        points: Points = self.points
        if len(crossing):
            cut, extra = _cut_off(points, crossing, level)
            edges.append(cut)
            points = np.vstack([points, extra])
        rings = _rings(np.vstack(edges), points[:, :2], len(points))
        merged = union(rings)
        sealed = offset(offset(merged, SEAL_MM), -SEAL_MM) if len(merged) > 1 else merged
        return thinned(sealed, THIN_MM)


def _cut_off(points: Points, triangles: np.ndarray, level: float) -> tuple[np.ndarray, Points]:
    """Directed edges of what is left of triangles above a level, and the points added on the way."""
    here = points[triangles, 2] >= level
    count = here.sum(axis=1)
    # Turned so that the corner that is alone on its side comes first.
    lone = np.where(count == 1, here.argmax(axis=1), (~here).argmax(axis=1))
    a, b, c = (triangles[np.arange(len(triangles)), (lone + k) % 3] for k in range(3))
    crossed, first = np.unique(np.vstack([_pair(a, b), _pair(c, a)]), axis=0, return_inverse=True)
    p, q = points[crossed[:, 0]], points[crossed[:, 1]]
    extra = p + ((level - p[:, 2]) / (q[:, 2] - p[:, 2]))[:, None] * (q - p)
    ab, ca = (len(points) + first.reshape(2, -1)).astype(np.int64)
    up = count == 1
    # One corner above: a, ab, ca. Two above: ab, b, c, ca.
    edges = [
        *((f[up], t[up]) for f, t in ((a, ab), (ab, ca), (ca, a))),
        *((f[~up], t[~up]) for f, t in ((ab, b), (b, c), (c, ca), (ca, ab))),
    ]
    return np.vstack([np.column_stack(e) for e in edges]).astype(np.int64), extra


def _pair(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Two numbers each, the smaller first."""
    return np.column_stack([np.minimum(a, b), np.maximum(a, b)])


def _rings(edges: np.ndarray, xy: Points, count: int) -> Rings:
    """Closed rings of the edges that have no opposite."""
    edges = edges[edges[:, 0] != edges[:, 1]]
    key, back = edges[:, 0] * count + edges[:, 1], edges[:, 1] * count + edges[:, 0]
    # Sorting and searching takes a fifth of the time of numpy's isin here.
    back.sort()
    at = np.searchsorted(back, key).clip(max=max(len(back) - 1, 0))
    alone = edges[back[at] != key] if len(back) else edges
    after: dict[int, list[int]] = defaultdict(list)
    for a, b in alone.tolist():
        after[a].append(b)
    rings: Rings = []
    for start in list(after):
        while after[start]:
            ring, here = [start], after[start].pop()
            while here != start and after[here]:
                ring.append(here)
                here = after[here].pop()
            if here == start and len(ring) >= 3:
                rings.append(xy[ring])
    return rings

"""What stands above a height, seen from above: where a tool with its tip at that height may not be.

Every material above a level ends upwards in surface that looks up; so the region covered from a level up is the union
of the upward triangles cut off at that level and seen from above. Triangles share their corners along edges, so
all edges between them cancel, and what is left are closed rings that wind once round each covered place for every
layer above it: a union by winding numbers (Clipper2) gives the region.
"""

from __future__ import annotations

import itertools
from functools import cached_property

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.regions import _ring_kernels as kernels
from fenrik.core.regions.cover import Cover
from fenrik.core.regions.heights import told_apart
from fenrik.core.regions.polygons import Rings, components, offset, thinned, union
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.rays import RayCaster

UPWARD, LEVEL_MM = 1e-7, 1e-5
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
        self.heights: Points = told_apart(self.points[:, 2])[0]
        corners = inverse.reshape(-1)[own.reshape(-1, 3)]
        a, b, c = (self.points[corners[:, k]] for k in range(3))
        cross = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
        up = cross > UPWARD
        self.triangles = corners[up]
        self.top = np.max(self.points[self.triangles][:, :, 2], axis=1) if up.any() else np.zeros(0)
        self.bottom = np.min(self.points[self.triangles][:, :, 2], axis=1) if up.any() else np.zeros(0)
        edges = self.triangles[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2)
        heights = self.points[edges, 2]
        # Two edges that lie against each other are above the same levels, unless they are level themselves.
        sides = _sides(edges)
        rim = np.flatnonzero(_alone(sides) | (np.ptp(heights, axis=1) == 0))
        self._edges, self._own, self._edge_lows = edges[rim], rim // 3, heights[rim].min(axis=1)
        self._sides = sides[rim]
        self._leans = self.top - self.bottom > LEVEL_MM
        self._kept: dict[tuple[int, float], Cover] = {}
        self._gaps: dict[bytes, list[Rings]] = {}

    def above(self, level_mm: float) -> Rings:
        """The region covered by what stands higher than a level by more than a rounding error."""
        return self.cover(level_mm).rings

    def cover(self, level_mm: float) -> Cover:
        """The same region, to be kept away from."""
        level = round(level_mm, 6) + LEVEL_MM
        crossed = bool(np.any((self.bottom < level) & (self.top > level)))
        # Between two heights where nothing slopes the region is the same.
        key = (int(np.count_nonzero(self.bottom >= level)), level if crossed else 0.0)
        if key not in self._kept:
            self._kept[key] = self._above(level)
        return self._kept[key]

    def covers(self, level_mm: float, points: Points) -> np.ndarray:
        """Whether each place (n, 2) lies under what stands higher than a level: a look down from over everything."""
        if not len(self.mesh.triangles):
            return np.zeros(len(points), bool)
        down = np.tile([0.0, 0.0, -1.0], (len(points), 1))
        over = np.full(len(points), self.points[:, 2].max() + 1.0)
        hit = self._rays.first_hits(np.column_stack([points, over]), down)
        corners = self.mesh.vertices[self.mesh.triangles[hit]]
        normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        steep = np.abs(normal[:, 2]) < UPWARD
        rise = np.einsum("ij,ij->i", normal[:, :2], corners[:, 0, :2] - points) / np.where(steep, 1.0, normal[:, 2])
        height = np.where(steep, corners[:, :, 2].max(axis=1), corners[:, 0, 2] + rise)
        return np.asarray((hit >= 0) & (height > level_mm + LEVEL_MM))

    @cached_property
    def _rays(self) -> RayCaster:
        return RayCaster(self.mesh)

    def slopes(self, low_mm: float, high_mm: float) -> bool:
        """Whether anything that leans, and is seen from above, comes between two heights."""
        return bool(np.any(self._leans & (self.top > low_mm) & (self.bottom < high_mm)))

    def _above(self, level: float) -> Cover:
        reaches = (self.top > level) | (self.bottom >= level)
        above = np.flatnonzero((self._edge_lows >= level) & reaches[self._own])
        edges, points = [self._edges[above[_alone(self._sides[above])]]], self.points
        crossing = (self.bottom < level) & (self.top > level)
        if crossing.any():
            cut, extra = _cut_off(points, self.triangles[crossing], level)
            edges.append(cut[_alone(_sides(cut))])
            points = np.vstack([points, extra])
        rings = _rings(np.vstack(edges), points[:, :2])
        merged = Cover.of(union(rings))
        if not merged.gaps and len(merged.outside) < 2:
            return Cover(thinned(merged.outside, THIN_MM), [])
        outside = offset(offset(merged.outside, SEAL_MM), -SEAL_MM)
        return Cover(thinned(outside, THIN_MM), [part for gap in merged.gaps for part in self._sealed(gap)])

    def _sealed(self, gap: Rings) -> list[Rings]:
        """What is left of a gap without its narrow places; most gaps are the same from level to level."""
        key = b"".join(ring.tobytes() for ring in gap)
        if key not in self._gaps:
            self._gaps[key] = components(thinned(offset(offset(gap, -SEAL_MM), SEAL_MM), THIN_MM))
        return self._gaps[key]


def _sides(edges: np.ndarray) -> np.ndarray:
    """A number for each of directed edges (n, 2), those of opposite ones differing in the last bit alone."""
    ends = np.sort(edges, axis=1)
    pair = np.unique(ends[:, 0] << 32 | ends[:, 1], return_inverse=True)[1]
    return np.asarray(pair << 1 | (edges[:, 0] > edges[:, 1]))


def _alone(sides: np.ndarray) -> np.ndarray:
    """Which of such numbers stand without that of the opposite edge."""
    there = np.zeros(2 + sides.max(initial=0), bool)
    there[sides] = True
    return ~there[sides ^ 1]


def _cut_off(points: Points, triangles: np.ndarray, level: float) -> tuple[np.ndarray, Points]:
    """Directed edges that cutting triangles off at a level makes, and the points added on the way."""
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
    # One corner above: a, ab, ca. Two above: ab, b, c, ca, of which b, c is whole.
    edges = [
        *((f[up], t[up]) for f, t in ((a, ab), (ab, ca), (ca, a))),
        *((f[~up], t[~up]) for f, t in ((ab, b), (c, ca), (ca, ab))),
    ]
    return np.vstack([np.column_stack(e) for e in edges]).astype(np.int64), extra


def _pair(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Two numbers each, the smaller first."""
    return np.column_stack([np.minimum(a, b), np.maximum(a, b)])


def _rings(edges: np.ndarray, xy: Points) -> Rings:
    """Closed rings of directed edges (n, 2) between places (m, 2)."""
    order = np.argsort(edges[:, 0], kind="stable")
    first = np.concatenate([[0], np.cumsum(np.bincount(edges[:, 0], minlength=len(xy)))])
    way, starts = kernels.trace(np.ascontiguousarray(edges[order, 1]), first)
    return [xy[way[a:b]] for a, b in itertools.pairwise(starts)]

"""Ground that a cutter clears at one level: the lattice that knows what is cleared and where the axis may be."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from fenrik.core.frames import Points
from fenrik.core.regions import Rings, offset
from fenrik.core.strategies.ground import _cleared_kernels as kernels
from fenrik.core.strategies.ground import _way_kernels as ways

CELL_SHARE = 0.05
"""Size of a cell as a share of the cutter's radius."""
RIM_CELLS = 3
RIM_SHARE = 5e-3
"""A share of the radius by which what the axis comes to is taken smaller than it is."""
WAY_CELLS = 5
"""Distance of the nodes of ways, in cells."""
SPARE_SHARE = 0.04
"""How far ways keep from material and fence, as a share of the radius."""


@dataclass
class ClearedGround:
    """What is cleared at a level, and the fence of the axis.

    Attributes:
        low: (2,) the lattice's first node. fence: the region of the axis. within: (nx, ny) nodes with
            material that it comes to.
        ground: what the kernels look at; its field of the axis changes as the ground is cleared.
    """

    low: Points
    fence: Rings
    within: NDArray[np.bool_]
    ground: kernels.Ground

    @classmethod
    def of(cls, fence: Rings, material: Rings, radius_mm: float, spare_mm: float = 0.0) -> ClearedGround:
        """Ground before the first motion.

        Args:
            fence: where the axis may be. material: where material stands, beyond the fence too.
            spare_mm: so much farther out material may stand; nothing is cut for that alone.
        """
        cell = CELL_SHARE * radius_mm
        corners = np.vstack(fence)
        low = corners.min(axis=0) - radius_mm - RIM_CELLS * cell
        size = np.ceil((corners.max(axis=0) + radius_mm + RIM_CELLS * cell - low) / cell).astype(int) + 1
        edges, beyond = _distances(fence, low, size, cell)
        axis, stands = np.full(tuple(size), -radius_mm, np.float32), np.zeros(tuple(size), np.bool_)
        if material:
            axis = radius_mm + spare_mm - _distances(material, low, size, cell)[1]
            stands = axis > radius_mm + spare_mm
        angle = np.linspace(-np.pi / 2, np.pi / 2, kernels.HALF_ARC + 1)
        ground = kernels.Ground(
            axis, beyond, float(low[0]), float(low[1]), cell, radius_mm, edges, np.cos(angle), np.sin(angle)
        )
        within = stands & _inside(offset(fence, (1.0 - RIM_SHARE) * radius_mm), low, size, cell)
        return cls(low, fence, within, ground)

    def places(self, nodes: NDArray[np.int64]) -> Points:
        """Where nodes (n, 2) of the lattice are."""
        return self.low + self.ground.cell * nodes

    def stamp(self, places: Points) -> None:
        """Clear what the cutter takes at places (n, 2)."""
        for x, y in places.tolist():
            kernels.stamp(self.ground, x, y)

    def engagement(self, x: float, y: float, ux: float, uy: float) -> float:
        """Arc of the cutter in material in front, radians."""
        return float(kernels.engagement(self.ground, x, y, ux, uy))

    def left(self, film_mm: float) -> NDArray[np.bool_]:
        """The nodes at which material stands that the cutter can come to, but for a film beside what is cleared."""
        return self.within & (self.ground.axis > self.ground.radius + film_mm)

    def left_at(self, nodes: tuple[NDArray[np.int64], ...], film_mm: float) -> NDArray[np.bool_]:
        """The same for some nodes."""
        return self.within[nodes] & (self.ground.axis[nodes] > self.ground.radius + film_mm)

    def way(self, a: Points, b: Points, longest_mm: float) -> Points | None:
        """Places from a to b through cleared ground, a with them; None where there is no such way."""
        g = self.ground
        if kernels.sees(g, *a.tolist(), *b.tolist(), 0.0):
            return np.array([a, b])
        for share, every in ((SPARE_SHARE, WAY_CELLS), (0.0, 2)):
            spare = share * g.radius
            found = ways.way_over(g, *a.tolist(), *b.tolist(), every, spare, longest_mm)
            if len(found):
                return np.asarray(ways.tightened(g, found, spare))
        return None


def _lines(region: Rings) -> Points:
    """The edges of a region, (m, 4)."""
    return np.ascontiguousarray(np.vstack([np.hstack([ring, np.roll(ring, -1, axis=0)]) for ring in region]))


def _inside(region: Rings, low: Points, size: NDArray[np.int64], cell: float) -> NDArray[np.bool_]:
    """The nodes (nx, ny) of a lattice that lie in a region."""
    found = np.zeros(tuple(size), np.bool_)
    kernels.inside(_lines(region), float(low[0]), float(low[1]), cell, found)
    return found


def _distances(region: Rings, low: Points, size: NDArray[np.int64], cell: float) -> tuple[kernels.Edges, NDArray]:
    """The edge of a region, and the distance (nx, ny) of each node to it, below 0 inside; exact near it."""
    line = _lines(region)
    along = [np.roll(ring, -1, axis=0) - ring for ring in region]
    reflex = [a[:, 0] * np.roll(a, -1, axis=0)[:, 1] < a[:, 1] * np.roll(a, -1, axis=0)[:, 0] for a in along]
    wide = kernels.NEAR_CELLS * cell
    rows, columns = (np.ceil(size * cell / wide).astype(int) + 1).tolist()
    first = np.zeros(rows * columns + 1, np.int64)
    args = (line, float(low[0]), float(low[1]), wide, rows, columns)
    item = np.zeros(kernels.list_edges(*args, np.zeros(0, np.int64), first), np.int64)
    if len(item):
        kernels.list_edges(*args, item, first)
    edges = kernels.Edges(line, np.concatenate(reflex), first, item, columns)
    inside = _inside(region, low, size, cell)
    far = float(np.hypot(*size)) * cell
    out, within = (
        ndimage.distance_transform_edt(mask) * cell - 0.5 * cell if not mask.all() else np.full(mask.shape, far)
        for mask in (~inside, inside)
    )
    field = np.where(inside, -within, out).astype(np.float32)
    kernels.make_exact(edges, float(low[0]), float(low[1]), cell, field)
    return edges, field

"""The stock as a tri-dexel field: three grids of rays along x, y and z with exact hits.

Every ray holds the stretches of material on it, as pairs of enter and exit hits in rising order; each hit knows its
place (float64), the outward normal of the surface there, and which motion made it (−1: the stock as it came).
The rays of the three families run through the nodes of one lattice.

Source of the representation: R. Zhang et al., "Tri-dexel model"; W. Barbier & H. Bechmann's ray representation.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Frame, Points
from fenrik.core.packing import pack, unpack

TILE = 32
EARLIER = -2
MAX_NODES_ON_A_SIDE = 4000
MAX_RAYS = 12_000_000
# Ray families: the two lattice axes that number the rays, and the axis along them.
FAMILIES = ((1, 2, 0), (0, 2, 1), (0, 1, 2))


@dataclass(frozen=True)
class Lattice:
    """Nodes at origin + (i, j, k)·cell; the outermost nodes lie outside the stock."""

    origin: tuple[float, float, float]
    cell_mm: float
    shape: tuple[int, int, int]

    def rays(self, family: int) -> tuple[int, int]:
        u, v, _ = FAMILIES[family]
        return self.shape[u], self.shape[v]


@dataclass(frozen=True)
class Tile:
    """Up to 32 × 32 rays of one family. Never changed once made, so stocks share it.

    Attributes:
        count: (a, b) int16, hits on each ray.
        at: (a, b, cap) float64, places of the hits along the ray, mm.
        normal: (a, b, cap, 3) int8, outward normals times 127.
        source: (a, b, cap) int32, motion that made the hit, −1 for the stock as it came, `EARLIER` for what was cut in
            an earlier setup.
    """

    count: NDArray[np.int16]
    at: NDArray[np.float64]
    normal: NDArray[np.int8]
    source: NDArray[np.int32]

    @cached_property
    def span(self) -> tuple[float, float]:
        """Where its stock begins and ends along the rays; (inf, −inf) where there is none."""
        there = self.count > 0
        last = np.take_along_axis(self.at, np.maximum(self.count - 1, 0)[..., None].astype(np.int64), axis=2)[..., 0]
        return float(self.at[..., 0].min(where=there, initial=np.inf)), float(last.max(where=there, initial=-np.inf))


Dense = tuple[NDArray[np.int16], NDArray[np.float64], NDArray[np.int8], NDArray[np.int32]]


@dataclass(frozen=True)
class Stock:
    """An immutable stock; `cut` makes a new one that shares unchanged tiles.

    Attributes:
        lattice: where the rays run; its cell is the resolution.
        tiles: for each family the tiles, row by row.
        error_mm: bound on the places of hits (rounding and flattened arcs so far).
        frame: how the lattice stands in the frame that the stock is spoken of. It stays with the blank through all
            setups, so that no turn costs anything; only what looks at the stock from above asks for it `upright`.
    """

    lattice: Lattice
    tiles: tuple[tuple[Tile, ...], tuple[Tile, ...], tuple[Tile, ...]]
    error_mm: float = 0.0
    frame: Frame = field(default_factory=Frame)

    def bounds(self) -> Points:
        """Lowest and highest corner of a box round the lattice, in the frame that the stock is spoken of, (2, 3)."""
        low = np.array(self.lattice.origin)
        high = low + self.lattice.cell_mm * (np.array(self.lattice.shape) - 1)
        corners = self.frame.to_part(np.array(list(itertools.product(*np.array([low, high]).T))))
        return np.array([corners.min(axis=0), corners.max(axis=0)])

    @property
    def leans(self) -> bool:
        """Whether its lattice stands otherwise than the frame that it is spoken of."""
        return bool(np.any(self.frame.rotation != np.eye(3)))

    @classmethod
    def box(cls, low: Points, high: Points, cell_mm: float) -> Stock:
        """A block between two corners.

        Raises:
            FenrikError: when the block has no size, or the cell is so small that the field would not fit in memory.
        """
        low, high = np.asarray(low, float), np.asarray(high, float)
        lattice = make_lattice(low, high, cell_mm)
        return cls(lattice, make_tiles(lattice, [_box_rays(lattice, f, low, high) for f in range(3)]))

    def dense(self, family: int, cap: int = 0) -> Dense:
        """One family as whole arrays that may be written to; `cap` is the least room for hits on a ray."""
        nu, nv = self.lattice.rays(family)
        room = max([cap, *(t.at.shape[2] for t in self.tiles[family])])
        count = np.zeros((nu, nv), np.int16)
        at = np.zeros((nu, nv, room))
        normal = np.zeros((nu, nv, room, 3), np.int8)
        source = np.full((nu, nv, room), -1, np.int32)
        for tile, (u, v) in zip(self.tiles[family], tile_places(self.lattice, family), strict=True):
            k = tile.at.shape[2]
            count[u, v], at[u, v, :k], normal[u, v, :k], source[u, v, :k] = (
                tile.count,
                tile.at,
                tile.normal,
                tile.source,
            )
        return count, at, normal, source

    def coarser(self, times: int) -> Stock:
        """The same stock on every so many-th ray, for pictures: what is left of it is as exact as before."""
        origin, cell, shape = self.lattice.origin, self.lattice.cell_mm, self.lattice.shape
        x, y, z = (-(-(n - 1) // times) + 1 for n in shape)
        lattice = Lattice(origin, cell * times, (x, y, z))
        families: list[Any] = []
        for family in range(3):
            taken = [column[::times, ::times] for column in self.dense(family)]
            room = [(0, want - has) for want, has in zip(lattice.rays(family), taken[0].shape, strict=True)]
            padded = [np.pad(c, [*room, *[(0, 0)] * (c.ndim - 2)]) for c in taken]
            families.append((padded[0], padded[1], padded[2], padded[3]))
        return Stock(lattice, make_tiles(lattice, families), self.error_mm, self.frame)

    def forgotten(self) -> Stock:
        """The same stock with all that was cut counted as cut earlier, so that motions can be numbered anew."""

        def of(tile: Tile) -> Tile:
            made = tile.source >= 0
            return replace(tile, source=np.where(made, EARLIER, tile.source).astype(np.int32)) if made.any() else tile

        x, y, z = (tuple(of(tile) for tile in family) for family in self.tiles)
        return replace(self, tiles=(x, y, z))

    def count_hits(self) -> int:
        """How many places of the surface there are on rays."""
        return sum(int(tile.count.sum()) for family in self.tiles for tile in family)

    def volume_mm3(self) -> float:
        """How much stands, by the rays along z."""
        count, at, _, _ = self.dense(2)
        there = np.arange(at.shape[2]) < count[..., None]
        sign = np.where(np.arange(at.shape[2]) % 2 == 0, -1.0, 1.0)
        return float((np.where(there, at, 0.0) * sign).sum()) * self.lattice.cell_mm**2

    def tops(self) -> Points:
        """Height of the highest material over each (x, y) node of the lattice, (nx, ny); −inf where there is none."""
        count, at, _, _ = self.dense(2)
        last = np.take_along_axis(at, np.maximum(count - 1, 0)[..., None].astype(np.int64), axis=2)[..., 0]
        return np.where(count > 0, last, -np.inf)

    def node_axes(self) -> tuple[Points, Points, Points]:
        """Coordinates of the nodes along x, y, z."""
        o, c, n = self.lattice.origin, self.lattice.cell_mm, self.lattice.shape
        x, y, z = (np.asarray(o[a] + c * np.arange(n[a]), dtype=np.float64) for a in range(3))
        return x, y, z

    def hits(self) -> tuple[Points, Points, NDArray[np.int32]]:
        """All surface points on rays: places (n, 3), outward normals (n, 3), motions that made them (n,)."""
        places, normals, sources = zip(*self.hits_by_tile(), strict=True)
        return np.concatenate(places), np.concatenate(normals), np.concatenate(sources)

    def hits_by_tile(self, cut_only: bool = False) -> Iterator[tuple[Points, Points, NDArray[np.int32]]]:
        """As `hits`, tile by tile; all, or only those that motions made."""
        axes = self.node_axes()
        for family, (u, v, along) in enumerate(FAMILIES):
            for tile, (pu, pv) in zip(self.tiles[family], tile_places(self.lattice, family), strict=True):
                there = np.arange(tile.at.shape[2]) < tile.count[..., None]
                if cut_only:
                    there &= tile.source >= 0
                    if not there.any():
                        continue
                i, j, k = np.nonzero(there)
                points = np.empty((len(i), 3))
                points[:, u], points[:, v], points[:, along] = axes[u][pu][i], axes[v][pv][j], tile.at[i, j, k]
                normals = tile.normal[i, j, k] / 127.0 @ self.frame.rotation.T
                yield self.frame.to_part(points) if self.leans else points, normals, tile.source[i, j, k]

    def to_bytes(self) -> bytes:
        """A form for keeping: the hits alone, tile by tile."""
        arrays: dict[str, np.ndarray] = {}
        for family in range(3):
            hits = [_hits_of(tile) for tile in self.tiles[family]]
            for k, name in enumerate(("count", "at", "normal", "source")):
                arrays[f"{name}{family}"] = np.concatenate([h[k] for h in hits])
        where = {"origin": self.lattice.origin, "cell": self.lattice.cell_mm, "shape": self.lattice.shape}
        stands = {"turn": self.frame.rotation.tolist(), "at": self.frame.origin.tolist()}
        return pack(where | stands | {"error": self.error_mm}, **arrays)

    @classmethod
    def from_bytes(cls, data: bytes) -> Stock:
        """The stock of `to_bytes`."""
        meta, arrays = unpack(data)
        lattice = Lattice(tuple(meta["origin"]), meta["cell"], tuple(meta["shape"]))
        x, y, z = (
            _tiles_from(lattice, f, *(arrays[f"{name}{f}"] for name in ("count", "at", "normal", "source")))
            for f in range(3)
        )
        frame = Frame("blank", np.array(meta["at"]), np.array(meta["turn"]))
        return cls(lattice, (x, y, z), meta["error"], frame)


def _hits_of(tile: Tile) -> tuple[NDArray[np.int16], NDArray[np.float64], NDArray[np.int8], NDArray[np.int32]]:
    """Counts of a tile's rays, and their hits one after another."""
    count = tile.count.ravel()
    if np.all(count == tile.at.shape[2]):
        return count, tile.at.ravel(), tile.normal.reshape(-1, 3), tile.source.ravel()
    there = np.flatnonzero(np.arange(tile.at.shape[2]) < tile.count[..., None])
    return count, tile.at.ravel()[there], tile.normal.reshape(-1, 3)[there], tile.source.ravel()[there]


def _tiles_from(
    lattice: Lattice,
    family: int,
    count: NDArray[np.int16],
    at: NDArray[np.float64],
    normal: NDArray[np.int8],
    source: NDArray[np.int32],
) -> tuple[Tile, ...]:
    """The tiles of one family from the counts and hits of all of them."""
    tiles, ray, hit = [], 0, 0
    for u, v in tile_places(lattice, family):
        shape = u.stop - u.start, v.stop - v.start
        own = count[ray : ray + shape[0] * shape[1]].reshape(shape)
        total, room = int(own.sum()), max(int(own.max(initial=0)), 2)
        there = np.arange(room) < own[..., None]
        tile = Tile(
            own.copy(),
            np.zeros((*shape, room)),
            np.zeros((*shape, room, 3), np.int8),
            np.full((*shape, room), -1, np.int32),
        )
        for whole, part in ((tile.at, at), (tile.normal, normal), (tile.source, source)):
            whole[there] = part[hit : hit + total]
        tiles.append(tile)
        ray, hit = ray + own.size, hit + total
    return tuple(tiles)


def make_lattice(low: Points, high: Points, cell_mm: float) -> Lattice:
    """The lattice for a stock between two corners; no ray runs along its sides.

    Raises:
        FenrikError: when there is no volume, or the cell is so small that the field would not fit in memory.
    """
    if not np.all(np.isfinite([low, high])) or np.any(high - low <= 0):
        raise fail("stock", "has no volume.", "Give the stock a size along x, y and z.", (high - low).tolist())
    if not cell_mm > 0:
        raise fail("cell_mm", "must be above 0.", "Use about 0.2 to 0.5 mm.", cell_mm)
    shape = [math.ceil(float(s) / cell_mm - 1e-9) + 2 for s in high - low]
    rays = shape[0] * shape[1] + shape[0] * shape[2] + shape[1] * shape[2]
    if max(shape) > MAX_NODES_ON_A_SIDE or rays > MAX_RAYS:
        raise fail(
            "cell_mm",
            f"needs {rays / 1e6:.0f} million rays for a stock of this size.",
            f"Use a cell of at least {suggested_cell(high - low) / 2:.3g} mm.",
            cell_mm,
        )
    origin = low - 0.5 * cell_mm
    return Lattice(
        (float(origin[0]), float(origin[1]), float(origin[2])), float(cell_mm), (shape[0], shape[1], shape[2])
    )


def suggested_cell(size: Points, nodes: int = 280) -> float:
    """A cell that makes the longest side about `nodes` nodes, in a round number of mm."""
    raw = float(np.max(size)) / nodes
    step = 10.0 ** math.floor(math.log10(raw))
    return min((m * step for m in (1.0, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0)), key=lambda v: abs(v - raw))


def tile_places(lattice: Lattice, family: int) -> Iterator[tuple[slice, slice]]:
    """Where the tiles of a family lie in its whole arrays."""
    nu, nv = lattice.rays(family)
    for u in range(0, nu, TILE):
        for v in range(0, nv, TILE):
            yield slice(u, min(u + TILE, nu)), slice(v, min(v + TILE, nv))


def freeze_tile(own: Dense) -> Tile:
    """A tile out of the columns of its rays, with no more room than it needs."""
    count, at, normal, source = own
    cap = max(int(count.max(initial=0)), 2)
    return Tile(count.copy(), at[..., :cap].copy(), normal[..., :cap, :].copy(), source[..., :cap].copy())


def make_tiles(lattice: Lattice, dense: list[Dense]) -> tuple[tuple[Tile, ...], tuple[Tile, ...], tuple[Tile, ...]]:
    def family(columns: Dense, f: int) -> tuple[Tile, ...]:
        count, at, normal, source = columns
        return tuple(
            freeze_tile((count[u, v], at[u, v], normal[u, v], source[u, v])) for u, v in tile_places(lattice, f)
        )

    return family(dense[0], 0), family(dense[1], 1), family(dense[2], 2)


def _box_rays(lattice: Lattice, family: int, low: Points, high: Points) -> Dense:
    u, v, along = FAMILIES[family]
    nu, nv = lattice.rays(family)
    cu = lattice.origin[u] + lattice.cell_mm * np.arange(nu)
    cv = lattice.origin[v] + lattice.cell_mm * np.arange(nv)
    inside = ((cu > low[u]) & (cu < high[u]))[:, None] & ((cv > low[v]) & (cv < high[v]))[None, :]
    count = np.where(inside, 2, 0).astype(np.int16)
    at = np.zeros((nu, nv, 2))
    normal = np.zeros((nu, nv, 2, 3), np.int8)
    at[inside] = (low[along], high[along])
    normal[..., 0, along], normal[..., 1, along] = -127, 127
    return count, at, normal, np.full((nu, nv, 2), -1, np.int32)

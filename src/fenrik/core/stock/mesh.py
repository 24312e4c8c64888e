"""The stock's surface as triangles with sharp edges, brick by brick.

Dual contouring of the Hermite data on the rays (T. Ju, F. Losasso, S. Schaefer, J. Warren, "Dual Contouring of
Hermite Data", 2002): each lattice cell that the surface crosses gets one vertex at the least-squares meeting point of
the planes through its hits, so that edges and corners stay sharp.
"""

from __future__ import annotations

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.solids.facets import join_equal
from fenrik.core.solids.model import Mesh
from fenrik.core.stock import _mesh_kernels as kernels
from fenrik.core.stock._cut_kernels import BRICK
from fenrik.core.stock.field import FAMILIES, TILE, Stock, Tile, tile_places


def brick_count(stock: Stock) -> tuple[int, int, int]:
    a, b, c = ((s + BRICK - 1) // BRICK for s in stock.lattice.shape)
    return a, b, c


def brick_mesh(stock: Stock, brick: tuple[int, int, int]) -> tuple[Points, np.ndarray]:
    """Surface of one brick of 32 × 32 × 32 lattice cells.

    Returns:
        Vertices (n, 3) in the frame that the stock is spoken of, triangles (m, 3) int32; both empty where no surface
        passes.
    """
    shape = stock.lattice.shape
    low = [b * BRICK - 1 for b in brick]
    high = [min((b + 1) * BRICK, s - 1) + 1 for b, s in zip(brick, shape, strict=True)]
    rays = []
    for family, (u, v, _) in enumerate(FAMILIES):
        rays += _window(stock, family, (max(low[u], 0), high[u]), (max(low[v], 0), high[v]))
    start = np.array([max(value, 0) for value in low])
    cx, ax, nx, cy, ay, ny, cz, az, nz = rays
    vertices, triangles = kernels.contour(
        cx,
        ax,
        nx,
        cy,
        ay,
        ny,
        cz,
        az,
        nz,
        np.array(stock.lattice.origin),
        stock.lattice.cell_mm,
        start,
        np.array(high),
        np.array([b * BRICK for b in brick]),
    )
    return stock.frame.to_part(vertices) if stock.leans else vertices, triangles


def _window(stock: Stock, family: int, u: tuple[int, int], v: tuple[int, int]) -> list[np.ndarray]:
    """Counts, places and normals of the rays [u) × [v) of a family, gathered from its tiles."""
    nv = stock.lattice.rays(family)[1]
    across = (nv + TILE - 1) // TILE
    picked = [
        (tu, tv, stock.tiles[family][tu * across + tv])
        for tu in range(u[0] // TILE, (u[1] - 1) // TILE + 1)
        for tv in range(v[0] // TILE, (v[1] - 1) // TILE + 1)
    ]
    cap = max(t.at.shape[2] for _, _, t in picked)
    count = np.zeros((u[1] - u[0], v[1] - v[0]), np.int16)
    at = np.zeros((*count.shape, cap))
    normal = np.zeros((*count.shape, cap, 3), np.int8)
    for tu, tv, tile in picked:
        a0, b0 = max(u[0], tu * TILE), max(v[0], tv * TILE)
        a1, b1 = min(u[1], tu * TILE + tile.count.shape[0]), min(v[1], tv * TILE + tile.count.shape[1])
        to = (slice(a0 - u[0], a1 - u[0]), slice(b0 - v[0], b1 - v[0]))
        of = (slice(a0 - tu * TILE, a1 - tu * TILE), slice(b0 - tv * TILE, b1 - tv * TILE))
        k = tile.at.shape[2]
        count[to], at[to][..., :k], normal[to][..., :k, :] = tile.count[of], tile.at[of], tile.normal[of]
    return [count, at, normal]


def stock_mesh(stock: Stock) -> Mesh:
    """The whole surface as one mesh, bricks joined."""
    vertices, triangles, base = [], [], 0
    for brick in np.ndindex(*brick_count(stock)):
        v, t = brick_mesh(stock, brick)
        vertices.append(v)
        triangles.append(t + base)
        base += len(v)
    # Where bricks meet, both have the same vertices to the last bit.
    places, number = join_equal(np.concatenate(vertices))
    joined = number[np.concatenate(triangles)]
    a, b, c = joined.T
    joined = joined[(a != b) & (b != c) & (c != a)]
    return Mesh(places, joined, np.zeros(len(joined), np.int32))


def changed_bricks(before: Stock, after: Stock) -> np.ndarray:
    """Bricks whose mesh may differ between two stocks on one lattice, (bx, by, bz) bool.

    Shared tiles are equal; of others, the stretch of the rays on which hits came or went tells the bricks.
    """
    bricks = np.zeros(brick_count(after), bool)
    for family, (u, v, along) in enumerate(FAMILIES):
        places = tile_places(after.lattice, family)
        for old, new, (pu, pv) in zip(before.tiles[family], after.tiles[family], places, strict=True):
            moved = np.concatenate([_only_in(new, old), _only_in(old, new)]) if old is not new else np.zeros(0)
            if len(moved) == 0:
                continue
            span = (np.array([moved.min(), moved.max()]) - after.lattice.origin[along]) / after.lattice.cell_mm
            where: list[slice] = [slice(None)] * 3
            where[u] = slice(max(pu.start - 1, 0) // BRICK, pu.stop // BRICK + 1)
            where[v] = slice(max(pv.start - 1, 0) // BRICK, pv.stop // BRICK + 1)
            where[along] = slice(max(int(span[0]) - 1, 0) // BRICK, (int(span[1]) + 2) // BRICK + 1)
            bricks[tuple(where)] = True
    return bricks


def _only_in(one: Tile, other: Tile) -> Points:
    """Places of the hits of one tile that the other does not have."""
    mine = np.arange(one.at.shape[2]) < one.count[..., None]
    theirs = np.where(np.arange(other.at.shape[2]) < other.count[..., None], other.at, np.nan)
    known = (one.at[..., :, None] == theirs[..., None, :]).any(axis=-1)
    return one.at[mine & ~known]

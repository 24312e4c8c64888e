"""Stocks of any shape: from a closed mesh, and from another stock in another frame."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Frame, Points
from fenrik.core.solids.model import Mesh
from fenrik.core.stock import _ray_kernels as kernels
from fenrik.core.stock.field import EARLIER, FAMILIES, Dense, Lattice, Stock, make_lattice, make_tiles
from fenrik.core.stock.mesh import stock_mesh

EXACT_TURN = 1e-9
RESAMPLED_CELLS = 0.02
OPEN_SHARE = 1e-3


def stock_from_mesh(mesh: Mesh, cell_mm: float, error_mm: float = 0.0) -> Stock:
    """A stock with the shape of a closed mesh; bodies that overlap are one.

    Args:
        mesh: triangles, counter-clockwise seen from outside.
        error_mm: how far the triangles may stand from the shape that is meant.

    Raises:
        FenrikError: when the mesh is open or has no volume.
    """
    if len(mesh.triangles) == 0:
        raise fail("stock", "has no surface.", "Choose another shape for the stock.")
    low, high = mesh.bounds()
    lattice = make_lattice(low, high, cell_mm)
    corners = np.ascontiguousarray(mesh.corners())
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(normals, axis=1)
    keep = size > 1e-14
    corners, normals = corners[keep], np.ascontiguousarray(normals[keep] / size[keep, None])
    dense, wrong, rays = [], 0, 0
    for family in range(3):
        one, bad = _family(lattice, family, corners, normals)
        dense.append(one)
        wrong, rays = wrong + bad, rays + one[0].size
    if wrong > OPEN_SHARE * rays:
        raise fail(
            "stock",
            f"is not closed: {wrong} of {rays} rays leave it through a gap.",
            "Use a closed body or mesh.",
            wrong,
        )
    return Stock(lattice, make_tiles(lattice, dense), error_mm)


def _family(lattice: Lattice, family: int, corners: Points, normals: Points) -> tuple[Dense, int]:
    u, v, along = FAMILIES[family]
    nu, nv = lattice.rays(family)
    origin = np.array(lattice.origin)
    counts = np.zeros(nu * nv + 1, np.int64)
    none = (np.zeros(0), np.zeros(0, np.int64))
    kernels.find_hits(corners, normals, u, v, along, origin, lattice.cell_mm, nu, nv, counts, *none, False)
    start = np.concatenate([[0], np.cumsum(counts[:-1])])
    place, owner = np.zeros(start[-1]), np.zeros(start[-1], np.int64)
    kernels.find_hits(
        corners, normals, u, v, along, origin, lattice.cell_mm, nu, nv, start[:-1].copy(), place, owner, True
    )
    cap = max(int(counts.max()), 2)
    cap += cap % 2
    count = np.zeros(nu * nv, np.int16)
    at, normal = np.zeros((nu * nv, cap)), np.zeros((nu * nv, cap, 3), np.int8)
    wrong = kernels.pair_hits(start, place, owner, normals, along, count, at, normal)
    source = np.full((nu, nv, cap), -1, np.int32)
    return (count.reshape(nu, nv), at.reshape(nu, nv, cap), normal.reshape(nu, nv, cap, 3), source), wrong


def turn_stock(stock: Stock, rotation: Points) -> Stock:
    """A stock spoken of in another frame that shares its zero.

    Every hit stays as it is: after quarter turns the lattice stands upright again, after any other it leans.

    Args:
        rotation: (3, 3), columns are the new axes in the frame that the stock was spoken of.
    """
    leans = rotation.T @ stock.frame.rotation
    nearest = np.rint(leans)
    if np.abs(leans - nearest).max() < EXACT_TURN:
        return _quarter_turned(stock, nearest.T.astype(int))
    tiles = tuple(tuple(replace(t, source=_of_earlier(t.source)) for t in family) for family in stock.tiles)
    frame = Frame("blank", stock.frame.origin @ rotation, leans)
    return Stock(stock.lattice, (tiles[0], tiles[1], tiles[2]), stock.error_mm, frame)


def upright(stock: Stock) -> Stock:
    """A stock as those see it who look along the axes of its frame: itself, or made anew from its surface where it
    leans. Edges stay sharp, curved surfaces are known to about a hundredth of a cell."""
    if not stock.leans:
        return stock
    error = stock.error_mm + RESAMPLED_CELLS * stock.lattice.cell_mm
    return stock_from_mesh(stock_mesh(stock), stock.lattice.cell_mm, error)


def boxed(stock: Stock) -> Stock:
    """The box round a stock, whole, on the same cells as one that stands upright.

    Raises:
        FenrikError: where there is no stock.
    """
    low, high = stock.bounds()
    return Stock.box(low, high, stock.lattice.cell_mm)


def _of_earlier(source: NDArray[np.int32]) -> NDArray[np.int32]:
    """The motions of an earlier setup, whose numbers mean others in this one."""
    return np.where(source >= 0, EARLIER, source).astype(np.int32)


def _quarter_turned(stock: Stock, rotation: np.ndarray) -> Stock:
    """New axis `a` runs along old axis `old[a]`, forwards or backwards."""
    old = np.abs(rotation).argmax(axis=0)
    sign = rotation[old, np.arange(3)]
    lattice = stock.lattice
    origin, shape = [], []
    for a in range(3):
        n, start = lattice.shape[old[a]], lattice.origin[old[a]]
        origin.append(start if sign[a] > 0 else -(start + lattice.cell_mm * (n - 1)))
        shape.append(n)
    fresh = Lattice((origin[0], origin[1], origin[2]), lattice.cell_mm, (shape[0], shape[1], shape[2]))
    dense = [_turned_family(stock, family, old, sign) for family in range(3)]
    return Stock(fresh, make_tiles(fresh, dense), stock.error_mm)


def _turned_family(stock: Stock, family: int, old: np.ndarray, sign: np.ndarray) -> Dense:
    u, v, along = FAMILIES[family]
    from_family = int(old[along])
    count, at, normal, source = stock.dense(from_family)
    of_u, _, _ = FAMILIES[from_family]
    if of_u != old[u]:
        count, at = count.swapaxes(0, 1), at.swapaxes(0, 1)
        normal, source = normal.swapaxes(0, 1), source.swapaxes(0, 1)
    flips = (slice(None, None, int(sign[u])), slice(None, None, int(sign[v])))
    count, at, normal, source = count[flips], at[flips], normal[flips], source[flips]
    normal = normal[..., old] * sign.astype(np.int8)
    if sign[along] < 0:
        # The hits of each ray come in the opposite order.
        cap = at.shape[2]
        back = np.clip(count[..., None].astype(np.int64) - 1 - np.arange(cap), 0, None)
        at = -np.take_along_axis(at, back, axis=2)
        normal = np.take_along_axis(normal, back[..., None], axis=2)
        source = np.take_along_axis(source, back, axis=2)
    at = np.where(np.arange(at.shape[2]) < count[..., None], at, 0.0)
    return np.ascontiguousarray(count), at, np.ascontiguousarray(normal), _of_earlier(source)

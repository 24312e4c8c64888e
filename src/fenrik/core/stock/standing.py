"""What stands over the surface of a body on the rays of a stock, or is missing under it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh
from fenrik.core.stock import _ray_kernels, _standing_kernels
from fenrik.core.stock.field import FAMILIES, Stock

STEEPEST = 0.57
"""Every surface is met by rays of one family at least as steeply as this (1/√3, a little less)."""


@dataclass(frozen=True)
class Standing:
    """Places of a body's surface, evenly spread, and what stands over each.

    Attributes:
        place, normal: (n, 3), in the frame that the stock is spoken of. face: (n,) number of the face.
        area_mm2: (n,) what each place stands for. over_mm: (n,) thickness of material over it along the normal, at most
            up to where the body itself begins again; below 0 where material is missing under it.
    """

    place: Points
    normal: Points
    face: NDArray[np.int32]
    area_mm2: Points
    over_mm: Points


def standing(stock: Stock, mesh: Mesh) -> Standing:
    """What of a stock stands over a body that lies in it.

    Where the stock's rays meet the surface both are known without interpolation. A ray stands for a cell of the
    lattice, on a slope for more. The thickness is that along the ray times the slope's cosine: right for an even
    layer, and not less than the distance to the surface of anything else.

    Args:
        mesh: the body's triangles in the frame that the stock is spoken of; faces narrower than a cell may have no
            place.
    """
    local = mesh.in_frame(stock.frame) if stock.leans else mesh
    corners = np.ascontiguousarray(local.corners())
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(normals, axis=1)
    keep = size > 1e-14
    corners, faces = corners[keep], mesh.face_ids[keep]
    normals = np.ascontiguousarray(normals[keep] / size[keep, None])
    parts = [_family(stock, family, corners, normals, faces) for family in range(3)]
    place, normal, face, area, over = (np.concatenate(column) for column in zip(*parts, strict=True))
    # A place that two or three families meet is shared among them.
    meets = np.count_nonzero(np.abs(normal) >= STEEPEST, axis=1)
    if stock.leans:
        place, normal = stock.frame.to_part(place), normal @ stock.frame.rotation.T
    return Standing(place, normal, face, area / np.maximum(meets, 1), over)


def _family(
    stock: Stock, family: int, corners: Points, normals: Points, faces: NDArray[np.int32]
) -> tuple[Points, Points, NDArray[np.int32], Points, Points]:
    u, v, along = FAMILIES[family]
    nu, nv = stock.lattice.rays(family)
    origin, cell = np.array(stock.lattice.origin), stock.lattice.cell_mm
    counts = np.zeros(nu * nv + 1, np.int64)
    none = (np.zeros(0), np.zeros(0, np.int64))
    _ray_kernels.find_hits(corners, normals, u, v, along, origin, cell, nu, nv, counts, *none, False)
    start = np.concatenate([[0], np.cumsum(counts[:-1])])
    place, owner = np.zeros(start[-1]), np.zeros(start[-1], np.int64)
    _ray_kernels.find_hits(corners, normals, u, v, along, origin, cell, nu, nv, start[:-1].copy(), place, owner, True)
    ray = np.repeat(np.arange(nu * nv), np.diff(start))
    order = np.lexsort((place, ray))
    place, owner = place[order], owner[order]
    slope = np.ascontiguousarray(normals[owner, along])
    count, at, _, _ = stock.dense(family)
    room = at.shape[2]
    over = np.full(len(place), np.nan)
    first = np.arange(nu * nv) * room
    _standing_kernels.over_surface(start, place, slope, STEEPEST, first, count.ravel(), at.ravel(), over)
    met = np.flatnonzero(~np.isnan(over))
    points = np.empty((len(met), 3))
    points[:, u], points[:, v] = origin[u] + cell * (ray[met] // nv), origin[v] + cell * (ray[met] % nv)
    points[:, along] = place[met]
    steep = np.abs(slope[met])
    return points, normals[owner[met]], faces[owner[met]], cell * cell / steep, over[met] * steep

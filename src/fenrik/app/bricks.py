"""The surface of a stock for the browser, brick by brick, in the typed layout."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from fenrik.app.layout import encode
from fenrik.core.contact.distance import DistanceIndex, signed_distances
from fenrik.core.frames import Frame
from fenrik.core.stock import Stock, brick_mesh, changed_bricks, stock_mesh
from fenrik.core.stock.mesh import brick_count

COARSE_HITS = 10_000


def bricks(
    meta: dict[str, Any], stock: Stock, frame: Frame, known: Stock | None = None, part: DistanceIndex | None = None
) -> bytes:
    """Bricks in part coordinates: those that differ from a stock that is known, or all.

    Args:
        part: where the distance to it is asked for, at each vertex.
    """
    wanted = changed_bricks(known, stock) if known is not None else np.ones(brick_count(stock), bool)
    ids, vertex_counts, index_counts, vertices, indices, values = [], [], [], [], [], []
    for brick in np.argwhere(wanted):
        v, t = brick_mesh(stock, (int(brick[0]), int(brick[1]), int(brick[2])))
        if len(t) == 0 and known is None:
            continue
        ids.append(int(np.ravel_multi_index(tuple(brick), wanted.shape)))
        vertex_counts.append(len(v))
        index_counts.append(3 * len(t))
        indices.append(t.ravel())
        vertices.append(frame.to_part(v))
        if part is not None and len(v):
            values.append(signed_distances(part, v).mm)
    arrays: dict[str, Any] = {
        "ids": np.array(ids, np.uint32),
        "vertex_counts": np.array(vertex_counts, np.uint32),
        "index_counts": np.array(index_counts, np.uint32),
        "vertices": np.concatenate(vertices or [np.zeros((0, 3))]).astype(np.float32),
        "indices": np.concatenate(indices or [np.zeros(0, np.int32)]).astype(np.uint32),
    }
    if part is not None:
        arrays["deviation"] = np.concatenate(values or [np.zeros(0)]).astype(np.float32)
    return encode(meta | {"full": known is None, "cell_mm": stock.lattice.cell_mm}, **arrays)


def coarse(meta: dict[str, Any], stock: Stock, frame: Frame) -> bytes:
    """The whole surface with so few triangles that it is drawn at once, in part coordinates; as `bricks`."""
    times = math.ceil(math.sqrt(stock.count_hits() / COARSE_HITS))
    mesh = stock_mesh(stock.coarser(times) if times > 1 else stock)
    return encode(
        meta | {"full": True, "cell_mm": stock.lattice.cell_mm * max(times, 1)},
        ids=np.zeros(1, np.uint32),
        vertex_counts=np.array([len(mesh.vertices)], np.uint32),
        index_counts=np.array([3 * len(mesh.triangles)], np.uint32),
        vertices=frame.to_part(mesh.vertices).astype(np.float32),
        indices=mesh.triangles.ravel().astype(np.uint32),
    )

"""Material that still stands in a region, and where a pass through it begins best."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from fenrik.core.frames import Points
from fenrik.core.strategies.ground import _cleared_kernels as kernels
from fenrik.core.strategies.ground.cleared import ClearedGround

LEAST_SHARE = 0.002
"""An area of less than so much of the radius squared is not gone after."""
APART_SHARE = 0.5
"""Beginnings are so far apart, as a share of the radius."""
FEW_NODES = 400
"""Material of fewer nodes is little."""
BACK_SHARE, STEP_SHARE = 0.6, 0.08
"""How far before material a pass begins, and the steps in which it is looked whether it can; shares of the radius."""

Nodes = tuple[NDArray[np.int64], ...]


def left_pieces(ground: ClearedGround, film_mm: float) -> list[Nodes]:
    """The connected pieces of what still stands and can be come to, largest first, but for a film."""
    g = ground.ground
    labels, count = ndimage.label(ground.left(film_mm))
    pieces = []
    for label, box in enumerate(ndimage.find_objects(labels, count), 1):
        nodes = np.argwhere(labels[box] == label) + [s.start for s in box]
        if len(nodes) * g.cell**2 >= LEAST_SHARE * g.radius**2:
            pieces.append(tuple(nodes.T))
    return sorted(pieces, key=lambda nodes: -len(nodes[0]))


def begins_beside(ground: ClearedGround, nodes: Nodes, at: Points | None) -> Iterator[tuple[Points, Points]]:
    """Clear places from which the cutter comes to some nodes, best first and apart from one another, each with the
    direction that has these on its right.

    Args:
        at: where the tool is.
    """
    g, radius = ground.ground, ground.ground.radius
    rows = np.column_stack(nodes)
    reach = int(np.ceil(radius / g.cell)) + 4
    low = np.maximum(rows.min(axis=0) - reach, 0)
    high = np.minimum(rows.max(axis=0) + 1 + reach, g.axis.shape)
    mask = np.ones(tuple(high - low), np.bool_)
    mask[tuple((rows - low).T)] = False
    away, nearest = ndimage.distance_transform_edt(mask, return_indices=True)
    window = tuple(slice(i, j) for i, j in zip(low, high, strict=True))
    touching = (away * g.cell < radius + 3 * g.cell) & (g.fence[window] < 0) & (g.axis[window] < radius)
    places = np.argwhere(touching)
    xy = ground.places(places + low)
    to = np.moveaxis(nearest[:, touching], 0, -1) - places
    right = to / np.maximum(np.linalg.norm(to, axis=1), 1e-9)[:, None]
    along = np.column_stack([-right[:, 1], right[:, 0]])
    given = np.zeros((0, 2))
    for k in _order(xy, xy + to * g.cell, along, ground.places(rows), at):
        if np.any(np.linalg.norm(given - xy[k], axis=1) < APART_SHARE * radius):
            continue
        if kernels.is_clear(g, *xy[k].tolist(), 0.0):
            given = np.vstack([given, xy[k]])
            yield _back_from(g, xy[k], along[k]), along[k]


def _order(xy: Points, meets: Points, along: Points, places: Points, at: Points | None) -> NDArray[np.int64]:
    """Beginnings in the order in which they are tried: of little material the one that has least of it behind, of much
    the nearest."""
    if len(places) > FEW_NODES or len(xy) == 0:
        return np.argsort(np.linalg.norm(xy - (xy[:1] if at is None else at), axis=1), kind="stable")
    ahead = np.einsum("cnk,ck->cn", places[None] - meets[:, None], along).min(axis=1)
    return np.argsort(-ahead, kind="stable")


def _back_from(g: kernels.Ground, at: Points, along: Points) -> Points:
    """A place a little before one, as far as it is clear."""
    step = STEP_SHARE * g.radius * along
    for _ in range(int(BACK_SHARE / STEP_SHARE)):
        if not kernels.is_clear(g, *(at - step).tolist(), 0.0):
            break
        at = at - step
    return at

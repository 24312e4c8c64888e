"""Cylinders in a patch of triangles that is none as a whole: bores that cross so that no crease parts them all the way.

Two facets of a cylinder that meet along its axis give the axis, and their corners the circle. What of the patch lies on
that cylinder and hangs together is one where it fits as a whole and most of its border is a crease or another cylinder:
a ring of a ball's or a fillet's facets fits one, too, but goes on smoothly on both sides.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from fenrik.core.frames import Points, flatten
from fenrik.core.solids.fitting import NEAR_MM, NEAR_SHARE, UPRIGHT, circle_through, fit_round

Rows = NDArray[np.int64]

MOST_LOOKS = 24
"""Places that one looks from in vain before a patch is left as it is."""
LEAST_LEAN, MOST_LEAN = 0.02, 0.75
"""Sine of the angle between two facets that tell an axis."""
LEAST_SPAN_DEG, LEAST_FACETS = 60.0, 3
MOST_SMOOTH = 0.5
"""Share of a cylinder's border over which a patch may go on smoothly."""
ALONG_COSINE = 0.9999


def cylinders_in(corners: Points, normals: Points, pairs: Rows) -> list[Rows]:
    """The cylinders in a patch.

    Args:
        corners: (n, 3, 3) mm. normals: (n, 3). pairs: (m, 2) triangles that meet smoothly over an edge.

    Returns:
        The triangles of each; none is in two.
    """
    free, found, looks = np.ones(len(corners), bool), [], 0
    edges = _shared_edges(corners, pairs)
    lengths = np.linalg.norm(edges, axis=1)
    for one, two, axis in _seeds(normals, pairs, edges, lengths):
        if looks == MOST_LOOKS:
            break
        if not (free[one] and free[two]):
            continue
        looks += 1
        rows = _on_cylinder(corners, normals, pairs, free, (one, two), axis)
        shape = fit_round(corners[rows]) if len(rows) > LEAST_FACETS else None
        if shape is None or shape.half_angle_deg > 0 or shape.span_deg < LEAST_SPAN_DEG:
            continue
        if _smooth_border(corners, pairs, lengths, free, rows) > MOST_SMOOTH:
            continue
        free[rows], looks = False, 0
        found.append(rows)
    return found


def _seeds(normals: Points, pairs: Rows, edges: Points, lengths: Points) -> list[tuple[int, int, Points]]:
    """Pairs of large facets that meet along an edge in the direction of a common axis."""
    across = np.cross(normals[pairs[:, 0]], normals[pairs[:, 1]])
    lean = np.linalg.norm(across, axis=1)
    axis = across / np.maximum(lean, 1e-300)[:, None]
    along = np.abs(np.einsum("ij,ij->i", edges, axis)) > ALONG_COSINE * lengths
    good = np.flatnonzero(along & (lean > LEAST_LEAN) & (lean < MOST_LEAN))
    order = good[np.argsort(-lengths[good], kind="stable")]
    return [(int(pairs[k, 0]), int(pairs[k, 1]), axis[k]) for k in order]


def _shared_edges(corners: Points, pairs: Rows) -> Points:
    """The edges over which pairs of triangles meet, from end to end (m, 3)."""
    a, b = corners[pairs[:, 0]], corners[pairs[:, 1]]
    same = np.all(a[:, :, None] == b[:, None], axis=3).any(axis=2)
    rows = np.arange(len(pairs))
    apart = np.argmin(same, axis=1)
    return a[rows, (apart + 2) % 3] - a[rows, (apart + 1) % 3]


def _on_cylinder(
    corners: Points, normals: Points, pairs: Rows, free: NDArray[np.bool_], seed: tuple[int, int], axis: Points
) -> Rows:
    """Triangles that hang together with a seed on the cylinder about an axis through its corners."""
    near = np.unique(corners[list(seed)].reshape(-1, 3), axis=0)
    flat = flatten(near, axis)
    if len(np.unique(np.round(flat, 4), axis=0)) < 3:
        return np.zeros(0, np.int64)
    middle, radius = circle_through(flat)
    within = 3 * (NEAR_MM + NEAR_SHARE * radius)
    away = flatten(corners.reshape(-1, 3), axis).reshape(-1, 3, 2) - middle
    off = np.abs(np.linalg.norm(away, axis=2) - radius).max(axis=1)
    on = free & (off < within) & (np.abs(normals @ axis) < UPRIGHT)
    joined = pairs[on[pairs].all(axis=1)]
    links = coo_array((np.ones(len(joined)), (joined[:, 0], joined[:, 1])), shape=(len(corners),) * 2)
    _, labels = connected_components(links, directed=False)
    return np.flatnonzero(on & on[seed[0]] & (labels == labels[seed[0]]))


def _smooth_border(corners: Points, pairs: Rows, lengths: Points, free: NDArray[np.bool_], rows: Rows) -> float:
    """Share of the border of some triangles over which a patch goes on smoothly to triangles that are free."""
    mine = np.zeros(len(corners), bool)
    mine[rows] = True
    inner = mine[pairs].all(axis=1)
    smooth = (mine[pairs].sum(axis=1) == 1) & free[pairs].all(axis=1)
    own = corners[rows]
    whole = float(np.linalg.norm(own - np.roll(own, -1, axis=1), axis=2).sum()) - 2 * float(lengths[inner].sum())
    return float(lengths[smooth].sum()) / max(whole, 1e-300)

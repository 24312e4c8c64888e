"""Triangles of a curved face made smaller where they stand off its exact surface, and how far they do so then.

A side that two triangles of the face share is halved where its middle stands too far off; so neighbours always agree.
Sides on the border of a face stay as they are: they follow the edge, which both faces share.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.solids.exact import ExactFaces

PASSES = 14
SIDES = ((0, 1), (1, 2), (2, 0))
SAFE = 1.25
"""How much farther than at the middles of sides and triangles a surface may stand off somewhere else."""


@dataclass(frozen=True)
class FaceMesh:
    """Triangles of one face.

    Attributes:
        nodes: (n, 3). corners: (m, 3) into them.
        parameters: (n, 2) of the nodes on a B-spline surface; zeros on others.
    """

    nodes: Points
    corners: NDArray[np.int32]
    parameters: Points


def refined(mesh: FaceMesh, faces: ExactFaces, face: int, within_mm: float, most: int) -> tuple[FaceMesh, float]:
    """Triangles that stand within a distance of the exact surface, or as near as a number of triangles allows.

    Args:
        within_mm: how far they may stand off. most: how many triangles there may be.

    Returns:
        The triangles, and how far they stand off at most.
    """
    away = _away(mesh, faces, face)
    if away <= within_mm:
        return mesh, SAFE * away
    for _ in range(PASSES):
        sides, of_side = _sides(mesh)
        off, middle, uv = _middles(mesh, sides, faces, face)
        split = (off > within_mm) & (np.bincount(of_side, minlength=len(sides)) == 2)
        room = (most - len(mesh.corners)) // 2
        if not split.any() or room < 1:
            break
        if split.sum() > room:  # the worst first
            split &= off >= np.partition(off[split], -room)[-room]
        mesh = _halved(mesh, of_side, split, middle, uv)
    return mesh, SAFE * _away(mesh, faces, face)


_LOOKED_AT = np.array([[3, 3, 0], [0, 3, 3], [3, 0, 3], [2, 2, 2]]) / 6.0
"""Shares of a triangle's corners at the middles of its sides and its own."""


def _away(mesh: FaceMesh, faces: ExactFaces, face: int) -> float:
    """How far the surface stands off the middles of all sides and triangles at most."""
    places, uv = (
        (_LOOKED_AT @ values[mesh.corners]).reshape(-1, values.shape[1]) for values in (mesh.nodes, mesh.parameters)
    )
    off, _, _ = faces.stands_off(face, places, uv)
    return float(off.max(initial=0.0))


def _sides(mesh: FaceMesh) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Different sides (k, 2), and which of them each triangle has, (3 m,), triangle by triangle."""
    ends = np.stack([mesh.corners[:, list(s)] for s in SIDES], axis=1).reshape(-1, 2)
    ends = np.sort(ends, axis=1).astype(np.int64)
    keys, of_side = np.unique(ends[:, 0] << 32 | ends[:, 1], return_inverse=True)
    return np.column_stack([keys >> 32, keys & 0xFFFFFFFF]), of_side.reshape(-1)


def _middles(mesh: FaceMesh, sides: NDArray[np.int64], faces: ExactFaces, face: int) -> tuple[Points, Points, Points]:
    """How far the surface stands off the middle of each side, the surface's place there, and its parameters."""
    a, b = sides[:, 0], sides[:, 1]
    uv = np.ascontiguousarray((mesh.parameters[a] + mesh.parameters[b]) / 2)
    return faces.stands_off(face, (mesh.nodes[a] + mesh.nodes[b]) / 2, uv)


def _halved(
    mesh: FaceMesh, of_side: NDArray[np.int64], split: NDArray[np.bool_], middle: Points, uv: Points
) -> FaceMesh:
    """All triangles with their chosen sides halved: in two, three or four."""
    number = np.cumsum(split) - 1 + len(mesh.nodes)
    nodes = np.concatenate([mesh.nodes, middle[split]])
    parameters = np.concatenate([mesh.parameters, uv[split]])
    cut = split[of_side].reshape(-1, 3)
    new = number[of_side].reshape(-1, 3)
    pieces: list[NDArray[Any]] = [mesh.corners[~cut.any(axis=1)]]
    for pattern in range(1, 8):
        wanted = np.array([bool(pattern >> k & 1) for k in range(3)])
        rows = np.flatnonzero((cut == wanted).all(axis=1))
        if len(rows):
            pieces += _template(mesh.corners[rows], new[rows], wanted, nodes)
    return FaceMesh(nodes, np.concatenate(pieces).astype(np.int32), parameters)


def _template(
    corners: NDArray[np.int32], middles: NDArray[np.int64], wanted: NDArray[np.bool_], nodes: Points
) -> list[NDArray[np.int64]]:
    """Pieces of triangles of which the same sides are halved."""
    if wanted.all():
        a, b, c = corners.T
        ab, bc, ca = middles.T
        return [np.column_stack(t) for t in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))]
    # Turned so that the first side is halved, or the first two.
    first = int(np.flatnonzero(wanted)[0]) if wanted.sum() == 1 else int((np.flatnonzero(~wanted)[0] + 1) % 3)
    turn = [(first + k) % 3 for k in range(3)]
    a, b, c = corners[:, turn].T
    ab, bc, _ = middles[:, turn].T
    if wanted.sum() == 1:
        return [np.column_stack([a, ab, c]), np.column_stack([ab, b, c])]
    # The quadrilateral a, ab, bc, c is parted along its shorter diagonal.
    short = np.linalg.norm(nodes[ab] - nodes[c], axis=1) < np.linalg.norm(nodes[a] - nodes[bc], axis=1)
    one = np.where(short[:, None], np.column_stack([a, ab, c]), np.column_stack([a, ab, bc]))
    two = np.where(short[:, None], np.column_stack([ab, bc, c]), np.column_stack([a, bc, c]))
    return [np.column_stack([ab, b, bc]), one, two]

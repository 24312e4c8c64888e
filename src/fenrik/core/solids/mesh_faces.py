"""Faces and edges of a bare triangle mesh: flats, cylinders and cones where its facets are those of some, and patches
of what is left, divided at creases."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.solids import _weld_kernels as kernels
from fenrik.core.solids.crossing import cylinders_in
from fenrik.core.solids.facets import EdgeTable
from fenrik.core.solids.fitting import Round, fit_round
from fenrik.core.solids.mesh_edges import edges_between, triple
from fenrik.core.solids.model import Edge, Face, Mesh

CREASE_DEG = 30.0
FLAT_DEG = 0.05
"""Facets of a flat lean to one another by less."""
WIDE_TIMES, WIDE_SHARE = 3.0, 0.02
"""A flat in a smooth patch is so many times as large as its other facets are in the middle, and such a share of it."""
THIN_SHARE = 1.5e-4
"""Triangles that are thinner than this share of the largest coordinate have no normal to go by: what single precision
makes of 0.05°."""
MAX_FACES, MOST_PATCHES = 20_000, 4_000
"""Patches that are told apart at all; in more than the second number no features are looked for."""
FLAT_LENGTH = 1 - 1e-6
LEAST_OF_CROSSING, MOST_OF_CROSSING = 8, 100_000
"""Triangles of a patch in which cylinders are looked for."""

Labels = NDArray[np.int32]
Rounds = dict[tuple[int, int], Round | None]
"""What patches are as a whole, by their first triangle and how many they have."""


@dataclass(frozen=True)
class _Facets:
    """Triangles with their normals and areas, and pairs of them that share an edge."""

    corners: Points
    normals: Points
    areas: Points
    left: Labels
    right: Labels
    cosine: Points

    def patches(self, joined: NDArray[np.bool_]) -> tuple[Labels, int]:
        """Number triangles alike that are joined by pairs."""
        labels = np.empty(len(self.corners), np.int32)
        count = kernels.label_patches(
            len(labels), np.ascontiguousarray(self.left[joined]), np.ascontiguousarray(self.right[joined]), labels
        )
        return labels, count


def group_faces(mesh: Mesh) -> tuple[Mesh, list[Face], list[Edge], int]:
    """Find the faces of a welded mesh, and the edges between them.

    Returns:
        The mesh with `face_ids` set, the faces, the edges, and how many edges of triangles are open.
    """
    corners = mesh.corners()
    a, b, c = np.moveaxis(corners, 1, 0)
    cross = np.cross(b - a, c - a)
    double = np.linalg.norm(cross, axis=1)
    table = EdgeTable.of(mesh.triangles)
    paired = table.uses == 2
    left, right = table.owners[paired, 0], table.owners[paired, 1]
    normals = cross / double[:, None]
    facets = _Facets(corners, normals, double / 2, left, right, _turns(mesh, normals, double, table, paired))
    labels, count, rounds = _crossings_parted(facets, *_labelled(facets))
    if count > MAX_FACES:
        count, labels, rounds = 1, np.zeros(len(labels), np.int32), {}
    faces = _faces(facets, labels, count, rounds)
    edges = edges_between(mesh, normals, labels, table, faces)
    return replace(mesh, face_ids=labels), _with_edges(faces, edges), edges, int((~paired).sum())


def _turns(mesh: Mesh, normals: Points, double: Points, table: EdgeTable, paired: NDArray[np.bool_]) -> Points:
    """Cosines of the angles at which triangles meet over the edges that have two.

    The normal of a thin triangle is that of its rounding: it goes with its neighbour across its longest edge.
    """
    ends = mesh.vertices[table.ends[:, 1]] - mesh.vertices[table.ends[:, 0]]
    lengths = np.sqrt(np.einsum("ij,ij->i", ends, ends))
    longest = np.zeros(len(normals))
    for side in table.owners.T:
        np.maximum.at(longest, side[side >= 0], lengths[side >= 0])
    left, right = table.owners[paired].T
    thin = double / np.maximum(longest, 1e-300) < THIN_SHARE * np.abs(mesh.vertices).max()
    cosine = np.einsum("ij,ij->i", normals[left], normals[right])
    rows = np.flatnonzero(thin[left] | thin[right])
    length = lengths[paired][rows]
    with_it = np.zeros(len(rows), bool)
    for own in (left[rows], right[rows]):
        with_it |= thin[own] & (length >= longest[own] * (1 - 1e-9))
    cosine[rows] = np.where(with_it, 1.0, -1.0)
    return np.asarray(cosine)


def _labelled(facets: _Facets) -> tuple[Labels, int, Rounds]:
    """A number for each triangle: patches at creases, and those that are no cylinder or cone as a whole by the flats in
    them; and what each patch is as a whole, by its first triangle."""
    smooth = facets.cosine > np.cos(np.deg2rad(CREASE_DEG))
    patch, count = facets.patches(smooth)
    flat, flats = facets.patches(smooth & (facets.cosine > np.cos(np.deg2rad(FLAT_DEG))))
    area = np.bincount(flat, facets.areas, flats)
    first = np.zeros(flats, np.int64)
    first[flat[::-1]] = np.arange(len(flat))[::-1]
    owner = patch[first]
    whole = np.bincount(owner, area, count)
    each = np.bincount(owner, minlength=count)
    wide = area >= WIDE_SHARE * whole[owner]
    asked = np.flatnonzero(np.isin(owner, owner[wide]))
    order = asked[np.lexsort((area[asked], owner[asked]))]
    _, begin, many = np.unique(owner[order], return_index=True, return_counts=True)
    middle = np.repeat(area[order[begin + many // 2]], many)
    wide[order] &= area[order] >= WIDE_TIMES * middle
    wide |= each[owner] <= 2
    rounds: Rounds = {}
    rows, starts = _by_label(patch, count)
    for k in np.flatnonzero((each > 2) & (count <= MOST_PATCHES)).tolist():
        own = rows[starts[k] : starts[k + 1]]
        rounds[int(own[0]), len(own)] = shape = fit_round(facets.corners[own])
        if shape is not None:
            wide &= owner != k
    if not wide.any():
        return patch, count, rounds
    # A flat stays together, and so does what is left of a patch where it hangs together.
    apart = np.where(wide[flat], flat, -1)
    return *facets.patches(smooth & (apart[facets.left] == apart[facets.right])), rounds


def _crossings_parted(facets: _Facets, labels: Labels, count: int, rounds: Rounds) -> tuple[Labels, int, Rounds]:
    """Patches with the cylinders in those that are no face of one kind as patches of their own."""
    if count > MOST_PATCHES:
        return labels, count, rounds
    smooth = facets.cosine > np.cos(np.deg2rad(CREASE_DEG))
    inside = np.flatnonzero(smooth & (labels[facets.left] == labels[facets.right]))
    inside = inside[np.argsort(labels[facets.left[inside]], kind="stable")]
    rows, starts = _by_label(labels, count)
    ends = np.searchsorted(labels[facets.left[inside]], np.arange(count + 1))
    part, parts = np.zeros(len(labels), np.int32), 0
    size = np.diff(starts)
    for k in np.flatnonzero((size > LEAST_OF_CROSSING) & (size <= MOST_OF_CROSSING)).tolist():
        own, pairs = rows[starts[k] : starts[k + 1]], inside[ends[k] : ends[k + 1]]
        key = int(own[0]), len(own)
        if _is_flat(facets, own):
            continue
        if key not in rounds:
            rounds[key] = fit_round(facets.corners[own])
        if rounds[key] is not None:
            continue
        local = np.searchsorted(own, np.column_stack([facets.left[pairs], facets.right[pairs]]))
        for taken in cylinders_in(facets.corners[own], facets.normals[own], local):
            parts += 1
            part[own[taken]] = parts
    if not parts:
        return labels, count, rounds
    together = smooth & (labels[facets.left] == labels[facets.right]) & (part[facets.left] == part[facets.right])
    return *facets.patches(together), rounds


def _is_flat(facets: _Facets, rows: NDArray[np.int64]) -> bool:
    mean = facets.areas[rows] @ facets.normals[rows] / facets.areas[rows].sum()
    return bool(np.linalg.norm(mean) > FLAT_LENGTH)


def _by_label(labels: Labels, count: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Triangles in the order of their labels, and where each label begins and the last ends, (count + 1,)."""
    rows = np.argsort(labels, kind="stable")
    return rows, np.searchsorted(labels[rows], np.arange(count + 1))


def _faces(facets: _Facets, labels: Labels, count: int, rounds: Rounds) -> list[Face]:
    """What is known of each face by itself."""
    area = np.bincount(labels, facets.areas, count)
    middles = facets.corners.mean(axis=1)
    weigh = np.column_stack([np.bincount(labels, middles[:, k] * facets.areas, count) for k in range(3)])
    mean = np.column_stack([np.bincount(labels, facets.normals[:, k] * facets.areas, count) for k in range(3)])
    direction = mean / np.maximum(area, 1e-300)[:, None]
    length = np.linalg.norm(direction, axis=1)
    rows, starts = _by_label(labels, count)
    found = []
    for k in range(count):
        own = facets.corners[rows[starts[k] : starts[k + 1]]]
        place = triple(weigh[k] / max(float(area[k]), 1e-300))
        low, high = triple(own.min(axis=(0, 1))), triple(own.max(axis=(0, 1)))
        face = Face("mesh", float(area[k]), place, (0.0, 0.0, 0.0), None, (), low, high)
        if length[k] > FLAT_LENGTH:
            face = replace(face, kind="plane", normal=triple(direction[k] / length[k]), origin=place)
        elif count <= MOST_PATCHES:
            known = int(rows[starts[k]]), len(own)
            shape = rounds[known] if known in rounds else fit_round(own)
            face = face if shape is None else _round_face(face, shape)
        found.append(face)
    return found


def _round_face(face: Face, shape: Round) -> Face:
    known = replace(
        face,
        normal=triple(shape.axis),
        origin=triple(shape.origin),
        concave=shape.concave,
        span_deg=shape.span_deg,
    )
    if shape.half_angle_deg > 0:
        return replace(known, kind="cone", half_angle_deg=shape.half_angle_deg)
    return replace(known, kind="cylinder", radius_mm=shape.radius_mm)


def _with_edges(faces: list[Face], edges: list[Edge]) -> list[Face]:
    """The faces with their neighbours and loops, the longest loop first."""
    own: list[list[int]] = [[] for _ in faces]
    beside: list[set[int]] = [set() for _ in faces]
    for number, edge in enumerate(edges):
        for a, b in (edge.faces, edge.faces[::-1]):
            if a >= 0:
                own[a].append(number)
                beside[a] |= {b} - {a, -1}
    return [
        replace(f, neighbours=tuple(sorted(near)), loops=_loops(mine, edges))
        for f, near, mine in zip(faces, beside, own, strict=True)
    ]


def _loops(mine: list[int], edges: list[Edge]) -> tuple[tuple[int, ...], ...]:
    """The edges of a face as loops: edges that share an end belong together."""
    at: dict[int, list[int]] = {}
    for e in mine:
        for end in edges[e].ends:
            at.setdefault(end, []).append(e)
    left, loops = dict.fromkeys(mine), []
    while left:
        loop, waiting = [], [next(iter(left))]
        del left[waiting[0]]
        while waiting:
            e = waiting.pop()
            loop.append(e)
            near = [n for end in edges[e].ends for n in at[end] if n in left]
            for n in dict.fromkeys(near):
                del left[n]
            waiting += dict.fromkeys(near)
        loops.append(tuple(loop))
    return tuple(sorted(loops, key=lambda loop: -sum(edges[e].length_mm for e in loop)))

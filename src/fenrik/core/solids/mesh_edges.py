"""Edges of a mesh: where two of its faces meet, as one line from corner to corner."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.solids.facets import EdgeTable
from fenrik.core.solids.fitting import fit_circle
from fenrik.core.solids.model import Edge, Face, Mesh

MAX_EDGES = 40_000
STRAIGHT_MM = 1e-4
SMOOTH_DEG = 8.0
"""Faces meet smoothly where they turn by less: facets of patches that are no known surface stray from the true one."""

Numbers = NDArray[np.int32]
Vector = tuple[float, float, float]
NONE: Vector = (0.0, 0.0, 0.0)


@dataclass(frozen=True)
class _Segments:
    """Edges of triangles between faces, each with a face and its triangle at its left.

    Attributes:
        begin, end: (n,) vertices. faces, triangles: (n, 2) at the left and at the right; −1 where there is none.
        uses: (n,) how many triangles have it.
    """

    begin: Numbers
    end: Numbers
    faces: Numbers
    triangles: Numbers
    uses: Numbers

    @classmethod
    def of(cls, mesh: Mesh, labels: Numbers, table: EdgeTable) -> _Segments:
        """All of a mesh; the face of the lower number is at the left."""
        faces = np.where(table.owners < 0, -1, labels[np.maximum(table.owners, 0)]).astype(np.int32)
        rows = np.flatnonzero((faces[:, 0] != faces[:, 1]) | (table.uses != 2))
        faces, triangles, ends = faces[rows], table.owners[rows], table.ends[rows]
        swap = (faces[:, 1] >= 0) & (faces[:, 1] < faces[:, 0])
        faces[swap], triangles[swap] = faces[swap][:, ::-1], triangles[swap][:, ::-1]
        own = mesh.triangles[triangles[:, 0]]
        forward = np.any((own == ends[:, :1]) & (np.roll(own, -1, axis=1) == ends[:, 1:]), axis=1)
        ends[~forward] = ends[~forward][:, ::-1]
        return cls(ends[:, 0], ends[:, 1], faces, triangles, table.uses[rows])

    def chains(self) -> list[list[int]]:
        """Segments in a row between the same faces, from corner to corner of the mesh; rings where there is none."""
        vertices, meeting = np.unique(np.concatenate([self.begin, self.end]), return_counts=True)
        corners = set(vertices[meeting != 2].tolist())
        begin, end, sides = self.begin.tolist(), self.end.tolist(), list(map(tuple, self.faces.tolist()))
        after = {(v, side): k for k, (v, side) in enumerate(zip(begin, sides, strict=True)) if v not in corners}
        led = {after[at] for at in zip(end, sides, strict=True) if at in after}
        used: set[int] = set()
        found = []
        # Those that nothing leads to come first; what is left then are rings.
        for head in [*(k for k in range(len(begin)) if k not in led), *range(len(begin))]:
            chain: list[int] = []
            k: int | None = head
            while k is not None and k not in used:
                used.add(k)
                chain.append(k)
                k = after.get((end[k], sides[k]))
            if chain:
                found.append(chain)
        return found


def edges_between(mesh: Mesh, normals: Points, labels: Numbers, table: EdgeTable, faces: list[Face]) -> list[Edge]:
    """The edges between faces (numbers of the triangles' faces in `labels`), and those that are open; none where they
    have more than `MAX_EDGES` edges of triangles.

    Args:
        normals: (n, 3) outward, of the triangles.
    """
    segments = _Segments.of(mesh, labels, table)
    if len(segments.begin) > MAX_EDGES:
        return []
    return [_edge(mesh, normals, segments, chain, faces) for chain in segments.chains()]


def _edge(mesh: Mesh, normals: Points, segments: _Segments, chain: list[int], faces: list[Face]) -> Edge:
    vertices = np.append(segments.begin[chain], segments.end[chain[-1]])
    line = mesh.vertices[vertices]
    steps = np.linalg.norm(np.diff(line, axis=0), axis=1)
    k = min(int(np.searchsorted(np.cumsum(steps), steps.sum() / 2)), len(steps) - 1)
    middle, tangent = (line[k] + line[k + 1]) / 2, (line[k + 1] - line[k]) / max(float(steps[k]), 1e-300)
    beside = [
        _normal(normals[triangle], middle, faces[face]) if face >= 0 else None
        for triangle, face in zip(segments.triangles[chain[k]], segments.faces[chain[k]], strict=True)
    ]
    turn, angle, into = _meeting(beside, tangent, int(segments.uses[chain[k]]))
    kind, length, circle = _kind(line, steps)
    left, right = segments.faces[chain[0]].tolist()
    return Edge(
        line[[0, -1]] if kind == "line" else line,
        kind,
        length,
        triple(circle[0]) if circle else None,
        circle[1] if circle else None,
        bool(vertices[0] == vertices[-1]),
        triple(circle[2]) if circle else None,
        (left, right),
        turn,
        angle,
        triple(middle),
        triple(tangent),
        into,
        (int(vertices[0]), int(vertices[-1])),
    )


def _kind(line: Points, steps: Points) -> tuple[str, float, tuple[Points, float, Points] | None]:
    """What a polyline is, how long, and the circle that it follows."""
    length = float(steps.sum())
    chord = line[-1] - line[0]
    size = float(np.linalg.norm(chord))
    if len(line) == 2:
        return "line", size, None
    if size > STRAIGHT_MM and np.linalg.norm(np.cross(line - line[0], chord / size), axis=1).max() < STRAIGHT_MM:
        return "line", size, None
    circle = fit_circle(line)
    if circle is None:
        return "curve", length, None
    return "circle", float(np.sum(2 * circle[1] * np.arcsin(np.minimum(steps / (2 * circle[1]), 1.0)))), circle


def _normal(own: Points, place: Points, face: Face) -> Points:
    """The outward normal of a face at a place on its edge: of the surface where that is known, else its triangle's."""
    if face.kind == "plane":
        return np.array(face.normal)
    if face.kind == "mesh":
        return own
    axis = np.array(face.normal)
    away = place - np.array(face.origin)
    away = away - (away @ axis) * axis
    size = float(np.linalg.norm(away))
    if size < STRAIGHT_MM:
        return own
    lean = float(own @ axis)
    out = (-1.0 if face.concave else 1.0) * np.sqrt(max(1 - lean * lean, 0.0)) * away / size + lean * axis
    return np.asarray(out / np.linalg.norm(out))


def _meeting(normals: list[Points | None], tangent: Points, uses: int) -> tuple[str, float, tuple[Vector, Vector]]:
    """How the faces at the left and the right of an edge meet: turn, angle, directions into both. The sign of
    (n₁ × n₂)·t says which way."""
    first, second = normals
    assert first is not None
    inward = _cross(first, tangent)
    if second is None or uses != 2:
        return ("open" if uses == 1 else "pinch"), 0.0, (inward, NONE)
    angle = float(np.rad2deg(np.arccos(np.clip(first @ second, -1.0, 1.0))))
    turn = "convex" if float(np.array(_cross(first, second)) @ tangent) > 0 else "concave"
    return "smooth" if angle < SMOOTH_DEG else turn, angle, (inward, _cross(tangent, second))


def _cross(a: Points, b: Points) -> Vector:
    # For two vectors NumPy's takes twenty times as long.
    (ax, ay, az), (bx, by, bz) = a.tolist(), b.tolist()
    return ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx


def triple(values: np.ndarray) -> Vector:
    """Three numbers as plain ones."""
    x, y, z = values.tolist()
    return x, y, z

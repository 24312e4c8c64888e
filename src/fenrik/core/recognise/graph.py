"""The face adjacency graph with what recognising asks of it again and again."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points, flatten
from fenrik.core.solids.model import Edge, Face, Solid
from fenrik.core.solids.rays import RayCaster

WALL_SINE = float(np.sin(np.deg2rad(16.0)))
"""A face whose normals stay this near to the horizontal is a wall (with draft)."""
RISE = 0.05


@dataclass(frozen=True)
class Neighbour:
    """A face across an edge; `into` points from the edge into it."""

    edge: int
    face: int
    turn: str
    into: Points


class FaceGraph:
    """Faces of a solid as nodes, their edges as links."""

    def __init__(self, solid: Solid) -> None:
        self.solid = solid
        self.faces: list[Face] = solid.faces
        self.edges: list[Edge] = solid.edges
        mesh = solid.mesh
        order = np.argsort(mesh.face_ids, kind="stable")
        self._starts = np.searchsorted(mesh.face_ids[order], np.arange(len(self.faces) + 1))
        corners = mesh.corners()[order]
        cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        double = np.linalg.norm(cross, axis=1)
        self._corners, self._areas = corners, double / 2
        self._walls: dict[bytes, NDArray[np.bool_]] = {}
        self._normals = cross / np.maximum(double, 1e-300)[:, None]

    @cached_property
    def diagonal(self) -> float:
        return float(np.linalg.norm(np.ptp(self.solid.bounds(), axis=0)))

    @cached_property
    def rays(self) -> RayCaster:
        return RayCaster(self.solid.mesh)

    @cached_property
    def neighbours(self) -> list[list[Neighbour]]:
        """What lies across each edge of each face; seams and open edges are left out."""
        found: list[list[Neighbour]] = [[] for _ in self.faces]
        for k, edge in enumerate(self.edges):
            a, b = edge.faces
            if a >= 0 and b >= 0 and a != b:
                found[a].append(Neighbour(k, b, edge.turn, np.array(edge.into[1])))
                found[b].append(Neighbour(k, a, edge.turn, np.array(edge.into[0])))
        return found

    def round_span(self, face: int) -> float:
        """How far round its axis a face goes together with the neighbours on the same surface, deg."""
        return sum(self.faces[f].span_deg for f in self.same_surface(face))

    def same_surface(self, face: int) -> set[int]:
        """A face of revolution with the smooth neighbours that are the same surface (a cylinder in two halves)."""
        f = self.faces[face]

        def alike(other: Face) -> bool:
            return (
                other.kind == f.kind
                and abs((other.radius_mm or 0) - (f.radius_mm or 0)) < 1e-4
                and abs(float(np.dot(other.normal, f.normal))) > 1 - 1e-9
                and float(np.linalg.norm(np.cross(np.subtract(other.origin, f.origin), f.normal))) < 1e-3
            )

        found, front = {face}, [face]
        while front:
            for n in self.neighbours[front.pop()]:
                if n.turn == "smooth" and n.face not in found and alike(self.faces[n.face]):
                    found.add(n.face)
                    front.append(n.face)
        return found

    def outline(self, faces: Iterable[int], direction: Points) -> Points:
        """Places (n, 2) round which some faces lie seen along a direction; exact on upright cylinders."""
        listed = list(faces)
        places = [flatten(self.points(listed), direction)]
        for i in listed:
            f = self.faces[i]
            if f.kind == "cylinder" and f.radius_mm and abs(float(np.dot(f.normal, direction))) > 1 - 1e-6:
                centre = flatten(np.array([f.origin]), direction)[0]
                away = flatten(self.corners(i).reshape(-1, 3), direction) - centre
                turn = np.unwrap(np.sort(np.arctan2(away[:, 1], away[:, 0])))
                gap = int(np.argmax(np.diff(np.append(turn, turn[0] + 2 * np.pi))))
                low, high = turn[(gap + 1) % len(turn)], turn[gap] + (2 * np.pi if gap + 1 < len(turn) else 0.0)
                arc = np.linspace(low, high, max(int(np.rad2deg(high - low)), 2))
                if f.span_deg > 359:
                    arc = np.linspace(0, 2 * np.pi, 361)
                places.append(centre + f.radius_mm * np.column_stack([np.cos(arc), np.sin(arc)]))
        return np.concatenate(places)

    def corners(self, face: int) -> Points:
        """Corners (m, 3, 3) of a face's triangles."""
        return self._corners[self._starts[face] : self._starts[face + 1]]

    def normals(self, face: int) -> Points:
        """Normals (m, 3) of a face's triangles."""
        return self._normals[self._starts[face] : self._starts[face + 1]]

    def triangle_areas(self, face: int) -> Points:
        return self._areas[self._starts[face] : self._starts[face + 1]]

    def points(self, faces: Iterable[int]) -> Points:
        """All corners of some faces, (n, 3)."""
        chosen = [self.corners(f).reshape(-1, 3) for f in faces]
        return np.concatenate(chosen) if chosen else np.zeros((0, 3))

    def span(self, faces: Iterable[int], direction: Points) -> tuple[float, float]:
        """Lowest and highest place of some faces along a direction."""
        heights = self.points(faces) @ direction
        return (float(heights.min()), float(heights.max())) if len(heights) else (0.0, 0.0)

    def rises(self, level: float, neighbour: Neighbour, direction: Points) -> bool:
        """Whether the face across an edge of a flat area goes up from it (else it falls away)."""
        slope = float(neighbour.into @ direction)
        if abs(slope) > RISE:
            return slope > 0
        low, high = self.span([neighbour.face], direction)
        return high - level > level - low

    def is_wall(self, face: int, direction: Points) -> bool:
        """Whether a face stands upright along a direction, give or take draft."""
        key = direction.tobytes()
        if key not in self._walls:
            lean = np.full(len(self.faces), np.inf)
            filled = np.flatnonzero(np.diff(self._starts))
            lean[filled] = np.maximum.reduceat(np.abs(self._normals @ direction), self._starts[filled])
            self._walls[key] = lean <= WALL_SINE
        return bool(self._walls[key][face])

    def is_upright(self, edge: int, direction: Points) -> bool:
        """Whether an edge runs up along a direction."""
        return abs(float(np.array(self.edges[edge].tangent) @ direction)) > 0.7

    def reach(self, start: Iterable[int], turns: tuple[str, ...], allowed: set[int]) -> set[int]:
        """Faces that hang together with the start over edges of some turns, within the allowed ones."""
        found = {f for f in start if f in allowed}
        front = list(found)
        while front:
            for n in self.neighbours[front.pop()]:
                if n.turn in turns and n.face in allowed and n.face not in found:
                    found.add(n.face)
                    front.append(n.face)
        return found

    def blocked(self, places: Points, direction: Points) -> tuple[float, int]:
        """Share of places that cannot look along a direction, and the face that stands in the way of the first."""
        if len(places) == 0:
            return 0.0, -1
        lifted = places + direction * max(1e-4 * self.diagonal, 1e-3)
        hit = self.rays.first_hits(lifted, np.tile(direction, (len(places), 1)))
        bad = np.flatnonzero(hit >= 0)
        return (len(bad) / len(places), int(self.solid.mesh.face_ids[hit[bad[0]]])) if len(bad) else (0.0, -1)

    def middles(self, faces: Iterable[int]) -> Points:
        """Middles (m, 3) of the triangles of some faces."""
        chosen = [self.corners(f).mean(axis=1) for f in faces]
        return np.concatenate(chosen) if chosen else np.zeros((0, 3))


def clusters(vectors: Points, tolerance: float) -> NDArray[np.int32]:
    """Number rows that lie within a tolerance of each other alike."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

    n = len(vectors)
    if n == 0:
        return np.zeros(0, np.int32)
    pairs = cKDTree(vectors).query_pairs(tolerance, output_type="ndarray")
    graph = coo_matrix((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape=(n, n))
    return np.asarray(connected_components(graph, directed=False)[1], np.int32)

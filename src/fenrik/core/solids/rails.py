"""Rails: ways in space with the outward normals of the faces at their left and right: chains of edges here, curves
laid on faces in `laid.py`.

Places lie on the exact curves; normals are those of the exact surfaces. A chain ends where no picked edge, or more than
one, goes on.
"""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Frame, Points
from fenrik.core.solids.describe import list_edges
from fenrik.core.solids.model import Solid

FEWEST, SAME_MM = 3, 1e-6
STEP_RAD, REFINED = 0.05, 8
COS_STEP, CORNER_COS = float(np.cos(STEP_RAD)), float(np.cos(np.deg2rad(20.0)))
"""Neighbours on an edge differ in direction, and the normals beside it, by no more; a way that turns by more than the
second has a corner."""


@dataclass(frozen=True)
class Rail:
    """A way along a surface.

    Attributes:
        point: (n, 3). along: (n, 3) unit directions of the way.
        left, right: (n, 3) outward normals of the faces beside it; zero where there is none.
        left_face, right_face: (n,) numbers of these faces; −1 where there is none.
        edge: (n,) the edge that each place lies on, −1 on none; corners have two rows, one for each edge.
        closed: whether its end is its beginning; the last row then stands where the first does.
    """

    point: Points
    along: Points
    left: Points
    right: Points
    left_face: NDArray[np.int64]
    right_face: NDArray[np.int64]
    edge: NDArray[np.int64]
    closed: bool

    def rows(self, index: NDArray[np.int64]) -> Rail:
        """Some of its places, as a way that is open."""
        return Rail(**{k: getattr(self, k)[index] for k in COLUMNS}, closed=False)

    def reversed(self) -> Rail:
        """The same the other way."""
        back = {k: getattr(self, k)[::-1] for k in COLUMNS}
        for a, b in (("left", "right"), ("left_face", "right_face")):
            back[a], back[b] = back[b], back[a]
        return Rail(**back | {"along": -back["along"]}, closed=self.closed)

    def moved(self, turn: Points, shift: Points, faces: int = 0) -> Rail:
        """The same on a copy of the part.

        Args:
            turn: (3, 3), of determinant −1 where the copy is mirrored; what was at its left stays there, so that it is
                gone along the other way. shift: (3,) after it. faces: what the numbers of the copy's faces are more.
        """
        along, left, right = (v @ turn.T for v in (self.along, self.left, self.right))
        numbers = {k: np.where((v := getattr(self, k)) >= 0, v + faces, v) for k in ("left_face", "right_face")}
        there = replace(self, point=self.point @ turn.T + shift, along=along, left=left, right=right, **numbers)
        if np.linalg.det(turn) > 0:
            return there
        swapped = {"left": right, "right": left, "left_face": numbers["right_face"], "right_face": numbers["left_face"]}
        return replace(there, **swapped).reversed()

    def in_frame(self, frame: Frame) -> Rail:
        along, left, right = (frame.direction_to_local(v) for v in (self.along, self.left, self.right))
        return replace(self, point=frame.to_local(self.point), along=along, left=left, right=right)

    @property
    def length_mm(self) -> float:
        return float(np.linalg.norm(np.diff(self.point, axis=0), axis=1).sum())


COLUMNS = tuple(f.name for f in fields(Rail) if f.name != "closed")


def rails_of(solid: Solid, edges: list[int], within_mm: float) -> list[Rail]:
    """Picked edges as rails in the part's coordinates; those that meet are one, in the order in which they were picked.

    Args:
        within_mm: how far a chord may stand from the exact curve.

    Raises:
        FenrikError: where the part is a mesh without exact edges.
    """
    if not edges:
        return []
    if not solid.is_exact:
        raise fail("part", "is a mesh: its edges have no exact faces beside them.", "Bring the part in as STEP.")
    curves = list_edges(solid.shape())
    return [_joined([_one(solid, curves[i], i, within_mm, back) for i, back in c]) for c in _chains(solid, edges)]


def _chains(solid: Solid, edges: list[int]) -> list[list[tuple[int, bool]]]:
    """Edges in their order along each chain, and whether each is gone backwards."""
    left = list(dict.fromkeys(edges))
    at: dict[int, list[int]] = {}
    for i in left:
        for v in solid.edges[i].ends:
            at.setdefault(v, []).append(i)
    chains = []
    while left:
        first = left.pop(0)
        chain = [(first, False)]
        a, b = solid.edges[first].ends
        if not solid.edges[first].closed:
            chain = [*chain, *_onward(solid, b, left, at)]
            before = _onward(solid, a, left, at)
            chain = [*((i, not back) for i, back in before[::-1]), *chain]
        chains.append(chain)
    return chains


def _onward(solid: Solid, vertex: int, left: list[int], at: dict[int, list[int]]) -> list[tuple[int, bool]]:
    """The edges that go on from a vertex; they are taken out of those that are left."""
    found: list[tuple[int, bool]] = []
    while True:
        following = [i for i in at[vertex] if i in left]
        if len(following) != 1 or len(at[vertex]) > 2:
            return found
        (i,) = following
        left.remove(i)
        a, b = solid.edges[i].ends
        found.append((i, vertex == b and a != b))
        vertex = a if vertex == b else b


def _one(solid: Solid, curve: Any, number: int, within_mm: float, back: bool) -> Rail:
    from OCP.BRepAdaptor import BRepAdaptor_Curve

    adaptor, edge = BRepAdaptor_Curve(curve), solid.edges[number]
    parameters = _parameters(adaptor, within_mm)
    for _ in range(REFINED):
        point, along = _at(adaptor, parameters)
        normals = [_normals(solid, face, point) for face in edge.faces]
        turns = np.max([np.einsum("ij,ij->i", n[1:], n[:-1]) < COS_STEP for n in normals], axis=0)
        if not turns.any():
            break
        parameters = np.sort(np.append(parameters, 0.5 * (parameters[1:] + parameters[:-1])[turns]))
    # `tangent` has the first face at its left.
    middle = int(np.argmin(np.linalg.norm(point - np.array(edge.middle), axis=1)))
    first_left = float(along[middle] @ np.array(edge.tangent)) > 0
    left, right = normals if first_left else normals[::-1]
    at_left, at_right = (np.full(len(point), face) for face in (edge.faces if first_left else edge.faces[::-1]))
    rail = Rail(point, along, left, right, at_left, at_right, np.full(len(point), number), edge.closed)
    return rail.reversed() if back else rail


def _normals(solid: Solid, face: int, point: Points) -> Points:
    """Outward normals of a face at places on its border; zero where there is none."""
    if face < 0 or solid.outward is None:
        return np.zeros_like(point)
    _, normal, _, known = solid.outward.feet(np.full(len(point), face), point)
    return np.where(known[:, None], normal, 0.0)


def _parameters(adaptor: Any, within_mm: float) -> Points:
    """Where to look at an edge so that chords stand within a tolerance."""
    from OCP.GCPnts import GCPnts_TangentialDeflection

    walk = GCPnts_TangentialDeflection(adaptor, STEP_RAD, within_mm, FEWEST)
    return np.array([walk.Parameter(k) for k in range(1, walk.NbPoints() + 1)])


def _at(adaptor: Any, parameters: Points) -> tuple[Points, Points]:
    """Places (n, 3) of an edge and its unit directions there."""
    from OCP.gp import gp_Pnt, gp_Vec

    point, along = np.empty((len(parameters), 3)), np.empty((len(parameters), 3))
    place, way = gp_Pnt(), gp_Vec()
    for k, value in enumerate(parameters.tolist()):
        adaptor.D1(value, place, way)
        point[k] = place.X(), place.Y(), place.Z()
        along[k] = way.X(), way.Y(), way.Z()
    return point, along / np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-12)


def _joined(rails: list[Rail]) -> Rail:
    columns = {k: np.concatenate([getattr(r, k) for r in rails]) for k in COLUMNS}
    closed = bool(np.linalg.norm(columns["point"][0] - columns["point"][-1]) < SAME_MM)
    return Rail(**columns, closed=closed)

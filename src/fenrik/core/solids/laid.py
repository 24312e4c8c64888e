"""Curves laid on faces: thrown along a direction until they meet the part, as rails with the normals there.

Triangles say which face is met; the place is then where the line through the drawn place meets the exact surface
(Newton's method along the line, by the tangent plane at the foot of the last place). Places are put in between until
chords and normals between neighbours are as fine as asked, and at the borders of faces as near as `CLOSE_MM`.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.dividing import in_pieces
from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.solids.exact import ExactFaces
from fenrik.core.solids.model import Mesh, facing_out
from fenrik.core.solids.rails import CORNER_COS, COS_STEP, Rail
from fenrik.core.solids.rays import RayCaster

CLOSE_MM, JUMP_MM, FAR_MM = 1e-3, 0.02, 10.0
"""No place is put between two so near; two so near in the drawing and so far apart on the part are not joined."""
FIRST_STEPS, FIRST_MM, MOST_FIRST = 200, 0.5, 20_000
"""A curve is first looked at in so many steps at least, none longer than this as far as they are not too many."""
MOST_PLACES, ROUNDS, NEWTON = 200_000, 24, 8
GRAZING = 0.02


@dataclass(frozen=True)
class Drawn:
    """Places of a curve before it is laid (n, 3), and its unit directions there; corners have two rows."""

    point: Points
    along: Points

    @classmethod
    def of(cls, line: Points) -> Drawn:
        """A chain of places; where it turns by little it is taken as the chords of a smooth curve."""
        step = np.diff(line, axis=0)
        line = line[np.append(True, np.linalg.norm(step, axis=1) > 1e-9)]
        way = np.diff(line, axis=0)
        way /= np.linalg.norm(way, axis=1, keepdims=True)
        before, after = np.vstack([way[:1], way]), np.vstack([way, way[-1:]])
        if np.linalg.norm(line[0] - line[-1]) < 1e-9:
            before[0], after[-1] = way[-1], way[0]
        smooth = np.einsum("ij,ij->i", before, after) > CORNER_COS
        mean = before + after
        before, after = (np.where(smooth[:, None], mean, v) for v in (before, after))
        twice = np.where(smooth, 1, 2)
        twice[[0, -1]] = 1
        row = np.repeat(np.arange(len(line)), twice)
        second = np.append(False, row[1:] == row[:-1])
        along = np.where(second[:, None], after[row], before[row])
        along[0] = after[0]
        return cls(line[row], along / np.linalg.norm(along, axis=1, keepdims=True))

    def between(self, rows: NDArray[np.int64], share: Points) -> Drawn:
        """Places between each of some rows and the next."""
        t = share[:, None]
        point = self.point[rows] + t * (self.point[rows + 1] - self.point[rows])
        along = self.along[rows] + t * (self.along[rows + 1] - self.along[rows])
        return Drawn(point, along / np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-12))

    def with_rows(self, after: NDArray[np.int64], more: Drawn) -> tuple[Drawn, NDArray[np.int64]]:
        """With rows put in, each after one of its own; and the order in which its own and the new ones stand."""
        order = np.argsort(np.append(np.arange(len(self.point)), after), kind="stable")
        return Drawn(np.vstack([self.point, more.point])[order], np.vstack([self.along, more.along])[order]), order


@dataclass(frozen=True)
class Laid:
    """What became of a curve.

    Attributes:
        rails: its stretches on the part. beside_mm: how much of it, as drawn, meets no face that was asked for.
        beside: (3,) the first drawn place that meets none.
    """

    rails: list[Rail]
    beside_mm: float
    beside: Points | None


@dataclass(frozen=True)
class _Met:
    """Where drawn places meet the part: places, outward normals, faces; −1 where they meet none."""

    point: Points
    normal: Points
    face: NDArray[np.int64]

    def and_more(self, more: _Met, order: NDArray[np.int64]) -> _Met:
        return _Met(
            np.vstack([self.point, more.point])[order],
            np.vstack([self.normal, more.normal])[order],
            np.append(self.face, more.face)[order],
        )


class Layer:
    """A part made ready for curves to be laid on it along one direction.

    Args:
        faces: numbers of those that are laid on; None for all, of which the first that is met counts.
        along: (3,) unit direction in which the curves are thrown.
    """

    def __init__(self, mesh: Mesh, exact: ExactFaces | None, along: Points, faces: list[int] | None = None) -> None:
        self._mesh = mesh if faces is None else mesh.of_faces(faces)
        self._exact, self._along = None if exact is None else facing_out(exact, mesh), along
        self._rays = RayCaster(self._mesh) if len(self._mesh.triangles) else None
        self._normals = self._mesh.unit_normals()
        self._corner = self._mesh.corners()[:, 0]
        # From beyond all of it, so that it does not matter at which level a curve was drawn.
        self._back = float(np.max(mesh.vertices @ -along)) + FAR_MM

    def lay(self, line: Points, within_mm: float) -> Laid:
        """A chain of places (n, 3) laid on the part.

        Args:
            within_mm: how far a chord may stand off the surface.

        Raises:
            FenrikError: where it would become too many places.
        """
        if float(np.ptp(line, axis=0).max(initial=0.0)) < CLOSE_MM:
            return Laid([], 0.0, None)
        drawn = Drawn.of(line)
        drawn = _spaced(drawn, _first_step(drawn))
        met = self._meet(drawn.point)
        for _ in range(ROUNDS):
            rows = _too_coarse(drawn, met, within_mm)
            if len(rows) == 0:
                break
            if len(drawn.point) + len(rows) > MOST_PLACES:
                raise fail("sketch", f"needs more than {MOST_PLACES} places on these faces.", "Take a part of it.")
            more = drawn.between(rows, np.full(len(rows), 0.5))
            fresh = self._meet(more.point)
            drawn, order = drawn.with_rows(rows, more)
            met = met.and_more(fresh, order)
        return self._cut_up(drawn, met)

    def _meet(self, places: Points) -> _Met:
        n = len(places)
        point, normal, face = np.full((n, 3), np.nan), np.zeros((n, 3)), np.full(n, -1)
        if self._rays is None:
            return _Met(point, normal, face)
        start = places - (self._back + places @ self._along)[:, None] * self._along
        hit = self._rays.first_hits(start, np.tile(self._along, (n, 1)))
        flat = np.einsum("ij,j->i", self._normals[hit], self._along)
        on = np.flatnonzero((hit >= 0) & (np.abs(flat) > GRAZING))
        way = np.einsum("ij,ij->i", self._corner[hit[on]] - start[on], self._normals[hit[on]]) / flat[on]
        point[on], normal[on] = start[on] + way[:, None] * self._along, self._normals[hit[on]]
        face[on] = self._mesh.face_ids[hit[on]]
        if self._exact is not None:
            self._onto_exact(point, normal, face, on)
        return _Met(point, normal, face)

    def _onto_exact(self, point: Points, normal: Points, face: NDArray[np.int64], on: NDArray[np.int64]) -> None:
        assert self._exact is not None
        place = point[on].copy()
        for _ in range(NEWTON):
            foot, up, _, known = self._exact.feet(face[on], place)
            flat = up @ self._along
            good = known & (np.abs(flat) > GRAZING)
            move = np.where(good, np.einsum("ij,ij->i", foot - place, up) / np.where(good, flat, 1.0), 0.0)
            place += move[:, None] * self._along
            if np.abs(move).max(initial=0.0) < 1e-9:
                break
        # Where it runs off (past the border of a surface), the triangle's place stays.
        near = good & (np.linalg.norm(place - point[on], axis=1) < 10 * self._mesh.deflection_mm + CLOSE_MM)
        rows = on[near]
        point[rows], normal[rows] = place[near], up[near]

    def _cut_up(self, drawn: Drawn, met: _Met) -> Laid:
        """Stretches on the part, cut where the curve leaves it or steps from one height to another."""
        gap = np.linalg.norm(np.diff(drawn.point, axis=0), axis=1)
        on = met.face >= 0
        far = np.linalg.norm(np.diff(met.point, axis=0), axis=1) > np.maximum(JUMP_MM, 2 * gap / GRAZING)
        parted = ~on[1:] | ~on[:-1] | (far & (gap <= 2 * CLOSE_MM))
        runs = np.split(np.arange(len(on)), np.flatnonzero(parted) + 1)
        rails = [self._rail(drawn, met, run) for run in runs if len(run) > 1 and on[run[0]]]
        off = ~on[1:] | ~on[:-1]
        first = drawn.point[int(np.argmax(~on))] if not on.all() else None
        return Laid(rails, float(gap[off].sum()), first)

    def _rail(self, drawn: Drawn, met: _Met, run: NDArray[np.int64]) -> Rail:
        normal, t = met.normal[run], drawn.along[run]
        slope = np.einsum("ij,ij->i", t, normal) / (normal @ self._along)
        along = t - slope[:, None] * self._along
        along /= np.linalg.norm(along, axis=1, keepdims=True)
        point, face = met.point[run], met.face[run]
        closed = bool(np.linalg.norm(point[0] - point[-1]) < CLOSE_MM)
        return Rail(point, along, normal, normal, face, face, np.full(len(run), -1), closed)


def _first_step(drawn: Drawn) -> float:
    length = float(np.linalg.norm(np.diff(drawn.point, axis=0), axis=1).sum())
    return max(min(length / FIRST_STEPS, FIRST_MM), length / MOST_FIRST, CLOSE_MM)


def _spaced(drawn: Drawn, step_mm: float) -> Drawn:
    gap = np.linalg.norm(np.diff(drawn.point, axis=0), axis=1)
    count = np.maximum(np.ceil(gap / step_mm - 1e-9), 1).astype(np.int64)
    row, piece = in_pieces(count)
    share = piece / count[row]
    some = drawn.between(row, share)
    # Corners' second rows and the end stand as they are.
    return Drawn(np.vstack([some.point, drawn.point[-1:]]), np.vstack([some.along, drawn.along[-1:]]))


def _too_coarse(drawn: Drawn, met: _Met, within_mm: float) -> NDArray[np.int64]:
    """Rows after which another one is wanted."""
    gap = np.linalg.norm(np.diff(drawn.point, axis=0), axis=1)
    on = met.face >= 0
    cosine = np.einsum("ij,ij->i", met.normal[1:], met.normal[:-1])
    chord = np.linalg.norm(np.diff(met.point, axis=0), axis=1)
    # A chord of an arc whose normals turn by φ stands off by its length · φ / 8.
    off = chord * np.arccos(np.clip(cosine, -1.0, 1.0)) / 8.0
    parted = on[1:] != on[:-1]
    bent = on[1:] & on[:-1] & ((cosine < COS_STEP) | (off > within_mm) | (met.face[1:] != met.face[:-1]))
    return np.flatnonzero((gap > CLOSE_MM) & (parted | bent))

"""A toolpath: columns, one row for each motion."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from fenrik.core.dividing import in_pieces
from fenrik.core.frames import Frame, Points
from fenrik.core.toolpath.poses import Poses

ORIENTED = 2
"""The spindle stopped in its place (M19); 1 and −1 are its ways of turning, 0 is stopped anywhere."""
BACK_BORE = 87
"""Word of the canned cycle that goes in and out beside the hole, and bores upwards."""


class Motion(IntEnum):
    LINE = 0
    ARC_CW = 1
    ARC_CCW = 2


class Kind(IntEnum):
    RAPID = 0
    APPROACH = 1
    ENTRY = 2
    CUT = 3
    LINK = 4
    EXIT = 5
    RETRACT = 6


@dataclass(frozen=True)
class Toolpath:
    """Motions of one tool. Row i goes from the end of row i − 1 to `point[i]`; row 0 is where the path begins.

    Attributes:
        point: (n, 3) end points of the tip, mm.
        axis: (n, 3) tool axis at the end point, unit vectors.
        motion: (n,) `Motion`.
        centre: (n, 3) arc centres (at the height of the start), zero for lines.
        normal: (n, 3) normals of the arcs' planes; arcs may climb along it (helix).
        kind: (n,) `Kind`.
        feed: (n,) mm/min, 0 for rapids.
        pass_id: (n,) which pass a motion belongs to, −1 between passes.
        dwell_s: (n,) seconds that the tool stands still after a motion.
        spindle: (n,) way the spindle turns during a motion: 1 clockwise, −1 the other way, 0 not at all, `ORIENTED`
            where it was stopped in its place (M19).
        cycle: (n,) word of the canned cycle that says the same as a motion and its neighbours (81 …), 0 for none.
        hole: (n,) number of the hole whose cycle a motion belongs to, −1 for none.
        peck_mm: (n,) depth of one peck of that cycle.
        side: (n,) compensation at the controller during a motion: 41 tool left of the path, 42 right, 0 none. The path
            is that of the tool's axis; the controller adds what the tool has worn.
        offset_mm: (n,) distance from the written contour at which the controller's compensation holds the axis; 0 where
            the path itself is written.
        edge: (n,) share of the asked feed that the cutting edge keeps on an arc; 1 where nothing holds it back.
        held_deg: (n,) arc of the cutter in material that its strategy planned a motion with; NaN where it planned none.
    """

    point: Points
    axis: Points
    motion: NDArray[np.int8]
    centre: Points
    normal: Points
    kind: NDArray[np.int8]
    feed: Points
    pass_id: NDArray[np.int32]
    dwell_s: Points
    spindle: NDArray[np.int8]
    cycle: NDArray[np.int8]
    hole: NDArray[np.int32]
    peck_mm: Points
    side: NDArray[np.int8]
    offset_mm: Points
    edge: Points
    held_deg: Points

    @classmethod
    def plain(
        cls,
        point: Points,
        motion: NDArray[np.int8],
        centre: Points,
        kind: NDArray[np.int8],
        feed: Points,
        pass_id: NDArray[np.int32] | None = None,
    ) -> Toolpath:
        """Motions with an upright tool, without stops and cycles."""
        n = len(point)
        up = np.tile([0.0, 0.0, 1.0], (n, 1))
        ids = np.full(n, -1, np.int32)
        return cls(
            point, up, motion, centre, up.copy(), kind, feed, ids if pass_id is None else pass_id,
            np.zeros(n), np.ones(n, np.int8), np.zeros(n, np.int8), ids.copy(), np.zeros(n), np.zeros(n, np.int8),
            np.zeros(n), np.ones(n), np.full(n, np.nan),
        )  # fmt: skip

    def __len__(self) -> int:
        return len(self.point)

    @classmethod
    def empty(cls) -> Toolpath:
        none, flat = np.zeros(0, np.int8), np.zeros((0, 3))
        return cls.plain(flat, none, flat.copy(), none.copy(), np.zeros(0))

    def moved(self, shift: Points) -> Toolpath:
        """The same path displaced (for example from the setup's frame to its work zero)."""
        return replace(self, point=self.point + shift, centre=self.centre + shift)

    def in_frame(self, frame: Frame) -> Toolpath:
        """The same path, given in part coordinates, in a frame's own."""
        return self.mapped(frame.rotation.T, -frame.origin @ frame.rotation)

    def mapped(self, turn: Points, shift: Points) -> Toolpath:
        """A path turned or mirrored, then displaced; mirrored arcs and compensation go the other way round.

        Args:
            turn: (3, 3) an orthogonal matrix. shift: (3,) mm.
        """
        motion, side = self.motion, self.side
        if np.linalg.det(turn) < 0:
            side = np.where(side > 0, 83 - side, 0).astype(np.int8)  # G41 ↔ G42
            motion = np.where(motion > 0, Motion.ARC_CW + Motion.ARC_CCW - motion, motion).astype(np.int8)
        centre = np.where(self.motion[:, None] > 0, self.centre @ turn.T + shift, self.centre)
        return replace(
            self, point=self.point @ turn.T + shift, axis=self.axis @ turn.T, centre=centre,
            normal=self.normal @ turn.T, motion=motion, side=side,
        )  # fmt: skip

    def starts(self) -> Points:
        """Where each motion begins, (n, 3); the first one where it ends."""
        return np.vstack([self.point[:1], self.point[:-1]])

    def lengths(self) -> Points:
        """Length of each motion, (n,) mm; the first is 0."""
        if len(self) == 0:
            return np.zeros(0)
        start = self.starts()
        out = np.linalg.norm(self.point - start, axis=1)
        arcs = np.flatnonzero(self.motion)
        if len(arcs):
            sweep, radius, climb, _ = self._arcs(arcs, start[arcs])
            out[arcs] = np.hypot(sweep * radius, climb)
        return out

    def cut_length_mm(self) -> float:
        return float(self.lengths()[self.kind == Kind.CUT].sum())

    def sweep(self, i: int, start: Points) -> tuple[float, float]:
        """Angle (above 0, at most a full turn) and radius of arc i."""
        sweep, radius, _, _ = self._arcs(np.array([i]), np.asarray(start, dtype=np.float64)[None])
        return float(sweep[0]), float(radius[0])

    def _arcs(self, rows: NDArray[np.int64], start: Points) -> tuple[Points, Points, Points, Points]:
        """Of arcs, each in the plane across its normal: angle (above 0), radius, climb along the normal, and the
        vector from the centre to the start in that plane."""
        normal, centre, end = self.normal[rows], self.centre[rows], self.point[rows]

        def in_plane(vector: Points) -> Points:
            return vector - np.einsum("ij,ij->i", vector, normal)[:, None] * normal

        a, b = in_plane(start - centre), in_plane(end - centre)
        turn = np.arctan2(np.einsum("ij,ij->i", np.cross(a, b), normal), np.einsum("ij,ij->i", a, b))
        turn = np.where(self.motion[rows] == Motion.ARC_CW, -turn, turn)
        turn = np.where(turn <= 1e-9, turn + 2 * np.pi, turn)
        return turn, np.linalg.norm(a, axis=1), np.einsum("ij,ij->i", end - start, normal), a

    def places(self, rows: NDArray[np.int64], share: Points) -> Points:
        """Where motions are after a share (0 to 1) of each, (n, 3); along arcs the angle counts."""
        start = self.starts()[rows]
        found = start + share[:, None] * (self.point[rows] - start)
        bent = np.flatnonzero(self.motion[rows])
        if len(bent):
            row, t = rows[bent], share[bent]
            sweep, _, climb, spoke = self._arcs(row, start[bent])
            angle = sweep * t * np.where(self.motion[row] == Motion.ARC_CW, -1.0, 1.0)
            normal = self.normal[row]
            turned = np.cos(angle)[:, None] * spoke + np.sin(angle)[:, None] * np.cross(normal, spoke)
            # From the start's own height over the arc's plane, evenly along the normal.
            found[bent] = start[bent] - spoke + turned + (climb * t)[:, None] * normal
        return found

    def flattened(self, tolerance_mm: float) -> tuple[Toolpath, NDArray[np.int64]]:
        """Arcs as chords within `tolerance_mm`; also which motion of this path each new motion comes from.

        The axis turns evenly along an arc, as along a line.
        """
        arcs = np.flatnonzero(self.motion)
        source = np.arange(len(self))
        if len(arcs) == 0:
            return self, source
        sweep, radius, _, _ = self._arcs(arcs, self.starts()[arcs])
        step = 2 * np.arccos(np.maximum(1 - tolerance_mm / np.maximum(radius, tolerance_mm), -1.0))
        count = np.ones(len(self), np.int64)
        count[arcs] = np.maximum(np.ceil(sweep / np.maximum(step, 1e-4)), 1)
        source, piece = in_pieces(count)
        share = (piece + 1) / count[source]
        flat = self.rows(source)
        point = flat.point.copy()
        inner = (count[source] > 1) & (share < 1.0)
        point[inner] = self.places(source[inner], share[inner])
        axis = flat.axis.copy()
        if inner.any() and not np.array_equal(self.axis[1:], self.axis[:-1]):
            before = np.vstack([self.axis[:1], self.axis[:-1]])
            turning = Poses(self.starts(), self.point, before, self.axis, np.arange(len(self)))
            axis[inner] = turning.axis_at(source[inner], share[inner])
        last = np.append(source[1:] != source[:-1], True)
        return replace(
            flat,
            point=point,
            axis=axis,
            motion=np.zeros(len(source), np.int8),
            dwell_s=np.where(last, flat.dwell_s, 0.0),
        ), source

    def poses(self, tolerance_mm: float) -> Poses:
        """The straight steps in which the tool can cut, arcs as chords within a tolerance; what it does with the
        spindle stopped in its place is left out."""
        flat, source = self.flattened(tolerance_mm)
        return flat.steps(source).rows(np.flatnonzero(flat.spindle[1:] != ORIENTED))

    def steps(self, source: NDArray[np.int64], fresh: NDArray[np.bool_] | None = None) -> Poses:
        """The motions of a path of straight ones as poses, without the first, at which the path begins.

        Args:
            source: (n,) what each motion comes from. fresh: (n − 1,) which begin where they end.
        """
        start, axis = self.point[:-1], self.axis[:-1]
        if fresh is not None:
            start, axis = np.where(fresh[:, None], self.point[1:], start), np.where(fresh[:, None], self.axis[1:], axis)
        return Poses(start, self.point[1:], axis, self.axis[1:], source[1:])

    def rows(self, index: NDArray) -> Toolpath:
        return Toolpath(**{k: getattr(self, k)[index] for k in self.__dataclass_fields__})

    @staticmethod
    def joined(paths: list[Toolpath]) -> Toolpath:
        """Paths one after another."""
        names = Toolpath.__dataclass_fields__
        return Toolpath(**{k: np.concatenate([getattr(p, k) for p in paths]) for k in names})

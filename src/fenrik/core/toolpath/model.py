"""A toolpath: columns, one row for each motion."""

from __future__ import annotations

import io
from dataclasses import dataclass, replace
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points

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
            np.zeros(n),
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

    def lengths(self) -> Points:
        """Length of each motion, (n,) mm; the first is 0."""
        if len(self) == 0:
            return np.zeros(0)
        start = np.vstack([self.point[:1], self.point[:-1]])
        out = np.linalg.norm(self.point - start, axis=1)
        for i in np.flatnonzero(self.motion):
            sweep, radius = self.sweep(int(i), start[i])
            out[i] = np.hypot(sweep * radius, self.point[i, 2] - start[i, 2])
        return out

    def cut_length_mm(self) -> float:
        return float(self.lengths()[self.kind == Kind.CUT].sum())

    def sweep(self, i: int, start: Points) -> tuple[float, float]:
        """Angle (above 0, at most a full turn) and radius of arc i."""
        a, b = start[:2] - self.centre[i, :2], self.point[i, :2] - self.centre[i, :2]
        turn = np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b)
        if self.motion[i] == Motion.ARC_CW:
            turn = -turn
        if turn <= 1e-9:
            turn += 2 * np.pi
        return float(turn), float(np.linalg.norm(a))

    def flattened(self, tolerance_mm: float) -> tuple[Toolpath, NDArray[np.int64]]:
        """Arcs as chords within `tolerance_mm`; also which motion of this path each new motion comes from."""
        arcs = np.flatnonzero(self.motion)
        source = np.arange(len(self))
        if len(arcs) == 0:
            return self, source
        start = np.vstack([self.point[:1], self.point[:-1]])
        count = np.ones(len(self), np.int64)
        chords: dict[int, Points] = {}
        for i in arcs:
            sweep, radius = self.sweep(int(i), start[i])
            step = 2 * np.arccos(max(1 - tolerance_mm / max(radius, tolerance_mm), -1.0))
            n = max(int(np.ceil(sweep / max(step, 1e-4))), 1)
            t = np.arange(1, n + 1) / n
            sign = -1.0 if self.motion[i] == Motion.ARC_CW else 1.0
            a = start[i, :2] - self.centre[i, :2]
            angle = np.arctan2(a[1], a[0]) + sign * sweep * t
            chord = np.column_stack(
                [
                    self.centre[i, 0] + radius * np.cos(angle),
                    self.centre[i, 1] + radius * np.sin(angle),
                    start[i, 2] + (self.point[i, 2] - start[i, 2]) * t,
                ]
            )
            chord[-1] = self.point[i]
            chords[int(i)] = chord
            count[i] = n
        source = np.repeat(source, count)
        point = self.point[source].copy()
        begin = np.concatenate([[0], np.cumsum(count)])
        for k, chord in chords.items():
            point[begin[k] : begin[k + 1]] = chord
        flat = self.rows(source)
        last = np.append(source[1:] != source[:-1], True)
        return replace(
            flat, point=point, motion=np.zeros(len(source), np.int8), dwell_s=np.where(last, flat.dwell_s, 0.0)
        ), source

    def sweeps(self, tolerance_mm: float) -> tuple[Points, Points, NDArray[np.int64]]:
        """Starts and ends of straight motions in which the tool can cut, and the motion that each comes from; what it
        does with the spindle stopped in its place is left out."""
        flat, source = self.flattened(tolerance_mm)
        able = flat.spindle[1:] != ORIENTED
        return flat.point[:-1][able], flat.point[1:][able], source[1:][able]

    def rows(self, index: NDArray) -> Toolpath:
        return Toolpath(**{k: getattr(self, k)[index] for k in self.__dataclass_fields__})

    def to_bytes(self) -> bytes:
        stream = io.BytesIO()
        np.savez(stream, allow_pickle=False, **{k: getattr(self, k) for k in self.__dataclass_fields__})
        return stream.getvalue()

    @classmethod
    def from_bytes(cls, data: bytes) -> Toolpath:
        with np.load(io.BytesIO(data), allow_pickle=False) as arrays:
            return cls(**{k: arrays[k] for k in cls.__dataclass_fields__})

    @staticmethod
    def joined(paths: list[Toolpath]) -> Toolpath:
        """Paths one after another."""
        names = Toolpath.__dataclass_fields__
        return Toolpath(**{k: np.concatenate([getattr(p, k) for p in paths]) for k in names})

"""Poses: where a tool is and how it stands at both ends of each straight step.

How an axis turns between two rows is defined here and nowhere else: evenly, in the plane of both, while the tip goes
evenly along its line. Where the axes are opposite there is no such plane, and the step is refused.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.dividing import in_pieces
from fenrik.core.errors import fail
from fenrik.core.frames import Frame, Points

UPRIGHT = np.array([0.0, 0.0, 1.0])
SAME_AXIS = 1e-12
OPPOSITE = 1e-9


@dataclass(frozen=True)
class Poses:
    """Straight steps of a tool.

    Attributes:
        start, end: (n, 3) places of the tip, mm.
        start_axis, end_axis: (n, 3) unit vectors from the tip up the tool.
        source: (n,) which motion of a path each step belongs to.
    """

    start: Points
    end: Points
    start_axis: Points
    end_axis: Points
    source: NDArray[np.int64]

    @classmethod
    def upright(cls, start: Points, end: Points, source: NDArray[np.int64] | None = None) -> Poses:
        """Steps of a tool whose axis is +z all the time."""
        start, end = (np.ascontiguousarray(p, dtype=np.float64).reshape(-1, 3) for p in (start, end))
        up = np.tile(UPRIGHT, (len(start), 1))
        return cls(start, end, up, up, np.arange(len(start)) if source is None else source)

    @classmethod
    def tilted(cls, start: Points, end: Points, axis: Points) -> Poses:
        """Steps whose axis, (3,) or (n, 3) of any length, does not turn."""
        start, end = (np.ascontiguousarray(p, dtype=np.float64).reshape(-1, 3) for p in (start, end))
        axes = np.broadcast_to(np.asarray(axis, dtype=np.float64), start.shape)
        axes = np.ascontiguousarray(axes / np.linalg.norm(axes, axis=1, keepdims=True))
        return cls(start, end, axes, axes, np.arange(len(start)))

    def __len__(self) -> int:
        return len(self.start)

    def rows(self, index: NDArray) -> Poses:
        return Poses(*(getattr(self, k)[index] for k in self.__dataclass_fields__))

    def moved(self, shift: Points) -> Poses:
        """The same steps displaced."""
        return Poses(self.start + shift, self.end + shift, self.start_axis, self.end_axis, self.source)

    def in_frame(self, frame: Frame) -> Poses:
        """The same steps, given in part coordinates, in a frame's own."""
        start, end = frame.to_local(self.start), frame.to_local(self.end)
        return Poses(
            start, end, frame.direction_to_local(self.start_axis), frame.direction_to_local(self.end_axis), self.source
        )

    def angles_rad(self) -> Points:
        """How far the axis turns in each step, (n,)."""
        cross = np.linalg.norm(np.cross(self.start_axis, self.end_axis), axis=1)
        return np.arctan2(cross, np.einsum("ij,ij->i", self.start_axis, self.end_axis))

    def axis_at(self, row: NDArray, share: Points) -> Points:
        """The axis when a share (0 to 1) of step `row` has been made, (n, 3)."""
        a, b = self.start_axis[row], self.end_axis[row]
        angle = self.angles_rad()[row]
        sine = np.sin(angle)
        still = sine < SAME_AXIS
        safe = np.where(still, 1.0, sine)
        left = np.where(still, 1.0 - share, np.sin((1.0 - share) * angle) / safe)
        right = np.where(still, share, np.sin(share * angle) / safe)
        axis = left[:, None] * a + right[:, None] * b
        return axis / np.linalg.norm(axis, axis=1, keepdims=True)

    def straightened(self, low_mm: float, high_mm: float, radius_mm: float, bound_mm: float) -> tuple[Poses, float]:
        """Steps with a constant axis which together sweep what these sweep, within a bound.

        A turning step is cut into such short ones that with the axis of its middle, led along the place of the axis
        midway between the two heights, no place of the body strays by more than the bound: with a turn of θ in a short
        step a place at distance ρ from that point strays by at most 2·ρ·sin(θ/4) + m·(1 − cos(θ/2)), m being that
        point's height (a chord below its arc).

        Args:
            low_mm, high_mm, radius_mm: the body about the axis, heights above the tip.

        Returns:
            The steps (`source` as before) and how far the sweep may be off, mm.

        Raises:
            FenrikError: where an axis turns over.
        """
        angle = self.angles_rad()
        turning = angle > SAME_AXIS
        if not turning.any():
            return self, 0.0
        if float(angle.max()) > np.pi - OPPOSITE:
            raise fail("axis", "turns right over in one step.", "Give the path a row in between.")
        middle = 0.5 * (low_mm + high_mm)
        rho = float(np.hypot(0.5 * (high_mm - low_mm), radius_mm))
        share = max((0.5 * rho + 0.125 * abs(middle)) / bound_mm, 2.0)
        count = np.maximum(np.ceil(angle * share), 1).astype(np.int64)
        row, step = in_pieces(count)
        pieces = count[row]
        a, b, mid = step / pieces, (step + 1) / pieces, (step + 0.5) / pieces
        axis = self.axis_at(row, mid)
        way = self.end[row] - self.start[row]
        lead = [self.start[row] + way * s[:, None] + middle * self.axis_at(row, s) for s in (a, b)]
        theta = angle[row] / pieces
        off = float((2 * rho * np.sin(theta / 4) + abs(middle) * (1 - np.cos(theta / 2))).max())
        still = ~turning[row]
        start = np.where(still[:, None], self.start[row], lead[0] - middle * axis)
        end = np.where(still[:, None], self.end[row], lead[1] - middle * axis)
        return Poses(start, end, axis, axis, self.source[row]), off

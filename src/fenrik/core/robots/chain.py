"""The chain of a cell: forward as that of any machine; backwards by the postures of its arm."""

from __future__ import annotations

import itertools
import warnings

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from fenrik.core.errors import fail
from fenrik.core.frames import Frame, Points
from fenrik.core.machines import Chain
from fenrik.core.machines.chain import FULL_TURN, Vector3
from fenrik.core.robots import _arm_kernels as kernels
from fenrik.core.robots._cell_kernels import CellShape
from fenrik.core.robots.arm import forward
from fenrik.core.robots.cell import Cell
from fenrik.core.robots.inverse import shape_of
from fenrik.core.robots.pace import paced


class CellChain(Chain):
    """The joints of a cell from the work to the tool.

    Args:
        tool_mm: length of the tool from the spindle's face. at: the work zero over the middle of the table.

    Raises:
        FenrikError: where the arm's postures have no closed form.
    """

    def __init__(self, cell: Cell, tool_mm: float = 0.0, at: Vector3 = (0.0, 0.0, 0.0)) -> None:
        super().__init__(cell.joints())
        self.cell, self.arm = cell, shape_of(cell.arm.screws())
        self.columns = cell.arm_columns
        self.track = 0 if cell.track is not None else None
        self.table = self.columns.stop if cell.turntable is not None else None
        face, table = cell.face(), cell.table.frame("table")
        self.tip, self.tip_axis = face.to_part(np.array([0.0, 0.0, -tool_mm])), face.rotation[:, 2]
        self.work = Frame("work", table.to_part(np.array(at)), table.rotation)
        self.base, mount = cell.base.frame("base"), cell.mount.frame("face")
        along = np.zeros(3) if cell.track is None else self.along[0]
        tip = mount.to_part(np.array([0.0, 0.0, -tool_mm]))
        arrays = (self.base.rotation, self.base.origin, along, table.rotation, table.origin, np.array(at),
                  mount.rotation.T, tip)  # fmt: skip
        self.shape = CellShape(*(np.ascontiguousarray(a, dtype=np.float64) for a in arrays))

    def flange(self, values: Points) -> tuple[Points, Points]:
        """Where the flange stands in the base's frame: rotations (n, 3, 3) and places (n, 3)."""
        return forward(self.cell.arm.screws(), values[:, self.columns])

    def measures(self, values: Points) -> Points:
        """How far postures are from singular ones, of shoulder, elbow and wrist, 0 to 1: (n, 3)."""
        return kernels.measures_of(self.arm, np.deg2rad(np.ascontiguousarray(values[:, self.columns])))

    def from_singular(self, values: Points) -> Points:
        """The least of the measures of shoulder, elbow and wrist."""
        return np.asarray(self.measures(values).min(axis=1, initial=1.0))

    def to_base(self, point: Points, axis: Points, values: Points) -> tuple[Points, Points]:
        """Places and directions of the work (n, 3) in the base's frame, where the external axes stand so."""
        about = Rotation.from_rotvec(np.outer(self._turned(values), [0.0, 0.0, 1.0]))
        table = self.cell.table.frame("table")
        place = table.to_part(about.apply(point + self.shape.at))
        if self.track is not None:
            place = place - np.outer(values[:, self.track], self.shape.track)
        along = about.apply(axis) @ table.rotation.T
        return self.base.to_local(place), self.base.direction_to_local(along)

    def near(self, point: Points, axis: Points, reference: Points) -> Points:
        """Values for each pose that are nearest to given ones: external axes as there, turned about the tool as little
        as can be; NaN where there are none."""
        place, along = self.to_base(point, axis, reference)
        turn, _ = self.flange(reference)
        was = turn @ self.shape.grip.T[:, 2]
        turn = _carried(was, along) @ turn
        return self.at_flange(turn, place - turn @ self.shape.tip, reference)

    def at_flange(self, turn: Points, place: Points, reference: Points) -> Points:
        """The postures nearest to given values that put the flange there, external axes as there; NaN where none."""
        found = np.rad2deg(kernels.all_of(self.arm, np.ascontiguousarray(turn), np.ascontiguousarray(place)))
        wanted = reference[:, None, self.columns]
        found = found + FULL_TURN * np.round((wanted - found) / FULL_TURN)
        away = np.nan_to_num(np.abs(found - wanted).max(axis=2), nan=np.inf)
        best = np.argmin(away, axis=1)
        values = reference.copy()
        values[:, self.columns] = found[np.arange(len(found)), best]
        return values

    def turns(self, axis: Points) -> tuple[Points, NDArray[np.bool_], NDArray[np.bool_]]:
        raise fail("machine", "is an arm, which reaches a direction by many postures.", "Solve its whole path.")

    def turned_over(self, start: Points, end: Points) -> Points:
        return end.copy()

    def levers_mm(self) -> Points:
        """An arm that turns round elsewhere does so by its joints, which the proof looks at: (joints,) of 0."""
        return np.zeros(len(self.joints))

    def least_minutes(self, joints: Points, wanted: Points) -> Points:
        """The same, with what the joints can be accelerated by."""
        speed = np.array([j.speed or np.inf for j in self.joints]) / 60.0
        least = super().least_minutes(joints, wanted)
        seconds = np.zeros(len(joints))
        known = np.asarray(~np.isnan(joints).any(axis=1))
        cuts = np.asarray(wanted > 0)
        # The arm comes to rest between what it does at a feed and what it does as fast as it can.
        breaks = np.flatnonzero((known[1:] != known[:-1]) | (cuts[1:] != cuts[:-1])) + 1
        for a, b in itertools.pairwise([0, *breaks.tolist(), len(joints)]):
            begin = max(a - 1, 0) if a and known[a - 1] else a
            if b - begin > 1 and known[a]:
                meant = 60.0 * np.maximum(wanted[begin:b], least[begin:b])
                seconds[a:b] = paced(joints[begin:b], meant, speed, self.cell.accelerations())[a - begin :]
        return seconds / 60.0

    def posture_words(self, values: Points) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Which of the eight postures values (n, joints) are, (n,), and in which whole turn each joint of the arm is
        beyond −180 to 180 degrees, (n, 6)."""
        turn, place = self.flange(values)
        found = np.rad2deg(kernels.all_of(self.arm, np.ascontiguousarray(turn), np.ascontiguousarray(place)))
        apart = values[:, None, self.columns] - found
        rounds = np.round(apart / FULL_TURN)
        off = np.abs(apart - FULL_TURN * rounds).max(axis=2)
        way = np.argmin(np.nan_to_num(off, nan=np.inf), axis=1)
        return way, np.nan_to_num(rounds[np.arange(len(way)), way]).astype(np.int64)

    def tip_poses(self, values: Points) -> tuple[Points, Points]:
        """Where the tip stands in the work, (n, 3), and its turns about the fixed x, y and z there, (n, 3) degrees; z
        of its frame is the tool's axis."""
        turn, _ = self.flange(values)
        seen = self.base.rotation @ turn @ self.shape.grip.T
        own = Rotation.from_rotvec(np.outer(-self._turned(values), [0.0, 0.0, 1.0])).as_matrix()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # where two of the turns are about one axis, any share of them will do
            turns = Rotation.from_matrix(own @ (self.work.rotation.T @ seen)).as_euler("xyz", degrees=True)
        return self.forward(values).point, turns

    def from_tip(self, point: Points, turns: Points, values: Points, way: NDArray[np.int64], rounds: Points) -> Points:
        """Values of all joints for poses of the tip in the work and the postures there, NaN where there is none.

        Args:
            values: (n, joints) of which those of turntable and track are taken.
        """
        own = Rotation.from_euler("xyz", turns, degrees=True).as_matrix()
        about = Rotation.from_rotvec(np.outer(self._turned(values), [0.0, 0.0, 1.0])).as_matrix()
        place, _ = self.to_base(point, own[:, :, 2], values)
        turn = self.base.rotation.T @ self.work.rotation @ about @ own @ self.shape.grip
        place = place - turn @ self.shape.tip
        found = np.rad2deg(kernels.all_of(self.arm, np.ascontiguousarray(turn), np.ascontiguousarray(place)))
        whole = values.copy()
        whole[:, self.columns] = found[np.arange(len(found)), way] + FULL_TURN * rounds
        return whole

    def _turned(self, values: Points) -> Points:
        """How far the table is turned, (n,) radians."""
        return np.zeros(len(values)) if self.table is None else np.deg2rad(values[:, self.table])


def _carried(start: Points, end: Points) -> Points:
    """The least turns (n, 3, 3) that take unit vectors to others."""
    across = np.cross(start, end)
    sine, cosine = np.linalg.norm(across, axis=1), np.einsum("ij,ij->i", start, end)
    angle = np.arctan2(sine, cosine)
    about = across / np.maximum(sine, 1e-300)[:, None]
    return Rotation.from_rotvec(about * angle[:, None]).as_matrix()

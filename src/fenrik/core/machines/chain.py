"""Joints and chains: where the tool stands in the work for values of the joints, and all values that reach a pose.

A machine has two branches from its base: joints that carry the tool, and joints that carry the work. With all joints at
0 the tool's tip stands at the work's origin, its axis along z, whatever its length: so work and length offsets have it.
A longer tool stands farther from the rotary joints that carry it. The pose of the tool in the work is
a product of exponentials of the joints' screws, those of the work branch backwards; its inverse for up to two rotary
joints follows from the subproblems 1 and 2 of R. M. Murray, Z. Li and S. S. Sastry, A Mathematical Introduction to
Robotic Manipulation, chapter 3.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field
from scipy.spatial.transform import Rotation

from fenrik.core.errors import fail
from fenrik.core.frames import Frame, Points

REACHED_MM, REACHED_RAD, END_SLACK = 1e-7, 1e-9, 1e-9
FULL_TURN = 360.0
UP = np.array([0.0, 0.0, 1.0])
Vector3 = tuple[float, float, float]


class Joint(BaseModel):
    """One axis of a machine.

    Linear joints are in mm, rotary ones in degrees; both move their branch along or right-handed about `direction`.
    """

    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=20, title="Name", description="As the control calls it (ISO 841)")
    kind: Literal["linear", "rotary"] = Field(default="linear", title="Kind")
    carries: Literal["tool", "work"] = Field(default="tool", title="Carries")
    direction: Vector3 = Field(title="Direction")
    origin: Vector3 = Field(default=(0.0, 0.0, 0.0), title="A point of its axis", json_schema_extra={"unit": "mm"})
    low: float | None = Field(default=None, title="Lowest value", description="Empty: no end")
    high: float | None = Field(default=None, title="Highest value", description="Empty: no end")
    speed: float | None = Field(default=None, gt=0, title="Greatest speed", description="Per minute")

    @property
    def unit(self) -> str:
        return "mm" if self.kind == "linear" else "deg"

    def allows(self, value: float) -> bool:
        """Whether a value lies between the ends, rounding forgiven."""
        above = self.low is None or value >= self.low - END_SLACK
        return above and (self.high is None or value <= self.high + END_SLACK)


@dataclass(frozen=True)
class Pose:
    """Places of the tip (n, 3) and directions of the tool's axis (n, 3), in the work."""

    point: Points
    axis: Points


class Chain:
    """The joints of a machine, those of each branch in their order from the base.

    Args:
        tool_mm: length of the tool along its axis, from the place that the joints' origins speak of to the tip.
        at: where the work's origin stands on the machine while all joints are at 0, as the origins of the joints that
            carry the work speak of it (the middle of the table's top is their origin).

    Raises:
        FenrikError: when joints do not reach all directions of space, or are more than this inverse knows.
    """

    def __init__(self, joints: list[Joint], tool_mm: float = 0.0, at: Vector3 = (0.0, 0.0, 0.0)) -> None:
        self.joints = joints
        work = [k for k, j in enumerate(joints) if j.carries == "work"]
        tool = [k for k, j in enumerate(joints) if j.carries == "tool"]
        self._order = [*work[::-1], *tool]
        """From the work to the tool."""
        self.sense = [-1.0 if k in work else 1.0 for k in range(len(joints))]
        size = [float(np.linalg.norm(j.direction)) for j in joints]
        for joint, length in zip(joints, size, strict=True):
            if not length > 1e-9:
                raise fail(f"joints.{joint.name}.direction", "has no length.", "Give a direction.", joint.direction)
        self.along = [np.array(j.direction) / s for j, s in zip(joints, size, strict=True)]
        moved = {"tool": np.array([0.0, 0.0, tool_mm]), "work": -np.array(at)}
        self._origin = [np.array(j.origin) + moved[j.carries] for j in joints]
        self.tip, self.tip_axis = np.zeros(3), UP
        """Where the tip stands while all joints are at 0, and how the tool does."""
        self.work = Frame("work")
        """Where the work's frame stands, in the same coordinates."""
        self.linear = [k for k in self._order if joints[k].kind == "linear"]
        self.rotary = [k for k in self._order if joints[k].kind == "rotary"]

    def forward(self, values: Points) -> Pose:
        """Where the tool stands in the work.

        Args:
            values: (n, joints) mm and degrees.
        """
        values = np.atleast_2d(np.asarray(values, dtype=np.float64))
        point = np.tile(self.tip, (len(values), 1))
        axis = np.tile(self.tip_axis, (len(values), 1))
        for k in self._order[::-1]:
            amount = self.sense[k] * values[:, k]
            if self.joints[k].kind == "linear":
                point = point + amount[:, None] * self.along[k]
                continue
            turn = Rotation.from_rotvec(np.deg2rad(amount)[:, None] * self.along[k])
            point, axis = turn.apply(point - self._origin[k]) + self._origin[k], turn.apply(axis)
        return Pose(self.work.to_local(point), self.work.direction_to_local(axis))

    def inverse(self, point: Points, axis: Points) -> list[Points]:
        """All values of the joints that put the tool there, within their ends; none where it cannot be reached.

        Turns of rotary joints by whole revolutions count as solutions of their own where the ends allow them; without
        ends only those within half a turn are given. Where the axis of a rotary joint is that of the tool, so that any
        value would do, 0 stands for all.

        Args:
            point: (3,) place of the tip. axis: (3,) direction of the tool, of any length.
        """
        values, _ = self.ways(np.array([point], dtype=np.float64), np.array([axis], dtype=np.float64))
        found = [full for one in values[0] if not np.isnan(one).any() for full in self._revolutions(one)]
        return [f for f in found if all(j.allows(v) for j, v in zip(self.joints, f.tolist(), strict=True))]

    def ways(self, point: Points, axis: Points) -> tuple[Points, NDArray[np.bool_]]:
        """The ways to each of n poses, whatever the ends.

        Returns:
            (n, ways, joints) values, NaN where there is no such way; (n, ways, rotary) whether any value would do, for
            which 0 stands.
        """
        axis = axis / np.maximum(np.linalg.norm(axis, axis=1, keepdims=True), 1e-300)
        turns, free, able = self.turns(axis)
        values = np.zeros((*turns.shape[:2], len(self.joints)))
        values[:, :, self.rotary] = turns
        values[~able] = np.nan
        placed = self.placed(np.repeat(point, turns.shape[1], axis=0), values.reshape(-1, len(self.joints)))
        return placed.reshape(values.shape), free

    def turns(self, axis: Points) -> tuple[Points, NDArray[np.bool_], NDArray[np.bool_]]:
        """Values in degrees of the rotary joints, in their order from work to tool, that give the tool its axis:
        (n, ways, rotary), whether any value would do, and (n, ways) whether there is such a way."""
        along, n = [self.along[k] for k in self.rotary], len(axis)
        if len(along) > 2:
            raise fail("joints", "hold more than two rotary ones, which Fenrik cannot solve.", "Leave some out.")
        if not along:
            upright = np.linalg.norm(axis - UP, axis=1) < REACHED_RAD * 10
            return np.zeros((n, 1, 0)), np.zeros((n, 1, 0), bool), upright[:, None]
        if len(along) == 1:
            angle, loose = _one_turn(along[0], UP, axis)
            angles, free = angle[:, None, None], loose[:, None, None]
        else:
            angles, free = _two_turns(along[0], along[1], UP, axis)
        sense = np.array([self.sense[k] for k in self.rotary])
        return np.rad2deg(angles) * sense, free, np.isfinite(angles.sum(axis=2))

    def placed(self, point: Points, values: Points) -> Points:
        """Values of all joints (n, joints), the linear ones solved for the place of the tip, the rotary ones as given;
        NaN where they are, or where the place is not reached."""
        some = values.copy()
        some[:, self.linear] = 0.0
        lost = np.isnan(some).any(axis=1)
        some[lost] = 0.0
        start = self.forward(some).point
        # Linear joints move the tool in the same directions at every pose unless something turns between.
        where = some if self.rotary else some[:1]
        moves = np.empty((len(where), 3, len(self.linear)))
        for column, k in enumerate(self.linear):
            step = where.copy()
            step[:, k] = 1.0
            moves[:, :, column] = self.forward(step).point - start[: len(where)]
        some[:, self.linear] = (np.linalg.pinv(moves) @ (point - start)[:, :, None])[:, :, 0]
        lost |= np.linalg.norm(self.forward(some).point - point, axis=1) > REACHED_MM
        some[lost] = np.nan
        return some

    def near(self, point: Points, axis: Points, reference: Points) -> Points:
        """Values of the joints for each pose that are nearest to given ones, whatever the ends; NaN where there are
        none.

        Args:
            reference: (n, joints) where the tool stands along a rotary joint, its value.
        """
        rotary = self.rotary
        if not rotary:
            return self.ways(point, axis)[0][:, 0]
        turns, loose, able = self.turns(axis / np.linalg.norm(axis, axis=1, keepdims=True))
        wanted = reference[:, None, rotary]
        turns = turns + FULL_TURN * np.round((wanted - turns) / FULL_TURN)
        turns = np.where(loose, wanted, turns)
        away = np.where(able, np.abs(turns - wanted).max(axis=2), np.inf)
        best = np.argmin(away, axis=1)
        values = np.zeros((len(point), len(self.joints)))
        values[:, rotary] = turns[np.arange(len(point)), best]
        values[~able.any(axis=1)] = np.nan
        return self.placed(point, values)

    def least_minutes(self, joints: Points, wanted: Points) -> Points:
        """The least time of each step along rows of joints by what the joints can do, (n,); 0 for the first and where
        it is not known.

        Args:
            wanted: (n,) minutes that each is meant to take.
        """
        speed = np.array([j.speed or np.inf for j in self.joints])
        moved = np.abs(np.diff(joints, axis=0, prepend=joints[:1])) / speed
        return np.nan_to_num(moved.max(axis=1, initial=0.0))

    def from_singular(self, values: Points) -> Points:
        """How far values (n, joints) are from a posture in which joints hinder one another, 0 to 1, (n,)."""
        return np.ones(len(values))

    def keeps_ends(self, values: Points) -> bool:
        """Whether joints stand between their ends, of those whose values do not depend on where the work lies."""
        return all(self.joints[k].allows(float(values[k])) for k in self.rotary)

    def turned_over(self, start: Points, end: Points) -> Points:
        """Values between which only rotary joints turn: those of the end, the linear ones of the start."""
        over = start.copy()
        over[self.rotary] = end[self.rotary]
        return over

    def pivot(self) -> tuple[Points, float] | None:
        """Where the axes of the rotary joints that carry the work come nearest to one another, in the work while all
        joints are at 0, and the gap between them there; of a single one the place nearest to the work's origin."""
        axes = [k for k in self.rotary if self.sense[k] < 0]
        if not axes:
            return None
        a, u = self._origin[axes[0]], self.along[axes[0]]
        here = a - (a @ u) * u
        if len(axes) == 1:
            return here, 0.0
        b, v = self._origin[axes[1]], self.along[axes[1]]
        across = np.cross(u, v)
        if float(across @ across) < 1e-12:
            off = b - here
            return here, float(np.linalg.norm(off - (off @ u) * u))
        s, t = np.linalg.lstsq(np.column_stack([u, -v]), b - a, rcond=None)[0]
        on_first, on_second = a + s * u, b + t * v
        return 0.5 * (on_first + on_second), float(np.linalg.norm(on_first - on_second))

    def levers_mm(self) -> Points:
        """How far the tip is from the axis of each rotary joint that carries the tool, (joints,); 0 for others."""
        levers = np.zeros(len(self.joints))
        for k in self.rotary:
            if self.sense[k] > 0:
                levers[k] = float(np.linalg.norm(np.cross(self._origin[k], self.along[k])))
        return levers

    def _revolutions(self, values: Points) -> list[Points]:
        """The same values with rotary joints turned on by whole revolutions, as far as their ends allow."""
        choices = []
        for joint, value in zip(self.joints, values.tolist(), strict=True):
            if joint.kind == "linear" or joint.low is None or joint.high is None:
                choices.append([value])
                continue
            first = math.ceil((joint.low - value) / FULL_TURN - 1e-12)
            last = math.floor((joint.high - value) / FULL_TURN + 1e-12)
            choices.append([value + FULL_TURN * k for k in range(first, last + 1)])
        return [np.array(c) for c in itertools.product(*choices)]


def _one_turn(along: Points, start: Points, end: Points) -> tuple[Points, NDArray[np.bool_]]:
    """Subproblem 1: the turns about an axis that take directions to others.

    Args:
        start, end: (n, 3) or one for all.

    Returns:
        (n,) radians, NaN where there is none; (n,) whether any would do.
    """
    start, end = np.broadcast_arrays(start, end)
    high, wanted = start @ along, end @ along
    a, b = start - high[:, None] * along, end - wanted[:, None] * along
    angle = np.arctan2(np.cross(a, b) @ along, np.einsum("ij,ij->i", a, b))
    loose = np.linalg.norm(a, axis=1) < 1e-9
    return np.where(np.abs(high - wanted) > 1e-9, np.nan, np.where(loose, 0.0, angle)), loose


def _two_turns(first: Points, second: Points, start: Points, end: Points) -> tuple[Points, NDArray[np.bool_]]:
    """Subproblem 2: turns about `second` and then about `first` that take one direction to each of n others, by two
    ways: (n, 2, 2) radians, NaN where there is none, and whether any would do.

    The direction between both turns lies on both cones: z = α·first + β·second ± γ·(first × second).
    """
    c, across, n = float(first @ second), np.cross(first, second), len(end)
    size2 = float(across @ across)
    angles, free = np.full((n, 2, 2), np.nan), np.zeros((n, 2, 2), bool)
    if size2 < 1e-18:
        angles[:, 0, 0], free[:, 0, 0] = _one_turn(first, start, end)
        angles[:, 0, 1] = 0.0
        return angles, free
    u, v = float(second @ start), end @ first
    alpha, beta = (c * u - v) / (c * c - 1.0), (c * v - u) / (c * c - 1.0)
    rest = 1.0 - alpha * alpha - beta * beta - 2.0 * alpha * beta * c
    gamma = np.sqrt(np.maximum(rest, 0.0) / size2)
    for way, sign in enumerate((1.0, -1.0)):
        between = alpha[:, None] * first + beta[:, None] * second + sign * gamma[:, None] * across
        angles[:, way, 0], free[:, way, 0] = _one_turn(first, between, end)
        angles[:, way, 1], free[:, way, 1] = _one_turn(second, start, between)
        angles[rest < -1e-12, way] = np.nan
    angles[gamma <= 1e-9, 1] = np.nan  # both ways are one
    return angles, free

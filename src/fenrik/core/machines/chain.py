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
from pydantic import BaseModel, ConfigDict, Field
from scipy.spatial.transform import Rotation

from fenrik.core.errors import fail
from fenrik.core.frames import Points

REACHED_MM, REACHED_RAD = 1e-7, 1e-9
FULL_TURN = 360.0
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
        slack = 1e-9
        return (self.low is None or value >= self.low - slack) and (self.high is None or value <= self.high + slack)


@dataclass(frozen=True)
class Pose:
    """Places of the tip (n, 3) and directions of the tool's axis (n, 3), in the work."""

    point: Points
    axis: Points


class Chain:
    """The joints of a machine, those of each branch in their order from the base.

    Args:
        tool_mm: length of the tool along its axis, from the place that the joints' origins speak of to the tip.

    Raises:
        FenrikError: when joints do not reach all directions of space, or are more than this inverse knows.
    """

    def __init__(self, joints: list[Joint], tool_mm: float = 0.0) -> None:
        self.joints = joints
        work = [k for k, j in enumerate(joints) if j.carries == "work"]
        tool = [k for k, j in enumerate(joints) if j.carries == "tool"]
        self._order = [*work[::-1], *tool]
        """From the work to the tool."""
        self._sense = [-1.0 if k in work else 1.0 for k in range(len(joints))]
        size = [float(np.linalg.norm(j.direction)) for j in joints]
        for joint, length in zip(joints, size, strict=True):
            if not length > 1e-9:
                raise fail(f"joints.{joint.name}.direction", "has no length.", "Give a direction.", joint.direction)
        self._along = [np.array(j.direction) / s for j, s in zip(joints, size, strict=True)]
        self._origin = [np.array(j.origin) + [0.0, 0.0, tool_mm if j.carries == "tool" else 0.0] for j in joints]
        self.linear = [k for k in self._order if joints[k].kind == "linear"]
        self.rotary = [k for k in self._order if joints[k].kind == "rotary"]

    def forward(self, values: Points) -> Pose:
        """Where the tool stands in the work.

        Args:
            values: (n, joints) mm and degrees.
        """
        values = np.atleast_2d(np.asarray(values, dtype=np.float64))
        point = np.zeros((len(values), 3))
        axis = np.tile([0.0, 0.0, 1.0], (len(values), 1))
        for k in self._order[::-1]:
            amount = self._sense[k] * values[:, k]
            if self.joints[k].kind == "linear":
                point = point + amount[:, None] * self._along[k]
                continue
            turn = Rotation.from_rotvec(np.deg2rad(amount)[:, None] * self._along[k])
            point, axis = turn.apply(point - self._origin[k]) + self._origin[k], turn.apply(axis)
        return Pose(point, axis)

    def inverse(self, point: Points, axis: Points) -> list[Points]:
        """All values of the joints that put the tool there, within their ends; none where it cannot be reached.

        Turns of rotary joints by whole revolutions count as solutions of their own where the ends allow them; without
        ends only those within half a turn are given. Where the axis of a rotary joint is that of the tool, so that any
        value would do, 0 stands for all.

        Args:
            point: (3,) place of the tip. axis: (3,) direction of the tool, of any length.
        """
        axis = np.asarray(axis, dtype=np.float64)
        axis = axis / max(float(np.linalg.norm(axis)), 1e-300)
        found: list[Points] = []
        for turns in self._turns(axis):
            values = self._placed(np.asarray(point, dtype=np.float64), turns)
            if values is None:
                continue
            for full in self._revolutions(values):
                if all(j.allows(v) for j, v in zip(self.joints, full.tolist(), strict=True)):
                    found.append(full)
        return found

    def _turns(self, axis: Points) -> list[list[float]]:
        """Values in degrees of the rotary joints, in their order from work to tool, that give the tool its axis."""
        up = np.array([0.0, 0.0, 1.0])
        along = [self._along[k] for k in self.rotary]
        if len(along) > 2:
            raise fail("joints", "hold more than two rotary ones, which Fenrik cannot solve.", "Leave some out.")
        if not along:
            return [[]] if float(np.linalg.norm(axis - up)) < REACHED_RAD * 10 else []
        angles = _one_turn(along[0], up, axis) if len(along) == 1 else _two_turns(along[0], along[1], up, axis)
        senses = [self._sense[k] for k in self.rotary]
        return [[math.degrees(s * a) for s, a in zip(senses, one, strict=True)] for one in angles]

    def _placed(self, point: Points, turns: list[float]) -> Points | None:
        """Values of all joints with the rotary ones given, the linear ones solved for the place of the tip."""
        values = np.zeros(len(self.joints))
        values[self.rotary] = turns
        start = self.forward(values).point[0]
        columns = []
        for k in self.linear:
            step = values.copy()
            step[k] = 1.0
            columns.append(self.forward(step).point[0] - start)
        if not columns:
            return values if float(np.linalg.norm(point - start)) < REACHED_MM else None
        moves, *_ = np.linalg.lstsq(np.column_stack(columns), point - start, rcond=None)
        values[self.linear] = moves
        return values if float(np.linalg.norm(self.forward(values).point[0] - point)) < REACHED_MM else None

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

    def follow(self, point: Points, axis: Points) -> Points:
        """Values of the joints for each pose of a path, each as near as can be to the one before.

        Returns:
            (n, joints) mm and degrees, NaN where a pose cannot be reached.
        """
        if not self.rotary and np.abs(axis - [0.0, 0.0, 1.0]).max(initial=0.0) < REACHED_RAD * 10:
            return self._followed_upright(point)
        values = np.full((len(point), len(self.joints)), np.nan)
        before = np.zeros(len(self.joints))
        for k in range(len(point)):
            found = self.inverse(point[k], axis[k])
            if found:
                before = min(found, key=lambda v: float(np.abs(v - before).max()))
                values[k] = before
        return values

    def _followed_upright(self, point: Points) -> Points:
        """As `follow`, for linear joints alone: one system of equations for all poses, ends not looked at."""
        unit = np.eye(len(self.joints))
        start = self.forward(np.zeros(len(self.joints))).point[0]
        columns = (self.forward(unit).point - start).T
        values, *_ = np.linalg.lstsq(columns, (point - start).T, rcond=None)
        away = np.linalg.norm(columns @ values - (point - start).T, axis=0)
        values[:, away > REACHED_MM] = np.nan
        return np.ascontiguousarray(values.T)


def _angle(along: Points, start: Points, end: Points) -> float:
    """Angle about an axis from one vector to another, both square to it."""
    return math.atan2(float(along @ np.cross(start, end)), float(start @ end))


def _one_turn(along: Points, start: Points, end: Points) -> list[list[float]]:
    """Subproblem 1: the turn about an axis that takes one direction to another; none where there is none."""
    a, b = start - along * float(along @ start), end - along * float(along @ end)
    if abs(float(along @ (start - end))) > 1e-9:
        return []
    if float(np.linalg.norm(a)) < 1e-9:
        return [[0.0]]
    return [[_angle(along, a, b)]]


def _two_turns(first: Points, second: Points, start: Points, end: Points) -> list[list[float]]:
    """Subproblem 2: turns about `second` and then about `first` that take one direction to another; up to two pairs.

    The direction between both turns lies on both cones: z = α·first + β·second ± γ·(first × second).
    """
    c = float(first @ second)
    across = np.cross(first, second)
    size2 = float(across @ across)
    if size2 < 1e-18:
        turned = _one_turn(first, start, end)
        return [[t[0], 0.0] for t in turned]
    u, v = float(second @ start), float(first @ end)
    alpha, beta = (c * u - v) / (c * c - 1.0), (c * v - u) / (c * c - 1.0)
    rest = 1.0 - alpha * alpha - beta * beta - 2.0 * alpha * beta * c
    if rest < -1e-12:
        return []
    gamma = math.sqrt(max(rest, 0.0) / size2)
    found = []
    for sign in (1.0, -1.0) if gamma > 1e-9 else (0.0,):
        between = alpha * first + beta * second + sign * gamma * across
        one, two = _one_turn(first, between, end), _one_turn(second, start, between)
        if one and two:
            found.append([one[0][0], two[0][0]])
    return found

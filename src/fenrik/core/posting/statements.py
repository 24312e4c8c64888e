"""Programs before they are text: statements that every kind of controller can say in its own words.

What a path asks for beyond its motions (the spindle stopped or turned round, a pause, cutter compensation, a hole made
by a cycle) is decided here once; how it is written, and what can be left out because it still holds, is the
controller's.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.machines import Joint, Machine
from fenrik.core.machines.chain import Vector3
from fenrik.core.toolpath import BACK_BORE, Toolpath

UPRIGHT = 1.0 - 1e-12
"""The tool of a row leans where the last coordinate of its axis is less."""


@dataclass(frozen=True)
class HeldTool:
    """What a controller is told of a tool: its number, the numbers of its offsets, its speed and coolant."""

    number: int
    length_offset: int
    diameter_offset: int
    name: str
    rpm: int
    coolant: bool
    diameter: float


@dataclass(frozen=True)
class Change:
    """Take a tool and let it turn."""

    tool: HeldTool


@dataclass(frozen=True)
class Speed:
    """Another speed of the tool that is held."""

    tool: HeldTool


@dataclass(frozen=True)
class Row:
    """A row of the route begins."""

    number: int
    name: str


@dataclass(frozen=True)
class Approach:
    """Go to the first place of a row, from wherever the machine stands.

    Attributes:
        joints: (joints,) values there. leans: whether the tool of the row leans anywhere.
    """

    place: Points
    joints: Points
    leans: bool = False


@dataclass(frozen=True)
class Turn:
    """Let the spindle turn: 1, −1, 0 for a stop, `ORIENTED` for a stop in its place."""

    spindle: int


@dataclass(frozen=True)
class Pause:
    seconds: float


@dataclass(frozen=True)
class Compensate:
    """Cutter compensation to a side of the way (41 left, 42 right), or its end (0)."""

    side: int


@dataclass(frozen=True)
class Hole:
    """A hole that a cycle can make.

    Attributes:
        cycle: which, by its word of ISO 6983-1. first, last: the motions of the path [first, last) that it stands for.
        place: x, y. bottom, plane: z of its depth and of the plane it starts from and comes back to.
        peck_mm: 0 for none. dwell_s: at the depth. feed: mm/min.
        joints: (joints,) values over the hole, in its plane.
        aside: for back boring, how far beside the hole the tool goes through it. top: and up to where it bores.
    """

    cycle: int
    first: int
    last: int
    place: tuple[float, float]
    bottom: float
    plane: float
    peck_mm: float
    dwell_s: float
    feed: float
    joints: Points
    aside: tuple[float, float] = (0.0, 0.0)
    top: float = 0.0


@dataclass(frozen=True)
class Travel:
    """Motions [first, last) of a path, lines and arcs; the tool stands where motion `first` − 1 ended.

    Attributes:
        joints: (n, joints) values at the end of each motion of the path.
    """

    path: Toolpath
    first: int
    last: int
    joints: Points


Statement = Change | Speed | Row | Approach | Turn | Pause | Compensate | Hole | Travel


@dataclass(frozen=True)
class Program:
    """A program in statements.

    Attributes:
        name, number: of the program. work_offset: 54 to 59, or 100 + number for the extended ones.
        tool: the tool of its first row.
        joints: those of the machine, in the order of their values; none for a controller that is told places alone.
        statements: those of its rows, in order.
        machine: that it is for. at: the work zero over the middle of its table. lengths_mm: of the tools by number.
    """

    name: str
    number: int
    work_offset: int
    tool: HeldTool
    joints: list[Joint]
    statements: list[Statement]
    machine: Machine
    at: Vector3 = (0.0, 0.0, 0.0)
    lengths_mm: Mapping[int, float] = field(default_factory=dict)


def statements_of(path: Toolpath, joints: Points, cycles: Collection[int], spindle: int) -> Iterator[Statement]:
    """What a path says.

    Args:
        path: of one row, in the work frame.
        joints: (n, joints) values at the end of each of its motions.
        cycles: those that the controller has; other holes are said motion by motion.
        spindle: how it turns before.
    """
    if path.spindle[0] != spindle:
        yield Turn(int(path.spindle[0]))
    spindle = int(path.spindle[0])
    yield Approach(path.point[0], joints[0], bool(np.any(path.axis[:, 2] < UPRIGHT)))
    canned = np.isin(path.cycle, list(cycles)) & (path.cycle > 0)
    canned[0] = False  # the approach is no part of a cycle
    group = np.where(canned, path.hole.astype(np.int64), -1)
    turned = np.append(False, (path.spindle[1:] != path.spindle[:-1]) & ~canned[1:])
    stopped = np.append(False, (path.dwell_s[:-1] > 0) & ~canned[:-1])
    sided = np.append(False, path.side[1:] != path.side[:-1])
    begins = np.flatnonzero(np.append(True, group[1:] != group[:-1]) | turned | stopped | sided)
    for a, b in zip(begins.tolist(), [*begins[1:].tolist(), len(path)], strict=True):
        if stopped[a]:
            yield Pause(float(path.dwell_s[a - 1]))
        if not canned[a] and path.spindle[a] != spindle:
            spindle = int(path.spindle[a])
            yield Turn(spindle)
        if sided[a]:
            yield Compensate(int(path.side[a]))
        if group[a] >= 0:
            yield _hole(path, joints[b - 1], a, b)
        elif b > 1:
            yield Travel(path, max(a, 1), b, joints)


def _hole(path: Toolpath, joints: Points, a: int, b: int) -> Hole:
    """The motions [a, b) as a cycle."""
    rows = slice(a, b)
    cutting = path.feed[rows] > 0
    place = path.point[b - 1]
    aside, top = (0.0, 0.0), 0.0
    if path.cycle[a] == BACK_BORE:
        beside = path.point[rows, :2] - place[:2]
        i, j = beside[int(np.abs(beside).sum(axis=1).argmax())]
        aside, top = (float(i), float(j)), float(path.point[rows, 2][cutting].max())
    return Hole(
        cycle=int(path.cycle[a]),
        first=a,
        last=b,
        place=(float(place[0]), float(place[1])),
        bottom=float(path.point[rows, 2].min()),
        plane=float(place[2]),
        peck_mm=float(path.peck_mm[a]),
        dwell_s=float(path.dwell_s[rows].max()),
        feed=float(path.feed[rows][cutting].max()),
        joints=joints,
        aside=aside,
        top=top,
    )

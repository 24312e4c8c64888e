"""What every kind of controller does: say a program in its words, and understand them."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Literal, Protocol

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from fenrik.core.frames import Points
from fenrik.core.machines import Held, Machine
from fenrik.core.machines.chain import Vector3
from fenrik.core.posting.statements import Program

Arcs = Literal["centre", "radius", "lines"]


@dataclass(frozen=True)
class Written:
    """A program as text.

    Attributes:
        text: ASCII, lines ended by a newline.
        lines: for each row of the program the line (from 0) that makes each motion of its path true.
    """

    text: bytes
    lines: list[NDArray[np.int64]]


@dataclass(frozen=True)
class ReadBack:
    """What a program does, one row for each motion; a row's tool is at `point` afterwards.

    Attributes:
        point: (n, 3) end points in the work frame, mm. axis: (n, 3) unit vectors along the tool there.
        joints: (n, joints) values that the program names; without columns where it names places.
        code: (n,) 0 rapid, 1 feed, 2 arc clockwise, 3 arc counter-clockwise.
        centre: (n, 3) of arcs, mm. plane: (n,) 17, 18 or 19.
        feed: (n,) mm/min, 0 for rapids. seconds: (n,) of dwell before the motion.
        tool, offset, length_offset, rpm, spindle (−1, 0, 1, `ORIENTED`): (n,) in force.
        side: (n,) compensation in force: 41, 42 or 0. The motions are those of the tool's axis, on the offset that its
            D word names.
        line: (n,) from 0.
        known: (n, 3) whether each coordinate had been given by then (before, the machine's place is unknown).
    """

    point: Points
    axis: Points
    joints: Points
    code: NDArray[np.int8]
    centre: Points
    plane: NDArray[np.int8]
    feed: Points
    seconds: Points
    tool: NDArray[np.int32]
    offset: NDArray[np.int16]
    length_offset: NDArray[np.int32]
    rpm: Points
    spindle: NDArray[np.int8]
    side: NDArray[np.int8]
    line: NDArray[np.int64]
    known: NDArray[np.bool_]

    def rows(self, index: NDArray[np.int64]) -> ReadBack:
        return ReadBack(**{k: getattr(self, k)[index] for k in self.__dataclass_fields__})

    @staticmethod
    def joined(parts: list[ReadBack]) -> ReadBack:
        """Motions one after another."""
        return ReadBack(**{k: np.concatenate([getattr(p, k) for p in parts]) for k in ReadBack.__dataclass_fields__})


@dataclass(frozen=True)
class ControllerState:
    """What a controller holds before a program runs.

    Attributes:
        machine: that it drives. tool: in the spindle.
        lengths_mm: of the tools by their number. radii_mm: its table of compensation offsets by D number; those that
            are not in it are 0, as for a new tool whose wear is compensated.
        at: the work zero over the middle of the table's top.
    """

    machine: Machine
    tool: int
    lengths_mm: Mapping[int, float]
    radii_mm: Mapping[int, float]
    at: Vector3 = (0.0, 0.0, 0.0)


class Controller(Protocol):
    """A kind of controller: what it can be told, and how.

    Attributes:
        document: all that decides what it writes, as the keys of programs have it.
        suffix: of its files. resolution_mm: size of the last digit of a coordinate.
        arcs: the form of arcs that it understands. cycles: the holes that it makes by a cycle.
        program_for_each_tool: whether it wants a program for each tool in turn.
        extended_offsets: whether it has work offsets beyond G59.
        speaks_joints: whether it is told values of the joints, too; others are told places alone. drives_arms: whether
            it drives arms, and nothing else. holds: what it keeps even while the joints move: only them, the tip on its
            line, or the whole pose.
        most_lines: of a file; longer programs are split into files that a main one calls. 0: no end.
    """

    @property
    def document(self) -> BaseModel: ...
    @property
    def suffix(self) -> str: ...
    @property
    def resolution_mm(self) -> float: ...
    @property
    def arcs(self) -> Arcs: ...
    @property
    def cycles(self) -> Collection[int]: ...
    @property
    def program_for_each_tool(self) -> bool: ...
    @property
    def extended_offsets(self) -> bool: ...
    @property
    def speaks_joints(self) -> bool: ...
    @property
    def drives_arms(self) -> bool: ...
    @property
    def holds(self) -> Held: ...
    @property
    def most_lines(self) -> int: ...

    def write(self, program: Program) -> Written:
        """The program as text.

        Raises:
            FenrikError: when the controller has no words for a statement, or a number leaves its range.
        """

    def read(self, text: bytes, before: ControllerState) -> ReadBack:
        """What a program does.

        Raises:
            FenrikError: field `program`, naming the line and what is wrong in it.
        """

    def main(self, name: str, files: list[str]) -> bytes:
        """A program that calls others one after another.

        Raises:
            FenrikError: where the controller has no words for that.
        """

    def called(self, text: bytes) -> list[str]:
        """The files that a program calls, in their order."""

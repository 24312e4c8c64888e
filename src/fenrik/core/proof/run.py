"""What the programs of a setup did: the motions, and what each took, touched and came near to."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.proof.motions import ProgramMotions
from fenrik.core.proof.scene import ProofInputs
from fenrik.core.stock import CutRecord, Stock
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Assembly, Tool


@dataclass(frozen=True)
class Moves:
    """Straight steps, and whether a back boring bar goes through a hole with the spindle stopped in its place."""

    poses: Poses
    passing: NDArray[np.bool_]

    def rows(self, index: NDArray) -> Moves:
        return Moves(self.poses.rows(index), self.passing[index])


@dataclass(frozen=True)
class Group:
    """A stretch of motions of one operation with one tool: from `first` to before `last`, its steps in the order of the
    record that the cutting gave."""

    first: int
    last: int
    tool: Tool
    moves: Moves
    assembly: Assembly
    record: CutRecord

    @property
    def rows(self) -> NDArray[np.int64]:
        return np.arange(self.first, self.last)

    @property
    def watched(self) -> list[str]:
        """Names of the bodies that the record watched, column by column."""
        return [body.role for body in self.assembly.watched]

    @property
    def near_depth(self) -> Points:
        """How far into its near-miss margin the holder came at each step."""
        columns = [k for k, w in enumerate(self.watched) if w == "near miss"]
        if not columns:
            return np.zeros(len(self.record.removed_mm3))
        return self.record.touch_mm[:, columns].max(axis=1)


@dataclass
class Run:
    """All that checks look at.

    Attributes:
        stock: as it is after all groups so far. stocks: after each operation, in order.
        removed_mm3, engagement_deg, clearance_mm: (n,) for each motion; clearance is capped at the near-miss limit.
        steps: how many straight steps were cut; the stock names them as what made its surface.
    """

    inputs: ProofInputs
    motions: ProgramMotions
    stock: Stock
    groups: list[Group] = field(default_factory=list)
    stocks: list[tuple[int, Stock]] = field(default_factory=list)
    steps: int = 0

    def __post_init__(self) -> None:
        n = len(self.motions.path)
        self.removed_mm3, self.engagement_deg = np.zeros(n), np.zeros(n)
        self.clearance_mm = np.full(n, self.inputs.settings.near_miss_mm)

    @cached_property
    def times(self) -> Points:
        """End of each motion, seconds from the start."""
        return np.cumsum(self.motions.seconds)

    @cached_property
    def lengths_mm(self) -> Points:
        """Of each motion."""
        return self.motions.path.lengths()

    @property
    def owners(self) -> NDArray[np.int64]:
        """The motion that each straight step belongs to."""
        sources = [g.moves.poses.source for g in self.groups]
        return np.concatenate(sources) if sources else np.zeros(0, np.int64)

    def add(self, group: Group, stock: Stock) -> None:
        """Take in a group that was cut, and the stock after it."""
        source, record = group.moves.poses.source, group.record
        np.add.at(self.removed_mm3, source, record.removed_mm3)
        np.maximum.at(self.engagement_deg, source, record.engagement_deg)
        np.minimum.at(self.clearance_mm, source, self.inputs.settings.near_miss_mm - group.near_depth)
        self.groups.append(group)
        self.steps += len(source)
        self.stock = stock
        self.stocks.append((int(self.motions.operation[group.first]), stock))

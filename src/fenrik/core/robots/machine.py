"""A cell as a machine, so that programs, proof and drawing need not know which of both they have."""

from __future__ import annotations

from functools import cached_property

from fenrik.core.frames import Frame, Points
from fenrik.core.machines import Machine, PlacedBody
from fenrik.core.machines.chain import Vector3
from fenrik.core.robots.cell import Cell
from fenrik.core.robots.chain import CellChain


class CellMachine(Machine):
    """A cell as a machine: what is said of machines holds for it, too."""

    cell: Cell

    @classmethod
    def of(cls, cell: Cell) -> CellMachine:
        same = (set(Cell.model_fields) & set(Machine.model_fields)) - {"joints", "bodies"}
        return cls(cell=cell, joints=cell.joints(), **{name: getattr(cell, name) for name in same})

    @cached_property
    def _face(self) -> Frame:
        return self.cell.face()

    @property
    def face(self) -> Frame:
        return self._face

    @property
    def table(self) -> Frame:
        return self.cell.table.frame("table")

    @property
    def by_joints(self) -> bool:
        return True

    def chain(self, tool_mm: float = 0.0, at: Vector3 = (0.0, 0.0, 0.0)) -> CellChain:
        return CellChain(self.cell, tool_mm, at)

    def placed_bodies(self) -> list[PlacedBody]:
        return self.cell.placed_bodies()

    def stands(self, values: Points, at: Vector3, lengths_mm: Points) -> Points:
        """Programs of arms speak of the joints themselves."""
        return values


def machine_of_cell(cell: Cell) -> CellMachine:
    """A cell as a machine, made once for each."""
    if cell._machine is None or cell._machine.cell is not cell:
        cell._machine = CellMachine.of(cell)
    made: CellMachine = cell._machine
    return made

"""How an arm goes along the paths of a setup that stands in a cell: an artefact between the paths and the programs."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from fenrik.core.build.chain import Chain
from fenrik.core.build.given import TOOL_SHAPE
from fenrik.core.build.node import Node
from fenrik.core.errors import fail
from fenrik.core.findings import Finding
from fenrik.core.job import Operation, Setup
from fenrik.core.machines import Clamped, Course
from fenrik.core.packing import pack, unpack
from fenrik.core.progress import Progress, part_of, silent
from fenrik.core.robots import ArmWishes, CellChain, WholePath, surroundings, whole_path
from fenrik.core.robots._cell_kernels import Surroundings
from fenrik.core.robots.reach import MEANING, Band, PlaceReach, bands, by_place, reasons
from fenrik.core.robots.rows import in_steps
from fenrik.core.sources import kernels_behind
from fenrik.core.stock import stock_mesh
from fenrik.core.toolpath import Toolpath
from fenrik.core.toolpath.safe import SafeSphere

WAY_VERSION = 2
WAY_CODE = kernels_behind("fenrik.core.robots.whole_path")
STRETCH_ROWS = 2


@dataclass(frozen=True)
class ArmWay:
    """An arm's way along a path, without the rows that it does not reach.

    Attributes:
        path: straight rows in the work frame. solved: what was found for each of them. names: of the joints.
        lost: the rows that are not reached, with place and reason.
    """

    path: Toolpath
    solved: WholePath
    names: list[str]
    lost: list[dict[str, Any]]

    @property
    def course(self) -> Course:
        return Course(self.solved.joints, self.solved.leap)


class ArmWays(Chain):
    """Paths, stocks, and the ways of arms."""

    def clamped(self, setup: Setup) -> Clamped:
        """How the work of a setup stands on its machine: over the table's middle where no place is said."""
        placing, zero = self.placing(setup), self.zero(setup)
        x, y = setup.on_table_mm or (0.0, 0.0)
        corners = [placing.stock]
        if (fixtures := placing.fixture_mesh()) is not None:
            corners.append(fixtures.vertices)
        low, high = np.vstack(corners).min(axis=0), np.vstack(corners).max(axis=0)
        around = SafeSphere(0.5 * (low + high) - zero, float(np.linalg.norm(high - low)) / 2 + setup.clearance_mm)
        return Clamped((float(x), float(y), float(zero[2] - placing.table_level)), around)

    def _clamped_inputs(self, setup: Setup) -> dict[str, Any]:
        """All that `clamped` is made from."""
        stock = np.round(self.placing(setup).stock, 9).tolist()
        place = [setup.table_below_mm, setup.on_table_mm, setup.clearance_mm]
        return {"stock": stock, "fixtures": setup.fixtures, "place": place}

    def arm_way_key(self, operation: Operation) -> str | None:
        """Key of an arm's way; None where the setup's machine is no cell."""
        node = self._way_node(operation)
        return node.key if node is not None else None

    def _way_node(self, operation: Operation, progress: Progress = silent) -> Node | None:
        setup = self.job.setup(operation.setup)
        cell = self.job.cell_of(setup)
        if cell is None:
            return None
        tool = self.job.tool(operation.tool)
        inputs = {
            "code": WAY_CODE,
            "path": self.path_key(operation),
            "cell": cell,
            "tool": {name: getattr(tool, name) for name in TOOL_SHAPE},
            "clamped": self._clamped_inputs(setup),
            "stock": self.first_stock_key(setup),
            "zero": np.round(self.zero(setup), 9).tolist(),
            "wishes": operation.arm or ArmWishes(),
        }

        def make() -> bytes:
            return _packed(self._along(operation, self.arm_path(operation), operation.arm or ArmWishes(), progress))

        return Node("arm way", WAY_VERSION, inputs, make)

    def arm_way(self, operation: Operation, progress: Progress = silent) -> ArmWay:
        """An arm's way along the path of an operation.

        Raises:
            FenrikError: where its setup stands in no cell, or a wish names what the cell does not have.
        """
        node = self._way_node(operation, progress)
        if node is None:
            raise fail("machine", "is no cell.", "Choose a cell for this setup.", operation.setup)
        return _unpacked(node.made(self.store))

    def left_out(self, operation: Operation) -> list[Finding]:
        """What an arm does not reach of an operation, by reason."""
        if self._way_node(operation) is None:
            return []
        found = []
        lost = self.arm_way(operation).lost
        for reason in dict.fromkeys(row["reason"] for row in lost):
            own = [row for row in lost if row["reason"] == reason]
            first = own[0]
            found.append(
                Finding(
                    kind="out of reach",
                    severity="fault",
                    operation=operation.number,
                    count=len(own),
                    place=tuple(first["place"]),
                    unit="rows",
                    amount=float(len(own)),
                    bodies=[self.job.setup(operation.setup).machine],
                    message=f"{len(own)} places of the path are {MEANING[reason]}; the program goes without them.",
                    advice=_ADVICE[reason],
                )
            )
        return found

    def chain_of(self, operation: Operation, at_xy: tuple[float, float] | None = None) -> CellChain:
        """The cell from the work of an operation to its tool, the work zero at x, y over the table's middle."""
        setup = self.job.setup(operation.setup)
        cell = self.job.cell_of(setup)
        if cell is None:
            raise fail("machine", "is no cell.", "Choose a cell for this setup.", setup.machine)
        x, y, z = self.clamped(setup).at
        at = (x, y, z) if at_xy is None else (*at_xy, z)
        return CellChain(cell, self.job.tool(operation.tool).assembly_mm, at)

    def arm_path(self, operation: Operation) -> Toolpath:
        """The path of an operation as an arm is given it, in the work frame."""
        setup = self.job.setup(operation.setup)
        return in_steps(self.outcome(operation).toolpath.moved(-self.zero(setup)))

    def around_arm(self, operation: Operation, at_xy: tuple[float, float] | None = None) -> Surroundings:
        """What an arm is kept clear of: stock and fixtures as they are clamped, the table, and what stands round."""
        setup = self.job.setup(operation.setup)
        cell, placing, zero = self.job.cell_of(setup), self.placing(setup), self.zero(setup)
        assert cell is not None
        x, y, z = self.clamped(setup).at
        shift = np.array([*(at_xy or (x, y)), z]) - zero
        stock = stock_mesh(self.first_stock(setup))
        meshes = [m for m in (stock, placing.fixture_mesh()) if m is not None and len(m.triangles)]
        on_table = [(m.vertices + shift, m.triangles) for m in meshes]
        return surroundings(cell, self.job.tool(operation.tool), on_table)

    def reach_bands(self, operation: Operation) -> list[Band]:
        """How much of a path is reached at each value of turntable and track."""
        wishes = operation.arm or ArmWishes()
        return bands(self.chain_of(operation), self.arm_path(operation), wishes, self.around_arm(operation))

    def reach_by_place(self, operation: Operation, steps: int = 5, clear: bool = False) -> list[PlaceReach]:
        """How much of a path is reached by where the work lies on the table, the best place first.

        Args:
            steps: places along each side of the table. clear: whether what stands round counts, too (slower).
        """
        setup = self.job.setup(operation.setup)
        cell = self.job.cell_of(setup)
        chain = self.chain_of(operation)
        assert cell is not None
        low, high = self.placing(setup).stock
        room = np.maximum(np.array(cell.table_mm) - (high - low)[:2], 0.0) / 2
        across = np.linspace(-1.0, 1.0, steps)
        x, y, _ = chain.shape.at
        places = {(round(a * room[0], 3), round(b * room[1], 3)) for a in across for b in across}
        places |= {(float(x), float(y))}
        path, wishes = self.arm_path(operation), operation.arm or ArmWishes()

        def around(x: float, y: float) -> Surroundings:
            return self.around_arm(operation, (x, y))

        return by_place(
            lambda x, y: self.chain_of(operation, (x, y)), path, wishes, np.array(sorted(places)),
            around if clear else None,
        )  # fmt: skip

    def solve_stretch(self, operation: Operation, first: int, last: int, wishes: ArmWishes | None = None) -> ArmWay:
        """The way along rows [first, last) of a path alone, to be looked at before all of it is solved.

        Raises:
            FenrikError: where there are no such rows.
        """
        path = self.arm_path(operation)
        if not 0 <= first < last <= len(path) or last - first < STRETCH_ROWS:
            raise fail("stretch", f"lies outside the path's {len(path)} rows.", "Choose rows of the path.", first)
        return self._along(operation, path.rows(np.arange(first, last)), wishes or operation.arm or ArmWishes(), silent)

    def _along(self, operation: Operation, path: Toolpath, wishes: ArmWishes, progress: Progress) -> ArmWay:
        chain, around = self.chain_of(operation), self.around_arm(operation)
        way = whole_path(chain, path, wishes, around, part_of(progress, 0.1, 0.9))
        reached, lost = np.flatnonzero(~way.lost), np.flatnonzero(way.lost)
        why = reasons(chain, path.point[lost], path.axis[lost], wishes, around)
        # Where rows were left out the arm comes to the next one by another way.
        gap = np.append(False, np.diff(reached) > 1) if len(reached) else np.zeros(0, np.bool_)
        solved = way.rows(reached)
        return ArmWay(
            path=path.rows(reached),
            solved=replace(solved, leap=solved.leap | gap),
            names=[j.name for j in chain.joints],
            lost=[
                {"row": int(r), "place": path.point[r].tolist(), "axis": path.axis[r].tolist(), "reason": w}
                for r, w in zip(lost.tolist(), why, strict=True)
            ],
        )


_ADVICE = {
    "reach": "Put the work nearer to the arm; `reach` tells the best place.",
    "limit": "Let turntable or track move along, widen the ranges of the joints, or put the work elsewhere.",
    "singular": "Let the tool lean a little more or less, or put the work elsewhere.",
    "collision": "Take a longer tool, lean it away from the work, or let the table turn.",
    "way": "Let turntable or track move along, or split the row where the path goes through air.",
}


def _packed(way: ArmWay) -> bytes:
    columns = {f"path.{k}": getattr(way.path, k) for k in Toolpath.__dataclass_fields__}
    return pack({"names": way.names, "lost": way.lost, "cost": way.solved.cost}, **columns, **way.solved.columns())


def _unpacked(data: bytes) -> ArmWay:
    told, arrays = unpack(data)
    path = Toolpath(**{k: arrays[f"path.{k}"] for k in Toolpath.__dataclass_fields__})
    solved = WholePath(cost=told["cost"], **{k: a for k, a in arrays.items() if "." not in k})
    return ArmWay(path, solved, told["names"], told["lost"])

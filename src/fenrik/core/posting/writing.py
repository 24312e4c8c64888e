"""Post: from the rows of a setup to statements, and to the text of a controller."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.machines import Clamped, Fitted, Machine, fitted
from fenrik.core.posting.controller import Controller
from fenrik.core.posting.forms import FLATTEN_MM, as_posted, as_written, without_tiny_arcs
from fenrik.core.posting.statements import (
    UPRIGHT,
    Change,
    HeldTool,
    Program,
    Row,
    Speed,
    Statement,
    Turn,
    statements_of,
)
from fenrik.core.toolpath import Toolpath
from fenrik.core.tools import Tool

FIT_SHARE = 0.25
"""Share of an operation's tolerance by which joints may stray from the path between rows."""


@dataclass(frozen=True)
class PostedOperation:
    """One operation to post: its number, name, tool and path in the work frame."""

    number: int
    name: str
    tool: Tool
    rpm: float
    path: Toolpath
    tolerance_mm: float = 0.02

    def held(self) -> HeldTool:
        """What the controller is told of its tool."""
        tool = self.tool
        return HeldTool(
            number=tool.number,
            length_offset=tool.length_offset or tool.number,
            diameter_offset=tool.diameter_offset or tool.number,
            name=tool.label,
            rpm=round(self.rpm),
            coolant=tool.coolant,
            diameter=tool.cutter.diameter_mm,
        )


@dataclass(frozen=True)
class Posted:
    """A posted program.

    Attributes:
        name: file name.
        text: the program, ASCII, lines ended by a newline.
        operations: numbers of the operations in it.
        line_of_motion: for each operation the line (from 0) that makes each motion of its posted path true.
        paths: for each operation the path as posted (arcs split or flattened where the controller wants it).
        radii_mm: by D number, the offset that the controller's table must hold; 0 where only wear is compensated.
    """

    name: str
    text: bytes
    operations: list[int]
    line_of_motion: list[NDArray[np.int64]]
    paths: list[Toolpath]
    radii_mm: dict[int, float] = field(default_factory=dict)

    @property
    def lines(self) -> int:
        return self.text.count(b"\n")


def post_programs(
    controller: Controller,
    machine: Machine,
    operations: list[PostedOperation],
    name: str,
    work_offset: int,
    clamped: Clamped | None = None,
) -> list[Posted]:
    """Programs for one setup on a machine: one, or one for each run of a tool where the controller asks for that.

    Args:
        clamped: how the work stands there, which rotary joints must know.

    Raises:
        FenrikError: when a path leaves the range of numbers, or a template is wrong.
    """
    operations, clamped = [o for o in operations if len(o.path)], clamped or Clamped()
    if not controller.program_for_each_tool:
        return [_post(controller, machine, operations, name, work_offset, 1, clamped)] if operations else []
    runs: list[list[PostedOperation]] = []
    for operation in operations:
        if runs and runs[-1][-1].tool.number == operation.tool.number:
            runs[-1].append(operation)
        else:
            runs.append([operation])
    return [
        _post(controller, machine, run, f"{name}-{k + 1}-T{run[0].tool.number}", work_offset, k + 1, clamped)
        for k, run in enumerate(runs)
    ]


def _post(
    controller: Controller,
    machine: Machine,
    operations: list[PostedOperation],
    name: str,
    work_offset: int,
    number: int,
    clamped: Clamped,
) -> Posted:
    statements: list[Statement] = []
    chain = machine.all_joints() if controller.speaks_joints else []
    paths, sources = [], []
    held: HeldTool | None = None
    spindle = 1
    for operation in operations:
        before, held = held, operation.held()
        if before != held:
            same = before is not None and before == replace(held, rpm=before.rpm)
            statements.append(Speed(held) if same else Change(held))
            spindle = 1
        statements.append(Row(operation.number, operation.name))
        if leans := _leans(operation.path):
            made = _for_joints(controller, machine, operation, clamped)
            path, way, joints, source = made.path, made.path, made.joints, np.arange(len(made.path))
        else:
            path = as_posted(controller, operation.path)
            contour, source = as_written(path)
            way = without_tiny_arcs(contour, controller.resolution_mm)
            joints = np.zeros((len(way), 0))
            if chain:
                joints = machine.follow(way, operation.tool.assembly_mm, clamped.at)
        said = list(statements_of(way, joints, () if leans else controller.cycles, spindle))
        spindle = next((s.spindle for s in reversed(said) if isinstance(s, Turn)), spindle)
        statements += said
        paths.append(path)
        sources.append(source)
    written = controller.write(Program(name, number, work_offset, operations[0].held(), chain, statements))
    return Posted(
        name + controller.suffix,
        written.text,
        [o.number for o in operations],
        [lines[source] for lines, source in zip(written.lines, sources, strict=True)],
        paths,
        offset_table(operations),
    )


def _leans(path: Toolpath) -> bool:
    return bool(np.any(path.axis[:, 2] < UPRIGHT))


def _for_joints(controller: Controller, machine: Machine, operation: PostedOperation, clamped: Clamped) -> Fitted:
    """A path whose tool leans as the machine's joints can make it.

    Raises:
        FenrikError: where the controller or the machine cannot turn so.
    """
    if not controller.speaks_joints:
        raise fail(
            "dialect",
            f"has no words for a tool that leans, which row {operation.number} does.",
            "Choose a controller that turns the joints of the machine.",
            controller.suffix,
        )
    flat = operation.path.flattened(FLATTEN_MM)[0]
    chain = machine.chain(operation.tool.assembly_mm, clamped.at)
    lever = operation.tool.cutter.flute_length_mm
    share = FIT_SHARE * operation.tolerance_mm
    made = fitted(chain, flat, clamped.around, share, lever, controller.tip_held)
    lost = np.flatnonzero(np.isnan(made.joints).any(axis=1))
    if len(lost):
        first = int(made.source[lost[0]])
        x, y, z = flat.point[first]
        i, j, k = flat.axis[first]
        raise fail(
            f"operations.{operation.number}",
            f"needs {len(np.unique(made.source[lost]))} poses that {machine.name} does not reach, the first at "
            f"X{x:.1f} Y{y:.1f} Z{z:.1f} with the tool along {i:.3f}, {j:.3f}, {k:.3f}.",
            "Turn the part on the table, tilt the tool less, or choose a machine whose joints go farther.",
            operation.number,
        )
    return made


def offset_table(operations: list[PostedOperation]) -> dict[int, float]:
    """What the controller's table of compensation offsets must hold: mm by D number, 0 for a new tool's wear.

    Raises:
        FenrikError: when one number is meant in two ways.
    """
    table: dict[int, tuple[float, int]] = {}
    for o in operations:
        number = o.held().diameter_offset
        for radius in np.unique(o.path.offset_mm[o.path.side > 0]).tolist():
            known, first = table.setdefault(number, (radius, o.number))
            if abs(known - radius) > 1e-9:
                raise fail(
                    "compensation",
                    f"needs {known:g} mm in offset D{number} for row {first} and {radius:g} mm for row {o.number}.",
                    "Compensate both rows alike, or give the tools offsets of their own.",
                )
    return {number: radius for number, (radius, _) in table.items()}

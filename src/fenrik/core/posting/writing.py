"""Post: from the rows of a setup to statements, and to the text of a controller."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.machines import (
    Chain,
    Clamped,
    Course,
    Fitted,
    Machine,
    course,
    filled,
    fitted,
    held_back,
    lifted_out,
)
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
from fenrik.core.toolpath import Kind, Toolpath
from fenrik.core.toolpath.safe import SafeSphere
from fenrik.core.tools import Tool

ROOM_LINES, FEWEST_MOTIONS = 40, 12
"""Lines of a file beside its motions, and motions below which a row is not begun in it."""
POSE_MM = 0.2
"""A control that holds the whole pose does not stray; rows lie so near that what is between them can be looked at."""
FIT_SHARE = 0.25
"""Share of an operation's tolerance by which joints may stray from the path between rows."""


@dataclass(frozen=True)
class PostedOperation:
    """One operation to post: its number, name, tool and path in the work frame; with the joints of its straight rows
    where these are known."""

    number: int
    name: str
    tool: Tool
    rpm: float
    path: Toolpath
    tolerance_mm: float = 0.02
    way: Course | None = None

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
    rows = [_prepared(controller, machine, o, clamped) for o in operations]
    setting = _Setting(controller, machine, work_offset, clamped)
    if not rows:
        return []
    if controller.program_for_each_tool:
        runs = _runs(rows)
        return [_post(setting, run, f"{name}-{k + 1}-T{run[0].tool.number}", k + 1) for k, run in enumerate(runs)]
    whole = _post(setting, rows, name, 1)
    if not controller.most_lines or whole.lines <= controller.most_lines:
        return [whole]
    return _in_files(setting, rows, name)


@dataclass(frozen=True)
class _Setting:
    controller: Controller
    machine: Machine
    work_offset: int
    clamped: Clamped


@dataclass(frozen=True)
class _Prepared:
    """A row as it will be said: the path that is posted, the motions that are said with their joints, and which of them
    makes each motion of the path."""

    operation: PostedOperation
    path: Toolpath
    way: Toolpath
    joints: Points
    source: NDArray[np.int64]
    by_joints: bool
    kept_mm: tuple[float, float] = (0.0, 0.0)
    """How far cuts and rapids may stray between rows, of those that are made joint by joint."""

    @property
    def tool(self) -> Tool:
        return self.operation.tool

    def part(self, first: int, last: int, chain: Chain, around: SafeSphere) -> _Prepared:
        """The motions [first, last) alone: from over where the one before ends, and out again; of rows that are made
        joint by joint."""
        index = np.arange(max(first - 1, 0), last)
        if first:
            index = np.concatenate([[index[0]], index])
        if last < len(self.path):
            index = np.append(index, last - 1)
        some, joints = self.path.rows(index), self.joints[index]
        ends = [0] if first else []
        for k in [*ends, len(index) - 1] if last < len(self.path) else ends:
            some.point[k], joints[k] = lifted_out(chain, around, some.point[k], some.axis[k], joints[k])
            some.kind[k], some.feed[k], some.dwell_s[k] = (Kind.RETRACT if k else Kind.RAPID), 0.0, 0.0
        if first:
            some.kind[1], some.feed[1] = Kind.APPROACH, float(self.path.feed[self.path.feed > 0].min())
        lever = self.tool.cutter.flute_length_mm
        some, joints = filled(chain, some, joints, self.kept_mm, lever)
        some = replace(some, feed=held_back(chain, some, joints))
        return replace(self, path=some, way=some, joints=joints, source=np.arange(len(some)))


def _prepared(controller: Controller, machine: Machine, operation: PostedOperation, clamped: Clamped) -> _Prepared:
    if machine.by_joints or _leans(operation.path):
        made = _for_joints(controller, machine, operation, clamped)
        kept = _kept_mm(controller, operation)
        return _Prepared(operation, made.path, made.path, made.joints, np.arange(len(made.path)), True, kept)
    path = as_posted(controller, operation.path)
    contour, source = as_written(path)
    way = without_tiny_arcs(contour, controller.resolution_mm)
    joints = np.zeros((len(way), 0))
    if controller.speaks_joints:
        joints = machine.follow(way, operation.tool.assembly_mm, clamped.at)
    return _Prepared(operation, path, way, joints, source, False)


def _runs(rows: list[_Prepared]) -> list[list[_Prepared]]:
    """Rows in runs of one tool each."""
    runs: list[list[_Prepared]] = []
    for row in rows:
        if runs and runs[-1][-1].tool.number == row.tool.number:
            runs[-1].append(row)
        else:
            runs.append([row])
    return runs


def _in_files(setting: _Setting, rows: list[_Prepared], name: str) -> list[Posted]:
    """A main program, and the files that it calls, none longer than the controller takes.

    Raises:
        FenrikError: where even a few motions say more than fits into a file.
    """
    most = setting.controller.most_lines
    motions = most - ROOM_LINES
    while motions > FEWEST_MOTIONS:
        runs = _parts(setting, rows, motions)
        parts = [_post(setting, run, f"{name}-{k + 1}", k + 1) for k, run in enumerate(runs)]
        over = max(p.lines for p in parts) - most
        if over <= 0:
            main = setting.controller.main(name, [p.name for p in parts])
            return [Posted(name + setting.controller.suffix, main, [], [], []), *parts]
        motions -= over
    raise fail("program", f"does not fit into files of {most} lines.", "Let the dialect have longer files.", name)


def _parts(setting: _Setting, rows: list[_Prepared], motions: int) -> list[list[_Prepared]]:
    """Rows in order, so many motions to a file; one that does not fit goes on in the next."""
    parts: list[list[_Prepared]] = [[]]
    room = motions
    for row in rows:
        done, n = 0, len(row.path)
        while done < n:
            if room <= FEWEST_MOTIONS:
                parts.append([])
                room = motions
            last = min(n, done + room)
            chain = setting.machine.chain(row.tool.assembly_mm, setting.clamped.at)
            parts[-1].append(row.part(done, last, chain, setting.clamped.around))
            room -= last - done + FEWEST_MOTIONS
            done = last
    return parts


def _post(setting: _Setting, rows: list[_Prepared], name: str, number: int) -> Posted:
    controller, machine, clamped = setting.controller, setting.machine, setting.clamped
    statements: list[Statement] = []
    held: HeldTool | None = None
    spindle = 1
    for row in rows:
        before, held = held, row.operation.held()
        if before != held:
            same = before is not None and before == replace(held, rpm=before.rpm)
            statements.append(Speed(held) if same else Change(held))
            spindle = 1
        statements.append(Row(row.operation.number, row.operation.name))
        said = list(statements_of(row.way, row.joints, () if row.by_joints else controller.cycles, spindle))
        spindle = next((s.spindle for s in reversed(said) if isinstance(s, Turn)), spindle)
        statements += said
    chain = machine.all_joints() if controller.speaks_joints else []
    lengths = {row.tool.number: row.tool.assembly_mm for row in rows}
    first = rows[0].operation.held()
    program = Program(name, number, setting.work_offset, first, chain, statements, machine, clamped.at, lengths)
    written = controller.write(program)
    return Posted(
        name + controller.suffix,
        written.text,
        [row.operation.number for row in rows],
        [lines[row.source] for lines, row in zip(written.lines, rows, strict=True)],
        [row.path for row in rows],
        offset_table([row.operation for row in rows]),
    )


def in_order(controller: Controller, programs: list[Posted]) -> list[Posted]:
    """The programs that move something, in the order in which they run: as the main one calls them, where there is one.

    Raises:
        FenrikError: where a file is called that is not there, or is never called.
    """
    mains = [p for p in programs if not p.operations]
    if not mains:
        return programs
    files = {p.name: p for p in programs if p.operations}
    called = [name for main in mains for name in controller.called(main.text)]
    wrong = next((n for n in called if n not in files), None) or next((n for n in files if n not in called), None)
    if wrong is not None:
        raise fail("program", f"calls and files do not agree at {wrong}.", "Post the program again.", wrong)
    return [files[name] for name in called]


def _leans(path: Toolpath) -> bool:
    return bool(np.any(path.axis[:, 2] < UPRIGHT))


def _for_joints(controller: Controller, machine: Machine, operation: PostedOperation, clamped: Clamped) -> Fitted:
    """A path whose tool leans, or that an arm makes, as the machine's joints can make it.

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
    share, fine = _kept_mm(controller, operation)
    way = operation.way or course(chain, flat.point, flat.axis, flat.feed <= 0)
    # An arm swings through air: that may stray no farther than a cut.
    rapid = fine if machine.by_joints else None
    made = fitted(chain, flat, way, clamped.around, share, lever, controller.holds, rapid)
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


def _kept_mm(controller: Controller, operation: PostedOperation) -> tuple[float, float]:
    """How far cuts and rapids may stray between rows."""
    fine = FIT_SHARE * operation.tolerance_mm
    return (POSE_MM if controller.holds == "pose" else fine), fine


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

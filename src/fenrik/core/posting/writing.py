"""Write programs: blocks from the dialect's templates, motions from a kernel."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.posting import _writing_kernels as kernels
from fenrik.core.posting.dialect import Dialect
from fenrik.core.toolpath import Kind, Motion, Toolpath
from fenrik.core.tools import Tool

FLATTEN_MM = 0.005
MAX_ARC_DEG_BY_RADIUS = 120.0
MAX_COORDINATE_MM = 100_000.0


@dataclass(frozen=True)
class PostedOperation:
    """One operation to post: its number, name, tool and path in the work frame."""

    number: int
    name: str
    tool: Tool
    rpm: float
    path: Toolpath


@dataclass(frozen=True)
class Program:
    """A posted program.

    Attributes:
        name: file name.
        text: the program, ASCII, lines ended by a newline.
        operations: numbers of the operations in it.
        line_of_motion: for each operation the line (from 0) that makes each motion of its posted path true.
        paths: for each operation the path as posted (arcs split or flattened where the dialect wants it).
    """

    name: str
    text: bytes
    operations: list[int]
    line_of_motion: list[NDArray[np.int64]]
    paths: list[Toolpath]

    @property
    def lines(self) -> int:
        return self.text.count(b"\n")


def post_programs(dialect: Dialect, operations: list[PostedOperation], name: str, work_offset: int) -> list[Program]:
    """Programs for one setup: one, or one for each run of a tool where the dialect asks for that.

    Raises:
        FenrikError: when a path leaves the range of numbers, or a template is wrong.
    """
    operations = [o for o in operations if len(o.path)]
    if not dialect.program_for_each_tool:
        return [_post(dialect, operations, name, work_offset, 1)] if operations else []
    runs: list[list[PostedOperation]] = []
    for operation in operations:
        if runs and runs[-1][-1].tool.number == operation.tool.number:
            runs[-1].append(operation)
        else:
            runs.append([operation])
    return [
        _post(dialect, run, f"{name}-{k + 1}-T{run[0].tool.number}", work_offset, k + 1) for k, run in enumerate(runs)
    ]


def _post(dialect: Dialect, operations: list[PostedOperation], name: str, work_offset: int, number: int) -> Program:
    writer = _Writer(dialect)
    program = {"name": name, "number": number}
    setup = {"work_offset": dialect.offset_words(work_offset)}
    values: dict[str, Any] = {"program": program, "setup": setup, "tool": _tool_values(operations[0])}
    writer.block("start", **values)
    current: tuple[int, float] | None = None
    lines, paths = [], []
    for operation in operations:
        values["tool"] = _tool_values(operation)
        values["operation"] = {"number": operation.number, "name": operation.name}
        if current != (operation.tool.number, operation.rpm):
            writer.block("tool_change", **values)
            current = (operation.tool.number, operation.rpm)
        writer.block("operation", **values)
        path = as_posted(dialect, operation.path)
        lines.append(writer.path(path, **values))
        paths.append(path)
    writer.block("end", **values)
    return Program(name + dialect.suffix, b"".join(writer.chunks), [o.number for o in operations], lines, paths)


def _tool_values(operation: PostedOperation) -> dict[str, Any]:
    tool = operation.tool
    return {
        "number": tool.number,
        "length_offset": tool.length_offset or tool.number,
        "diameter_offset": tool.diameter_offset or tool.number,
        "name": tool.label,
        "rpm": round(operation.rpm),
        "coolant": tool.coolant,
        "diameter": tool.cutter.diameter_mm,
    }


def as_posted(dialect: Dialect, path: Toolpath) -> Toolpath:
    """The path with arcs in the form that the dialect can write."""
    if dialect.arcs == "lines":
        return path.flattened(FLATTEN_MM)[0]
    if dialect.arcs == "radius":
        return _split_arcs(path)
    return path


def _split_arcs(path: Toolpath) -> Toolpath:
    """Arcs in pieces of at most 120°, since a radius word cannot say more than a half turn and is vague near one."""
    if not np.any(path.motion):
        return path
    rows: list[int] = []
    points: list[np.ndarray] = []
    starts = np.vstack([path.point[:1], path.point[:-1]])
    for i in range(len(path)):
        if path.motion[i] == Motion.LINE:
            rows.append(i)
            points.append(path.point[i])
            continue
        c, a = path.centre[i, :2], starts[i, :2] - path.centre[i, :2]
        sweep, radius = path._sweep(i, starts[i])
        count = int(np.ceil(np.rad2deg(sweep) / MAX_ARC_DEG_BY_RADIUS - 1e-9))
        sign = -1.0 if path.motion[i] == Motion.ARC_CW else 1.0
        first = np.arctan2(a[1], a[0])
        for k in range(1, count + 1):
            angle = first + sign * sweep * k / count
            z = starts[i, 2] + (path.point[i, 2] - starts[i, 2]) * k / count
            rows.append(i)
            points.append(
                path.point[i]
                if k == count
                else np.array([c[0] + radius * np.cos(angle), c[1] + radius * np.sin(angle), z])
            )
    return replace(path.rows(np.array(rows)), point=np.array(points))


class _Writer:
    def __init__(self, dialect: Dialect) -> None:
        self.dialect = dialect
        self.chunks: list[bytes] = []
        self.line = 0
        numbers = dialect.line_numbers
        self.next_number = numbers.start if numbers else -1

    def block(self, name: Any, **values: Any) -> None:
        for text in self.dialect.block(name, **values):
            numbers = self.dialect.line_numbers
            if numbers and text[0] not in "%O":
                text = f"N{self.next_number}{self.dialect.separator}{text}"
                self.next_number += numbers.step
                if self.next_number > numbers.wrap_at:
                    self.next_number = numbers.start
            self.chunks.append(text.encode("ascii", "replace") + b"\n")
            self.line += 1

    def path(self, path: Toolpath, **values: Any) -> NDArray[np.int64]:
        """Write a path; gives the line of each of its motions."""
        d = self.dialect
        if not np.all(np.isfinite(path.point)) or np.abs(path.point).max() > MAX_COORDINATE_MM:
            raise fail(
                "program",
                f"a coordinate is beyond {MAX_COORDINATE_MM:g} mm.",
                "Check the work zero and the part's scale.",
            )
        units = np.rint(path.point / d.resolution_mm).astype(np.int64)
        x, y, z = (d.number(v) for v in path.point[0])
        self.block("first_move", x=x, y=y, z=z, **values)
        starts = np.vstack([units[:1], units[:-1]]) * d.resolution_mm
        if d.arcs == "radius":
            radius = np.linalg.norm(path.centre[:, :2] - starts[:, :2], axis=1)
            offsets = np.rint(np.column_stack([radius, radius]) / d.resolution_mm).astype(np.int64)
        else:
            offsets = np.rint((path.centre[:, :2] - starts[:, :2]) / d.resolution_mm).astype(np.int64)
        code = np.where(path.motion > 0, path.motion + 1, np.where(path.feed > 0, 1, 0)).astype(np.int8)
        feeds = np.rint(path.feed / d.unit_mm * 10**d.feed_decimals).astype(np.int64)
        numbers = d.line_numbers
        text, lines, self.next_number = kernels.write_motions(
            units,
            code,
            offsets,
            feeds,
            d.decimals,
            d.feed_decimals,
            d.trailing_zeros,
            32 if d.separator else 0,
            d.modal_motion,
            d.modal_axes,
            d.arcs == "radius",
            self.next_number,
            numbers.step if numbers else 0,
            numbers.start if numbers else 0,
            numbers.wrap_at if numbers else 0,
        )
        self.chunks.append(text.tobytes())
        first = self.line - 1
        count = int(lines[-1]) if len(lines) else 0
        self.line += count
        return first + lines


def kinds_from_codes(codes: NDArray[np.int8]) -> NDArray[np.int8]:
    """What a program still says of a motion's kind: rapid or cutting feed."""
    return np.where(codes == 0, Kind.RAPID, Kind.CUT).astype(np.int8)

"""Write programs: blocks from the dialect's templates, motions from a kernel."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.posting import _writing_kernels as kernels
from fenrik.core.posting.dialect import Dialect, format_number
from fenrik.core.toolpath import BACK_BORE, ORIENTED, Motion, Toolpath
from fenrik.core.toolpath.compensation import CompensationError, Stretch, written_contour
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
            writer.spindle = 1
            current = (operation.tool.number, operation.rpm)
        writer.block("operation", **values)
        path = as_posted(dialect, operation.path)
        contour, source = as_written(path)
        written = writer.path(_without_tiny_arcs(contour, dialect.resolution_mm), **values)
        lines.append(written[source])
        paths.append(path)
    writer.block("end", **values)
    return Program(
        name + dialect.suffix,
        b"".join(writer.chunks),
        [o.number for o in operations],
        lines,
        paths,
        offset_table(operations),
    )


def offset_table(operations: list[PostedOperation]) -> dict[int, float]:
    """What the controller's table of compensation offsets must hold: mm by D number, 0 for a new tool's wear.

    Raises:
        FenrikError: when one number is meant in two ways.
    """
    table: dict[int, tuple[float, int]] = {}
    for o in operations:
        number = _tool_values(o)["diameter_offset"]
        for radius in np.unique(o.path.offset_mm[o.path.side > 0]).tolist():
            known, first = table.setdefault(number, (radius, o.number))
            if abs(known - radius) > 1e-9:
                raise fail(
                    "compensation",
                    f"needs {known:g} mm in offset D{number} for row {first} and {radius:g} mm for row {o.number}.",
                    "Compensate both rows alike, or give the tools offsets of their own.",
                )
    return {number: radius for number, (radius, _) in table.items()}


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
    path = _without_tiny_arcs(path, dialect.resolution_mm)
    if dialect.arcs == "lines":
        if np.any(path.offset_mm):
            raise fail(
                "compensation",
                "is for a controller that writes arcs; this one writes lines only.",
                "Compensate by computer, or as wear.",
            )
        return path.flattened(FLATTEN_MM)[0]
    if dialect.arcs == "radius":
        return _split_arcs(path)
    return path


def as_written(path: Toolpath) -> tuple[Toolpath, NDArray[np.int64]]:
    """The path as the controller is given it: the contour where the controller adds the offset.

    Returns:
        The path, and for each motion of the given one the motion that makes it (corners are made by the next one).

    Raises:
        FenrikError: when a compensated stretch has no contour, which is a defect of its strategy.
    """
    source = np.arange(len(path))
    if not np.any(path.offset_mm):
        return path, source
    keep = np.ones(len(path), bool)
    point, centre = path.point.copy(), path.centre.copy()
    sided = path.offset_mm * np.where(path.side == 41, 1.0, -1.0)
    edges = np.flatnonzero(np.diff(np.concatenate([[0.0], sided, [0.0]])))
    for a, b in zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True):
        if sided[a]:
            _write_contour(path, a, b, float(sided[a]), point, centre, keep)
    moved = replace(path, point=point, centre=centre, offset_mm=np.zeros(len(path))).rows(np.flatnonzero(keep))
    number = np.cumsum(keep) - 1
    return moved, np.where(keep, number, number + 1)


def _write_contour(
    path: Toolpath, a: int, b: int, left_mm: float, point: Points, centre: Points, keep: NDArray[np.bool_]
) -> None:
    """Motions a … b − 1 under one compensation: the first goes onto it, the others are moved to the contour."""
    way = [
        Stretch(
            path.point[i - 1, :2],
            path.point[i, :2],
            path.centre[i, :2] if path.motion[i] else None,
            {Motion.ARC_CCW: 1, Motion.ARC_CW: -1}.get(Motion(int(path.motion[i])), 0),
            i,
        )
        for i in range(a + 1, b)
        if path.motion[i] or np.abs(path.point[i, :2] - path.point[i - 1, :2]).max() > 1e-9
    ]
    try:
        contour = written_contour(way, left_mm)
    except CompensationError as error:
        raise fail("compensation", f"finds no contour: it {error.what}.", "Compensate by computer.") from error
    made, moving = {s.source: s for s in contour}, {s.source for s in way}
    at = contour[0].start
    for i in range(a, b):
        if i in made:
            at = made[i].end
        elif i in moving:
            keep[i] = False
        point[i, :2] = at


def _without_tiny_arcs(path: Toolpath, resolution_mm: float) -> Toolpath:
    """Arcs whose ends round to one place would be read as whole circles; the short ones become lines."""
    before = np.vstack([path.point[:1], path.point[:-1]])
    near = np.abs(path.point - before)[:, :2].max(axis=1, initial=0.0) < 2 * resolution_mm
    near &= path.offset_mm == 0  # where a contour is written, it is that whose arcs matter
    tiny = [i for i in np.flatnonzero(near & (path.motion > 0)) if path.sweep(int(i), before[i])[0] < np.pi]
    if not tiny:
        return path
    motion = path.motion.copy()
    motion[tiny] = Motion.LINE
    return replace(path, motion=motion)


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
        sweep, radius = path.sweep(i, starts[i])
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
        self._motion, self._feed, self.spindle = 0, -1, 1
        numbers = dialect.line_numbers
        self.next_number = numbers.start if numbers else -1

    def block(self, name: Any, **values: Any) -> None:
        for text in self.dialect.block(name, **values):
            self._line(text, text[0] not in "%O")

    def path(self, path: Toolpath, **values: Any) -> NDArray[np.int64]:
        """Write a path; gives the line of each of its motions."""
        d = self.dialect
        if not np.all(np.isfinite(path.point)) or np.abs(path.point).max() > MAX_COORDINATE_MM:
            raise fail(
                "program",
                f"a coordinate is beyond {MAX_COORDINATE_MM:g} mm.",
                "Check the work zero and the part's scale.",
            )
        x, y, z = (d.number(v) for v in path.point[0])
        self._turn(int(path.spindle[0]))
        self.block("first_move", x=x, y=y, z=z, **values)
        self._motion, self._feed = 0, -1
        lines = np.full(len(path), self.line - 1, np.int64)
        canned = np.isin(path.cycle, d.cycles) & (path.cycle > 0)
        canned[0] = False  # the first move is a block of its own
        group = np.where(canned, path.hole.astype(np.int64), -1)
        turned = np.append(False, (path.spindle[1:] != path.spindle[:-1]) & ~canned[1:])
        stopped = np.append(False, (path.dwell_s[:-1] > 0) & ~canned[:-1])
        sided = np.append(False, path.side[1:] != path.side[:-1])
        change = np.append(True, group[1:] != group[:-1]) | turned | stopped | sided
        begins = np.flatnonzero(change)
        said: tuple[str, ...] = ()
        for a, b in zip(begins.tolist(), [*begins[1:].tolist(), len(path)], strict=True):
            if a and stopped[a]:
                self._line(d.dwell.replace("{seconds}", f"{path.dwell_s[a - 1]:.3f}".rstrip("0").rstrip(".")))
            if not canned[a]:
                self._turn(int(path.spindle[a]))
            if sided[a]:
                offset = values["tool"]["diameter_offset"]
                self._line("G40" if path.side[a] == 0 else f"G{path.side[a]}{d.separator}D{offset}")
            if group[a] >= 0:
                said = self._cycle(path, a, b, said)
                lines[a:b] = self.line - 1
                continue
            if said:
                self._line("G80")
                said, self._motion, self._feed = (), -1, -1
            lines[a:b] = self._motions(path, a, b)
        if said:
            self._line("G80")
        return lines

    def _line(self, text: str, numbered: bool = True) -> None:
        """A line by itself, numbered where the dialect wants that."""
        numbers = self.dialect.line_numbers
        if numbers and numbered:
            text = f"N{self.next_number}{self.dialect.separator}{text}"
            self.next_number += numbers.step
            if self.next_number > numbers.wrap_at:
                self.next_number = numbers.start
        self.chunks.append(text.encode("ascii", "replace") + b"\n")
        self.line += 1

    def _turn(self, spindle: int) -> None:
        if spindle == self.spindle:
            return
        if spindle == ORIENTED and not self.dialect.orient:
            raise fail(
                "dialect",
                "has no word that stops the spindle in its place, which back boring needs.",
                "Choose another controller, or turn the part over and bore from that side.",
                self.dialect.name,
            )
        self._line({1: "M3", -1: "M4", 0: "M5", ORIENTED: self.dialect.orient}[spindle])
        self.spindle = spindle

    def _cycle(self, path: Toolpath, a: int, b: int, said: tuple[str, ...]) -> tuple[str, ...]:
        """One hole by its canned cycle; words that hold from the hole before are left out."""
        d = self.dialect
        rows = slice(a, b)
        cutting = path.feed[rows] > 0
        words = [
            "G99",
            f"G{int(path.cycle[a])}",
            f"Z{d.number(float(path.point[rows, 2].min()))}",
            f"R{d.number(float(path.point[b - 1, 2]))}",
        ]
        if path.peck_mm[a] > 0:
            words.append(f"Q{d.number(float(path.peck_mm[a]))}")
        if path.cycle[a] == BACK_BORE:
            words += self._far_words(path, a, b)
        if path.dwell_s[rows].any():
            words.append(f"P{path.dwell_s[rows].max():.3f}".rstrip("0").rstrip("."))
        feed = round(float(path.feed[rows][cutting].max()) / d.unit_mm * 10**d.feed_decimals)
        words.append(f"F{format_number(feed, d.feed_decimals, d.trailing_zeros)}")
        place = [f"X{d.number(path.point[b - 1, 0])}", f"Y{d.number(path.point[b - 1, 1])}"]
        if tuple(words) == said:
            self._line(d.separator.join(place))
        else:
            self._line(d.separator.join([*words[:2], *place, *words[2:]]))
        return tuple(words)

    def _far_words(self, path: Toolpath, a: int, b: int) -> list[str]:
        """Where the tool goes in and out beside the hole, and how far up it bores."""
        point = path.point[a:b] - [*path.point[b - 1, :2], 0.0]
        i, j, _ = point[int(np.abs(point[:, :2]).sum(axis=1).argmax())]
        top = float(point[path.feed[a:b] > 0, 2].max())
        return [f"{letter}{self.dialect.number(float(v))}" for letter, v in zip("IJK", (i, j, top), strict=True)]

    def _motions(self, path: Toolpath, a: int, b: int) -> NDArray[np.int64]:
        """Lines and arcs a … b − 1 one by one; gives the line of each."""
        d = self.dialect
        first = max(a - 1, 0)
        point, centre = path.point[first:b], path.centre[first:b]
        units = np.rint(point / d.resolution_mm).astype(np.int64)
        starts = np.vstack([units[:1], units[:-1]]) * d.resolution_mm
        if d.arcs == "radius":
            radius = np.linalg.norm(centre[:, :2] - starts[:, :2], axis=1)
            offsets = np.rint(np.column_stack([radius, radius]) / d.resolution_mm).astype(np.int64)
        else:
            offsets = np.rint((centre[:, :2] - starts[:, :2]) / d.resolution_mm).astype(np.int64)
        motion, feed = path.motion[first:b], path.feed[first:b]
        code = np.where(motion > 0, motion + 1, np.where(feed > 0, 1, 0)).astype(np.int8)
        feeds = np.rint(feed / d.unit_mm * 10**d.feed_decimals).astype(np.int64)
        numbers = d.line_numbers
        text, lines, self.next_number, self._motion, self._feed = kernels.write_motions(
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
            self._motion,
            self._feed,
        )
        self.chunks.append(text.tobytes())
        before = self.line - 1
        self.line += int(lines[-1]) if len(lines) else 0
        return (before + lines)[a - first :]

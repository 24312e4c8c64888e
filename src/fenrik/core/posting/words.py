"""Controllers of ISO 6983 words: blocks from a dialect's templates, motions from a kernel."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.machines import SAME_PLACE_MM, Held, Joint
from fenrik.core.posting import _writing_kernels as kernels
from fenrik.core.posting.controller import Arcs, ControllerState, ReadBack, Written
from fenrik.core.posting.dialect import Dialect, format_number
from fenrik.core.posting.reading import read_program
from fenrik.core.posting.statements import (
    Approach,
    Change,
    Compensate,
    HeldTool,
    Hole,
    Pause,
    Program,
    Row,
    Speed,
    Statement,
    Travel,
    Turn,
)
from fenrik.core.toolpath import BACK_BORE, ORIENTED, Toolpath

MAX_COORDINATE_MM = 100_000.0
NEIGHBOURS = np.array([(i, j) for i in (0, -1, 1) for j in (0, -1, 1)])


@dataclass(frozen=True)
class WordController:
    """A controller that is told what to do in words, as its dialect has them."""

    dialect: Dialect

    @property
    def document(self) -> Dialect:
        return self.dialect

    @property
    def suffix(self) -> str:
        return self.dialect.suffix

    @property
    def resolution_mm(self) -> float:
        return self.dialect.resolution_mm

    @property
    def arcs(self) -> Arcs:
        return self.dialect.arcs

    @property
    def cycles(self) -> Collection[int]:
        return self.dialect.cycles

    @property
    def program_for_each_tool(self) -> bool:
        return self.dialect.program_for_each_tool

    @property
    def extended_offsets(self) -> bool:
        return bool(self.dialect.extended_offset)

    @property
    def speaks_joints(self) -> bool:
        return bool(self.dialect.turns)

    @property
    def drives_arms(self) -> bool:
        return False

    @property
    def holds(self) -> Held:
        return "tip" if self.dialect.turns == "tip" else "joints"

    @property
    def most_lines(self) -> int:
        return 0

    def write(self, program: Program) -> Written:
        """The program as text."""
        return _Writer(self.dialect, program).written()

    def read(self, text: bytes, before: ControllerState) -> ReadBack:
        """What a program does; see `read_program`."""
        return read_program(text, before.tool, before.radii_mm, before)

    def main(self, name: str, files: list[str]) -> bytes:
        raise fail("dialect", "has no words that call other programs.", "Choose another controller.", name)

    def called(self, text: bytes) -> list[str]:
        return []


class _Writer:
    """A program as it is written, and the words in force: motion, feed, and those of a cycle."""

    def __init__(self, dialect: Dialect, program: Program) -> None:
        self.dialect, self.program = dialect, program
        self.chunks: list[bytes] = []
        self.lines: list[NDArray[np.int64]] = []
        self.line = 0
        self.motion, self.feed = 0, -1
        self.cycle: tuple[str, ...] = ()
        self.rotary = [k for k, j in enumerate(program.joints) if j.kind == "rotary"]
        self.letters = np.frombuffer(b"XYZ" + _letters(program.joints), np.uint8)
        self.turned: Points = np.zeros(len(self.rotary))
        self.leaning = False
        numbers = dialect.line_numbers
        self.next_number = numbers.start if numbers else -1
        self.values: dict[str, Any] = {
            "program": {"name": program.name, "number": program.number},
            "setup": {"work_offset": dialect.offset_words(program.work_offset)},
        }
        self.changes = [s.tool for s in program.statements if isinstance(s, Change)]
        self.changed = 0
        self._hold(program.tool)

    def written(self) -> Written:
        self._block("start")
        for tool in {t.number: t for t in self.changes}.values():
            self._block("tools", tool=asdict(tool))
        for statement in self.program.statements:
            if self.leaning and isinstance(statement, Change | Row):
                self._stand_up()
            if self.cycle and not isinstance(statement, Hole):
                self._line("G80")
                self.motion, self.feed, self.cycle = -1, -1, ()
            self._write(statement)
        if self.leaning:
            self._stand_up()
        if self.cycle:
            self._line("G80")
        self._block("away")
        self._block("end")
        return Written(b"".join(self.chunks), self.lines)

    def _write(self, statement: Statement) -> None:
        match statement:
            case Change(tool):
                if self.changed:
                    self._block("away")
                self._hold(tool)
                self.changed += 1
                self._block("tool_change")
            case Speed(tool):
                self.values["tool"] = asdict(tool)
                self._line(f"S{tool.rpm}{self.dialect.separator}M3")
            case Row(number, name):
                self.values["operation"] = {"number": number, "name": name}
                self._block("operation")
            case Approach():
                self._approach(statement)
            case Turn(spindle):
                self._line(self._spindle_word(spindle))
            case Pause(seconds):
                self._line(self.dialect.dwell.replace("{seconds}", _seconds(seconds)))
            case Compensate(side):
                offset = f"{self.dialect.separator}D{self.values['tool']['diameter_offset']}"
                self._line(f"G{side}{offset}" if side else "G40")
            case Hole():
                self._hole(statement)
                self._made(np.full(statement.last - statement.first, self.line - 1, np.int64))
            case Travel():
                self._made(self._motions(statement))

    def _approach(self, to: Approach) -> None:
        """To the first place of a row: first the rotary joints turn, away from the work, then the tool goes there."""
        x, y, z = (self._number(v) for v in to.place)
        if self.rotary and (to.leans or self.turned.any()):
            sep, told = self.dialect.separator, to.joints[self.rotary]
            names = bytes(self.letters[3:]).decode()
            turn = sep.join(f"{c}{self._number(v)}" for c, v in zip(names, told, strict=True))
            self._block("lift")
            linear = [self._number(v) for v in self._linear(to.joints[None])[0]]
            self._block("lean", turn=turn, x=linear[0], y=linear[1], z=linear[2])
            self.turned = to.joints[self.rotary] if to.leans else np.zeros(len(self.rotary))
            self.leaning = to.leans
            if self.dialect.turns == "joints":
                x, y, z = linear
            elif to.leans:
                self._line(self.dialect.tip_on.replace("{offset}", str(self.values["tool"]["length_offset"])))
                self._line(f"G0{sep}X{x}{sep}Y{y}{sep}Z{z}")
        if not (self.leaning and self.dialect.turns == "tip"):
            self._block("first_move", x=x, y=y, z=z)
        self.motion, self.feed = 0, -1
        self.lines.append(np.array([self.line - 1], np.int64))

    def _stand_up(self) -> None:
        """The end of a row whose tool leaned."""
        if self.dialect.turns == "tip":
            self._line(self.dialect.tip_off)
        self.leaning = False

    def _linear(self, joints: Points) -> Points:
        """Values of X, Y and Z among those of the joints, (n, 3)."""
        names = [j.name for j in self.program.joints]
        return joints[:, [names.index(c) for c in "XYZ"]]

    def _hold(self, tool: HeldTool) -> None:
        """The tool that templates speak of from here on, and the one that is changed to after it."""
        following = self.changes[self.changed + 1 : self.changed + 2]
        self.values |= {"tool": asdict(tool), "next_tool": asdict(following[0]) if following else None}

    def _made(self, lines: NDArray[np.int64]) -> None:
        """The lines of the next motions of the row."""
        self.lines[-1] = np.concatenate([self.lines[-1], lines])

    def _block(self, name: Any, **values: Any) -> None:
        for text in self.dialect.block(name, **{**self.values, **values}):
            self._line(text, text[0] not in "%O")

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

    def _number(self, value_mm: float) -> str:
        """A coordinate.

        Raises:
            FenrikError: when it is beyond what a machine could have.
        """
        if not abs(value_mm) <= MAX_COORDINATE_MM:
            raise fail(
                "program",
                f"a coordinate is beyond {MAX_COORDINATE_MM:g} mm.",
                "Check the work zero and the part's scale.",
            )
        return self.dialect.number(float(value_mm))

    def _spindle_word(self, spindle: int) -> str:
        if spindle == ORIENTED and not self.dialect.orient:
            raise fail(
                "dialect",
                "has no word that stops the spindle in its place, which back boring needs.",
                "Choose another controller, or turn the part over and bore from that side.",
                self.dialect.name,
            )
        return {1: "M3", -1: "M4", 0: "M5", ORIENTED: self.dialect.orient}[spindle]

    def _hole(self, hole: Hole) -> None:
        """One hole by its cycle; words that hold from the hole before are left out."""
        d = self.dialect
        words = ["G99", f"G{hole.cycle}", f"Z{self._number(hole.bottom)}", f"R{self._number(hole.plane)}"]
        if hole.peck_mm > 0:
            words.append(f"Q{d.number(hole.peck_mm)}")
        if hole.cycle == BACK_BORE:
            words += [f"{c}{self._number(v)}" for c, v in zip("IJK", (*hole.aside, hole.top), strict=True)]
        if hole.dwell_s > 0:
            words.append(f"P{_seconds(hole.dwell_s)}")
        feed = round(hole.feed / d.unit_mm * 10**d.feed_decimals)
        words.append(f"F{format_number(feed, d.feed_decimals, d.trailing_zeros)}")
        place = [f"{c}{self._number(v)}" for c, v in zip("XY", hole.place, strict=True)]
        said = tuple(words)
        self._line(d.separator.join(place if said == self.cycle else [*words[:2], *place, *words[2:]]))
        self.cycle = said

    def _motions(self, travel: Travel) -> NDArray[np.int64]:
        """Lines and arcs one by one; gives the line of each."""
        d, path = self.dialect, travel.path
        rows = slice(travel.first - 1, travel.last)
        point, centre, motion, feed = path.point[rows], path.centre[rows], path.motion[rows], path.feed[rows]
        if self.leaning and d.turns == "joints":
            point = self._linear(travel.joints[rows])
        told = np.hstack([point, travel.joints[rows][:, self.rotary]]) if self.leaning else point
        self._number(np.abs(told).max())
        units = np.rint(told / d.resolution_mm).astype(np.int64)
        starts = np.vstack([units[:1, :3], units[:-1, :3]]) * d.resolution_mm
        if d.arcs == "radius":
            radius = np.linalg.norm(centre[:, :2] - starts[:, :2], axis=1)
            offsets = np.rint(np.column_stack([radius, radius]) / d.resolution_mm).astype(np.int64)
        else:
            exact = (centre[:, :2] - starts[:, :2]) / d.resolution_mm
            offsets = offsets_that_fit(exact, np.diff(units[:, :2], axis=0, prepend=units[:1, :2]), motion > 0)
        code = np.where(motion > 0, motion + 1, np.where(feed > 0, 1, 0)).astype(np.int8)
        by_time = self.leaning and d.inverse_time
        feeds = np.rint(feed / d.unit_mm * 10**d.feed_decimals).astype(np.int64)
        if by_time:
            feeds = np.rint(_per_minute(path, travel) * 10**d.feed_decimals).astype(np.int64)
            self._line("G93")
            self.motion = -1
        numbers = d.line_numbers
        text, lines, self.next_number, self.motion, self.feed = kernels.write_motions(
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
            self.motion,
            self.feed,
            self.letters[: told.shape[1]],
            by_time,
        )
        self.chunks.append(text.tobytes())
        before = self.line - 1
        self.line += int(lines[-1])
        if by_time:
            self._line("G94")
            self.motion, self.feed = -1, -1
        return (before + lines)[1:]


def _letters(joints: list[Joint]) -> bytes:
    """The words of the rotary joints.

    Raises:
        FenrikError: where a joint has a name that is no word of an axis (ISO 841).
    """
    names = [j.name for j in joints if j.kind == "rotary"]
    wrong = [n for n in names if n not in ("A", "B", "C")]
    if wrong:
        raise fail("joints", "has a name that this controller cannot write.", "Call rotary axes A, B or C.", wrong[0])
    return "".join(names).encode()


def _per_minute(path: Toolpath, travel: Travel) -> Points:
    """How many times a minute each motion could be made, (n,), from the one before the first on."""
    rows = slice(travel.first - 1, travel.last)
    length, feed = path.lengths()[rows], path.feed[rows]
    turn = np.abs(np.diff(travel.joints[rows], axis=0, prepend=travel.joints[rows][:1])).max(axis=1)
    way = np.where(length > SAME_PLACE_MM, length, turn)
    return np.where(way > 0, feed / np.maximum(way, 1e-12), 0.0)


def _seconds(seconds: float) -> str:
    return f"{seconds:.3f}".rstrip("0").rstrip(".")


def offsets_that_fit(exact: Points, way: NDArray[np.int64], arcs: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Whole offsets (n, 2) from the begin of arcs to their centre, so that begin and end lie as far from it.

    Ends and offset are rounded each for itself; where that adds up to more than a unit, a neighbour of the offset fits
    better.

    Args:
        exact: (n, 2) offsets in units. way: (n, 2) whole units from begin to end. arcs: (n,) which are.
    """
    offsets = np.rint(exact).astype(np.int64)
    for i in np.flatnonzero(arcs & (_radii_apart(offsets, way) > 1.0)):
        near = offsets[i] + NEIGHBOURS
        offsets[i] = near[int(np.argmin(_radii_apart(near, way[i])))]
    return offsets


def _radii_apart(offsets: NDArray[np.int64], way: NDArray[np.int64]) -> Points:
    return np.abs(np.linalg.norm(offsets, axis=-1) - np.linalg.norm(way - offsets, axis=-1))

"""Controls of arms: programs as poses or as values of joints, in the lines of their dialect, and read back from them.

Every file says all that it needs: tool, frame, spindle, and a swing of all joints to where it begins. The arm comes to
each row of the route by a swing, from home where a tool is taken, and goes through air by swings, too.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fenrik.core.dividing import in_pieces
from fenrik.core.errors import FenrikError, fail
from fenrik.core.frames import Points
from fenrik.core.machines import SAME_PLACE_MM, Held, turned_deg
from fenrik.core.machines.chain import FULL_TURN
from fenrik.core.posting.arm_dialect import ArmDialect
from fenrik.core.posting.controller import Arcs, ControllerState, ReadBack, Written
from fenrik.core.posting.dialect import safe_words
from fenrik.core.posting.statements import (
    Approach,
    Change,
    Pause,
    Program,
    Row,
    Speed,
    Statement,
    Travel,
    Turn,
)
from fenrik.core.robots import CellChain, CellMachine
from fenrik.core.robots.inverse import WAYS

SWING_DEG = 2.0
"""A swing is looked at in steps in which no joint goes farther."""
MOST_SWING_ROWS = 2000
MEETING_DEG = 0.05
"""So near to where −180 and 180 degrees meet, a joint's turn is that of the row before."""


@dataclass(frozen=True)
class ArmController:
    """An arm's control, told what to do in the lines of its dialect."""

    dialect: ArmDialect
    arcs: Arcs = "lines"
    cycles: Collection[int] = ()
    program_for_each_tool: bool = False
    extended_offsets: bool = False
    speaks_joints: bool = True
    drives_arms: bool = True

    @property
    def document(self) -> ArmDialect:
        return self.dialect

    @property
    def suffix(self) -> str:
        return self.dialect.suffix

    @property
    def resolution_mm(self) -> float:
        return float(10.0**-self.dialect.mm_decimals)

    @property
    def holds(self) -> Held:
        return "pose" if self.dialect.says == "poses" else "joints"

    @property
    def most_lines(self) -> int:
        return self.dialect.most_lines

    def write(self, program: Program) -> Written:
        """The program as text.

        Raises:
            FenrikError: where the machine is no cell, or a row asks for what an arm's control has no words for.
        """
        return _Writer(self.dialect, program).written()

    def read(self, text: bytes, before: ControllerState) -> ReadBack:
        """What a program does.

        Raises:
            FenrikError: field `program`, naming the line and what is wrong in it.
        """
        return _Reader(self.dialect, text, before).read()

    def main(self, name: str, files: list[str]) -> bytes:
        """A program that calls others one after another."""
        d = self.dialect
        lines = [*(b.replace("{name}", name) for b in d.begin), *(d.call.replace("{name}", f) for f in files), d.end]
        return ("\n".join(lines) + "\n").encode("ascii", "replace")

    def called(self, text: bytes) -> list[str]:
        """The files that a program calls, in their order."""
        found = (self.dialect.patterns["call"].match(line) for line in text.decode("ascii", "replace").splitlines())
        return [m["name"] for m in found if m]


def _cell_of(machine: object) -> CellMachine:
    """The cell of a machine.

    Raises:
        FenrikError: where it is none.
    """
    if not isinstance(machine, CellMachine):
        raise fail("dialect", "drives arms, and the machine is none.", "Choose a controller of this machine.")
    return machine


@dataclass
class _Writer:
    dialect: ArmDialect
    program: Program
    lines: list[str] = field(default_factory=list)
    made: list[NDArray[np.int64]] = field(default_factory=list)

    def written(self) -> Written:
        d, program = self.dialect, self.program
        self.cell = _cell_of(program.machine).cell
        ends = [s for s in program.statements if isinstance(s, Approach | Travel)]
        first, last = ends[0], ends[-1]
        self.begin = self._home(first.joints if isinstance(first, Approach) else first.joints[0])
        self.lines += [text.replace("{name}", program.name) for text in d.begin]
        self.held = program.tool
        for statement in program.statements:
            self._write(statement)
        self._say("spindle", rpm="0")
        self._say("coolant", number="0")
        self._swing(self._home(last.joints if isinstance(last, Approach) else last.joints[last.last - 1]))
        self.lines.append(d.end)
        return Written(("\n".join(self.lines) + "\n").encode("ascii", "replace"), self.made)

    def _home(self, beside: Points) -> Points:
        """The arm at home, what carries arm and work where other values have it."""
        home = np.array(beside, dtype=np.float64)
        home[self.cell.arm_columns] = self.cell.home_deg
        return home

    def _write(self, statement: Statement) -> None:
        match statement:
            case Change(tool):
                if self.made:
                    # What is held goes home before the next tool is named: until then the tip is its own.
                    self._say("spindle", rpm="0")
                    self._say("coolant", number="0")
                    self._swing(self.begin)
                self._take(tool.number)
                self._swing(self.begin)
                self._say("spindle", rpm=str(tool.rpm))
                self._say("coolant", number="1" if tool.coolant else "0")
                self.held = tool
            case Speed(tool):
                self._say("spindle", rpm=str(tool.rpm))
                self.held = tool
            case Row(number, name):
                self.lines.append(f"{self.dialect.remark}{number} {safe_words(name)}".rstrip())
            case Approach():
                self._swing(statement.joints)
                self.begin = self._home(statement.joints)
                self.made.append(np.array([len(self.lines) - 1], np.int64))
            case Turn(spindle) if abs(spindle) <= 1:
                self._say("spindle", rpm=str(spindle * self.held.rpm))
            case Pause(seconds):
                self._say("pause", seconds=f"{seconds:.3f}")
            case Travel():
                first = len(self.lines)
                self._travel(statement)
                own = np.arange(first, len(self.lines))
                self.made[-1] = np.concatenate([self.made[-1], own])
            case _:
                raise fail(
                    "dialect",
                    "has no words for what a row asks for: compensation by the control, cycles, or a spindle stopped "
                    "in its place.",
                    "Compensate by computer, or choose another strategy.",
                    self.dialect.name,
                )

    def _say(self, act: str, **fields: str) -> None:
        text = getattr(self.dialect, act)
        for name, value in fields.items():
            text = text.replace("{" + name + "}", value)
        self.lines.append(text)

    def _take(self, number: int) -> None:
        self.chain = _cell_of(self.program.machine).chain(self.program.lengths_mm.get(number, 0.0), self.program.at)
        mount = self.cell.mount
        self._say("frame", place=self._mm(self.chain.shape.at))
        self._say("tool", number=str(number), place=self._mm(self.chain.shape.tip), turns=self._deg(mount.turns_deg))
        self._say("blend", size=f"{self.program.machine.path_tolerance_mm:g}")

    def _swing(self, joints: Points) -> None:
        self._say("swing", joints=self._values(joints[None])[0])

    def _mm(self, values: Collection[float] | Points) -> str:
        return self.dialect.separator.join(f"{v:.{self.dialect.mm_decimals}f}" for v in values)

    def _deg(self, values: Collection[float] | Points) -> str:
        return self.dialect.separator.join(f"{v:.{self.dialect.deg_decimals}f}" for v in values)

    def _values(self, joints: Points) -> list[str]:
        """Rows of values of all joints."""
        d = self.dialect
        formats = [f"%.{d.mm_decimals if j.kind == 'linear' else d.deg_decimals}f" for j in self.program.machine.joints]
        row = d.separator.join(formats)
        return [row % tuple(values) for values in joints.tolist()]

    def _travel(self, travel: Travel) -> None:
        """Motions one by one."""
        rows = np.arange(travel.first, travel.last)
        path, joints = travel.path, travel.joints
        feed, length = path.feed[rows], path.lengths()[rows]
        turned = turned_deg(self.chain, joints)[rows]
        way = np.where(length > SAME_PLACE_MM, length, turned)
        seconds = 60.0 * way / np.where(feed > 0, feed, 1.0)
        still = length <= SAME_PLACE_MM
        told = self._told(joints[rows])
        for k, fields in enumerate(told):
            if feed[k] <= 0:
                self._swing(joints[rows[k]])
                continue
            self._say("timed" if still[k] else "line", **fields, feed=f"{feed[k]:.3f}", seconds=f"{seconds[k]:.6f}")

    def _told(self, joints: Points) -> list[dict[str, str]]:
        """What is said of each row."""
        if self.dialect.says == "joints":
            return [{"joints": text} for text in self._values(joints)]
        d, chain = self.dialect, self.chain
        place, turns = chain.tip_poses(joints)
        ways, rounds = chain.posture_words(joints)
        external = [k for k in (chain.table, chain.track) if k is not None]
        sep, found = d.separator, []
        for p, t, e, w, r in zip(
            place.tolist(), turns.tolist(), joints[:, external].tolist(), ways.tolist(), rounds.tolist(), strict=True
        ):
            found.append(
                {"place": self._mm(p), "turns": self._deg(t), "external": self._deg(e),
                 "way": sep.join(str(b) for b in WAYS[w]), "rounds": sep.join(str(k) for k in r)}
            )  # fmt: skip
        return found


_SWING, _GO = 0, 1


@dataclass
class _Reader:
    """What a program says, line by line, and then all of it at once."""

    dialect: ArmDialect
    text: bytes
    before: ControllerState

    def read(self) -> ReadBack:
        machine = _cell_of(self.before.machine)
        self.joints_count = len(machine.joints)
        rows = self._rows()
        if not rows:
            return _nothing(self.joints_count)
        tools = np.array([r["tool"] for r in rows], np.int32)
        joints = np.zeros((len(rows), self.joints_count))
        parts = []
        for tool in np.unique(tools):
            own = np.flatnonzero(tools == tool)
            chain = machine.chain(self.before.lengths_mm.get(int(tool), 0.0), self.before.at)
            joints[own] = self._joints(chain, [rows[k] for k in own.tolist()])
        source, values = _in_steps(joints, np.array([r["act"] == _SWING for r in rows]))
        for tool in np.unique(tools):
            own = np.flatnonzero(tools[source] == tool)
            chain = machine.chain(self.before.lengths_mm.get(int(tool), 0.0), self.before.at)
            parts.append((own, chain.forward(values[own])))
        n = len(source)
        point, axis = np.empty((n, 3)), np.empty((n, 3))
        for own, pose in parts:
            point[own], axis[own] = pose.point, pose.axis
        feed = self._feeds(rows, source, point, values, machine)
        whole = {
            name: np.array([r[name] for r in rows])[source] for name in ("tool", "rpm", "line", "seconds", "spindle")
        }
        first = np.append(True, source[1:] != source[:-1])
        return ReadBack(
            point=point, axis=axis, joints=values, code=(feed > 0).astype(np.int8), centre=np.zeros((n, 3)),
            plane=np.full(n, 17, np.int8), feed=feed, seconds=np.where(first, whole["seconds"], 0.0),
            tool=whole["tool"].astype(np.int32), offset=np.full(n, 54, np.int16),
            length_offset=whole["tool"].astype(np.int32), rpm=whole["rpm"].astype(np.float64),
            spindle=whole["spindle"].astype(np.int8), side=np.zeros(n, np.int8), line=whole["line"].astype(np.int64),
            known=np.ones((n, 3), np.bool_),
        )  # fmt: skip

    def _rows(self) -> list[dict]:
        """The motions, with what is in force."""
        d, rows = self.dialect, []
        tool, rpm, pause, ended = self.before.tool, 0.0, 0.0, False
        acts = [(act, d.patterns[act]) for act in ("line", "timed", "swing", "pause", "spindle", "coolant",
                                                   "tool", "frame", "blend", "call", "end")]  # fmt: skip
        for number, line in enumerate(self.text.decode("ascii", "replace").split("\n")):
            if not line.strip() or line.startswith(d.remark.rstrip()):
                continue
            if ended:
                raise self._trouble(number, line, "stands after the end of the program", "Remove it.")
            act, said = next(((act, m.groupdict()) for act, p in acts if (m := p.match(line))), ("", {}))
            match act:
                case "tool":
                    tool = int(said["number"])
                    self._same_tool(number, line, tool, said)
                case "frame":
                    self._same_frame(number, line, said)
                case "spindle":
                    rpm = float(said["rpm"])
                case "pause":
                    pause += float(said["seconds"])
                case "end":
                    ended = True
                case "swing" | "line" | "timed":
                    kind = _SWING if act == "swing" else _GO
                    numbers = self._numbers(number, line, said)
                    rows.append({"act": kind, "line": number, "tool": tool, "rpm": abs(rpm), "seconds": pause,
                                 "spindle": int(np.sign(rpm)), "numbers": numbers})  # fmt: skip
                    pause = 0.0
                case "" if number >= len(d.begin) or not d.beginnings[number].match(line):
                    raise self._trouble(number, line, "is not understood", "Write it as the dialect has it.")
        if not ended:
            raise fail("program", "ends without its last line.", "The program is not complete.", self.dialect.end)
        return rows

    def _numbers(self, number: int, line: str, said: dict[str, str]) -> dict[str, list[float]]:
        sep = self.dialect.separator
        found = {k: [float(v) for v in t.split(sep)] if t else [] for k, t in said.items()}
        external = self.joints_count - 6
        wanted = {"joints": self.joints_count, "place": 3, "turns": 3, "external": external, "way": 3, "rounds": 6,
                  "feed": 1, "seconds": 1}  # fmt: skip
        wrong = [k for k, v in found.items() if len(v) != wanted.get(k, len(v))]
        if wrong:
            what = f"has {len(found[wrong[0]])} numbers for {wrong[0]} instead of {wanted[wrong[0]]}"
            raise self._trouble(number, line, what, "Check the line.")
        if "way" in found and any(v not in (0.0, 1.0) for v in found["way"]):
            raise self._trouble(number, line, "names a posture that there is not", "Each of its words is 0 or 1.")
        return found

    def _same_frame(self, number: int, line: str, said: dict[str, str]) -> None:
        """Whether the work stands where a program has it."""
        told = np.array([float(v) for v in said["place"].split(self.dialect.separator)])
        off = float(np.abs(told - self.before.at).max())
        if off > 2.0 * 10.0**-self.dialect.mm_decimals:
            what = f"has the work {off:.3f} mm from where the job has it on the table"
            raise self._trouble(number, line, what, "Post again, or move the work.")

    def _same_tool(self, number: int, line: str, tool: int, said: dict[str, str]) -> None:
        """Whether the tip that a program tells is that of the job's tool."""
        if tool not in self.before.lengths_mm or "place" not in said:
            return
        chain = _cell_of(self.before.machine).chain(self.before.lengths_mm[tool], self.before.at)
        told = np.array([float(v) for v in said["place"].split(self.dialect.separator)])
        off = float(np.abs(told - chain.shape.tip).max()) if len(told) == 3 else np.inf
        if off > 2.0 * 10.0**-self.dialect.mm_decimals:
            what = f"has the tip of tool {tool} {off:.3f} mm from where the job has it"
            raise self._trouble(number, line, what, "Post again, or measure the tool.")

    def _joints(self, chain: CellChain, rows: list[dict]) -> Points:
        """The joints at rows of one tool."""
        values = np.zeros((len(rows), self.joints_count))
        posed = [k for k, r in enumerate(rows) if "place" in r["numbers"]]
        for k, r in enumerate(rows):
            if "joints" in r["numbers"]:
                values[k] = r["numbers"]["joints"]
        if not posed:
            return values
        numbers = [rows[k]["numbers"] for k in posed]
        external = [k for k in (chain.table, chain.track) if k is not None]
        own = np.zeros((len(posed), self.joints_count))
        own[:, external] = np.array([n["external"] for n in numbers]).reshape(len(posed), len(external))
        way = np.array([[int(v) for v in n["way"]] for n in numbers]) @ np.array([4, 2, 1])
        found = chain.from_tip(
            np.array([n["place"] for n in numbers]), np.array([n["turns"] for n in numbers]), own, way,
            np.array([n["rounds"] for n in numbers]),
        )  # fmt: skip
        lost = np.flatnonzero(np.isnan(found).any(axis=1))
        if len(lost):
            line = rows[posed[int(lost[0])]]["line"]
            shown = self.text.split(b"\n")[line].decode("ascii", "replace")
            raise self._trouble(line, shown, "names a pose that the arm does not reach", "Solve the path again.")
        values[posed] = found
        return _in_turn(values, posed)

    def _feeds(
        self, rows: list[dict], source: NDArray[np.int64], point: Points, values: Points, machine: CellMachine
    ) -> Points:
        """mm/min, or degrees per minute of rows that turn in place; 0 of swings and rapids."""
        feed = np.zeros(len(source))
        way = np.linalg.norm(np.diff(point, axis=0, prepend=point[:1]), axis=1)
        turned = turned_deg(machine.chain(), values)
        for k, s in enumerate(source.tolist()):
            if rows[s]["act"] != _GO:
                continue
            numbers = rows[s]["numbers"]
            if "feed" in numbers:
                feed[k] = numbers["feed"][0]
            else:
                seconds = max(numbers["seconds"][0], 1e-9)
                feed[k] = 60.0 * (way[k] if way[k] > SAME_PLACE_MM else turned[k]) / seconds
        return feed

    def _trouble(self, number: int, line: str, what: str, way_out: str) -> FenrikError:
        return fail("program", f"line {number + 1} {what}.", way_out, line[:80])


def _in_turn(values: Points, posed: list[int]) -> Points:
    """A joint that a pose puts where −180 and 180 degrees meet takes the turn that is nearest to where it was: there
    the last digit of a place decides between two whole turns."""
    doubtful = np.abs(np.abs(values - FULL_TURN * np.round(values / FULL_TURN)) - 0.5 * FULL_TURN) < MEETING_DEG
    for row in posed:
        if row and doubtful[row].any():
            apart = values[row - 1] - values[row]
            values[row] += np.where(doubtful[row], FULL_TURN * np.round(apart / FULL_TURN), 0.0)
    return values


def _in_steps(joints: Points, swing: NDArray[np.bool_]) -> tuple[NDArray[np.int64], Points]:
    """Rows of joints with swings in steps: what each belongs to, and its values."""
    moved = np.abs(np.diff(joints, axis=0, prepend=joints[:1])).max(axis=1)
    count = np.where(swing, np.clip(np.ceil(moved / SWING_DEG), 1, MOST_SWING_ROWS), 1).astype(np.int64)
    source, piece = in_pieces(count)
    share = (piece + 1) / count[source]
    before = np.vstack([joints[:1], joints[:-1]])
    return source, before[source] + share[:, None] * (joints[source] - before[source])


def _nothing(joints: int) -> ReadBack:
    none, flat = np.zeros(0), np.zeros((0, 3))
    small = np.zeros(0, np.int8)
    whole = np.zeros(0, np.int32)
    known, lines, offset = np.zeros((0, 3), np.bool_), whole.astype(np.int64), whole.astype(np.int16)
    return ReadBack(
        flat, flat, np.zeros((0, joints)), small, flat, small, none, none, whole, offset, whole, none, small, small,
        lines, known,
    )  # fmt: skip

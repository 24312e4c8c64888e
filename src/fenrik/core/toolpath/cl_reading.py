"""Cutter location text read in: records in the words of ISO 3592 and ISO 4343, line by line.

A record is a word, a slash, and what it says, separated by commas; a `$` at the end of a line joins it to the next,
`$$` begins a comment. Lengths become mm, feeds mm/min. What is not understood is told with its line; the rest is
read.

Words that move: FROM, GOTO, GODLTA, CIRCLE (to the next GOTO, right-handed about its axis), RAPID (for the next motion
alone), CYCLE with DRILL, DEEP, FACE or BORE until CYCLE/OFF. Words that hold from then on: UNITS, MULTAX, TLAXIS,
CUTTER, LOADTL, SPINDL, FEDRAT, COOLNT, DELAY. Words that are read and change no motion: PARTNO, PPRINT, REMARK, STOP,
OPSTOP, MACHIN, MODE, INSERT, DISPLY, CLDIST, SAFPOS, REWIND, END, FINI.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.toolpath.model import Kind, Motion, Toolpath

CL_SUFFIXES = (".cl", ".cls", ".apt", ".txt")
"""Of files that are taken for such texts."""
INCH_MM = 25.4
MOST_LINES, LONGEST_LINE = 2_000_000, 4000
SAME_MM = 1e-9
ARC_OFF_MM = 0.01
"""How far the ends of an arc may be from its circle."""
QUIET = (
    "PARTNO", "PPRINT", "REMARK", "STOP", "OPSTOP", "MACHIN", "MODE", "INSERT", "DISPLY", "CLDIST", "SAFPOS", "REWIND",
    "END", "FINI",
)  # fmt: skip
NUMBER = re.compile(r"[-+]?(\d+\.?\d*|\.\d+)([ED][-+]?\d+)?$", re.IGNORECASE)
PER_MINUTE = {"MMPM": 1.0, "IPM": INCH_MM}
PER_TURN = {"MMPR": 1.0, "IPR": INCH_MM}
CYCLES = ("DRILL", "DEEP", "FACE", "BORE")
BACK_OFF_MM = 0.25


@dataclass(frozen=True)
class Record:
    """One record of a text.

    Attributes:
        line: from 1, where it begins. text: as it stands there. word: before the slash.
        says: what it means, in words. wrong: why it is not understood; empty where it is.
        motion: the row of the path that it ends with; −1 where it moves nothing.
    """

    line: int
    text: str
    word: str
    says: str
    wrong: str = ""
    motion: int = -1


@dataclass(frozen=True)
class Read:
    """What a text says.

    Attributes:
        records: all of them, in their order. path: the motions, in mm, the tool's tip and axis as they are told.
        tools: numbers of the tools in their order. cutters: the seven parameters of each CUTTER record, mm and degrees.
        unit: as the text names it; empty where it names none. rpm: of the first spindle record.
    """

    records: list[Record]
    path: Toolpath
    tools: list[int]
    cutters: list[tuple[float, ...]]
    unit: str
    rpm: float

    @property
    def wrong(self) -> list[Record]:
        return [r for r in self.records if r.wrong]


class Edit(BaseModel):
    """A change of a text: a line put in the place of one, put in after one, or taken out."""

    model_config = ConfigDict(extra="forbid")
    act: Literal["replace", "put in after", "drop"] = Field(default="replace", title="Act")
    line: int = Field(
        default=1, ge=0, le=MOST_LINES, title="Line", description="As the text is after the changes before"
    )
    text: str = Field(default="", max_length=LONGEST_LINE, title="Text")


def edited(text: str, edits: Sequence[Edit]) -> str:
    """A text with changes made one after another.

    Raises:
        FenrikError: where a change names a line that is not there.
    """
    lines = text.splitlines()
    for k, edit in enumerate(edits):
        lowest = 0 if edit.act == "put in after" else 1
        if not lowest <= edit.line <= len(lines):
            raise fail(f"edits.{k}", f"names line {edit.line} of {len(lines)}.", "Take this change out.", edit.line)
        if edit.act == "put in after":
            lines.insert(edit.line, edit.text)
        elif edit.act == "drop":
            del lines[edit.line - 1]
        else:
            lines[edit.line - 1] = edit.text
    return "\n".join(lines)


class _Wrong(Exception):
    """Why a record is not understood."""


@dataclass
class _State:
    scale: float = 1.0
    unit: str = ""
    axis: Points = field(default_factory=lambda: np.array([0.0, 0.0, 1.0]))
    place: Points | None = None
    rapid: bool = False
    feed: float = 0.0
    per_turn: float = 0.0
    rpm: float = 0.0
    spindle: int = 1
    circle: tuple[Points, Points, float] | None = None
    cycle: tuple[str, float, float, float, float, float] | None = None
    tools: list[int] = field(default_factory=list)
    cutters: list[tuple[float, ...]] = field(default_factory=list)
    first_rpm: float = 0.0
    rows: list[tuple[Points, Points, int, Points, Points, Kind, float, int]] = field(default_factory=list)
    dwell: dict[int, float] = field(default_factory=dict)


def read_cl(text: str, unit: str = "") -> Read:
    """Read a text; nothing in it raises.

    Args:
        unit: mm or inch, of a text that names none.
    """
    state, records = _State(), []
    if unit:
        _units([unit.upper()], state)
    for line, whole in _records(text):
        word, _, rest = whole.partition("/")
        word = word.strip().upper().replace(" ", "")
        before = len(state.rows)
        try:
            says = _said(word, rest, state)
            wrong = ""
        except _Wrong as error:
            says, wrong = "", str(error)
        motion = len(state.rows) - 1 if len(state.rows) > before else -1
        records.append(Record(line, whole[:LONGEST_LINE], word[:20], says, wrong, motion))
    return Read(records, _path(state), state.tools, state.cutters, state.unit, state.first_rpm)


def _records(text: str) -> Iterator[tuple[int, str]]:
    """Records with the line that each begins on; lines that end with `$` go on."""
    begun, held = 0, ""
    for number, raw in enumerate(text.splitlines()[:MOST_LINES], 1):
        line = raw.split("$$", 1)[0].strip()
        if not line and not held:
            continue
        begun = begun or number
        if line.endswith("$"):
            held += line[:-1]
            continue
        yield begun, held + line
        begun, held = 0, ""
    if held:
        yield begun, held


def _said(word: str, rest: str, state: _State) -> str:
    """Take a record in; what it says, in words."""
    if word in QUIET:
        return rest.strip() or word.lower()
    known: dict[str, Callable[[list[str], _State], str]] = {
        "UNITS": _units, "MULTAX": _multax, "TLAXIS": _tlaxis, "CUTTER": _cutter, "LOADTL": _load, "TOOLNO": _load,
        "SPINDL": _spindle, "FEDRAT": _feed, "COOLNT": _coolant, "DELAY": _delay, "RAPID": _rapid, "FROM": _from,
        "GOTO": _goto, "GODLTA": _delta, "CIRCLE": _circle, "CYCLE": _cycle,
    }  # fmt: skip
    if word not in known:
        raise _Wrong(f"the word {word or '(none)'} is not known")
    return known[word]([p.strip().upper() for p in rest.split(",")] if rest.strip() else [], state)


def _numbers(parts: list[str], *counts: int) -> list[float]:
    bad = [p for p in parts if not NUMBER.match(p)]
    if bad:
        raise _Wrong(f"{bad[0] or 'nothing'} is not a number")
    values = [float(p.upper().replace("D", "E")) for p in parts]
    if counts and len(values) not in counts:
        raise _Wrong(f"it has {len(values)} numbers instead of {' or '.join(map(str, counts))}")
    if not all(math.isfinite(v) and abs(v) < 1e7 for v in values):
        raise _Wrong("a number is beyond all machines")
    return values


def _split(parts: list[str]) -> tuple[list[float], list[str]]:
    """Numbers and words of a record."""
    return [float(p.replace("D", "E")) for p in parts if NUMBER.match(p)], [p for p in parts if not NUMBER.match(p)]


def _units(parts: list[str], state: _State) -> str:
    names = {"MM": 1.0, "INCH": INCH_MM, "INCHES": INCH_MM, "CM": 10.0}
    if not parts or parts[0] not in names:
        raise _Wrong(f"{parts[0] if parts else 'nothing'} is not a unit of length")
    state.scale, state.unit = names[parts[0]], parts[0].lower()
    return f"lengths in {parts[0].lower()}"


def _multax(parts: list[str], state: _State) -> str:
    return "the axis may lean" if parts[:1] != ["OFF"] else "the axis stays"


def _direction(values: list[float]) -> Points:
    axis = np.array(values)
    size = float(np.linalg.norm(axis))
    if size < 1e-6:
        raise _Wrong("the axis has no length")
    return axis / size


def _tlaxis(parts: list[str], state: _State) -> str:
    state.axis = _direction(_numbers(parts, 3))
    return "the tool stands along {:.4f}, {:.4f}, {:.4f}".format(*state.axis.tolist())


def _cutter(parts: list[str], state: _State) -> str:
    values = _numbers(parts)
    if not 1 <= len(values) <= 7:
        raise _Wrong(f"it has {len(values)} numbers instead of up to 7")
    values = [*values, *[0.0] * (7 - len(values))]
    lengths = [v * state.scale for v in (*values[:4], values[6])]
    state.cutters.append((*lengths[:4], values[4], values[5], lengths[4]))
    return f"a cutter of {lengths[0]:g} mm, corner {lengths[1]:g} mm"


def _load(parts: list[str], state: _State) -> str:
    numbers, _ = _split(parts)
    if not numbers:
        raise _Wrong("it names no tool")
    state.tools.append(int(numbers[0]))
    return f"tool {int(numbers[0])}"


def _spindle(parts: list[str], state: _State) -> str:
    numbers, words = _split(parts)
    if "OFF" in words:
        state.spindle = 0
        return "the spindle stops"
    state.spindle = -1 if "CCLW" in words else 1
    if numbers:
        state.rpm = numbers[0]
        state.first_rpm = state.first_rpm or numbers[0]
    return f"{state.rpm:g} turns a minute"


def _feed(parts: list[str], state: _State) -> str:
    numbers, words = _split(parts)
    if not numbers or numbers[0] <= 0:
        raise _Wrong("it has no feed above 0")
    named = [w for w in words if w in (*PER_MINUTE, *PER_TURN)]
    state.per_turn = 0.0
    if named and named[0] in PER_TURN:
        state.per_turn = numbers[0] * PER_TURN[named[0]]
        return f"{state.per_turn:g} mm a turn"
    state.feed = numbers[0] * (PER_MINUTE[named[0]] if named else state.scale)
    return f"{state.feed:g} mm/min"


def _coolant(parts: list[str], state: _State) -> str:
    return "coolant " + (parts[0].lower() if parts else "on")


def _delay(parts: list[str], state: _State) -> str:
    (seconds,) = _numbers(parts[:1], 1)
    if state.rows:
        state.dwell[len(state.rows) - 1] = state.dwell.get(len(state.rows) - 1, 0.0) + seconds
    return f"waits {seconds:g} s"


def _rapid(parts: list[str], state: _State) -> str:
    state.rapid = True
    return "the next motion is rapid"


def _from(parts: list[str], state: _State) -> str:
    state.place = _place(parts, state)
    state.rows.append((state.place, state.axis, 0, np.zeros(3), state.axis, Kind.RAPID, 0.0, state.spindle))
    return "begins at X{:.3f} Y{:.3f} Z{:.3f}".format(*state.place.tolist())


def _place(parts: list[str], state: _State) -> Points:
    values = _numbers(parts, 3, 6)
    if len(values) == 6:
        state.axis = _direction(values[3:])
    return np.array(values[:3]) * state.scale


def _goto(parts: list[str], state: _State) -> str:
    point = _place(parts, state)
    if state.cycle is not None:
        return _hole(point, state)
    return _move(point, state)


def _delta(parts: list[str], state: _State) -> str:
    if state.place is None:
        raise _Wrong("nothing says where the tool is before it")
    return _move(state.place + np.array(_numbers(parts, 3)) * state.scale, state)


def _rate(state: _State) -> float:
    feed = state.per_turn * state.rpm if state.per_turn else state.feed
    if feed <= 0:
        raise _Wrong("it cuts before a feed is given")
    return feed


def _move(point: Points, state: _State) -> str:
    motion, centre, normal = int(Motion.LINE), np.zeros(3), state.axis
    if state.circle is not None and state.place is not None:
        centre, normal, radius = state.circle
        state.circle = None
        for end in (state.place, point):
            away = end - centre
            off = abs(float(np.linalg.norm(away - (away @ normal) * normal)) - radius)
            if off > ARC_OFF_MM:
                raise _Wrong(f"an end of the arc is {off:.4f} mm off its circle")
        motion = int(Motion.ARC_CCW)
    first = not state.rows
    rapid = state.rapid or first
    feed = 0.0 if rapid else _rate(state)
    kind = Kind.RAPID if rapid else Kind.CUT
    state.rows.append((point, state.axis, motion, centre, normal, kind, feed, state.spindle))
    state.place, state.rapid = point, False
    how = "rapid" if rapid else ("arc" if motion else "line")
    return "{} to X{:.3f} Y{:.3f} Z{:.3f}".format(how, *point.tolist())


def _circle(parts: list[str], state: _State) -> str:
    values = _numbers(parts, 7)
    if values[6] <= 0:
        raise _Wrong("the circle has no radius")
    if state.place is None:
        raise _Wrong("nothing says where the arc begins")
    state.circle = np.array(values[:3]) * state.scale, _direction(values[3:6]), values[6] * state.scale
    return f"the next motion is an arc of radius {values[6] * state.scale:g} mm"


def _cycle(parts: list[str], state: _State) -> str:
    if parts[:1] == ["OFF"]:
        state.cycle = None
        return "the cycle ends"
    if not parts or parts[0] not in CYCLES:
        raise _Wrong(f"the cycle {parts[0] if parts else '(none)'} is not known")
    named: dict[str, float] = {}
    for name, value in zip(parts[1::2], parts[2::2], strict=False):
        (named[name],) = _numbers([value], 1)
    if named.get("FEDTO", 0.0) <= 0:
        raise _Wrong("it has no depth FEDTO above 0")
    feed = next((named[n] * f for n, f in PER_MINUTE.items() if n in named), state.feed)
    if feed <= 0:
        raise _Wrong("it has no feed")
    depth, clear, step = (named.get(n, 0.0) * state.scale for n in ("FEDTO", "CLEAR", "STEP"))
    state.cycle = parts[0], depth, clear, feed, step, named.get("DWELL", 0.0)
    return f"{parts[0].lower()} {depth:g} mm deep at each place"


def _hole(point: Points, state: _State) -> str:
    """What a cycle does at a place on the surface: over it at rapid, down at feed (in steps), and up again."""
    assert state.cycle is not None
    word, depth, clear, feed, step, dwell = state.cycle
    axis = state.axis

    def go(height: float, rate: float) -> None:
        kind = Kind.RAPID if rate == 0 else Kind.CUT
        state.rows.append((point + height * axis, axis, 0, np.zeros(3), axis, kind, rate, state.spindle))

    go(clear, 0.0)
    gone = 0.0
    while word == "DEEP" and step > 0 and gone + step < depth - SAME_MM:
        gone += step
        go(-gone, feed)
        go(clear, 0.0)
        go(min(-gone + BACK_OFF_MM, clear), 0.0)
    go(-depth, feed)
    if dwell:
        state.dwell[len(state.rows) - 1] = dwell
    go(clear, feed if word == "BORE" else 0.0)
    state.place, state.rapid = point + clear * axis, False
    return "a hole at X{:.3f} Y{:.3f} Z{:.3f}".format(*point.tolist())


def _path(state: _State) -> Toolpath:
    if not state.rows:
        return Toolpath.empty()
    point, axis, motion, centre, normal, kind, feed, spindle = zip(*state.rows, strict=True)
    made = Toolpath.plain(
        np.array(point), np.array(motion, np.int8), np.array(centre), np.array(kind, np.int8), np.array(feed)
    )
    made.axis[:], made.normal[:], made.spindle[:] = np.array(axis), np.array(normal), spindle
    for row, seconds in state.dwell.items():
        made.dwell_s[row] = seconds
    begins = np.diff((made.kind == Kind.CUT).astype(np.int32), prepend=0) == 1
    made.pass_id[:] = np.where(made.kind == Kind.CUT, np.cumsum(begins) - 1, -1)
    return made

"""Statements: what a path says beyond its motions, and that a controller of any kind can say it."""

from ast import literal_eval

import numpy as np
import pytest
from pydantic import BaseModel

from fenrik.core.errors import FenrikError
from fenrik.core.machines import Joint, Machine
from fenrik.core.posting import ControllerState, PostedOperation, WordController, load_dialects, post_programs
from fenrik.core.posting.controller import ReadBack, Written
from fenrik.core.posting.statements import Approach, Change, Compensate, Hole, Pause, Row, Travel, Turn, statements_of
from fenrik.core.toolpath import Kind, Motion, Toolpath
from fenrik.core.tools import FlatCutter, Tool

TILTING = Machine(
    name="Skua",
    joints=[
        *(Joint(name=n, direction=d) for n, d in (("X", (1, 0, 0)), ("Y", (0, 1, 0)), ("Z", (0, 0, 1)))),
        Joint(name="B", kind="rotary", direction=(0, 1, 0), origin=(0, 0, 120), low=-100, high=100),
        Joint(name="C", kind="rotary", direction=(0, 0, 1), carries="work", low=-360, high=360),
    ],
)
TOOL = Tool(number=4, cutter=FlatCutter(diameter_mm=8, flute_length_mm=20), stick_out_mm=30, diameter_offset=14)


def path(n=6, **columns):
    """A straight path of 1 mm steps at 100 mm/min, with some of its columns set."""
    points = np.column_stack([np.arange(n), np.zeros(n), np.zeros(n)]).astype(float)
    made = Toolpath.plain(
        points, np.zeros(n, np.int8), np.zeros((n, 3)), np.full(n, Kind.CUT, np.int8), np.full(n, 100.0)
    )
    for name, values in columns.items():
        getattr(made, name)[:] = values
    return made


def said(path, cycles=(), spindle=1):
    return [type(s).__name__ for s in statements_of(path, np.zeros((len(path), 0)), cycles, spindle)]


def spans(path, cycles=()):
    return [
        (s.first, s.last)
        for s in statements_of(path, np.zeros((len(path), 0)), cycles, 1)
        if isinstance(s, Travel | Hole)
    ]


def test_a_plain_path_is_an_approach_and_a_way():
    assert said(path()) == ["Approach", "Travel"]
    assert spans(path()) == [(1, 6)]


def test_a_pause_stands_after_the_motion_that_it_belongs_to():
    paused = path(dwell_s=[0, 0, 1.5, 0, 0, 0])
    statements = list(statements_of(paused, np.zeros((6, 0)), (), 1))
    assert [type(s) for s in statements] == [Approach, Travel, Pause, Travel]
    assert statements[2].seconds == 1.5
    assert spans(paused) == [(1, 3), (3, 6)]


def test_a_spindle_that_turns_round_is_told_before_the_motion():
    turned = path(spindle=[1, 1, -1, -1, 1, 1])
    statements = list(statements_of(turned, np.zeros((6, 0)), (), 1))
    assert [s.spindle for s in statements if isinstance(s, Turn)] == [-1, 1]
    assert spans(turned) == [(1, 2), (2, 4), (4, 6)]


def test_a_spindle_that_stands_otherwise_before_is_turned_first():
    assert said(path(spindle=[-1] * 6), spindle=1)[:2] == ["Turn", "Approach"]
    assert said(path(spindle=[-1] * 6), spindle=-1)[:2] == ["Approach", "Travel"]


def test_compensation_begins_and_ends_between_motions():
    sided = path(side=[0, 0, 41, 41, 0, 0])
    statements = list(statements_of(sided, np.zeros((6, 0)), (), 1))
    assert [s.side for s in statements if isinstance(s, Compensate)] == [41, 0]
    assert spans(sided) == [(1, 2), (2, 4), (4, 6)]


def drilled(cycle=83):
    """Two holes at x 2 and x 5, 8 deep from a plane at 1, as their cycle makes them."""
    points = np.array([[0, 0, 9], [2, 0, 1], [2, 0, -8], [2, 0, 1], [5, 0, 1], [5, 0, -8], [5, 0, 1]], float)
    feed = np.array([0, 0, 120, 0, 0, 120, 0.0])
    made = Toolpath.plain(points, np.zeros(7, np.int8), np.zeros((7, 3)), np.full(7, Kind.CUT, np.int8), feed)
    made.cycle[1:], made.hole[1:], made.peck_mm[1:] = cycle, [0, 0, 0, 1, 1, 1], 2.5
    made.dwell_s[[2, 5]] = 0.4
    return made


def test_holes_are_said_by_a_cycle_where_the_controller_has_it():
    holes = [s for s in statements_of(drilled(), np.zeros((7, 0)), (83,), 1) if isinstance(s, Hole)]
    assert [(h.place, h.bottom, h.plane, h.peck_mm, h.dwell_s, h.feed) for h in holes] == [
        ((2.0, 0.0), -8.0, 1.0, 2.5, 0.4, 120.0),
        ((5.0, 0.0), -8.0, 1.0, 2.5, 0.4, 120.0),
    ]
    assert spans(drilled(), (83,)) == [(1, 4), (4, 7)]


def test_holes_are_said_motion_by_motion_where_it_has_not():
    statements = list(statements_of(drilled(), np.zeros((7, 0)), (81,), 1))
    assert not [s for s in statements if isinstance(s, Hole)]
    assert [s.seconds for s in statements if isinstance(s, Pause)] == [0.4, 0.4]
    assert np.concatenate([np.arange(a, b) for a, b in spans(drilled(), (81,))]).tolist() == [1, 2, 3, 4, 5, 6]


class Told(BaseModel):
    """A controller of another kind: a sentence for each statement, a line for each motion."""

    suffix: str = ".say"
    resolution_mm: float = 0.01
    arcs: str = "centre"
    cycles: list[int] = [83]
    program_for_each_tool: bool = False
    extended_offsets: bool = False
    speaks_joints: bool = True
    holds: str = "joints"
    most_lines: int = 0
    drives_arms: bool = False

    @property
    def document(self):
        return self

    def write(self, program):
        told, lines = [f"begin {program.name} at {program.work_offset} with {program.tool.number}"], []
        for statement in program.statements:
            match statement:
                case Change(tool):
                    told.append(f"take {tool.number}, offset {tool.diameter_offset}, {tool.rpm} turns")
                case Row(number, name):
                    told.append(f"row {number} {name}")
                case Approach(place, joints):
                    told.append(f"go {place.tolist()} by {joints.tolist()}")
                    lines.append([len(told) - 1])
                case Hole():
                    told.append(f"hole {statement.place} to {statement.bottom}")
                    lines[-1] += [len(told) - 1] * (statement.last - statement.first)
                case Travel(path, first, last, joints):
                    for k in range(first, last):
                        way = Motion(int(path.motion[k])).name
                        told.append(f"move {path.point[k].tolist()} {way} by {joints[k].tolist()}")
                        lines[-1].append(len(told) - 1)
                case other:
                    told.append(str(other))
        return Written("\n".join([*told, ""]).encode(), [np.array(k) for k in lines])

    def read(self, text, before):
        """Values of the joints alone; where the tool is follows from the machine."""
        said = [(n, t.rpartition(" by ")[2]) for n, t in enumerate(text.decode().split("\n")) if " by " in t]
        joints = np.array([literal_eval(values) for _, values in said])
        pose = before.machine.chain(before.lengths_mm[before.tool]).forward(joints)
        n = len(joints)
        return ReadBack(
            point=pose.point, axis=pose.axis, joints=joints, code=np.ones(n, np.int8), centre=np.zeros((n, 3)),
            plane=np.full(n, 17, np.int8), feed=np.full(n, 100.0), seconds=np.zeros(n),
            tool=np.full(n, before.tool, np.int32), offset=np.full(n, 55, np.int16),
            length_offset=np.full(n, 4, np.int32), rpm=np.full(n, 5000.0), spindle=np.ones(n, np.int8),
            side=np.zeros(n, np.int8), line=np.array([n for n, _ in said]), known=np.ones((n, 3), bool),
        )  # fmt: skip


@pytest.fixture(scope="module")
def told():
    rows = [
        PostedOperation(10, "holes", TOOL, 5000, drilled()),
        PostedOperation(20, "way", TOOL, 5000, path(spindle=[1, 1, 1, -1, -1, -1])),
        PostedOperation(30, "still so", TOOL, 5000, path(spindle=[-1] * 6)),
        PostedOperation(40, "way back", TOOL, 5000, path()),
    ]
    return post_programs(Told(), TILTING, rows, "skarrow", 55)[0]


def test_a_controller_of_another_kind_gets_the_same_statements(told):
    text = told.text.decode().split("\n")
    assert told.name == "skarrow.say"
    assert text[:3] == ["begin skarrow at 55 with 4", "take 4, offset 14, 5000 turns", "row 10 holes"]
    assert [t for t in text if t.startswith("hole")] == ["hole (2.0, 0.0) to -8.0", "hole (5.0, 0.0) to -8.0"]
    assert sum(t.startswith("take") for t in text) == 1


def test_the_spindle_is_followed_from_row_to_row(told):
    """Row 20 ends with the spindle the other way round, row 30 goes on so, and row 40 has to turn it."""
    turns = [t for t in told.text.decode().split("\n") if t.startswith("Turn")]
    assert turns == ["Turn(spindle=-1)", "Turn(spindle=1)"]


def test_each_motion_knows_its_line(told):
    text = told.text.decode().split("\n")
    for lines, posted in zip(told.line_of_motion, told.paths, strict=True):
        for k, line in enumerate(lines.tolist()):
            if text[line].startswith("move"):
                assert str(posted.point[k].tolist()) in text[line]
    assert len(told.line_of_motion[0]) == 7


def leaning(n=9):
    """A way on which the tool leans over more and more, and to all sides."""
    turn, tilt = np.linspace(0, 1.5 * np.pi, n), np.linspace(0, 1.2, n)
    way = path(n)
    way.axis[:] = np.column_stack([np.sin(tilt) * np.cos(turn), np.sin(tilt) * np.sin(turn), np.cos(tilt)])
    return way


def test_a_controller_that_is_told_joints_gives_back_the_poses():
    """Written as values of five joints and read as such: places and axes come back, with the length of the tool."""
    way = leaning()
    (program,) = post_programs(Told(), TILTING, [PostedOperation(10, "lean", TOOL, 5000, way)], "skarrow", 55)
    before = ControllerState(TILTING, TOOL.number, {TOOL.number: TOOL.assembly_mm}, {})
    read = Told().read(program.text, before)
    (posted,) = program.paths
    assert read.point == pytest.approx(posted.point, abs=1e-6)
    assert read.axis == pytest.approx(posted.axis, abs=1e-9)
    # Every pose of the way is among them, in its order; the rows between are those that the joints need.
    at = [
        int(np.abs(np.hstack([read.point - p, read.axis - a])).max(axis=1).argmin())
        for p, a in zip(way.point, way.axis, strict=True)
    ]
    assert read.point[at] == pytest.approx(way.point, abs=1e-6)
    assert read.axis[at] == pytest.approx(way.axis, abs=1e-9)
    assert at == sorted(at)
    assert np.ptp(read.joints[:, 3]) == pytest.approx(np.rad2deg(1.2), abs=1e-6)
    shorter = ControllerState(TILTING, TOOL.number, {TOOL.number: TOOL.assembly_mm - 10}, {})
    assert np.linalg.norm(Told().read(program.text, shorter).point - posted.point, axis=1).max() > 5


def test_words_refuse_a_tool_that_leans():
    """Written without its axis the program would cut upright, at the places of a tool that leans."""
    for dialect in (d for d in load_dialects().values() if not d.turns):
        with pytest.raises(FenrikError, match="no words for a tool that leans"):
            post_programs(
                WordController(dialect), TILTING, [PostedOperation(10, "lean", TOOL, 5000, leaning())], "x", 54
            )


def test_words_refuse_a_hole_that_leans():
    """Also where a cycle stands for all its motions."""
    hole = drilled()
    hole.axis[:] = [0.6, 0, 0.8]
    for dialect in (d for d in load_dialects().values() if not d.turns):
        with pytest.raises(FenrikError, match="no words for a tool that leans"):
            post_programs(WordController(dialect), TILTING, [PostedOperation(10, "lean", TOOL, 5000, hole)], "x", 54)

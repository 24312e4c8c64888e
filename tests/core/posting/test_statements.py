"""Statements: what a path says beyond its motions, and that a controller of any kind can say it."""

import numpy as np
import pytest
from pydantic import BaseModel

from fenrik.core.posting import PostedOperation, post_programs
from fenrik.core.posting.controller import Written
from fenrik.core.posting.statements import Approach, Change, Compensate, Hole, Pause, Row, Travel, Turn, statements_of
from fenrik.core.toolpath import Kind, Motion, Toolpath
from fenrik.core.tools import FlatCutter, Tool

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
    return [type(s).__name__ for s in statements_of(path, cycles, spindle)]


def spans(path, cycles=()):
    return [(s.first, s.last) for s in statements_of(path, cycles, 1) if isinstance(s, Travel | Hole)]


def test_a_plain_path_is_an_approach_and_a_way():
    assert said(path()) == ["Approach", "Travel"]
    assert spans(path()) == [(1, 6)]


def test_a_pause_stands_after_the_motion_that_it_belongs_to():
    paused = path(dwell_s=[0, 0, 1.5, 0, 0, 0])
    statements = list(statements_of(paused, (), 1))
    assert [type(s) for s in statements] == [Approach, Travel, Pause, Travel]
    assert statements[2].seconds == 1.5
    assert spans(paused) == [(1, 3), (3, 6)]


def test_a_spindle_that_turns_round_is_told_before_the_motion():
    turned = path(spindle=[1, 1, -1, -1, 1, 1])
    statements = list(statements_of(turned, (), 1))
    assert [s.spindle for s in statements if isinstance(s, Turn)] == [-1, 1]
    assert spans(turned) == [(1, 2), (2, 4), (4, 6)]


def test_a_spindle_that_stands_otherwise_before_is_turned_first():
    assert said(path(spindle=[-1] * 6), spindle=1)[:2] == ["Turn", "Approach"]
    assert said(path(spindle=[-1] * 6), spindle=-1)[:2] == ["Approach", "Travel"]


def test_compensation_begins_and_ends_between_motions():
    sided = path(side=[0, 0, 41, 41, 0, 0])
    statements = list(statements_of(sided, (), 1))
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
    holes = [s for s in statements_of(drilled(), (83,), 1) if isinstance(s, Hole)]
    assert [(h.place, h.bottom, h.plane, h.peck_mm, h.dwell_s, h.feed) for h in holes] == [
        ((2.0, 0.0), -8.0, 1.0, 2.5, 0.4, 120.0),
        ((5.0, 0.0), -8.0, 1.0, 2.5, 0.4, 120.0),
    ]
    assert spans(drilled(), (83,)) == [(1, 4), (4, 7)]


def test_holes_are_said_motion_by_motion_where_it_has_not():
    statements = list(statements_of(drilled(), (81,), 1))
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
                case Approach(place):
                    told.append(f"go {place.tolist()}")
                    lines.append([len(told) - 1])
                case Hole():
                    told.append(f"hole {statement.place} to {statement.bottom}")
                    lines[-1] += [len(told) - 1] * (statement.last - statement.first)
                case Travel(path, first, last):
                    for k in range(first, last):
                        told.append(f"move {path.point[k].tolist()} {Motion(int(path.motion[k])).name}")
                        lines[-1].append(len(told) - 1)
                case other:
                    told.append(str(other))
        return Written("\n".join([*told, ""]).encode(), [np.array(k) for k in lines])


@pytest.fixture(scope="module")
def told():
    rows = [
        PostedOperation(10, "holes", TOOL, 5000, drilled()),
        PostedOperation(20, "way", TOOL, 5000, path(spindle=[1, 1, 1, -1, -1, -1])),
        PostedOperation(30, "still so", TOOL, 5000, path(spindle=[-1] * 6)),
        PostedOperation(40, "way back", TOOL, 5000, path()),
    ]
    return post_programs(Told(), rows, "skarrow", 55)[0]


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

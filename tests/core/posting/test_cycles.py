"""Canned cycles: every one read back equals the long-hand motion (RS274/NGC cycle motion)."""

import numpy as np
import pytest

from fenrik.core.errors import FenrikError
from fenrik.core.machines import Machine
from fenrik.core.posting import (
    PostedOperation,
    WordController,
    load_dialects,
    post_programs,
    read_program,
    rows_of_lines,
)
from fenrik.core.strategies.back_boring import BackBore, bore_back
from fenrik.core.strategies.drilling import CYCLES, Pecks, drill_hole
from fenrik.core.strategies.targets import HolePlace
from fenrik.core.toolpath import Feeds, PathBuilder, SafePlane
from fenrik.core.tools import Drill, Tool
from fenrik.core.tools.cutters import BackBoringBar

TOOL = Tool(number=3, cutter=Drill(diameter_mm=5, flute_length_mm=60), stick_out_mm=80)
HOLES = [(0.0, 0.0, -12.0), (10.0, 0.0, -12.0), (20.0, 5.0, -12.0), (20.0, 15.0, -22.5)]


def path_of(cycle, heights=(2.0, 2.0, 2.0, 8.0)):
    if cycle == "back boring":
        return bored_back()
    b = PathBuilder(Feeds(300, 200, 1000), SafePlane.at_height(25.0), 15.0)
    b.spindle = -1 if cycle == "tap, left hand" else 1
    for k, ((x, y, z), height) in enumerate(zip(HOLES, heights, strict=True)):
        if b.place is not None and height > b.place[2]:
            b.retract(height)
        drill_hole(b, cycle, k, np.array([x, y]), 2.0, z, feed=240.0, pecks=Pecks(3.0), dwell_s=0.5)
    return b.finish()


def bored_back():
    """Two holes bored back from −6 to −2, the tool going in 2.5 beside their axes."""
    b = PathBuilder(Feeds(240, 200, 1000), SafePlane.at_height(25.0), 15.0)
    bar = BackBoringBar(diameter_mm=18, bar_diameter_mm=8, flute_length_mm=6, edge_deg=90)
    for k, (x, y, _) in enumerate(HOLES[:2]):
        place = HolePlace(x, y, 0.0, -20.0, -20.0, 14.0, True, "hole")
        bore_back(b, k, BackBore(place, 2.0, -27.0, -21.0), bar, 240.0)
    return b.finish()


def posted(cycle, dialect_name, cycles=None):
    dialect = load_dialects()[dialect_name]
    if cycles is not None:
        dialect = dialect.model_copy(update={"cycles": cycles})
    return dialect, post_programs(
        WordController(dialect), Machine(name="M"), [PostedOperation(10, "holes", TOOL, 4000, path_of(cycle))], "x", 54
    )[0]


@pytest.mark.parametrize("name", ["Plain ISO", "Numbered with tool stop"])
@pytest.mark.parametrize("cycle", [*CYCLES, "back boring"])
def test_each_cycle_read_back_is_the_long_hand_motion(cycle, name):
    dialect, program = posted(cycle, name)
    word = CYCLES.get(cycle, 87)
    if word in dialect.cycles or not word:
        assert f"G{word}".encode() in program.text
    else:
        assert program.text.count(b"M19") == 4  # long-hand: in and out of two holes
    read = read_program(program.text)
    path = program.paths[0]
    row = rows_of_lines(program.line_of_motion[0], read.line)
    assert len(read.line) == len(path) + 1  # the first move is two lines
    assert np.abs(read.point[row] - path.point).max() <= dialect.resolution_mm / 2 + 1e-9
    assert np.array_equal(read.code[row] > 0, path.feed > 0)
    assert np.abs(read.feed[row] - path.feed).max() < 0.5
    assert np.array_equal(read.spindle[row], path.spindle)
    assert read.seconds.sum() == pytest.approx(path.dwell_s.sum())
    assert np.unique(row).size == len(row)


@pytest.mark.parametrize("cycle", [*CYCLES, "back boring"])
def test_long_hand_says_the_same_as_the_cycle(cycle):
    _, canned = posted(cycle, "Plain ISO")
    _, plain = posted(cycle, "Plain ISO", [])
    a, b = read_program(canned.text), read_program(plain.text)
    assert b"G8" not in plain.text.replace(b"G80", b"")
    assert np.allclose(a.point, b.point)
    assert np.array_equal(a.code, b.code)
    assert np.array_equal(a.spindle, b.spindle)
    assert a.seconds.sum() == pytest.approx(b.seconds.sum())


def test_holes_alike_are_one_word_each():
    _, program = posted("drill", "Plain ISO")
    lines = program.text.decode().splitlines()
    at = next(k for k, text in enumerate(lines) if "G81" in text)
    assert lines[at] == "G99 G81 X0 Y0 Z-12. R2. F240" or lines[at].startswith("G99 G81 X0")
    assert lines[at + 1] == "X10. Y0."


def test_back_boring_is_the_motion_of_the_report():
    """RS274/NGC, cycle G87: beside the hole, stop in place, down, to the axis, start, up to K, down, and out again."""
    text = b"G21 G90 G0 X0 Y0 Z30\nS500 M3\nG99 G87 X5 Y6 Z-40 R2 I-3 J1 K-33 F90\nX25\nG80\nM2\n"
    read = read_program(text)
    hole = [
        (5, 6, 30, 1, 0), (5, 6, 2, 1, 0), (2, 7, 2, 1, 0), (2, 7, -40, 2, 0), (5, 6, -40, 2, 0), (5, 6, -33, 1, 90),
        (5, 6, -40, 1, 90), (2, 7, -40, 2, 0), (2, 7, 2, 2, 0), (5, 6, 2, 2, 0),
    ]  # fmt: skip
    rows = np.column_stack([read.point, read.spindle, read.feed])
    assert rows[1:11].tolist() == [list(map(float, r)) for r in hole]
    assert rows[11:, 0].tolist() == [25, 22, 22, 25, 25, 25, 22, 22, 25]


def test_a_controller_that_cannot_stop_the_spindle_in_its_place_is_named():
    with pytest.raises(FenrikError, match="stops the spindle in its place"):
        posted("back boring", "Small router")


def test_g98_goes_back_to_the_initial_plane_and_g91_is_refused():
    text = b"G21 G90 G0 X0 Y0 Z30\nG98 G81 X5 Y5 Z-4 R2 F100\nX9\nG80\nM2\n"
    read = read_program(text)
    assert read.point[:, 2].tolist() == [30, 30, 2, -4, 2, 30, 30, 2, -4, 2, 30]
    with pytest.raises(FenrikError, match="G91"):
        read_program(b"G0 X0 Y0 Z9\nG91 G81 X1 Y1 Z-4 R2 F100\nM2\n")


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("G81 X1 Y1 Z-4 F100", "depth Z or its plane R"),
        ("G81 X1 Z4 R2 F100", "above"),
        ("G83 X1 Z-4 R2 F100", "peck"),
        ("G82 X1 Z-4 R2", "feed"),
        ("G87 X1 Z-4 R2 I1 F100", "height K"),
        ("G87 X1 Z-4 R2 I1 K-9 F100", "height K"),
    ],
)
def test_incomplete_cycles_are_named(line, words):
    with pytest.raises(FenrikError, match=words):
        read_program(f"G0 X0 Y0 Z9\n{line}\nM2\n".encode())


def test_peck_backs_off_as_in_the_nist_report():
    # RS274/NGC: full retract to R, rapid back to 0.010 in over the bottom reached.
    read = read_program(b"G21 G0 X0 Y0 Z5\nG99 G83 Z-6 R1 Q4 F100\nG80\nM2\n")
    assert np.allclose(read.point[:, 2], [5, 1, -3, 1, -3 + 0.254, -6, 1])


@pytest.mark.parametrize("name", ["Plain ISO", "Numbered with tool stop"])
def test_the_same_cycle_is_said_whole_again_after_a_way_between(name):
    """What a cycle's words said ends with G80, so that the next hole needs them all."""
    b = PathBuilder(Feeds(300, 200, 1000), SafePlane.at_height(25.0), 15.0)
    for k, (x, y, z) in enumerate(HOLES[:2]):
        drill_hole(b, "peck", k, np.array([x, y]), 2.0, z, feed=240.0, pecks=Pecks(3.0), dwell_s=0.0)
        b.retract(5.0)
        b.cut(np.array([[x + 3.0, y, 5.0], [x + 3.0, y + 2.0, 5.0]]))
    path = b.finish()
    controller = WordController(load_dialects()[name])
    program = post_programs(controller, Machine(name="M"), [PostedOperation(10, "holes", TOOL, 4000, path)], "x", 54)[0]
    read = read_program(program.text, TOOL.number)
    row = rows_of_lines(program.line_of_motion[0], read.line)
    assert np.abs(read.point[row] - path.point).max() <= controller.resolution_mm / 2 + 1e-9
    cutting = path.feed > 0
    assert read.feed[row][cutting] == pytest.approx(path.feed[cutting], abs=0.5)

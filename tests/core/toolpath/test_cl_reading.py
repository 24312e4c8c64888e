"""Cutter location text: ISO 3592 / 4343 words read, what is not understood told by line, written text read back."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from fenrik.core.errors import FenrikError
from fenrik.core.posting.cl import cutter_location
from fenrik.core.toolpath import Kind, Motion, Toolpath
from fenrik.core.toolpath.cl_reading import Edit, edited, read_cl
from fenrik.core.tools import BallCutter, Tool

TEXT = """\
PARTNO/ RING, FIRST SIDE   $$ the ring
UNITS/ MM
MULTAX/ ON
CUTTER/ 8.0,4.0,0,4.0,0,0,30
LOADTL/ 7
SPINDL/ 6000,RPM,CLW
COOLNT/ ON
FROM/ 0,0,50
RAPID
GOTO/ 10,0,20,0,0,1
FEDRAT/ 250,MMPM
GOTO/ 10,0, $
 5,0,0,1
CIRCLE/ 0,0,5,0,0,1,10
GOTO/ 0,10,5
TLAXIS/ 0,0.6,0.8
GODLTA/ -5,0,0
DELAY/ 1.5
FEDRAT/ 0.1,MMPR
GOTO/ -5,20,5
FINI
"""


def test_records_become_motions():
    read = read_cl(TEXT)
    assert [r.text for r in read.wrong] == []
    assert (read.unit, read.tools, read.rpm) == ("mm", [7], 6000.0)
    assert read.cutters == [(8.0, 4.0, 0.0, 4.0, 0.0, 0.0, 30.0)]
    path = read.path
    assert path.point.tolist() == [[0, 0, 50], [10, 0, 20], [10, 0, 5], [0, 10, 5], [-5, 10, 5], [-5, 20, 5]]
    assert path.kind.tolist() == [Kind.RAPID, Kind.RAPID, Kind.CUT, Kind.CUT, Kind.CUT, Kind.CUT]
    assert path.feed.tolist() == [0, 0, 250, 250, 250, pytest.approx(600.0)]
    assert path.motion.tolist() == [0, 0, 0, Motion.ARC_CCW, 0, 0]
    assert path.axis[3] == pytest.approx([0, 0, 1])
    assert path.axis[4] == pytest.approx([0, 0.6, 0.8])
    assert path.dwell_s.tolist() == [0, 0, 0, 0, 1.5, 0]
    assert path.lengths()[3] == pytest.approx(10 * math.pi / 2)
    # Each record that moves knows the row it ends with; a joined line counts from where it begins.
    joined = next(r for r in read.records if r.line == 12)
    assert (joined.word, joined.motion) == ("GOTO", 2)


@pytest.mark.parametrize(
    ("line", "why"),
    [
        ("GOTO/ 1,2", "2 numbers instead of 3 or 6"),
        ("GOTO/ 1,2,X", "X is not a number"),
        ("GOTO/ 1,2,3,0,0,0", "the axis has no length"),
        ("GOTO/ 1,2,1E99", "beyond all machines"),
        ("WHIRL/ 3", "the word WHIRL is not known"),
        ("FEDRAT/ -5", "no feed above 0"),
        ("FEDRAT/ ABC", "no feed above 0"),
        ("UNITS/ FURLONG", "FURLONG is not a unit"),
        ("LOADTL/ NEXT", "names no tool"),
        ("CUTTER/ 1,2,3,4,5,6,7,8", "8 numbers instead of up to 7"),
        ("CIRCLE/ 0,0,0,0,0,1,0", "the circle has no radius"),
        ("CYCLE/ WOBBLE,FEDTO,3", "the cycle WOBBLE is not known"),
        ("CYCLE/ DRILL,CLEAR,3", "no depth FEDTO"),
        ("DELAY/ SOON", "SOON is not a number"),
        ("TLAXIS/ 1,2", "2 numbers instead of 3"),
    ],
)
def test_what_is_not_understood_is_told_by_line_and_the_rest_is_read(line, why):
    lines = TEXT.split("\n")
    lines.insert(10, line)
    read = read_cl("\n".join(lines))
    (wrong,) = read.wrong
    assert wrong.line == 11
    assert why in wrong.wrong
    assert len(read.path) == 6


def test_an_arc_that_misses_its_circle_and_a_cut_without_a_feed_are_told():
    read = read_cl(TEXT.replace("GOTO/ 0,10,5", "GOTO/ 0,10.5,5"))
    assert "0.5000 mm off its circle" in read.wrong[0].wrong
    read = read_cl("UNITS/MM\nFROM/0,0,0\nGOTO/1,0,0\nFINI\n")
    assert "before a feed is given" in read.wrong[0].wrong


def test_inches_are_exact():
    read = read_cl("UNITS/INCH\nFROM/0,0,1\nFEDRAT/10,IPM\nGOTO/1,0,1\nFEDRAT/5\nGOTO/1,1,1\n")
    assert read.path.point[1].tolist() == [25.4, 0, 25.4]
    assert read.path.feed.tolist() == [0, 254.0, 127.0]


def test_holes_go_along_the_axis_as_deep_as_told():
    """ISO 4343: CYCLE/DRILL,FEDTO: depth below the place; CLEAR: above it."""
    text = (
        "UNITS/MM\nFROM/0,0,40\nTLAXIS/0,0.6,0.8\nCYCLE/DEEP,FEDTO,10,MMPM,120,CLEAR,2,STEP,4\nGOTO/5,0,0\nCYCLE/OFF\n"
    )
    read = read_cl(text)
    assert not read.wrong
    axis = np.array([0, 0.6, 0.8])
    along = (read.path.point[1:] - [5, 0, 0]) @ axis
    cutting = read.path.kind[1:] == Kind.CUT
    assert along[cutting] == pytest.approx([-4, -8, -10])
    assert along[0] == along[-1] == pytest.approx(2.0)
    assert np.linalg.norm(read.path.point[1:] - [5, 0, 0] - along[:, None] * axis, axis=1).max() < 1e-9


@settings(max_examples=25, deadline=None)
@given(seed=some.integers(0, 10_000))
def test_what_fenrik_writes_comes_back(seed):
    rng = np.random.default_rng(seed)
    n = int(rng.integers(3, 40))
    feed = rng.choice([0.0, 200.0, 900.0], n)
    feed[0] = 0.0
    kind = np.where(feed > 0, Kind.CUT, Kind.RAPID).astype(np.int8)
    path = Toolpath.plain(rng.uniform(-90, 90, (n, 3)), np.zeros(n, np.int8), np.zeros((n, 3)), kind, feed)
    axis = rng.normal(size=(n, 3)) + [0, 0, 3]
    path.axis[:] = axis / np.linalg.norm(axis, axis=1, keepdims=True)
    tool = Tool(number=9, cutter=BallCutter(diameter_mm=6, flute_length_mm=20), stick_out_mm=40)
    read = read_cl(cutter_location(10, "any name", tool, 5000.0, path))
    assert not read.wrong
    assert read.path.point == pytest.approx(path.point, abs=1e-6)
    assert read.path.axis == pytest.approx(path.axis, abs=2e-6)
    assert read.path.feed == pytest.approx(path.feed)


@settings(max_examples=60, deadline=None)
@given(text=some.text(alphabet="GOTFRMCILE/,.-0123456789 $\n\tE", max_size=400))
def test_any_text_is_read_without_an_error(text):
    read = read_cl(text)
    assert np.isfinite(read.path.point).all()


def test_lines_are_corrected_dropped_and_put_in_one_after_another():
    text = "UNITS/MM\nGOTO/1,0,0\nWRONG/\nGOTO/2,0,0"
    edits = [
        Edit(act="drop", line=3),
        Edit(act="put in after", line=1, text="FEDRAT/100"),
        Edit(line=3, text="GOTO/1,1,0"),
    ]
    assert edited(text, edits).split("\n") == ["UNITS/MM", "FEDRAT/100", "GOTO/1,1,0", "GOTO/2,0,0"]
    with pytest.raises(FenrikError, match="names line 9 of 4"):
        edited(text, [Edit(act="drop", line=9)])

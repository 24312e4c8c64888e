"""Programs of machines that turn, with the tip held by the control and without: written, read back, compared with what was meant.

The frustum is that of NAS 979 (ISO 10791-7): a cone of 15° half angle that leans by 10°, cut with the flank.
"""

import re

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from fenrik.core.errors import FenrikError
from fenrik.core.machines import Clamped, Joint, Machine
from fenrik.core.posting import ControllerState, PostedOperation, WordController, load_dialects, post_programs
from fenrik.core.toolpath import Kind, Toolpath
from fenrik.core.toolpath.safe import SafeSphere
from fenrik.core.tools import FlatCutter, Tool

X, Y, Z = (
    Joint(name=n, direction=d, low=-600, high=600, speed=24_000)
    for n, d in (("X", (1, 0, 0)), ("Y", (0, 1, 0)), ("Z", (0, 0, 1)))
)
A = Joint(
    name="A", kind="rotary", carries="work", direction=(1, 0, 0), origin=(0, 0, 55), low=-110, high=110, speed=9000
)
C = Joint(name="C", kind="rotary", carries="work", direction=(0, 0, 1), low=-360, high=360, speed=18_000)
MACHINE = Machine(name="Razorbill", joints=[X, Y, Z, A, C])
TOOL = Tool(number=3, cutter=FlatCutter(diameter_mm=16, flute_length_mm=40), stick_out_mm=60)
CLAMPED = Clamped((35.0, -20.0, 40.0), SafeSphere(np.array([0.0, 0.0, 10.0]), 110.0))
BEFORE = ControllerState(MACHINE, TOOL.number, {TOOL.number: TOOL.assembly_mm}, {}, CLAMPED.at)
TURNING = [name for name, d in load_dialects().items() if d.turns]


def flank(turns=1.0, rows=91):
    t = np.linspace(0, 2 * np.pi * turns, rows)
    out = np.column_stack([np.cos(t), np.sin(t), np.zeros(rows)])
    lean, half = Rotation.from_euler("y", 10, degrees=True), np.deg2rad(15)
    point, axis = lean.apply(48.0 * out), lean.apply([0, 0, np.cos(half)] - np.sin(half) * out)
    # In from above and out again.
    point = np.vstack([point[0] + 60 * axis[0], point, point[-1] + 60 * axis[-1]])
    axis = np.vstack([axis[:1], axis, axis[-1:]])
    n = len(point)
    kind = np.full(n, Kind.CUT, np.int8)
    kind[[0, 1, -1]] = Kind.RAPID, Kind.ENTRY, Kind.RETRACT
    made = Toolpath.plain(point, np.zeros(n, np.int8), np.zeros((n, 3)), kind, np.full(n, 800.0))
    made.axis[:] = axis
    made.feed[[0, -1]] = 0.0
    return made


def post(name, path, tolerance=0.02):
    controller = WordController(load_dialects()[name])
    rows = [PostedOperation(10, "cone", TOOL, 6000, path, tolerance)]
    (program,) = post_programs(controller, MACHINE, rows, "cone", 54, CLAMPED)
    return controller, program


@pytest.mark.parametrize("name", TURNING)
def test_the_frustum_is_read_back_as_it_was_meant(name):
    path = flank()
    controller, program = post(name, path)
    read = controller.read(program.text, BEFORE)
    (posted,), (lines,) = program.paths, program.line_of_motion
    row = np.searchsorted(read.line, lines, "right") - 1
    assert np.linalg.norm(read.point[row] - posted.point, axis=1).max() < 6e-4
    assert np.abs(read.axis[row] - posted.axis).max() < 3e-6
    cutting = posted.feed > 0
    assert read.feed[row][cutting] == pytest.approx(posted.feed[cutting], rel=0.02)
    # Each joint between its ends, none jumps.
    for joint, values in zip(MACHINE.joints, read.joints[row[1:]].T, strict=True):
        assert values.min() >= joint.low
        assert values.max() <= joint.high
    # Between rows the joints go evenly (the tip on its line where it is held): the flank stays within the tolerance of
    # the cone. Distance of points of the cutter's side from the cone's surface, in closed form.
    lean, half = Rotation.from_euler("y", 10, degrees=True), np.deg2rad(15)
    chain, worst = MACHINE.chain(TOOL.assembly_mm, CLAMPED.at), 0.0
    inner = np.flatnonzero(posted.kind == Kind.CUT)[1:]
    for share in np.linspace(0, 1, 5):
        joints = read.joints[row[inner - 1]] + share * (read.joints[row[inner]] - read.joints[row[inner - 1]])
        pose = chain.forward(joints)
        tip = pose.point
        if controller.holds == "tip":
            tip = read.point[row[inner - 1]] + share * (read.point[row[inner]] - read.point[row[inner - 1]])
        for up in (0.0, 20.0, 40.0):
            here = lean.inv().apply(tip + up * pose.axis)
            # The axis lies on a cone 48 from its middle at the tip: how far off this place of it is, square to it.
            radial = np.hypot(here[:, 0], here[:, 1]) - (48.0 - here[:, 2] * np.tan(half))
            worst = max(worst, np.abs(radial * np.cos(half)).max())
    # The meant way itself has chords of 4° between its rows: 48·(1 − cos 2°).
    assert worst < 48 * (1 - np.cos(np.deg2rad(2))) + 0.02


def test_the_two_ways_say_the_same():
    read = []
    for name in TURNING:
        controller, program = post(name, flank(), 0.004)
        back = controller.read(program.text, BEFORE)
        read.append((back.point[back.known.all(axis=1)], back.axis[back.known.all(axis=1)]))
    for point, axis in zip(flank().point, flank().axis, strict=True):
        for p, a in read:
            assert np.linalg.norm(np.hstack([p - point, a - axis]), axis=1).min() < 1e-3


def test_words_of_joints_are_those_of_the_machine():
    """One line worked out by SciPy: the place in the work turned by C, then by A, about the table's own axes."""
    _, program = post("Five axes, joint by joint", flank())
    text = program.text.decode()
    line = re.search(r"X(\S+) Y(\S+) Z(\S+) A(\S+) C(\S+) F", text)
    x, y, z, a, c = (float(v) for v in line.groups())
    at, pivot = np.array(CLAMPED.at), np.array([0, 0, 55.0])
    stands = at + [x, y, z]  # over the table's middle: the tip, straight down
    turned = Rotation.from_euler("x", a, degrees=True)
    back = Rotation.from_euler("z", c, degrees=True).inv().apply(turned.inv().apply(stands - pivot) + pivot) - at
    axis = Rotation.from_euler("z", c, degrees=True).inv().apply(turned.inv().apply([0, 0, 1.0]))
    (posted,) = program.paths
    off = np.linalg.norm(posted.point - back, axis=1) + np.linalg.norm(posted.axis - axis, axis=1)
    assert off.min() < 1e-3


def test_the_rotary_joints_turn_away_from_the_work_before_the_first_move():
    for name in TURNING:
        lines = post(name, flank())[1].text.decode().split("\n")
        first = next(k for k, text in enumerate(lines) if " A" in text or text.startswith("A"))
        assert lines[first].startswith("G0 A")
        assert "Z" not in lines[first]
        assert lines[first - 2 : first] == ["G91 G28 Z0", "G90"]


def test_the_tip_is_held_while_the_tool_leans_and_no_longer():
    lines = post("Five axes, tip held", flank())[1].text.decode().split("\n")
    on, off = lines.index("G246 H3"), lines.index("G247")
    assert on < off
    assert not any(re.search(r"[AC]-?\d", text) for text in lines[off:])
    assert all("F0." not in text for text in lines)


def test_inverse_time_holds_for_its_lines_only():
    lines = post("Five axes, joint by joint", flank())[1].text.decode().split("\n")
    mode, seen = 94, 0
    for text in lines:
        if text in ("G93", "G94"):
            mode = int(text[1:])
        elif mode == 93 and re.match(r"(G1 )?[XYZAC]", text):
            assert " F" in text or text.startswith("G0")
            seen += 1
    assert mode == 94
    assert seen > 50


def test_a_table_that_comes_to_its_end_is_posted_and_read_back():
    for name in TURNING:
        controller, program = post(name, flank(turns=2.7, rows=250))
        read = controller.read(program.text, BEFORE)
        (posted,), (lines,) = program.paths, program.line_of_motion
        row = np.searchsorted(read.line, lines, "right") - 1
        assert np.linalg.norm(read.point[row] - posted.point, axis=1).max() < 6e-4
        assert np.abs(read.joints[:, 4]).max() <= 360
        assert (posted.kind == Kind.APPROACH).sum() >= 1


def test_poses_beyond_the_joints_are_refused_with_their_place():
    path = flank()
    path.axis[20:30] = [0, 0, -1]
    with pytest.raises(FenrikError, match=r"10 poses that Razorbill does not reach, the first at X"):
        post("Five axes, tip held", path)


@pytest.mark.parametrize(
    ("line", "what"),
    [("G1 X1 B5 F100", "turns B, which Razorbill does not have"), ("G0 A5\nG2 X2 Y0 I1 J0 F10", "is an arc while")],
)
def test_what_such_a_machine_cannot_do_is_told_by_line(line, what):
    controller = WordController(load_dialects()["Five axes, joint by joint"])
    with pytest.raises(FenrikError, match=what):
        controller.read(f"G21 G90\nG0 X0 Y0 Z0\n{line}\nM30\n".encode(), BEFORE)


def test_rotary_words_are_refused_where_nothing_turns():
    controller = WordController(load_dialects()["Plain ISO"])
    with pytest.raises(FenrikError, match="line 2 turns a rotary axis that the machine does not have"):
        controller.read(b"G21 G90\nG0 X1 A5\nM30\n", ControllerState(Machine(name="Gull"), 1, {}, {}))

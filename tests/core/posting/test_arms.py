"""Programs for arms: read back by what is told of their languages, split into files that call one another, and what is
wrong in a line said."""

from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest
from cells import CELLS, TOOL, chain_of, flat, spiral

from fenrik.core.errors import FenrikError
from fenrik.core.machines import Clamped, Course, Machine
from fenrik.core.posting import ControllerState, PostedOperation, in_order, load_controllers, post_programs
from fenrik.core.posting.arm_dialect import ArmDialect
from fenrik.core.posting.arms import ArmController
from fenrik.core.robots import ArmWishes, CellChain, CellMachine, whole_path
from fenrik.core.robots.pace import greatest_acceleration, paced
from fenrik.core.toolpath.safe import SafeSphere

ARMS = {name: c for name, c in load_controllers().items() if c.drives_arms}
AROUND = Clamped((0.0, 0.0, 0.0), SafeSphere(np.array([0.0, 0.0, 400.0]), 500.0))
BOTH = [(d, c) for d in ARMS for c in CELLS]


def posted(name, cell, most_lines=5000):
    """A row of the cell, solved and posted."""
    controller = ArmController(ARMS[name].dialect.model_copy(update={"most_lines": most_lines}))
    machine = CellMachine.of(CELLS[cell])
    path = spiral(900, turns=10) if cell == "plinth" else flat(200)
    path.dwell_s[120] = 0.75
    way = whole_path(chain_of(cell, TOOL.assembly_mm), path, ArmWishes())
    row = PostedOperation(10, "Spiral", TOOL, 9000, path, 0.05, Course(way.joints, way.leap))
    programs = post_programs(controller, machine, [row], "figure", 54, AROUND)
    before = ControllerState(machine, 1, {1: TOOL.assembly_mm}, {})
    return controller, programs, before, path


def numbers_of(line):
    words = line.replace(",", " ").split()
    return [float(w) for w in words if w.replace(".", "").replace("-", "").isdigit()]


@pytest.mark.parametrize(("name", "cell"), BOTH)
def test_what_is_read_is_the_path(name, cell):
    """Both languages say the same tips, axes, feeds and pauses, to the last digit of what they write."""
    controller, (program,), before, path = posted(name, cell)
    read = controller.read(program.text, before)
    last = np.searchsorted(read.line, program.line_of_motion[0], "right") - 1
    own = program.paths[0]
    assert np.abs(read.point[last] - own.point).max() < 2e-3
    assert np.abs(read.axis[last] - own.axis).max() < 2e-6
    assert read.seconds.sum() == pytest.approx(0.75)
    cutting = own.feed > 0
    cutting[:2] = False
    assert read.feed[last][cutting] == pytest.approx(own.feed[cutting], rel=2e-2)
    assert set(read.rpm[last].tolist()) == {9000.0}
    # Every place of the path is a place of the program.
    apart = np.linalg.norm(path.point[:, None] - own.point[None], axis=2).min(axis=1)
    assert apart.max() < 1e-9
    machine = before.machine
    chain = machine.chain(TOOL.assembly_mm)
    pose = chain.forward(read.joints)
    assert np.abs(pose.point - read.point).max() < 1e-9
    low = np.array([-np.inf if j.low is None else j.low for j in machine.joints])
    high = np.array([np.inf if j.high is None else j.high for j in machine.joints])
    assert ((read.joints >= low - 1e-4) & (read.joints <= high + 1e-4)).all()


@pytest.mark.parametrize("name", ARMS)
def test_the_arm_is_given_time(name):
    """At the posted feeds no joint is faster, or made faster, than it can be."""
    controller, (program,), before, _ = posted(name, "plinth")
    own, chain = program.paths[0], before.machine.chain(TOOL.assembly_mm)
    read = controller.read(program.text, before)
    last = np.searchsorted(read.line, program.line_of_motion[0], "right") - 1
    joints, cut = read.joints[last], np.flatnonzero(own.feed > 0)
    rows = np.arange(cut[0] - 1, cut[-1] + 1)
    seconds = 60 * own.lengths()[rows] / np.where(own.feed[rows] > 0, own.feed[rows], 1.0)
    limits = chain.cell.accelerations()
    assert (greatest_acceleration(joints[rows], seconds) <= 1.02 * limits).all()
    speed = np.array([j.speed for j in chain.joints]) / 60
    assert (np.abs(np.diff(joints[rows], axis=0)) <= 1.001 * speed * seconds[1:, None]).all()
    assert paced(joints[rows], seconds, speed, limits).sum() <= 1.02 * seconds.sum()


@pytest.mark.parametrize("name", ARMS)
def test_a_long_program_is_split_into_files_that_call_one_another(name):
    """None longer than the control takes, each complete, read back equal to the whole."""
    _, whole, before, _ = posted(name, "plinth", 100_000)
    most = 400
    split_by, programs, _, _ = posted(name, "plinth", most)
    main, *files = programs
    assert len(whole) == 1
    assert len(files) > 2
    assert main.operations == []
    assert split_by.called(main.text) == [p.name for p in files]
    assert in_order(split_by, list(reversed(programs))) == files
    assert max(p.lines for p in programs) <= most
    read = [split_by.read(p.text, before) for p in files]
    assert all((r.tool == 1).all() and r.rpm.max() == 9000 for r in read)
    places = np.vstack([p.paths[0].point for p in files])
    for point in whole[0].paths[0].point[::7]:
        assert np.linalg.norm(places - point, axis=1).min() < 1e-9
    # Where one file ends over the work the next begins, and goes in where the one before left off.
    for one, other in pairwise(files):
        assert other.paths[0].point[0] == pytest.approx(one.paths[0].point[-1], abs=1e-9)
        left = one.paths[0].point[one.paths[0].feed > 0][-1]
        assert np.linalg.norm(other.paths[0].point - left, axis=1).min() < 1e-9
        assert other.paths[0].feed[0] == one.paths[0].feed[-1] == 0
        lifted = one.paths[0].point[-1] - left
        assert lifted @ one.paths[0].axis[-1] > 15
    for r, p in zip(read, files, strict=True):
        last = np.searchsorted(r.line, p.line_of_motion[0], "right") - 1
        assert np.abs(r.point[last] - p.paths[0].point).max() < 2e-3


@pytest.mark.parametrize("name", ARMS)
def test_files_that_do_not_agree_with_their_main_program_are_told(name):
    controller, programs, _, _ = posted(name, "plinth", 400)
    with pytest.raises(FenrikError, match="do not agree"):
        in_order(controller, programs[:-1])
    main = replace(programs[0], text=programs[0].text.replace(programs[1].name.encode(), b"other.pose", 1))
    with pytest.raises(FenrikError, match="do not agree"):
        in_order(controller, [main, *programs[1:]])


def spoiled(name, old, new):
    controller, (program,), before, _ = posted(name, "plinth")
    text = program.text.decode()
    assert old in text
    controller.read(text.replace(old, new, 1).encode(), before)


@pytest.mark.parametrize(
    ("name", "old", "new", "why"),
    [
        ("Posed arm", "units mm deg", "units inch deg", "line 2 is not understood"),
        ("Posed arm", "hold 0", "hold 3", "names a posture that there is not"),
        ("Posed arm", "finish\n", "", "ends without its last line"),
        ("Posed arm", "finish\n", "finish\nspindle 5\n", "after the end"),
        ("Posed arm", "frame 0", "frame 5", "has the work 5.000 mm from where"),
        ("Jointed arm", "WORK,0", "WORK,5", "has the work 5.000 mm from where"),
        ("Posed arm", "go ", "go 9", "is not understood|does not reach"),
        ("Posed arm", "tool 1 tip 385", "tool 1 tip 386", "from where the job has it"),
        ("Jointed arm", "TO,", "TO,1,", "8 numbers for joints instead of 7"),
        ("Jointed arm", "SPIN,9000", "SPIN,fast", "is not understood"),
        ("Jointed arm", "END\n", "", "ends without its last line"),
    ],
)
def test_what_is_wrong_in_a_line_is_said(name, old, new, why):
    with pytest.raises(FenrikError, match=why):
        spoiled(name, old, new)


def test_another_posture_of_the_same_pose_is_another_program():
    """The words of the posture are what is read: the tip stays, the joints are others."""
    controller, (program,), before, _ = posted("Posed arm", "plinth")
    lines = program.text.decode().split("\n")
    k = next(k for k, t in enumerate(lines) if t.startswith("go ") and k > 100)
    bits = lines[k].split("hold ")[1][:5]
    other = bits[:4] + ("1" if bits[4] == "0" else "0")
    changed = "\n".join([*lines[:k], lines[k].replace(f"hold {bits}", f"hold {other}"), *lines[k + 1 :]]).encode()
    a, b = controller.read(program.text, before), controller.read(changed, before)
    row = np.flatnonzero(a.line == k)
    assert a.point[row] == pytest.approx(b.point[row], abs=1e-6)
    assert np.abs(a.joints[row] - b.joints[row]).max() > 20


@pytest.mark.parametrize("name", ARMS)
def test_a_tool_is_held_until_the_arm_is_home(name):
    """Of two rows with two tools: the way home is made with the first, its tip told as its own; then the next is named,
    and the spindle stands meanwhile."""
    controller, cell = ARMS[name], CELLS["plinth"]
    machine, other = CellMachine.of(cell), TOOL.model_copy(update={"number": 2, "stick_out_mm": 60.0})
    path, rows = spiral(120, turns=1), []
    for number, tool in ((10, TOOL), (20, other)):
        way = whole_path(CellChain(cell, tool.assembly_mm), path, ArmWishes())
        rows.append(PostedOperation(number, "Row", tool, 9000, path, 0.05, Course(way.joints, way.leap)))
    (program,) = post_programs(controller, machine, rows, "two", 54, AROUND)
    lengths = {t.number: t.assembly_mm for t in (TOOL, other)}
    read = controller.read(program.text, ControllerState(machine, 1, lengths, {}))
    change = int(np.flatnonzero(np.diff(read.tool))[0])
    columns = cell.arm_columns
    for row in (change, change + 1):
        assert read.joints[row, columns] == pytest.approx(cell.home_deg, abs=1e-5)
        assert read.spindle[row] == 0
    tips = [CellChain(cell, lengths[n]).forward(read.joints[[change]]).point[0] for n in (1, 2)]
    assert read.point[change] == pytest.approx(tips[0], abs=1e-6)
    assert read.point[change + 1] == pytest.approx(tips[1], abs=1e-6)
    assert (read.rpm[read.tool == 2].max(), read.rpm[read.tool == 1].max()) == (9000, 9000)


def test_a_machine_that_is_no_cell_is_refused():
    path = flat(50)
    row = PostedOperation(10, "Face", TOOL, 9000, path)
    with pytest.raises(FenrikError, match="drives arms"):
        post_programs(ARMS["Posed arm"], Machine(name="M"), [row], "x", 54)


def test_a_dialect_with_an_unknown_field_is_refused():
    data = ARMS["Posed arm"].dialect.model_dump()
    with pytest.raises(ValueError, match="has a field speed"):
        ArmDialect.model_validate(data | {"line": "go {place} {speed}"})

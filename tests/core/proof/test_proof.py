"""The proof on parts with planted mistakes."""

import re
from dataclasses import replace

import numpy as np
import pytest
from proving import FLAT, HOLDER, PLAIN, pocket_path, run

from fenrik.core.machines import Machine
from fenrik.core.posting import Posted, PostedOperation, load_controllers, post_programs
from fenrik.core.proof import ProofInputs, ProofSettings
from fenrik.core.proof.checks.program import check as check_program
from fenrik.core.proof.motions import read_motions
from fenrik.core.proof.run import Run
from fenrik.core.sketches import Curve
from fenrik.core.stock import Stock
from fenrik.core.toolpath import Feeds, Kind, PathBuilder, SafePlane, Toolpath
from fenrik.core.tools import FlatCutter, Tool


@pytest.mark.parametrize("dialect", [name for name, c in load_controllers().items() if not c.drives_arms])
def test_a_good_program_has_no_findings(pocket, dialect):
    proof = run(pocket, pocket_path(10.0), dialect=dialect)
    assert proof.findings == []
    assert proof.run.motions.ends_apart_mm <= 0.0005 + 1e-9
    assert proof.by_operation[10].worst_gouge_mm < 1e-6
    # Only the pocket's corners, which a round tool cannot reach, keep material.
    assert proof.deviation.max_mm == pytest.approx(3 - 3 / np.sqrt(2), abs=0.5)
    assert proof.run.removed_mm3.sum() == pytest.approx(10 * (34 * 14 + 2 * 3 * 34 + 2 * 3 * 14 + np.pi * 9), rel=0.03)


def test_planted_gouge_and_excess_are_measured(pocket):
    deep = run(pocket, pocket_path(9.7))
    gouges = [f for f in deep.findings if f.kind == "gouge"]
    assert gouges
    assert gouges[0].severity == "fault"
    assert deep.by_operation[10].worst_gouge_mm == pytest.approx(0.3, abs=1e-3)
    assert max(f.amount for f in gouges) == pytest.approx(0.3, abs=1e-3)
    assert gouges[0].place[2] == pytest.approx(-10.3, abs=1e-3)
    assert gouges[0].motion is not None
    shallow = run(pocket, pocket_path(10.25))
    assert not shallow.findings
    counts = np.array(shallow.deviation.counts)
    middle = 0.5 * (np.array(shallow.deviation.edges_mm[1:]) + np.array(shallow.deviation.edges_mm[:-1]))
    assert abs(middle[counts[middle > 0.15].argmax() + (middle <= 0.15).sum()] - 0.25) < 0.02


def test_rapid_in_stock(pocket):
    findings = run(pocket, pocket_path(10.0, rapid_down=15.0)).findings
    rapid = [f for f in findings if f.kind == "rapid in stock"]
    assert rapid
    assert rapid[0].severity == "fault"
    assert rapid[0].amount == pytest.approx(np.pi * 9 * 5, rel=0.1)


def test_holder_shank_and_near_miss(pocket):
    short = Tool(number=3, cutter=FLAT, stick_out_mm=12.0, holder=HOLDER)
    # The holder's face stands 12 above the tip: 2 above the block at full depth: exactly the near-miss limit.
    assert not run(pocket, pocket_path(10.05), short).findings
    near = run(
        pocket,
        pocket_path(10.0),
        Tool(number=3, cutter=FlatCutter(diameter_mm=6, flute_length_mm=11), stick_out_mm=11.0, holder=HOLDER),
    )
    assert {f.kind for f in near.findings} == {"near miss"}
    assert near.findings[0].severity == "attention"
    assert near.run.clearance_mm.min() == pytest.approx(1.0, abs=1e-6)
    touch = run(
        pocket,
        pocket_path(10.0),
        Tool(number=3, cutter=FlatCutter(diameter_mm=6, flute_length_mm=8), stick_out_mm=8.0, holder=HOLDER),
    )
    assert {"holder contact"} <= {f.kind for f in touch.findings}
    assert max(f.amount for f in touch.findings if f.kind == "holder contact") == pytest.approx(2.0, abs=1e-6)
    hardly = Tool(number=3, cutter=FlatCutter(diameter_mm=6, flute_length_mm=9), stick_out_mm=9.995, holder=HOLDER)
    assert "holder contact" in {f.kind for f in run(pocket, pocket_path(10.0), hardly).findings}
    thick = Tool(number=3, cutter=FlatCutter(diameter_mm=6, flute_length_mm=7), stick_out_mm=30, shank_diameter_mm=8)
    assert "shank contact" in {f.kind for f in run(pocket, pocket_path(10.0), thick).findings}
    # Along a wall that was cut at the same distance, what a rounded way and its chords may be off is no contact.
    twice = Toolpath.joined([pocket_path(15.0), pocket_path(10.0)])
    for wide_mm, kinds in ((6.006, set()), (6.02, {"shank contact"})):
        rubs = thick.model_copy(update={"shank_diameter_mm": wide_mm})
        assert {f.kind for f in run(pocket, twice, rubs).findings} == kinds


def test_machine_limits(pocket):
    tiny = Machine(name="Tiny", travel_mm=(20, 200, 200), longest_tool_mm=10, spindle_max_rpm=5000)
    assert {f.kind for f in run(pocket, pocket_path(10.0), machine=tiny).findings} == {
        "overtravel",
        "tool too long",
        "spindle speed",
    }


def test_a_machine_without_a_joint_is_a_finding_and_the_proof_goes_on(pocket):
    joints = [{"name": "X", "direction": (1, 0, 0)}, {"name": "Z", "direction": (0, 0, 1)}]
    proof = run(pocket, pocket_path(10.0), machine=Machine(name="Rail", joints=joints))
    (found,) = [f for f in proof.findings if f.kind == "out of reach"]
    assert found.severity == "fault"
    assert abs(found.place[1]) > 1  # a motion beside the plane that X and Z reach
    assert proof.run.removed_mm3.sum() > 1000


def test_time_and_columns(pocket):
    proof = run(pocket, pocket_path(10.0), machine=Machine(name="M", tool_change_s=9))
    assert proof.run.motions.seconds.sum() > 9 + proof.run.motions.path.cut_length_mm() / 1000 * 60
    assert len(proof.run.removed_mm3) == len(proof.run.motions.path) == len(proof.run.times)
    assert np.all(np.diff(proof.run.times) >= 0)


def test_arcs_of_every_plane_come_back_as_they_were_written():
    """G3 by ISO 6983-1: right-handed about Z, Y and X in G17, G18 and G19; three quarters about the zero."""
    for word, start, centre, end, flat in (
        ("G17", "X5 Y0 Z0", "I-5 J0", "X0 Y-5", 2),
        ("G18", "X5 Y0 Z0", "I-5 K0", "X0 Z5", 1),
        ("G19", "X0 Y5 Z0", "J-5 K0", "Y0 Z-5", 0),
    ):
        text = f"G21 G90 {word} G54\nS900 M3\nG0 {start}\nG3 {end} {centre} F100\nM30\n".encode()
        program = Posted("p", text, [10], [np.array([2, 3])], [Toolpath.empty().rows(np.zeros(0, int))], {})
        program.paths[0] = Toolpath.plain(
            np.zeros((2, 3)), np.zeros(2, np.int8), np.zeros((2, 3)), np.array([0, 3], np.int8), np.zeros(2)
        )
        motions = read_motions(PLAIN, Machine(name="M"), [program], {}, [1], np.zeros(3))
        size = np.ptp(motions.path.flattened(0.001)[0].point, axis=0)
        expect = np.full(3, 10.0)
        expect[flat] = 0
        assert size.tolist() == pytest.approx(expect.tolist(), abs=3e-3)
        assert motions.path.lengths()[-1] == pytest.approx(1.5 * np.pi * 5)


def arc_path():
    b = PathBuilder(Feeds(1000, 300, 2000), SafePlane.at_height(40.0), 30.0)
    b.travel(20.0, 20.0, 21.0)
    b.enter(np.array([20.0, 20, 12]))
    b.next_pass()
    b.follow(Curve(np.array([[20.0, 20], [32, 20]]), np.array([-1.0]), False), Kind.CUT)  # half a circle to the right
    b.cut(np.array([[40.0, 20, 12]]))
    return b.finish()


def spoilt(change):
    """The findings of a program of which a word was changed after it was posted."""
    tool = Tool(number=3, cutter=FLAT, stick_out_mm=30)
    zero = np.array([30.0, 20.0, 20.0])
    (program,) = post_programs(
        PLAIN, Machine(name="M"), [PostedOperation(10, "x", tool, 8000, arc_path().moved(-zero))], "p", 54
    )
    text = change(program.text)
    motions = read_motions(PLAIN, Machine(name="M"), [replace(program, text=text)], {3: tool}, [3], zero)
    run = Run(replace(empty_inputs(), zero=zero), motions, Stock.box(np.zeros(3), np.array([60.0, 40, 20]), 1.0))
    return check_program(run)


def empty_inputs():
    return ProofInputs(None, None, PLAIN, [], {}, [], {}, Machine(name="M"), np.zeros(3), ProofSettings())


def test_a_program_that_is_as_posted_has_no_difference():
    assert spoilt(lambda text: text) == []


def test_the_way_round_an_arc_is_compared_and_not_only_its_ends():
    """G3 for G2: the same end, the other half of the circle, 12 mm away in the middle."""
    (found,) = spoilt(lambda text: text.replace(b"G2 X2.", b"G3 X2."))
    assert found.kind == "program differs"
    assert found.severity == "fault"
    assert found.amount == pytest.approx(12.0, abs=0.01)
    assert found.motion is not None


def test_a_line_in_place_of_an_arc_is_told():
    (found,) = spoilt(
        lambda text: re.sub(rb"G[23]( ?X[-\d.]+)?( ?Y[-\d.]+)? ?I[-\d.]+( ?J[-\d.]+)?", rb"G1\1\2", text, count=1)
    )
    assert found.amount == pytest.approx(6.0, abs=0.01)


def test_a_missing_line_is_told():
    (found,) = spoilt(lambda text: text.replace(b"\nZ1.\n", b"\n(gone)\n"))
    assert found.amount == pytest.approx(19.0)  # the tool stands where it stood, 19 mm over where the path has it

"""Proofs on a machine that turns: a good program without findings, planted faults of joints and bodies found."""

import json
from dataclasses import replace

import numpy as np
import pytest
from prism import faces, job_for, with_targets

from fenrik.core.job_reading import parse_job
from fenrik.core.proof import prove
from parts import cone

FIVE = ["Five axes, tip held", "Five axes, joint by joint"]
RAZORBILL = {
    "name": "Razorbill",
    "joints": [
        {"name": "X", "direction": [1, 0, 0], "low": -300, "high": 300, "speed": 24000},
        {"name": "Y", "direction": [0, 1, 0], "low": -250, "high": 250, "speed": 24000},
        {"name": "Z", "direction": [0, 0, 1], "low": 60, "high": 600, "speed": 24000},
        {"name": "A", "kind": "rotary", "carries": "work", "direction": [1, 0, 0], "origin": [0, 0, 50], "low": -110,
         "high": 110, "speed": 9000},
        {"name": "C", "kind": "rotary", "carries": "work", "direction": [0, 0, 1], "low": -360, "high": 360,
         "speed": 18000},
    ],
    "bodies": [
        {"name": "head", "moves_with": "Z",
         "shapes": [{"kind": "round", "foot_mm": [0, 0, 0], "height_mm": 250, "radius_mm": 60}]},
        {"name": "cradle", "moves_with": "A",
         "shapes": [{"kind": "box", "low_mm": [-160, -70, -90], "high_mm": [160, 70, -40]},
                    {"kind": "box", "low_mm": [-190, -60, -90], "high_mm": [-160, 60, 80]},
                    {"kind": "box", "low_mm": [160, -60, -90], "high_mm": [190, 60, 80]}]},
        {"name": "table", "moves_with": "C",
         "shapes": [{"kind": "round", "foot_mm": [0, 0, -40], "height_mm": 40, "radius_mm": 110}]},
    ],
}  # fmt: skip


def on_the_machine(dialect="Five axes, tip held", machine=None, at=(20, -10), stick_out=60.0, below=60.0):
    params = {"strategy": "swarf milling", "floor_clearance_mm": -1.0, "tolerance_mm": 0.02}
    cutter = {"kind": "flat", "diameter_mm": 16, "flutes": 4, "flute_length_mm": 50}
    build = job_for(
        cone(0, 0, 0, 30.0, 22.0, 25.0), [(1, params)], {1: cutter}, cell_mm=0.8, machines=[machine or RAZORBILL]
    )
    build = with_targets(build, 10, faces(build, lambda f: f.kind == "cone"))
    data = json.loads(build.job.model_dump_json())
    data["setups"][0] |= {"machine": "Razorbill", "dialect": dialect, "on_table_mm": at, "table_below_mm": below}
    data["tools"][0]["stick_out_mm"] = stick_out
    return build.with_job(parse_job(data))


@pytest.fixture(scope="module")
def inputs():
    found = {}
    for name in FIVE:
        build = on_the_machine(name)
        found[name] = build.proof_inputs(build.job.setups[0])
    return found


@pytest.mark.parametrize("dialect", FIVE)
def test_a_good_program_has_no_findings_and_takes_its_time(inputs, dialect):
    proof = prove(inputs[dialect])
    assert [(f.kind, f.message) for f in proof.findings] == []
    assert proof.run.motions.ends_apart_mm < 2e-3
    assert proof.by_operation[10].worst_gouge_mm < 0.02
    minutes = proof.run.motions.seconds[1:] / 60
    moved = np.abs(np.diff(proof.run.motions.joints, axis=0))
    assert (moved[:, 4] <= 18000 * minutes * (1 + 1e-6) + 1e-9)[~proof.run.motions.fresh[1:]].all()


def spoiled(given, old, new):
    (program,) = given.programs
    text = program.text.decode()
    assert old in text
    return replace(given, programs=[replace(program, text=text.replace(old, new, 1).encode())])


def line_of(given, letter, number):
    lines = [t for t in given.programs[0].text.decode().split("\n") if letter in t and not t.startswith(("(", "G0"))]
    return lines[number]


@pytest.mark.parametrize("dialect", FIVE)
def test_an_axis_that_stands_otherwise_is_told(inputs, dialect):
    given = inputs[dialect]
    line = line_of(given, " C", 40)
    value = line.split(" C")[1].split(" ")[0]
    proof = prove(spoiled(given, line, line.replace(f" C{value}", f" C{float(value) + 0.5:g}")))
    assert "program differs" in {f.kind for f in proof.findings}


def test_a_joint_beyond_its_end_and_one_that_is_asked_too_much(inputs):
    given = inputs["Five axes, joint by joint"]
    tight = json.loads(json.dumps(RAZORBILL))
    tight["joints"][3]["high"] = 12
    tight["joints"][4]["speed"] = 900
    machine = type(given.machine).model_validate(tight)
    found = {f.kind: f for f in prove(replace(given, machine=machine)).findings}
    assert "A runs" in found["overtravel"].message
    assert found["overtravel"].amount == pytest.approx(np.rad2deg(np.arctan2(8, 25)) - 12, abs=0.01)
    assert found["overtravel"].unit == "deg"
    assert "C for more than its 900 deg/min" in found["joint too fast"].message


def test_lines_too_far_apart_for_the_turning_are_told(inputs):
    """Every fourth line kept: places and axes on them are right, the way between is not."""
    given = inputs["Five axes, joint by joint"]
    (program,) = given.programs
    lines = program.text.decode().split("\n")
    turning = [k for k, t in enumerate(lines) if " C" in t and " F" in t]
    gone = {k for n, k in enumerate(turning[10:-10]) if n % 30}
    text = "\n".join(t for k, t in enumerate(lines) if k not in gone)
    kinds = {f.kind for f in prove(replace(given, programs=[replace(program, text=text.encode())])).findings}
    assert "program differs" in kinds


def test_the_head_that_meets_the_cradle_is_found_and_told_with_both():
    """A short tool over work that stands low: the spindle's face comes down to the cradle's cheeks as it tilts."""
    build = on_the_machine(at=(125, 0), stick_out=52.0, below=0.0)
    proof = prove(build.proof_inputs(build.job.setups[0]))
    touching = [f for f in proof.findings if f.kind == "collision"]
    assert touching
    assert {"cradle"} <= {b for f in touching for b in f.bodies}
    assert proof.run.clearance_mm.min() <= 0


def test_a_machine_without_bodies_says_nothing_of_them():
    bare = RAZORBILL | {"bodies": []}
    build = on_the_machine(machine=bare, at=(125, 0), stick_out=52.0, below=0.0)
    assert "collision" not in {f.kind for f in prove(build.proof_inputs(build.job.setups[0])).findings}

"""Proofs in a cell: a good program of a part that no cell was made for, and planted faults of bodies, ends and postures."""

import json
from dataclasses import replace

import pytest
from prism import job_for

from fenrik.core.job_reading import parse_job
from fenrik.core.proof import prove
from fenrik.core.robots import Cell, CellMachine
from fenrik.demo.cells import PLINTH
from parts import box, cut


@pytest.fixture(scope="module")
def inputs():
    """A pocket in a block, cleared by the arm on its plinth, told joint by joint."""
    block = cut(box(0, 0, 0, 60, 40, 20), box(10, 8, 8, 40, 24, 20))
    params = {"strategy": "level roughing", "stepdown_mm": 5, "stepover_mm": 5, "tolerance_mm": 0.05}
    cutter = {"kind": "flat", "diameter_mm": 12, "flutes": 3, "flute_length_mm": 38}
    build = job_for(block, [(1, params)], {1: cutter}, cell_mm=0.8, cells=[PLINTH])
    data = json.loads(build.job.model_dump_json())
    data["setups"][0] |= {"machine": PLINTH["name"], "dialect": "Jointed arm", "table_below_mm": 30}
    data["tools"][0] |= {
        "stick_out_mm": 80, "holder": [{"lower_diameter_mm": 40, "upper_diameter_mm": 46, "height_mm": 36}],
    }  # fmt: skip
    build = build.with_job(parse_job(data))
    return build.proof_inputs(build.job.setups[0])


def kinds(found):
    return {f.kind: f for f in prove(found).findings}


def test_a_good_program_has_no_findings(inputs):
    proof = prove(inputs)
    assert [(f.kind, f.message) for f in proof.findings] == []
    assert proof.run.motions.ends_apart_mm < 2e-3
    assert set(proof.run.motions.operation.tolist()) == {10}


def test_what_the_arm_meets_is_found_and_told_with_both(inputs):
    """A post where the upper arm stands."""
    post = {"name": "post", "box": {"low_mm": [60, -150, 1150], "high_mm": [260, 150, 1500]}}
    cell = Cell.model_validate(PLINTH | {"keep_out": [post]})
    found = kinds(replace(inputs, machine=CellMachine.of(cell)))
    assert "post" in found["collision"].bodies
    assert found["collision"].severity == "fault"


def test_a_joint_beyond_its_end_and_a_singular_posture_are_found(inputs):
    (program,) = inputs.programs
    lines = program.text.decode().split("\n")
    k = [n for n, t in enumerate(lines) if t.startswith("BY,")][60]
    words = lines[k].split(",")
    for column, value, kind in ((1, "176.00000", "overtravel"), (5, "0.10000", "singularity")):
        other = [*words[:column], value, *words[column + 1 :]]
        text = "\n".join([*lines[:k], ",".join(other), *lines[k + 1 :]]).encode()
        found = kinds(replace(inputs, programs=[replace(program, text=text)]))
        assert kind in found
        assert found[kind].line == k

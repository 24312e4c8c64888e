"""Back boring: the counterbore on the far side, the way through the hole, and what makes it impossible."""

import json
import math
import re
from dataclasses import replace

import numpy as np
import pytest
from prism import bore, faces, job_for, proof, run, with_targets

from fenrik.core.errors import FenrikError
from fenrik.core.job_reading import parse_job
from fenrik.core.machines import Machine
from fenrik.core.posting import PostedOperation, WordController, load_dialects, post_programs
from fenrik.core.proof import prove
from fenrik.core.report import cl_texts, setup_report, setup_sheet
from fenrik.core.stock import stock_mesh
from fenrik.core.toolpath import ORIENTED, Kind
from parts import box, cut, cylinder, fuse

BAR = {"kind": "back boring bar", "diameter_mm": 18, "bar_diameter_mm": 8, "flute_length_mm": 6}
"""Bar and edge together are 13 mm wide."""
DRILL = {"kind": "drill", "diameter_mm": 14, "flute_length_mm": 60}


def block(*more):
    """60 × 40 × 20 with a through hole ⌀14 and its counterbore ⌀18, 5 deep, from below."""
    return cut(box(0, 0, 0, 60, 40, 20), cylinder(25, 20, -1, 7, 40), cylinder(25, 20, -1, 9, 6), *more)


def bored(shape=None, bar=None, params=None, stock=None, drilled=True, **rest):
    """The block drilled through and bored back."""
    rows = [(1, {"strategy": "drilling", "break_through_mm": 6})] if drilled else []
    rows.append((2, {"strategy": "back boring", **(params or {})}))
    build = job_for(shape or block(), rows, {1: DRILL, 2: {**BAR, **(bar or {})}}, stock, **rest)
    for row in build.job.operations:
        build = with_targets(build, row.number, faces(build, bore(7)))
    return build


def renumbered(text):
    """The program without its line numbers, which say nothing."""
    return re.sub(rb"(?m)^N\d+ ", b"", text)


def last(build):
    return run(build, build.job.operations[-1].number)


def told(build):
    outcome = last(build)
    assert not len(outcome.toolpath)
    return " ".join(f"{u.reason} {u.advice}" for u in outcome.unreached)


def test_the_counterbore_is_taken_out_exactly_and_the_hole_stays():
    build = bored()
    rows = build.job.operations
    drilled, after = (abs(stock_mesh(build.stock_after(o)).volume_mm3()) for o in rows)
    ring = math.pi * (9**2 - 7**2) * 5
    assert drilled - after == pytest.approx(ring, rel=2e-3)
    path = last(build).toolpath
    cuts = path.point[path.kind == Kind.CUT]
    assert cuts[:, 2].max() == pytest.approx(5 - 6)  # the edge, 6 over the tip, reaches the floor at 5
    assert cuts[:, 2].min() == pytest.approx(0 - 1 - 6)  # a gap of 1 under the part


def test_the_proof_finds_nothing_and_reads_the_edge_at_the_floor():
    build = bored()
    summary, _ = proof(build)
    assert summary["findings"] == []
    assert summary["deviation"]["min_mm"] > -0.01
    assert abs(summary["deviation"]["max_mm"]) < 3.0  # what is left stands on the untouched outside only


@pytest.mark.parametrize("edge_deg", [0.0, 90.0, 215.0])
def test_bar_and_edge_pass_evenly_about_the_hole(edge_deg):
    path = last(bored(bar={"edge_deg": edge_deg})).toolpath
    through = (path.spindle == ORIENTED) & (path.point[:, 2] < 0)
    aside = path.point[through][0, :2] - [25, 20]
    angle = math.radians(edge_deg)
    edge = aside + 9 * np.array([math.cos(angle), math.sin(angle)])
    back = aside - 4 * np.array([math.cos(angle), math.sin(angle)])
    assert np.linalg.norm(edge) == pytest.approx(6.5)
    assert np.linalg.norm(back) == pytest.approx(6.5)
    assert np.allclose(path.point[path.kind == Kind.CUT][:, :2], [25, 20])


def test_stock_below_the_part_is_bored_through_from_below_it():
    build = bored(stock={"kind": "box", "z_plus_mm": 1, "z_minus_mm": 2}, params={"gap_below_mm": 0.5})
    # The drill ends 1 below the part, where 1 of the stock is left.
    assert "Drill it first, 22.00 mm at full diameter." in told(build)
    deep = json.loads(build.job.model_dump_json())
    deep["operations"][0]["params"]["break_through_mm"] = 12
    build = build.with_job(parse_job(deep))
    path = last(build).toolpath
    assert path.point[path.kind == Kind.CUT][:, 2].min() == pytest.approx(-2 - 0.5 - 6)
    assert proof(build)[0]["findings"] == []


def test_a_depth_makes_a_spot_face_where_the_model_has_none():
    plain = cut(box(0, 0, 0, 60, 40, 20), cylinder(25, 20, -1, 7, 40))
    assert "no counterbore" in told(bored(plain))
    assert "is 20.00 mm deep and would be bored 25 mm" in told(bored(plain, params={"depth_mm": 25}))
    build = bored(plain, params={"depth_mm": 1.5})
    path = last(build).toolpath
    assert path.point[path.kind == Kind.CUT][:, 2].max() == pytest.approx(1.5 - 6)


def test_what_makes_it_impossible_is_told():
    assert "stock still stands in the hole" in told(bored(drilled=False))
    assert "bar and edge need ⌀15.40" in told(bored(bar={"bar_diameter_mm": 12}))
    assert "the bar cuts ⌀17" in told(bored(bar={"diameter_mm": 17}))
    assert "would be bored 7 mm deep" in told(bored(params={"depth_mm": 7}))
    blind = cut(box(0, 0, 0, 60, 40, 20), cylinder(25, 20, 8, 7, 40))
    assert "no through hole" in told(bored(blind))
    # A second wall under the first, in a solid blank.
    flange = cut(fuse(block(), box(0, 0, -12, 60, 40, 6), box(0, 0, -12, 4, 40, 14)), cylinder(25, 20, -20, 7, 60))
    assert "the part itself stands there" in told(bored(flange, params={"gap_below_mm": 0.5}))


def test_a_shank_too_thick_for_the_hole_is_told_with_what_is_missing():
    build = bored()
    data = json.loads(build.job.model_dump_json())
    data["tools"][1] |= {"neck_diameter_mm": 8, "neck_length_mm": 15, "shank_diameter_mm": 16}
    # Tip at −7 below, foot and bar 21 long, so the shank begins at 14; the top is at 20, and the gap 0.2.
    assert "the shank ⌀16 would go 6.2 mm into the hole. Use a bar at least 6.2 mm longer." in told(
        build.with_job(parse_job(data))
    )


def test_a_fixture_under_the_hole_and_the_table_are_seen():
    block_below = {"kind": "plate", "id": "base", "place": {"x_mm": 0, "y_mm": 0, "z_mm": -6.4, "turn_deg": 0}}
    build = bored()
    data = json.loads(build.job.model_dump_json())
    data["setups"][0]["table_below_mm"] = 4
    summary, _ = proof(build.with_job(parse_job(data)))
    assert [f["kind"] for f in summary["findings"]] == ["table contact"]
    assert summary["findings"][0]["amount"] == pytest.approx(3.0, abs=1e-3)
    data["setups"][0]["fixtures"] = [block_below]
    assert "a fixture or another copy stands nearer" in told(build.with_job(parse_job(data)))


def test_a_bar_whose_edge_stands_elsewhere_than_it_should_is_found_by_the_proof():
    build = bored()
    setup = build.job.setups[0]
    build.compute(setup)
    inputs = build.proof_inputs(setup)
    bar = inputs.tools[2]
    turned = bar.model_copy(update={"cutter": bar.cutter.model_copy(update={"edge_deg": 180.0})})
    found = prove(replace(inputs, tools={**inputs.tools, 2: turned})).findings
    assert {"rapid in stock", "gouge"} <= {f.kind for f in found}
    assert {f.operation for f in found} == {20}


def test_an_edge_that_cuts_with_the_spindle_stopped_is_found_by_the_proof():
    build = bored()
    setup = build.job.setups[0]
    build.compute(setup)
    inputs = build.proof_inputs(setup)
    plain = load_dialects()["Numbered with tool stop"]
    rows = [
        PostedOperation(o.number, o.name, build.job.tool(o.tool), 500, build.path(o).toolpath.moved(-build.zero(setup)))
        for o in build.job.operations
    ]
    program = post_programs(WordController(plain), Machine(name="M"), rows, "x", 54)[0]
    assert program.text.count(b"M19") == 2
    still = replace(program, text=re.sub(rb"(M19\n[^M]*)M3\n", rb"\1M5\n", renumbered(program.text), count=1))
    found = prove(replace(inputs, programs=[still])).findings
    assert "spindle stopped" in {f.kind for f in found}


def test_tools_and_strategies_that_do_not_belong_together_are_refused():
    data = json.loads(bored().job.model_dump_json())
    data["operations"][-1]["tool"] = 1
    with pytest.raises(FenrikError, match="Choose a back boring bar"):
        last(bored().with_job(parse_job(data)))
    drilled = job_for(block(), [(2, {"strategy": "drilling"})], {2: BAR})
    with pytest.raises(FenrikError, match="upper side only"):
        run(with_targets(drilled, 10, faces(drilled, bore(7))))


def test_sheet_and_cutter_location_say_where_the_edge_points():
    build = bored(bar={"edge_deg": 215})
    setup = build.job.setups[0]
    sheet = setup_sheet(build, {setup.id: setup_report(build, setup)})
    assert "T2 goes through its holes" in sheet
    assert "point to 215°" in sheet
    words = [line for line in cl_texts(build, setup)["020.cl"].splitlines() if line.startswith("SPINDL")]
    turning = "SPINDL/ 6000,RPM,CLW"
    assert words == [turning, *(2 * ["SPINDL/ ORIENT,215", turning]), "SPINDL/ OFF"]


def test_turned_copies_are_refused_and_those_in_a_line_are_made():
    two = cut(block(), cylinder(45, 20, -1, 7, 40), cylinder(45, 20, -1, 9, 6))
    build = bored(two)
    one = with_targets(build, 20, faces(build, bore(7), lambda f: f.origin[0] < 30))
    data = json.loads(one.job.model_dump_json())
    data["operations"][1]["copies"] = {"kind": "in a line", "count": 2, "step_x_mm": 20}
    path = last(one.with_job(parse_job(data))).toolpath
    assert sorted(set(np.round(path.point[path.kind == Kind.CUT][:, 0], 6))) == [25, 45]
    data["operations"][1]["copies"] = {"kind": "mirrored", "at_mm": 35}
    with pytest.raises(FenrikError, match="Copy in a line"):
        last(one.with_job(parse_job(data)))

"""The proof against fixtures: what runs into them is found with its depth and place, and paths keep clear of them."""

from dataclasses import replace

import numpy as np
import pytest

import parts
from fenrik.core.build import Build
from fenrik.core.contact.clearance import clearance
from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.job_reading import parse_job
from fenrik.core.proof import prove
from fenrik.core.setups.stocks import box_mesh
from fenrik.core.solids.reading import solid_from_shape
from fenrik.core.solids.writing import write_solid
from fenrik.core.store import MemoryStore
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Assembly, BallCutter, cutting_profile


@pytest.fixture(scope="module")
def step():
    shape = parts.cut(parts.box(0, 0, 0, 60, 40, 20), parts.box(15, 10, 10, 30, 20, 20))
    return write_solid(solid_from_shape(shape), ".step")


FINISH = {"strategy": "parallel finishing", "stepover_mm": 2, "tolerance_mm": 0.05}
CLAMP = {"kind": "toe clamp", "id": "c", "place": {"x_mm": 28, "z_mm": 21}, "support_mm": 26}


def job(params=None, **setup):
    holder = [{"lower_diameter_mm": 30, "upper_diameter_mm": 30, "height_mm": 30}]
    cutter = {"kind": "flat", "diameter_mm": 8, "flute_length_mm": 25}
    rough = {"strategy": "level roughing", "stepdown_mm": 5, "stepover_mm": 4, "tolerance_mm": 0.05}
    return parse_job(
        {
            "part": {"file": "a.step"},
            "tools": [{"number": 1, "cutter": cutter, "stick_out_mm": 40, "holder": holder}],
            "setups": [{"id": "a", "work_zero": {"kind": "box point", "of": "part", "at": [-1, -1, -1]}, **setup}],
            "operations": [{"number": 10, "setup": "a", "tool": 1, "params": params or rough}],
            "cell_mm": 0.8,
        }
    )


def test_a_block_in_the_way_is_found_with_its_depth(step):
    build = Build(job(), step, MemoryStore())
    setup = build.job.setups[0]
    inputs = build.proof_inputs(setup)
    assert prove(inputs).findings == []
    low = float(build.path(build.job.operations[0]).toolpath.point[:, 2].min())
    post = box_mesh([28, -30, -5], [32, -4, low + 3])
    found = [f for f in prove(replace(inputs, fixtures=post)).findings if f.kind == "fixture contact"]
    assert found
    assert found[0].severity == "fault"
    assert found[0].operation == 10
    assert max(f.amount for f in found) == pytest.approx(3, abs=1e-6)
    assert all(24 - 1 <= f.place[0] <= 36 + 1 and f.place[1] < 1 for f in found)


def test_a_holder_that_comes_near_is_told_apart_from_one_that_touches(step):
    build = Build(job(), step, MemoryStore())
    inputs = build.proof_inputs(build.job.setups[0])
    low = float(build.path(build.job.operations[0]).toolpath.point[:, 2].min())
    for top, kind, severity in ((low + 39, "near miss", "attention"), (low + 43, "fixture contact", "fault")):
        beside = box_mesh([-40, -40, 0], [-14, 80, top])
        found = {(f.kind, f.severity) for f in prove(replace(inputs, fixtures=beside)).findings}
        assert (kind, severity) in found


@pytest.mark.parametrize("params", [None, FINISH])
def test_paths_keep_clear_of_what_holds_the_part_and_say_what_stays(step, params):
    stock = {"kind": "box", "z_minus_mm": 6}
    held = job(params, fixtures=[CLAMP], stock=stock)
    free = Build(job(params, stock=stock), step, MemoryStore())
    build = Build(held, step, MemoryStore())
    operation = held.operations[0]
    assert build.path_key(operation) != free.path_key(free.job.operations[0])
    findings = prove(build.proof_inputs(held.setups[0])).findings
    assert not [f for f in findings if "fixture" in f.kind]
    # The same path as without the clamp would have run into it.
    inputs = replace(free.proof_inputs(free.job.setups[0]), fixtures=build.placing(held.setups[0]).fixture_mesh())
    assert [f for f in prove(inputs).findings if f.kind == "fixture contact"]
    # The strap lies 25 mm wide on the last 12 mm of the part.
    told = [u for u in build.path(operation).unreached if u.reason.startswith("A fixture")]
    assert len(told) == 1
    assert told[0].place[0] == pytest.approx(54, abs=4)
    assert told[0].place[1] == pytest.approx(20, abs=3)
    assert 12 * 25 * 0.3 < told[0].area_mm2 < 17 * 34 * 1.2
    assert not free.path(free.job.operations[0]).unreached


def test_a_part_at_the_edge_of_the_table_overtravels(step):
    build = Build(job(on_table_mm=[240, 0], machine=""), step, MemoryStore())
    found = [f for f in prove(build.proof_inputs(build.job.setups[0])).findings if f.kind == "overtravel"]
    assert found
    assert "Move the part" in found[0].advice


def test_a_fixture_is_made_once_and_again_when_it_changes(step):
    store = MemoryStore()

    def keys_after(**clamp):
        build = Build(job(fixtures=[{**CLAMP, **clamp}]), step, store)
        (made,) = build.placing(build.job.setups[0]).fixtures
        return made[1], set(store)

    first, keys = keys_after()
    again, same = keys_after()
    assert again is first
    assert same == keys
    wider, more = keys_after(width_mm=30)
    assert len(more - keys) == 1
    assert wider.bounds()[1, 1] - wider.bounds()[0, 1] == pytest.approx(30)


def test_a_pin_thinner_than_any_step_is_not_missed():
    """A needle of 0.02 mm between two places that a look each 0.5 mm would take, and one that is passed at 0.05 mm."""
    ball = Assembly(cutting_profile(BallCutter(diameter_mm=6, flute_length_mm=10)))
    needle = DistanceIndex.build(box_mesh([53.83, 2.97, 0], [53.85, 2.99, 9]))
    step = Poses.upright(np.array([[0.0, 0, 5]]), np.array([[100.0, 0, 5]]))
    (into,) = clearance(needle, step, ball, 0.0)
    # The needle's corner nearest to the axis, at the height of the ball's middle.
    assert into.mm[0] == pytest.approx(-(3 - 2.97), abs=1e-3)
    assert into.place[0] == pytest.approx([53.84, 2.97, 8.5], abs=0.6)
    assert into.share[0] == pytest.approx(0.5384, abs=1e-3)
    clear = DistanceIndex.build(box_mesh([53.83, 3.05, 0], [53.85, 3.2, 9]))
    assert clearance(clear, step, ball, 0.0)[0].mm[0] == 0.0
    assert clearance(clear, step, ball, 1.0)[0].mm[0] == pytest.approx(0.05, abs=1e-6)


def test_what_passes_under_a_bridge_touches_nothing(step):
    """A bar over the holder's way that leaves it room on all sides: seen from above all of it would be in the way."""
    build = Build(job(), step, MemoryStore())
    inputs = build.proof_inputs(build.job.setups[0])
    top = float(build.path(build.job.operations[0]).toolpath.point[:, 2].max())
    over = top + 40 + 30
    for gap, kinds in ((5, set()), (1, {"near miss"}), (-1, {"fixture contact"})):
        bridge = box_mesh([-80, -80, over + gap], [140, 120, over + gap + 10])
        found = [
            f for f in prove(replace(inputs, fixtures=bridge)).findings if f.kind in ("near miss", "fixture contact")
        ]
        assert {f.kind for f in found} >= kinds
        assert bool(found) == bool(kinds)
        if gap == 1:
            assert min(f.amount for f in found) == pytest.approx(1, abs=1e-3)

"""Pocket clearing against Shapely regions: nothing beyond the wall, nothing reachable left, never full width."""

import json

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from prism import (
    engaged_arcs,
    engaged_sides,
    faces,
    flat,
    floor_at,
    job_for,
    proof,
    run,
    swept_area,
    with_targets,
    worst_outside,
)

from fenrik.core.errors import FenrikError
from fenrik.core.job_reading import parse_job
from fenrik.core.regions.polygons import area_of, from_shape, to_shape
from fenrik.core.strategies.ground.fronts import grow_fronts, in_order
from fenrik.core.toolpath import Kind, Motion
from parts import box, cut, cylinder, fuse, obround, round_upright_edges

POCKET = {"strategy": "pocket clearing", "stepover_mm": 3.2, "stepdown_mm": 3, "tolerance_mm": 0.01}


def plate():
    """80 × 60 × 20 with a pocket 50 × 36 × 6 (corners R6) and a round island ⌀10."""
    pocket = round_upright_edges(box(15, 12, 14, 50, 36, 6), 6)
    return fuse(cut(box(0, 0, 0, 80, 60, 20), pocket), cylinder(40, 30, 14, 5, 6))


def opening():
    shape = shapely.box(21, 18, 59, 42).buffer(6, quad_segs=256)
    return shape.difference(shapely.Point(40, 30).buffer(5, quad_segs=256))


def pocket_job(shape, level, cutters=None, **params):
    build = job_for(shape, [(1, POCKET | params)], cutters or {1: flat(8)})
    return with_targets(build, 10, faces(build, floor_at(level)))


@pytest.mark.parametrize("pattern", ["outward", "offset", "parallel"])
def test_everything_reachable_is_cleared_and_no_wall_is_cut(pattern):
    build = pocket_job(plate(), 14.0, pattern=pattern)
    outcome = run(build)
    assert outcome.unreached == []
    allowed = opening().buffer(-4, quad_segs=256)
    assert worst_outside(outcome.toolpath, allowed) < 0.01
    reachable = allowed.buffer(4, quad_segs=256)
    left = reachable.difference(swept_area(outcome.toolpath, 4.0, level=14.0))
    assert left.area < 1e-4 * reachable.area


@pytest.mark.parametrize(("pattern", "share"), [("outward", 0.003), ("offset", 0.02)])
def test_next_to_nothing_is_cut_at_full_width_but_the_way_in(pattern, share):
    build = pocket_job(plate(), 14.0, pattern=pattern)
    summary, _ = proof(build)
    assert summary["findings"] == []
    arcs = engaged_arcs(run(build).toolpath, 4.0, 17.0, opening())
    # Stepover 3.2 of ⌀8: arccos(1 − 3.2/4) = 78.5° on straight walls; steps to a new front slant into it.
    assert 55 < np.median(arcs) < 82
    assert np.mean(arcs > 150) < 0.05
    assert np.mean(arcs > 170) < share


@pytest.mark.parametrize(("milling", "sign"), [("climb", 1), ("conventional", -1)])
def test_material_stands_on_one_side_and_the_edge_keeps_its_feed_on_arcs(milling, sign):
    # A pocket in which fronts end at walls on both sides; vf of the edge = vf of the axis · (R ± r) / R, by hand.
    radius, opened = 5.0, shapely.box(12, 18, 34, 48)
    shape = cut(box(0, 0, 0, 60, 60, 20), round_upright_edges(box(12, 18, 15, 22, 30, 6), 5.5))
    path = run(pocket_job(shape, 15.0, {1: flat(10)}, stepover_mm=4, stepdown_mm=8, milling=milling)).toolpath
    sides = engaged_sides(path, radius, 15.0, opened)
    on, other = (sides[:, 2], sides[:, 1])[::sign]
    cutting = sides[:, 1] + sides[:, 2] > 20
    assert cutting.sum() > 100
    assert np.mean(on[cutting] > other[cutting]) > 0.9  # less the steps that slant to a new front
    arcs = np.unique(sides[cutting & (path.motion[sides[:, 0].astype(int)] > 0), 0]).astype(int)
    assert len(arcs) > 10
    for k in arcs:
        own = sides[sides[:, 0] == k]
        right = own[:, 2].sum() > own[:, 1].sum()
        assert right == (milling == "climb")
        hollow = right == (path.motion[k] == Motion.ARC_CCW)
        bend = np.linalg.norm((path.point[k] - path.centre[k])[:2])
        at_edge = path.feed[k] * (bend + radius if hollow else bend - radius) / bend
        assert at_edge < 1.1 * 900
        assert at_edge > 0.9 * 900 or path.edge[k] < 0.9


def test_one_way_in_for_each_pocket_and_no_retract_between_levels():
    path = run(pocket_job(plate(), 14.0)).toolpath
    assert int(np.sum(path.kind == Kind.RETRACT)) == 1


def test_the_walls_of_a_pocket_are_arcs_and_lines():
    path = run(pocket_job(plate(), 14.0)).toolpath
    cutting = path.kind == Kind.CUT
    assert np.sum(cutting & (path.motion > 0)) > 0.4 * cutting.sum()
    assert cutting.sum() < 400


@pytest.mark.parametrize("milling", ["climb", "conventional"])
def test_a_spiral_in_a_round_pocket(milling):
    shape = cut(box(0, 0, 0, 60, 60, 20), cylinder(30, 30, 12, 20, 10))
    build = pocket_job(shape, 12.0, pattern="spiral", milling=milling)
    path = run(build).toolpath
    summary, _ = proof(build)
    assert summary["findings"] == []
    assert engaged_arcs(path, 4.0, 12.0, shapely.Point(30, 30).buffer(20, quad_segs=64)).max() < 100
    assert np.sum(path.kind == Kind.RETRACT) == 1


def test_an_open_step_is_entered_from_outside_the_stock():
    shape = cut(box(0, 0, 0, 60, 40, 20), box(-1, -1, 12, 30, 42, 10))
    build = pocket_job(shape, 12.0)
    path = run(build).toolpath
    assert np.sum(path.kind == Kind.ENTRY) == 0
    summary, _ = proof(build)
    assert summary["findings"] == []
    swept = swept_area(path, 4.0, level=12.0)
    assert shapely.box(0, 0, 29, 40).difference(swept).area < 0.01


def test_rest_of_a_bigger_tool_is_all_that_is_cut():
    shape = cut(box(0, 0, 0, 80, 60, 20), round_upright_edges(box(15, 12, 14, 50, 36, 6), 3))
    build = job_for(
        shape, [(1, POCKET | {"stepover_mm": 6}), (2, POCKET | {"stepover_mm": 2})], {1: flat(16), 2: flat(6)}
    )
    targets = faces(build, floor_at(14.0))
    build = with_targets(with_targets(build, 10, targets), 20, targets)
    big, small = run(build, 10).toolpath, run(build, 20).toolpath
    assert small.cut_length_mm() < 0.4 * big.cut_length_mm()
    rows = small.point[small.kind == Kind.CUT]
    corners = np.array([[15, 12], [65, 12], [15, 48], [65, 48]])
    assert np.min(np.linalg.norm(rows[:, None, :2] - corners, axis=2), axis=1).max() < 16
    summary, _ = proof(build)
    assert summary["findings"] == []
    assert abs(summary["deviation"]["min_mm"]) < 0.03


def test_nested_pockets_and_through_pockets_in_one_operation():
    shape = cut(
        box(0, 0, 0, 90, 60, 20),
        box(10, 10, 14, 40, 40, 10),
        box(20, 20, 8, 20, 20, 10),
        obround(70, 30, -1, 30, 14, 30),
    )
    build = job_for(shape, [(1, POCKET)], {1: flat(8)})
    walls = faces(build, lambda f: f.kind == "cylinder" and f.concave)
    build = with_targets(
        build, 10, faces(build, lambda f: f.kind == "plane" and f.normal[2] > 0.99 and f.centroid[2] < 19) + walls
    )
    outcome = run(build)
    assert outcome.unreached == []
    assert outcome.toolpath.point[:, 2].min() == pytest.approx(-0.5)
    summary, _ = proof(build)
    assert summary["findings"] == []


def test_a_pocket_narrower_than_the_tool_is_told_and_the_others_are_cut():
    shape = cut(box(0, 0, 0, 90, 60, 20), box(10, 10, 14, 30, 40, 10), box(60, 10, 14, 6, 40, 10))
    outcome = run(pocket_job(shape, 14.0))
    assert len(outcome.unreached) == 1
    told = outcome.unreached[0]
    assert "6.00 mm wide and the tool 8 mm" in told.reason
    assert 60 < told.place[0] < 66
    assert outcome.toolpath.cut_length_mm() > 100


def test_finish_passes_on_floor_and_walls_keep_their_own_allowance():
    build = pocket_job(plate(), 14.0, wall_finish_mm=0.5, floor_finish_mm=0.3, allowance_mm=0.1)
    path = run(build).toolpath
    levels = np.unique(np.round(path.point[path.kind == Kind.CUT][:, 2], 6))
    assert levels[0] == pytest.approx(14.0)
    assert levels[1] == pytest.approx(14.3)
    clearing = opening().buffer(-4.6, quad_segs=256)
    finishing = opening().buffer(-4.1, quad_segs=256)
    assert worst_outside(path, finishing) < 0.01
    upper = path.rows(np.flatnonzero(path.point[:, 2] > 14.2))
    assert worst_outside(upper, clearing, (Kind.CUT,)) < 0.01


def test_a_stepover_wider_than_the_tool_is_refused():
    with pytest.raises(FenrikError, match="stepover_mm"):
        run(pocket_job(plate(), 14.0, stepover_mm=9))


@st.composite
def regions(draw):
    """A random polygon with a random island or two."""
    corners = draw(st.lists(st.tuples(st.floats(-30, 30), st.floats(-30, 30)), min_size=4, max_size=12))
    shape = shapely.MultiPoint(corners).buffer(6).union(shapely.LineString(corners).buffer(7))
    for x, y, r in draw(st.lists(st.tuples(st.floats(-25, 25), st.floats(-25, 25), st.floats(1, 5)), max_size=3)):
        shape = shape.difference(shapely.Point(x, y).buffer(r))
    return max(shapely.get_parts(shape), key=lambda p: p.area)


@settings(max_examples=40, deadline=None)
@given(regions(), st.floats(0.8, 4.0))
def test_fronts_fill_any_region_and_never_leave_it(shape, step):
    reachable = from_shape(shape)
    pole = shapely.maximum_inscribed_circle(shape).coords[0]
    cleared = from_shape(shapely.Point(pole).buffer(0.2))
    fronts = grow_fronts(reachable, cleared, step)
    order = in_order(fronts, np.array(pole))
    assert sorted(order) == list(range(len(fronts)))
    fence = shape.buffer(1e-3)
    lines = [shapely.LineString(f.points) for f in fronts]
    assert all(fence.covers(line) for line in lines)
    swept = shapely.union_all([*(shapely.buffer(lines, step + 0.02)), shapely.Point(pole).buffer(step + 0.25)])
    assert shape.difference(swept).area < 1e-3 * shape.area
    # Each pass lies a stepover beyond what was cleared before it, never more.
    assert all(
        f.ground.distance(line) < 1e-6 or f.ground.distance(line) <= step for f, line in zip(fronts, lines, strict=True)
    )
    assert all(
        shapely.hausdorff_distance(line, line.intersection(f.ground.buffer(step + 0.02))) < 0.1
        for f, line in zip(fronts, lines, strict=True)
    )
    assert area_of(from_shape(to_shape(reachable))) == pytest.approx(shape.area)


def test_every_copy_of_a_grid_gets_its_own_pocket():
    build = job_for(plate(), [(1, POCKET)], {1: flat(8)})
    data = json.loads(build.job.model_dump_json())
    data["setups"][0]["grid"] = {"columns": 2, "rows": 1, "pitch_x_mm": 90, "turn_deg": 180}
    data["operations"][0]["params"]["targets"] = faces(build, floor_at(14.0))
    path = run(build.with_job(parse_job(data))).toolpath
    x = path.point[path.kind == Kind.CUT][:, 0]
    assert (x < 80).sum() > 50
    assert (x > 90).sum() > 50

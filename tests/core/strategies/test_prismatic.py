"""Facing, contours, slots, bores, threads, chamfers, engraving and drilling: geometry from closed forms and standards."""

import json
import math

import numpy as np
import pytest
import shapely
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCone
from prism import bore, edges, faces, flat, floor_at, job_for, made, proof, run, tool, with_targets, worst_outside

from fenrik.core.build import Build
from fenrik.core.build.picks import targets_of
from fenrik.core.copies import MirrorCopies, copied
from fenrik.core.cutting.threads import standard_threads
from fenrik.core.errors import FenrikError
from fenrik.core.job_reading import parse_job
from fenrik.core.posting import read_program
from fenrik.core.report import air_shares, setup_report, setup_sheet
from fenrik.core.sketches.curve import Curve, begun_at, lengths_of, piece_of
from fenrik.core.stock import stock_mesh
from fenrik.core.strategies.engraving import medial_axis
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.strategies.sides import offset_chain
from fenrik.core.toolpath import Kind, Motion
from fenrik.core.toolpath.tour import visiting_order
from parts import box, chamfer, cut, cylinder, fuse, obround, round_upright_edges

DRILL5 = {"kind": "drill", "diameter_mm": 5, "point_deg": 118}
CHAMFER = {"kind": "chamfer mill", "diameter_mm": 10, "tip_diameter_mm": 1, "included_deg": 90, "flute_length_mm": 5}


def one(shape, params, cutter, targets, **rest):
    build = job_for(shape, [(1, params)], {1: cutter}, **rest)
    return with_targets(build, 10, targets(build))


def sketched(shape, params, cutter, items, level=0.0, **rest):
    """An operation on a sketch in the work frame (zero at the part's low left, on its top)."""
    sketch = {"id": "s", "setup": "top", "level_mm": level, "items": items}
    params = params | {"targets": [{"kind": "sketch", "sketch": "s"}]}
    return job_for(shape, [(1, params)], {1: cutter}, sketches=[sketch], **rest)


def volume(stock):
    return abs(stock_mesh(stock).volume_mm3())


# Facing


@pytest.mark.parametrize("way", ["both ways", "one way", "spiral in"])
def test_facing_leaves_the_top_flat_and_enters_outside_the_stock(way):
    stock = {"kind": "box", "z_plus_mm": 2}
    build = job_for(box(0, 0, 0, 60, 40, 20), [(1, {"strategy": "facing", "way": way})], {1: flat(16)}, stock)
    path = run(build).toolpath
    summary, _ = proof(build)
    assert summary["findings"] == []
    after = build.stock_after(build.job.operations[0])
    assert after.tops().max() == pytest.approx(20.0, abs=1e-6)
    low = path.point[np.isin(path.kind, [Kind.APPROACH])]
    outside = (low[:, 0] < -2 - 8) | (low[:, 0] > 62 + 8) | (low[:, 1] < -2 - 8) | (low[:, 1] > 42 + 8)
    assert outside.all()


# Contours


def test_a_contour_round_a_block_is_four_lines_and_four_quarter_arcs():
    build = one(
        box(0, 0, 0, 60, 40, 20),
        {"strategy": "contour", "lead": "none", "overlap_mm": 0},
        flat(10),
        lambda b: [{"kind": "outline"}],
    )
    path = run(build).toolpath
    cutting = path.kind == Kind.CUT
    assert np.sum(path.motion[cutting] > 0) == 4
    assert path.cut_length_mm() == pytest.approx(200 + 2 * math.pi * 5, abs=1e-3)
    summary, _ = proof(build)
    assert summary["findings"] == []


def test_a_tapered_mill_keeps_off_an_upright_wall_by_its_width_at_the_top():
    """Flank of a cone tangent to its corner radius: r(z) = R − c + (c + sin t·(z − c)) / cos t, 3 mm over the tip."""
    cutter = {"kind": "tapered", "diameter_mm": 6, "corner_radius_mm": 1, "taper_deg": 3, "flute_length_mm": 14}
    params = {"strategy": "contour", "lead": "none", "bottom_from": "part top", "bottom_mm": -3}
    build = one(box(0, 0, 0, 60, 40, 20), params, cutter, lambda b: [{"kind": "outline"}])
    outcome = run(build)
    t = math.radians(3)
    wide = 3 - 1 + (1 + math.sin(t) * (3 - 1)) / math.cos(t)
    cutting = outcome.toolpath.point[outcome.toolpath.kind == Kind.CUT]
    assert cutting[:, 0].max() == pytest.approx(60 + wide, abs=1e-4)
    (left,) = outcome.unreached
    assert f"{wide - 3:.2f} mm stay at the foot" in left.reason
    summary, _ = proof(build)
    assert not [f for f in summary["findings"] if f["kind"] == "gouge"]


def test_a_tapered_mill_follows_a_wall_that_leans_as_it_does():
    """A round boss with the draft of the tool: at its foot the tool stands as it would beside any foot."""
    cutter = {"kind": "tapered", "diameter_mm": 6, "corner_radius_mm": 1, "taper_deg": 3, "flute_length_mm": 24}
    boss = BRepPrimAPI_MakeCone(20.0, 20 - 20 * math.tan(math.radians(3)), 20.0).Shape()
    build = one(boss, {"strategy": "contour", "lead": "none"}, cutter, lambda b: [{"kind": "outline"}])
    outcome = run(build)
    cutting = outcome.toolpath.point[outcome.toolpath.kind == Kind.CUT]
    assert np.hypot(*cutting[:, :2].T) == pytest.approx(23.0, abs=1e-3)
    assert outcome.unreached == []


def test_the_wall_of_a_pocket_is_followed_inside_with_arcs_in_and_out():
    shape = cut(box(0, 0, 0, 80, 60, 20), round_upright_edges(box(15, 12, 14, 50, 36, 6), 6))
    build = one(shape, {"strategy": "contour"}, flat(8), lambda b: faces(b, floor_at(14.0)))
    path = run(build).toolpath
    allowed = shapely.box(21, 18, 59, 42).buffer(2, quad_segs=256)
    assert worst_outside(path, allowed, (Kind.CUT, Kind.ENTRY, Kind.EXIT)) < 5e-3
    arcs_in = path.motion[path.kind == Kind.ENTRY]
    assert Motion.ARC_CCW in arcs_in
    # Climb inside a pocket with a right-hand cutter: anticlockwise.
    assert np.all(path.motion[(path.kind == Kind.CUT) & (path.motion > 0)] == Motion.ARC_CCW)
    # The pass goes past its start by the overlap.
    round_it = 2 * (38 + 24) + 2 * math.pi * 2
    assert path.cut_length_mm() == pytest.approx(round_it + 1.0, abs=0.01)


def test_side_and_depth_passes_with_allowance():
    params = {"strategy": "contour", "side_passes": 3, "side_step_mm": 1.5, "stepdown_mm": 5, "allowance_mm": 0.2}
    stock = {"kind": "box", "x_minus_mm": 4, "x_plus_mm": 4, "y_minus_mm": 4, "y_plus_mm": 4, "z_plus_mm": 0}
    path = run(one(box(0, 0, 0, 60, 40, 20), params, flat(10), lambda b: [{"kind": "outline"}], stock=stock)).toolpath
    cutting = path.point[path.kind == Kind.CUT]
    assert np.unique(np.round(cutting[:, 2], 6)).tolist() == [0, 5, 10, 15]
    assert cutting[:, 0].max() == pytest.approx(60 + 5 + 0.2 + 3.0, abs=1e-3)
    last = cutting[-4:]
    assert np.abs(last[:, 0]).max() <= 65.2 + 1e-3


def test_side_passes_go_where_stock_stands_and_the_last_one_all_round():
    # Beside a round part in a square block the passes farther out meet the four corners only.
    params = {"strategy": "contour", "side_passes": 3, "side_step_mm": 4, "finish_mm": 0.3}
    stock = {"kind": "box", "x_minus_mm": 1, "x_plus_mm": 1, "y_minus_mm": 1, "y_plus_mm": 1, "z_plus_mm": 0}
    build = one(cylinder(0, 0, 0, 30, 10), params, flat(16), lambda b: [{"kind": "outline"}], stock=stock, cell_mm=0.5)
    path = run(build).toolpath
    far = np.round(np.linalg.norm(path.point[:, :2], axis=1) - 30 - 8, 2)
    length = {d: float(path.lengths()[(path.kind == Kind.CUT) & (far == d)].sum()) for d in (0.0, 4.3, 8.3)}
    assert length[0.0] == pytest.approx(2 * math.pi * 38 + 1, abs=0.1)
    # The corner of the block stands √2 · 31 − 30 = 13.8 mm out; where it is nearer than the pass is wide, no one goes.
    for d, whole in ((4.3, 2 * math.pi * 42.3), (8.3, 2 * math.pi * 46.3)):
        assert 0.3 * whole < length[d] < 0.95 * whole
    summary, columns = proof(build)
    assert summary["findings"] == []
    assert air_shares(columns)[10] < 0.02
    assert volume(build.stock_after(build.job.operations[0])) == pytest.approx(math.pi * 900 * 10, rel=2e-3)


def test_a_ramp_sinks_along_the_contour_and_ends_level():
    params = {"strategy": "contour", "ramp": True, "stepdown_mm": 4}
    path = run(one(box(0, 0, 0, 60, 40, 20), params, flat(10), lambda b: [{"kind": "outline"}])).toolpath
    z = path.point[path.kind == Kind.CUT][:, 2]
    assert np.all(np.diff(z) <= 1e-9)
    assert z[-1] == pytest.approx(0.0)
    assert (np.abs(z) < 1e-9).sum() >= 8


def test_holding_tabs_stay_standing():
    params = {"strategy": "contour", "tabs": 4, "tab_length_mm": 6, "tab_height_mm": 1.5}
    build = one(
        box(0, 0, 0, 60, 40, 10),
        params,
        flat(6),
        lambda b: [{"kind": "outline"}],
        stock={"kind": "box", "z_plus_mm": 0, "x_minus_mm": 8, "x_plus_mm": 8, "y_minus_mm": 8, "y_plus_mm": 8},
    )
    path = run(build).toolpath
    raised = path.rows(np.flatnonzero((path.kind == Kind.CUT) & (np.abs(path.point[:, 2] - 1.5) < 1e-9)))
    assert len(raised) >= 8
    tops = build.stock_after(build.job.operations[0]).tops()
    assert (np.abs(tops - 1.5) < 1e-3).sum() * 0.25**2 == pytest.approx(4 * 6 * 6, rel=0.25)


def test_an_open_chain_keeps_its_side_and_corners_can_be_sharp():
    step = cut(box(0, 0, 0, 60, 40, 20), box(-1, -1, 12, 31, 50, 10))
    build = one(
        step,
        {"strategy": "contour", "lead": "line"},
        flat(8),
        lambda b: edges(
            b, lambda e: e.kind == "line" and abs(e.middle[2] - 12) < 1e-6 and abs(e.middle[0] - 30) < 1e-6
        ),
    )
    path = run(build).toolpath
    assert np.allclose(path.point[path.kind == Kind.CUT][:, 0], 26.0)
    sharp = one(
        box(0, 0, 0, 60, 40, 20),
        {"strategy": "contour", "corners": "sharp", "lead": "none"},
        flat(10),
        lambda b: [{"kind": "outline"}],
    )
    corner = run(sharp).toolpath.point
    assert np.abs(corner[:, :2] - [65, 45]).max(axis=1).min() < 1e-3


def test_a_wall_in_the_way_is_cut_out_of_the_pass_and_told():
    # A step 12 high beside a wall 5 mm away: the pass along the step runs into the wall's corner.
    shape = fuse(cut(box(0, 0, 0, 60, 40, 20), box(-1, -1, 12, 31, 50, 10)), box(0, 15, 12, 25, 10, 8))
    build = one(
        shape,
        {"strategy": "contour", "lead": "none"},
        flat(8),
        lambda b: edges(
            b, lambda e: e.kind == "line" and abs(e.middle[2] - 12) < 1e-6 and abs(e.middle[0] - 30) < 1e-6
        ),
    )
    outcome = run(build)
    assert len(outcome.unreached) == 1
    assert "left out" in outcome.unreached[0].reason
    assert 11 < outcome.unreached[0].place[1] < 29
    summary, _ = proof(build)
    assert [f for f in summary["findings"] if f["kind"] == "gouge"] == []


def test_a_drawn_line_needs_its_side():
    items = [{"kind": "line", "id": "l", "x_mm": 5, "y_mm": 5, "to_x_mm": 40, "to_y_mm": 5}]
    outcome = run(sketched(box(0, 0, 0, 60, 40, 20), {"strategy": "contour"}, flat(8), items))
    assert "side" in outcome.unreached[0].reason
    left = run(
        sketched(
            box(0, 0, 0, 60, 40, 20),
            {"strategy": "contour", "side": "left", "bottom_mm": 30, "top_from": "geometry", "lead": "none"},
            flat(8),
            items,
        )
    )
    assert np.allclose(left.toolpath.point[left.toolpath.kind == Kind.CUT][:, 1], 9.0)


@pytest.mark.parametrize("radius", [2.0, 40.0, 900.0])
def test_an_offset_circle_is_posted_as_at_most_four_arcs(radius):
    circle = Curve.arc(np.zeros(2), radius, 0, 360)
    for side, grown in (("right", 3.0), ("left", -1.5)):
        curves = offset_chain(circle, side, abs(grown))
        assert len(curves) == 1
        assert len(curves[0].stretches) <= 4
        assert curves[0].length_mm() == pytest.approx(2 * math.pi * (radius + grown), abs=5e-3)


def test_pieces_of_curves_have_the_length_asked_for():
    outline = Curve(np.array([[0, 0], [10, 0], [10, 6.0]]), np.array([0.0, 0.4, 0.0]), True)
    total = lengths_of(outline).sum()
    assert piece_of(outline, 3.0, 12.0).length_mm() == pytest.approx(9.0)
    assert begun_at(outline, 4.0, 2.0).length_mm() == pytest.approx(total + 2.0)
    assert np.allclose(begun_at(outline, 4.0).points[0], [4, 0])


# Slots


def test_a_slot_to_and_fro_is_an_obround():
    shape = cut(box(0, 0, 0, 60, 30, 20), obround(30, 15, 14, 40, 8, 10))
    items = [{"kind": "line", "id": "l", "x_mm": 14, "y_mm": 15, "to_x_mm": 46, "to_y_mm": 15}]
    build = sketched(shape, {"strategy": "slot", "stepdown_mm": 2, "tolerance_mm": 0.02}, flat(8), items, level=-6.0)
    summary, _ = proof(build)
    assert summary["findings"] == []
    removed = np.prod([64, 34, 20]) - volume(build.proof_stock(build.job.setups[0], 10))
    assert removed == pytest.approx(6 * (32 * 8 + math.pi * 16), rel=0.01)


def test_a_slot_in_circles_keeps_the_engagement_low():
    shape = cut(box(0, 0, 0, 80, 30, 20), obround(40, 15, 14, 60, 10, 10))
    items = [{"kind": "line", "id": "l", "x_mm": 15, "y_mm": 15, "to_x_mm": 65, "to_y_mm": 15}]
    params = {"strategy": "slot", "way": "in circles", "width_mm": 10, "advance_mm": 0.5, "tolerance_mm": 0.02}
    build = sketched(shape, params, flat(6), items, level=-6.0)
    summary, columns = proof(build)
    assert summary["findings"] == []
    cutting = columns["kind"] == Kind.CUT
    # arccos(1 − 0.5/3) = 33.6° on a straight wall; on the inside of a circle somewhat more.
    assert np.quantile(columns["engagement"][cutting], 0.95) < 80


def test_a_slot_beside_a_wall_is_refused_with_its_place():
    items = [{"kind": "line", "id": "l", "x_mm": 14, "y_mm": 15, "to_x_mm": 46, "to_y_mm": 15}]
    shape = cut(box(0, 0, 0, 60, 30, 20), obround(30, 15, 14, 40, 7, 10))
    outcome = run(sketched(shape, {"strategy": "slot"}, flat(8), items, level=-6.0))
    assert "nearer to the centre line" in outcome.unreached[0].reason
    assert len(outcome.toolpath) == 0


# Holes


def drilled_plate():
    """A through hole ⌀5 and a blind one ⌀5, 12 deep with a 118° point."""
    from parts import cone

    point = 2.5 / math.tan(math.radians(59))
    blind = fuse(cylinder(30, 15, 8, 2.5, 20), cone(30, 15, 8 - point, 0.0, 2.5, point))
    return cut(box(0, 0, 0, 60, 30, 20), cylinder(10, 15, -1, 2.5, 30), blind)


def test_depths_of_drilling_follow_the_holes():
    build = one(drilled_plate(), {"strategy": "drilling", "break_through_mm": 1}, DRILL5, lambda b: faces(b, bore(2.5)))
    outcome = run(build)
    assert outcome.unreached == []
    point = 2.5 / math.tan(math.radians(59))
    deepest = {
        tuple(np.round(p[:2]).astype(int)): p[2] for p in outcome.toolpath.point[outcome.toolpath.kind == Kind.CUT]
    }
    assert deepest[10, 15] == pytest.approx(-1 - point)
    assert deepest[30, 15] == pytest.approx(8 - point)
    summary, _ = proof(build)
    assert summary["findings"] == []


def test_spot_goes_to_its_diameter_and_no_wider():
    build = one(
        drilled_plate(),
        {"strategy": "drilling", "cycle": "spot", "spot_diameter_mm": 4},
        {"kind": "spot drill", "diameter_mm": 8, "point_deg": 90},
        lambda b: faces(b, bore(2.5)),
    )
    path = run(build).toolpath
    assert path.point[:, 2].min() == pytest.approx(20 - 2.0)


def test_a_flat_bottom_is_not_pierced_by_the_point():
    shape = cut(box(0, 0, 0, 60, 30, 20), cylinder(30, 15, 8, 2.5, 20))
    outcome = run(one(shape, {"strategy": "drilling"}, DRILL5, lambda b: faces(b, bore(2.5))))
    assert outcome.toolpath.point[:, 2].min() == pytest.approx(8.0)
    assert "leaves 1.50 mm" in outcome.unreached[0].reason or "flat bottom" in outcome.unreached[0].reason


@pytest.mark.parametrize(
    ("cutter", "params", "words"),
    [
        ({"kind": "drill", "diameter_mm": 6}, {}, "wider than the hole"),
        ({"kind": "tap", "thread": "M6", "diameter_mm": 6}, {"cycle": "drill"}, "tapping cycle"),
        ({"kind": "tap", "thread": "M8", "diameter_mm": 8}, {"cycle": "tap"}, "not the tap drill"),
        ({"kind": "tap", "thread": "M6", "diameter_mm": 6}, {"cycle": "tap", "depth_mm": 40}, "hole ends at"),
        ({"kind": "reamer", "diameter_mm": 4.9}, {"cycle": "ream"}, "does not finish"),
        ({"kind": "drill", "diameter_mm": 5, "flute_length_mm": 10}, {}, "the tool cuts 10.0 mm"),
    ],
)
def test_misfits_of_tool_and_hole_are_told_and_nothing_is_guessed(cutter, params, words):
    outcome = run(one(drilled_plate(), {"strategy": "drilling"} | params, cutter, lambda b: faces(b, bore(2.5))))
    assert any(words in u.reason for u in outcome.unreached)
    assert all(u.place for u in outcome.unreached)


def test_tapping_feeds_by_the_pitch():
    build = one(
        drilled_plate(),
        {"strategy": "drilling", "cycle": "tap"},
        {"kind": "tap", "thread": "M6", "diameter_mm": 6},
        lambda b: faces(b, bore(2.5)),
    )
    path = run(build).toolpath
    # ISO 261: M6 has a pitch of 1 mm; 6000 rpm give 6000 mm/min.
    assert np.all(path.feed[path.kind == Kind.CUT] == pytest.approx(6000.0))
    summary, _ = proof(build)
    assert summary["program_vs_path_mm"] < 1e-3


def test_rapids_between_holes_clear_what_stands_between_and_no_more():
    shape = cut(
        fuse(box(0, 0, 0, 80, 30, 10), box(35, 0, 10, 10, 30, 10)),
        *(cylinder(x, 15, -1, 2.5, 30) for x in (10, 25, 60)),
    )
    stock = {"kind": "file", "file": "cast.stl"}
    from fenrik.core.solids.reading import solid_from_shape
    from fenrik.core.solids.writing import write_solid

    build = job_for(shape, [(1, {"strategy": "drilling"})], {1: DRILL5}, stock, files=["cast.stl"])
    build.files = {
        "cast.stl": write_solid(solid_from_shape(fuse(box(0, 0, 0, 80, 30, 10), box(35, 0, 10, 10, 30, 10))), ".stl")
    }
    targets = faces(build, bore(2.5))
    data = json.loads(build.job.model_dump_json())
    data["operations"][0]["params"]["targets"] = targets
    path = run(Build(parse_job(data), build.model, build.store, files=build.files)).toolpath
    start = np.vstack([path.point[:1], path.point[:-1]])
    across = np.linalg.norm((path.point - start)[:, :2], axis=1) > 1
    heights = {(round(a[0]), round(b[0])): b[2] for a, b in zip(start[across], path.point[across], strict=True)}
    assert heights[10, 25] == pytest.approx(12.0, abs=0.6)
    assert heights[25, 60] == pytest.approx(22.0, abs=0.6)


def test_bore_milling_is_round_to_the_floor():
    shape = cut(box(0, 0, 0, 60, 60, 20), cylinder(30, 30, 8, 12, 20))
    build = one(
        shape,
        {"strategy": "bore milling", "tolerance_mm": 0.02, "finish_mm": 0.2},
        flat(8),
        lambda b: faces(b, bore(12)),
    )
    path = run(build).toolpath
    cutting = path.kind == Kind.CUT
    assert np.all(path.motion[cutting] == Motion.ARC_CCW)
    assert np.linalg.norm(path.point[cutting][:, :2] - 30, axis=1).max() == pytest.approx(8.0)
    summary, _ = proof(build)
    assert summary["findings"] == []
    removed = 64 * 64 * 20 - volume(build.proof_stock(build.job.setups[0], 10))
    assert removed == pytest.approx(math.pi * 144 * 12, rel=0.01)
    small = run(one(shape, {"strategy": "bore milling"}, flat(24), lambda b: faces(b, bore(12))))
    assert "too small" in small.unreached[0].reason


def test_a_bore_that_is_deeper_than_the_flutes_are_long_is_milled_to_size_all_the_way_down():
    shape = cut(box(0, 0, 0, 60, 60, 30), cylinder(30, 30, 4, 12, 40))
    necked = tool(1, flat(8, flute_length_mm=9), neck_diameter_mm=7.8, neck_length_mm=40)
    build = one(
        shape,
        {"strategy": "bore milling", "tolerance_mm": 0.02, "finish_mm": 0.08},
        flat(8),
        lambda b: faces(b, bore(12)),
        tools=[necked],
    )
    run(build)
    summary, _ = proof(build)
    assert summary["findings"] == []
    removed = 64 * 64 * 30 - volume(build.proof_stock(build.job.setups[0], 10))
    assert removed == pytest.approx(math.pi * 144 * 26, rel=0.01)


@pytest.mark.parametrize("teeth", ["single", "full form"])
@pytest.mark.parametrize(("hand", "milling"), [("right", "climb"), ("left", "climb"), ("right", "conventional")])
def test_threads_have_the_lead_and_the_major_diameter_of_the_standard(teeth, hand, milling):
    thread = standard_threads()["M12"]
    shape = cut(box(0, 0, 0, 40, 40, 20), cylinder(20, 20, -1, thread.tap_drill_mm / 2, 30))
    cutter = {
        "kind": "thread mill",
        "thread": "M12",
        "diameter_mm": 8,
        "teeth": teeth,
        "neck_diameter_mm": 5,
        "flute_length_mm": 15,
    }
    path = made(
        one(
            shape,
            {"strategy": "thread milling", "hand": hand, "milling": milling},
            cutter,
            lambda b: faces(b, bore(thread.tap_drill_mm / 2)),
        )
    ).toolpath
    cutting = np.flatnonzero(path.kind == Kind.CUT)
    rise = path.point[cutting, 2] - path.point[cutting - 1, 2]
    # Half turns: half the lead each, ISO 261 pitch 1.75; ISO 724 major diameter 12.
    assert np.allclose(np.abs(rise), thread.pitch_mm / 2, atol=1e-9) or teeth == "single"
    assert np.abs(rise).max() == pytest.approx(thread.pitch_mm / 2)
    assert 2 * (np.linalg.norm(path.point[cutting][:, :2] - 20, axis=1).max() + 4) == pytest.approx(thread.major_mm)
    anticlockwise = np.all(path.motion[cutting] == Motion.ARC_CCW)
    assert anticlockwise == (milling == "climb")
    # Common practice: an internal right-hand thread from the bottom up is climb milling.
    assert (rise[0] > 0) == ((hand == "right") == (milling == "climb"))
    if teeth == "single":
        assert abs(rise.sum()) == pytest.approx(20.0, rel=1e-6)


def test_an_outside_thread_keeps_its_minor_diameter_and_pipe_threads_taper():
    boss = fuse(box(0, 0, 0, 40, 40, 5), cylinder(20, 20, 5, 6, 15))
    cutter = {"kind": "thread mill", "thread": "M12", "diameter_mm": 8, "teeth": "single", "neck_diameter_mm": 5}
    picked = lambda b: faces(b, lambda f: f.kind == "cylinder" and not f.concave)  # noqa: E731
    path = made(
        one(boss, {"strategy": "thread milling", "where": "outside", "thread": "M12", "depth_mm": 10}, cutter, picked)
    ).toolpath
    radius = np.linalg.norm(path.point[path.kind == Kind.CUT][:, :2] - 20, axis=1)
    assert 2 * (radius.max() - 4) == pytest.approx(12 - 1.082532 * 1.75, abs=1e-6)
    hole = cut(box(0, 0, 0, 40, 40, 20), cylinder(20, 20, -1, 5.1, 30))
    taper = made(
        one(hole, {"strategy": "thread milling", "taper_ratio": 1 / 16}, cutter, lambda b: faces(b, bore(5.1)))
    ).toolpath
    rows = taper.point[taper.kind == Kind.CUT]
    radius = np.linalg.norm(rows[:, :2] - 20, axis=1)
    assert (radius[-1] - radius[0]) / (rows[-1, 2] - rows[0, 2]) == pytest.approx(1 / 32, rel=1e-6)


@pytest.mark.parametrize(
    ("params", "cutter", "words"),
    [
        ({"thread": "M16"}, {}, "pitch 1.75 mm is not that of the thread"),
        ({"thread": "M99"}, {}, "not a thread that Fenrik knows"),
        ({}, {"diameter_mm": 11}, "does not go into"),
    ],
)
def test_threads_that_do_not_fit_say_why(params, cutter, words):
    shape = cut(box(0, 0, 0, 40, 40, 20), cylinder(20, 20, -1, 5.1, 30))
    tool = {"kind": "thread mill", "thread": "M12", "diameter_mm": 8, "teeth": "single", "neck_diameter_mm": 5} | cutter
    outcome = run(one(shape, {"strategy": "thread milling"} | params, tool, lambda b: faces(b, bore(5.1))))
    assert words in outcome.unreached[0].reason


# Chamfers and engraving


def top_edges(build):
    return edges(
        build, lambda e: e.turn == "convex" and np.ptp(e.points[:, 2]) < 1e-6 and abs(e.points[0, 2] - 20) < 1e-6
    )


def test_a_chamfer_has_its_width():
    build = one(
        box(0, 0, 0, 60, 40, 20),
        {"strategy": "edge chamfer", "width_mm": 1, "tip_offset_mm": 0.5},
        CHAMFER,
        top_edges,
        stock={"kind": "box", "x_minus_mm": 0, "x_plus_mm": 0, "y_minus_mm": 0, "y_plus_mm": 0, "z_plus_mm": 0},
    )
    path = run(build).toolpath
    cutting = path.point[path.kind == Kind.CUT]
    # 90° cone: the tip 1 + 0.5 below the edge, the axis beside the wall by 0.5 (tip) + 0.5.
    assert np.allclose(cutting[:, 2], 18.5)
    assert cutting[:, 0].max() == pytest.approx(61.0, abs=1e-3)
    removed = 60 * 40 * 20 - volume(build.stock_after(build.job.operations[0]))
    # A prism of half a square millimetre along 200 mm, mitred at the corners (closed form: 0.5·(200 − 8/3)).
    assert removed == pytest.approx(0.5 * (200 - 8 / 3), rel=0.06)  # cells of 0.25 mm


def sharp_piece():
    """60 × 40 × 20 with a step, a bore, a groove from the side (overhung), and one edge that has its chamfer."""
    groove = box(-1, -1, 5, 10, 60, 5)
    body = cut(box(0, 0, 0, 60, 40, 20), box(40, -1, 12, 30, 50, 20), cylinder(20, 20, -1, 5, 40), groove)
    return chamfer(body, 2, lambda a, b, m: max(abs(p[1]) + abs(p[2] - 20) for p in (a, b, m)) < 1e-6)


def test_all_sharp_edges_of_the_part_or_of_a_face_in_one_pick():
    build = one(sharp_piece(), {"strategy": "edge chamfer"}, CHAMFER, lambda b: [{"kind": "sharp edges"}])
    chains = targets_of(build, build.job.operations[0]).chains
    lengths = {z: sum(c.curve.length_mm() for c in chains if abs(c.level - z) < 1e-6) for z in (20, 12, 5, 0)}
    # The rim without the side that has its chamfer (38 + 40 + 38) and the mouth of the bore; three sides of the step.
    assert lengths[20] == pytest.approx(116 + 10 * np.pi, abs=1e-3)
    assert lengths[12] == pytest.approx(80)
    assert lengths[5] == lengths[0] == 0
    assert made(build).toolpath.cut_length_mm() > 200
    step = one(
        sharp_piece(),
        {"strategy": "edge chamfer"},
        CHAMFER,
        lambda b: [{"kind": "sharp edges", "faces": faces(b, floor_at(12.0))[0]["faces"]}],
    )
    chains = targets_of(step, step.job.operations[0]).chains
    assert sum(c.curve.length_mm() for c in chains) == pytest.approx(80)


def test_a_wall_beside_an_edge_shortens_the_chamfer_and_is_told():
    shape = cut(box(0, 0, 0, 60, 40, 20), box(-1, -1, 10, 61 + 1, 21, 20), box(-1, -1, 10, 20, 50, 20))

    def picked(b):
        return edges(
            b, lambda e: e.turn == "convex" and np.ptp(e.points[:, 2]) < 1e-6 and abs(e.points[0, 2] - 10) < 1e-6
        )

    outcome = made(one(shape, {"strategy": "edge chamfer"}, CHAMFER, picked))
    assert any("left out" in u.reason for u in outcome.unreached)
    assert outcome.toolpath.cut_length_mm() > 20


def test_a_chamfer_needs_a_cone():
    with pytest.raises(FenrikError, match="edge chamfer cannot use"):
        run(one(box(0, 0, 0, 60, 40, 20), {"strategy": "edge chamfer"}, flat(8), top_edges))


def test_engraving_follows_arcs_and_text_at_its_depth():
    items = [
        {"kind": "circle", "id": "c", "x_mm": 30, "y_mm": 20, "radius_mm": 8},
        {"kind": "text", "id": "t", "text": "SKARROW", "height_mm": 5, "x_mm": 5, "y_mm": 5},
    ]
    cutter = {"kind": "engraving", "diameter_mm": 4, "tip_diameter_mm": 0.1, "included_deg": 60, "flute_length_mm": 6}
    path = run(
        sketched(
            box(0, 0, 0, 60, 40, 20), {"strategy": "engraving", "depth_mm": 0.3, "stepdown_mm": 0.15}, cutter, items
        )
    ).toolpath
    cutting = path.kind == Kind.CUT
    assert sorted(set(np.round(path.point[cutting][:, 2], 6))) == [19.7, 19.85]
    arcs = path.lengths()[cutting & (path.motion > 0)]
    assert arcs[:4].sum() == pytest.approx(2 * 2 * math.pi * 8, rel=1e-3) or arcs.sum() > 2 * 2 * math.pi * 8 - 0.1
    # At the outer edge of the groove the chip is what was asked: on the circle of 8 mm at full depth the cone is as wide
    # as 0.05 mm + 0.3 mm · tan 30°.
    wide = 0.05 + 0.3 * math.tan(math.radians(30))
    starts = np.vstack([path.point[:1], path.point[:-1]])
    round_ = (path.motion > 0) & (np.abs(np.linalg.norm((path.centre - starts)[:, :2], axis=1) - 8) < 0.01) & cutting
    deep = round_ & (path.point[:, 2] < 19.71)
    assert path.feed[deep] == pytest.approx(path.feed[cutting].max() * 8 / (8 + wide), rel=1e-3)


def test_between_lines_a_cone_is_as_deep_as_they_are_apart():
    items = [{"kind": "rectangle", "id": "r", "x_mm": 30, "y_mm": 20, "width_mm": 30, "height_mm": 2}]
    cutter = {"kind": "engraving", "diameter_mm": 6, "tip_diameter_mm": 0, "included_deg": 90, "flute_length_mm": 6}
    path = run(
        sketched(
            box(0, 0, 0, 60, 40, 20),
            {"strategy": "engraving", "way": "between the lines", "depth_mm": 3},
            cutter,
            items,
        )
    ).toolpath
    cutting = path.point[path.kind == Kind.CUT]
    # Half the width of 2 mm over tan 45°.
    assert cutting[:, 2].min() == pytest.approx(19.0, abs=0.01)
    on_line = cutting[np.abs(cutting[:, 0] - 30) < 10]
    assert np.abs(on_line[:, 1] - 20).max() < 0.01


def test_the_medial_axis_of_a_rectangle_ends_in_its_corners():
    lines = medial_axis(shapely.box(0, 0, 20, 4))
    points = np.vstack([line for line, _ in lines])
    room = np.concatenate([r for _, r in lines])
    assert room.max() == pytest.approx(2.0, abs=0.01)
    assert np.hypot(*(points - [20, 4]).T).min() < 0.3


# Order


def test_the_order_of_holes_is_short_and_the_same_each_time():
    places = np.random.default_rng(3).uniform(0, 300, (60, 2))
    first, again = visiting_order(places, "shortest way"), visiting_order(places, "shortest way")
    assert np.array_equal(first, again)
    assert sorted(first.tolist()) == list(range(60))

    def length(order):
        return np.linalg.norm(np.diff(places[order], axis=0), axis=1).sum()

    # Beardwood, Halton & Hammersley: about 0.7124·√(n·A) for the best tour; ours stays near it.
    assert length(first) < 1.15 * 0.7124 * math.sqrt(60 * 300 * 300)
    grid = np.array([[x, y] for y in range(4) for x in range(5)], float)
    rows = visiting_order(grid, "rows")
    assert length_of(grid[rows]) == pytest.approx(19.0)


def length_of(points):
    return np.linalg.norm(np.diff(points, axis=0), axis=1).sum()


# Compensation


@pytest.mark.parametrize(("milling", "word"), [("climb", "G41"), ("conventional", "G42")])
def test_wear_compensation_goes_on_and_off_on_straight_motions_and_is_read_back(milling, word):
    params = {"strategy": "contour", "compensation": "wear", "milling": milling}
    build = one(box(0, 0, 0, 60, 40, 20), params, flat(10), lambda b: [{"kind": "outline"}])
    program = build.programs(build.job.setups[0])[0]
    lines = program.text.decode().splitlines()
    on, off = (
        next(k for k, t in enumerate(lines) if word in t),
        len(lines) - 1 - next(k for k, t in enumerate(lines[::-1]) if t == "G40"),
    )
    assert lines[on] == f"{word} D1"
    assert lines[on + 1].startswith("G1 ") or lines[on + 1][0] in "XY"
    assert lines[off + 1].startswith("G1 ") or lines[off + 1][0] in "XY"
    summary, _ = proof(build)
    assert summary["findings"] == []
    assert summary["program_vs_path_mm"] < 1e-3


def test_compensation_without_ways_in_is_refused_with_its_place():
    params = {"strategy": "contour", "compensation": "wear", "lead": "none"}
    outcome = run(one(box(0, 0, 0, 60, 40, 20), params, flat(10), lambda b: [{"kind": "outline"}]))
    assert "needs ways in and out" in outcome.unreached[0].reason


@pytest.mark.parametrize(
    ("line", "words"), [("G41 D1\nG2 X10 Y0 I5 J0 F100", "on an arc"), ("G42\nG1 X5 F100", "without its offset")]
)
def test_the_interpreter_refuses_wrong_compensation(line, words):
    with pytest.raises(FenrikError, match=words):
        read_program(f"G0 X0 Y0 Z5\n{line}\nM2\n".encode())


# Keep-outs


def kept_out(params, cutter, items, targets):
    build = sketched(cut(drilled_plate(), box(40, 5, 14, 15, 20, 10)), params | {"keep_out": "s"}, cutter, items)
    return run(with_targets(build, 10, targets(build)))


def test_a_keep_out_is_cut_out_of_passes_and_holes_and_told():
    ring = [{"kind": "circle", "id": "c", "x_mm": 10, "y_mm": 15, "radius_mm": 4}]
    drilled = kept_out({"strategy": "drilling"}, DRILL5, ring, lambda b: faces(b, bore(2.5)))
    assert ["keep-out" in u.reason for u in drilled.unreached] == [True]
    assert np.abs(drilled.toolpath.point[drilled.toolpath.kind == Kind.CUT][:, 0] - 30).max() < 1e-9
    across = [{"kind": "rectangle", "id": "r", "x_mm": 47.5, "y_mm": 15, "width_mm": 2, "height_mm": 30}]
    pocket = {"strategy": "pocket clearing", "stepover_mm": 1.5}
    path = kept_out(pocket, flat(4), across, lambda b: faces(b, floor_at(14.0))).toolpath
    cutting = path.point[path.kind == Kind.CUT]
    assert (np.abs(cutting[:, 0] - 47.5) >= 1 + 2 - 0.01).all()
    assert cutting[:, 0].min() < 44
    assert cutting[:, 0].max() > 51


def test_a_boundary_holds_passes_curves_and_holes_inside_and_tells_the_rest():
    fence = [{"kind": "rectangle", "id": "f", "x_mm": 15, "y_mm": 15, "width_mm": 30, "height_mm": 30}]

    def fenced(params, cutter, items, targets):
        build = sketched(drilled_plate(), params | {"stay_in": "s"}, cutter, fence)
        data = json.loads(build.job.model_dump_json())
        data["sketches"].append(data["sketches"][0] | {"id": "t", "items": items})
        build = Build(parse_job(data), build.model, build.store)
        return run(with_targets(build, 10, targets(build) if targets else [{"kind": "sketch", "sketch": "t"}]))

    line = [{"kind": "line", "id": "l", "x_mm": 5, "y_mm": 10, "to_x_mm": 55, "to_y_mm": 10}]
    for params in ({"strategy": "engraving"}, {"strategy": "contour", "side": "on the curve", "lead": "none"}):
        outcome = fenced(params | {"bottom_mm": -0.2}, flat(2), line, None)
        cutting = outcome.toolpath.point[outcome.toolpath.kind == Kind.CUT]
        assert cutting[:, 0].max() == pytest.approx(30, abs=1e-6)
        assert "25.0 mm of the" in outcome.unreached[0].reason
    drilled = fenced({"strategy": "drilling"}, DRILL5, line, lambda b: faces(b, bore(2.5)))
    assert ["outside the boundary" in u.reason for u in drilled.unreached] == [True] * len(drilled.unreached)
    assert drilled.unreached
    assert drilled.toolpath.point[:, 0].max() < 30


@pytest.mark.parametrize(("strategy", "extra"), [("engraving", {}), ("contour", {"side": "on the curve"})])
def test_a_depth_below_the_geometry_is_meant_and_a_number_from_the_work_zero_is_not(strategy, extra):
    declared = STRATEGIES[strategy]

    def meant(**fields):
        return declared.meant_depth_mm(declared.params(strategy=strategy, **extra, **fields), None)

    assert meant(bottom_mm=-20, bottom_from="work zero") == meant(bottom_mm=0)
    assert meant(bottom_mm=-0.2) == pytest.approx(meant(bottom_mm=0) + 0.2)


# Compensation by the controller


def by_controller(shape, cutter=None, targets=None, **params):
    params = {"strategy": "contour", "compensation": "controller", "stepdown_mm": 8} | params
    return one(shape, params, cutter or flat(10), targets or (lambda b: [{"kind": "outline"}]))


@pytest.mark.parametrize("milling", ["climb", "conventional"])
def test_the_controller_is_given_the_contour_itself(milling):
    build = by_controller(box(0, 0, 0, 60, 40, 20), milling=milling)
    program = build.programs(build.job.setups[0])[0]
    assert program.radii_mm == {1: 5.0}
    written, driven = (read_program(program.text, 0, table) for table in ({}, program.radii_mm))
    zero = build.zero(build.job.setups[0])
    on_wall = written.point[(written.side > 0) & (written.code == 1), :2] + zero[:2]
    sides = [(on_wall[:, k] - v).tolist() for k, v in ((0, 0), (0, 60), (1, 0), (1, 40))]
    assert all(any(abs(v) < 1e-3 for v in side) for side in sides)
    assert (driven.code >= 2).sum() > (written.code >= 2).sum()  # the corners' arcs are the controller's
    summary, _ = proof(build)
    assert summary["findings"] == []
    assert summary["program_vs_path_mm"] < 2e-3
    setup = build.job.setups[0]
    sheet = setup_sheet(build, {setup.id: setup_report(build, setup)})
    assert '<td>D1</td><td class="n">5.0000</td>' in sheet


def test_the_proof_of_a_rounded_pocket_cut_by_the_controller_is_to_size():
    pocket = round_upright_edges(box(10, 8, 10, 40, 24, 20), 7)
    build = by_controller(cut(box(0, 0, 0, 60, 40, 20), pocket), flat(8), lambda b: faces(b, floor_at(10.0)))
    outcome = run(build)
    assert outcome.unreached == []
    summary, _ = proof(build)
    assert summary["program_vs_path_mm"] < 2e-3
    assert [f for f in summary["findings"] if f["kind"] != "full width"] == []
    assert summary["deviation"]["min_mm"] > -0.02


def test_compensation_without_room_for_a_straight_entry_is_told_and_the_rest_is_cut():
    narrow = box(10, 5, 10, 40, 10.6, 20)
    wide = box(10, 20, 10, 40, 30, 20)
    build = by_controller(cut(box(0, 0, 0, 60, 60, 20), narrow, wide), flat(8), lambda b: faces(b, floor_at(10.0)))
    outcome = run(build)
    assert ["longer than the offset" in u.reason for u in outcome.unreached] == [True]
    assert outcome.toolpath.point[outcome.toolpath.kind == Kind.CUT][:, 1].min() > 20


@pytest.mark.parametrize("params", [{"ramp": True}, {"side": "on the curve"}])
def test_compensation_that_cannot_be_is_refused(params):
    with pytest.raises(FenrikError, match="at the controller"):
        run(by_controller(box(0, 0, 0, 60, 40, 20), **params))


def test_one_offset_number_means_one_thing():
    wear = {"strategy": "contour", "compensation": "wear"}
    rows = [(1, wear), (1, wear | {"compensation": "controller"})]
    build = job_for(box(0, 0, 0, 60, 40, 20), rows, {1: flat(10)})
    for number in (10, 20):
        build = with_targets(build, number, [{"kind": "outline"}])
    with pytest.raises(FenrikError, match="offset D1"):
        build.programs(build.job.setups[0])


def test_a_mirrored_pass_changes_the_side_of_its_compensation():
    build = by_controller(box(0, 0, 0, 60, 40, 20))
    path = run(build).toolpath
    mirrored = copied(path, path, MirrorCopies(original=False), np.zeros(3))[0]
    assert set(path.side.tolist()) == {0, 41}
    assert set(mirrored.side.tolist()) == {0, 42}


@pytest.mark.parametrize(
    ("lines", "words"),
    [
        ("G1 G41 D1 X2 Y0 F100", "no longer than the offset"),
        ("G1 G41 D1 X20 Y0 F100\nG3 X22 Y2 I0 J2", "smaller than the tool's radius"),
        ("G18\nG1 G41 D1 X20 F100", "outside the XY plane"),
    ],
)
def test_the_interpreter_refuses_contours_that_the_offset_does_not_fit(lines, words):
    with pytest.raises(FenrikError, match=words):
        read_program(f"G0 X0 Y0 Z5\n{lines}\nM2\n".encode(), 0, {1: 5.0})


# Corners, starts, ends, feeds


def outline_with(**params):
    return one(box(0, 0, 0, 60, 40, 20), {"strategy": "contour"} | params, flat(10), lambda b: [{"kind": "outline"}])


def test_looped_corners_leave_the_corner_sharp_and_return_to_it():
    build = outline_with(corners="looped")
    path = run(build).toolpath
    arcs = (path.motion > 0) & (path.kind == Kind.CUT)
    assert arcs.sum() == 4
    spans = [path.sweep(int(i), path.point[i - 1]) for i in np.flatnonzero(arcs)]
    assert np.degrees([s[0] for s in spans]) == pytest.approx(270.0)
    assert proof(build)[0]["findings"] == []


def test_starts_near_a_place_and_spread_over_the_levels():
    near = run(outline_with(start="near a place", start_x_mm=60, start_y_mm=40, lead="none")).toolpath
    x, y = near.point[np.flatnonzero(near.kind == Kind.ENTRY)[-1], :2]
    assert np.hypot(x - 60, y - 40) < 5 + 1e-6
    build = outline_with(start="spread", stepdown_mm=5)
    path = run(build).toolpath
    begins = [
        path.point[np.flatnonzero(path.pass_id == k)[0] - 1, :2] for k in np.unique(path.pass_id[path.pass_id >= 0])
    ]
    assert len({(round(x, 3), round(y, 3)) for x, y in begins}) == 4
    assert proof(build)[0]["findings"] == []


def test_open_passes_run_on_past_their_ends_where_there_is_room():
    line = [{"kind": "line", "id": "l", "x_mm": 20, "y_mm": 0, "to_x_mm": 40, "to_y_mm": 0}]
    params = {"strategy": "contour", "side": "right", "lead": "none", "run_on_mm": 6, "bottom_mm": -5}
    path = run(sketched(box(0, 0, 0, 60, 40, 20), params, flat(10), line)).toolpath
    x = path.point[np.isin(path.kind, [Kind.CUT, Kind.ENTRY]), 0]
    assert (x.min(), x.max()) == pytest.approx((14.0, 46.0))


def test_the_last_pass_has_its_own_feed_depth_and_leaving():
    params = {"side_passes": 2, "finish_mm": 0.4, "finish_feed_percent": 50, "finish_at_once": True, "stepdown_mm": 5}
    path = run(outline_with(**params)).toolpath
    cutting = (path.kind == Kind.CUT) & (path.motion == Motion.LINE)
    assert set(path.feed[cutting].tolist()) == {900.0, 450.0}
    last = cutting & (path.feed == 450)
    assert set(np.round(path.point[last, 2], 6).tolist()) == {0.0}
    assert path.point[last, 1].min() == pytest.approx(-5.0, abs=3e-3)
    rough = cutting & (path.feed == 900)
    assert path.point[rough, 1].min() == pytest.approx(-6.4, abs=3e-3)


def test_chains_that_run_against_the_others_are_told_and_the_others_cut():
    circles = [
        {"kind": "circle", "id": "a", "x_mm": 15, "y_mm": 20, "radius_mm": 8},
        {"kind": "arc", "id": "b", "x_mm": 45, "y_mm": 20, "radius_mm": 8, "start_deg": 0, "sweep_deg": -180},
        {"kind": "arc", "id": "c", "x_mm": 45, "y_mm": 20, "radius_mm": 8, "start_deg": 180, "sweep_deg": -180},
        {"kind": "circle", "id": "d", "x_mm": 15, "y_mm": 40, "radius_mm": 4},
    ]
    params = {"strategy": "contour", "side": "left", "bottom_mm": 0}
    stock = {"kind": "box", "z_plus_mm": 2}
    outcome = run(sketched(box(0, 0, 0, 60, 60, 20), params, flat(4), circles, stock=stock))
    assert ["runs the other way" in u.reason for u in outcome.unreached] == [True]
    assert outcome.toolpath.point[outcome.toolpath.kind == Kind.CUT][:, 0].max() < 30


def test_a_deep_hole_is_pecked_in_steps_that_shrink_to_the_least():
    cutter = DRILL5 | {"flute_length_mm": 60}
    params = {"strategy": "drilling", "cycle": "deep hole", "peck_mm": 10, "next_peck_percent": 50, "least_peck_mm": 4}
    build = one(
        cut(box(0, 0, 0, 40, 40, 40), cylinder(20, 20, -1, 2.5, 60)), params, cutter, lambda b: faces(b, bore(2.5))
    )
    path = run(build).toolpath
    ends = path.point[path.kind == Kind.CUT][:, 2]
    # From 2 mm over the top: 10, 5, then 4 each; the last to the full diameter 1 mm below the part.
    bottom = -1 - 2.5 / math.tan(math.radians(59))
    assert ends[:3].tolist() == [32, 27, 23]
    assert np.all(np.diff(ends[1:-1]) == -4)
    assert ends[-1] == pytest.approx(bottom)
    assert -4 <= ends[-1] - ends[-2] < 0
    # Out of the hole after every peck.
    assert (path.point[path.kind == Kind.RAPID][:, 2] == 42).sum() >= len(ends)
    summary, _ = proof(build)
    assert summary["findings"] == []
    assert summary["program_vs_path_mm"] < 2e-3


def test_forms_show_no_field_that_an_operation_makes_nothing_of():
    def idle(strategy):
        shown = STRATEGIES[strategy].params.model_json_schema()["properties"]
        return {name for name, field in shown.items() if field.get("idle")}

    allowances = {"allowance_mm", "floor_allowance_mm"}
    heights = {"top_from", "top_mm", "bottom_from", "bottom_mm"}
    assert idle("drilling") == idle("back boring") == idle("thread milling") == allowances | heights
    assert idle("engraving") == allowances | {"top_from", "top_mm"}
    assert idle("contour") == set()

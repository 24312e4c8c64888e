"""From features to a route: nothing forgotten, rules obeyed, order kept; copies of paths."""

import json
from functools import cache
from typing import Annotated

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from prism import bore, faces, flat, floor_at, job_for, proof, run, with_targets

from fenrik.core.copies import LineCopies, RoundCopies, copied, joined_copies, where_stock_lets
from fenrik.core.errors import FenrikError
from fenrik.core.job_reading import parse_job
from fenrik.core.planning import coverage, make_holes, propose_order, propose_route, propose_sides, with_route
from fenrik.core.planning.forecast import forecast
from fenrik.core.planning.planner import BORE, REST, ROUGH, WALL, Draft, Planner
from fenrik.core.recipe import Recipe
from fenrik.core.solids.reading import mesh_at, solid_from_shape
from fenrik.core.solids.references import reference_to
from fenrik.core.stock.shaping import stock_from_mesh
from fenrik.core.strategies.picked import TargetParams
from fenrik.core.toolpath import Kind, Motion
from fenrik.core.tools import Tool, cutting_profile
from fenrik.demo.shop import SHOP_TOOLS
from parts import box, cut, cylinder, fillet, fuse, round_upright_edges

SHOP = [Tool.model_validate(t) for t in SHOP_TOOLS]
SHORT = [t for t in SHOP if "neck" not in t.name]
"""No mill of these goes 18 mm deep into ⌀5."""


def piece():
    """A plate with a pocket (corners R5), four through holes ⌀5, one bore ⌀40, and a hole that opens sideways."""
    pocket = round_upright_edges(box(20, 15, 12, 60, 40, 20), 5)
    holes = [cylinder(x, y, -1, 2.5, 40) for x in (8, 132) for y in (8, 62)]
    return cut(
        box(0, 0, 0, 140, 70, 18), pocket, *holes, cylinder(108, 35, -1, 20, 40), cylinder(-1, 35, 6, 3, 12, (1, 0, 0))
    )


def proposed(recipe=None, shape=piece, short=False):
    """The route of a shape; worked out once for each recipe."""
    return _proposed((recipe or Recipe()).model_dump_json(), shape, short)


@cache
def _proposed(recipe, shape, short):
    build = job_for(shape(), [], {1: flat(12)}, {"kind": "box", "z_plus_mm": 1}, cell_mm=0.4)
    shop = SHORT if short else SHOP
    found = propose_route(build, build.job.setups[0], shop, Recipe.model_validate_json(recipe))
    job = build.job.model_copy(update={"operations": found.operations, "tools": [*build.job.tools, *found.tools]})
    return found, build.with_job(job)


def names(found):
    return [o.name for o in found.operations]


def test_a_route_covers_all_that_can_be_seen_and_counts_the_rest():
    found, build = proposed()
    assert found.uncovered == []
    left = coverage(build).uncovered
    assert [u.kind for u in left] == ["hole"]
    assert left[0].words.startswith("⌀6")
    assert abs(left[0].direction[0]) == pytest.approx(1.0)


def test_the_order_is_that_of_a_careful_programmer():
    found, _ = proposed()
    rank = {name: k for k, name in enumerate(names(found))}
    assert rank["Face the top"] == 0
    assert rank["Rough pockets"] < rank["Spot"] < rank["Drill ⌀5"] < rank["Tap M6"] < rank["Walls"]


def test_rules_are_obeyed():
    recipe = Recipe(threads="leave plain", spot_holes=False, face_top=False, mill_over_mm=4)
    found, _ = proposed(recipe, short=True)
    assert not any(n.startswith(("Tap", "Spot", "Face", "Drill")) for n in names(found))
    # Holes over 4 mm are milled, down to the middle where mills are too short.
    assert [u.kind for u in found.uncovered] == ["hole"] * 4
    assert all("milled from the far side" in u.why for u in found.uncovered)
    assert all(r.rule for r in found.reasons)


any_recipe = st.fixed_dictionaries(
    {n: st.from_type(Annotated[f.annotation, f, *f.metadata]) for n, f in Recipe.model_fields.items() if n != "name"}
).map(lambda values: Recipe(**values))


@cache
def plate_job():
    return job_for(piece(), [], {1: flat(12)}, {"kind": "box", "z_plus_mm": 1})


@cache
def nothing_made():
    return forecast(plate_job())


@settings(max_examples=10, deadline=None)
@given(recipe=any_recipe)
def test_any_rules_make_a_route_or_say_what_is_left(recipe):
    build = plate_job()
    found = propose_route(build, build.job.setups[0], SHOP, recipe, before=nothing_made())
    numbers = {t.number for t in [*build.job.tools, *found.tools]}
    assert {o.tool for o in found.operations} <= numbers
    made = {
        json.dumps(f.model_dump(), sort_keys=True)
        for o in found.operations
        if isinstance(o.params, TargetParams)
        for t in o.params.targets
        for f in t.faces
    }
    assert len(made) + len(found.uncovered) > 0


def test_a_material_that_is_cut_very_slowly_still_has_a_speed_and_a_feed():
    slow = {"name": "Slow", "group": "S", "hardness_hb": 400, "kc11_n_mm2": 9000, "mc": 0.3}
    material = {"materials": [slow | {"surface_speed_m_min": 0.01}], "material": "Slow"}
    build = job_for(piece(), [], {1: flat(12)}, {"kind": "box", "z_plus_mm": 1}, **material)
    found = propose_route(build, build.job.setups[0], SHOP, Recipe(), before=nothing_made())
    assert found.operations
    assert all(0 < o.cutting_feed_mm_min < 50 for o in found.operations)


@pytest.mark.parametrize(("group", "cycle", "first"), [("N", "drill", None), ("P", "peck", 5.0), ("S", "peck", 2.5)])
def test_how_deep_a_hole_is_drilled_at_once_goes_by_the_material(group, cycle, first):
    """⌀5 through 22 mm is 4.4 diameters: at once in light metal, in pecks in steel, in short ones in tough metal."""
    material = {"name": "Some", "group": group, "hardness_hb": 150, "kc11_n_mm2": 1500, "mc": 0.25}
    chosen = {"materials": [material | {"surface_speed_m_min": 100}], "material": "Some"}
    shape = cut(box(0, 0, 0, 60, 40, 22), cylinder(30, 20, -1, 2.5, 40))
    build = job_for(shape, [], {1: flat(12)}, {"kind": "box", "z_plus_mm": 1}, **chosen)
    found = propose_route(build, build.job.setups[0], SHOP, Recipe(threads="leave plain"))
    drilled = next(o.params for o in found.operations if o.name == "Drill ⌀5")
    assert (drilled.cycle, drilled.peck_mm) == (cycle, first)


def test_rows_that_may_come_in_any_order_begin_with_the_tool_in_the_spindle():
    """Pockets, then bores: of the mills for bores the one goes first that cleared last, and the others follow."""

    def order(*rows):
        tools = [
            Tool.model_validate({"number": d, "cutter": flat(d) | {"flute_length_mm": 30}, "stick_out_mm": 40})
            for d in (20, 12, 8)
        ]
        of = {t.number: t for t in tools}
        planner = object.__new__(Planner)
        planner.drafts = [Draft(rank, of[d], "", {}, [], "") for rank, d in rows]
        return [(d.rank, d.tool.number) for d in planner.ordered()]

    assert order((BORE, 20), (BORE, 12), (ROUGH, 12)) == [(ROUGH, 12), (BORE, 12), (BORE, 20)]
    assert order((BORE, 20), (BORE, 12), (BORE, 8), (WALL, 12)) == [(BORE, 20), (BORE, 8), (BORE, 12), (WALL, 12)]
    # A small mill goes into the corners after a large one, whichever is in the spindle.
    assert order((REST, 8), (REST, 12), (ROUGH, 8)) == [(ROUGH, 8), (REST, 12), (REST, 8)]


def test_a_tap_too_short_for_its_hole_is_told():
    found, _ = proposed(Recipe(break_through_mm=13))
    assert not any(n.startswith("Tap") for n in names(found))
    assert any("cuts full threads over 15.5 mm only" in u.why for u in found.uncovered)


def test_the_mill_fits_the_corners_and_rest_follows_the_larger_one():
    found, build = proposed()
    tools = {t.number: t.cutter.diameter_mm for t in build.job.tools}
    rough = next(o for o in found.operations if o.name == "Rough pockets")
    walls = [o for o in found.operations if o.name == "Walls"]
    rest = [o for o in found.operations if o.name == "Rest in corners"]
    assert all(tools[o.tool] < 10 for o in walls + rest)
    assert tools[rough.tool] > tools[walls[0].tool]
    assert rest


def test_a_hole_made_another_way_follows_its_choice():
    build = job_for(piece(), [], {1: flat(12)})
    face = next(i for i, f in enumerate(build.solid.faces) if bore(2.5)(f))
    data = json.loads(build.job.model_dump_json())
    data["hole_choices"] = [{"face": reference_to(build.solid, face).model_dump(), "way": "leave"}]
    other = build.with_job(parse_job(data))
    found = propose_route(other, other.job.setups[0], SHOP)
    drilled = next(o for o in found.operations if o.name == "Drill ⌀5")
    assert len(drilled.params.targets[0].faces) == 3


def test_a_proposed_route_is_proven_without_findings():
    _, build = proposed(Recipe(outside=False))
    setup = build.job.setups[0]
    build.compute(setup)
    summary, _ = build.proof(setup)
    assert [f for f in summary["findings"] if f["kind"] != "spindle speed"] == []
    assert summary["program_vs_path_mm"] < 1e-3


def test_too_small_a_shop_says_what_is_missing():
    build = job_for(piece(), [], {1: flat(12)})
    found = propose_route(build, build.job.setups[0], [])
    assert any("no drill of ⌀5" in u.why for u in found.uncovered)
    assert any("no mill below ⌀10" in u.why for u in found.uncovered)


def test_fewer_tool_changes_break_no_order():
    drill, spot = {"kind": "drill", "diameter_mm": 5}, {"kind": "spot drill", "diameter_mm": 8}
    left, right = [lambda f, x=x: bore(2.5)(f) and abs(f.centroid[0] - x) < 1 for x in (8, 132)]
    rows = [(2, {"cycle": "spot"}), (1, {}), (2, {"cycle": "spot"}), (1, {})]
    build = job_for(piece(), [(t, {"strategy": "drilling"} | p) for t, p in rows], {1: drill, 2: spot})
    for number, side in ((10, left), (20, left), (30, right), (40, right)):
        build = with_targets(build, number, faces(build, side))
    better = propose_order(build.job, build.job.setups[0])
    assert better.order == [10, 30, 20, 40]
    assert (better.changes_before, better.changes_after) == (4, 2)
    assert better.saves_s == 2 * build.job.machine_of(build.job.setups[0]).tool_change_s
    same = with_targets(build, 30, faces(build, left))
    assert propose_order(same.job, same.job.setups[0]).order.index(10) < propose_order(
        same.job, same.job.setups[0]
    ).order.index(20)


def test_the_tool_left_in_the_spindle_goes_on_first_in_the_next_setup():
    build = job_for(piece(), [(1, {"strategy": "contour"}), (2, {"strategy": "contour"})], {1: flat(8), 2: flat(10)})
    data = json.loads(build.job.model_dump_json())
    data["setups"].append(data["setups"][0] | {"id": "below"})
    rows = [dict(data["operations"][k], number=30 + 10 * k, setup="below") for k in (0, 1)]
    data["operations"] += rows
    build = build.with_job(parse_job(data))
    for number, side in ((30, bore(2.5)), (40, bore(20))):
        build = with_targets(build, number, faces(build, side))
    better = propose_order(build.job, build.job.setups[1])
    assert better.order == [40, 30]
    assert (better.changes_before, better.changes_after) == (2, 1)


def pocket_path(shape=None):
    build = job_for(shape or piece(), [(1, {"strategy": "contour"})], {1: flat(8)})
    build = with_targets(build, 10, faces(build, lambda f: floor_at(12.0)(f) and f.centroid[0] < 100))
    return build, run(build).toolpath


def test_copies_in_a_line_and_round_an_axis_keep_shape_and_way_of_milling():
    _, path = pocket_path()
    line = joined_copies(copied(path, path, LineCopies(count=3, step_x_mm=100, step_y_mm=5), np.zeros(3)))
    n = len(path)
    assert len(line) == 3 * n
    assert np.allclose(line.point[2 * n :] - path.point, [200, 10, 0])
    round_it = joined_copies(copied(path, path, RoundCopies(count=4, x_mm=10, y_mm=0), np.array([5.0, 5.0, 0.0])))
    half = round_it.point[2 * n : 3 * n, :2]
    assert np.allclose(half, 2 * np.array([15.0, 5.0]) - path.point[:, :2])
    assert np.array_equal(round_it.motion[n : 2 * n], path.motion)
    # Every copy begins and ends at the clearance height.
    assert np.ptp(round_it.point[[0, n - 1, n, 2 * n - 1], 2]) < 1e-9


def test_a_mirrored_path_keeps_climb_or_is_mirrored_as_it_is():
    pockets = [round_upright_edges(box(x, 15, 12, 60, 40, 20), 5) for x in (20, 120)]
    build, path = pocket_path(cut(box(0, 0, 0, 200, 70, 18), *pockets))
    ccw = (path.kind == Kind.CUT) & (path.motion > 0)
    assert np.all(path.motion[ccw] == Motion.ARC_CCW)

    def with_copies(**copies):
        data = json.loads(build.job.model_dump_json())
        data["operations"][0]["copies"] = {"kind": "mirrored", "across": "x", "at_mm": 100, **copies}
        return run(build.with_job(parse_job(data))).toolpath

    for keep, wanted in ((True, Motion.ARC_CCW), (False, Motion.ARC_CW)):
        both = with_copies(keep_climb=keep)
        mirror = both.rows(np.arange(len(both)) >= len(path))
        arcs = (mirror.kind == Kind.CUT) & (mirror.motion > 0)
        assert np.all(mirror.motion[arcs] == wanted)
        cutting = mirror.point[mirror.kind == Kind.CUT]
        assert cutting[:, 0].min() == pytest.approx(200 - path.point[path.kind == Kind.CUT][:, 0].max(), abs=1e-6)
    assert len(with_copies(original=False, keep_climb=False)) == len(path)


def test_copies_heed_the_stock_at_their_places():
    build, path = pocket_path()
    # At the second place there is no stock; at the third it stands 30 mm higher; the fourth is like the first.
    blocks = [box(200 * k, 0, 0, 140, 70, top) for k, top in ((0, 18), (2, 48), (3, 18))]
    stock = stock_from_mesh(mesh_at(solid_from_shape(fuse(*blocks)), 0.01), 0.5)
    paths = copied(path, path, LineCopies(count=4, step_x_mm=200), np.zeros(3))
    cutter = cutting_profile(build.job.tools[0].cutter)
    kept, told = where_stock_lets(paths, True, stock, cutter)
    assert [int(round(p.point[:, 0].mean() - path.point[:, 0].mean())) for p in kept] == [0, 600]
    assert [u.reason.split(":")[0] for u in told] == ["copy 2 of 4", "copy 3 of 4"]
    assert "no stock" in told[0].reason
    assert "rapid motions" in told[1].reason
    assert 420 < told[1].place[0] < 480


def test_all_sides_get_a_setup_where_features_are_left_and_nothing_is_proposed_twice():
    below = box(40, 20, -1, 30, 24, 4)
    shape = cut(piece(), round_upright_edges(below, 6))
    build = job_for(shape, [], {1: flat(12)}, {"kind": "box", "z_plus_mm": 1, "z_minus_mm": 1})
    found = propose_sides(build, SHOP)
    assert [getattr(s.up, "axis", None) for s in found.setups] == ["-z", "-x"]
    assert [s.stock.setup for s in found.setups] == ["top", found.setups[0].id]
    assert found.uncovered == []
    rows = [(o.setup, o.name) for o in found.operations]
    assert ("top", "Face the top") in rows
    assert (found.setups[0].id, "Face the top") in rows
    assert (found.setups[1].id, "Face the top") not in rows  # the contour round the part has made that side
    # Through holes and the outline are made from above only.
    assert not any(s != "top" and ("Tap" in n or n == "Outside") for s, n in rows)
    assert len({o.number for o in found.operations}) == len(rows)


def test_a_bore_that_no_mill_goes_down_is_milled_half_from_each_side():
    # A mill of 20 reaches 120 mm of the 150; what is below its reach in a blind bore is told.
    tower = cut(box(0, 0, 0, 60, 50, 150), cylinder(18, 25, -1, 12.15, 152), cylinder(44, 25, 5, 6.1, 146))
    build = job_for(tower, [], {1: flat(12)}, {"kind": "box", "z_plus_mm": 1, "z_minus_mm": 1}, cell_mm=1.0)
    found = propose_sides(build, SHOP)
    halves = [o for o in found.operations if o.name == "Mill bores"]
    assert [(o.setup, o.params.bottom_mm) for o in halves] == [("top", 74.0), (found.setups[0].id, 74.0)]
    assert [u.words for u in found.uncovered] == ["⌀12.2, 145.0 deep"]
    # The outside is roughed 120 mm down from the stock's top as well, and its walls are no deeper before the other side.
    rough, walls = (next(o for o in found.operations if (o.setup, o.name) == ("top", n)) for n in ("Rough", "Walls"))
    assert walls.params.bottom_from == "work zero"
    assert walls.params.bottom_mm == rough.params.bottom_mm == pytest.approx(-120, abs=1.0)
    one = next(s for s in propose_route(build, build.job.setups[0], SHOP).uncovered if "24.3" in s.words)
    assert one.why == "no tool goes 150.0 mm deep: the other half is to be milled from the far side"

    through = next(h for h in build.recognition().holes if h.through)
    whole = with_route(build.job, found)
    alone = whole.model_copy(update={"operations": [o for o in whole.operations if o is not halves[1]]})
    for job, least, most in ((whole, 0.999, 1.0), (alone, 0.45, 0.56)):
        cast = forecast(build.with_job(job))
        own = np.isin(cast.surface.places.face, through.faces)
        area = cast.surface.places.area_mm2
        assert least <= area[own & cast.done].sum() / area[own].sum() <= most
        assert (through.name in [u.name for u in coverage(build.with_job(job)).uncovered]) == (most < 1)
    # What is proposed again knows the halves that are there.
    again = propose_sides(build.with_job(whole), SHOP)
    assert not [o for o in again.operations if o.name == "Mill bores"]
    other = propose_sides(build.with_job(alone), SHOP)
    assert [(o.setup, o.params.bottom_mm) for o in other.operations if o.name == "Mill bores"] == [
        (found.setups[0].id, 74.0)
    ]


def test_walls_of_one_tool_are_one_row_where_some_go_on_below_what_is_roughed():
    # In two rows, what keeps its allowance until the second would stand at the neck of the first.
    tower = fuse(box(0, 0, 0, 60, 50, 150), box(-20, 0, 0, 30, 50, 100))
    build = job_for(tower, [], {1: flat(12)}, {"kind": "box", "z_plus_mm": 1, "z_minus_mm": 1}, cell_mm=1.0)
    walls = [o for o in propose_route(build, build.job.setups[0], SHOP).operations if o.name == "Walls"]
    assert [o.params.bottom_from for o in walls] == ["work zero"]


@pytest.mark.parametrize(
    ("used", "dialect", "given"),
    [
        ([54, 148], "Plain ISO", 55),
        ([54, 55, 56, 57, 58, 59], "Plain ISO", 101),
        ([54, 55, 56, 57, 58, 59], "Small router", 59),
    ],
)
def test_a_new_side_gets_a_work_offset_that_is_free_and_that_the_controller_has(used, dialect, given):
    build = job_for(cut(box(0, 0, 0, 60, 40, 18), box(20, 10, -1, 20, 20, 4)), [], {1: flat(12)})
    data = json.loads(build.job.model_dump_json())
    top = data["setups"][0]
    data["setups"] = [top | {"id": f"s{k}", "work_offset": o, "dialect": dialect} for k, o in enumerate(used)]
    new = propose_sides(build.with_job(parse_job(data)), []).setups[0]
    assert new.work_offset == given


def test_a_fillet_round_a_floor_gets_a_mill_of_its_corner_or_is_told():
    hollow = round_upright_edges(box(20, 15, 8, 60, 40, 20), 9)
    level = lambda a, b, m: max(abs(p[2] - 8) for p in (a, b, m)) < 1e-6  # noqa: E731
    for radius, name in ((2, "Walls and fillets"), (2.3, "Walls")):
        shape = cut(box(0, 0, 0, 100, 70, 18), fillet(hollow, radius, level))
        found, build = proposed(shape=lambda made=shape: made)
        walls = next(o for o in found.operations if o.name == name)
        corner = build.job.tool(walls.tool).cutter.corner_mm
        assert corner == (2 if radius == 2 else 0)
        assert ["leaves steps" in u.why for u in found.uncovered] == ([] if radius == 2 else [True])
        assert (walls.params.stepdown_mm is None) == (radius == 2)


def test_facing_of_thick_stock_goes_down_by_what_the_mill_cuts():
    build = job_for(piece(), [], {1: flat(12)}, {"kind": "box", "z_plus_mm": 10})
    found = propose_route(build, build.job.setups[0], SHOP)
    face = found.operations[0]
    tool = next(t for t in found.tools if t.number == face.tool)
    assert face.params.strategy == "facing"
    assert 0 < face.params.stepdown_mm <= tool.cutter.flute_length_mm < 10


def hole_faces(build, radius):
    return {i for i, f in enumerate(build.solid.faces) if bore(radius)(f)}


def test_holes_made_another_way_take_the_route_along():
    _, build = proposed()
    before = [o.name for o in build.job.operations]
    job, told = make_holes(build, hole_faces(build, 2.5), "drill", SHOP)
    names_now = [o.name for o in job.operations]
    assert told == []
    assert "Tap M6" in before
    assert "Tap M6" not in names_now
    assert names_now.index("Drill ⌀5") == before.index("Spot") + 1
    assert {c.way for c in job.hole_choices} == {"drill"}
    assert [n for n in names_now if "bore" in n] == [n for n in before if "bore" in n]
    after = build.with_job(job)
    assert coverage(after).uncovered == coverage(build).uncovered
    # Back to what the recipe says.
    again, _ = make_holes(after, hole_faces(build, 2.5), "automatic", SHOP)
    assert [o.name for o in again.operations] == before
    assert again.hole_choices == []


def test_a_row_by_rule_keeps_the_holes_that_stay():
    rule = {"surface": "cylinder", "radius_mm": 2.5, "concave": True}
    row = {"strategy": "drilling", "targets": [{"kind": "faces", "faces": [rule]}]}
    build = job_for(piece(), [(2, row)], {2: {"kind": "drill", "diameter_mm": 5}})
    one = {min(hole_faces(build, 2.5))}
    job, _ = make_holes(build, one, "leave", SHOP)
    assert len(job.operations[0].params.targets[0].faces) == 3
    assert sorted(one) in [u.faces for u in coverage(build.with_job(job)).uncovered]
    # No row, nothing to follow: the choice waits for the proposal. A way that no tool can go is told.
    bare = job_for(piece(), [], {1: flat(12)})
    assert make_holes(bare, one, "tap", SHOP)[0].operations == []
    routed = proposed(short=True)[1]
    _, told = make_holes(routed, hole_faces(routed, 2.5), "bore milling", SHORT)
    assert ["milled from the far side" in u.why for u in told] == [True] * 4


def test_what_is_made_already_is_not_proposed_again():
    _, build = proposed()
    again = propose_route(build, build.job.setups[0], SHOP)
    assert again.operations == []


def test_all_sides_without_a_setup_says_what_to_do():
    build = job_for(piece(), [], {1: flat(12)})
    bare = build.with_job(build.job.model_copy(update={"setups": []}))
    with pytest.raises(FenrikError, match="Add a setup"):
        propose_sides(bare, SHOP)


def bearing():
    """A block with two through holes ⌀22 and their counterbores ⌀30, 6 deep, on the underside."""
    holes = [c for x in (30, 70) for c in (cylinder(x, 30, -1, 11, 40), cylinder(x, 30, -1, 15, 7))]
    return cut(box(0, 0, 0, 100, 60, 28), *holes)


def test_counterbores_on_the_far_side_are_left_to_the_other_side_and_told():
    found, build = proposed(shape=bearing)
    assert not any(o.name == "Bore back" for o in found.operations)
    assert ["opens on the other side" in u.why for u in found.uncovered] == [True] * 2
    assert [u.kind for u in coverage(build).uncovered] == ["hole"] * 2
    assert proof(build)[0]["findings"] == []
    everywhere = propose_sides(job_for(bearing(), [], {1: flat(12)}), SHOP)
    assert everywhere.uncovered == []
    assert [(o.setup, o.name) for o in everywhere.operations if o.name == "Mill bores"] == [
        ("top", "Mill bores"),
        ("side-1", "Mill bores"),
    ]


def test_holes_chosen_to_be_bored_back_get_a_bar_and_are_open_before():
    _, build = proposed(shape=bearing)
    stock = {"kind": "box", "z_plus_mm": 1, "z_minus_mm": 2}
    data = json.loads(build.job.model_dump_json())
    data["setups"][0]["stock"] = stock
    build = build.with_job(parse_job(data))
    job, told = make_holes(build, hole_faces(build, 11), "back boring", SHOP)
    assert told == []
    after = build.with_job(job)
    assert coverage(after).uncovered == []
    back = next(o for o in job.operations if o.name == "Bore back")
    assert job.tool(back.tool).cutter.kind == "back boring bar"
    opened = next(o for o in job.operations if o.name == "Mill bores")
    assert opened.params.break_through_mm == 1 + 6 + 2
    summary, _ = proof(after)
    assert summary["findings"] == []
    assert run(after, back.number).unreached == []
    again, _ = make_holes(after, hole_faces(after, 11), "automatic", SHOP)
    assert "Bore back" not in [o.name for o in again.operations]


def test_holes_that_cannot_be_bored_back_say_why():
    _, build = proposed()
    _, told = make_holes(build, hole_faces(build, 2.5), "back boring", SHOP)
    assert ["no counterbore on its far side" in u.why for u in told] == [True] * 4
    shape = cut(bearing(), cylinder(50, 10, -1, 7, 40), cylinder(50, 10, -1, 10, 5))
    _, build = proposed(shape=lambda made=shape: made)
    _, told = make_holes(build, hole_faces(build, 7), "back boring", SHOP)
    assert "no back boring bar of ⌀20 goes through ⌀14 and reaches 28.0 mm deep" in [u.why for u in told]


def test_a_tool_from_above_does_not_take_a_bore_under_a_narrower_one():
    for strategy, cutter in (("bore milling", flat(12)), ("drilling", {"kind": "drill", "diameter_mm": 30})):
        build = job_for(bearing(), [(1, {"strategy": strategy})], {1: cutter})
        outcome = run(with_targets(build, 10, faces(build, bore(15))))
        assert len(outcome.toolpath) == 0
        assert all("lies under a bore of ⌀22" in u.reason for u in outcome.unreached)


def test_the_tool_with_which_the_next_setup_begins_goes_on_last():
    build = job_for(piece(), [(1, {"strategy": "contour"}), (2, {"strategy": "contour"})], {1: flat(8), 2: flat(10)})
    data = json.loads(build.job.model_dump_json())
    data["setups"].append(data["setups"][0] | {"id": "below"})
    data["operations"].append(dict(data["operations"][0], number=30, setup="below"))
    build = build.with_job(parse_job(data))
    for number, side in ((10, bore(2.5)), (20, bore(20))):
        build = with_targets(build, number, faces(build, side))
    better = propose_order(build.job, build.job.setups[0])
    assert better.order == [20, 10]
    assert (better.changes_before, better.changes_after) == (3, 2)
    # On another machine nothing waits for the tool.
    data = json.loads(build.job.model_dump_json())
    data["machines"].append({"name": "Other"})
    data["setups"][1]["machine"] = "Other"
    assert propose_order(parse_job(data), parse_job(data).setups[0]).order == [10, 20]


def test_bores_that_get_threads_by_their_size_are_told():
    threaded, _ = proposed()
    assert [words for words in threaded.assumed if "⌀5" in words and "M6" in words]
    plain, _ = proposed(Recipe(threads="leave plain"))
    assert not [words for words in plain.assumed if "⌀5" in words]

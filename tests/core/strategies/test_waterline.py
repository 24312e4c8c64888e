"""Walls followed by the part's sections: upright, drafted, conical, broken; what is left is told."""

import numpy as np
import pytest
from prism import faces, flat, job_for, proof, run, with_targets

from fenrik.core.solids.reading import mesh_at
from fenrik.core.stock.standing import standing
from fenrik.core.toolpath import Kind
from parts import box, cone, cut, cylinder, drafted, fuse, round_upright_edges


def leaning(f):
    return f.kind != "plane" or abs(f.normal[2]) < 0.999


def finished(build, number=10):
    """Over each face of the part: area on which more than 0.05 mm stands after a row, mm²."""
    setup = build.job.setups[0]
    operation = next(o for o in build.job.operations if o.number == number)
    mesh = mesh_at(build.solid, 0.002).in_frame(build.frame(setup))
    found = standing(build.stock_after(operation), mesh)
    assert found.over_mm.min() > -0.01
    return {
        int(f): float(found.area_mm2[(found.face == f) & (found.over_mm > 0.05)].sum()) for f in np.unique(found.face)
    }


def walls(build, test=leaning):
    return [i for i, f in enumerate(build.solid.faces) if test(f)]


@pytest.mark.parametrize(
    ("shape", "scallop"),
    [
        (lambda: box(0, 0, 0, 50, 40, 15), None),
        (lambda: drafted(0, 0, 0, (50, 40), (47, 37), 15), 0.045),
        (lambda: cut(box(0, 0, 0, 100, 60, 25), round_upright_edges(box(80, 15, 19, 60, 30, 10), 6)), None),
        (lambda: fuse(cylinder(0, 0, 0, 20, 6), cone(0, 0, 6, 20, 18, 8)), 0.045),
        (lambda: cut(box(0, 0, 0, 60, 50, 15), round_upright_edges(box(10, 10, 5, 40, 30, 20), 8)), None),
    ],
    ids=["block", "drafted", "step in a side", "cone on a disc", "pocket"],
)
def test_walls_of_any_kind_come_out_to_size(shape, scallop):
    stock = {"kind": "box", "z_plus_mm": 0, "x_minus_mm": 1, "x_plus_mm": 1, "y_minus_mm": 1, "y_plus_mm": 1}
    build = job_for(shape(), [(1, {"strategy": "waterline", "scallop_mm": scallop})], {1: flat(10)}, stock)
    build = with_targets(build, 10, faces(build, leaning))
    outcome = run(build)
    left = finished(build)
    assert outcome.unreached == []
    assert all(left[f] < 0.5 for f in walls(build)), left
    assert [f for f in proof(build)[0]["findings"] if f["kind"] in ("gouge", "rapid in stock")] == []


def test_levels_under_what_stands_are_passed_over():
    # The lower half is finished first; each level finishes what stands over it, up to the one above.
    half = {"strategy": "waterline", "scallop_mm": 0.015, "lead": "none"}
    rows = [(1, half | {"top_from": "part top", "top_mm": -5}), (1, half)]
    build = job_for(cone(0, 0, 0, 11, 10, 10), rows, {1: flat(10)}, {"kind": "box", "z_plus_mm": 0}, cell_mm=0.25)
    for number in (10, 20):
        build = with_targets(build, number, faces(build, leaning))
    lower, upper = (build.path(o).toolpath for o in build.job.operations)
    cuts = [path.point[path.kind == Kind.CUT, 2] for path in (lower, upper)]
    assert cuts[0].max() <= 5
    assert cuts[1].max() > 9.5
    assert cuts[1].min() > 4.4
    left = finished(build, 20)
    assert all(left[f] < 0.5 for f in walls(build)), left


def test_progress_goes_on_from_level_to_level():
    shape = drafted(0, 0, 0, (50, 40), (47, 37), 15)
    build = job_for(shape, [(1, {"strategy": "waterline", "stepdown_mm": 1})], {1: flat(10)})
    build = with_targets(build, 10, faces(build, leaning))
    seen = []
    build.path(build.job.operations[0], lambda share, words: seen.append(share) if words == "following walls" else None)
    assert len(seen) == 15
    assert seen == sorted(seen)
    assert np.diff(seen).max() < 0.08


@pytest.mark.parametrize(
    "end", [{"kind": "bull-nose", "corner_radius_mm": 2}, {"kind": "ball"}], ids=["bull-nose", "ball"]
)
@pytest.mark.parametrize("top", [14, 10, 8], ids=["83° steep", "64° steep", "57° steep"])
def test_round_ends_follow_walls_that_lean_however_they_do(end, top):
    # A round corner touches where it leans as the wall does, at another height for each lean.
    shape = cone(0, 0, 0, 15.5, top, 11.5)
    tool = {"diameter_mm": 9, "flute_length_mm": 20, **end}
    build = job_for(shape, [(1, {"strategy": "waterline", "scallop_mm": 0.03})], {1: tool})
    build = with_targets(build, 10, faces(build, leaning))
    run(build)
    (side,) = walls(build)
    # What the corner does not come to is at the foot.
    assert finished(build)[side] < 0.4 * build.solid.faces[side].area_mm2


def nut():
    """A hexagon whose flats end in 30° cones above and below."""
    turn = np.deg2rad(60) * np.arange(6)
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Common

    from solids import prism

    rise = 3 * np.tan(np.deg2rad(30))
    barrel = fuse(
        cone(0, 0, 0, 27, 30, rise), cylinder(0, 0, rise, 30, 24 - 2 * rise), cone(0, 0, 24 - rise, 30, 27, rise)
    )
    body = BRepAlgoAPI_Common(prism(30 * np.column_stack([np.cos(turn), np.sin(turn)]), 0, 24), barrel).Shape()
    return cut(body, cylinder(0, 0, -1, 12, 40))


def test_a_hexagon_whose_flats_end_in_cones_is_followed_all_round():
    build = job_for(nut(), [(1, {"strategy": "waterline"})], {1: flat(16)})
    flats = lambda f: f.kind == "plane" and abs(f.normal[2]) < 0.01  # noqa: E731
    build = with_targets(build, 10, faces(build, flats))
    path = run(build).toolpath
    # Six flats of 30 mm and six quarter-less arcs of 60° with R 8 about the corners.
    assert path.cut_length_mm() >= 6 * 30
    left = finished(build)
    assert all(left[f] < 0.5 for f in walls(build, flats)), left


@pytest.mark.parametrize("foot", [7.99996, 8.000043, 8.12344, 8.0])
def test_a_boss_on_a_face_is_followed_whatever_the_height_of_the_face(foot):
    # Heights of models end at any digit: a pass that is a rounding error lower would go round the whole block instead.
    part = fuse(box(0, 0, 0, 70, 60, foot), cylinder(16, 30, foot - 1, 12, 9))
    rows = [(1, {"strategy": "waterline"})]
    build = job_for(part, rows, {1: flat(10)}, {"kind": "box", "z_plus_mm": 0}, cell_mm=0.5)
    build = with_targets(build, 10, faces(build, lambda f: f.kind == "cylinder" or f.centroid[0] < 0.1))
    assert run(build).unreached == []
    left = finished(build)
    assert all(left[f] < 0.5 for f in walls(build, lambda f: f.kind == "cylinder")), left


def test_what_a_mill_is_too_wide_for_is_told_with_its_place():
    build = job_for(
        cut(box(0, 0, 0, 60, 50, 15), box(10, 10, 5, 40, 30, 20)), [(1, {"strategy": "waterline"})], {1: flat(10)}
    )
    build = with_targets(
        build, 10, faces(build, lambda f: leaning(f) and 9 < f.centroid[0] < 51 and 9 < f.centroid[1] < 41)
    )
    told = run(build).unreached
    assert len(told) == 1
    # In each of four sharp corners 5 mm of both walls, less where the gap is under 0.06 mm: √(2 · 5 · 0.06).
    assert float(told[0].reason.split(" mm")[0]) == pytest.approx(4 * 2 * (5 - 0.8), abs=0.8)
    x, y, _ = told[0].place
    assert min(abs(x - 10), abs(x - 50)) < 6
    assert min(abs(y - 10), abs(y - 40)) < 6


def test_nothing_is_cut_where_the_walls_are_finished_already():
    rows = [(1, {"strategy": "waterline"}), (1, {"strategy": "waterline"})]
    build = job_for(box(0, 0, 0, 50, 40, 15), rows, {1: flat(10)})
    build = with_targets(with_targets(build, 10, faces(build, leaning)), 20, faces(build, leaning))
    assert run(build, 10).toolpath.cut_length_mm() > 100
    assert np.count_nonzero(run(build, 20).toolpath.kind == Kind.CUT) == 0

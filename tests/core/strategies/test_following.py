"""Curve following and walls between two ways, on parts that nobody drew for them: how deep the cutter goes is measured
at dense places of the exact faces (`bench/leaning.py`), with no code of the strategies."""

from itertools import pairwise

import numpy as np
import pytest
from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere
from OCP.gp import gp_Pnt
from prism import edges, faces, job_for, made, with_targets
from test_leaning import slanted_ring, twisted

from fenrik.core.job_reading import parse_job
from fenrik.core.solids.references import edge_reference_to
from fenrik.core.toolpath import Kind
from fenrik.core.tools import cutting_profile
from leaning import FINE_MM, deepest, follow, lay, swarf
from parts import box, cut, cylinder, fuse

FOLLOW = {"strategy": "5-axis curve following", "tolerance_mm": 0.01}
BALL = {"kind": "ball", "diameter_mm": 6, "flutes": 2}


def sphere(x, y, z, radius):
    return BRepPrimAPI_MakeSphere(gp_Pnt(x, y, z), radius).Shape()


def depth_of(build, outcome):
    """How deep the cuts of a row go into the exact part."""
    mesh, _ = build.exact_part(build.job.setups[0], FINE_MM)
    deep, _ = deepest(outcome.toolpath, cutting_profile(build.job.tools[0].cutter), mesh, [Kind.CUT])
    return deep


def followed(shape, wanted, cutter=BALL, **params):
    build = job_for(shape, [(1, FOLLOW | params)], {1: cutter}, cell_mm=1.0)
    build = with_targets(build, 10, edges(build, wanted))
    return build, made(build)


@pytest.mark.parametrize("seed", [3, 10, 16])
def test_edges_of_made_up_solids_are_followed_without_a_gouge(seed):
    found = follow(seed)
    assert found.cut_mm > 5
    assert found.over_mm <= 0.01


@pytest.mark.parametrize("seed", [3, 7, 9])
def test_walls_of_made_up_blocks_are_milled_without_a_gouge(seed):
    found = swarf(seed)
    assert found.cut_mm > 50
    assert found.over_mm <= 0.01


@pytest.mark.parametrize("seed", [0, 3, 7])
def test_circles_laid_on_made_up_solids_from_any_side_are_followed_without_a_gouge(seed):
    found = lay(seed)
    assert found.cut_mm > 15
    assert found.over_mm <= 0.01


@pytest.mark.parametrize("deep", [True, False])
def test_the_bisector_of_a_bore_and_a_face_looks_out_of_the_material(deep):
    """The normal of a bore looks to its axis: a cutter on the bisector stands over the hole, not in the ring."""
    build, outcome = followed(
        slanted_ring(),
        lambda e: e.turn == "convex" and np.hypot(*e.points[:, :2].T).max() < 17 and e.points[:, 2].max() > 20,
        depth_mm=0.4 if deep else 0.0,
    )
    path = outcome.toolpath
    axis, tip = path.axis[path.kind == Kind.CUT], path.point[path.kind == Kind.CUT]
    assert (np.einsum("ij,ij->i", axis[:, :2], tip[:, :2]) < 0).all()
    assert outcome.unreached == []
    assert depth_of(build, outcome) == pytest.approx(0.4 if deep else 0.0, abs=0.01)


def test_round_a_corner_the_tool_rolls_and_stays_at_the_edge():
    """The top of a box: the ball's centre goes round each corner on an arc, nowhere nearer than its radius."""
    build, outcome = followed(box(0, 0, 0, 40, 30, 12), lambda e: abs(e.middle[2] - 12) < 1e-9)
    path = outcome.toolpath
    rows = np.flatnonzero(path.kind == Kind.CUT)
    centre = path.point[rows] + 3.0 * path.axis[rows]
    low, high = np.array([0.0, 0.0, 0.0]), np.array([40.0, 30.0, 12.0])
    away = np.linalg.norm(centre - np.clip(centre, low, high), axis=1)
    assert away == pytest.approx(3.0, abs=2e-3)
    assert depth_of(build, outcome) < 0.005
    # All four corners: the last one where the way began.
    corners = np.array([[0, 0, 12], [40, 0, 12], [40, 30, 12], [0, 30, 12]])
    at = np.linalg.norm(np.clip(centre, low, high)[:, None] - corners, axis=2) < 1e-6
    assert (at.sum(axis=0) >= 5).all()


def test_in_an_inner_edge_the_ball_touches_both_faces():
    """A step: the centre runs its radius over the floor and beside the wall."""
    shape = cut(box(0, 0, 0, 40, 30, 20), box(-1, 15, 8, 42, 20, 20))
    build, outcome = followed(shape, lambda e: e.turn == "concave", axis="fixed", direction=(0.0, 0.5, 1.0))
    path = outcome.toolpath
    rows = path.kind == Kind.CUT
    centre = path.point[rows] + 3.0 * path.axis[rows]
    assert centre[:, 1] == pytest.approx(18.0, abs=1e-4)
    assert centre[:, 2] == pytest.approx(11.0, abs=1e-4)
    assert depth_of(build, outcome) < 0.005


def test_where_the_cutter_does_not_fit_it_is_left_out_and_told():
    """A pocket with sharp corners: its rim is broken up to where the cutter would go into the next wall."""
    shape = cut(box(0, 0, 0, 60, 50, 20), box(15, 12, 8, 30, 26, 20))
    rim = lambda e: abs(e.middle[2] - 20) < 1e-9 and 14 < e.middle[0] < 46 and 11 < e.middle[1] < 39  # noqa: E731
    build, outcome = followed(shape, rim, cutter={"kind": "ball", "diameter_mm": 10, "flutes": 2}, depth_mm=0.5)
    # One at each corner; the way begins in one of them.
    assert 4 <= len(outcome.unreached) <= 5
    assert all("too deep" in u.reason for u in outcome.unreached)
    assert depth_of(build, outcome) <= 0.5 + 0.01
    path = outcome.toolpath
    assert path.lengths()[path.kind == Kind.CUT].sum() > 0.5 * (2 * 30 + 2 * 26)


def sketched(build, items, level=30.0, **target):
    data = build.job.model_dump(mode="json")
    data["sketches"] = [{"id": "k1", "setup": "top", "level_mm": level, "items": items}]
    data["operations"][0]["params"]["targets"] = [{"kind": "sketch on faces", "sketch": "k1", **target}]
    return build.with_job(parse_job(data))


def circle(radius, x=0.0, y=0.0):
    return {"kind": "circle", "id": "c1", "x_mm": x, "y_mm": y, "radius_mm": radius}


def test_a_circle_laid_on_a_dome_is_touched_along_its_normals():
    """Closed form: over a dome of radius 25 a ball of radius 3 along the normal has its centre at 28 from the middle."""
    shape = cut(sphere(0, 0, 0, 25), box(-30, -30, -60, 60, 60, 60))
    build = job_for(shape, [(1, FOLLOW)], {1: BALL}, cell_mm=1.0)
    # The work zero stands at the corner of the part's box.
    build = sketched(build, [circle(12.0, 25.0, 25.0)])
    outcome = made(build)
    path = outcome.toolpath
    rows = path.kind == Kind.CUT
    centre = path.point[rows] + 3.0 * path.axis[rows]
    zero = build.zero(build.job.setups[0])
    middle = zero + [25.0, 25.0, -25.0]
    assert np.linalg.norm(centre - middle, axis=1) == pytest.approx(28.0, abs=2e-3)
    contact = middle + (centre - middle) * 25 / 28
    assert np.hypot(*(contact - middle)[:, :2].T) == pytest.approx(12.0, abs=5e-3)
    assert outcome.unreached == []
    assert depth_of(build, outcome) < 0.005


def test_what_of_a_sketch_lies_beside_the_faces_is_told():
    """A line over a step and past the part: on the step it goes on lower down; past the part it is told, with how much;
    with the upper face alone picked, so is what lies on the lower one."""
    shape = cut(box(-20, -10, 0, 40, 20, 12), box(0, -11, 7, 30, 30, 10))
    build = job_for(shape, [(1, FOLLOW | {"axis": "fixed"})], {1: BALL}, cell_mm=1.0)
    line = {"kind": "line", "id": "l1", "x_mm": 5.0, "y_mm": 10.0, "to_x_mm": 46.0, "to_y_mm": 10.0}
    whole = sketched(build, [line])
    given = whole.link_of(whole.job.operations[0]).given
    assert len(given.ways.rails) == 2
    assert [round(r.length_mm, 2) for r in given.ways.rails] == pytest.approx([15.0, 20.0], abs=0.01)
    (told,) = given.ways.unusable
    assert "6 mm of l1" in told.reason
    upper = faces(build, lambda f: f.normal[2] > 0.99 and f.centroid[2] > 11)[0]["faces"]
    picked = sketched(build, [line], faces=upper)
    (told,) = picked.link_of(picked.job.operations[0]).given.ways.unusable
    assert "26 mm of l1" in told.reason


def test_ways_are_followed_on_every_copy():
    rim = lambda e: e.kind == "circle" and abs(e.centre[2] - 12) < 1e-9  # noqa: E731
    grid = {"columns": 2, "rows": 1, "pitch_x_mm": 50, "mirror": True}
    build = job_for(cylinder(0, 0, 0, 15, 12), [(1, FOLLOW)], {1: BALL}, cell_mm=1.0)
    build = with_targets(build, 10, edges(build, rim))
    data = build.job.model_dump(mode="json")
    data["setups"][0]["grid"] = grid
    build = build.with_job(parse_job(data))
    path = made(build).toolpath
    x = path.point[path.kind == Kind.CUT, 0]
    assert x.min() < -14
    assert x.max() > 64
    assert depth_of(build, made(build)) < 0.005


def wall_of(shape):
    """A row along the wall between the level edges at a shape's foot and top."""
    base = {"strategy": "swarf milling", "tolerance_mm": 0.02, "floor_clearance_mm": 0.5}
    mill = {"kind": "flat", "diameter_mm": 12, "flutes": 4, "flute_length_mm": 60}
    build = job_for(shape, [(1, base)], {1: mill}, cell_mm=1.0)
    flat = [(i, e) for i, e in enumerate(build.solid.edges) if np.ptp(e.points[:, 2]) < 1e-6]
    level = [
        [edge_reference_to(build.solid, i).model_dump() for i, e in flat if (e.middle[2] > 1.0) == top]
        for top in (False, True)
    ]
    return with_targets(build, 10, [{"kind": "edges", "edges": refs} for refs in level])


def test_a_wall_between_two_ways_is_the_wall_by_its_faces():
    """The foot and the top of a twisted block: the same axes as by its four ruled faces."""
    between = wall_of(twisted(8.0))
    by_faces = with_targets(between, 10, faces(between, lambda f: abs(f.normal[2]) < 0.9))
    one, other = made(between), made(by_faces)
    assert one.unreached == other.unreached == []
    assert depth_of(between, one) <= 0.02
    a, b = (o.toolpath.point[np.isin(o.toolpath.kind, [Kind.ENTRY, Kind.CUT])] for o in (one, other))
    # Each place of the one lies on the way of the other.
    apart = np.min([_from_chord(a, p, q) for p, q in pairwise(b)], axis=0)
    assert apart.max() < 0.02


def _from_chord(places, p, q):
    t = np.clip((places - p) @ (q - p) / max((q - p) @ (q - p), 1e-12), 0, 1)
    return np.linalg.norm(places - p - t[:, None] * (q - p), axis=1)


def test_a_wall_that_bulges_out_from_between_two_ways_is_left_out():
    ball = sphere(0, 0, 10, 30)
    shape = cut(ball, box(-40, -40, -40, 80, 80, 40), box(-40, -40, 20, 80, 80, 40))
    outcome = made(wall_of(shape))
    assert len(outcome.toolpath) == 0
    (told,) = outcome.unreached
    assert "stands out" in told.reason


def test_a_wall_needs_two_ways():
    build = wall_of(twisted(5.0))
    data = build.job.model_dump(mode="json")
    data["operations"][0]["params"]["targets"].pop()
    build = build.with_job(parse_job(data))
    with pytest.raises(Exception, match="1 ways along edges"):
        made(build)


def test_the_rest_of_the_part_is_kept_clear_by_the_side_of_the_mill():
    """A boss at a block's foot beside its wall: the stretch in which the mill would go into it is left out."""
    shape = fuse(twisted(8.0), cylinder(0, -21.5, 0, 3, 10))
    base = {"strategy": "swarf milling", "tolerance_mm": 0.02, "floor_clearance_mm": 0.5}
    build = job_for(shape, [(1, base)], {1: {"kind": "flat", "diameter_mm": 12, "flutes": 4}}, cell_mm=1.0)
    build = with_targets(build, 10, faces(build, lambda f: f.kind == "freeform" and f.centroid[0] > 15))
    alone = made(build)
    assert not any("too deep" in u.reason for u in alone.unreached)
    build = with_targets(build, 10, faces(build, lambda f: f.kind == "freeform" and f.centroid[1] < -15))
    outcome = made(build)
    assert any("too deep" in u.reason for u in outcome.unreached)
    assert depth_of(build, outcome) <= 0.02
    assert outcome.toolpath.lengths()[outcome.toolpath.kind == Kind.CUT].sum() > 10

"""Cutting in any pose with any outline, against Boolean operations on slices of the contour and against closed forms."""

import manifold3d
import numpy as np
import pytest
from pydantic import TypeAdapter
from sweeps import stock_volume, swept, turning

from fenrik.core.errors import FenrikError
from fenrik.core.stock import Stock, cut
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Assembly, Body, Cutter, bull_nose_profile, cone_profile, cutting_profile

CUTTERS = {
    "flat": {},
    "ball": {},
    "bull-nose": {"corner_radius_mm": 1.2},
    "chamfer mill": {"tip_diameter_mm": 1},
    "drill": {},
    "centre drill": {"pilot_diameter_mm": 2.5, "pilot_length_mm": 3},
    "thread mill": {"pitch_mm": 2.0, "neck_diameter_mm": 4.5, "flute_length_mm": 8},
    "slotting cutter": {"neck_diameter_mm": 4, "flute_length_mm": 3, "corner_radius_mm": 0.5},
    "lollipop": {"neck_diameter_mm": 5},
    "tapered": {"corner_radius_mm": 2, "taper_deg": 5, "diameter_mm": 6},
    "barrel": {"corner_radius_mm": 2, "flank_radius_mm": 60, "widest_at_mm": 9},
    "dovetail": {"angle_deg": 60, "flute_length_mm": 4},
}
SIZE = np.array([30.0, 30.0, 30.0])


def cutter(kind):
    data = {"kind": kind, "diameter_mm": 8, "flute_length_mm": 14} | CUTTERS[kind]
    return TypeAdapter(Cutter).validate_python(data)


def random_pose(rng, longest=12.0):
    axis = rng.normal(size=3)
    start = rng.uniform(8, 22, 3)
    way = rng.normal(size=3)
    return start, start + way / np.linalg.norm(way) * rng.uniform(0.2, longest), axis / np.linalg.norm(axis)


@pytest.mark.parametrize("kind", CUTTERS)
def test_random_poses_against_boolean(kind):
    """`bench/run.py poses` does the same with 500 poses and a finer cell."""
    c = cutter(kind)
    rng = np.random.default_rng(len(kind))
    stock = Stock.box(np.zeros(3), SIZE, 0.2)
    block = manifold3d.Manifold.cube(SIZE.tolist())
    for _ in range(3):
        start, end, axis = random_pose(rng)
        after, record = cut(stock, Poses.tilted(start, end, axis), Assembly(cutting_profile(c)))
        gone = block.volume() - (block - swept(c, start, end, axis, 0.7 if kind == "barrel" else 4.0, 48)).volume()
        assert stock_volume(stock) - stock_volume(after) == pytest.approx(gone, rel=3e-3)
        assert record.removed_mm3[0] == pytest.approx(gone, rel=1e-2)
        assert after.error_mm <= 1e-9


@pytest.mark.parametrize("kind", ["slotting cutter", "lollipop", "dovetail"])
def test_short_edges_pushed_far_along_a_leaning_axis(kind):
    """Far beyond the height of what cuts: most rays meet only what was swept between the ends."""
    c = cutter(kind)
    axis = np.array([0.4, -0.3, 0.87])
    axis /= np.linalg.norm(axis)
    start, end = np.array([9.0, 18.0, 5.0]), np.array([9.0, 18.0, 5.0]) + 16 * axis
    stock, block = Stock.box(np.zeros(3), SIZE, 0.2), manifold3d.Manifold.cube(SIZE.tolist())
    after, _ = cut(stock, Poses.tilted(start, end, axis), Assembly(cutting_profile(c)))
    gone = block.volume() - (block - swept(c, start, end, axis, 4.0, 48)).volume()
    assert stock_volume(stock) - stock_volume(after) == pytest.approx(gone, rel=3e-3)


@pytest.mark.parametrize("kind", ["ball", "flat", "chamfer mill", "dovetail", "thread mill"])
@pytest.mark.parametrize("lean", [(0, 0, 1), (0.3, 0.2, 1)])
def test_many_motions_at_once_leave_what_they_leave_one_by_one(kind, lean):
    """Their order may be changed within, and blocks of rays are passed over: the surface has to be the same, and that
    of the union of all sweeps."""
    rng = np.random.default_rng(len(kind))
    points = np.cumsum(rng.normal(size=(30, 3)) * [1.2, 1.2, 0.4], axis=0) + [15, 15, 22]
    poses = Poses.tilted(points[:-1], points[1:], np.array(lean, float))
    c = cutter(kind)
    tool = Assembly(cutting_profile(c))
    together, record = cut(Stock.box(np.zeros(3), SIZE, 0.4), poses, tool)
    one, removed = Stock.box(np.zeros(3), SIZE, 0.4), []
    for k in range(len(poses)):
        one, own = cut(one, poses.rows(np.arange(k, k + 1)), tool, first_source=k)
        removed.append(own.removed_mm3[0])
    assert record.removed_mm3 == pytest.approx(removed, abs=1e-6)
    for family in range(3):
        a, b = together.dense(family, 64), one.dense(family, 64)
        assert np.array_equal(a[0], b[0])
        there = np.arange(64) < a[0][..., None]
        assert np.abs(a[1] - b[1])[there].max() < 1e-7
        # Where two motions meet, both made the surface.
        assert (np.abs(a[3] - b[3]) <= 1)[there].mean() > 0.99
    block = manifold3d.Manifold.cube(SIZE.tolist())
    left = block
    for start, end, axis in zip(poses.start, poses.end, poses.start_axis, strict=True):
        left -= swept(c, start, end, axis, 6.0, 48)
    gone = block.volume() - left.volume()
    assert stock_volume(Stock.box(np.zeros(3), SIZE, 0.4)) - stock_volume(together) == pytest.approx(gone, rel=6e-3)


@pytest.mark.parametrize("end", [0.0, 5.0, 1.0])
def test_upright_tools_are_cut_alike_by_both_kernels(end):
    """A hair's breadth off upright takes the general kernel; the hits are those of the upright one."""
    rng = np.random.default_rng(3)
    points = np.cumsum(rng.normal(size=(60, 3)) * [1.5, 1.5, 0.5], axis=0) + [15, 15, 20]
    stock = Stock.box(np.zeros(3), SIZE, 0.4)
    tool = Assembly(bull_nose_profile(5, end, 40))
    one, upright = cut(stock, Poses.upright(points[:-1], points[1:]), tool)
    two, posed = cut(stock, Poses.tilted(points[:-1], points[1:], [1e-9, 0, 1]), tool)
    for family in range(3):
        a, b = one.dense(family, 12), two.dense(family, 12)
        same = a[0] == b[0]
        assert same.mean() > 0.999
        present = (np.arange(min(a[1].shape[2], b[1].shape[2])) < a[0][..., None]) & same[..., None]
        k = present.shape[2]
        assert np.abs(a[1][..., :k] - b[1][..., :k])[present].max() < 1e-5
        close = (np.abs(a[2][..., :k, :].astype(int) - b[2][..., :k, :]).max(axis=-1) <= 2)[present]
        assert close.mean() > 0.98
    assert np.allclose(upright.removed_mm3, posed.removed_mm3, rtol=1e-4, atol=1e-3)
    # The upright kernel measures the arc at the same places.
    assert np.median(np.abs(upright.engagement_deg - posed.engagement_deg)) < 3


def test_turned_job_gives_the_turned_stock():
    """Posed: the same cut with everything turned by 90° about x leaves the same stock, turned (exactly)."""
    rng = np.random.default_rng(8)
    points = np.cumsum(rng.normal(size=(40, 3)), axis=0) + [15, 15, 17]
    stock = Stock.box(np.zeros(3), SIZE, 0.5)
    turn = np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])
    moved = points @ turn.T + [0, 30, 0]
    for kind in ("ball", "lollipop", "dovetail"):
        tool = Assembly(cutting_profile(cutter(kind)))
        one, _ = cut(stock, Poses.tilted(points[:-1], points[1:], [0, 0.6, 0.8]), tool)
        axis = turn @ np.array([0, 0.6, 0.8])
        two, _ = cut(stock, Poses.tilted(moved[:-1], moved[1:], axis), tool)
        back = two.hits()[0] - [0, 30, 0]
        back = back @ turn
        for a, b in ((one.hits()[0], back),):
            assert len(a) == len(b)
            order = [np.lexsort(np.round(p, 5).T) for p in (a, b)]
            assert np.abs(a[order[0]] - b[order[1]]).max() < 1e-6


@pytest.mark.parametrize("kind", ["slotting cutter", "lollipop", "tapered", "drill", "thread mill", "bull-nose"])
def test_along_and_across_the_axis_against_boolean(kind):
    """The two ways in which a random one never goes: exactly along the axis, and exactly across it."""
    c = cutter(kind)
    stock = Stock.box(np.zeros(3), SIZE, 0.2)
    block = manifold3d.Manifold.cube(SIZE.tolist())
    axis = np.array([0.36, 0.48, 0.8])
    for way in (10 * axis, -9 * axis, np.array([8.0, -6, 0]), np.zeros(3)):
        start = np.array([12.0, 14, 13])
        after, _ = cut(stock, Poses.tilted(start, start + way, axis), Assembly(cutting_profile(c)))
        gone = block.volume() - (block - swept(c, start, start + way, axis, 4.0)).volume()
        assert stock_volume(stock) - stock_volume(after) == pytest.approx(gone, rel=4e-3)


def test_undercut_in_closed_form():
    """A slotting cutter moved along a wall leaves a T: its disc's section less what its neck passes (closed form)."""
    c = TypeAdapter(Cutter).validate_python(
        {"kind": "slotting cutter", "diameter_mm": 10, "flute_length_mm": 3, "neck_diameter_mm": 4}
    )
    stock = Stock.box(np.zeros(3), SIZE, 0.25)
    poses = Poses.upright([[-10, 15, 12]], [[40, 15, 12]])
    after, record = cut(stock, poses, Assembly(cutting_profile(c)))
    assert stock_volume(stock) - stock_volume(after) == pytest.approx(30 * 10 * 3, rel=2e-3)
    assert after.tops()[60, 60] == pytest.approx(30.0)
    assert record.engagement_deg[0] == pytest.approx(180, abs=1)
    count, at, _, _ = after.dense(2)
    assert count[60, 60] == 4
    assert at[60, 60, 1:3].tolist() == pytest.approx([12.0, 15.0])


def test_turning_axis_stays_within_its_bound():
    """Surface within the bound of a dense sampling of the turning tool: no sample reaches into what is left by more
    than the bound, and every new hit lies on a sample. `bench/run.py turning` does the same 200 times."""
    rng = np.random.default_rng(4)
    cell = 0.25
    stock = Stock.box(np.zeros(3), SIZE, cell)
    for kind in ("ball", "flat", "lollipop"):
        c = cutter(kind)
        profile = cutting_profile(c)
        start, end, first = random_pose(rng, 4.0)
        last = first + rng.normal(size=3) * 0.15
        last /= np.linalg.norm(last)
        after, _ = cut(
            stock, Poses(start[None], end[None], first[None], last[None], np.zeros(1, int)), Assembly(profile)
        )
        assert 0 < after.error_mm <= 0.005
        places, _, sources = after.hits()
        made = places[sources == 0]
        assert len(made) > 300
        depth = np.full(len(made), -np.inf)
        for tip, axis in turning(c, start, end, first, last, 1500):
            depth = np.maximum(depth, depth_in(profile, made - tip, axis))
        # A sample of 1500 is itself off by its step.
        step = (np.linalg.norm(end - start) + np.arccos(min(first @ last, 1.0)) * 16) / 1500
        assert depth.max() <= after.error_mm + 1e-6
        assert depth.min() >= -(after.error_mm + step)


def depth_in(profile, places, axis):
    """How deep places lie in an upright body moved to the origin with an axis: the least distance to its outside
    sideways or along the axis (a lower bound of depth in convex stretches, exact on the surface)."""
    z = places @ axis
    r = np.linalg.norm(places - z[:, None] * axis, axis=1)
    best = np.full(len(places), -np.inf)
    for first, last in zip(profile.runs[:-1], profile.runs[1:], strict=True):
        inside = np.full(len(places), np.inf)
        for b in profile.bands[first:last]:
            if b[4] == 0:
                lean = np.array([b[1] - b[0], b[2] - b[3]])
                lean /= np.hypot(*lean)
                inside = np.minimum(inside, -((r - b[2]) * lean[0] + (z - b[0]) * lean[1]))
            else:
                inside = np.where(
                    (z >= b[0]) & (z <= b[1]), np.minimum(inside, b[7] - np.hypot(r - b[5], z - b[6])), inside
                )
        low, high = profile.bands[first, 0], profile.bands[last - 1, 1]
        best = np.maximum(best, np.minimum(inside, np.minimum(z - low, high - z)))
    return best


def test_watched_bodies_in_any_pose():
    """A tilted shank against a wall: as deep from its side and from below as its rim reaches over the wall's plane
    (closed form)."""
    stock = Stock.box(np.zeros(3), np.array([20.0, 40.0, 40.0]), 0.4)
    lean = np.deg2rad(30)
    axis = np.array([np.sin(lean), 0, np.cos(lean)])
    shank = Body("shank", cone_profile(4, 4, 30).lifted(10))
    # The shank's outermost line runs into the block's face x = 20 from outside, tilted: its lower edge is deepest.
    tip = np.array([20.0, 20.0, 5.0])
    _, record = cut(stock, Poses.tilted(tip, tip + [0, 0, 1e-9], axis), Assembly(None, (shank,)))
    deepest = 4 * np.cos(lean) - 10 * np.sin(lean)
    assert deepest < 0
    assert record.touch_mm[0, 0] == 0
    tip = np.array([16.0, 20.0, 5.0])
    _, record = cut(stock, Poses.tilted(tip, tip + [0, 0, 1e-9], axis), Assembly(None, (shank,)))
    lower_edge = 16 + 10 * np.sin(lean) - 4 * np.cos(lean)
    deep = (20 - lower_edge) / (np.cos(lean) + np.sin(lean))
    assert record.touch_mm[0, 0] == pytest.approx(deep, abs=0.2)
    assert abs(record.touch_place[0, 0, 1] - 20) < 1
    assert np.all(record.removed_mm3 == 0)


def test_a_ray_that_hardly_meets_a_shank_does_not_hide_how_deep_others_are_in_it():
    """The corner of a block in an upright shank: as deep as the ray that shows it deepest, in closed form."""
    cell, r = 0.5, 3.0
    shank = Body("shank", cone_profile(r, r, 20).lifted(10))
    stock = Stock.box(np.zeros(3), np.array([20.0, 20.0, 20.0]), cell)
    lines = np.arange(0.25, 20, cell)
    for east, north in np.random.default_rng(2).uniform(1.5, 2.8, (40, 2)):
        # Along x at each y of a ray the corner's first place is at x = 0, and the other way round.
        depth = [r - np.hypot(east, north + line) for line in lines] + [
            r - np.hypot(east + line, north) for line in lines
        ]
        want = max(*depth, 0.0)
        tip = np.array([-east, -north, 0.0])
        _, record = cut(stock, Poses.upright(tip, tip + [0, 0, 1e-9]), Assembly(None, (shank,)))
        assert record.touch_mm[0, 0] == pytest.approx(want, abs=1e-6)


def test_nothing_to_cut_with_and_nowhere_to_go():
    stock = Stock.box(np.zeros(3), SIZE, 1.0)
    same, record = cut(stock, Poses.upright(np.ones((2, 3)), np.zeros((2, 3))), Assembly(None))
    assert same is stock
    assert (len(record.removed_mm3), record.touch_mm.shape) == (2, (2, 0))
    empty, record = cut(stock, Poses.upright(np.zeros((0, 3)), np.zeros((0, 3))), Assembly(bull_nose_profile(3, 1, 10)))
    assert stock_volume(empty) == stock_volume(stock)
    assert len(record.removed_mm3) == 0


def test_refusals():
    stock = Stock.box(np.zeros(3), SIZE, 1.0)
    tool = Assembly(bull_nose_profile(3, 1, 10))
    with pytest.raises(FenrikError, match="turns right over"):
        cut(
            stock,
            Poses(
                np.ones((1, 3)), np.ones((1, 3)), np.array([[0, 0, 1.0]]), np.array([[0, 0, -1.0]]), np.zeros(1, int)
            ),
            tool,
        )
    with pytest.raises(FenrikError, match="not a number"):
        cut(stock, Poses.tilted(np.ones(3), np.ones(3), [0, np.nan, 1]), tool)

"""Cutting the stock against closed forms, Boolean operations of manifold3d, and itself."""

import manifold3d
import numba
import numpy as np
import pytest

from fenrik.core.errors import FenrikError
from fenrik.core.stock import Stock, changed_bricks, stock_mesh
from fenrik.core.stock import cut as cut_poses
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Assembly, Body, bull_nose_profile

R = 5.0
ENDS = {"flat": 0.0, "ball": 5.0, "bull-nose": 1.0}


def bodies(end):
    return Assembly(bull_nose_profile(R, ENDS[end], 25))


def cut(stock, starts, ends, assembly, first_source=0):
    """Cut with an upright tool."""
    return cut_poses(stock, Poses.upright(starts, ends), assembly, first_source)


def volume(stock):
    return stock_mesh(stock).volume_mm3()


def swept_hull(end, p, q, sides=256):
    """The swept tool as a convex hull, for manifold3d."""
    corner = ENDS[end]
    arc = [(R - corner + corner * np.sin(a), corner - corner * np.cos(a)) for a in np.linspace(0, np.pi / 2, 48)]
    profile = [(0, 0), *arc, (R, 25)] if corner else [(R, 0), (R, 25)]
    around = np.linspace(0, 2 * np.pi, sides, endpoint=False)
    body = np.array([[r * np.cos(u), r * np.sin(u), h] for r, h in profile for u in around])
    return manifold3d.Manifold.hull_points(np.concatenate([body + p, body + q]))


def test_block_volume_and_sharp_corners():
    mesh = stock_mesh(Stock.box(np.zeros(3), np.array([40.0, 30.0, 20.3]), 0.7))
    assert mesh.volume_mm3() == pytest.approx(40 * 30 * 20.3, rel=1e-5)
    assert np.allclose(mesh.bounds(), [[0, 0, 0], [40, 30, 20.3]], atol=1e-6)


@pytest.mark.parametrize(
    ("end", "section"), [("flat", 50.0), ("ball", np.pi * 12.5), ("bull-nose", 50 - 2 * (1 - np.pi / 4))]
)
def test_slot_closed_form(end, section):
    stock = Stock.box(np.zeros(3), np.array([40.0, 30.0, 20.0]), 0.25)
    after, record = cut(stock, np.array([[-10.0, 15, 15]]), np.array([[50.0, 15, 15]]), bodies(end))
    assert volume(stock) - volume(after) == pytest.approx(40 * section, rel=2e-3)
    assert record.removed_mm3[0] == pytest.approx(40 * section, rel=0.02)
    assert record.engagement_deg[0] == pytest.approx(180, abs=1e-6)


def test_plunge_and_spherical_cap():
    stock = Stock.box(np.zeros(3), np.array([30.0, 30.0, 20.0]), 0.25)
    flat, _ = cut(stock, np.array([[15.0, 15, 25]]), np.array([[15.0, 15, 8]]), bodies("flat"))
    assert volume(stock) - volume(flat) == pytest.approx(np.pi * 25 * 12, rel=3e-3)
    ball, _ = cut(stock, np.array([[15.0, 15, 25]]), np.array([[15.0, 15, 17]]), bodies("ball"))
    assert volume(stock) - volume(ball) == pytest.approx(np.pi * 9 * (3 * 5 - 3) / 3, rel=6e-3)


@pytest.mark.parametrize("end", list(ENDS))
@pytest.mark.parametrize("move", [((5, 5, 18), (33, 22, 8)), ((20, 15, 12), (20, 15, 19)), ((8, 15, 10), (30, 15, 10))])
def test_sloping_motion_against_boolean(end, move):
    stock = Stock.box(np.zeros(3), np.array([40.0, 30.0, 20.0]), 0.25)
    p, q = np.array(move, dtype=float)
    after, _ = cut(stock, p[None], q[None], bodies(end))
    exact = manifold3d.Manifold.cube([40, 30, 20]) - swept_hull(end, p, q)
    assert volume(after) == pytest.approx(exact.volume(), abs=0.004 * (24000 - exact.volume()))


@pytest.mark.parametrize("end", list(ENDS))
def test_hits_lie_on_the_swept_surface(end):
    """Every hit made by a motion lies on the hull of the tool at its ends (convex body swept along a line)."""
    stock = Stock.box(np.zeros(3), np.array([30.0, 30.0, 20.0]), 0.5)
    p, q = np.array([8.0, 9, 14]), np.array([20.0, 18, 9])
    after, _ = cut(stock, p[None], q[None], bodies(end), first_source=7)
    places, normals, sources = after.hits()
    made = places[sources == 7]
    assert len(made) > 500
    hull = swept_hull(end, p, q, 720).to_mesh()
    import trimesh

    mesh = trimesh.Trimesh(hull.vert_properties[:, :3], hull.tri_verts)
    _, distance, _ = trimesh.proximity.closest_point_naive(mesh, made[:: max(len(made) // 150, 1)])
    assert distance.max() < 2e-3
    assert np.allclose(np.linalg.norm(normals[sources == 7], axis=1), 1, atol=0.02)


def test_many_motions_equal_one_long_one():
    """True sweeps: a line cut in 400 pieces leaves the same stock as in one piece."""
    stock = Stock.box(np.zeros(3), np.array([40.0, 30.0, 20.0]), 0.5)
    t = np.linspace(0, 1, 401)[:, None]
    points = np.array([3.0, 4, 17]) * (1 - t) + np.array([36.0, 25, 12]) * t
    one, _ = cut(stock, points[:1], points[-1:], bodies("ball"))
    many, _ = cut(stock, points[:-1], points[1:], bodies("ball"))
    for family in range(3):
        a, b = one.dense(family, 8), many.dense(family, 8)
        assert np.array_equal(a[0], b[0])
        present = np.arange(a[1].shape[2]) < a[0][..., None]
        assert np.abs(a[1] - b[1])[present].max() < 1e-7


def test_engagement_on_a_straight_wall():
    """arccos(1 − ae/R) (common practice)."""
    stock = Stock.box(np.zeros(3), np.array([60.0, 30.0, 10.0]), 0.1)
    for ae in (1.0, 2.5, 5.0):
        start = np.array([[30.0, ae - R, 2.0]])
        _, record = cut(stock, start, start + [1.0, 0, 0], bodies("flat"))
        # The first step also fills the front; measure on a following one.
        first, _ = cut(stock, start, start + [5.0, 0, 0], bodies("flat"))
        _, record = cut(first, start + [5.0, 0, 0], start + [6.0, 0, 0], bodies("flat"))
        assert record.engagement_deg[0] == pytest.approx(np.rad2deg(np.arccos(1 - ae / R)), abs=4)


def test_same_bytes_for_any_number_of_threads_and_old_stock_unchanged():
    stock = Stock.box(np.zeros(3), np.array([40.0, 40.0, 20.0]), 0.4)
    before = stock.to_bytes()
    rng = np.random.default_rng(5)
    points = np.cumsum(rng.normal(size=(200, 3)) * [1, 1, 0.3], axis=0) + [20, 20, 15]
    results = []
    for threads in (1, 2):
        numba.set_num_threads(threads)
        after, record = cut(stock, points[:-1], points[1:], bodies("bull-nose"))
        results.append((after.to_bytes(), record.removed_mm3.tobytes(), record.engagement_deg.tobytes()))
    assert results[0] == results[1]
    assert stock.to_bytes() == before


def test_unchanged_tiles_are_shared_and_bricks_told():
    stock = Stock.box(np.zeros(3), np.array([100.0, 100.0, 20.0]), 0.5)
    after, _ = cut(stock, np.array([[10.0, 10, 15]]), np.array([[14.0, 10, 15]]), bodies("flat"))
    shared = sum(a is b for f in range(3) for a, b in zip(stock.tiles[f], after.tiles[f], strict=True))
    assert shared > 0.6 * sum(len(stock.tiles[f]) for f in range(3))
    changed = changed_bricks(stock, after)
    assert 0 < changed.sum() < changed.size / 2
    assert not changed_bricks(after, after).any()


def test_watched_body_depth():
    stock = Stock.box(np.zeros(3), np.array([40.0, 40.0, 20.0]), 0.5)
    shank = bull_nose_profile(6, 0, 10).lifted(8.0)
    _, record = cut(
        stock,
        np.array([[20.0, 20, 30], [20, 20, 10]]),
        np.array([[20.0, 20, 10], [25, 20, 12]]),
        Assembly(bull_nose_profile(5, 0, 8), (Body("shank", shank),)),
    )
    # 2 mm deep, but its edge is only 1 mm wider than what was cut.
    assert record.touch_mm[0, 0] == pytest.approx(1.0, abs=1e-9)
    # Further on, places of what is left of the stock at the rays' heights: from the side and from below at each moment.
    x, y, z = np.meshgrid(np.arange(13, 32, 0.05), np.arange(0, 6.5, 0.05), np.arange(18.25, 20, 0.5), indexing="ij")
    moments = np.linspace(0, 1, 101)
    left = np.hypot(x - 20, y) > 5
    for t in moments:
        left &= (np.hypot(x - 20 - 5 * t, y) > 5) | (z > 18 + 2 * t)
    x, y, z = x[left], y[left], z[left]
    deepest = max(np.minimum(6 - np.hypot(x - 20 - 5 * t, y), z - 18 - 2 * t).max() for t in moments)
    assert record.touch_mm[1, 0] == pytest.approx(deepest, abs=0.1)


def test_a_shank_that_glances_a_wall_is_no_deeper_in_it_than_the_wall_was_left():
    # A ray in the wall's own plane lies in the shank over the chord 2·√(2·R·d) = 28 µm, where it stands d = 10 nm deep.
    wall, radius, deep = 5.25, 10.0, 1e-5
    axis = np.array([[20.0, wall + deep - radius, -1.0]])
    stock, _ = cut(
        Stock.box(np.zeros(3), np.array([40.0, 40.0, 20.0]), 0.5),
        axis - [30, 2 * deep, 0],
        axis + [30, -2 * deep, 0],
        Assembly(bull_nose_profile(radius, 0, 30)),
    )
    shank = Assembly(bull_nose_profile(1, 0, 2), (Body("shank", bull_nose_profile(radius, 0, 20).lifted(2.0)),))
    _, record = cut(stock, axis, axis + [0.0, 0, 1e-9], shank)
    assert 0 < record.touch_mm[0, 0] < 1.1 * deep


def test_a_holder_over_low_stock_changes_nothing_and_meets_what_stands_high():
    """A post of 60 mm in a corner of a low plate: a wide holder passes over the plate, and stands in the post."""
    plate = Stock.box(np.zeros(3), np.array([200.0, 60.0, 60.0]), 1.0)
    low = np.array([[40.0, 30, 20], [190.0, 30, 20]])
    plate, _ = cut(plate, low[:1], low[1:], Assembly(bull_nose_profile(40, 0, 100)))
    cutter, holder = bull_nose_profile(3, 0, 20), Body("holder", bull_nose_profile(25, 0, 40).lifted(20.0))
    starts, ends = np.array([[190.0, 30, 15], [60.0, 30, 15]]), np.array([[60.0, 30, 15], [20.0, 30, 15]])
    bare, plain = cut(plate, starts, ends, Assembly(cutter))
    held, record = cut(plate, starts, ends, Assembly(cutter, (holder,)))
    assert held.to_bytes() == bare.to_bytes()
    assert np.array_equal(record.removed_mm3, plain.removed_mm3)
    # The post ends at x = 40 − 40, its rim; the holder comes to x = 60 − 25, then to x = 20 − 25.
    assert record.touch_mm[0, 0] == 0
    assert record.touch_mm[1, 0] > 0


def test_kept_form_and_refusals():
    stock = Stock.box(np.zeros(3), np.array([10.0, 10.0, 5.0]), 0.5)
    again = Stock.from_bytes(stock.to_bytes())
    assert again.to_bytes() == stock.to_bytes()
    assert all(np.array_equal(a, b) for a, b in zip(again.hits(), stock.hits(), strict=True))
    with pytest.raises(FenrikError, match="no volume"):
        Stock.box(np.zeros(3), np.array([10.0, 0.0, 5.0]), 0.5)
    with pytest.raises(FenrikError, match="million rays"):
        Stock.box(np.zeros(3), np.array([1000.0, 1000.0, 500.0]), 0.01)
    with pytest.raises(FenrikError, match="not a number"):
        cut(stock, np.array([[np.nan, 0, 0]]), np.zeros((1, 3)), bodies("flat"))

"""The ground of roughing: stock with its overhangs, levels, and ways in, against closed forms."""

import itertools

import numpy as np
import pytest
import shapely
from scipy.sparse import csr_array
from scipy.sparse.csgraph import dijkstra
from shapely.geometry import box

from fenrik.core.contact import DropIndex, tip_heights
from fenrik.core.contact.region import HeightField
from fenrik.core.regions import Shadow
from fenrik.core.solids.reading import mesh_at
from fenrik.core.stock import Stock, cut
from fenrik.core.strategies.common import START_GAP_MM
from fenrik.core.strategies.ground.entries import DescentParams, Entry, go_in, plan_entry_onto
from fenrik.core.strategies.ground.levels import depth_levels, levels_with_stops
from fenrik.core.strategies.ground.links import along_inside, sees, shortest_way
from fenrik.core.strategies.ground.regions import FreePositions, StandingStock
from fenrik.core.strategies.ground.walls import wall_levels
from fenrik.core.toolpath import Feeds, Kind, PathBuilder, Poses, SafePlane
from fenrik.core.tools import Assembly, bull_nose_profile


@pytest.fixture(scope="module")
def tunnelled():
    """A block of 40 × 30 × 20 with a square-ended tunnel of ⌀ 8 along x at y 15, z 8, bored from the side."""
    stock = Stock.box(np.zeros(3), np.array([40.0, 30.0, 20.0]), 0.25)
    pose = Poses.tilted(np.array([[45.0, 15.0, 8.0]]), np.array([[-5.0, 15.0, 8.0]]), np.array([1.0, 0, 0]))
    return StandingStock(cut(stock, pose, Assembly(bull_nose_profile(4.0, 0.0, 60.0)))[0])


def test_what_stands_above_does_not_see_the_tunnel(tunnelled):
    assert tunnelled.above(5.0).area == pytest.approx(40 * 30, rel=0.02)


@pytest.mark.parametrize(
    ("low", "high", "wide"), [(7.0, 9.0, 2 * np.sqrt(15)), (9.0, 10.0, 2 * np.sqrt(12)), (12.5, 14, 0)]
)
def test_what_a_level_takes_is_less_where_the_roof_is_gone(tunnelled, low, high, wide):
    """Between two levels a ray is empty where the tunnel spans both: the chord at the farther one from its axis."""
    assert tunnelled.between(low, high).area == pytest.approx(40 * (30 - wide), rel=0.02)
    assert tunnelled.between(low, high).area <= tunnelled.above(low).area + 1e-6


def test_outlines_of_standing_stock_have_the_holes_of_the_stock():
    """Bores through a plate stay holes of the outline, each to half a cell."""
    stock = Stock.box(np.zeros(3), np.array([40.0, 30.0, 5.0]), 0.25)
    tips = np.array([[10.0, 10, -1], [28.0, 18, -1]])
    stock, _ = cut(stock, Poses.upright(tips + [0, 0, 8.0], tips), Assembly(bull_nose_profile(4.0, 0.0, 20.0)))
    found = StandingStock(stock).above(2.0)
    assert [len(p.interiors) for p in shapely.get_parts(found)] == [2]
    assert found.area == pytest.approx(40 * 30 - 2 * np.pi * 16, rel=0.01)


def test_a_way_along_the_fence_from_inside_goes_to_the_fence_first():
    """From amid the ground, round an island, to a place on the fence: a straight way would cross the island."""
    fence = shapely.box(0, 0, 60, 40).difference(shapely.box(20, 20, 35, 35))
    a, b = np.array([45.0, 28.0]), np.array([10.0, 40.0])
    assert not sees(fence, a, b)
    way = shapely.LineString(np.vstack([a, along_inside(fence, a, b)]))
    assert fence.buffer(1e-2).covers(way)
    assert np.allclose(way.coords[-1], b)


@pytest.mark.parametrize("seed", range(8))
def test_the_shortest_way_is_that_of_all_corners_that_see_one_another(seed):
    rng = np.random.default_rng(seed)
    posts = [shapely.Point(p).buffer(rng.uniform(3, 7), quad_segs=4) for p in rng.uniform(0, 50, (9, 2))]
    ground = box(0, 0, 50, 50).difference(shapely.union_all(posts))
    corners = shapely.get_coordinates(ground)
    for a, b in rng.uniform(0, 50, (6, 2, 2)):
        way = shortest_way(ground, a, b, 0.0)
        nodes = np.vstack([a, b, corners])
        one, two = np.triu_indices(len(nodes), 1)
        seen = shapely.covers(ground.buffer(1e-4), shapely.linestrings(np.stack([nodes[one], nodes[two]], axis=1)))
        links = csr_array(
            (np.linalg.norm(nodes[one] - nodes[two], axis=1)[seen], (one[seen], two[seen])), shape=(len(nodes),) * 2
        )
        shortest = dijkstra(links, directed=False, indices=0)[1]
        if way is None:
            assert np.isinf(shortest) or not ground.covers(shapely.MultiPoint([a, b]))
            continue
        assert np.linalg.norm(np.diff(np.vstack([a, way]), axis=0), axis=1).sum() == pytest.approx(shortest, abs=1e-6)
        assert shortest_way(ground, a, b, 0.0, 0.999 * shortest) is None
        assert shortest_way(ground, a, b, 0.0, 1.001 * shortest) is not None


def test_levels_hold_all_stops_in_even_steps():
    levels = levels_with_stops(10.0, 0.0, 3.0, [4.0, 25.0, -3.0, 10.0])
    assert levels == pytest.approx([7.0, 4.0, 2.0, 0.0])
    assert depth_levels(10.0, 4.0, None) == [4.0]


def builder():
    return PathBuilder(Feeds(800, 200, 1500), SafePlane.at_height(30.0), 25.0)


RING = np.array([[0.0, 0], [20, 0], [20, 10], [0, 10], [0, 0]])
ROOM = shapely.box(-30, -30, 50, 50)


def test_a_helix_ends_where_the_pass_begins_and_no_steeper_than_asked():
    params = DescentParams(ramp_deg=3.0, helix_percent=50)
    entry = plan_entry_onto(RING, ROOM, 5.0, False, params, "helix", True)
    assert entry.kind == "helix"
    # The pass goes along +x: the helix stands on its left, as it was asked for.
    assert entry.centre == pytest.approx([0, 2.5])
    b = builder()
    go_in(b, params, entry, 2.0, 10.0, False)
    assert b.place == pytest.approx([0, 0, 2.0])
    path = b.finish()
    down = path.kind == Kind.ENTRY
    fine, _ = path.rows(np.flatnonzero(down)).flattened(0.001)
    fall = -np.diff(fine.point[:, 2])
    level = np.linalg.norm(np.diff(fine.point[:, :2], axis=0), axis=1)
    assert (fall / level).max() <= np.tan(np.deg2rad(3.0)) * 1.01


def test_without_room_for_a_helix_the_tool_ramps_round_the_pass():
    params = DescentParams(ramp_deg=3.0)
    entry = plan_entry_onto(RING, shapely.LinearRing(RING).buffer(0.4), 5.0, False, params, "helix", True)
    assert (entry.kind, entry.round) == ("ramp", True)
    b = builder()
    go_in(b, params, entry, 2.0, 10.0, False)
    path = b.finish()
    down = path.point[path.kind == Kind.ENTRY]
    assert b.place is not None
    assert down[-1] == pytest.approx([0, 0, 2.0])
    assert np.all(np.diff(down[:, 2]) < 0)
    # Down from just over the level before, in even laps of 60, each no steeper than 3°.
    deep = 10.0 + START_GAP_MM - 2.0
    assert len(down) == 4 * int(np.ceil(deep / (60 * np.tan(np.deg2rad(3.0)))))


def test_a_pass_too_short_to_ramp_is_plunged_into_or_refused():
    short = np.array([[0.0, 0], [0.5, 0]])
    params = DescentParams()
    assert plan_entry_onto(short, shapely.box(0, 0, 0.1, 0.1), 5.0, True, params, "ramp", True).kind == "plunge"
    assert plan_entry_onto(short, shapely.box(0, 0, 0.1, 0.1), 5.0, False, params, "ramp", True) is None


def test_cleared_ground_is_entered_straight_from_just_over_it():
    b = builder()
    go_in(b, DescentParams(), Entry(np.array([3.0, 4.0]), [], "cleared"), 2.0, 10.0, False)
    path = b.finish()
    down = np.flatnonzero(path.kind == Kind.ENTRY)
    assert path.point[down[0] - 1, 2] < 10.0
    assert path.point[down[-1]] == pytest.approx([3, 4, 2.0])


def test_sections_about_a_flat_end_say_what_tip_heights_say(pocket):
    mesh = mesh_at(pocket, 0.005)
    (low, high), radius = mesh.bounds(), 3.0
    index = DropIndex.build(mesh, bull_nose_profile(radius, 0.0, 30.0))
    heights = HeightField.over(index, low[:2] - 8, high[:2] + 8, 0.5, float(low[2]) - 5)
    field = box(*(low[:2] - 7), *(high[:2] + 7))
    for level in (low[2] - 1, low[2] + 5, low[2] + 12, high[2] - 0.5, high[2] + 1):
        by_sections = FreePositions(heights, Shadow(mesh), [(radius, 0.0)], 0.02, 0.01).at(float(level))
        by_heights = FreePositions(heights, Shadow(mesh), [], 0.02, 0.01).at(float(level))
        assert by_sections.symmetric_difference(by_heights).intersection(field).area < 0.01 * (field.length + 120)


def test_a_slope_about_the_tip_is_left_to_tip_heights(dish):
    shadow = Shadow(mesh_at(dish, 0.02))
    low, high = shadow.mesh.bounds()[:, 2]
    assert shadow.slopes(high - 2, high - 1)
    assert not shadow.slopes(low + 1, low + 2)


def test_tip_heights_between_two_heights_are_those_without_or_the_bounds(dish):
    index = DropIndex.build(mesh_at(dish, 0.005), bull_nose_profile(3.0, 1.0, 30.0))
    xy = np.random.default_rng(4).uniform(-10, 70, (3000, 2))
    plain, low, high = tip_heights(index, xy), 14.0, 18.0
    found = tip_heights(index, xy, low, high)
    assert np.all(found[plain <= low] == low)
    assert np.all(found[plain >= high] >= high)
    between = (plain > low) & (plain < high)
    assert between.any()
    assert (found[between] == plain[between]).all()


def upright(x0: float, x1: float, heights: list[float]) -> np.ndarray:
    """A wall of triangles (n, 3, 3) between two places, cut at heights."""
    a, b = np.array([x0, 0.0]), np.array([x1, 1.0])
    found = []
    for low, high in itertools.pairwise(heights):
        p, q, r, s = [*a, low], [*b, low], [*b, high], [*a, high]
        found += [[p, q, r], [p, r, s]]
    return np.array(found)


def test_walls_have_a_foot_where_they_end_and_not_where_their_triangles_do():
    walls = np.concatenate([upright(0, 5, [0, 2.1, 3.7, 8.3, 20]), upright(5, 9, [6.25004, 11, 20])])
    levels = wall_levels(walls, 20.0, 0.0, 10.0, None, 0.0)
    assert levels == [(10.0, True), (6.25004, False), (0.0, True)]

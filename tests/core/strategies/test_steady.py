"""Steady-load roughing: the engagement in closed forms and on a raster of its own (`bench/roughing.py`), what is left by
areas of shapely, the region of the axis, feeds."""

import itertools

import numpy as np
import pytest
import shapely

import roughing as bench
from fenrik.core.errors import FenrikError
from fenrik.core.regions.polygons import from_shape
from fenrik.core.strategies.ground import _cleared_kernels as kernels
from fenrik.core.strategies.ground import steady_row as module
from fenrik.core.strategies.ground.cleared import ClearedGround
from fenrik.core.strategies.ground.load_feeds import feed_times, stretches_of
from fenrik.core.strategies.ground.steady import SteadyClearing
from fenrik.core.strategies.steady_roughing import SteadyRoughing
from fenrik.core.toolpath import Kind

R = 5.0
STEP = 0.4
"""What a pass clears behind itself begins so far behind it."""


def ground_of(material, room=30.0):
    square = np.array([[-room, -room], [room, -room], [room, room], [-room, room]])
    return ClearedGround.of([square], from_shape(material), R)


@pytest.mark.parametrize("depth", [0.1, 0.5, 1.0, 2.5, 5.0, 8.0])
@pytest.mark.parametrize("turn", [0.0, 0.4, 2.0])
def test_engagement_along_a_straight_wall_is_that_of_the_arc_cosine(depth, turn):
    """arccos(1 − depth / R), whichever way the wall lies; the material is on the right."""
    along, right = np.array([np.cos(turn), np.sin(turn)]), np.array([np.sin(turn), -np.cos(turn)])
    wall = shapely.Polygon([a * 60 * along + b * 60 * right for a, b in ((-1, 0), (1, 0), (1, 1), (-1, 1))])
    ground = ground_of(wall)
    at = -(R - depth) * right
    # What the cutter leaves behind is cleared, as on a way.
    ground.stamp(at + np.linspace(-20, -STEP, 400)[:, None] * along)
    assert np.rad2deg(ground.engagement(*at, *along)) == pytest.approx(np.rad2deg(np.arccos(1 - depth / R)), abs=0.7)


def test_engagement_in_a_slot_is_half_a_turn_and_in_the_open_none():
    ground = ground_of(shapely.box(0, -60, 60, 60))
    ground.stamp(np.column_stack([np.linspace(-20, 10 - STEP, 500), np.zeros(500)]))
    assert np.rad2deg(ground.engagement(10.0, 0.0, 1.0, 0.0)) == pytest.approx(180, abs=1.5)
    assert ground.engagement(-10.0, 0.0, 1.0, 0.0) == 0.0


@pytest.mark.parametrize(("hole", "step"), [(2.0, 0.5), (6.0, 0.5), (6.0, 1.5), (20.0, 1.0)])
def test_engagement_of_a_circle_inside_a_circle(hole, step):
    """The law of cosines: the cutter at `hole + step` from the middle of a round hole of radius `hole + R`."""
    ground = ground_of(shapely.box(-60, -60, 60, 60).difference(shapely.Point(0, 0).buffer(hole + R, quad_segs=512)))
    out = hole + step
    turn = np.linspace(-1.0, -STEP / out, 400)
    ground.stamp(out * np.column_stack([np.cos(turn), np.sin(turn)]))
    met = np.arccos(((hole + R) ** 2 - out**2 - R**2) / (2 * out * R))
    assert np.rad2deg(ground.engagement(out, 0.0, 0.0, 1.0)) == pytest.approx(np.rad2deg(met), abs=0.7)


def test_the_fence_is_exact_near_its_edge():
    """Distances of shapely, inside below 0, at random places near random polygons with holes."""
    rng = np.random.default_rng(3)
    for _ in range(10):
        blobs = shapely.union_all(
            [
                shapely.Point(p).buffer(r)
                for p, r in zip(rng.uniform(-12, 12, (6, 2)), rng.uniform(3, 9, 6), strict=False)
            ]
        )
        # Like regions of an axis: nothing beside them is much thinner than the lattice's cells.
        shape = blobs.difference(shapely.box(-2, -2, 3, 1)).buffer(1).buffer(-1)
        shape = max(shapely.get_parts(shape), key=lambda p: p.area)
        ground = ClearedGround.of(from_shape(shape), [], R)
        places = rng.uniform(*np.array(shape.bounds).reshape(2, 2), (500, 2))
        far = shapely.distance(shape.exterior, shapely.points(places))
        far = np.minimum(
            far, [min((i.distance(shapely.Point(p)) for i in shape.interiors), default=99) for p in places]
        )
        near = far < 0.4
        want = np.where(shapely.contains_xy(shape, places), -far, far)[near]
        got = [kernels.fence_at(ground.ground, x, y) for x, y in places[near].tolist()]
        assert near.sum() > 20
        assert np.abs(np.array(got) - want).max() < 1e-6


def random_piece(seed):
    """A pocket of some random blobs with two islands, 10 mm deep."""
    rng = np.random.default_rng(seed)
    blobs = [
        shapely.Point(p).buffer(r) for p, r in zip(rng.uniform(0, 60, (5, 2)), rng.uniform(12, 22, 5), strict=True)
    ]
    boxes = [
        shapely.box(x, y, x + a, y + b)
        for (x, y), (a, b) in zip(rng.uniform(0, 50, (2, 2)), rng.uniform(14, 40, (2, 2)), strict=False)
    ]
    hole = max(shapely.get_parts(shapely.union_all([*blobs, *boxes])), key=lambda p: p.area)
    for _ in range(2):
        x, y = rng.uniform(10, 50, 2)
        hole = hole.difference(shapely.Point(x, y).buffer(rng.uniform(2, 6)))
    hole = max(shapely.get_parts(hole), key=lambda p: p.area).simplify(0.02)
    x0, y0, x1, y1 = hole.bounds
    return bench.prismatic(
        f"random {seed}", shapely.box(x0 - 8, y0 - 8, x1 + 8, y1 + 8), hole, 10.0, float(rng.choice([3.0, 4.0]))
    )


def roughed(piece, limit=45.0, **params):
    fields = {"stepdown_mm": piece.stepdown_mm, "engagement_deg": limit, "tolerance_mm": 0.05, **params}
    return bench.run(piece, SteadyRoughing(**fields))[0]


@pytest.mark.parametrize(("seed", "limit"), [(0, 45.0), (1, 60.0), (2, 35.0), (3, 45.0)])
def test_random_pockets_are_cleared_with_the_load_held(seed, limit):
    """The raster: 98 % of the samples below the limit and 5 %, hardly one by more than a fifth; little is left."""
    piece = random_piece(seed)
    outcome = roughed(piece, limit)
    found = bench.measure(piece, outcome.toolpath, cell_share=0.01)
    assert np.mean(found.held_deg > 1.05 * limit) < 0.02
    assert np.mean(found.held_deg > 1.2 * limit) < 5e-4
    assert np.median(found.held_deg) > 0.8 * limit
    share, _ = bench.left_over(piece, found.tops, cell_share=0.01)
    told = sum(t.area_mm2 or 0.0 for t in outcome.unreached)
    assert share / 100 * piece.hole.area < 0.002 * piece.hole.area + told
    assert found.air_mm < 0.05 * found.cut_mm


@pytest.mark.parametrize("seed", [0, 2])
def test_the_axis_never_leaves_its_region(seed):
    """All motions below the top, ways and leads too, lie where shapely has the axis."""
    piece = random_piece(seed)
    path = roughed(piece, allowance_mm=0.4).toolpath.flattened(0.001)[0]
    low = path.point[:, 2] < 12.9
    free = piece.hole.buffer(-(piece.radius_mm + 0.4), quad_segs=128).buffer(0.06)
    lines = [shapely.LineString(path.point[k - 1 : k + 1, :2]) for k in np.flatnonzero(low[1:] & low[:-1]) + 1]
    lines = [line for line in lines if line.length > 1e-9]
    assert len(lines) > 500
    assert free.covers(shapely.MultiLineString(lines))


def test_a_neck_is_passed_and_everything_comes_from_one_entry():
    """Two chambers and a neck 1.2 diameters wide: one way in, one retract at the end."""
    hole = shapely.union_all(
        [shapely.box(0, 0, 40, 50), shapely.box(39, 20, 65, 20 + 1.2 * 2 * R), shapely.box(64, 0, 100, 50)]
    )
    piece = bench.prismatic("neck", shapely.box(-10, -10, 110, 60), hole, 8.0, R)
    path = roughed(piece).toolpath
    assert (path.kind == Kind.RETRACT).sum() == 1
    found = bench.measure(piece, path, cell_share=0.01)
    assert bench.left_over(piece, found.tops, cell_share=0.01)[0] < 0.1


def test_stock_that_is_open_is_come_to_from_outside():
    piece = bench.star(0.6)
    path = roughed(piece).toolpath
    assert not (path.kind == Kind.ENTRY).any()
    assert bench.left_over(piece, bench.measure(piece, path, cell_share=0.01).tops, cell_share=0.01)[0] < 0.05


@pytest.mark.parametrize("seed", range(4))
def test_random_bosses_in_stock_that_is_open_all_round(seed):
    """Blobs that stand in a block, some out to its sides: the load is held, and nothing is gone through unlooked at."""
    rng = np.random.default_rng(100 + seed)
    block = shapely.box(0, 0, 70, 50)
    blobs = [shapely.Point(p).buffer(r) for p, r in zip(rng.uniform(0, 60, (4, 2)), rng.uniform(4, 14, 4), strict=True)]
    hole = block.buffer(30, join_style="mitre").difference(shapely.union_all(blobs).simplify(0.02))
    hole = max(shapely.get_parts(hole), key=lambda p: p.area)
    piece = bench.prismatic(f"bosses {seed}", block, hole, 10.0, 4.0)
    outcome = roughed(piece)
    found = bench.measure(piece, outcome.toolpath, cell_share=0.005)
    assert np.mean(found.held_deg > 1.05 * 45) < 0.02
    assert np.mean(found.held_deg > 1.2 * 45) < 5e-4
    told = sum(t.area_mm2 or 0.0 for t in outcome.unreached)
    assert bench.left_over(piece, found.tops, cell_share=0.005)[0] / 100 * hole.area < 0.002 * block.area + told


def test_every_bent_cut_keeps_its_least_radius():
    """No arc of the cuts is tighter than asked, and cuts meet without corners, but for ends of wall passes' leads."""
    path = roughed(bench.pocket(0.6), corner_percent=20).toolpath
    arcs = (path.kind == Kind.CUT) & (path.motion != 0)
    radius = np.linalg.norm((path.starts() - path.centre)[arcs, :2], axis=1)
    assert radius.min() > 0.2 * 6.0 * 0.98


def test_the_same_bytes_with_any_number_of_threads(monkeypatch):
    piece = bench.lens(0.6)
    paths = []
    for workers in (1, 2, 3):
        monkeypatch.setattr(module._Setting, "workers", workers)
        paths.append(roughed(piece).toolpath)
    for other in paths[1:]:
        assert np.array_equal(paths[0].point, other.point)
        assert np.array_equal(paths[0].feed, other.feed)


def test_feeds_keep_the_thickest_chip():
    """h = fz · sin φ: never thicker than at the limit, and at least nine tenths of that down to half the feed's share."""
    limit = np.deg2rad(50)
    held = np.deg2rad(np.linspace(1, 50, 200))
    chip = feed_times(held, limit) * np.sin(held) / np.sin(limit)
    assert chip.max() <= 1 + 1e-9
    assert chip[np.sin(held) > np.sin(limit) / 2].min() > 0.9
    wide = feed_times(np.deg2rad(np.array([90.0, 120.0, 170.0])), np.deg2rad(120.0))
    assert wide.tolist() == pytest.approx([1, 1, 1])


def test_stretches_go_as_slowly_as_their_worst_place():
    points = np.column_stack([np.arange(100) * 0.5, np.zeros(100)])
    held = np.full(100, np.deg2rad(10))
    held[40:60] = np.deg2rad(45)
    held[80:] = 0.0
    found = list(stretches_of(points, held, np.deg2rad(45), 3.0))
    assert found[0][0] == 0
    assert found[-1][1] == 99
    assert all(a[1] == b[0] for a, b in itertools.pairwise(found))
    times = {t for a, b, t in found if a < 59 and b > 40}
    assert min(times) == pytest.approx(1.0)
    assert found[0][2] == pytest.approx(2.0)
    assert found[-1][2] is None


def test_a_stepdown_longer_than_the_flutes_is_refused():
    with pytest.raises(FenrikError, match="deeper than the flutes"):
        roughed(bench.pocket(0.6), stepdown_mm=100.0)


def test_a_place_too_narrow_for_the_cutter_is_told():
    hole = shapely.union_all([shapely.box(0, 0, 40, 40), shapely.box(39, 16, 60, 24)])
    piece = bench.prismatic("narrow", shapely.box(-10, -10, 70, 50), hole, 8.0, R)
    told = roughed(piece).unreached
    assert len(told) == 1
    assert "does not fit: the bay is about 8.0 mm wide" in told[0].reason
    assert 40 < told[0].place[0] < 60
    assert told[0].area_mm2 == pytest.approx(20 * 8, rel=0.1)


@pytest.mark.parametrize("step", [None, 2.0, 1.0])
def test_steps_left_on_a_slope_are_no_higher_than_asked(step):
    """A plane at 30°, from z = 3 to 3 + 40·tan 30°: heights of the raster over the exact plane."""
    rise = 40 * np.tan(np.deg2rad(30))
    wedge = bench.extruded_along_y([(0, 0), (60, 0), (60, 3), (50, 3), (10, 3 + rise), (0, 3 + rise)], 40.0)
    piece = bench.Piece("slope", wedge, np.array([[0, 0, 0], [60, 40, 3 + rise]]), 4.0, 12.0)
    outcome = roughed(piece, step_mm=step)
    found = bench.measure(piece, outcome.toolpath, cell_share=0.005)
    x = (np.arange(found.tops.shape[0]) + 0.5) * 0.005 * piece.radius_mm
    slope = np.clip(3 + (50 - x) * np.tan(np.deg2rad(30)), 3, 3 + rise)
    left = (found.tops - slope[:, None])[:, 160:-160]
    assert left.min() > -0.06
    if step is None:
        assert left.max() > 8
    else:
        assert left.max() <= step + 0.06
    assert np.mean(found.held_deg > 1.05 * 45) < 0.02
    assert found.held_deg.max() < 1.25 * 45


def test_where_the_axis_has_no_room_to_turn_is_told_with_its_area():
    """A chamber a tenth of a millimetre wider than the tool: its room for the axis is 0.1 mm square."""
    hole = shapely.union_all([shapely.box(0, 0, 60, 40), shapely.box(59, 20, 70, 23), shapely.box(69, 15, 79.1, 25.1)])
    piece = bench.prismatic("tight", shapely.box(-10, -10, 90, 50), hole, 8.0, R)
    told = [u for u in roughed(piece).unreached if "too little to turn" in u.reason]
    assert len(told) == 1
    assert shapely.box(69, 15, 79.1, 25.1).contains(shapely.Point(told[0].place[:2]))
    assert told[0].area_mm2 == pytest.approx(np.pi * R**2, rel=0.1)


def test_a_row_that_is_stopped_plans_hardly_any_more_passes(monkeypatch):
    """Who is told of the progress raises at once, in a pocket of some hundred passes."""
    count = [0]
    plain = SteadyClearing._run

    def counted(self, *args):
        count[0] += 1
        return plain(self, *args)

    monkeypatch.setattr(SteadyClearing, "_run", counted)
    piece = bench.PIECES["islands"](1.0)
    roughed(piece)
    whole, count[0] = count[0], 0

    def stop(fraction, _words):
        if fraction >= 0.4:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        bench.run(piece, SteadyRoughing(stepdown_mm=piece.stepdown_mm, tolerance_mm=0.05), progress=stop)
    assert whole > 200
    assert count[0] < whole / 5

"""Rest roughing: what is taken, by areas of shapely; air on a raster of its own (`bench/roughing.py`); where stock ends, by
closed forms."""

import dataclasses

import numpy as np
import pytest
import shapely

import roughing as bench
from fenrik.core.errors import FenrikError
from fenrik.core.regions.polygons import from_shape
from fenrik.core.stock import Stock, cut
from fenrik.core.strategies.ground.regions import StandingStock
from fenrik.core.strategies.level_roughing import LevelRoughing
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.strategies.rest_roughing import RestRoughing
from fenrik.core.strategies.steady_roughing import SteadyRoughing
from fenrik.core.toolpath import Kind, Poses
from fenrik.core.tools import Assembly, assembly_of
from fenrik.core.tools.profile import bull_nose_profile

BIG, SMALL, DEPTH = 6.0, 2.5, 10.0
FIELDS = {"stepdown_mm": DEPTH, "tolerance_mm": 0.05}
HOLE = shapely.box(0, 0, 80, 40).difference(shapely.box(25, -1, 35, 18)).difference(shapely.Point(60, 20).buffer(4))


def opened(radius):
    """Where a cutter can come to."""
    return HOLE.buffer(-radius, quad_segs=64).buffer(radius, quad_segs=64)


@pytest.fixture(scope="module")
def roughed():
    """The pocket, cleared with the big tool: its stock, and its raster for the small one."""
    piece = bench.prismatic("corners", shapely.box(-12, -12, 92, 52), HOLE, DEPTH, BIG)
    outcome, _, given = bench.run(piece, SteadyRoughing(**FIELDS))
    share = 0.02
    tops = bench.measure(piece, outcome.toolpath, share * SMALL / BIG).tops
    return dataclasses.replace(piece, radius_mm=SMALL), bench.after(given, outcome.toolpath), tops, share


@pytest.mark.parametrize("known", ["by the stock", "by the tool"])
def test_only_what_is_left_is_taken_and_hardly_any_air(roughed, known):
    piece, stock, tops, share = roughed
    how = {"stock": stock} if known == "by the stock" else {"earlier_mm": BIG}
    named = {} if known == "by the stock" else {"reference_tool": 2}
    outcome, _, _ = bench.run(piece, RestRoughing(**FIELDS, **named), **how)
    found = bench.measure(piece, outcome.toolpath, share, tops)
    cell = share * SMALL
    taken = ((tops - found.tops) > DEPTH / 2).sum() * cell**2
    between = opened(SMALL).difference(opened(BIG)).area
    assert between > 30
    assert taken == pytest.approx(
        between, rel=0.25
    )  # the big tool goes round corners with a radius, and so leaves more
    assert bench.left_over(piece, found.tops, share)[0] < 0.05
    assert found.air_mm < 0.05 * found.cut_mm
    assert found.cut_mm < 4 * between / bench_stepover(45.0)
    path = outcome.toolpath
    spots = path.point[path.kind == Kind.CUT][:, :2]
    assert shapely.distance(shapely.points(spots), opened(SMALL).difference(opened(BIG))).max() < 2.5 * SMALL


def bench_stepover(limit_deg):
    return SMALL * (1 - np.cos(np.deg2rad(limit_deg)))


def test_thin_remains_are_left_alone(roughed):
    """Corners of a pocket stand (√2 − 1)(R − r) thick at most: 1.45 mm; nothing of that is thicker than 2 mm."""
    piece, stock, _, _ = roughed
    assert bench.run(piece, RestRoughing(**FIELDS, thicker_mm=4.0), stock=stock)[0].toolpath.cut_length_mm() == 0.0


def test_a_tool_that_is_no_larger_left_nothing(roughed):
    piece, stock, _, _ = roughed
    with pytest.raises(FenrikError, match="no more than this tool's"):
        bench.run(piece, RestRoughing(**FIELDS, reference_tool=2), stock=stock, earlier_mm=SMALL)


@pytest.mark.parametrize("place", [(0.13, 0.41), (0.5, 0.0), (-0.27, 0.3)])
def test_where_stock_ends_is_known_far_finer_than_its_cells(place):
    """A round hole milled at any place beside the lattice: its outline by a circle."""
    stock = Stock.box([-10, -10, 0], [10, 10, 8], 0.5)
    at, high = np.array([[*place, 3.0]]), np.array([[*place, 30.0]])
    up = np.array([[0.0, 0.0, 1.0]])
    stock = cut(stock, Poses(high, at, up, up, np.zeros(1, np.int64)), Assembly(bull_nose_profile(4.0, 0.0, 60.0)))[0]
    rings = {exact: StandingStock(stock, exact).above(4.0).geoms[0].interiors[0] for exact in (False, True)}
    off = {
        exact: np.abs(np.linalg.norm(np.array(ring.coords) - place, axis=1) - 4.0).max()
        for exact, ring in rings.items()
    }
    assert off[True] < 0.03 < 0.15 < off[False]


@pytest.mark.parametrize("strategy", ["steady roughing", "level roughing", "plunge roughing"])
def test_boundary_and_keep_out_hold_for_all_that_rough(strategy):
    """Places of shapely: the axis stays 2 mm within the boundary, and a radius away from what it keeps out of."""
    piece = bench.prismatic("fenced", shapely.box(-12, -12, 92, 52), shapely.box(0, 0, 80, 40), DEPTH, BIG)
    stay, out = shapely.box(0, 0, 50, 60), shapely.Point(30, 20).buffer(4)
    more = {"level roughing": {"stepover_mm": 5}, "plunge roughing": {"stepover_mm": 6, "step_mm": 4}}
    fields = {**FIELDS, **more.get(strategy, {}), "strategy": strategy, "stay_in_by_mm": -2.0}
    if strategy == "plunge roughing":
        fields.pop("stepdown_mm")
    params = STRATEGIES[strategy].params(**fields)
    outcome, _, _ = bench.run(piece, params, fences=(from_shape(stay), from_shape(out)))
    path = outcome.toolpath.flattened(0.005)[0]
    low = path.point[path.point[:, 2] < DEPTH][:, :2]
    assert len(low) > 20
    allowed = stay.buffer(-2.0).difference(out.buffer(BIG, quad_segs=64)).buffer(0.06)
    assert allowed.covers(shapely.MultiPoint(low))


@pytest.mark.parametrize("radius", [12.0, 25.0])
def test_round_walls_keep_their_allowance_without_facets(radius):
    """Steady roughing of a round pocket: the wall that its last passes leave, by circles; within 5 % of the allowance."""
    hole = shapely.Point(0, 0).buffer(radius, quad_segs=256)
    piece = bench.prismatic("round", shapely.box(-40, -40, 40, 40), hole, 8.0, 5.0)
    allowance = 0.4
    path = bench.run(piece, SteadyRoughing(stepdown_mm=8.0, tolerance_mm=0.02, allowance_mm=allowance))[0].toolpath
    flat = path.flattened(1e-4)[0]
    cuts = np.abs(flat.point[:, 2] - 3.0) < 1e-9  # at the level, whether they take anything or not
    out = np.linalg.norm(flat.point[cuts][:, :2], axis=1)
    assert out.max() + 5.0 == pytest.approx(radius - allowance, abs=0.05 * allowance)
    # All round, and between the ends of motions as well.
    wall = shapely.union_all(
        [shapely.LineString(flat.point[k - 1 : k + 1, :2]) for k in np.flatnonzero(cuts[1:] & cuts[:-1]) + 1]
    )
    turn = np.linspace(0, 2 * np.pi, 720, endpoint=False)
    spots = (radius - allowance - 5.0) * np.column_stack([np.cos(turn), np.sin(turn)])
    assert shapely.distance(wall, shapely.points(spots)).max() < 0.05 * allowance


@pytest.mark.parametrize("turn", [0.0, 35.0])
def test_level_roughing_in_lines_takes_what_it_takes_along_the_walls(turn):
    """By the stock; the lines lie in the direction that is asked for, the rest along the walls."""
    piece = bench.prismatic("lines", shapely.box(-12, -12, 92, 52), HOLE, DEPTH, BIG)
    taken = []
    for fields in ({"pattern": "offset"}, {"pattern": "parallel", "direction_deg": turn}):
        params = LevelRoughing(**FIELDS, stepover_mm=5.0, **fields)
        outcome, _, given = bench.run(piece, params)
        path = outcome.toolpath
        _, record = cut(given.stock, path.poses(0.002), assembly_of(given.tool))
        taken.append(record.removed_mm3.sum())
        kinds = path.kind[path.poses(0.002).source]
        assert record.removed_mm3[np.isin(kinds, [Kind.RAPID, Kind.RETRACT])].sum() == 0
    assert taken[1] == pytest.approx(taken[0], rel=1e-3)
    ways = np.diff(path.point[:, :2], axis=0)[path.kind[1:] == Kind.CUT]
    lengths = np.linalg.norm(ways, axis=1)
    off = np.abs(ways @ [-np.sin(np.deg2rad(turn)), np.cos(np.deg2rad(turn))])
    assert lengths[off < 1e-3].sum() > 0.9 * HOLE.buffer(-BIG).area / 5.0

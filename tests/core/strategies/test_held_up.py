"""What roughing leaves because shank or holder would touch, by closed forms; what it takes, against Boolean operations."""

from dataclasses import replace

import numpy as np
import pytest
import shapely
from OCP.BRepGProp import BRepGProp
from OCP.GProp import GProp_GProps

import roughing as bench
from fenrik.core.regions.polygons import from_shape
from fenrik.core.solids.reading import mesh_at, solid_from_shape
from fenrik.core.stock import Stock, cut
from fenrik.core.strategies.given import BODY_CLEARANCE_MM, Given, Region
from fenrik.core.strategies.level_roughing import LevelRoughing
from fenrik.core.strategies.registry import run_strategy
from fenrik.core.strategies.rest_roughing import RestRoughing
from fenrik.core.strategies.steady_roughing import SteadyRoughing
from fenrik.core.toolpath import Feeds, Kind
from fenrik.core.tools import FlatCutter, Tool, assembly_of

R, DEPTH, WALL, STICK_OUT = 6.0, 40.0, 0.5, 25.0
BLOCK, HOLE = shapely.box(-15, -15, 75, 55), shapely.box(0, 0, 60, 40)
COMMON = {"stepdown_mm": 10.0, "allowance_mm": WALL, "tolerance_mm": 0.05}
ROWS = [SteadyRoughing(engagement_deg=60, **COMMON), LevelRoughing(stepover_mm=4, **COMMON)]
REST = RestRoughing(engagement_deg=60, **COMMON)
HOLDER = [{"lower_diameter_mm": 70, "upper_diameter_mm": 70, "height_mm": 40}]


@pytest.fixture(scope="module")
def deep():
    """A pocket 40 mm deep over a base of 3 mm, closed all round."""
    return bench.prismatic("deep", BLOCK, HOLE, DEPTH, R)


def given_for(piece, stay_in=(), faces=None, **tool):
    mesh = mesh_at(solid_from_shape(piece.shape), 0.01)
    fields = {"stick_out_mm": STICK_OUT, "holder": HOLDER, **tool}
    tool = Tool(number=1, cutter=FlatCutter(diameter_mm=2 * R, flute_length_mm=20), **fields)
    return Given.of(
        mesh=mesh, stock=Stock.box(piece.box[0], piece.box[1], 0.5), tool=tool, cutter=tool.cutter,
        feeds=Feeds(2000, 600, 6000), safe=(piece.box[1, 2] + 16, piece.box[1, 2] + 6), obstacles=None,
        region=Region(faces=faces), reference=None, keep_out=[], stay_in=list(stay_in),
    )  # fmt: skip


def told(outcome):
    return [u for u in outcome.unreached if "Shank or holder" in u.reason]


@pytest.mark.parametrize("params", ROWS, ids=lambda p: p.strategy)
def test_what_a_short_tool_leaves_is_told_with_volume_and_the_stick_out_that_would_do(deep, params):
    """Levels at 10, 20, 30, 40 mm under the top; the holder lets the tip come 25 mm deep: two levels stay."""
    outcome = run_strategy(given_for(deep), params)
    assert outcome.toolpath.point[outcome.toolpath.kind == Kind.CUT][:, 2].min() == pytest.approx(3 + DEPTH - 20)
    assert len(told(outcome)) == 1
    assert not [u for u in outcome.unreached if "does not fit" in u.reason]
    one = told(outcome)[0]
    covers = HOLE.buffer(-R - WALL).buffer(R, quad_segs=32).area
    assert one.volume_mm3 == pytest.approx(20 * covers, rel=0.03)
    assert shapely.Point(one.place[:2]).within(HOLE)
    assert one.place[2] == pytest.approx(3.0)
    assert DEPTH < one.stick_out_mm < DEPTH + 3
    assert told(run_strategy(given_for(deep, stick_out_mm=one.stick_out_mm), params)) == []


@pytest.mark.parametrize("params", ROWS, ids=lambda p: p.strategy)
def test_a_tool_that_is_long_enough_is_told_nothing_and_takes_what_boolean_operations_say(deep, params):
    """Open CASCADE's volume of the block less what the cutter covers."""
    given = given_for(deep, stick_out_mm=45)
    outcome = run_strategy(given, params)
    assert outcome.unreached == []
    _, record = cut(given.stock, outcome.toolpath.poses(0.002), assembly_of(given.tool))
    covers = shapely.Polygon(from_shape(HOLE.buffer(-R - WALL).buffer(R, quad_segs=32))[0])
    left, block = GProp_GProps(), bench.prism(BLOCK, DEPTH + 3)
    BRepGProp.VolumeProperties_s(bench.less(block, bench.prism(covers, DEPTH, 3.0)), left)
    assert record.removed_mm3.sum() == pytest.approx(BLOCK.area * (DEPTH + 3) - left.Mass(), rel=3e-3)
    assert np.all(record.touch_mm < 1e-3)


def long_and_short(piece, params, **kwargs):
    """What a short tool is told, and the stock that it leaves more than one that is long enough, mm³."""
    left = []
    for stick_out_mm in (STICK_OUT, 90):
        given = given_for(piece, stick_out_mm=stick_out_mm, **kwargs)
        outcome = run_strategy(given, params)
        after, _ = cut(given.stock, outcome.toolpath.poses(0.002), assembly_of(given.tool))
        left.append((outcome, after.volume_mm3()))
    assert told(left[1][0]) == []
    return left[0][0], left[0][1] - left[1][1]


@pytest.mark.parametrize("params", [*ROWS, REST], ids=lambda p: p.strategy)
@pytest.mark.parametrize("seed", range(3))
def test_on_hollows_drawn_by_chance_the_volume_is_what_a_longer_tool_takes_more(seed, params):
    """By two cuts that know nothing of what is told: a hollow of overlapping discs, of chance depth."""
    rng = np.random.default_rng(seed)
    hole = shapely.union_all([shapely.Point(p).buffer(rng.uniform(12, 20)) for p in rng.uniform(20, 60, (4, 2))])
    hole = max(shapely.get_parts(hole.buffer(-8).buffer(8)), key=lambda part: part.area)
    low, high = np.array(hole.bounds[:2]) - 15, np.array(hole.bounds[2:]) + 15
    piece = bench.prismatic("chance", shapely.box(*low, *high), hole, float(rng.uniform(32, 45)), R)
    outcome, more = long_and_short(piece, params)
    assert sum(u.volume_mm3 for u in told(outcome)) == pytest.approx(more, rel=0.06)


def test_what_is_told_goes_by_the_faces_that_are_asked_for():
    """Two hollows, the wider one is not asked for: only the other is told."""
    wide, narrow = shapely.box(0, 0, 60, 40), shapely.box(80, 0, 110, 40)
    block = shapely.box(-15, -15, 125, 55)
    one = bench.prismatic("two", block, wide, DEPTH, R)
    piece = replace(one, shape=bench.less(one.shape, bench.prism(narrow, DEPTH, 3.0)))
    mesh = mesh_at(solid_from_shape(piece.shape), 0.01)
    corners = mesh.corners()
    floor = (np.abs(corners[:, :, 2] - 3.0).max(axis=1) < 1e-6) & (corners[:, :, 0].min(axis=1) > 79)
    outcome = run_strategy(given_for(piece, faces=mesh.rows(np.flatnonzero(floor))), ROWS[0])
    one = told(outcome)[0]
    covers = narrow.buffer(-R - WALL).buffer(R, quad_segs=32).area
    assert one.volume_mm3 == pytest.approx(20 * covers, rel=0.05)
    assert shapely.Point(one.place[:2]).within(narrow)


def test_nothing_is_told_outside_of_the_boundary(deep):
    """The boundary keeps the tool to the left half: of the right one nothing is missing."""
    half = shapely.box(0, 0, 30, 40)
    one = told(run_strategy(given_for(deep, from_shape(half)), ROWS[0]))[0]
    covers = shapely.intersection(HOLE.buffer(-R - WALL), half).buffer(R, quad_segs=32).area
    assert one.volume_mm3 == pytest.approx(20 * covers, rel=0.05)  # by cells of 1 mm


def test_a_place_is_told_for_one_reason():
    """In the middle of a wide hollow the holder has room; the ring beside it stays for the holder, and is not narrow."""
    hole = shapely.box(0, 0, 150, 100)
    piece = bench.prismatic("wide", shapely.box(-15, -15, 165, 115), hole, DEPTH, R)
    outcome = run_strategy(given_for(piece), ROWS[0])
    assert outcome.toolpath.point[outcome.toolpath.kind == Kind.CUT][:, 2].min() == pytest.approx(3.0)
    assert [u.reason for u in outcome.unreached] == [u.reason for u in told(outcome)]
    room = 35.0 + BODY_CLEARANCE_MM + WALL
    ring = hole.buffer(-R - WALL).buffer(R).difference(hole.buffer(-room).buffer(R))
    assert told(outcome)[0].volume_mm3 == pytest.approx(20 * ring.area, rel=0.03)

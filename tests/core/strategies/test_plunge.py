"""Plunge roughing: depths by closed forms, what is taken by areas of shapely, the order by the width that each plunge takes."""

import numpy as np
import pytest
import shapely

import roughing as bench
from fenrik.core.errors import FenrikError
from fenrik.core.solids.reading import mesh_at, solid_from_shape
from fenrik.core.stock import Stock, cut
from fenrik.core.strategies.given import Given, Region
from fenrik.core.strategies.plunge_roughing import PlungeRoughing
from fenrik.core.strategies.registry import run_strategy
from fenrik.core.toolpath import Feeds, Kind
from fenrik.core.tools import FlatCutter, Tool, assembly_of

R, DEPTH = 6.0, 40.0


def given_for(piece, tool=None, stock=None):
    mesh = mesh_at(solid_from_shape(piece.shape), 0.01)
    tool = tool or Tool(number=1, cutter=FlatCutter(diameter_mm=2 * R, flute_length_mm=50), stick_out_mm=80)
    return Given.of(
        mesh=mesh, stock=stock or Stock.box(piece.box[0], piece.box[1], 0.5), tool=tool, cutter=tool.cutter,
        feeds=Feeds(2000, 600, 6000), safe=(piece.box[1, 2] + 16, piece.box[1, 2] + 6), obstacles=None,
        region=Region(faces=None), keep_out=[], stay_in=[],
    )  # fmt: skip


def plunged(given, **params):
    fields = {"step_mm": 3.0, "stepover_mm": 5.0, "tolerance_mm": 0.05, "allowance_mm": 0.5, **params}
    outcome = run_strategy(given, PlungeRoughing(**fields))
    return outcome, cut(given.stock, outcome.toolpath.poses(0.002), assembly_of(given.tool))


@pytest.fixture(scope="module")
def closed():
    """A pocket 40 mm deep, closed all round."""
    return bench.prismatic("deep", shapely.box(-15, -15, 75, 55), shapely.box(0, 0, 60, 40), DEPTH, R)


def test_a_deep_pocket_is_cleared_but_for_cusps_without_touching_its_walls(closed):
    given = given_for(closed)
    outcome, (_, record) = plunged(given)
    path = outcome.toolpath
    low = path.point[path.kind == Kind.CUT]
    assert low[:, 2] == pytest.approx(3.0)  # the floor
    assert shapely.box(R + 0.5, R + 0.5, 60 - R - 0.5, 40 - R - 0.5).buffer(1e-6).covers(shapely.MultiPoint(low[:, :2]))
    swept = shapely.union_all([shapely.Point(p).buffer(R, quad_segs=64) for p in low[:, :2]])
    assert record.removed_mm3.sum() == pytest.approx(swept.area * DEPTH, rel=0.01)
    assert swept.area > 0.9 * closed.hole.area - 4 * 60
    kinds = path.kind[path.poses(0.002).source]
    assert record.removed_mm3[np.isin(kinds, [Kind.RAPID, Kind.RETRACT, Kind.LINK])].sum() < 1e-6


def test_each_plunge_but_the_first_takes_no_more_than_its_step(closed):
    """By areas: a plunge beside another takes at most the disc without that other, 5 mm away."""
    outcome, _ = plunged(given_for(closed))
    path = outcome.toolpath
    places = path.point[path.kind == Kind.CUT][:, :2]
    cleared = shapely.Point(places[0]).buffer(R)
    disc = shapely.Point(0, 0).buffer(R)
    most = disc.difference(shapely.Point(np.hypot(3.0, 5.0), 0).buffer(R)).area
    for place in places[1:]:
        own = shapely.Point(place).buffer(R)
        assert own.difference(cleared).area <= most + 1e-6
        cleared = cleared.union(own)


def test_open_stock_is_begun_from_outside():
    piece = bench.prismatic("open", shapely.box(0, 0, 60, 40), shapely.box(-30, 8, 50, 32), 20.0, R)
    outcome, _ = plunged(given_for(piece))
    path = outcome.toolpath
    first = path.point[path.kind == Kind.CUT][0]
    assert first[0] < R


def test_a_tool_that_does_not_cut_with_its_middle_is_refused_where_all_is_closed(closed):
    cutter = FlatCutter(diameter_mm=2 * R, flute_length_mm=50, centre_cutting=False)
    given = given_for(closed, Tool(number=1, cutter=cutter, stick_out_mm=80))
    outcome, _ = plunged(given)
    assert outcome.toolpath.cut_length_mm() == 0
    assert ["closed all round" in u.reason for u in outcome.unreached] == [True]
    drilled, _ = cut(
        given.stock,
        plunged(given_for(closed), step_mm=12.0, stepover_mm=12.0)[0].toolpath.rows(np.arange(5)).poses(0.002),
        assembly_of(given_for(closed).tool),
    )
    assert plunged(given_for(closed, given.tool, drilled))[0].toolpath.cut_length_mm() > 0


def test_a_holder_that_keeps_the_tip_up_is_told_with_the_stick_out_that_would_do(closed):
    """Stick-out 25 mm in a pocket 40 mm deep under a holder wider than it: 15 mm and the clearance stay."""
    cutter = FlatCutter(diameter_mm=2 * R, flute_length_mm=20)
    holder = [{"lower_diameter_mm": 70, "upper_diameter_mm": 70, "height_mm": 40}]
    given = given_for(closed, Tool(number=1, cutter=cutter, stick_out_mm=25, holder=holder))
    outcome, (_, record) = plunged(given)
    low = outcome.toolpath.point[outcome.toolpath.kind == Kind.CUT][:, 2]
    assert 3.0 + 15.0 <= low.min() < 3.0 + 17.0
    assert np.all(record.touch_mm < 1e-3)
    told = [u for u in outcome.unreached if "Shank or holder" in u.reason]
    assert len(told) == 1
    needed = 25 + low.min() - 3.0
    assert told[0].stick_out_mm == np.ceil(needed)
    assert f"about {needed:.0f} mm" in told[0].advice


def test_wide_steps_and_far_too_many_places_are_refused(closed):
    given = given_for(closed)
    with pytest.raises(FenrikError, match="wider than the tool"):
        plunged(given, step_mm=13.0)
    with pytest.raises(FenrikError, match="places"):
        plunged(given, step_mm=0.2, stepover_mm=0.2)


def test_nothing_stands_nothing_is_cut(closed):
    given = given_for(closed)
    _, (after, _) = plunged(given)
    again, _ = plunged(given_for(closed, stock=after))
    assert again.toolpath.cut_length_mm() < 0.05 * DEPTH * 100

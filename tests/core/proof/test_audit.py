"""Paths with planted mistakes: what must not be in them is taken out and told, and what is left is proven."""

from dataclasses import replace

import numpy as np
import pytest
from proving import FLAT, HOLDER, pocket_path, run

from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.proof.audit import Surroundings, audited
from fenrik.core.setups.stocks import box_mesh
from fenrik.core.sketches import Curve
from fenrik.core.solids.reading import mesh_at
from fenrik.core.stock import Stock
from fenrik.core.toolpath import Feeds, Kind, PathBuilder, SafePlane
from fenrik.core.tools import Tool
from fenrik.core.tools.cutters import FlatCutter, SlottingCutter

TOOL = Tool(number=3, cutter=FLAT, stick_out_mm=30)


def around(pocket, **changed):
    stock = Stock.box(np.zeros(3), np.array([60.0, 40, 20]), 0.5)
    part = DistanceIndex.build(mesh_at(pocket, 0.016), pocket.surfaces)
    return replace(Surroundings(stock, lambda: stock, part, TOOL, 0.02, 30.0, 300.0), **changed)


def two_levels(through_the_wall):
    """Two passes in the pocket; between them a link that stays down, straight or through the wall beside it."""
    b = PathBuilder(Feeds(1000, 300, 2000), SafePlane.at_height(40.0), 30.0)
    b.travel(13.0, 13.0, 21.0)
    b.enter(np.array([13.0, 13, 10]))
    b.next_pass()
    b.cut(np.array([[47.0, 13, 10]]))
    if through_the_wall:
        b.link_at(np.array([[52.0, 13, 10], [52, 18, 10]]), 2000)
    b.link_at(np.array([[47.0, 18, 10]]), 2000)
    b.next_pass()
    b.cut(np.array([[13.0, 18, 10]]))
    return b.finish()


def test_a_good_path_stays_as_it_is_and_brings_the_stock_that_it_leaves(pocket):
    path = pocket_path(10.0)
    found = audited(path, around(pocket))
    assert found.path is path
    assert found.told == []
    # The stock is the one that the proof cuts with the posted program.
    mine, proof = found.stock.hits()[0], run(pocket, path).run.stock.hits()[0]
    assert len(mine) == len(proof)
    assert np.abs(np.sort(mine, axis=0) - np.sort(proof, axis=0)).max() < 1e-3


def test_a_link_through_the_part_goes_over_it_and_no_pass_is_lost(pocket):
    bad = two_levels(through_the_wall=True)
    assert {f.kind for f in run(pocket, bad).findings} >= {"gouge"}
    found = audited(bad, around(pocket))
    assert found.path.cut_length_mm() == pytest.approx(bad.cut_length_mm())
    assert found.told == []
    assert run(pocket, found.path).findings == []
    assert not np.any(found.path.point[:, 0] > 47 + 1e-9)


def test_a_pass_that_is_too_deep_is_left_out_and_told_with_its_length(pocket):
    b = PathBuilder(Feeds(1000, 300, 2000), SafePlane.at_height(40.0), 30.0)
    for y, depth in ((13.0, 10.0), (16.0, 9.5), (19.0, 10.0)):
        b.travel(13.0, y, 21.0)
        b.enter(np.array([13.0, y, depth]))
        b.next_pass()
        b.cut(np.array([[47.0, y, depth]]))
    found = audited(b.finish(), around(pocket))
    assert found.path.cut_length_mm() == pytest.approx(68.0)
    (told,) = found.told
    assert "34.0 mm of 102 mm" in told.reason
    assert "0.4" in told.reason
    assert told.place[1:] == pytest.approx((16.0, 9.5))
    assert run(pocket, found.path).findings == []


def test_a_rapid_through_stock_is_led_over_it(pocket):
    path = pocket_path(10.0)
    low = path.kind == Kind.RAPID
    low &= (path.point[:, 2] > 20.5) & (path.point[:, 2] < 22)
    bad = replace(path, point=np.where(low[:, None], path.point - [0, 0, 6.0], path.point))
    assert "rapid in stock" in {f.kind for f in run(pocket, bad).findings}
    found = audited(bad, around(pocket))
    assert run(pocket, found.path).findings == []


def test_passes_with_the_holder_in_the_stock_or_the_tool_in_a_fixture_are_left_out_and_told(pocket):
    short = Tool(number=3, cutter=FLAT, stick_out_mm=12.5, holder=HOLDER)
    deep = pocket_path(6.0)
    contact = [f for f in run(pocket, deep, short).findings if f.kind == "holder contact"]
    found = audited(deep, around(pocket, part=None, tool=short))
    (told,) = [t for t in found.told if "holder would stand" in t.reason]
    assert f"{max(f.amount for f in contact):.2f} mm" in told.reason
    assert run(pocket, found.path, short).findings == []
    clamp = box_mesh(np.array([44.0, 10, 20]), np.array([60.0, 20, 35]))
    found = audited(pocket_path(10.0), around(pocket, fixtures=clamp))
    told = found.told[0]
    assert "deep in a fixture" in told.reason
    assert found.path.cut_length_mm() < pocket_path(10.0).cut_length_mm() - 10
    assert told.place[0] > 40
    assert told.place[1] < 23


def test_a_cutter_that_stands_under_what_it_leaves_is_not_lifted_through_it(pocket):
    # A disc on a thin neck in a groove from the side: going straight up would cut the lip.
    tool = Tool(number=3, cutter=SlottingCutter(diameter_mm=12, neck_diameter_mm=4, flute_length_mm=2), stick_out_mm=30)
    b = PathBuilder(Feeds(1000, 300, 2000), SafePlane.at_height(40.0), 30.0)
    for y in (-9.0, 49.0):
        b.travel(20.0, y, 25.0)
        b.enter(np.array([20.0, y, 4]))
        b.next_pass()
        b.cut(np.array([[20.0, -2.0 if y < 0 else 42.0, 4], [40, -2.0 if y < 0 else 41.0, 4], [40.0, y, 4]]))
    grooved = audited(b.finish(), around(pocket))
    # All of it goes into the part: both passes go whole, from over the stock to over the stock.
    assert grooved.path.cut_length_mm() == 0.0
    ups = np.flatnonzero(np.diff(audited(b.finish(), around(pocket, tool=tool)).path.point[:, 2]) > 0)
    path = audited(b.finish(), around(pocket, tool=tool)).path
    assert all(abs(path.point[k, 1] - 20) > 26 for k in ups)


def test_what_takes_nothing_is_known(pocket):
    path = pocket_path(10.0)
    twice = type(path).joined([path, path])
    found = audited(twice, around(pocket))
    cuts = twice.kind == Kind.CUT
    n = len(path)
    assert not found.idle[:n][cuts[:n]].any()
    assert found.idle[n:][cuts[n:]].all()


def test_where_the_way_up_is_barred_all_goes_since_the_tool_came_down(pocket):
    # Short flutes and a slim neck, in from the side under standing stock: straight up the flutes would hit it.
    cutter = FlatCutter(diameter_mm=8, flute_length_mm=3)
    tool = Tool(number=3, cutter=cutter, stick_out_mm=40, neck_diameter_mm=4, neck_length_mm=30)
    b = PathBuilder(Feeds(1000, 300, 2000), SafePlane.at_height(40.0), 30.0)
    b.travel(-9.0, 20.0, 25.0)
    b.enter(np.array([-9.0, 20, 8]))
    b.next_pass()
    b.cut(np.array([[5.0, 20, 8]]))
    kinds = {f.kind for f in run(pocket, b.finish(), tool).findings}
    assert "rapid in stock" in kinds
    found = audited(b.finish(), around(pocket, part=None, tool=tool))
    assert found.path.cut_length_mm() == 0.0
    assert any("rapid" in t.reason or "neck" in t.reason for t in found.told)


@pytest.mark.parametrize(
    ("before", "feed"),
    [
        ((), 1000 * 6 / 9),  # through the full: 180° engaged
        ((8.5,), 2000),  # nothing stands outside any more
        ((5.8,), 1000 * 6 / 9),  # 0.2 mm outside, nothing inside: a short arc engaged
    ],
)
def test_round_a_boss_the_outer_edge_keeps_its_feed_where_stock_stands_there_too(pocket, before, feed):
    # By hand, ⌀6 round a boss of R 3 on R 6: fed for the wall inside, 6 / 3 times; for the edge outside, 6 / 9 times.
    b = PathBuilder(Feeds(1000, 300, 2000), SafePlane.at_height(40.0), 30.0, radius_mm=3.0)
    b.beside = "right"
    for radius in (*before, 6.0):
        b.travel(30.0 + radius, 20.0, 21.0)
        b.enter(np.array([30.0 + radius, 20, 18]))
        b.follow(Curve.arc(np.array([30.0, 20]), radius, 0.0, -360.0), Kind.CUT)
    path = b.finish()
    found = audited(path, around(pocket, part=None, cutting_feed=1000.0)).path
    last = np.flatnonzero(found.kind == Kind.CUT)[-1]
    assert path.feed[last] == pytest.approx(2000)
    assert found.feed[last] == pytest.approx(feed)
    assert found.edge[last] == pytest.approx(1.0)
    assert found.cut_length_mm() == pytest.approx(path.cut_length_mm())

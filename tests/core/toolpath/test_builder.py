"""How motions are put together: which is at rapid, how high a rapid travels, how a cycle and a pass are marked."""

import numpy as np
import pytest

from fenrik.core.sketches import Curve
from fenrik.core.toolpath import Feeds, Kind, Motion, PathBuilder, SafePlane
from fenrik.core.toolpath.builder import LIFT_MM, curve_motions

FEEDS = Feeds(cutting=1200, entry=300, exit=2000)


def builder(over=None):
    return PathBuilder(FEEDS, SafePlane.at_height(50), retract_mm=10, over=over)


def test_a_path_begins_and_ends_at_the_clearance_height():
    b = builder()
    b.travel(5, 6, 1.0)
    b.enter([[5, 6, -2]])
    b.cut([[15, 6, -2]])
    path = b.finish()
    assert path.point[0].tolist() == [5, 6, 50]
    assert path.kind[0] == Kind.RAPID
    assert path.point[-1].tolist() == [15, 6, 50]
    assert path.kind[-1] == Kind.RETRACT


def test_each_kind_has_the_feed_of_its_own():
    b = builder()
    b.travel(0, 0, 1.0)
    b.approach([[1, 0, 0.5]])
    b.enter([[1, 0, -1]])
    b.cut([[9, 0, -1]])
    b.link([[9, 3, -1]])
    b.cut_at([[1, 3, -1]], 77.0)
    path = b.finish()
    feeds = {kind: set(path.feed[path.kind == kind]) for kind in set(path.kind)}
    assert feeds[Kind.RAPID] == feeds[Kind.RETRACT] == {0.0}
    assert feeds[Kind.APPROACH] == feeds[Kind.ENTRY] == {300.0}
    assert feeds[Kind.CUT] == {1200.0, 77.0}
    assert feeds[Kind.LINK] == {1200.0}
    assert feeds[Kind.EXIT] == {2000.0}


def test_between_places_the_tool_lifts_off_at_feed_and_travels_at_the_retract_height():
    b = builder()
    b.travel(0, 0, 0.0)
    b.cut([[4, 0, -3]])
    b.travel(20, 0, -1.0)
    path = b.finish()
    lifted = np.flatnonzero(path.kind == Kind.EXIT)[0]
    assert path.point[lifted].tolist() == [4, 0, -3 + LIFT_MM]
    after = path.point[lifted + 1 : lifted + 4]
    assert after.tolist() == [[4, 0, 10], [20, 0, 10], [20, 0, -1]]
    # Nothing goes sideways at rapid below the height that it must keep.
    rapid = np.isin(path.kind, (Kind.RAPID, Kind.RETRACT))
    sideways = np.linalg.norm(np.diff(path.point[:, :2], axis=0, prepend=path.point[:1, :2]), axis=1) > 1e-9
    assert path.point[rapid & sideways][:, 2].min() >= 10


def test_a_lower_height_is_taken_where_the_ground_allows_it_but_never_above_the_retract_height():
    low, high = builder(lambda a, b: 3.0), builder(lambda a, b: 33.0)
    for b, want in ((low, 3.0), (high, 10.0)):
        b.travel(0, 0, 0.0)
        b.cut([[4, 0, -3]])
        assert b.height_to(20, 0) == want
        b.travel(20, 0, -1.0)
        path = b.finish()
        over = path.point[(path.kind == Kind.RAPID) & (path.point[:, 0] == 20)]
        assert over[0, 2] == want


def test_motions_to_where_the_tool_is_are_left_out_but_full_circles_are_kept():
    b = builder()
    b.travel(10, 0, 0.0)
    b.cut([[10, 0, -1], [10, 0, -1], [10, 0, -1]])
    b.follow(Curve.arc(np.zeros(2), 10, 0, 360), Kind.CUT)
    b.follow(Curve.polyline([[10, 0]]), Kind.CUT)
    path = b.finish()
    cuts = path.kind == Kind.CUT
    assert path.motion[cuts].tolist() == [Motion.LINE, Motion.ARC_CCW, Motion.ARC_CCW]
    assert path.point[cuts][-1] == pytest.approx([10, 0, -1])
    assert path.cut_length_mm() == pytest.approx(2 * np.pi * 10 + 1)


@pytest.mark.parametrize(("depth", "pitch"), [(4.0, 1.0), (3.3, 1.0), (0.2, 2.0)])
def test_a_helix_sinks_by_no_more_than_its_pitch_a_turn_and_ends_with_a_level_one(depth, pitch):
    b = builder()
    b.travel(0, 0, 0.0)
    end = np.array([6.0, 2.0, -depth])
    b.enter_helix(np.array([2.0, 2.0]), end, 0.0, pitch)
    path = b.finish()
    arcs = path.motion == Motion.ARC_CCW
    z = np.concatenate([[0.0], path.point[arcs, 2]])
    assert np.diff(z).min() >= -pitch / 2 - 1e-12
    assert z[-3:].tolist() == pytest.approx([-depth] * 3)
    assert path.point[arcs][-1] == pytest.approx(end)
    # All on one circle about the upright axis, centres as high as each arc begins.
    assert np.hypot(*(path.point[arcs, :2] - [2, 2]).T) == pytest.approx(4.0)
    assert path.centre[arcs, 2] == pytest.approx(z[:-1])
    assert np.all(path.feed[arcs] == FEEDS.entry)


def test_a_cycle_marks_what_it_does_and_nothing_after():
    b = builder()
    b.travel(0, 0, 2.0)
    b.begin_cycle(3, 7, 1.5)
    b.enter([[0, 0, -5]])
    b.dwell(0.25)
    b.dwell(0.25)
    b.end_cycle()
    b.cut([[8, 0, -5]])
    path = b.finish()
    inside = path.kind == Kind.ENTRY
    assert path.cycle[inside].tolist() == [3]
    assert path.hole[inside].tolist() == [7]
    assert path.peck_mm[inside].tolist() == [1.5]
    assert path.dwell_s[inside].tolist() == [0.5]
    assert set(path.cycle[~inside]) == {0}
    assert set(path.hole[~inside]) == {-1}
    assert path.dwell_s[~inside].sum() == 0


def test_only_cuts_belong_to_a_pass():
    b = builder()
    b.travel(0, 0, 0.0)
    for k in range(3):
        b.next_pass()
        b.link([[0, k, 0]])
        b.cut([[9, k, 0]])
    path = b.finish()
    assert path.pass_id[path.kind == Kind.CUT].tolist() == [0, 1, 2]
    assert set(path.pass_id[path.kind != Kind.CUT]) == {-1}


def test_a_curve_sinks_evenly_along_its_way():
    """Half a circle of 10 (length 10 π) and a line of 20: heights in the shares of the lengths."""
    curve = Curve(np.array([[10.0, 0], [-10, 0], [-10, -20]]), np.array([1.0, 0.0]), False)
    points, motion, centre = curve_motions(curve, 0.0, -5.0)
    assert motion.tolist() == [Motion.ARC_CCW, Motion.LINE]
    assert centre[0] == pytest.approx([0, 0, 0])
    whole = 10 * np.pi + 20
    assert points[:, 2] == pytest.approx([-5 * 10 * np.pi / whole, -5.0])


def test_nothing_makes_an_empty_path():
    b = builder()
    b.retract(5)
    b.lift_off()
    b.dwell(3)
    assert b.place is None
    assert len(b.finish()) == 0


@pytest.mark.parametrize(
    ("beside", "turn", "share"),
    [
        # A bore of 20 with a mill of 16: the axis on R 2 at (D_hole - D_tool) / D_hole of the feed (common practice).
        ("right", 1, 4 / 20),
        ("left", -1, 4 / 20),
        ("both", 1, 4 / 20),
        ("both", -1, 4 / 20),
        ("none", 1, 1.0),
    ],
)
def test_inside_an_arc_the_edge_and_not_the_axis_has_the_feed(beside, turn, share):
    b = PathBuilder(FEEDS, SafePlane.at_height(50), 10, radius_mm=8.0)
    b.beside = beside
    b.travel(2, 0, 1.0)
    b.follow(Curve.arc(np.zeros(2), 2.0, 0.0, turn * 360.0), Kind.CUT, to_mm=-3.0)
    path = b.finish()
    assert path.feed[path.kind == Kind.CUT] == pytest.approx(1200 * share)


@pytest.mark.parametrize(
    ("radius", "most", "share"),
    [(24.0, np.inf, 1.5), (16.0, np.inf, 2.0), (12.0, np.inf, 1.5), (8.0, np.inf, 1.0), (24.0, 1500.0, 1.25)],
)
def test_round_outside_corners_the_axis_goes_faster_up_to_limits(radius, most, share):
    # A boss of 32 with a mill of 16: (D + D_tool) / D = 1.5; of 16 twice; round less the axis turns no faster than on
    # R 8 with the feed asked; and no more than the machine has.
    b = PathBuilder(Feeds(1200, 300, 2000, most), SafePlane.at_height(50), 10, radius_mm=8.0)
    b.beside = "right"
    b.travel(radius, 0, 1.0)
    b.follow(Curve.arc(np.zeros(2), radius, 0.0, -180.0), Kind.CUT)
    b.follow(Curve.polyline([b.place[:2], [-40.0, 0.0]]), Kind.CUT)
    path = b.finish()
    assert path.feed[path.kind == Kind.CUT] == pytest.approx([1200 * share, 1200])


def test_a_helix_into_full_material_is_slower_the_narrower_it_is():
    b = PathBuilder(FEEDS, SafePlane.at_height(50), 10, radius_mm=8.0)
    b.beside = "left"
    b.travel(0, 0, 1.0)
    b.enter_helix(np.zeros(2), np.array([1.9, 0.0, -3.0]), 0.0, 1.0)
    path = b.finish()
    turns = path.motion == Motion.ARC_CCW
    assert path.feed[turns] == pytest.approx(300 * 1.9 / 9.9)
    assert b.beside == "left"

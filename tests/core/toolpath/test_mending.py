"""Motions taken out of paths: over at a safe height, down again where the path goes on."""

import numpy as np
import pytest

from fenrik.core.toolpath import Feeds, Kind, PathBuilder, SafePlane
from fenrik.core.toolpath.mending import Detour, skimmed, without

TOP = 20.0


def way(**changed):
    return Detour(**{"safe_mm": 30.0, "stands": lambda xy: TOP, "feed": 300.0} | changed)


def ladder():
    """Three passes at z 10 with links between, one way down."""
    b = PathBuilder(Feeds(1000, 300, 2000), SafePlane.at_height(40.0), 30.0)
    b.travel(0.0, 0.0, 21.0)
    b.enter(np.array([0.0, 0, 10]))
    for k in range(3):
        if k:
            b.link(np.array([[b.place[0], 5.0 * k, 10]]))
        b.next_pass()
        x = 40.0 if k % 2 == 0 else 0.0
        b.cut(np.array([[20.0, 5.0 * k, 10], [x, 5.0 * k, 10]]))
    return b.finish()


def rows(path, kind, y=None):
    mask = path.kind == kind
    return np.flatnonzero(mask if y is None else mask & (np.abs(path.point[:, 1] - y) < 1e-9))


def test_a_link_becomes_a_way_over_the_top():
    path = ladder()
    bad = np.zeros(len(path), bool)
    bad[rows(path, Kind.LINK)[0]] = True
    made = without(path, bad, way())
    assert made.cut_length_mm() == pytest.approx(path.cut_length_mm())
    k = rows(made, Kind.CUT, 5.0)[0]
    assert made.point[k - 4 : k].tolist() == [[40, 0, 30], [40, 5, 30], [40, 5, 21], [40, 5, 10]]
    assert made.kind[k - 4 : k].tolist() == [Kind.RETRACT, Kind.RAPID, Kind.RAPID, Kind.APPROACH]
    assert made.feed[k - 1] == 300


def test_the_second_half_of_a_pass_is_gone_on_with_and_a_short_rest_is_not():
    path = ladder()
    bad = np.zeros(len(path), bool)
    bad[rows(path, Kind.CUT, 5.0)[0]] = True
    made = without(path, bad, way())
    assert made.cut_length_mm() == pytest.approx(path.cut_length_mm() - 20)
    short = ladder()
    short.point[rows(short, Kind.CUT, 5.0)[0], 0] = 5.0
    made = without(short, bad, way())
    assert made.cut_length_mm() == pytest.approx(80)


def test_a_tool_that_cannot_plunge_goes_on_from_over_the_stock_alone():
    path = ladder()
    bad = np.zeros(len(path), bool)
    bad[rows(path, Kind.LINK)[0]] = True
    made = without(path, bad, way(plunges=False))
    assert made.cut_length_mm() == pytest.approx(40)
    assert made.point[-1, 2] == 40


@pytest.mark.parametrize("way", [way(lifts=False), way()])
def test_whole_blocks_go_from_over_to_over(way):
    path = ladder()
    bad = np.zeros(len(path), bool)
    bad[rows(path, Kind.CUT, 10.0)[-1]] = True
    made = without(path, bad, way, whole=way.lifts)
    assert made.cut_length_mm() == 0.0
    assert np.all(made.point[:, 2] >= TOP)


def test_a_hole_and_a_compensated_run_go_whole():
    b = PathBuilder(Feeds(1000, 300, 2000), SafePlane.at_height(40.0), 30.0)
    for hole in range(3):
        b.begin_cycle(83, hole, 2.0)
        b.travel(10.0 * hole, 0.0, 21.0)
        b.enter(np.array([[10.0 * hole, 0, 18]]))
        b.rapid(np.array([[10.0 * hole, 0, 21]]))
        b.enter(np.array([[10.0 * hole, 0, 16]]))
        b.rapid(np.array([[10.0 * hole, 0, 21]]))
        b.end_cycle()
    path = b.finish()
    bad = np.zeros(len(path), bool)
    bad[np.flatnonzero(path.hole == 1)[2]] = True
    made = without(path, bad, way())
    assert sorted(set(made.hole.tolist())) == [-1, 0, 2]
    assert np.count_nonzero(made.hole == 2) == np.count_nonzero(path.hole == 2)
    path = ladder()
    path.side[rows(path, Kind.CUT, 5.0)] = 41
    bad = np.zeros(len(path), bool)
    bad[rows(path, Kind.CUT, 5.0)[0]] = True
    assert 41 not in without(path, bad, way()).side


def test_idle_stretches_are_links_where_they_are_long_enough():
    path = ladder()
    idle = np.zeros(len(path), bool)
    idle[rows(path, Kind.CUT, 5.0)] = True
    idle[rows(path, Kind.CUT, 0.0)[0]] = True
    made = skimmed(path, idle, 25.0, 2000.0)
    assert made.cut_length_mm() == pytest.approx(80)
    assert np.all(made.feed[rows(path, Kind.CUT, 5.0)] == 2000)
    assert np.array_equal(made.point, path.point)

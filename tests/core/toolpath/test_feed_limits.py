"""Limits on the feed of arcs, by hand: vf = n·z·fz at the edge, √(a·R) for the drives."""

import numpy as np
import pytest

from fenrik.core.sketches import Curve
from fenrik.core.toolpath import Feeds, Kind, MotionLimits, PathBuilder, SafePlane
from fenrik.core.toolpath.feed_limits import feed_limits

DRIVES = MotionLimits(max_feed_mm_min=1500, acceleration_mm_s2=1e6)


def circle(radius, tool_radius, beside, turn=1.0, most=1500.0):
    b = PathBuilder(Feeds(1200, 300, 2000, most), SafePlane.at_height(50), 10, radius_mm=tool_radius)
    b.beside = beside
    b.travel(radius, 0, 1.0)
    b.enter([[radius, 0, -2]])
    b.follow(Curve.arc(np.zeros(2), radius, 0, turn * 360), Kind.CUT)
    return b.finish()


def test_in_a_bore_the_edge_keeps_its_feed():
    path = circle(2, 8, "both")  # a bore of 20 with a mill of 16
    assert path.edge == pytest.approx(1.0)
    assert feed_limits(path, DRIVES) == []


def test_round_a_boss_the_machine_is_too_slow():
    # A boss of R 6 by a mill of 16: the axis on R 14 should go 14 / 6 times 1200, the machine goes 1500.
    (limit,) = feed_limits(circle(14, 8, "left"), DRIVES)
    assert limit.limit == "machine feed"
    assert "1500 mm/min" in limit.words
    assert limit.least_share == pytest.approx(1500 * 6 / 14 / 1200)
    assert (limit.motions, limit.length_mm) == (2, pytest.approx(2 * np.pi * 14, rel=1e-6))


def test_round_a_boss_smaller_than_the_tool_the_axis_is_sped_up_in_part():
    # By the wall the axis on R 10 would go 10 / 2 times 1200; it turns no faster than 1200 / 8, so 10 / 8 times.
    (limit,) = feed_limits(
        circle(10, 8, "left", most=9000.0), MotionLimits(max_feed_mm_min=9000, acceleration_mm_s2=1e6)
    )
    assert limit.limit == "corner"
    assert limit.least_share == pytest.approx(10 / 8 * 2 / 10)


def test_round_a_sharp_corner_there_is_no_wall_to_keep_a_feed_on():
    path = circle(8, 8, "left")
    assert feed_limits(path, DRIVES) == []
    assert path.feed[path.kind == Kind.CUT].max() == pytest.approx(1200)


def test_on_small_arcs_the_drives_hold_back():
    # 1200 mm/min are 20 mm/s; a circle of R 0.5 at 200 mm/s² allows √100 = 10 mm/s.
    (limit,) = feed_limits(circle(0.5, 4, "none"), MotionLimits(acceleration_mm_s2=200))
    assert limit.limit == "acceleration"
    assert limit.least_share == pytest.approx(0.5)

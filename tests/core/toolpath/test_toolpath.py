"""Toolpaths: arcs, kept form, and times against trapezoids solved by hand."""

import numpy as np
import pytest

from fenrik.core.toolpath import Feeds, Kind, Motion, MotionLimits, PathBuilder, SafePlane, Toolpath, motion_times


def straight(points, feed):
    points = np.array(points, float)
    n = len(points)
    return Toolpath.plain(
        points, np.zeros(n, np.int8), np.zeros((n, 3)), np.full(n, Kind.CUT, np.int8), np.full(n, float(feed))
    )


def test_single_trapezoid_by_hand():
    """100 mm at 6000 mm/min (100 mm/s), a = 1000 mm/s²: 0.1 s up, 0.1 s down, 90 mm at speed: 1.1 s."""
    times = motion_times(straight([[0, 0, 0], [100, 0, 0]], 6000), MotionLimits(acceleration_mm_s2=1000))
    assert times[1] == pytest.approx(1.1)


def test_triangle_by_hand():
    """1 mm at 100 mm/s with a = 1000: never reaches speed; t = 2·√(s/a)."""
    times = motion_times(straight([[0, 0, 0], [1, 0, 0]], 6000), MotionLimits(acceleration_mm_s2=1000))
    assert times[1] == pytest.approx(2 * np.sqrt(1 / 1000))


def test_corner_slows_down_and_straight_does_not():
    limits = MotionLimits(acceleration_mm_s2=1000, path_tolerance_mm=0.02)
    one = motion_times(straight([[0, 0, 0], [100, 0, 0]], 6000), limits).sum()
    split = motion_times(straight([[0, 0, 0], [37, 0, 0], [100, 0, 0]], 6000), limits).sum()
    corner = motion_times(straight([[0, 0, 0], [50, 0, 0], [50, 50, 0]], 6000), limits).sum()
    back = motion_times(straight([[0, 0, 0], [50, 0, 0], [0, 0, 0]], 6000), limits).sum()
    assert split == pytest.approx(one)
    half = np.sqrt(0.5)
    v = np.sqrt(1000 * 0.02 * half / (1 - half))
    leg = (100 - 0) / 1000 + (100 - v) / 1000 + (50 - (100**2) / 2000 - (100**2 - v**2) / 2000) / 100
    assert corner == pytest.approx(2 * leg)
    assert back == pytest.approx(2 * 0.6)


def test_never_below_length_over_feed():
    rng = np.random.default_rng(2)
    path = straight(np.cumsum(rng.normal(size=(500, 3)), axis=0), 3000)
    assert motion_times(path, MotionLimits()).sum() >= path.lengths().sum() / 50
    assert len(motion_times(Toolpath.empty(), MotionLimits())) == 0


def test_helix_is_arcs_and_ends_where_asked():
    builder = PathBuilder(Feeds(100, 50, 200), SafePlane.at_height(20.0), 10.0)
    builder.travel(4.0, 0.0, 6.0)
    builder.enter_helix(np.array([2.0, 0.0]), np.array([4.0, 0.0, 1.0]), 6.0, 2.0)
    path = builder.finish()
    arcs = path.motion == Motion.ARC_CCW
    assert arcs.sum() == 5 + 2
    assert np.allclose(path.point[arcs][-1], [4, 0, 1])
    flat, source = path.flattened(0.001)
    helix = flat.point[np.isin(source, np.flatnonzero(arcs))]
    assert np.abs(np.linalg.norm(helix[:, :2] - [2, 0], axis=1) - 2).max() < 1e-9
    assert np.all(np.diff(helix[:, 2]) <= 1e-12)
    chords = np.linalg.norm(np.diff(helix[:, :2], axis=0), axis=1)
    assert (2 - np.sqrt(4 - (chords.max() / 2) ** 2)) <= 0.001 + 1e-9
    turn = 2 * np.pi * 2
    assert path.lengths()[arcs].sum() == pytest.approx(np.hypot(2.5 * turn, 5.0) + turn, rel=1e-3)


def test_moved():
    path = straight([[0, 0, 0], [1, 2, 3]], 100)
    assert np.allclose(path.moved(np.array([1.0, 0, 0])).point[0], [1, 0, 0])

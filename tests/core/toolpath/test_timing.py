"""Times of motions: trapezoidal profiles in closed form, and an integration in small steps of the same rules."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from fenrik.core.toolpath import Kind, Motion, MotionLimits, Toolpath, motion_times

LIMITS = MotionLimits(rapid_mm_min=24_000, max_feed_mm_min=6_000, acceleration_mm_s2=2_000, path_tolerance_mm=0.02)


def path(points, feed=3_000.0) -> Toolpath:
    points = np.asarray(points, dtype=float)
    n = len(points)
    feeds = np.broadcast_to(np.asarray(feed, dtype=float), n).copy()
    kinds = np.where(feeds > 0, Kind.CUT, Kind.RAPID).astype(np.int8)
    return Toolpath.plain(points, np.zeros(n, np.int8), np.zeros((n, 3)), kinds, feeds)


def alone(length: float, speed: float, a: float) -> float:
    """From rest to rest: v/a + s/v where the speed is reached, else 2·√(s/a)."""
    return speed / a + length / speed if length >= speed * speed / a else 2 * np.sqrt(length / a)


@pytest.mark.parametrize("length", [0.001, 0.1, 1.0, 1.25, 10.0, 500.0])
def test_one_motion_from_rest_to_rest(length):
    got = motion_times(path([[0, 0, 0], [length, 0, 0]]), LIMITS)
    assert got[0] == 0
    assert got[1] == pytest.approx(alone(length, 50.0, 2000.0))


def test_rapids_go_at_the_machine_s_speed_and_feeds_no_faster_than_it_can():
    assert motion_times(path([[0, 0, 0], [300, 0, 0]], 0.0), LIMITS)[1] == pytest.approx(alone(300, 400, 2000))
    assert motion_times(path([[0, 0, 0], [300, 0, 0]], 99_999.0), LIMITS)[1] == pytest.approx(alone(300, 100, 2000))


def test_straight_on_in_pieces_takes_as_long_as_in_one():
    whole = motion_times(path([[0, 0, 0], [40, 30, 0]]), LIMITS).sum()
    share = np.linspace(0, 1, 38)[:, None]
    assert motion_times(path(share * [40, 30, 0]), LIMITS).sum() == pytest.approx(whole, rel=1e-9)


def test_a_way_back_stops_at_the_turn():
    there = motion_times(path([[0, 0, 0], [20, 0, 0]]), LIMITS).sum()
    assert motion_times(path([[0, 0, 0], [20, 0, 0], [0, 0, 0]]), LIMITS).sum() == pytest.approx(2 * there)


def test_a_right_angle_is_taken_at_the_speed_of_its_rounding():
    """v² = a·δ·sin 45°/(1 − sin 45°); up to there from rest, and from there to rest."""
    v = np.sqrt(2000 * 0.02 * np.sqrt(0.5) / (1 - np.sqrt(0.5)))
    up = (50 - v) / 2000 + 50 / 2000
    ways = (50**2 - v * v) / 4000 + 50**2 / 4000
    one = up + (30 - ways) / 50
    got = motion_times(path([[0, 0, 0], [30, 0, 0], [30, 30, 0]]), LIMITS)
    assert got[1:] == pytest.approx([one, one])


def test_sharper_corners_cost_more():
    def took(angle: float) -> float:
        turn = np.deg2rad(angle)
        return float(
            motion_times(path([[0, 0, 0], [30, 0, 0], [30 + 30 * np.cos(turn), 30 * np.sin(turn), 0]]), LIMITS).sum()
        )

    times = [took(a) for a in (0, 10, 45, 90, 135, 179)]
    assert times == sorted(times)
    assert times[-1] > times[0] + 0.02


def test_dwells_are_added_to_their_motions():
    p = path([[0, 0, 0], [10, 0, 0], [20, 0, 0]])
    bare = motion_times(p, LIMITS)
    p.dwell_s[1] = 1.5
    assert motion_times(p, LIMITS) - bare == pytest.approx([0, 1.5, 0])


def test_an_arc_takes_as_long_as_its_chords():
    n = 3
    arc = Toolpath.plain(
        np.array([[10.0, 0, 0], [-10, 0, 0], [-30, 0, 0]]),
        np.array([0, Motion.ARC_CCW, 0], np.int8),
        np.zeros((n, 3)),
        np.full(n, Kind.CUT, np.int8),
        np.full(n, 600.0),
    )
    got = motion_times(arc, LIMITS)
    assert len(got) == n
    assert got[1] == pytest.approx(np.pi * 10 / 10, rel=0.02)


def stepped(points: np.ndarray, speed: np.ndarray, a: float, tolerance: float, h: float = 1e-4) -> float:
    """The whole time by walking along the path in steps of length h, forwards and backwards: v² may change by 2·a·h."""
    lengths = np.linalg.norm(np.diff(points, axis=0), axis=1)
    count = np.maximum(np.round(lengths / h).astype(int), 1)
    limit = np.repeat(speed[1:], count)
    step = np.repeat(lengths / count, count)
    nodes = np.minimum(np.append(limit, np.inf), np.append(np.inf, limit))
    way = np.diff(points, axis=0) / lengths[:, None]
    at = np.cumsum(count)[:-1]
    half = np.sqrt(np.clip(0.5 * (1 + (way[:-1] * way[1:]).sum(axis=1)), 0, 1))
    with np.errstate(divide="ignore"):
        nodes[at] = np.minimum(nodes[at], np.sqrt(a * tolerance * half / (1 - np.minimum(half, 1))))
    nodes[0] = nodes[-1] = 0.0
    v2 = nodes**2
    for k in range(1, len(v2)):
        v2[k] = min(v2[k], v2[k - 1] + 2 * a * step[k - 1])
    for k in range(len(v2) - 2, -1, -1):
        v2[k] = min(v2[k], v2[k + 1] + 2 * a * step[k])
    v = np.sqrt(v2)
    return float((2 * step / np.maximum(v[1:] + v[:-1], 1e-12)).sum())


@settings(max_examples=25, deadline=None)
@given(seed=some.integers(0, 10_000))
def test_any_path_against_small_steps(seed):
    rng = np.random.default_rng(seed)
    points = np.cumsum(rng.uniform(-1.5, 1.5, (9, 3)), axis=0)
    feeds = rng.uniform(300, 5000, 9)
    want = stepped(points, feeds / 60, 2000.0, 0.02)
    assert motion_times(path(points, feeds), LIMITS).sum() == pytest.approx(want, rel=0.01)


def test_no_motion_takes_no_time():
    assert len(motion_times(Toolpath.empty(), LIMITS)) == 0
    assert motion_times(path([[1, 2, 3], [1, 2, 3], [1, 2, 3]]), LIMITS).tolist() == [0, 0, 0]

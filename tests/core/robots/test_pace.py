"""The pace of an arm: closed forms of a single joint, and no joint beyond what it has, whatever the rows."""

import numpy as np
import pytest

from fenrik.core.robots.pace import greatest_acceleration, paced

SPEED, MORE = np.array([90.0, 120.0]), np.array([300.0, 500.0])


def test_one_joint_from_rest_to_rest_takes_what_a_trapezoid_takes():
    """t = s / v + v / a, solved by hand; steps begin and end at half their own time."""
    n = 2001
    joints = np.column_stack([np.linspace(0, 180, n), np.zeros(n)])
    seconds = paced(joints, np.full(n, 1e-4), SPEED, MORE)
    assert seconds.sum() == pytest.approx(180 / 90 + 90 / 300, rel=0.01)


def test_a_feed_that_can_be_kept_is_kept():
    joints = np.column_stack([np.linspace(0, 10, 1000), np.zeros(1000)])
    seconds = paced(joints, np.full(1000, 0.05), SPEED, MORE)
    assert seconds[1:] == pytest.approx(0.05, rel=1e-3)


@pytest.mark.parametrize("seed", range(8))
def test_no_joint_is_asked_for_more_than_it_has(seed):
    rng = np.random.default_rng(seed)
    n = 400
    joints = np.cumsum(rng.normal(0, rng.uniform(0.1, 5), (n, 2)), axis=0)
    seconds = paced(joints, rng.uniform(0.005, 0.2, n), SPEED, MORE)
    assert (np.abs(np.diff(joints, axis=0)) / seconds[1:, None] <= SPEED * (1 + 1e-6)).all()
    assert (greatest_acceleration(joints, seconds) <= MORE * (1 + 1e-6)).all()


def test_slowing_down_is_not_overdone():
    """A smooth curve with one sharp corner: away from it the feed is kept."""
    t = np.linspace(0, 1, 600)
    joints = np.column_stack([40 * np.abs(t - 0.5), 10 * t])
    seconds = paced(joints, np.full(600, 0.01), SPEED, MORE)
    assert np.median(seconds[1:]) == pytest.approx(0.01, rel=1e-6)
    assert seconds.max() > 0.02
    assert (seconds[1:] > 0.011).sum() < 60


def test_nothing_and_one_row_take_no_time():
    assert paced(np.zeros((0, 2)), np.zeros(0), SPEED, MORE).tolist() == []
    assert paced(np.zeros((1, 2)), np.ones(1), SPEED, MORE).tolist() == [0.0]

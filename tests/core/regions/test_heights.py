"""Heights told apart, against their definition."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.regions import told_apart


@settings(max_examples=60, deadline=None)
@given(seed=st.integers(0, 10_000))
def test_each_height_lies_under_its_own_by_no_more_than_rounding(seed):
    rng = np.random.default_rng(seed)
    true = np.cumsum(rng.uniform(3e-4, 5.0, 8)) * rng.choice([-1, 1])
    which = np.append(np.arange(8), rng.integers(0, 8, 40))
    found, place = told_apart(true[which] + rng.uniform(-2e-5, 2e-5, 48))
    assert len(found) == 8
    assert np.all(np.diff(found) > 0)
    for k in range(8):
        mine = place[which == k]
        assert len(set(mine.tolist())) == 1
        assert abs(found[mine[0]] - true[k]) <= 2e-5
    noisy = true[which]
    assert np.all(told_apart(noisy)[0][told_apart(noisy)[1]] >= noisy)


def test_of_no_heights_there_are_none():
    found, place = told_apart(np.zeros(0))
    assert len(found) == len(place) == 0

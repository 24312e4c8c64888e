"""Profiles moved in, against distances to the outline by Shapely."""

from itertools import pairwise

import numpy as np
import pytest
import shapely
from kinds import KINDS, cutter

from fenrik.core.tools import cutting_profile

CLOSE_MM = 2e-4


def outline(profile):
    """Dense places (n, 2) of a convex body's outline from its lowest to its highest."""
    ends = [profile.bottom_mm, *np.unique(profile.bands[:, :2]), profile.top_mm]
    near = 0.5 - 0.5 * np.cos(np.linspace(0, np.pi, 301))  # closest where arcs turn level
    z = np.unique([a + near * (b - a) for a, b in pairwise(ends)])
    r = np.array([max(profile.radius_at(float(v)), 0.0) for v in z])
    return np.vstack([[0.0, z[0]], np.column_stack([r, z]), [0.0, z[-1]]])


@pytest.mark.parametrize("by", [0.005, 0.1, 0.6])
@pytest.mark.parametrize("kind", KINDS)
def test_what_is_eroded_lies_so_deep_and_nothing_more_is_lost(kind, by):
    """Each place of the inner outline is so deep below the outer one, and the deepest place of all is not lost."""
    for run in cutting_profile(cutter(kind)).convex():
        right = outline(run)
        whole = shapely.LineString(np.vstack([right, right[::-1] * [-1, 1]]))
        body = shapely.Polygon(np.vstack([right, right[::-1] * [-1, 1]])).buffer(0)
        shapely.prepare(body)
        rng = np.random.default_rng(3)
        low, high = right.min(axis=0), right.max(axis=0)
        places = low + rng.random((1500, 2)) * (high - low)
        deep = np.where(shapely.contains_xy(body, places), shapely.distance(shapely.points(places), whole), -1.0)
        found = run.eroded(by)
        if found is None:
            assert deep.max() < by + CLOSE_MM
            continue
        inner = np.array([found.radius_at(float(z)) for z in places[:, 1]])
        within = places[:, 0] <= inner
        assert (deep[within] > by - CLOSE_MM).all()
        assert (deep[~within] < by + CLOSE_MM).all()
        assert within.sum() > 0 or by > 0.3

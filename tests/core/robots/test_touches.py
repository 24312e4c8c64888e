"""Touches of an arm's bodies between rows: 60 random ways in each cell against dense sampling, none missed, none made up."""

from itertools import pairwise

import numpy as np
import pytest
from cells import CELLS, chain_of

from fenrik.core.machines.linkage import Linkage, Solids

PAIRS = {"plinth": ("spindle", "turntable"), "track": ("spindle", "stand")}
SEEDS, PLACES, OPEN_MM = 60, 90, 0.1


def ways(chain, seed):
    """A few postures about one in which the spindle is near to what carries the work."""
    rng = np.random.default_rng(seed)
    point = np.array([*rng.uniform(-250, 250, 2), rng.uniform(-140, 260)])
    lean = rng.uniform(-0.6, 0.6, 2)
    axis = np.array([[*lean, 1.0]]) / np.linalg.norm([*lean, 1.0])
    start = np.zeros((1, len(chain.joints)))
    start[0, chain.columns] = chain.cell.home_deg
    if chain.track is not None:
        start[0, chain.track] = 1600
    near = chain.near(point[None], axis, start)[0]
    if np.isnan(near).any():
        return None
    steps = rng.normal(0, 1, (int(rng.integers(2, 6)), len(near)))
    steps[:, chain.columns] *= [12, 8, 8, 25, 15, 40]
    if chain.table is not None:
        steps[:, chain.table] *= 60
    if chain.track is not None:
        steps[:, chain.track] *= 150
    return near + steps


@pytest.mark.parametrize("name", list(CELLS))
def test_sixty_ways(name):
    cell, chain = CELLS[name], chain_of(name, 0.0)
    linkage = Linkage(cell.joints())
    bodies = {b.name: Solids.around(b.name, b.frame, b.groups) for b in cell.placed_bodies()}
    a, b = (bodies[n] for n in PAIRS[name])
    touched, looked, between = 0, 0, 0
    for seed in range(1000):
        values = ways(chain, seed)
        if values is None:
            continue
        looked += 1
        shares = np.linspace(0, 1, PLACES)[:, None]
        dense = np.vstack([p + shares * (q - p) for p, q in pairwise(values)])
        seen = np.array([linkage.distance_mm(a, b, v) for v in dense])
        k = int(seen.argmin())
        span = dense[max(k - 1, 0) : k + 2]
        finer = [p + t * (q - p) for p, q in pairwise(span) for t in np.linspace(0, 1, 30)]
        least = min(linkage.distance_mm(a, b, v) for v in finer)
        found = list(linkage.closest(a, b, values, 0.0))
        if least <= 0:
            touched += 1
            between += min(linkage.distance_mm(a, b, v) for v in values) > 0
            assert found, seed
        if found:
            assert least <= OPEN_MM, seed
        if looked == SEEDS:
            break
    assert looked == SEEDS
    assert 15 <= touched <= 55
    assert between >= 1

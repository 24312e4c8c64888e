"""Playing a proof: the stock at any moment is what the motions up to it leave."""

import math

import numpy as np
import pytest
from test_back_boring import bored

from fenrik.app.player import Player, player_for
from fenrik.core.stock import stock_mesh
from fenrik.core.toolpath import ORIENTED


def volume(stock):
    return abs(stock_mesh(stock).volume_mm3())


def test_a_bar_that_passes_with_its_spindle_stopped_takes_nothing():
    build = bored()
    setup = build.job.setups[0]
    build.compute(setup)
    player = player_for(build, setup)
    still = np.flatnonzero(player.columns["spindle"] == ORIENTED)
    into, out = still[:2], still[2:]
    assert len(out) == 3
    drilled = volume(build.proof_stock(setup, 10))
    assert volume(player.at(int(into[-1]) + 1)) == pytest.approx(drilled, rel=1e-9)
    # Half-way between going in and coming out the ring of the counterbore has been bored away.
    ring = math.pi * (9**2 - 7**2) * 5
    assert drilled - volume(player.at(int(out[0]))) == pytest.approx(ring, rel=2e-3)
    end = player.at(player.count)
    assert volume(end) == pytest.approx(volume(build.proof_stock(setup, 20)), rel=1e-9)


def test_seeking_from_a_rung_shows_the_same_stock(monkeypatch):
    build = bored()
    setup = build.job.setups[0]
    build.compute(setup)
    monkeypatch.setattr("fenrik.app.player.LEAST_RUNG", 3)
    player = player_for(build, setup)
    player.climb()
    assert len(player.rungs) > 2
    plain = Player(build, setup, player.columns, player.after)
    for motion in (4, player.count // 2, player.count - 1):
        # Of two motions that made one place of the surface either may be named.
        assert player.at(motion).hits()[0] == pytest.approx(plain.at(motion).hits()[0], abs=1e-7)

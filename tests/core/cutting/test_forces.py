"""The trade's formulas against what they stand for: areas, arcs and beams, summed up in small steps."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as some
from scipy.integrate import quad, solve_ivp

from fenrik.core.cutting import forces
from fenrik.core.errors import FenrikError

widths = some.floats(0.01, 0.999)


def thickness(feed: float, angle: float) -> float:
    """Chip thickness at an angle from where the tooth leaves a straight wall: f·sin φ."""
    return feed * math.sin(angle)


@given(share=widths, diameter=some.floats(1, 80))
def test_the_arc_of_engagement_meets_the_wall(share, diameter):
    width = share * diameter
    angle = math.radians(forces.engagement_deg(width, diameter))
    # A tooth at that angle stands as far from the side of the cutter as the cut is wide.
    assert diameter / 2 * (1 - math.cos(angle)) == pytest.approx(width)


@pytest.mark.parametrize(("width", "want"), [(0.0, 0), (5.0, 90), (10.0, 180), (12.0, 180), (-1.0, 0)])
def test_engagement_at_its_ends(width, want):
    assert forces.engagement_deg(width, 10.0) == pytest.approx(want)


@given(share=widths, diameter=some.floats(1, 80), feed=some.floats(0.005, 0.5))
def test_the_mean_chip_is_the_mean_of_chips(share, diameter, feed):
    width = share * diameter
    angle = math.radians(forces.engagement_deg(width, diameter))
    area, _ = quad(lambda a: thickness(feed, a), 0, angle)
    assert forces.mean_chip(feed, diameter, width) == pytest.approx(area / angle, rel=1e-6)


@given(share=some.floats(0.01, 0.49), diameter=some.floats(1, 80), chip=some.floats(0.005, 0.5))
def test_a_thinned_feed_makes_the_chip_that_was_asked_for(share, diameter, chip):
    width = share * diameter
    feed = forces.thinned_feed(chip, diameter, width)
    angle = math.radians(forces.engagement_deg(width, diameter))
    assert thickness(feed, angle) == pytest.approx(chip, rel=1e-9)
    assert feed >= chip


@given(share=some.floats(0.5, 1.0), diameter=some.floats(1, 80))
def test_from_half_the_diameter_on_nothing_is_thinned(share, diameter):
    assert forces.thinned_feed(0.1, diameter, share * diameter) == 0.1


def test_a_cut_of_no_width_has_no_feed():
    with pytest.raises(FenrikError, match="must be above 0"):
        forces.thinned_feed(0.1, 10.0, 0.0)


def test_power_is_force_times_speed():
    """A slot: the mean force on the teeth times their speed, tooth by tooth over a turn, is Q·kc."""
    diameter, depth, feed, flutes, rpm, kc = 10.0, 4.0, 0.05, 3, 4000.0, 2000.0
    speed = math.pi * diameter * rpm / 60_000  # m/s
    angles = np.linspace(0, 2 * np.pi, 7200, endpoint=False)
    force = sum(kc * depth * feed * np.clip(np.sin(angles + k * 2 * np.pi / flutes), 0, None) for k in range(flutes))
    want = float(force.mean()) * speed / 1000
    rate = forces.removal_rate(depth, diameter, feed * flutes * rpm)
    assert forces.milling_power(rate, kc) == pytest.approx(want, rel=1e-4)


def test_a_drill_s_power_is_that_of_the_hole_it_makes():
    diameter, feed, speed, kc = 12.0, 0.2, 60.0, 2100.0
    rpm = 1000 * speed / (math.pi * diameter)
    rate = math.pi * diameter**2 / 4 * feed * rpm / 1000
    assert forces.drilling_power(diameter, feed, speed, kc) == pytest.approx(forces.milling_power(rate, kc), rel=1e-9)


def test_torque_and_force_of_a_power():
    assert forces.torque(2.0, 3000) * 2 * math.pi * 3000 / 60 == pytest.approx(2000)
    assert forces.tangential_force(2.0, 120) * 2 == pytest.approx(2000)
    assert forces.torque(1.0, 0.0) == math.inf
    assert forces.tangential_force(1.0, 0.0) == math.inf


def test_the_plain_cantilever():
    """F·L³/(3·E·I)."""
    inertia = math.pi * 10**4 / 64
    want = 200 * 40**3 / (3 * 600_000 * inertia)
    assert forces.cantilever_deflection(200, [(10, 0, 40)], 600_000) == pytest.approx(want)
    halves = [(10, 0, 15), (10, 15, 40)]
    assert forces.cantilever_deflection(200, halves, 600_000) == pytest.approx(want)


def test_a_stepped_bar_against_the_differential_equation():
    """w″ = F·z/(E·I(z)) with w and w′ 0 where it is held, z from the tip; solved from step to step by SciPy."""
    stations = [(6.0, 0.0, 20.0), (9.0, 20.0, 32.0), (12.0, 32.0, 60.0)]
    modulus, force = 210_000.0, 150.0
    state = np.zeros(2)
    for diameter, low, high in reversed(stations):
        stiffness = modulus * math.pi * diameter**4 / 64

        def bent(z, y, stiffness=stiffness):
            return [y[1], force * z / stiffness]

        state = solve_ivp(bent, (high, low), state, rtol=1e-9, atol=1e-12).y[:, -1]
    assert forces.cantilever_deflection(force, stations, modulus) == pytest.approx(float(state[0]), rel=1e-6)


def test_a_longer_or_a_thinner_bar_gives_way_more():
    def at(diameter, length):
        return forces.cantilever_deflection(100, [(diameter, 0, length)], 600_000)

    assert at(10, 80) == pytest.approx(8 * at(10, 40))
    assert at(5, 40) == pytest.approx(16 * at(10, 40))

"""Cutting data against formulas worked by hand and facts of the trade."""

import math

import pytest

from fenrik.core.cutting import forces
from fenrik.core.cutting.data import TABLE
from fenrik.core.cutting.load import Cutting, Limits, Number, propose, warnings_for
from fenrik.core.cutting.materials import GROUPS, Material, specific_force
from fenrik.core.cutting.speeds import feed_rate, spindle_speed
from fenrik.core.errors import FenrikError

# C45-like steel; kc1.1 and mc as printed in German workshop tables (value from memory).
STEEL = Material(name="Steel", group="P", hardness_hb=200, kc11_n_mm2=1700, mc=0.25, surface_speed_m_min=160)
ALUMINIUM = Material(name="Aluminium", group="N", hardness_hb=90, kc11_n_mm2=700, mc=0.25, surface_speed_m_min=500)
MACHINE = Limits(12_000, 10_000, 11, 60)


def mill(diameter=12.0, length=45.0, flutes=4, family="milling", **rest):
    return Cutting(family, diameter, flutes, 30.0, "carbide", ((0.8 * diameter, 0, 30), (diameter, 30, length)), **rest)


def test_4140_steel_with_a_quarter_inch_cutter():
    # CHECKS.md, common practice: 6.35 mm carbide at about 3300 rpm and 376 mm/min.
    assert spindle_speed(65.83, 6.35) == pytest.approx(3300, rel=1e-3)
    assert feed_rate(3300, 4, 376 / (3300 * 4)) == pytest.approx(376)


def test_kienzle_by_hand():
    # 1700 · 0.1^−0.25 = 1700 · 1.7783 N/mm²
    assert specific_force(STEEL, 0.1) == pytest.approx(3023.1, rel=1e-4)
    with pytest.raises(FenrikError, match="above 0"):
        specific_force(STEEL, 0)


def test_engagement_thinning_and_mean_chip():
    assert forces.engagement_deg(6, 12) == pytest.approx(90)
    assert forces.engagement_deg(12, 12) == pytest.approx(180)
    assert forces.engagement_deg(1.2, 12) == pytest.approx(math.degrees(math.acos(0.8)))
    # fz = hex·D/(2·√(D·ae − ae²)): 0.05 · 12/(2·√(14.4 − 1.44)) = 0.08333
    assert forces.thinned_feed(0.05, 12, 1.2) == pytest.approx(0.05 * 12 / (2 * math.sqrt(12.96)))
    assert forces.thinned_feed(0.05, 12, 6) == 0.05
    # Over a half turn the mean of sin φ is 2/π.
    assert forces.mean_chip(0.1, 12, 12) == pytest.approx(0.1 * 2 / math.pi)
    with pytest.raises(FenrikError):
        forces.thinned_feed(0.05, 12, 0)


def test_power_torque_and_removal_by_hand():
    # Q = 10 · 6 · 800/1000 = 48 cm³/min; Pc = 48 · 2500/60000 = 2.0 kW; M at 2000 rpm = 9.549 Nm.
    rate = forces.removal_rate(10, 6, 800)
    assert rate == pytest.approx(48)
    power = forces.milling_power(rate, 2500)
    assert power == pytest.approx(2.0)
    assert forces.torque(power, 2000) == pytest.approx(9.549, rel=1e-3)
    # ⌀10 drill, 0.2 mm/turn, 80 m/min, 2500 N/mm²: 0.2 · 80 · 10 · 2500/240000 = 1.667 kW
    assert forces.drilling_power(10, 0.2, 80, 2500) == pytest.approx(1.6667, rel=1e-4)


def test_bending_of_a_plain_and_of_a_stepped_bar():
    # F·L³/(3·E·I), I = π·d⁴/64.
    inertia = math.pi * 10**4 / 64
    plain = 100 * 50**3 / (3 * 600_000 * inertia)
    assert forces.cantilever_deflection(100, [(10, 0, 50)], 600_000) == pytest.approx(plain)
    halves = forces.cantilever_deflection(100, [(10, 0, 20), (10, 20, 50)], 600_000)
    assert halves == pytest.approx(plain)
    assert forces.cantilever_deflection(100, [(8, 0, 20), (10, 20, 50)], 600_000) > plain


@pytest.mark.parametrize("family", TABLE)
@pytest.mark.parametrize("group", GROUPS)
def test_every_family_in_every_group_gives_usable_numbers(family, group):
    material = Material(name="x", group=group, hardness_hb=200, kc11_n_mm2=2000, mc=0.25, surface_speed_m_min=80)
    for load in (0.0, 0.5, 1.0):
        p = propose(mill(family=family, pitch_mm=1.75 if family == "tapping" else None), material, MACHINE, load)
        assert p.spindle_rpm.value <= MACHINE.spindle_max_rpm + 1e-6
        assert 0 < p.cutting_feed_mm_min.value <= MACHINE.max_feed_mm_min * 1.0001
        assert 0 <= p.power_kw.value <= MACHINE.power_kw
        assert p.bending_mm.value <= 0.0301
        assert p.source


def test_load_scales_and_limits_say_so():
    cautious, hard = (propose(mill(), STEEL, MACHINE, load) for load in (0.0, 1.0))
    assert hard.removal_cm3_min > 2 * cautious.removal_cm3_min
    assert hard.chip_load_mm.value > cautious.chip_load_mm.value
    assert propose(mill(3.0, 20.0), ALUMINIUM, MACHINE).spindle_rpm.bound == "spindle speed"
    assert propose(mill(), STEEL, Limits(12_000, 200, 11, 60)).cutting_feed_mm_min.bound == "feed"
    weak = propose(mill(20.0, 50.0), STEEL, Limits(12_000, 10_000, 0.5, 60), 1.0)
    assert weak.depth_mm.bound == "power"
    assert weak.power_kw.value == pytest.approx(0.9 * 0.5, rel=1e-3)
    slender = propose(mill(6.0, 90.0), STEEL, MACHINE, 1.0)
    assert slender.depth_mm.bound == "stick-out"
    assert slender.bending_mm.value == pytest.approx(0.03, rel=1e-2)
    tap = propose(mill(10.0, 60.0, 3, "tapping", pitch_mm=1.5), STEEL, MACHINE)
    assert tap.cutting_feed_mm_min.value == pytest.approx(1.5 * tap.spindle_rpm.value)


@pytest.mark.parametrize("family", TABLE)
def test_what_is_proposed_can_be_said_in_a_program_however_slow_it_should_be(family):
    """A slow surface speed on a wide tool, or a weak spindle: S and F stay what a row takes, and say so."""
    slow = STEEL.model_copy(update={"surface_speed_m_min": 0.01})
    pitch = 1.75 if family == "tapping" else None
    wide = propose(mill(1900.0, 2000.0, family=family, pitch_mm=pitch), slow, MACHINE)
    assert (wide.spindle_rpm.value, wide.spindle_rpm.bound) == (1, "least spindle speed")
    for proposal in (wide, propose(mill(family=family, pitch_mm=pitch), slow, Limits(12_000, 10_000, 1e-6, 1e-6))):
        assert proposal.spindle_rpm.value >= 1
        assert proposal.cutting_feed_mm_min.value >= 0.1


def test_a_fine_tap_turns_faster_before_its_pitch_gives_way():
    slow = STEEL.model_copy(update={"surface_speed_m_min": 0.001})
    found = propose(mill(0.3, 5.0, family="tapping", pitch_mm=0.08), slow, MACHINE)
    assert found.cutting_feed_mm_min.value == pytest.approx(0.08 * found.spindle_rpm.value)
    assert found.cutting_feed_mm_min.value >= 0.1 - 1e-12
    assert found.spindle_rpm.bound == "least feed"


def test_a_number_is_taken_whole_or_with_three_digits_and_never_as_nothing():
    assert [Number(value=v, unit="").taken for v in (1234.56, 99.96, 0.10004)] == [1235, 100, 0.1]


def test_warnings_stand_at_their_numbers():
    assert "at most 12000 rpm" in warnings_for(mill(), STEEL, MACHINE, 20_000, 2000)["spindle_rpm"]
    assert "rubs" in warnings_for(mill(), STEEL, MACHINE, 8000, 40)["cutting_feed_mm_min"]
    assert "power_kw" in warnings_for(mill(20.0, 50.0), STEEL, Limits(12_000, 10_000, 1, 60), 3000, 2500, 15, 25)
    assert "bending_mm" in warnings_for(mill(6.0, 110.0), STEEL, MACHINE, 4000, 600, 4, 10)
    proposal = propose(mill(), STEEL, MACHINE)
    fine = warnings_for(
        mill(),
        STEEL,
        MACHINE,
        proposal.spindle_rpm.value,
        proposal.cutting_feed_mm_min.value,
        proposal.width_mm.value,
        proposal.depth_mm.value,
    )
    assert fine == {}

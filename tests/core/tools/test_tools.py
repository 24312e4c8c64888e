"""Profiles and their kernels against dense sampling; tool rules; cutting data by the trade's formulas."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError
from shapely.geometry import Polygon

from fenrik.core.cutting.speeds import feed_rate, scallop_stepover, spindle_speed
from fenrik.core.errors import FenrikError
from fenrik.core.tools import BallCutter, BullNoseCutter, FlatCutter, Tool
from fenrik.core.tools.apt import apt_parameters
from fenrik.core.tools.assembly import assembly_of
from fenrik.core.tools.kernels import height, lowest_along, radius_at
from fenrik.core.tools.profile import ARC, LINE, bull_nose_profile, cone_profile
from fenrik.core.tools.underside import Underside, underside_of, undersides_of

TAPER = Underside(np.array([[0, 1, ARC, 0, 0, 0, 2, 2], [1, 5, LINE, 2 - 3**0.5, 3.0, 0, 0, 0.0]]), 5.0)
LENS = Underside(np.array([[0, 3, ARC, 0, 0, 0, 20, 20], [3, 4, ARC, 0, 0, 2.85, 1.4, 1.15]]), 4.0)
PROFILES = [
    underside_of(bull_nose_profile(5, 0, 20)),
    underside_of(bull_nose_profile(5, 5, 20)),
    underside_of(bull_nose_profile(5, 1.5, 20)),
    underside_of(cone_profile(3, 6, 12)),
    TAPER,
]


@settings(max_examples=150, deadline=None)
@given(st.sampled_from(PROFILES), st.floats(0, 5.5), st.floats(-4, 4), st.floats(-8, 8), st.floats(0, 10))
def test_lowest_along_against_sampling(profile, d, m, s0, length):
    s = np.linspace(s0, s0 + length, 4001)
    rho = np.sqrt(d * d + s * s)
    h = np.array([height(profile.elements, r) for r in rho])
    sampled = np.min(m * s + h)
    value, _ = lowest_along(profile.elements, d * d, m, s0, s0 + length)
    if np.isinf(sampled):
        return
    assert value <= sampled + 1e-9
    # Between samples the function may dip by little more than its slope times half a step.
    assert value >= sampled - 60 * length / 4000 - 1e-9


@pytest.mark.parametrize("profile", [*PROFILES, LENS])
def test_radius_is_the_inverse_of_height(profile):
    for rho in np.linspace(0.01, profile.radius_mm, 40):
        h = height(profile.elements, rho)
        if h > 1e-6:
            assert height(profile.elements, radius_at(profile.elements, h)) == pytest.approx(h, abs=1e-7)


def test_scallop_height_closed_form():
    """h = R − √(R² − (s/2)²) for a ball on a plane."""
    s = scallop_stepover(0.01, 3.0)
    assert 3 - np.sqrt(9 - (s / 2) ** 2) == pytest.approx(0.01, rel=1e-12)


def test_apt_parameters():
    """APT general cutter d, r, e, f, α, β, h (ISO 3592)."""
    assert apt_parameters(BallCutter(diameter_mm=6, flute_length_mm=20)) == (6, 3, 0, 3, 0, 0, 20)
    assert apt_parameters(BullNoseCutter(diameter_mm=10, corner_radius_mm=1, flute_length_mm=20))[:4] == (10, 1, 4, 1)


def test_cutting_data():
    """Common practice: 6.35 mm carbide in 4140 at about 3300 rpm and 376 mm/min (66 m/min, 4 teeth, 0.0285 mm)."""
    n = spindle_speed(65.83, 6.35)
    assert n == pytest.approx(3300, rel=1e-3)
    assert feed_rate(n, 4, 0.0285) == pytest.approx(376, rel=2e-3)
    with pytest.raises(FenrikError):
        spindle_speed(0, 6)
    with pytest.raises(FenrikError):
        feed_rate(1000, 2, -1)


def test_tool_from_surface_speed_and_chip_load():
    tool = Tool.model_validate(
        {
            "number": 1,
            "cutter": {"kind": "flat", "diameter_mm": 10, "flute_length_mm": 20, "flutes": 3},
            "stick_out_mm": 30,
            "surface_speed_m_min": 100,
            "chip_load_mm": 0.05,
        }
    )
    assert tool.spindle_rpm == pytest.approx(1000 * 100 / (np.pi * 10))
    assert tool.cutting_feed_mm_min == pytest.approx(tool.spindle_rpm * 3 * 0.05)


@pytest.mark.parametrize(
    "data",
    [
        {"cutter": {"kind": "flat", "diameter_mm": 0, "flute_length_mm": 20}, "stick_out_mm": 30},
        {
            "cutter": {"kind": "bull-nose", "diameter_mm": 8, "corner_radius_mm": 4, "flute_length_mm": 20},
            "stick_out_mm": 30,
        },
        {"cutter": {"kind": "ball", "diameter_mm": 8, "flute_length_mm": 3}, "stick_out_mm": 30},
        {"cutter": {"kind": "flat", "diameter_mm": 8, "flute_length_mm": 40}, "stick_out_mm": 30},
        {"cutter": {"kind": "flat", "diameter_mm": float("nan"), "flute_length_mm": 40}, "stick_out_mm": 30},
    ],
)
def test_impossible_tools_are_refused(data):
    with pytest.raises(ValidationError):
        Tool.model_validate({"number": 1, **data})


def test_holder_stands_on_the_stick_out():
    tool = Tool.model_validate(
        {
            "number": 1,
            "cutter": FlatCutter(diameter_mm=6, flute_length_mm=20).model_dump(),
            "stick_out_mm": 30,
            "holder": [
                {"lower_diameter_mm": 20, "upper_diameter_mm": 30, "height_mm": 15},
                {"lower_diameter_mm": 40, "upper_diameter_mm": 40, "height_mm": 10},
            ],
        }
    )
    shank, first, second = assembly_of(tool).watched
    assert [b.role for b in (shank, first, second)] == ["shank", "holder", "holder"]
    assert (shank.profile.bottom_mm, shank.profile.top_mm, shank.profile.radius_mm) == (20, 30, 3)
    assert (first.profile.bottom_mm, second.profile.bottom_mm, second.profile.top_mm) == (30, 45, 55)
    assert first.profile.radius_at(37.5) == pytest.approx(12.5)
    under = undersides_of(first.profile)[0]
    assert height(under.elements, 0.0) == 30
    assert height(under.elements, 12.5) == pytest.approx(37.5)
    assert tool.assembly_mm == 55


def test_a_grown_holder_keeps_its_margin_everywhere():
    """The section grown by a general buffer (Shapely) lies within the grown bodies."""
    sections = [
        {"lower_diameter_mm": 20, "upper_diameter_mm": 34, "height_mm": 15},
        {"lower_diameter_mm": 40, "upper_diameter_mm": 24, "height_mm": 10},
    ]
    cutter = FlatCutter(diameter_mm=6, flute_length_mm=20).model_dump()
    tool = Tool.model_validate({"number": 1, "cutter": cutter, "stick_out_mm": 30, "holder": sections})
    plain = [b.profile for b in assembly_of(tool, 2.0).watched if b.role == "holder"]
    grown = [b.profile for b in assembly_of(tool, 2.0).watched if b.role == "near miss"]
    for body, wide in zip(plain, grown, strict=True):
        places = [(body.radius_at(z), z) for z in np.linspace(body.bottom_mm, body.top_mm, 60)]
        ring = Polygon([(0, body.bottom_mm), *places, (0, body.top_mm)]).buffer(2.0)
        for r, z in ring.exterior.coords:
            assert r <= wide.radius_at(float(np.clip(z, wide.bottom_mm, wide.top_mm))) + 1e-6
            assert wide.bottom_mm - 1e-9 <= z <= wide.top_mm + 1e-9

"""Heights, slopes and lowest places of undersides against dense samples of the outline, in plain NumPy."""

import numpy as np
import pytest

from fenrik.core.tools.kernels import height, lowest_along, radius_at, radius_for_slope, slope_at
from fenrik.core.tools.profile import bull_nose_profile, cone_profile
from fenrik.core.tools.underside import underside_of

UNDERSIDES = {
    "ball": underside_of(bull_nose_profile(5, 5, 25)).elements,
    "bull-nose": underside_of(bull_nose_profile(5, 1.5, 25)).elements,
    "flat": underside_of(bull_nose_profile(5, 0, 25)).elements,
    "cone": underside_of(cone_profile(1.0, 5.0, 6.0)).elements,
    "grown flat": underside_of(bull_nose_profile(5, 0, 25), 0.4).elements,
    "grown cone": underside_of(cone_profile(1.0, 5.0, 6.0), 0.4).elements,
}


@pytest.fixture(params=UNDERSIDES)
def chain(request):
    return UNDERSIDES[request.param]


def test_heights_of_known_outlines():
    """Circle and line equations of each outline."""
    rho = np.linspace(0, 4.999, 50)
    for name, want in {
        "ball": 5 - np.sqrt(25 - rho**2),
        "bull-nose": 1.5 - np.sqrt(1.5**2 - np.maximum(rho - 3.5, 0) ** 2),
        "flat": 0 * rho,
        "cone": np.maximum(rho - 1, 0) * 6 / 4,
    }.items():
        assert [height(UNDERSIDES[name], r) for r in rho] == pytest.approx(want, abs=1e-12)


def test_an_underside_is_convex_does_not_fall_and_ends_at_its_rim(chain):
    rho = np.linspace(0, chain[-1, 1], 2001)
    h = np.array([height(chain, r) for r in rho])
    assert h[0] == pytest.approx(0, abs=1e-12)
    assert np.diff(h).min() >= -1e-12
    assert np.diff(h, 2).min() >= -1e-9
    assert np.isinf(height(chain, chain[-1, 1] + 1e-6))


def test_slopes_are_those_of_the_heights(chain):
    rho = np.linspace(0.03, 0.97, 41) * chain[-1, 1]
    ends = np.append(chain[:, 0], chain[:, 1])
    rho = rho[np.abs(rho[:, None] - ends).min(axis=1) > 1e-3]
    step = 1e-6
    numeric = [(height(chain, r + step) - height(chain, r - step)) / (2 * step) for r in rho]
    assert [slope_at(chain, r) for r in rho] == pytest.approx(numeric, rel=1e-5, abs=1e-7)


@pytest.mark.parametrize("slope", [0.0, 0.2, 1.0, 1.5, 4.0])
def test_the_radius_for_a_slope_parts_flatter_from_steeper(chain, slope):
    """Least and greatest radius of the slope: flatter before the one, steeper behind the other."""
    least, most = radius_for_slope(chain, slope, False), radius_for_slope(chain, slope, True)
    assert 0 <= least <= most <= chain[-1, 1] + 1e-12
    if least > 1e-3:
        assert slope_at(chain, least - 1e-3) <= slope + 1e-9
    if most < chain[-1, 1] - 1e-3:
        assert slope_at(chain, most + 1e-3) >= slope - 1e-9


def test_the_radius_at_a_height_is_the_widest_that_is_not_above_it(chain):
    top = height(chain, chain[-1, 1])
    for zeta in np.linspace(0.01, 0.99, 23) * max(top, 1.0):
        rho = np.linspace(0, chain[-1, 1], 20001)
        under = rho[np.array([height(chain, r) for r in rho]) <= zeta]
        assert radius_at(chain, zeta) == pytest.approx(under.max(), abs=1e-3)
    assert radius_at(chain, -0.01) < 0


@pytest.mark.parametrize("m", [0.0, 0.3, -0.3, 2.0, -6.0])
@pytest.mark.parametrize("span", [(-9.0, 9.0), (0.5, 2.0), (-4.0, -1.0)])
def test_the_lowest_place_along_a_line(chain, m, span):
    """The least of m·s + h(√(d² + s²)) over 40 001 samples of the line."""
    big = chain[-1, 1]
    for d in (0.0, 0.7, 2.5, 0.999 * big):
        s = np.linspace(max(span[0], -np.sqrt(big**2 - d * d)), min(span[1], np.sqrt(big**2 - d * d)), 40_001)
        value, at = lowest_along(chain, d * d, m, *span)
        if s[0] > s[-1]:
            assert np.isinf(value)
            continue
        every = m * s + np.array([height(chain, r) for r in np.minimum(np.hypot(d, s), big)])
        assert value <= every.min() + 1e-9
        # Beside the rim of a ball the outline is upright: a sample may stand a little above the least.
        assert value == pytest.approx(every.min(), abs=2e-3)
        assert m * at + height(chain, min(np.hypot(d, at), big)) == pytest.approx(value, abs=1e-9)


def test_a_line_that_passes_beside_the_tool_is_not_under_it(chain):
    assert np.isinf(lowest_along(chain, (chain[-1, 1] + 0.01) ** 2, 0.2, -50.0, 50.0)[0])
    assert np.isinf(lowest_along(chain, 0.0, 0.2, chain[-1, 1] + 0.1, 50.0)[0])

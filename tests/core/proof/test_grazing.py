"""What a cutter takes that grazes a wall, against the exact segment of a circle."""

import numpy as np
import pytest

from fenrik.core.proof.grazing import grazed_mm3


@pytest.mark.parametrize("radius", [0.5, 4.0, 25.0])
@pytest.mark.parametrize("deep", [1e-3, 2e-3, 0.02])
def test_along_a_wall_it_is_a_segment_of_the_circle(radius, deep):
    half = np.arccos(1 - deep / radius)
    segment = radius**2 * (half - np.sin(half) * np.cos(half))
    cell = 0.5
    found = grazed_mm3(np.array([0.0, 80.0]), radius, deep, cell)
    assert found[0] == pytest.approx(deep * cell**2)
    assert found[1] - found[0] == pytest.approx(80 * segment, rel=0.02)

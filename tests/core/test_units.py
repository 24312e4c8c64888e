"""Numbers as people type them; conversion factors by definition (1 in = 25.4 mm)."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenrik.core.errors import FenrikError
from fenrik.core.units import parse_number


@pytest.mark.parametrize(
    ("text", "quantity", "value"),
    [
        ("12.5", "length", 12.5),
        ("=3*4+1", "length", 13),
        ("3/8in", "length", 9.525),
        ("1in + 2mm", "length", 27.4),
        ('0.5"', "length", 12.7),
        ("10 ipm", "feed", 254),
        ("1rad", "angle", 57.29577951308232),
        ("-(2+3)", "none", -5),
        ("2,5", "length", 2.5),
        ("300 sfm", "speed", 91.44),
    ],
)
def test_numbers(text, quantity, value):
    assert parse_number(text, quantity) == pytest.approx(value, rel=1e-12)


@pytest.mark.parametrize(
    "text", ["", "abc", "1/0", "__import__('os')", "2**9999999", "1 kg", "(" * 150, "1e", "9" * 300]
)
def test_refused_with_a_reason(text):
    with pytest.raises(FenrikError) as error:
        parse_number(text)
    assert error.value.problems[0].way_out


@given(st.floats(-1e6, 1e6, allow_nan=False))
def test_inches_are_exact(value):
    assert parse_number(f"({value:.6f})*1in") == pytest.approx(float(f"{value:.6f}") * 25.4, rel=1e-12, abs=1e-12)

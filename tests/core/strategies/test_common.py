"""What all strategies stand on: how high the stock stands under a tool of a radius."""

import numpy as np
import pytest

from fenrik.core.stock import Stock, cut
from fenrik.core.strategies.common import StockTops
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Assembly, bull_nose_profile


@pytest.fixture(scope="module")
def tops():
    """A block 40 × 40 × 20 whose right half was lowered to 8."""
    stock = Stock.box(np.zeros(3), np.array([40.0, 40, 20]), 0.5)
    lines = np.arange(-2.0, 43, 4)
    starts = np.column_stack([np.full(len(lines), 30.0), lines, np.full(len(lines), 8.0)])
    cutter = Assembly(bull_nose_profile(10, 0, 40))
    return StockTops(cut(stock, Poses.upright(starts, starts + [20, 0, 0]), cutter)[0])


@pytest.mark.parametrize(
    ("x", "radius", "height"), [(30, 4, 8), (30, 9, 8), (30, 11, 20), (21, 2, 20), (10, 3, 20), (55, 10, -np.inf)]
)
def test_stock_under_a_tool_counts_its_radius(tops, x, radius, height):
    assert tops.under(x, 20, radius) == pytest.approx(height)


def test_stock_over_a_rectangle(tops):
    assert tops.over(np.array([24.0, 4]), np.array([36.0, 30])) == pytest.approx(8)
    assert tops.over(np.array([15.0, 4]), np.array([36.0, 30])) == pytest.approx(20)
    assert tops.over(np.array([60.0, 4]), np.array([70.0, 30])) == -np.inf
    assert tops.highest == pytest.approx(20)

"""Compensation against offsets by a general polygon library, and the rules of RS274/NGC."""

import numpy as np
import pytest
import shapely

from fenrik.core.sketches import Curve
from fenrik.core.toolpath.compensation import (
    CompensationError,
    as_curve,
    stretches_of,
    tool_way,
    written_contour,
)

ROUNDED_L = Curve(
    np.array([[28, 0], [40, 0], [40, 12], [35, 17], [20, 17], [20, 30], [0, 30], [0, 0], [8.0, 0]]),
    np.array([0, 0, np.tan(np.pi / 8), 0, 0, 0, 0, 0.0]),
)
"""An L with one rounded corner and one that opens inwards, counter-clockwise, open in the middle of its foot."""


@pytest.mark.parametrize(("left", "reach"), [(-3.0, 3.0), (-7.5, 7.5), (4.0, 4.0)])
def test_the_axis_keeps_its_distance_from_the_contour(left, reach):
    """Reference: Shapely's buffer of the flattened contour."""
    way = as_curve(tool_way(stretches_of(ROUNDED_L), left)).flattened(1e-3)
    contour = shapely.LineString(ROUNDED_L.flattened(1e-3))
    places = shapely.points(way)
    assert shapely.distance(contour, places).min() > reach - 2e-3
    rim = contour.buffer(reach, quad_segs=512, cap_style="flat").boundary
    assert shapely.distance(rim, places).max() < 2e-3


@pytest.mark.parametrize("left", [-3.0, -7.5, 4.0])
def test_the_contour_comes_back_from_the_way(left):
    way = tool_way(stretches_of(ROUNDED_L), left)
    back = as_curve(written_contour(way, left))
    assert back.points == pytest.approx(ROUNDED_L.points, abs=1e-9)
    assert back.bulges == pytest.approx(ROUNDED_L.bulges, abs=1e-9)


def test_corners_that_open_away_from_the_tool_get_arcs_about_them():
    way = tool_way(stretches_of(Curve.polyline([[0, 0], [10, 0], [10, 10]])), -2.0)
    assert [s.turn for s in way] == [0, 1, 0]
    assert way[1].centre == pytest.approx([10, 0])


def test_the_entry_touches_the_contour_square_to_itself():
    """RS274/NGC: the tool's circle is tangent at the written end to the line along which it comes."""
    begin = np.array([-10.0, -8.0])
    way = tool_way(stretches_of(Curve.polyline([[-10, -8], [0, 0], [20, 0]])), 3.0, begin)
    end = way[0].end
    assert np.linalg.norm(end - [0, 0]) == pytest.approx(3.0)
    assert (end - begin) @ end == pytest.approx(0.0, abs=1e-9)


@pytest.mark.parametrize(
    ("curve", "begin", "words"),
    [
        (Curve.polyline([[0, 2], [0, 0], [9, 0]]), [0, 2], "no longer than the offset"),
        (Curve.arc(np.zeros(2), 2.5, 0, 90), None, "smaller than the tool's radius"),
        (Curve.polyline([[0, 0], [10, 0], [10, 1], [0, 1]]), None, "too narrow"),
    ],
)
def test_contours_that_the_tool_does_not_fit_are_refused(curve, begin, words):
    with pytest.raises(CompensationError, match=words):
        tool_way(stretches_of(curve), 3.0, None if begin is None else np.array(begin, float))

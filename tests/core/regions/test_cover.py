"""Covers grown gap by gap, against the buffer of the whole region (GEOS, by Shapely)."""

import numpy as np
import pytest
import shapely

from fenrik.core.regions import Cover
from fenrik.core.regions.polygons import from_shape, to_shape


@pytest.fixture(scope="module")
def plate():
    """A plate with gaps of many sizes, a block standing in one of them with a bore, and a block beside the plate."""
    rng = np.random.default_rng(4)
    shape = shapely.box(0, 0, 90, 60)
    for x, y, r in zip(rng.uniform(6, 84, 14), rng.uniform(6, 54, 14), rng.uniform(1, 6, 14), strict=True):
        shape = shape.difference(shapely.Point(x, y).buffer(r))
    shape = shape.difference(shapely.box(30, 15, 70, 45))
    block = shapely.box(40, 22, 60, 38).difference(shapely.Point(50, 30).buffer(5))
    return shapely.union_all([shape, block, shapely.box(90.5, 10, 110, 30)])


@pytest.fixture(scope="module")
def cover(plate):
    return Cover.of(from_shape(plate))


def test_rings_are_those_of_the_region(plate, cover):
    assert to_shape(cover.rings).symmetric_difference(plate).area < 1e-9
    assert len(cover.outside) == 2


@pytest.mark.parametrize("distance", [-2.0, 0.0, 0.3, 1.5, 4.0, 9.0])
def test_grown_is_the_buffer_of_the_whole(plate, cover, distance):
    wanted = plate.buffer(distance, quad_segs=128)
    found = to_shape(cover.grown(distance))
    assert found.is_valid
    assert found.symmetric_difference(wanted).area < 2e-3 * max(wanted.length, 1.0)


def test_a_window_is_told_as_the_whole_is_there(plate, cover):
    wanted = plate.buffer(1.5, quad_segs=128)
    rng = np.random.default_rng(9)
    for _ in range(25):
        low = rng.uniform([-20, -20], [100, 60])
        high = low + rng.uniform(0.5, 30, 2)
        window = shapely.box(*low, *high)
        found = to_shape(Cover.of(cover.rings).grown(1.5, (low, high)))
        assert found.intersection(window).symmetric_difference(wanted.intersection(window)).area < 0.2


def test_of_nothing_nothing_grows():
    assert Cover.of([]).grown(3.0) == []


def test_a_sliver_about_a_corner_does_not_swallow_the_outline():
    # Rounding leaves such rings where outlines touch; what is far larger does not stand in the gap that they look like.
    outline = np.array([[0.0, 0], [40, 0], [40, 30], [0, 30]])
    sliver = np.array([[1e-5, -1e-5], [-1e-5, -1e-5], [0.0, 2e-5]]) + [0, 30]
    found = to_shape(Cover.of([outline, sliver]).grown(2.0))
    assert found.symmetric_difference(shapely.box(0, 0, 40, 30).buffer(2, quad_segs=128)).area < 0.01

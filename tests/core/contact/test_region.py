"""Where a tool fits, against Shapely's offsets."""

import numpy as np
import pytest
import shapely

from fenrik.core.contact.drop import DropIndex
from fenrik.core.contact.region import HeightField, last_inside, part_outline
from fenrik.core.solids.reading import mesh_at
from fenrik.core.solids.tessellate import tessellate
from fenrik.core.tools.profile import bull_nose_profile
from fenrik.demo.modelling import box, cut, cylinder


def test_free_region_of_a_pocket(pocket):
    index = DropIndex.build(pocket.mesh, bull_nose_profile(3, 0, 30))
    heights = HeightField.over(index, np.array([-10.0, -10.0]), np.array([70.0, 50.0]), 0.5, -5.0)
    region = heights.free_region(12.0, 0.01)
    inside = [
        p for p in shapely.get_parts(region) if p.centroid.distance(shapely.Point(30, 20)) < 1 and not p.interiors
    ]
    assert inside[0].area == pytest.approx(34 * 14, abs=5e-3)
    outside = max(shapely.get_parts(region), key=lambda p: p.area)
    expected = shapely.box(0, 0, 60, 40).buffer(3, quad_segs=90)
    hole = shapely.Polygon(outside.interiors[0])
    assert hole.symmetric_difference(expected).area < 0.01 * expected.length
    # Never beyond the wall by more than the tolerance.
    assert hole.buffer(0.0101).covers(expected)


@pytest.mark.parametrize("width", [0.3, 0.6, 1.05, 1.9])
def test_a_way_hardly_wider_than_a_cell_is_not_left_across_its_walls(width):
    # A channel round an island: both sides of the way lie in the same cells.
    low, high = 20.0, 26.0 + width
    channel = cut(cylinder(0, 0, 5, high, 20), cylinder(0, 0, 0, low, 20))
    mesh = tessellate(cut(box(-40, -40, 0, 80, 80, 20), channel), 0.002)
    index = DropIndex.build(mesh, bull_nose_profile(3, 0, 30))
    heights = HeightField.over(index, np.array([-30.3, -30.1]), np.array([30.0, 30.0]), 1.0, -5.0)
    region = heights.free_region(12.0, 0.01)
    axis = shapely.Point(0, 0)
    way = axis.buffer(high - 3, quad_segs=500) - axis.buffer(low + 3, quad_segs=500)
    assert way.buffer(0.015).covers(region)
    # What the grid cannot see is lost: ways narrower than a cell here and there.
    assert region.area > (0.99 if width > 1 else 0.4) * way.area


def test_nothing_fits_and_everything_fits(pocket):
    index = DropIndex.build(pocket.mesh, bull_nose_profile(12, 0, 30))
    heights = HeightField.over(index, np.array([5.0, 5.0]), np.array([55.0, 35.0]), 0.5, -5.0)
    assert heights.free_region(12.0, 0.01).is_empty
    assert heights.free_region(20.0, 0.01).area == pytest.approx(50 * 30, rel=0.05)


def test_part_outline(dish):
    assert part_outline(mesh_at(dish, 0.01), 0.2, 0.005).area == pytest.approx(2000, abs=0.2)


def test_the_last_place_inside_is_found_in_few_looks_and_never_in_many():
    # Over smooth crossings interpolation is quick; over steps, which walls are, it takes no more than halving and two.
    places = np.linspace(0.03, 0.97, 40)
    for steep, most in ((False, 9), (True, 16)):
        looks = []

        def beyond(which, share, steep=steep, looks=looks):
            looks.append(len(which))
            way = share[:, 0] - places[which]
            return np.sign(way) if steep else np.expm1(way)

        ends = beyond(np.arange(40), np.zeros((40, 1))), beyond(np.arange(40), np.ones((40, 1)))
        found = last_inside(beyond, *ends, 1e-4)[:, 0]
        assert np.all(found <= places)
        assert np.abs(found - places).max() <= 1e-4
        assert len(looks) - 2 <= most

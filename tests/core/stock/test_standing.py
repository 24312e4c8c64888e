"""What stands over a surface, against closed forms and planted excess."""

import numpy as np
import pytest

from fenrik.core.frames import frame_with_up
from fenrik.core.solids.reading import mesh_at, solid_from_shape
from fenrik.core.stock import Stock
from fenrik.core.stock.shaping import stock_from_mesh, turn_stock
from fenrik.core.stock.standing import standing
from parts import box, cut, cylinder, fuse


def mesh_of(shape):
    return mesh_at(solid_from_shape(shape), 0.002)


def on(found, axis, sign):
    return sign * found.normal[:, axis] > 0.99


def test_an_even_layer_is_as_thick_as_it_is_and_the_places_stand_for_the_whole_area():
    found = standing(
        Stock.box(np.array([-3.0, -2, -1]), np.array([43.0, 34, 12]), 0.5), mesh_of(box(0, 0, 0, 40, 30, 10))
    )
    for axis, sign, thick, area in (
        (0, -1, 3, 300),
        (0, 1, 3, 300),
        (1, -1, 2, 400),
        (1, 1, 4, 400),
        (2, 1, 2, 1200),
        (2, -1, 1, 1200),
    ):
        mine = on(found, axis, sign)
        assert np.allclose(found.over_mm[mine], thick, atol=1e-6)
        assert float(found.area_mm2[mine].sum()) == pytest.approx(area, rel=0.03)


def test_planted_excess_and_gouge_are_found_where_they_are():
    part = cut(box(0, 0, 0, 40, 30, 10), cylinder(20, 15, 4, 6, 10))
    left = fuse(cut(part, box(2, 2, 9.6, 5, 5, 2)), box(30, 20, 10, 4, 3, 0.7))
    found = standing(stock_from_mesh(mesh_of(left), 0.25), mesh_of(part))
    top = on(found, 2, 1) & (found.place[:, 2] > 9)
    high = top & (found.over_mm > 0.05)
    assert float(found.area_mm2[high].sum()) == pytest.approx(12, rel=0.1)
    assert found.over_mm[high] == pytest.approx(0.7, abs=1e-6)
    deep = top & (found.over_mm < -0.05)
    assert float(found.area_mm2[deep].sum()) == pytest.approx(25, rel=0.1)
    assert found.over_mm[deep] == pytest.approx(-0.4, abs=1e-6)
    rest = ~(high | deep)
    # On the bore the triangles of both stray by 2 µm.
    assert np.abs(found.over_mm[rest & ((found.place[:, 0] > 8) | (found.place[:, 1] > 8))]).max() < 0.01


def test_material_between_two_walls_counts_up_to_the_other_wall():
    part = cut(box(0, 0, 0, 40, 30, 10), box(15, -1, 4, 10, 40, 10))
    found = standing(Stock.box(np.zeros(3), np.array([40.0, 30, 10]), 0.5), mesh_of(part))
    inside = on(found, 0, 1) & (found.place[:, 0] < 20) & (found.place[:, 0] > 1)
    assert np.allclose(found.over_mm[inside], 10)


def test_it_is_the_same_in_a_frame_that_leans():
    part, blank = mesh_of(box(0, 0, 0, 40, 30, 10)), Stock.box(np.array([0.0, 0, 0]), np.array([40.0, 30, 11]), 0.5)
    frame = frame_with_up(np.array([0.3, -0.4, 0.8]))
    leaning = standing(turn_stock(blank, frame.rotation), part.in_frame(frame))
    straight = standing(blank, part)
    up = leaning.normal @ frame.rotation.T
    assert np.allclose(leaning.over_mm, straight.over_mm)
    assert np.allclose(up, straight.normal, atol=1e-9)
    assert np.allclose(frame.to_part(leaning.place), straight.place, atol=1e-9)

"""Regions against Shapely, closed forms and the exact model."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.regions import Shadow, area_of, clip_lines, components, contains, difference, fit_arcs, offset, union
from fenrik.core.regions.polygons import from_shape, pole_of, to_shape, widened
from fenrik.core.sketches import Curve


def square(size=10.0, at=(0.0, 0.0)):
    return [np.array([[0, 0], [size, 0], [size, size], [0, size]], float) + at]


def test_offset_of_a_square_is_the_rounded_square():
    # Closed form: a² + 4ad + πd².
    assert area_of(offset(square(), 2.0)) == pytest.approx(100 + 80 + np.pi * 4, abs=0.01)
    assert area_of(offset(square(), -2.0)) == pytest.approx(36.0)
    assert offset(square(), -5.1) == []


def test_components_hold_their_own_holes():
    region = union(difference(square(10), square(4, (3, 3))), square(5, (20, 0)))
    pieces = components(region)
    assert [len(p) for p in pieces] == [2, 1]
    assert to_shape(region).area == pytest.approx(84 + 25)


def test_a_piece_inside_a_hole_does_not_take_the_hole():
    ring = difference(square(40, (-20, -20)), square(30, (-15, -15)))
    pieces = components(union(ring, square(4, (-2, -2))))
    assert [[round(area_of([r])) for r in p] for p in pieces] == [[1600, -900], [16]]


def test_clipped_lines_keep_their_direction():
    pieces = clip_lines([np.array([[-5, 5], [15, 5], [15, 2], [-5, 2.0]])], square())
    assert [p[0].tolist() for p in pieces] == [[0, 5], [10, 2]]
    outside = clip_lines([np.array([[-5, 5], [15, 5.0]])], square(), inside=False)
    assert sum(np.linalg.norm(p[-1] - p[0]) for p in outside) == pytest.approx(10.0)
    assert all(p[-1][0] > p[0][0] for p in outside)


def test_pole_of_a_rectangle():
    place, room = pole_of([np.array([[0, 0], [30, 0], [30, 8], [0, 8.0]])])
    assert room == pytest.approx(4, abs=0.05)
    assert 4 <= place[0] <= 26


@pytest.mark.parametrize("radius", [0.3, 5.0, 80.0, 900.0])
def test_a_circle_of_any_size_is_at_most_four_stretches(radius):
    turn = np.linspace(0, 2 * np.pi, max(int(60 * radius**0.5), 40), endpoint=False)
    chord = radius * (1 - np.cos(np.pi / len(turn)))
    curve = fit_arcs(radius * np.column_stack([np.cos(turn), np.sin(turn)]), True, chord + 1e-4)
    assert len(curve.stretches) <= 4
    assert curve.length_mm() == pytest.approx(2 * np.pi * radius, rel=1e-6)


def test_a_rounded_rectangle_comes_back_as_four_lines_and_four_arcs():
    outline = offset(square(40), 6.0)[0]
    curve = fit_arcs(outline, True, 2e-3)
    assert len(curve.stretches) == 8
    assert curve.length_mm() == pytest.approx(160 + 2 * np.pi * 6, abs=2e-3)


def test_straight_polygons_get_no_arcs():
    hexagon = 30 * np.column_stack([np.cos(np.arange(6) * np.pi / 3), np.sin(np.arange(6) * np.pi / 3)])
    assert not np.any(fit_arcs(hexagon, True, 0.01).bulges)


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.floats(-5, 5), st.floats(-5, 5)), min_size=3, max_size=16), st.booleans())
def test_fitted_curves_stay_within_tolerance_of_any_polyline(places, closed):
    points = np.array(places)
    if closed:
        points = np.vstack([points, points[:1] + [0.3, 0.1]])
    curve = fit_arcs(points, False, 0.05)
    if len(curve.points) < 2:
        return
    a, b = shapely.LineString(points), shapely.LineString(curve.flattened(1e-3))
    assert shapely.hausdorff_distance(a.segmentize(0.1), b.segmentize(0.1)) < 0.11
    assert np.allclose(curve.points[0], points[0])
    assert np.allclose(curve.points[-1], points[-1], atol=1e-4)


def test_a_widened_line_is_a_slot():
    # Closed form of a slot: 2·r·L + πr².
    assert area_of(widened([np.array([[0, 0], [20.0, 0]])], 3.0)) == pytest.approx(120 + np.pi * 9, abs=0.02)


def stepped_block():
    """A 40 × 30 × 10 block with a 20 × 10 pocket 4 deep and a ⌀6 hole through."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    from fenrik.core.solids.reading import solid_from_shape

    block = BRepPrimAPI_MakeBox(40.0, 30.0, 10.0).Shape()
    pocket = BRepPrimAPI_MakeBox(gp_Pnt(10, 10, 6), 20.0, 10.0, 10.0).Shape()
    hole = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(5, 5, -1), gp_Dir(0, 0, 1)), 3.0, 20.0).Shape()
    return solid_from_shape(BRepAlgoAPI_Cut(BRepAlgoAPI_Cut(block, pocket).Shape(), hole).Shape())


def test_shadow_of_a_stepped_block():
    from fenrik.core.solids.reading import mesh_at

    shadow = Shadow(mesh_at(stepped_block(), 0.001))
    hole = np.pi * 9
    assert area_of(shadow.above(10.0)) == pytest.approx(0.0)
    assert area_of(shadow.above(8.0)) == pytest.approx(1200 - 200 - hole, abs=0.03)
    assert area_of(shadow.above(6.0)) == pytest.approx(1200 - 200 - hole, abs=0.03)
    assert area_of(shadow.above(5.9)) == pytest.approx(1200 - hole, abs=0.03)
    assert len(components(shadow.above(8.0))[0]) == 3


def test_shadow_of_a_cone_is_cut_at_the_level():
    import trimesh

    from fenrik.core.solids.model import Mesh

    cone = trimesh.creation.cone(10.0, 20.0, sections=720)
    shadow = Shadow(Mesh(np.asarray(cone.vertices), np.asarray(cone.faces), np.zeros(len(cone.faces), np.int32), 0.001))
    # Radius at height z is 10·(1 − z/20).
    assert area_of(shadow.above(5.0)) == pytest.approx(np.pi * 7.5**2, rel=1e-3)


def test_shapes_come_back():
    shape = shapely.box(0, 0, 10, 10).difference(shapely.box(2, 2, 4, 4))
    assert to_shape(from_shape(shape)).symmetric_difference(shape).area < 1e-9


def test_nothing_is_a_region_too():
    assert to_shape([]).is_empty
    assert not contains([], np.zeros((2, 2))).any()
    assert offset([], 1.0) == union([], []) == difference([], square()) == []


def test_a_curve_keeps_its_arcs():
    curve = Curve.arc(np.zeros(2), 10.0, 0, 360)
    assert fit_arcs(curve.flattened(1e-3)[:-1], True, 2e-3).length_mm() == pytest.approx(20 * np.pi, rel=1e-5)

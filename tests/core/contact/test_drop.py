"""Tip heights against brute force in plain NumPy and closed forms."""

import numpy as np
import pytest
from brute import drop_brute
from hypothesis import given, settings
from hypothesis import strategies as st
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeSphere

from fenrik.core.contact import DropIndex, tip_heights
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.reading import mesh_at, solid_from_shape
from fenrik.core.tools.profile import bull_nose_profile

ENDS = [(3.0, 0.0), (3.0, 3.0), (3.0, 1.0)]


def terrain(seed, n=5, size=14.0, rough=1.5):
    rng = np.random.default_rng(seed)
    x, y = np.meshgrid(np.linspace(0, size, n), np.linspace(0, size, n), indexing="ij")
    vertices = np.stack([x, y, rng.normal(size=(n, n)) * rough], -1).reshape(-1, 3)
    triangles = [
        t
        for i in range(n - 1)
        for j in range(n - 1)
        for t in ([i * n + j, i * n + j + n, i * n + j + 1], [i * n + j + n, i * n + j + n + 1, i * n + j + 1])
    ]
    return Mesh(vertices, np.array(triangles, np.int32), np.zeros(len(triangles), np.int32))


@pytest.mark.parametrize(("radius", "corner"), ENDS)
@pytest.mark.parametrize("seed", [1, 2])
def test_terrain_against_brute_force(radius, corner, seed):
    mesh = terrain(seed)
    index = DropIndex.build(mesh, bull_nose_profile(radius, corner, 20))
    places = np.random.default_rng(seed).uniform(-4, 18, (24, 2))
    expected = np.array([drop_brute(mesh.corners(), x, y, radius, corner) for x, y in places])
    got = tip_heights(index, places)
    assert np.array_equal(np.isfinite(got), np.isfinite(expected))
    here = np.isfinite(expected)
    assert np.abs(got[here] - expected[here]).max() < 1e-9


@settings(max_examples=25, deadline=None)
@given(
    st.lists(st.tuples(*[st.floats(-5, 5)] * 3), min_size=3, max_size=3),
    st.floats(-6, 6),
    st.floats(-6, 6),
    st.sampled_from(ENDS),
)
def test_any_single_triangle(corners, x, y, end):
    triangle = np.array(corners)
    if np.linalg.norm(np.cross(triangle[1] - triangle[0], triangle[2] - triangle[0])) < 1e-2:
        return
    mesh = Mesh(triangle, np.array([[0, 1, 2]], np.int32), np.zeros(1, np.int32))
    got = tip_heights(DropIndex.build(mesh, bull_nose_profile(*end, 20)), np.array([[x, y]]))[0]
    expected = max(drop_brute(mesh.corners(), x, y, *end), drop_brute(mesh.corners()[:, ::-1], x, y, *end))
    one_sided = drop_brute(mesh.corners(), x, y, *end)
    # A triangle seen from below has no facet to rest on; its edges and corners still count.
    assert got == pytest.approx(one_sided, abs=1e-6) or got <= expected + 1e-6


def test_ball_on_sphere_and_cylinder():
    """Ball R on a sphere S: tip at z = √((R+S)² − d²) − R (closed form)."""
    mesh = mesh_at(solid_from_shape(BRepPrimAPI_MakeSphere(10.0).Shape()), 0.001)
    index = DropIndex.build(mesh, bull_nose_profile(3, 3, 20))
    d = np.linspace(0, 9, 30)
    got = tip_heights(index, np.column_stack([d * 0.6, d * 0.8]))
    assert np.abs(got - (np.sqrt(169 - d * d) - 3)).max() < 0.0015


def test_flat_and_bull_on_a_plate_edge(pocket):
    """Beside a wall the tip rests on the top until the tool is a radius (plus nothing) away (closed form)."""
    for radius, corner in ENDS:
        index = DropIndex.build(pocket.mesh, bull_nose_profile(radius, corner, 20))
        flat = radius - corner
        for out in (0.0, 0.5, 1.5, 2.5, 2.999):
            drop = 0.0 if out <= flat else corner - np.sqrt(corner**2 - (out - flat) ** 2)
            got = tip_heights(index, np.array([[-out, 20.0], [30.0, 40 + out], [10 + out, 20.0]]))
            assert got[0] == pytest.approx(20 - drop, abs=1e-9)
            assert got[1] == pytest.approx(20 - drop, abs=1e-9)
            assert got[2] == pytest.approx(20 - drop, abs=1e-9)
        assert tip_heights(index, np.array([[30.0, 20.0]]))[0] == 10
        assert np.isneginf(tip_heights(index, np.array([[-3.01, 20.0], [1e6, 0.0]]))).all()


def test_bull_nose_on_a_turned_cylinder():
    """A lying cylinder S under a torus corner r: offset circle of radius S + r around it (closed form)."""
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    shape = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(0, -30, 0), gp_Dir(0, 1, 0)), 8.0, 60.0).Shape()
    index = DropIndex.build(mesh_at(solid_from_shape(shape), 0.0005), bull_nose_profile(4, 1, 20))
    x = np.linspace(3.2, 9, 20)
    got = tip_heights(index, np.column_stack([x, np.zeros_like(x)]))
    assert np.abs(got - (np.sqrt(81 - (x - 3) ** 2) - 1)).max() < 0.001


def test_empty_mesh_and_single_point_queries():
    empty = Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32), np.zeros(0, np.int32))
    assert np.isneginf(tip_heights(DropIndex.build(empty, bull_nose_profile(1, 1, 5)), np.zeros((2, 2)))).all()

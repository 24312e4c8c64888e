"""Stocks from meshes and in other frames, against closed forms."""

import numpy as np
import pytest
import trimesh
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder
from scipy.spatial.transform import Rotation

from fenrik.core.errors import FenrikError
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.reading import mesh_at, solid_from_shape
from fenrik.core.stock import Stock, cut, stock_mesh
from fenrik.core.stock.field import EARLIER
from fenrik.core.stock.shaping import stock_from_mesh, turn_stock, upright
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Assembly, Body, bull_nose_profile


def mesh_of(body):
    return Mesh(np.array(body.vertices, float), body.faces.astype(np.int32), np.zeros(len(body.faces), np.int32))


def volume(stock, family=2):
    """Material on the rays of a family times the area of a cell."""
    count, at, _, _ = stock.dense(family)
    lengths = np.diff(at, axis=2)[..., ::2]
    present = np.arange(lengths.shape[2]) < count[..., None] // 2
    return float(lengths[present].sum()) * stock.lattice.cell_mm**2


def test_a_box_mesh_gives_the_rays_of_a_box():
    low, high = np.array([-3.0, 1.0, 2.0]), np.array([9.0, 8.0, 7.5])
    body = trimesh.creation.box(high - low, trimesh.transformations.translation_matrix((low + high) / 2))
    one, other = stock_from_mesh(mesh_of(body), 0.5), Stock.box(low, high, 0.5)
    assert one.lattice == other.lattice
    for family in range(3):
        a, b = one.dense(family), other.dense(family)
        assert np.array_equal(a[0], b[0])
        inside = a[0] == 2
        assert np.allclose(a[1][inside], b[1][inside], atol=1e-12)
        assert np.array_equal(a[2][inside], b[2][inside])


def test_a_cylinder_against_its_closed_form():
    solid = solid_from_shape(BRepPrimAPI_MakeCylinder(10.0, 30.0).Shape())
    stock = stock_from_mesh(mesh_at(solid, 0.002), 0.2, 0.002)
    for family in range(3):
        assert volume(stock, family) == pytest.approx(np.pi * 100 * 30, rel=4e-3)
    places, _, _ = stock.hits()
    side = np.abs(places[:, 2] - 15) < 14.9
    assert np.abs(np.hypot(places[side, 0], places[side, 1]) - 10).max() < 0.0021
    assert stock.error_mm == 0.002


def test_rays_through_edges_and_corners_count_once():
    # Corners on lattice nodes: every ray of the middle passes through edges and diagonals.
    body = trimesh.creation.box((4, 4, 4))
    cut_in = trimesh.creation.icosphere(subdivisions=2, radius=2.0)
    for shape in (body, cut_in):
        for shift in (0.0, 0.25):
            moved = shape.copy()
            moved.apply_translation([shift, shift, shift])
            stock = stock_from_mesh(mesh_of(moved), 0.5)
            assert volume(stock) == pytest.approx(shape.volume, rel=0.06)


def test_overlapping_bodies_are_one():
    a = trimesh.creation.box((10, 10, 10))
    b = trimesh.creation.box((10, 10, 10), trimesh.transformations.translation_matrix((5, 0, 0)))
    c = trimesh.creation.box((10, 10, 10), trimesh.transformations.translation_matrix((15, 0, 0)))
    stock = stock_from_mesh(mesh_of(trimesh.util.concatenate([a, b, c])), 0.4)
    assert volume(stock) == pytest.approx(25 * 100, rel=0.02)
    count, _, _, _ = stock.dense(0)
    assert count.max() == 2


def test_an_open_mesh_is_refused():
    body = trimesh.creation.box((10, 10, 10))
    with pytest.raises(FenrikError, match="not closed"):
        stock_from_mesh(mesh_of(trimesh.Trimesh(body.vertices, body.faces[2:])), 0.5)
    with pytest.raises(FenrikError, match="no surface"):
        stock_from_mesh(Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32), np.zeros(0, np.int32)), 0.5)


@pytest.fixture(scope="module")
def grooved():
    stock = Stock.box(np.zeros(3), np.array([20.0, 14.0, 9.0]), 0.25)
    starts = np.array([[-5.0, 4.0, 6.0], [12.0, 7.0, 9.5], [12.0, 7.0, 3.0]])
    ends = np.array([[30.0, 5.0, 6.0], [12.0, 7.0, 3.0], [12.0, 7.0, 9.5]])
    return cut(stock, Poses.upright(starts, ends), Assembly(bull_nose_profile(2.0, 0.5, 20.0)))[0]


@pytest.mark.parametrize("turn", [(180, 0, 0), (90, 0, 0), (0, -90, 0), (0, 0, 90), (90, 0, 90), (180, 0, 90)])
def test_quarter_turns_keep_every_hit(grooved, turn):
    rotation = np.rint(Rotation.from_euler("xyz", turn, degrees=True).as_matrix())
    turned = turn_stock(grooved, rotation)
    places, normals, sources = turned.hits()
    before, old_normals, _ = grooved.hits()
    expected = np.round(np.hstack([before @ rotation, old_normals @ rotation]), 6) + 0.0
    found = np.round(np.hstack([places, normals]), 6) + 0.0
    assert np.array_equal(np.unique(expected, axis=0), np.unique(found, axis=0))
    # What an earlier setup cut stays apart from the stock as it came.
    assert set(np.unique(sources)) == {EARLIER, -1}
    assert volume(turned) == pytest.approx(volume(grooved), rel=5e-3)
    count, at, _, _ = turned.dense(2)
    inside = np.arange(at.shape[2] - 1) < count[..., None] - 1
    assert np.all(np.diff(at, axis=2)[inside] > 0)


ODD = Rotation.from_euler("xyz", (33, 21, -14), degrees=True).as_matrix()


def test_an_odd_turn_keeps_every_hit(grooved):
    turned = turn_stock(grooved, ODD)
    places, normals, sources = turned.hits()
    before, old_normals, _ = grooved.hits()
    assert places == pytest.approx(before @ ODD, abs=1e-9)
    assert normals == pytest.approx(old_normals @ ODD, abs=1e-9)
    assert set(np.unique(sources)) == {EARLIER, -1}
    assert turned.error_mm == grooved.error_mm
    assert stock_mesh(turned).bounds() == pytest.approx(
        np.array([f(stock_mesh(grooved).vertices @ ODD, axis=0) for f in (np.min, np.max)]), abs=1e-6
    )


def test_odd_turns_there_and_back_cost_nothing(grooved):
    """Ten setups, each turned by an odd angle, and back: the stock as it was, hit by hit."""
    stock = grooved
    for _ in range(5):
        stock = turn_stock(turn_stock(stock, ODD), ODD.T)
    assert not stock.leans
    for family in range(3):
        assert np.array_equal(stock.dense(family)[0], grooved.dense(family)[0])
    assert stock.hits()[0] == pytest.approx(grooved.hits()[0], abs=1e-9)
    assert stock.error_mm == grooved.error_mm


def test_a_leaning_stock_is_cut_as_an_upright_one_by_a_leaning_tool(grooved):
    """The same cut, spoken of in a turned frame and in the blank's own."""
    start, end = np.array([[2.0, 3.0, 5.0]]), np.array([[16.0, 9.0, 4.0]])
    axis = np.array([0.3, -0.2, 0.9])
    ball, holder = bull_nose_profile(2.0, 2.0, 8.0), bull_nose_profile(4.0, 1.0, 9.0).lifted(4.0)
    tool = Assembly(ball, (Body("holder", holder),))
    own, record = cut(grooved, Poses.tilted(start, end, axis), tool)
    there, told = cut(turn_stock(grooved, ODD), Poses.tilted(start @ ODD, end @ ODD, axis @ ODD), tool)
    assert there.hits()[0] == pytest.approx(own.hits()[0] @ ODD, abs=1e-7)
    assert told.removed_mm3 == pytest.approx(record.removed_mm3, rel=1e-9)
    assert told.touch_mm[0, 0] == pytest.approx(record.touch_mm[0, 0], abs=1e-7)
    assert told.touch_mm[0, 0] > 0.5
    assert told.touch_place == pytest.approx(record.touch_place @ ODD, abs=1e-6)
    kept = Stock.from_bytes(there.to_bytes())
    assert np.array_equal(kept.hits()[0], there.hits()[0])


def test_who_looks_from_above_gets_a_leaning_stock_upright(grooved):
    seen = upright(turn_stock(grooved, ODD))
    assert not seen.leans
    assert volume(seen) == pytest.approx(volume(grooved), rel=5e-3)
    assert seen.error_mm > grooved.error_mm
    assert upright(grooved) is grooved

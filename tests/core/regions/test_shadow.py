"""Shadows of random bodies against the union of their triangles cut off at the level, triangle by triangle (Shapely)."""

import itertools

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as some
from scipy.spatial.transform import Rotation

from fenrik.core.regions import Shadow, area_of
from fenrik.core.regions.polygons import to_shape
from fenrik.core.setups.grids import join_meshes
from fenrik.core.setups.stocks import box_mesh
from fenrik.core.solids.model import Mesh


def bodies(seed: int, count: int = 4) -> Mesh:
    """Boxes of all sizes, turned anyhow, one in and over the other."""
    rng = np.random.default_rng(seed)
    meshes = []
    for _ in range(count):
        low = rng.uniform(-25, 15, 3)
        box = box_mesh(low, low + rng.uniform(2, 25, 3))
        turn = Rotation.random(random_state=rng).as_matrix()
        meshes.append(Mesh(box.vertices @ turn.T, box.triangles, box.face_ids, 0.0))
    return join_meshes(meshes)


def above(mesh: Mesh, level: float) -> shapely.Geometry:
    """Every triangle above a level, cut off by it, seen from above."""
    shapes = []
    for corners in mesh.corners():
        kept = []
        for a, b in zip(corners, np.roll(corners, -1, axis=0), strict=True):
            if a[2] >= level:
                kept.append(a[:2])
            if (a[2] - level) * (b[2] - level) < 0:
                t = (level - a[2]) / (b[2] - a[2])
                kept.append((a + t * (b - a))[:2])
        if len(kept) >= 3:
            shape = shapely.Polygon(kept)
            if shape.area > 1e-9:
                shapes.append(shapely.convex_hull(shape))
    return shapely.union_all(shapes, grid_size=1e-7)


@settings(max_examples=25, deadline=None)
@given(seed=some.integers(0, 10_000), level=some.floats(-30, 30))
def test_the_shadow_is_all_that_stands_above(seed, level):
    mesh = bodies(seed)
    got, want = to_shape(Shadow(mesh).above(level)), above(mesh, level)
    assert got.symmetric_difference(want).area <= 2e-3 * max(want.length, 1.0)


@settings(max_examples=15, deadline=None)
@given(seed=some.integers(0, 10_000))
def test_it_only_grows_on_the_way_down(seed):
    mesh = bodies(seed)
    shadow, (low, high) = Shadow(mesh), mesh.bounds()[:, 2]
    areas = [area_of(shadow.above(level)) for level in np.linspace(high, low, 15)]
    assert all(b >= a - 0.02 for a, b in itertools.pairwise(areas))
    assert areas[0] == 0.0


@settings(max_examples=10, deadline=None)
@given(seed=some.integers(0, 10_000), level=some.floats(-20, 20))
def test_covered_places(seed, level):
    mesh = bodies(seed)
    places = np.random.default_rng(seed).uniform(-45, 45, (200, 2))
    want = above(mesh, level)
    rim = shapely.union_all([p.boundary for p in shapely.get_parts(want)])
    sure = np.array([rim.is_empty or rim.distance(shapely.Point(p)) > 0.01 for p in places])
    got = Shadow(mesh).covers(level, places)
    assert got[sure].tolist() == [want.contains(shapely.Point(p)) for p in places[sure]]


def test_a_level_on_a_flat_counts_as_above_what_lies_in_it():
    shadow = Shadow(box_mesh([0, 0, 0], [10, 10, 5]))
    assert area_of(shadow.above(5.0)) == 0.0
    assert area_of(shadow.above(4.999)) == pytest.approx(100.0, abs=1e-2)
    assert area_of(shadow.above(-3.0)) == pytest.approx(100.0, abs=1e-2)


def test_nothing_casts_no_shadow():
    none = Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32), np.zeros(0, np.int32), 0.0)
    shadow = Shadow(none)
    assert shadow.above(0.0) == []
    assert shadow.covers(0.0, np.zeros((3, 2))).tolist() == [False, False, False]

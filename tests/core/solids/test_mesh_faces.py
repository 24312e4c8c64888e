"""Faces found on meshes: cylinders and cones made by formula, and solids against their own exact faces and features."""

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from fenrik.core.recognise import recognise
from fenrik.core.solids.crossing import cylinders_in
from fenrik.core.solids.fitting import fit_circle, fit_round, span_of
from fenrik.core.solids.reading import mesh_at, read_solid, solid_from_shape
from parts import box, cut, cylinder
from solids import random_solid


def as_stl(shape, deflection=0.02, **rest):
    """The solid that comes back from an STL file (single precision) of a shape."""
    mesh = mesh_at(solid_from_shape(shape), deflection)
    triangles = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
    return read_solid(triangles.export(file_type="stl"), "part.stl", **rest)


def strip(low, high, height, span_deg, turn, place, steps=14):
    """Triangles of a cone or cylinder: radii at both ends, turned and placed, in single precision."""
    angle = np.deg2rad(np.linspace(0, span_deg, steps + 1))
    ring = np.column_stack([np.cos(angle), np.sin(angle), np.zeros(steps + 1)])
    a, b = low * ring, high * ring + [0, 0, height]
    corners = np.concatenate([np.stack([a[:-1], a[1:], b[1:]], axis=1), np.stack([a[:-1], b[1:], b[:-1]], axis=1)])
    return (corners @ turn.T + place).astype(np.float32).astype(float)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.booleans(), st.booleans())
def test_cylinders_and_cones_are_found_in_any_pose(seed, cone, hollow):
    rng = np.random.default_rng(seed)
    turn, place = Rotation.random(random_state=rng).as_matrix(), rng.uniform(-100, 100, 3)
    low, height, span = rng.uniform(0.8, 40), rng.uniform(2, 60), rng.uniform(40, 300)
    high = low + (rng.uniform(0.3, 2) * height if cone else 0.0)
    corners = strip(low, high, height, span, turn, place)
    found = fit_round(corners[:, ::-1] if hollow else corners)
    assert found is not None
    assert abs(found.axis @ turn[:, 2]) == pytest.approx(1.0, abs=1e-6)
    assert found.concave == hollow
    assert found.span_deg == pytest.approx(span, abs=0.1)
    away = place - found.origin
    assert np.linalg.norm(away - (away @ found.axis) * found.axis) < 2e-3
    if cone:
        assert found.half_angle_deg == pytest.approx(np.rad2deg(np.arctan((high - low) / height)), abs=0.02)
    else:
        assert found.radius_mm == pytest.approx(low, abs=5e-4 + 1e-4 * low)


def test_a_ball_a_saddle_and_a_flat_are_no_cylinder():
    ball = trimesh.creation.icosphere(3, 20.0)
    x, y = np.meshgrid(np.linspace(-1, 1, 9), np.linspace(-1, 1, 9), indexing="ij")
    sheet = np.stack([x, y, 0.4 * (x * x - y * y)], axis=2)
    saddle = np.stack([sheet[:-1, :-1], sheet[1:, :-1], sheet[1:, 1:]], axis=2).reshape(-1, 3, 3)
    assert fit_round(ball.triangles) is None
    assert fit_round(saddle) is None
    assert fit_round(np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0.0]]])) is None


def test_rings_of_a_ball_or_a_torus_are_no_cylinders():
    def found_in(mesh):
        smooth = np.asarray(mesh.face_adjacency, np.int64)[mesh.face_adjacency_angles < np.deg2rad(30)]
        return cylinders_in(mesh.triangles, mesh.face_normals, smooth)

    assert found_in(trimesh.creation.uv_sphere(20.0, count=[24, 48])) == []
    assert found_in(trimesh.creation.torus(20.0, 6.0, 48, 24)) == []
    pin = trimesh.creation.cylinder(5.0, 30.0, sections=40)
    (side,) = found_in(pin)
    assert sorted(side.tolist()) == np.flatnonzero(np.abs(pin.face_normals[:, 2]) < 0.5).tolist()


def test_circles_and_how_far_round_they_go():
    turn = np.deg2rad(np.linspace(0, 200, 30))
    ring = np.column_stack([3 + 5 * np.cos(turn), 5 * np.sin(turn), np.full(30, 7.0)])
    centre, radius, axis = fit_circle(ring)
    assert centre == pytest.approx([3, 0, 7])
    assert radius == pytest.approx(5)
    assert abs(axis[2]) == pytest.approx(1)
    assert span_of(ring[:, :2] - [3, 0]) == pytest.approx(200)
    assert fit_circle(np.array([[0, 0, 0], [1, 0, 0], [2, 1, 0], [3, 3, 0], [4, 9, 0.0]])) is None


def known(found):
    """Holes as numbers that can be compared: direction, place, size, steps."""
    listed = []
    for h in found.holes:
        up = np.array(h.direction)
        listed.append((h.through, [s.kind for s in h.steps], h.diameter_mm, h.depth_mm, np.array(h.place), up))
    return sorted(listed, key=lambda h: (h[1], round(h[2], 2), *np.round(h[4], 1)))


@pytest.mark.parametrize("seed", [2, 8, 12, 15, 25])
def test_a_mesh_has_the_holes_pockets_and_flats_of_its_solid(seed):
    shape = random_solid(seed).shape
    exact, mesh = solid_from_shape(shape), as_stl(shape)
    a, b = recognise(exact), recognise(mesh)
    assert len(b.pockets) == len(a.pockets)
    assert len(b.holes) == len(a.holes)
    for one, other in zip(known(a), known(b), strict=True):
        assert other[:2] == one[:2]
        assert other[2] == pytest.approx(one[2], abs=2e-3)
        assert other[3] == pytest.approx(one[3], abs=0.05)
        assert other[4] == pytest.approx(one[4], abs=0.05)
        assert abs(other[5] @ one[5]) == pytest.approx(1, abs=1e-6)
    flats = [sum(f.area_mm2 for f in s.faces if f.kind == "plane") for s in (exact, mesh)]
    assert flats[1] == pytest.approx(flats[0], rel=0.01)


def test_edges_know_their_faces_their_turn_and_their_circle():
    mesh = as_stl(cut(box(0, 0, 0, 40, 30, 10), cylinder(20, 15, 4, 6, 10)))
    bore = next(i for i, f in enumerate(mesh.faces) if f.kind == "cylinder")
    assert mesh.faces[bore].concave
    rims = [mesh.edges[e] for loop in mesh.faces[bore].loops for e in loop]
    assert sorted((e.turn, e.kind, e.closed) for e in rims) == [("concave", "circle", True), ("convex", "circle", True)]
    for e in rims:
        assert e.radius_mm == pytest.approx(6, abs=1e-3)
        assert e.length_mm == pytest.approx(2 * np.pi * 6, rel=1e-4)
        assert bore in e.faces
        # Into the bore is up or down, into the flat is across.
        into = np.array(e.into)[e.faces.index(bore)]
        assert abs(into[2]) > 0.99
    straight = [e for e in mesh.edges if e.kind == "line"]
    assert len(straight) == 12
    assert {e.turn for e in straight} == {"convex"}
    assert {round(e.angle_deg) for e in straight} == {90}


def test_bodies_of_one_file_keep_their_own_faces_and_edges():
    a, b = (trimesh.creation.box((10, 10, 10)).apply_translation((x, 0, 0)) for x in (0, 30))
    scene = trimesh.Scene({"a": a, "b": b})
    solid = read_solid(scene.export(file_type="3mf"), "two.3mf")
    assert [body.faces for body in solid.bodies] == [6, 6]
    for body, x in zip(solid.bodies, (0, 30), strict=True):
        for k in range(body.first_face, body.first_face + 6):
            face = solid.faces[k]
            assert len(face.loops) == 1
            assert len(face.neighbours) == 4
            for e in face.loops[0]:
                assert k in solid.edges[e].faces
                assert abs(solid.edges[e].points[:, 0] - x).max() <= 5 + 1e-6


def test_a_scan_says_that_nothing_is_told_apart():
    rng = np.random.default_rng(1)
    rough = trimesh.creation.icosphere(5, 20.0)
    rough.vertices *= 1 + rng.uniform(-0.2, 0.2, (len(rough.vertices), 1))
    solid = read_solid(rough.export(file_type="stl"), "scan.stl")
    assert any("not told apart" in w for w in solid.warnings)
    assert recognise(solid).holes == []

"""Triangles of curved faces: as near as they say, few, closed, and never without end; and the surfaces under them."""

import numpy as np
import pytest
from OCP.BRep import BRep_Tool
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism, BRepPrimAPI_MakeRevol, BRepPrimAPI_MakeSphere, BRepPrimAPI_MakeTorus
from OCP.collections import Array1_gp_Pnt, Array2_gp_Pnt
from OCP.Geom import Geom_BezierCurve, Geom_BezierSurface
from OCP.GeomAPI import GeomAPI_ProjectPointOnSurf
from OCP.gp import gp_Ax1, gp_Dir, gp_Pnt, gp_Vec

from fenrik.core.frames import frame_with_up
from fenrik.core.solids.describe import list_faces
from fenrik.core.solids.exact import exact_faces
from fenrik.core.solids.tessellate import bounds_of, open_edges, tessellate
from fenrik.demo import modelling

SHAPES = {
    "sphere": (lambda: BRepPrimAPI_MakeSphere(50.0).Shape(), lambda p: np.linalg.norm(p, axis=1) - 50),
    "torus": (
        lambda: BRepPrimAPI_MakeTorus(40.0, 10.0).Shape(),
        lambda p: np.hypot(np.hypot(p[:, 0], p[:, 1]) - 40, p[:, 2]) - 10,
    ),
}


def inside_places(mesh, count=20_000):
    rng = np.random.default_rng(0)
    rows = rng.integers(0, len(mesh.triangles), count)
    return np.einsum("ij,ijk->ik", rng.dirichlet([1, 1, 1], count), mesh.corners()[rows])


@pytest.mark.parametrize("name", SHAPES)
@pytest.mark.parametrize("asked", [0.3, 0.01])
def test_triangles_stand_as_near_as_asked(name, asked):
    make, off = SHAPES[name]
    mesh = tessellate(make(), asked)
    assert np.abs(off(inside_places(mesh))).max() <= mesh.deflection_mm <= 1.3 * asked
    assert open_edges(mesh) == 0


def test_a_ceiling_raises_the_bound_that_is_told_and_not_the_time():
    make, off = SHAPES["torus"]
    mesh = tessellate(make(), 1e-4, most=20_000)
    assert len(mesh.triangles) <= 20_000
    found = np.abs(off(inside_places(mesh))).max()
    assert 1e-3 < found <= mesh.deflection_mm < 0.1


def test_free_form_triangles_stand_as_near_as_they_say():
    """Against Open CASCADE's own projection on the surface."""
    shape = modelling.lens_mould_insert()
    mesh = tessellate(shape, 0.02)
    faces = list_faces(shape)
    exact, _ = exact_faces(faces)
    free = int(np.flatnonzero(exact.kinds == 5)[0])
    own = mesh.of_faces([free])
    surface = BRep_Tool.Surface_s(faces[free])
    away = [GeomAPI_ProjectPointOnSurf(gp_Pnt(*p), surface).LowerDistance() for p in inside_places(own, 300).tolist()]
    assert max(away) <= mesh.deflection_mm <= 0.03
    assert open_edges(mesh) == 0


def bowed_wire():
    poles = Array1_gp_Pnt(1, 4)
    for k, (x, z) in enumerate([(20.0, 0.0), (32.0, 8.0), (9.0, 20.0), (24.0, 30.0)]):
        poles.SetValue(k + 1, gp_Pnt(x, 0.0, z))
    return BRepBuilderAPI_MakeEdge(Geom_BezierCurve(poles)).Edge()


def swept(name):
    if name == "revolution":
        return BRepPrimAPI_MakeRevol(bowed_wire(), gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1)), 4.0).Shape()
    return BRepPrimAPI_MakePrism(bowed_wire(), gp_Vec(5, 40, 3)).Shape()


@pytest.mark.parametrize("name", ["revolution", "extrusion"])
def test_feet_on_swept_surfaces(name):
    """Surfaces of revolution and extrusion as rational B-splines: feet against Open CASCADE's projection."""
    face = list_faces(swept(name))[0]
    exact, own = exact_faces([face])
    assert exact.kinds.tolist() == [5]
    assert not own[0]
    places = inside_places(tessellate(face, 0.05), 200) + np.random.default_rng(2).normal(size=(200, 3)) * 0.4
    feet, normals, _, known = exact.feet(np.zeros(200, int), places)
    surface = BRep_Tool.Surface_s(face)
    away = np.linalg.norm(feet - places, axis=1)
    true = np.array([GeomAPI_ProjectPointOnSurf(gp_Pnt(*p), surface).LowerDistance() for p in places.tolist()])
    inner = known & (np.abs(np.einsum("ij,ij->i", feet - places, normals)) > away - 1e-9)  # not at the surface's ends
    assert inner.sum() > 100
    assert away[inner] == pytest.approx(true[inner], abs=1e-6)


def test_mirrored_surfaces_keep_looking_out():
    """A copy mirrored in x: distances and outward normals are the mirrored ones."""
    faces, _ = exact_faces(list_faces(modelling.lens_mould_insert()))
    turn = np.diag([-1.0, 1.0, 1.0])
    free = int(np.flatnonzero(faces.kinds == 5)[0])
    places = np.array([[3.0, 4.0, 20.0], [-12.0, 9.0, 19.0]])
    numbers = np.full(2, free)
    feet, normals, _, _ = faces.feet(numbers, places)
    other, turned, _, _ = faces.moved(turn, np.array([7.0, 0, 0])).feet(numbers, places @ turn + [7.0, 0, 0])
    assert other == pytest.approx(feet @ turn + [7.0, 0, 0], abs=1e-9)
    assert turned == pytest.approx(normals @ turn, abs=1e-9)


def test_bounds_in_a_turned_frame():
    """The box of a free-form part against that of very fine triangles (Open CASCADE's own errs by 5 mm here)."""
    shape = modelling.lens_mould_insert()
    fine = tessellate(shape, 0.001)
    for up in (0, 0, 1), (1, 2, 3), (-2, 1, 0.3):
        frame = frame_with_up(np.array(up, float))
        assert bounds_of(shape, frame) == pytest.approx(fine.in_frame(frame).bounds(), abs=1.5e-3)


def test_the_box_of_a_bowl_reaches_its_lowest_place():
    """z = (x² + y²) / 40 over a square of 20: the lowest place is in the middle, far from every edge."""
    poles = Array2_gp_Pnt(1, 3, 1, 3)
    for i, x in enumerate((-10.0, 0.0, 10.0)):
        for j, y in enumerate((-10.0, 0.0, 10.0)):
            height = (100 if i != 1 else -100) + (100 if j != 1 else -100)
            poles.SetValue(i + 1, j + 1, gp_Pnt(x, y, height / 40))
    bowl = BRepBuilderAPI_MakeFace(Geom_BezierSurface(poles), 1e-7).Face()
    assert bounds_of(bowl) == pytest.approx(np.array([[-10, -10, 0], [10, 10, 5.0]]), abs=1e-6)

"""Points and derivatives of surfaces against Open CASCADE's own evaluation of the same faces."""

import numpy as np
import pytest
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepBuilderAPI import BRepBuilderAPI_NurbsConvert
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCone,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakeSphere,
    BRepPrimAPI_MakeTorus,
)
from OCP.GeomAbs import GeomAbs_SurfaceType as Kind
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Vec

from fenrik.core.solids._surface_kernels import spline_at, start_on, turned_at
from fenrik.core.solids.describe import list_faces
from fenrik.core.solids.exact import exact_faces

AXES = gp_Ax2(gp_Pnt(3, -2, 7), gp_Dir(0.4, -0.3, 1))
SOLIDS = {
    "plane": lambda: BRepPrimAPI_MakeBox(AXES, 20.0, 30.0, 10.0).Shape(),
    "cylinder": lambda: BRepPrimAPI_MakeCylinder(AXES, 8.0, 30.0).Shape(),
    "cone": lambda: BRepPrimAPI_MakeCone(AXES, 12.0, 4.0, 20.0).Shape(),
    "sphere": lambda: BRepPrimAPI_MakeSphere(AXES, 15.0).Shape(),
    "torus": lambda: BRepPrimAPI_MakeTorus(AXES, 20.0, 6.0).Shape(),
}
KINDS = {
    "plane": Kind.GeomAbs_Plane,
    "cylinder": Kind.GeomAbs_Cylinder,
    "cone": Kind.GeomAbs_Cone,
    "sphere": Kind.GeomAbs_Sphere,
    "torus": Kind.GeomAbs_Torus,
}


def adaptors(shape, kind):
    return [(f, a) for f in list_faces(shape) if (a := BRepAdaptor_Surface(f, True)).GetType() == kind]


def second_order(adaptor, u, v):
    """Point, first and second derivatives of Open CASCADE, (6, 3): S, Su, Sv, Suu, Suv, Svv."""
    p, vectors = gp_Pnt(), [gp_Vec() for _ in range(5)]
    du, dv, duu, dvv, duv = vectors
    adaptor.D2(u, v, p, du, dv, duu, dvv, duv)
    return np.array([x.Coord() for x in (p, du, dv, duu, duv, dvv)])


def inner(adaptor, rng, n=12):
    u = rng.uniform(adaptor.FirstUParameter(), adaptor.LastUParameter(), n)
    v = rng.uniform(adaptor.FirstVParameter(), adaptor.LastVParameter(), n)
    return zip(u, v, strict=True)


@pytest.mark.parametrize("name", SOLIDS)
def test_a_place_of_a_face_is_found_again_by_its_parameters(name):
    """`start_on` gives parameters, `turned_at` the same place from them, on the surface that Open CASCADE has there."""
    rng = np.random.default_rng(1)
    for face, adaptor in adaptors(SOLIDS[name](), KINDS[name]):
        tables = exact_faces([face])[0].tables
        for u, v in inner(adaptor, rng):
            place = np.array(adaptor.Value(u, v).Coord())
            uv, out = np.zeros(2), np.zeros((8, 3))
            turn = start_on(*tables[:4], 0, place, uv)
            turned_at(*tables[:4], 0, turn, uv[0], uv[1], out)
            assert out[0] == pytest.approx(place, abs=1e-9)
            normal, own = np.cross(out[1], out[2]), second_order(adaptor, u, v)
            there = np.cross(own[1], own[2])
            assert abs(normal @ there) == pytest.approx(np.linalg.norm(normal) * np.linalg.norm(there), rel=1e-9)
            if name == "sphere":
                # The poles of its parameters are out of the way.
                assert np.linalg.norm(normal) > 15.0**2 * 0.5


@pytest.mark.parametrize("name", SOLIDS)
def test_derivatives_are_those_of_the_places(name):
    """Central differences of the places themselves."""
    rng, step = np.random.default_rng(2), 1e-4
    for face, adaptor in adaptors(SOLIDS[name](), KINDS[name])[:2]:
        tables = exact_faces([face])[0].tables

        def at(u, v, turn, tables=tables):
            out = np.zeros((8, 3))
            turned_at(*tables[:4], 0, turn, u, v, out)
            return out[:6].copy()

        for u, v in inner(adaptor, rng, 5):
            uv = np.zeros(2)
            turn = start_on(*tables[:4], 0, np.array(adaptor.Value(u, v).Coord()), uv)
            u, v = uv
            here = at(u, v, turn)
            east, west, north, south = (
                at(u + a * step, v + b * step, turn) for a, b in ((1, 0), (-1, 0), (0, 1), (0, -1))
            )
            assert (east[0] - west[0]) / (2 * step) == pytest.approx(here[1], abs=1e-6)
            assert (north[0] - south[0]) / (2 * step) == pytest.approx(here[2], abs=1e-6)
            assert (east[1] - west[1]) / (2 * step) == pytest.approx(here[3], abs=1e-6)
            assert (north[1] - south[1]) / (2 * step) == pytest.approx(here[4], abs=1e-6)
            assert (north[2] - south[2]) / (2 * step) == pytest.approx(here[5], abs=1e-6)


@pytest.mark.parametrize("name", ["cylinder", "cone", "sphere", "torus"])
def test_rational_splines_have_the_derivatives_that_open_cascade_has(name):
    rng = np.random.default_rng(3)
    shape = BRepBuilderAPI_NurbsConvert(SOLIDS[name]()).Shape()
    found = adaptors(shape, Kind.GeomAbs_BSplineSurface)
    assert found
    for face, adaptor in found:
        surfaces, own = exact_faces([face])
        assert own.all()
        for u, v in inner(adaptor, rng):
            out = np.zeros((6, 3))
            spline_at(surfaces.grids[0], surfaces.poles, surfaces.knots, u, v, out)
            assert out == pytest.approx(second_order(adaptor, u, v), abs=1e-7)

"""Measuring against closed forms."""

import math

import numpy as np
import pytest
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

from fenrik.core.errors import FenrikError
from fenrik.core.solids import read_solid
from fenrik.core.solids.measuring import Spot, measure_between, measure_one, wall_thickness
from fenrik.core.solids.reading import solid_from_shape
from fenrik.core.solids.writing import write_solid
from parts import box, cut, cylinder, fuse


@pytest.fixture(scope="module")
def solid():
    """A block 60 × 40 × 20 with two ⌀6 bores 30 apart; a ramp of 30° cut off one end."""
    return solid_from_shape(cut(box(0, 0, 0, 60, 40, 20), cylinder(15, 20, -1, 3, 30), cylinder(45, 20, -1, 3, 30)))


def face(solid, **wanted):
    return next(
        i
        for i, f in enumerate(solid.faces)
        if all(np.allclose(getattr(f, k), v, atol=1e-6) if k != "kind" else f.kind == v for k, v in wanted.items())
    )


def test_one_face_and_one_edge(solid):
    bore = face(solid, kind="cylinder", origin=(15, 20, solid.faces[face(solid, kind="cylinder")].origin[2]))
    one = measure_one(Spot(solid, face=bore, place=(18, 20, 10)))
    assert one.get("radius") == pytest.approx(3)
    assert one.get("area") == pytest.approx(2 * math.pi * 3 * 20)
    assert one.get("wall thickness") == pytest.approx(math.hypot(45 - 3 - 18, 0))  # straight across to the other bore
    rim = next(i for i, e in enumerate(solid.edges) if e.kind == "circle")
    edge = measure_one(Spot(solid, edge=rim))
    assert edge.get("length") == pytest.approx(6 * math.pi)
    assert edge.get("arc") == pytest.approx(360)
    assert measure_one(Spot(place=(1, 2, 3))).get("Y") == 2
    with pytest.raises(FenrikError, match="nothing to measure"):
        measure_one(Spot())


def test_between_faces_axes_and_places(solid):
    bores = [i for i, f in enumerate(solid.faces) if f.kind == "cylinder"]
    between = measure_between(Spot(solid, face=bores[0]), Spot(solid, face=bores[1]))
    assert between.get("between centres") == pytest.approx(30)
    assert between.get("distance") == pytest.approx(24)
    assert between.get("angle") == pytest.approx(0, abs=1e-6)
    top, side = face(solid, kind="plane", normal=(0, 0, 1)), face(solid, kind="plane", normal=(1, 0, 0))
    assert measure_between(Spot(solid, face=top), Spot(solid, face=side)).get("angle") == pytest.approx(90)
    place = measure_between(Spot(solid, face=top), Spot(place=(10, 10, 27.5)))
    assert place.get("along the first normal") == pytest.approx(7.5)
    assert place.get("distance") == pytest.approx(7.5)
    assert place.line[1] == (10, 10, 27.5)


def test_skew_cylinders():
    one = solid_from_shape(BRepPrimAPI_MakeCylinder(2.0, 50.0).Shape())
    other = solid_from_shape(BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(-20, 11, 20), gp_Dir(1, 0, 0)), 3.0, 60.0).Shape())
    a, b = (next(i for i, f in enumerate(s.faces) if f.kind == "cylinder") for s in (one, other))
    measured = measure_between(Spot(one, face=a), Spot(other, face=b))
    assert measured.get("distance") == pytest.approx(11 - 5)
    assert measured.get("angle") == pytest.approx(90)


def test_wall_of_a_tube_and_of_a_mesh():
    tube = solid_from_shape(cut(cylinder(0, 0, 0, 10, 30), cylinder(0, 0, -1, 8.5, 40)))
    outer = next(i for i, f in enumerate(tube.faces) if f.kind == "cylinder" and not f.concave)
    thickness, through = wall_thickness(tube, outer, (10 / math.sqrt(2), 10 / math.sqrt(2), 12))
    assert thickness == pytest.approx(1.5)
    assert math.hypot(*through[:2]) == pytest.approx(8.5)
    mesh = read_solid(write_solid(solid_from_shape(BRepPrimAPI_MakeBox(10.0, 20.0, 30.0).Shape()), ".stl"), "a.stl")
    top = next(i for i, f in enumerate(mesh.faces) if f.normal[2] > 0.9)
    assert wall_thickness(mesh, top, (5, 5, 30))[0] == pytest.approx(30, rel=1e-5)
    bottom = next(i for i, f in enumerate(mesh.faces) if f.normal[2] < -0.9)
    assert measure_between(Spot(mesh, face=top), Spot(mesh, face=bottom)).get("distance") == pytest.approx(30)


def test_a_part_and_what_stands_beside_it():
    part, jaw = solid_from_shape(box(0, 0, 0, 10, 10, 10)), solid_from_shape(fuse(box(12.5, 0, 0, 5, 10, 10)))
    a = next(i for i, f in enumerate(part.faces) if f.normal[0] > 0.9)
    b = next(i for i, f in enumerate(jaw.faces) if f.normal[0] < -0.9)
    assert measure_between(Spot(part, face=a), Spot(jaw, face=b)).get("along X") == pytest.approx(2.5)

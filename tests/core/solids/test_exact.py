"""Exact surfaces as arrays: feet against Open CASCADE's projection, and what stays when they are moved or joined."""

import numpy as np
import pytest
from OCP.BRep import BRep_Tool
from OCP.BRepBuilderAPI import BRepBuilderAPI_NurbsConvert
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCone,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakeSphere,
    BRepPrimAPI_MakeTorus,
)
from OCP.GeomAPI import GeomAPI_ProjectPointOnSurf
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from scipy.spatial.transform import Rotation

from fenrik.core.frames import Frame
from fenrik.core.solids.describe import list_faces
from fenrik.core.solids.exact import ExactFaces, exact_faces, turned_out
from fenrik.core.solids.tessellate import tessellate

AXES = gp_Ax2(gp_Pnt(1, 2, -3), gp_Dir(0.2, 0.5, 1))
SHAPES = {
    "box": BRepPrimAPI_MakeBox(AXES, 20.0, 30.0, 10.0).Shape(),
    "cylinder": BRepPrimAPI_MakeCylinder(AXES, 8.0, 30.0).Shape(),
    "cone": BRepPrimAPI_MakeCone(AXES, 12.0, 4.0, 20.0).Shape(),
    "sphere": BRepPrimAPI_MakeSphere(AXES, 15.0).Shape(),
    "torus": BRepPrimAPI_MakeTorus(AXES, 20.0, 6.0).Shape(),
    "spline": BRepBuilderAPI_NurbsConvert(BRepPrimAPI_MakeTorus(AXES, 20.0, 6.0).Shape()).Shape(),
}


@pytest.fixture(params=SHAPES)
def shape(request):
    return SHAPES[request.param]


def near(shape, n=40, off=1.5):
    """Places near the faces of a shape, the face of each, and the parameters of its triangle."""
    mesh = tessellate(shape, 0.05)
    rng = np.random.default_rng(4)
    rows = rng.choice(len(mesh.triangles), n)
    places = mesh.corners()[rows].mean(axis=1) + rng.uniform(-off, off, (n, 3))
    starts = np.zeros((n, 2)) if mesh.parameters is None else mesh.parameters[rows].mean(axis=1)
    return places, mesh.face_ids[rows], starts


def test_feet_are_those_of_open_cascade(shape):
    faces = list_faces(shape)
    surfaces, _ = exact_faces(faces)
    places, numbers, starts = near(shape)
    feet, normals, _, known = surfaces.feet(numbers, places, starts)
    assert known.all()
    for place, number, foot, normal in zip(places, numbers, feet, normals, strict=True):
        found = GeomAPI_ProjectPointOnSurf(gp_Pnt(*place), BRep_Tool.Surface_s(faces[number]))
        away = np.linalg.norm(place - foot)
        assert away == pytest.approx(found.LowerDistance(), abs=1e-7)
        if away > 1e-3:
            assert abs(normal @ (place - foot)) == pytest.approx(away, rel=1e-6)


def test_senses_are_those_of_the_triangles(shape):
    """A step along the outward normal leads away from the middle of each of these convex (or tubular) bodies."""
    mesh = tessellate(shape, 0.05)
    corners = mesh.corners()
    outward = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    starts = np.zeros((len(corners), 2)) if mesh.parameters is None else mesh.parameters.mean(axis=1)
    surfaces = turned_out(exact_faces(list_faces(shape))[0], mesh.face_ids, corners.mean(axis=1), outward, starts)
    _, normals, _, _ = surfaces.feet(mesh.face_ids, corners.mean(axis=1), starts)
    # Across the seam of a spline the middle of a triangle's parameters is elsewhere: those few do not count.
    assert np.mean(np.einsum("ij,ij->i", normals, outward) > 0) > 0.98


@pytest.mark.parametrize("mirror", [False, True])
def test_moved_surfaces_have_moved_feet(shape, mirror):
    """The foot of a moved place is the moved foot, for a turn about any axis, mirrored too."""
    surfaces, _ = exact_faces(list_faces(shape))
    places, numbers, starts = near(shape)
    turn = Rotation.from_rotvec([0.4, -1.1, 0.7]).as_matrix() @ np.diag([1, 1, -1.0 if mirror else 1.0])
    shift = np.array([30.0, -4, 9])
    before, normals, _, _ = surfaces.feet(numbers, places, starts)
    after, moved, _, known = surfaces.moved(turn, shift).feet(numbers, places @ turn.T + shift, starts)
    assert known.all()
    assert after == pytest.approx(before @ turn.T + shift, abs=1e-6)
    # An outward normal stays one.
    assert moved == pytest.approx(normals @ turn.T, abs=1e-5)


def test_in_a_frame_and_back(shape):
    surfaces, _ = exact_faces(list_faces(shape))
    places, numbers, starts = near(shape)
    frame = Frame(origin=np.array([3.0, 4, 5]), rotation=Rotation.from_euler("xyz", [0.3, 0.2, -0.9]).as_matrix())
    feet, *_ = surfaces.in_frame(frame).feet(numbers, frame.to_local(places), starts)
    assert frame.to_part(feet) == pytest.approx(surfaces.feet(numbers, places, starts)[0], abs=1e-6)


def test_joined_surfaces_are_asked_by_their_numbers_one_after_another():
    shapes = [*SHAPES.values(), SHAPES["spline"], SHAPES["torus"]]
    parts = [exact_faces(list_faces(s))[0] for s in shapes]
    joined = ExactFaces.joined(parts)
    assert len(joined) == sum(len(p) for p in parts)
    first = 0
    for part, shape in zip(parts, shapes, strict=True):
        places, numbers, starts = near(shape, 10)
        own, _, _, _ = part.feet(numbers, places, starts)
        among, _, _, known = joined.feet(numbers + first, places, starts)
        assert known.all()
        assert among == pytest.approx(own, abs=1e-9)
        first += len(part)
    assert ExactFaces.joined(parts[:1]) is parts[0]

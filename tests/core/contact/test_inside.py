"""Quick looks along rays against exact distances: what is deep inside is never missed."""

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeSphere
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

from fenrik.core.contact.distance import DistanceIndex, signed_distances
from fenrik.core.solids.tessellate import tessellate


@pytest.fixture(scope="module")
def index():
    block = BRepPrimAPI_MakeBox(30.0, 20.0, 10.0).Shape()
    drilled = BRepAlgoAPI_Cut(block, BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(9, 9, -1), gp_Dir(0, 0, 1)), 4, 20).Shape())
    domed = BRepAlgoAPI_Fuse(drilled.Shape(), BRepPrimAPI_MakeSphere(gp_Pnt(22, 10, 8), 6.0).Shape()).Shape()
    return DistanceIndex.build(tessellate(domed, 0.005))


def test_no_place_that_lies_deeper_is_missed_and_most_others_are_left_out(index):
    rng = np.random.default_rng(5)
    places = rng.uniform([-3, -3, -3], [33, 23, 17], (20_000, 3))
    normals = rng.normal(size=(20_000, 3))
    normals /= np.linalg.norm(normals, axis=1)[:, None]
    depth = -signed_distances(index, places).mm
    may = index.rays.may_be_deeper(places, normals, 0.05)
    assert not np.any((depth > 0.05) & ~may)
    assert not np.any((depth < -0.02) & may)


def test_places_on_the_surface_are_left_out_and_those_just_too_deep_are_not(index):
    rng = np.random.default_rng(6)
    mesh = index.mesh
    corners = mesh.vertices[mesh.triangles[rng.integers(len(mesh.triangles), size=4000)]]
    share = rng.dirichlet([1, 1, 1], 4000)
    places = np.einsum("nk,nkj->nj", share, corners)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.linalg.norm(normal, axis=1)[:, None]
    assert index.rays.may_be_deeper(places, normal, 0.05).mean() < 0.01
    deep = places - 0.2 * normal
    too_deep = -signed_distances(index, deep).mm > 0.05
    assert index.rays.may_be_deeper(deep, normal, 0.05)[too_deep].all()

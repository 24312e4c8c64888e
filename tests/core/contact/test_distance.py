"""Signed distances: triangles against trimesh, exact faces against closed forms and Open CASCADE's own extrema."""

import itertools

import numpy as np
import pytest
import trimesh
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeVertex, BRepBuilderAPI_NurbsConvert
from OCP.BRepClass3d import BRepClass3d_SolidClassifier
from OCP.BRepExtrema import BRepExtrema_DistShapeShape
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCone,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakeSphere,
    BRepPrimAPI_MakeTorus,
)
from OCP.collections import Array2_gp_Pnt
from OCP.Geom import Geom_BezierSurface
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from OCP.TopAbs import TopAbs_IN, TopAbs_SHELL, TopAbs_SOLID

from fenrik.core.contact.distance import DistanceIndex, signed_distances
from fenrik.core.solids.describe import list_faces, list_shapes
from fenrik.core.solids.exact import exact_faces
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.reading import mesh_at
from fenrik.core.solids.tessellate import tessellate
from fenrik.demo import modelling
from solids import frustum, random_solid, rectangle

COARSE_MM = 0.5


def index_of(shape, deflection_mm=COARSE_MM):
    return DistanceIndex.build(tessellate(shape, deflection_mm), exact_faces(list_faces(shape))[0])


def places_near(mesh, count, off_mm, seed=0, pull=1.0):
    """Places about a mesh; `pull` under 1 draws them to the sides and corners of triangles."""
    rng = np.random.default_rng(seed)
    corners = mesh.corners()
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    rows = rng.choice(len(corners), count, p=np.sqrt(area) / np.sqrt(area).sum())
    shares = rng.dirichlet([pull] * 3, count)
    return np.einsum("ij,ijk->ik", shares, corners[rows]) + rng.normal(size=(count, 3)) * rng.choice(off_mm, (count, 1))


def paraboloid(focal_mm, half_mm):
    """z = (x² + y²) / 4 f over a square, as a Bézier surface of degree 2, which is exact."""
    poles = Array2_gp_Pnt(1, 3, 1, 3)
    ends = (-half_mm, 0.0, half_mm)
    heights = (half_mm**2, -(half_mm**2), half_mm**2)  # Bézier ordinates of t² on −half … half
    for i in range(3):
        for j in range(3):
            poles.SetValue(i + 1, j + 1, gp_Pnt(ends[i], ends[j], (heights[i] + heights[j]) / (4 * focal_mm)))
    return BRepBuilderAPI_MakeFace(Geom_BezierSurface(poles), 1e-7).Face()


def to_paraboloid(points, focal_mm):
    """Distance to the paraboloid: the foot at radius s solves s³ / 8 f² + s (1 − z / 2 f) = r."""
    found = []
    for x, y, z in points:
        r = np.hypot(x, y)
        roots = np.roots([1 / (8 * focal_mm**2), 0, 1 - z / (2 * focal_mm), -r])
        s = roots[np.abs(roots.imag) < 1e-9].real
        away = np.hypot(s - r, s * s / (4 * focal_mm) - z)
        found.append(away.min() * np.sign(z - r * r / (4 * focal_mm)))
    return np.array(found)


ROUND = {
    "sphere": (BRepPrimAPI_MakeSphere(500.0).Shape, lambda p: np.linalg.norm(p, axis=1) - 500),
    "torus": (
        BRepPrimAPI_MakeTorus(400.0, 100.0).Shape,
        lambda p: np.hypot(np.hypot(p[:, 0], p[:, 1]) - 400, p[:, 2]) - 100,
    ),
}


@pytest.mark.parametrize("as_spline", [False, True])
@pytest.mark.parametrize("name", ROUND)
def test_a_metre_from_coarse_triangles_is_exact(name, as_spline):
    make, true = ROUND[name]
    shape = BRepBuilderAPI_NurbsConvert(make()).Shape() if as_spline else make()
    index = index_of(shape)
    assert index.mesh.deflection_mm > 0.2
    points = places_near(index.mesh, 20_000, [1e-3, 0.1, 3.0])
    got = signed_distances(index, points)
    assert np.abs(got.mm - true(points)).max() < 1e-3
    assert np.median(got.bound_mm) < 0.01


def test_a_metre_of_free_form_from_coarse_triangles_is_exact():
    index = index_of(paraboloid(600.0, 500.0))
    points = places_near(index.mesh, 4_000, [1e-3, 0.1, 3.0])
    inner = points[np.all(np.abs(points[:, :2]) < 480, axis=1)]
    got = signed_distances(index, inner)
    assert np.abs(got.mm - to_paraboloid(inner, 600.0)).max() < 1e-3


def brute(shape, points):
    """Signed distances from Open CASCADE: extrema to the shells, and whether a point is inside. Its classifier errs
    within 2 µm of free-form faces; so near, the closed forms above hold the sign."""
    shells = list_shapes(shape, TopAbs_SHELL)
    found = []
    for p in points.tolist():
        vertex = BRepBuilderAPI_MakeVertex(gp_Pnt(*p)).Vertex()
        away = min(BRepExtrema_DistShapeShape(shell, vertex).Value() for shell in shells)
        inside = BRepClass3d_SolidClassifier(shape, gp_Pnt(*p), 1e-9).State() == TopAbs_IN
        found.append(-away if inside else away)
    return np.array(found)


def apart(got, true):
    """Errors of signed distances, but for the sign where Open CASCADE cannot be trusted with it."""
    return np.where(np.abs(true) > 2e-3, np.abs(got - true), np.abs(np.abs(got) - np.abs(true)))


@pytest.mark.parametrize("make", [modelling.lantern_bracket, modelling.lens_mould_insert])
def test_edges_corners_and_fillets_are_exact(make):
    """Places drawn to borders, where one face ends and another begins; triangles off by 0.016 mm."""
    shape = make()
    index = index_of(shape, 0.016)
    points = places_near(index.mesh, 300, [1e-3, 0.1, 3.0], pull=0.3)
    got, true = signed_distances(index, points), brute(shape, points)
    assert apart(got.mm, true).max() < 2e-4
    assert np.all(apart(got.mm, true) <= got.bound_mm)


def body(kind, place, axis, radius):
    if kind == 0:
        return BRepPrimAPI_MakeCylinder(axis, radius, 60.0)
    if kind == 1:
        return BRepPrimAPI_MakeCone(axis, radius, radius / 3, 40.0)
    return BRepPrimAPI_MakeSphere(place, radius) if kind == 2 else BRepPrimAPI_MakeTorus(axis, radius + 6, 4.0)


def chance(seed):
    """A block with cylinders, cones, spheres and tori cut out or put on, anywhere and in any direction."""
    rng = np.random.default_rng(seed)
    shape = BRepPrimAPI_MakeBox(*rng.uniform(20, 60, 3).tolist()).Shape()
    for _ in range(int(rng.integers(2, 5))):
        place, radius = gp_Pnt(*rng.uniform(0, 40, 3).tolist()), float(rng.uniform(4, 12))
        axis = gp_Ax2(place, gp_Dir(*rng.normal(size=3).tolist()))
        join = BRepAlgoAPI_Cut if rng.random() < 0.7 else BRepAlgoAPI_Fuse
        shape = join(shape, body(int(rng.integers(0, 4)), place, axis, radius).Shape()).Shape()
    return list_shapes(shape, TopAbs_SOLID)[0]


@pytest.mark.parametrize("seed", range(8))
def test_solids_of_chance_are_exact_within_the_bound(seed):
    shape = chance(seed)
    index = index_of(shape, 0.016)
    points = places_near(index.mesh, 120, [1e-3, 0.1, 3.0], seed=seed, pull=0.5)
    got, true = signed_distances(index, points), brute(shape, points)
    assert np.all(apart(got.mm, true) <= got.bound_mm + 1e-6)
    assert np.median(apart(got.mm, true)) < 1e-6


def test_the_bound_holds_far_from_triangles_that_stand_off():
    shape = modelling.lantern_bracket()
    index = index_of(shape)
    points = places_near(index.mesh, 300, [1e-3, 0.1, 3.0], pull=0.3)
    got, true = signed_distances(index, points), brute(shape, points)
    assert np.all(apart(got.mm, true) <= got.bound_mm)
    # The triangles alone are far worse.
    assert np.abs(signed_distances(DistanceIndex.build(index.mesh), points).mm - true).max() > 0.05


def test_closed_form_and_sign(pocket):
    index = DistanceIndex.build(pocket.mesh)
    points = np.array([[5, 5, 25.0], [5, 5, 19], [30, 20, 11], [30, 20, 9], [-3, -4, 10], [12, 20, 15], [63, 44, 20]])
    assert signed_distances(index, points).mm == pytest.approx([5, -1, 1, -1, 5, 2, 5])


def test_triangles_against_trimesh(dish):
    mesh = mesh_at(dish, 0.05)
    general = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
    points = np.random.default_rng(3).uniform(-5, 55, (300, 3))
    _, expected, _ = trimesh.proximity.closest_point_naive(general, points)
    got = signed_distances(DistanceIndex.build(mesh), points).mm
    assert np.abs(np.abs(got) - expected).max() < 1e-9
    inside = np.all((points > [0, 0, 0]) & (points < [50, 40, 20]), axis=1)
    in_dish = np.linalg.norm(points - [25, 20, 42], axis=1) < 30
    clear = np.abs(got) > 0.1
    assert np.array_equal((got < 0)[clear], (inside & ~in_dish)[clear])


def strips():
    """A square half covered by long thin triangles from one corner, and many that are one and the same."""
    side = np.linspace(0, 100, 120)
    fans = [[[0.0, 0, 0], [a, 100, 0], [b, 100, 0]] for a, b in itertools.pairwise(side)]
    same = [[[50.0, 50, 3], [60, 50, 3], [50, 60, 3]]] * 300
    return np.array([*fans, *same, *(np.array(same[:1]) + [0, 0, 8.0])])


def test_long_and_equal_triangles_against_all_of_them():
    corners = strips()
    n = len(corners)
    mesh = Mesh(corners.reshape(-1, 3), np.arange(3 * n, dtype=np.int32).reshape(n, 3), np.zeros(n, np.int32))
    points = np.random.default_rng(2).uniform([-10, -10, -9], [110, 110, 15], (300, 3))
    _, expected, _ = trimesh.proximity.closest_point_naive(
        trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False), points
    )
    assert np.abs(np.abs(signed_distances(DistanceIndex.build(mesh), points).mm) - expected).max() < 1e-9


def needle():
    """A thin four-sided needle on a plate: under its tip the most square face looks the wrong way."""
    tip = [0.0, 0.0, 0.0]
    base = [[-1.0, -1.0, -9.0], [1.0, -1.0, -9.0], [1.0, 1.0, -9.0], [-1.0, 1.0, -9.0]]
    triangles = [[0, 1, 2], [0, 2, 3], [0, 3, 4], [0, 4, 1], [1, 3, 2], [1, 4, 3]]
    return Mesh(np.array([tip, *base]), np.array(triangles, np.int32), np.zeros(6, np.int32))


def test_signs_at_sharp_tips_and_edges():
    """Places that are closest to a corner or edge are outside; no single triangle says so (pseudonormals do)."""
    rng = np.random.default_rng(1)
    above = rng.normal(size=(2000, 3)) * 0.5
    above[:, 2] = np.abs(above[:, 2]) + np.hypot(above[:, 0], above[:, 1])
    assert np.all(signed_distances(DistanceIndex.build(needle()), above).mm > 0)


def test_an_open_mesh_says_what_it_does_not_know(pocket):
    """Without its top face nobody can say what is inside near the rim; elsewhere nothing is lost."""
    mesh = pocket.mesh
    top = np.flatnonzero(np.all(np.abs(mesh.corners()[:, :, 2] - 20) < 1e-9, axis=1))
    keep = np.ones(len(mesh.triangles), bool)
    keep[top] = False
    index = DistanceIndex.build(mesh.rows(keep))
    points = np.array([[5, 5, 20.5], [5, 5, 19.0], [30, 20, 9], [30, 20, 11], [-3, 20, 10]])
    got = signed_distances(index, points)
    assert got.known.tolist() == [False, True, True, True, True] or got.known.tolist() == [
        False,
        False,
        True,
        True,
        True,
    ]
    assert got.mm[2:] == pytest.approx([-1, 1, 3])


def test_a_sharp_corner_has_its_sign_however_finely_one_side_is_divided():
    """A blade's corner, one side split into forty triangles there: counted one by one they would outvote the other.

    J. A. Bærentzen, H. Aanæs, "Signed distance computation using the angle weighted pseudonormal" (2005).
    """
    left, right, low = np.array([-1.0, -0.05, -1]), np.array([1.0, -0.05, -1]), np.array([0.0, 0.15, -1])
    apex, many = np.zeros(3), 40
    fan = np.linspace(left, right, many + 1)
    vertices = np.vstack([apex, low, fan])
    first = 2
    triangles = [[0, first + k, first + k + 1] for k in range(many)]
    triangles += [[1, first + k + 1, first + k] for k in range(many)]
    triangles += [[0, first + many, 1], [0, 1, first]]
    mesh = Mesh(vertices, np.array(triangles, np.int32), np.zeros(len(triangles), np.int32))
    assert trimesh.Trimesh(vertices, triangles, process=False).is_watertight
    if trimesh.Trimesh(vertices, triangles, process=False).volume < 0:
        mesh = Mesh(vertices, np.array(triangles, np.int32)[:, ::-1], mesh.face_ids)
    corners = mesh.corners()
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    at_apex = np.any(np.all(mesh.corners() == 0, axis=2), axis=1)
    # Places that the apex is nearest to: sums of the normals of its faces.
    rng = np.random.default_rng(1)
    shares = rng.dirichlet(np.full(at_apex.sum(), 0.05), 400)
    places = 0.01 * shares @ normals[at_apex]
    found = signed_distances(DistanceIndex.build(mesh), places)
    assert np.all(found.mm > 0)


def test_beside_a_corner_of_lofted_faces_outside_is_outside():
    # The sides of this frustum are surfaces that end at its rims: asked past them they said nothing, and places beside a
    # corner were taken for inside. Open CASCADE's classifier is the reference.
    shape = BRepAlgoAPI_Fuse(
        frustum(rectangle(26, 13), rectangle(24, 11), 0, 13), modelling.box(11, -4, 2, 6, 8, 8)
    ).Shape()
    index, fine = index_of(shape, 0.016), tessellate(shape, 0.002)
    corners = np.array([[x, y, 0.05] for x in (-13.06, 13.06) for y in np.linspace(-6.6, 6.6, 60)])
    points = np.vstack([places_near(fine, 1500, [0.08]), corners])
    found = signed_distances(index, points)
    classifier = BRepClass3d_SolidClassifier(shape)
    wrong = []
    for point, mm, bound in zip(points, found.mm, found.bound_mm, strict=True):
        classifier.Perform(gp_Pnt(*point), 1e-7)
        if (mm < 0) != (classifier.State() == TopAbs_IN) and abs(mm) > bound + 1e-6:
            wrong.append((point, mm))
    assert wrong == []


def test_over_the_rim_of_a_leaning_lofted_wall_outside_is_outside():
    # Walls that widen upwards end at the rim: the nearest place of their surfaces is not square under a place over it.
    shape = frustum(rectangle(24, 11), rectangle(26, 13), 0, 13)
    index = index_of(shape, 0.016)
    shares = np.linspace(-0.97, 0.97, 41)
    rim = np.vstack(
        [np.column_stack([13 * shares, 0 * shares + 6.5]), np.column_stack([0 * shares + 13.0, 6.5 * shares])]
    )
    out = np.vstack([np.tile([0.0, 1.0], (41, 1)), np.tile([1.0, 0.0], (41, 1))])
    for beside, over in ((0.001, 0.2), (0.01, 0.2), (0.3, 1.0), (0.02, 9.0)):
        places = np.column_stack([rim + beside * out, np.full(len(rim), 13.0 + over)])
        assert signed_distances(index, places).mm == pytest.approx(np.hypot(beside, over), abs=1e-3)


def test_past_the_end_of_a_bore_outside_is_outside():
    # Over the knife edge between two bores that meet, the foot on one of them lies past its end, and said inside.
    shape = random_solid(49).shape
    index, classifier = index_of(shape, 0.016), BRepClass3d_SolidClassifier(shape)
    places = np.array([-15.569, -16.348, 18.625]) + np.random.default_rng(3).uniform(-0.5, 0.5, (400, 3))
    found = signed_distances(index, places)
    for place, mm, bound in zip(places, found.mm, found.bound_mm, strict=True):
        classifier.Perform(gp_Pnt(*place), 1e-7)
        assert (mm < 0) == (classifier.State() == TopAbs_IN) or abs(mm) <= bound + 1e-6
        exact = BRepExtrema_DistShapeShape(BRepBuilderAPI_MakeVertex(gp_Pnt(*place)).Vertex(), shape).Value()
        assert abs(mm) == pytest.approx(exact, abs=bound + 1e-6)


def test_a_sliver_the_wrong_way_round_turns_no_side():
    # Where a bore just touches the side of a pocket, rounding leaves triangles thinner than a micrometre that look the
    # other way: places over them in the open pocket were taken for 1 mm of material. Open CASCADE says what is right.
    shape = random_solid(71).shape
    index, classifier = index_of(shape, 0.016), BRepClass3d_SolidClassifier(shape)
    spots = np.array([[-5.58979823, 6.14820183, 13.0749999], [-5.88979823, 6.18677694, 14.1249999]])
    places = (spots[:, None] + np.random.default_rng(71).uniform(-0.12, 0.12, (200, 3))).reshape(-1, 3)
    found = signed_distances(index, np.vstack([spots, places]))
    for place, mm, bound in zip([*spots, *places], found.mm, found.bound_mm, strict=True):
        classifier.Perform(gp_Pnt(*place), 1e-7)
        assert (mm < 0) == (classifier.State() == TopAbs_IN) or abs(mm) <= bound + 1e-6, (place, mm)

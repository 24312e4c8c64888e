"""Tools in any pose against triangles: distances and depths as `coal` finds them for fine polyhedra (an independent
collision library), pushes as the tip heights say and as distances confirm, sweeps as many single places say."""

import coal
import numpy as np
import pytest
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeSphere
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from scipy.spatial.transform import Rotation

from fenrik.core.contact import DropIndex, tip_heights
from fenrik.core.contact import _clearance_kernels as kernels
from fenrik.core.contact.clearance import Clearance, clearance, pushed
from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.errors import FenrikError
from fenrik.core.setups.stocks import box_mesh
from fenrik.core.solids.describe import list_faces
from fenrik.core.solids.exact import exact_faces
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.tessellate import tessellate
from fenrik.core.toolpath import Poses
from fenrik.core.tools.assembly import Assembly, assembly_of, cutting_profile
from fenrik.core.tools.contour import line_through
from fenrik.core.tools.cutters import BarrelCutter, DovetailCutter, FlatCutter, Lollipop
from fenrik.core.tools.model import Tool
from fenrik.core.tools.profile import Profile, bull_nose_profile, cone_profile, profile_of
from fenrik.core.tools.underside import undersides_of

FAR = 1e3
PROFILES = {
    "flat": bull_nose_profile(5, 0, 30),
    "ball": bull_nose_profile(5, 5, 30),
    "bull nose": bull_nose_profile(6, 1.5, 20),
    "cone": cone_profile(2, 9, 25),
    "narrowing": cone_profile(9, 4, 12).lifted(7),
    "barrel": cutting_profile(
        BarrelCutter(diameter_mm=10, flank_radius_mm=40, widest_at_mm=9, corner_radius_mm=2, flute_length_mm=22)
    ),
}


def near(index: DistanceIndex, poses: Poses, profile: Profile, enough_mm: float) -> Clearance:
    """One body alone."""
    (found,) = clearance(index, poses, Assembly(profile), enough_mm)
    return found


def terrain(seed: int = 1, n: int = 14, size: float = 60.0) -> Mesh:
    """A rough ground with walls, one sheet."""
    rng = np.random.default_rng(seed)
    x = np.linspace(-size / 2, size / 2, n)
    gx, gy = np.meshgrid(x, x, indexing="ij")
    z = rng.uniform(-6, 6, gx.shape) + 12 * (np.hypot(gx, gy) > 22)
    corner = np.arange(n * n).reshape(n, n)
    a, b, c, d = (corner[i : n - 1 + i, j : n - 1 + j].ravel() for i, j in ((0, 0), (1, 0), (1, 1), (0, 1)))
    triangles = np.vstack([np.column_stack([a, b, c]), np.column_stack([a, c, d])]).astype(np.int32)
    vertices = np.column_stack([gx.ravel(), gy.ravel(), z.ravel()])
    return Mesh(vertices, triangles, np.zeros(len(triangles), np.int32), 0.0)


def outline(profile: Profile, angle: float, step: float = FAR) -> np.ndarray:
    """Places (r, z) along the outline of one convex run: on arcs so far apart, on lines by steps of so much."""
    found = []
    for b in profile.bands:
        if b[4] == 0:
            share = np.linspace(0, 1, max(int(np.hypot(b[1] - b[0], b[3] - b[2]) / step), 1) + 1)[:, None]
            found.append(np.array([[b[2], b[0]]]) + share * np.array([[b[3] - b[2], b[1] - b[0]]]))
            continue
        low, high = (np.arcsin(np.clip((z - b[6]) / b[7], -1, 1)) for z in b[:2])
        turn = np.linspace(low, high, int((high - low) / angle) + 2)
        found.append(np.column_stack([b[5] + b[7] * np.cos(turn), b[6] + b[7] * np.sin(turn)]))
    return np.vstack(found)


def polyhedron(profile: Profile, sides: int = 200) -> coal.Convex:
    """A convex run as a body of the collision library, inscribed; off by 0.002 mm."""
    angle = np.linspace(0, 2 * np.pi, sides, endpoint=False)
    points = coal.StdVec_Vec3s()
    for r, z in outline(profile, 0.02):
        for a in angle if r > 1e-9 else angle[:1]:
            points.append(np.array([r * np.cos(a), r * np.sin(a), z]))
    return coal.Convex.convexHull(points, False, "")


def body_of(mesh: Mesh) -> coal.BVHModelOBBRSS:
    body = coal.BVHModelOBBRSS()
    body.beginModel(len(mesh.triangles), len(mesh.vertices))
    places, corners = coal.StdVec_Vec3s(), coal.StdVec_Triangle()
    for v in mesh.vertices:
        places.append(np.asarray(v, dtype=float))
    for t in mesh.triangles:
        corners.append(coal.Triangle(*map(int, t)))
    body.addSubModel(places, corners)
    body.endModel()
    return body


def placed(tip, axis) -> coal.Transform3s:
    turn = Rotation.align_vectors([axis], [[0, 0, 1]])[0].as_matrix()
    return coal.Transform3s(turn, np.asarray(tip, dtype=float))


def apart(ground: coal.BVHModelOBBRSS, tool: coal.Convex, at: coal.Transform3s) -> float:
    return coal.distance(
        ground, coal.Transform3s(), tool, at, coal.DistanceRequest(False, 0.0, 0.0), coal.DistanceResult()
    )


def random_axes(rng, n: int) -> np.ndarray:
    v = rng.normal(size=(n, 3))
    return v / np.linalg.norm(v, axis=1, keepdims=True)


@pytest.mark.parametrize("name", PROFILES)
def test_distances_in_any_pose_as_the_collision_library_has_them(name):
    rng = np.random.default_rng(3)
    mesh, profile = terrain(), PROFILES[name]
    tips = rng.uniform(-35, 35, (60, 3)) + np.array([0, 0, 25])
    axes = random_axes(rng, 60)
    got = near(DistanceIndex.build(mesh), Poses.tilted(tips, tips, axes), profile, FAR)
    ground, tool = body_of(mesh), polyhedron(profile)
    want = np.array([apart(ground, tool, placed(p, a)) for p, a in zip(tips, axes, strict=True)])
    clear = want > 0
    assert 15 < clear.sum() < 60
    assert np.allclose(got.mm[clear], want[clear], atol=0.004)
    assert (got.mm[~clear] <= 1e-6).all()


@pytest.mark.parametrize("name", PROFILES)
def test_depth_is_that_of_the_deepest_place(name):
    """Against places strewn over the triangles, and the distance of each to the sampled outline."""
    rng = np.random.default_rng(5)
    mesh, profile = terrain(2, 4), PROFILES[name]
    tips, axes = rng.uniform(-20, 20, (12, 3)), random_axes(rng, 12)
    got = near(DistanceIndex.build(mesh), Poses.tilted(tips, tips, axes), profile, FAR)
    share = rng.dirichlet(np.full(3, 0.8), (len(mesh.triangles), 3000))
    places = np.einsum("tsk,tkc->tsc", share, mesh.corners()).reshape(-1, 3)
    edge = outline(profile, 0.004, 0.02)
    seen = 0
    for k, (tip, axis) in enumerate(zip(tips, axes, strict=True)):
        height = (places - tip) @ axis
        radius = np.linalg.norm(places - tip - height[:, None] * axis, axis=1)
        inside = radius <= np.array([profile.radius_at(float(h)) for h in height])
        if not inside.any():
            assert got.mm[k] > -0.2
            continue
        seen += 1
        rim, h = radius[inside], height[inside]
        ends = np.minimum(h - profile.bottom_mm, profile.top_mm - h)
        beside = np.hypot(rim[:, None] - edge[:, 0], h[:, None] - edge[:, 1]).min(axis=1)
        deepest = float(np.minimum(ends, beside).max())
        assert -got.mm[k] >= deepest - 0.02
        assert -got.mm[k] <= deepest + 0.35  # the places strewn stand so far apart
    assert seen >= 4


@pytest.mark.parametrize("name", PROFILES)
def test_a_sweep_is_the_least_of_its_places(name):
    rng = np.random.default_rng(7)
    mesh, profile = terrain(), PROFILES[name]
    index = DistanceIndex.build(mesh)
    start, axes = rng.uniform(-30, 30, (30, 3)) + np.array([0, 0, 22]), random_axes(rng, 30)
    end = start + rng.uniform(-25, 25, (30, 3))
    got = near(index, Poses.tilted(start, end, axes), profile, FAR)
    for k in range(30):
        share = np.linspace(0, 1, 400)[:, None]
        along = start[k] + share * (end[k] - start[k])
        want = near(index, Poses.tilted(along, along, axes[k]), profile, FAR).mm
        slack = float(np.linalg.norm(end[k] - start[k])) / 400
        assert want.min() - slack <= got.mm[k] <= want.min() + 2e-4
        if want.min() > 0:
            at = start[k] + got.share[k] * (end[k] - start[k])
            there = near(index, Poses.tilted(at[None], at[None], axes[k]), profile, FAR)
            assert there.mm[0] == pytest.approx(got.mm[k], abs=1e-4)
            assert np.allclose(there.place, got.place[k], atol=0.2) or there.mm[0] == pytest.approx(got.mm[k], abs=1e-5)


def test_a_turning_axis_is_followed_within_the_bound_that_is_told():
    rng = np.random.default_rng(11)
    mesh, profile = terrain(), PROFILES["bull nose"]
    index = DistanceIndex.build(mesh)
    start = rng.uniform(-25, 25, (8, 3)) + np.array([0, 0, 28])
    end, a = start + rng.uniform(-8, 8, (8, 3)), random_axes(rng, 8)
    b = a + rng.uniform(-0.3, 0.3, (8, 3))
    poses = Poses(start, end, a, b / np.linalg.norm(b, axis=1, keepdims=True), np.arange(100, 108))
    got = near(index, poses, profile, FAR)
    assert got.bound_mm.max() <= 0.002 + 1e-9
    assert got.bound_mm.min() > 0
    for k in range(8):
        share = np.linspace(0, 1, 300)
        axes = poses.axis_at(np.full(300, k), share)
        along = start[k] + share[:, None] * (end[k] - start[k])
        want = near(index, Poses.tilted(along, along, axes), profile, FAR).mm
        assert got.mm[k] == pytest.approx(want.min(), abs=0.05)
        at = start[k] + got.share[k] * (end[k] - start[k])
        axis = poses.axis_at(np.array([k]), got.share[k : k + 1])
        assert near(index, Poses.tilted(at[None], at[None], axis), profile, FAR).mm[0] < got.mm[k] + 0.05


def test_a_tool_that_swings_past_a_post_is_nearest_when_it_stands_beside_it():
    """Upright in the middle of its turn; 8 − 1 from the axis to the post, less the radius."""
    post = DistanceIndex.build(box_mesh([-1, 7, 20], [1, 9, 22]))
    lean = np.array([[np.sin(0.7), 0.0, np.cos(0.7)]])
    poses = Poses(np.zeros((1, 3)), np.zeros((1, 3)), lean, lean * [-1, 1, 1], np.zeros(1, np.int64))
    got = near(post, poses, PROFILES["flat"], FAR)
    assert got.mm[0] == pytest.approx(2.0, abs=got.bound_mm[0])
    assert got.share[0] == pytest.approx(0.5, abs=0.05)
    assert got.place[0, 1] == pytest.approx(7.0)


def test_an_axis_that_turns_over_is_refused():
    poses = Poses(np.zeros((1, 3)), np.ones((1, 3)), np.array([[0, 0, 1.0]]), np.array([[0, 0, -1.0]]), np.arange(1))
    with pytest.raises(FenrikError, match="turns right over"):
        near(DistanceIndex.build(box_mesh([0, 0, 0], [1, 1, 1])), poses, PROFILES["flat"], 1.0)


def test_gaps_that_are_enough_are_not_measured():
    index = DistanceIndex.build(box_mesh([-20, -20, -20], [20, 20, 0]))
    tips = np.array([[0, 0, 3.0], [0, 0, 1.0]])
    got = near(index, Poses.upright(tips, tips), PROFILES["flat"], 2.0)
    assert got.mm == pytest.approx([2.0, 1.0])
    assert np.isnan(got.place[0]).all()
    assert got.place[1, 2] == pytest.approx(0.0)


def test_a_box_in_closed_form():
    """A flat mill over, beside and in a block: what the figure says."""
    index = DistanceIndex.build(box_mesh([-20, -20, -20], [20, 20, 0]))
    places = {(0, 3): 3, (0, 0): 0, (0, -0.5): -0.5, (0, -7): -5, (24.9, -5): -0.1, (25.1, -5): 0.1, (30, 4): 41**0.5}
    tips = np.array([[x, 0, z] for x, z in places], dtype=float)
    got = near(index, Poses.upright(tips, tips), PROFILES["flat"], FAR)
    assert got.mm == pytest.approx(list(places.values()), abs=2e-4)


@pytest.mark.parametrize(
    "cutter",
    [
        Lollipop(diameter_mm=10, neck_diameter_mm=4, flute_length_mm=30),
        DovetailCutter(diameter_mm=20, angle_deg=60, flute_length_mm=8),
    ],
)
def test_outlines_that_turn_inwards_keep_their_waist(cutter):
    """A rib that stands beside the waist is nearer than the widest radius, and no contact."""
    tool = Tool(number=1, cutter=cutter, stick_out_mm=40)
    assembly = assembly_of(tool)
    z = 20.0 if isinstance(cutter, Lollipop) else 4.0
    profile = max(assembly.profiles, key=lambda p: p.radius_at(z))
    waist = profile.radius_at(z)
    assert waist < cutter.diameter_mm / 2
    rib = DistanceIndex.build(box_mesh([waist + 0.5, -1, z - 0.01], [60, 1, z + 0.01]))
    here = np.zeros((1, 3))
    assert 0.2 < near(rib, Poses.upright(here, here), profile, FAR).mm[0] <= 0.5 + 1e-6
    into = DistanceIndex.build(box_mesh([waist - 0.5, -1, z - 0.01], [60, 1, z + 0.01]))
    assert -0.5 - 1e-6 <= near(into, Poses.upright(here, here), profile, FAR).mm[0] < -0.2


@pytest.mark.parametrize("name", PROFILES)
def test_pushes_up_an_upright_tool_are_tip_heights(name):
    rng = np.random.default_rng(13)
    mesh, profile = terrain(), PROFILES[name]
    xy = rng.uniform(-28, 28, (300, 2))
    tips = np.column_stack([xy, np.full(300, -3.0)])
    got, nearest = pushed(DistanceIndex.build(mesh), tips, np.array([0, 0, 1]), np.array([0, 0, 2.0]), profile)
    sides = [DropIndex.of(mesh, side) for side in undersides_of(profile)]
    want = np.max([tip_heights(side, xy) for side in sides], axis=0)
    assert got - 3.0 == pytest.approx(want, abs=1e-5)
    assert (nearest >= 0).all()


@pytest.mark.parametrize("name", PROFILES)
def test_what_was_pushed_touches_and_no_more(name):
    """Any way, any axis: where it stands then it touches; a little on it is clear; nothing further out touches."""
    rng = np.random.default_rng(17)
    mesh, profile = terrain(4), PROFILES[name]
    index = DistanceIndex.build(mesh)
    tips, axes, ways = rng.uniform(-20, 20, (40, 3)), random_axes(rng, 40), random_axes(rng, 40)
    ways[:, 2] = np.abs(ways[:, 2]) + 0.2
    ways /= np.linalg.norm(ways, axis=1, keepdims=True)
    far, nearest = pushed(index, tips, axes, ways, profile)
    met = np.isfinite(far)
    assert met.sum() > 25
    assert (nearest[~met] == -1).all()
    at = tips[met] + far[met, None] * ways[met]
    assert np.abs(near(index, Poses.tilted(at, at, axes[met]), profile, FAR).mm).max() < 2e-5
    out = at + 200 * ways[met]
    on = at + 1e-3 * ways[met]
    assert near(index, Poses.tilted(on, out, axes[met]), profile, FAR).mm.min() > 1e-6


def test_a_lying_tool_is_held_by_a_post_under_its_far_end():
    post = DistanceIndex.build(box_mesh([29.0, -0.1, -0.2], [29.8, 0.1, 0]))
    far, _ = pushed(post, np.zeros((1, 3)), np.array([1, 0, 0]), np.array([0, 0, 1]), PROFILES["flat"])
    assert far[0] == pytest.approx(5.0, abs=1e-6)


def test_what_meets_nothing_is_told():
    index = DistanceIndex.build(box_mesh([0, 0, 0], [10, 10, 10]))
    far, nearest = pushed(index, np.array([[50.0, 0, 0]]), np.array([0, 0, 1]), np.array([0, 0, 1]), PROFILES["ball"])
    assert far[0] == -np.inf
    assert nearest[0] == -1


SOLIDS = {"sphere": coal.Sphere(50.0), "cylinder": coal.Cylinder(40.0, 60.0), "box": coal.Box(70.0, 60.0, 50.0)}


def coarse(name: str) -> DistanceIndex:
    """An exact solid about the origin, found by triangles within half a millimetre."""
    shape = {
        "sphere": lambda: BRepPrimAPI_MakeSphere(50.0),
        "cylinder": lambda: BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(0, 0, -30), gp_Dir(0, 0, 1)), 40.0, 60.0),
        "box": lambda: BRepPrimAPI_MakeBox(gp_Pnt(-35, -30, -25), 70.0, 60.0, 50.0),
    }[name]().Shape()
    mesh = tessellate(shape, 0.5)
    return DistanceIndex.build(mesh, exact_faces(list_faces(shape))[0])


@pytest.mark.parametrize("name", SOLIDS)
@pytest.mark.parametrize("tool", ["ball", "bull nose", "cone"])
def test_gaps_are_those_to_the_exact_faces(name, tool):
    """As the collision library has them for its own exact sphere, cylinder and box; the triangles are 0.5 off."""
    rng = np.random.default_rng(23)
    index, profile, body = coarse(name), PROFILES[tool], polyhedron(PROFILES[tool])
    axes = random_axes(rng, 40)
    tips = random_axes(rng, 40) * rng.uniform(40, 80, (40, 1))
    got = near(index, Poses.tilted(tips, tips, axes), profile, FAR)
    request, here = coal.DistanceRequest(False, 0.0, 0.0), coal.Transform3s()
    want = np.array(
        [
            coal.distance(SOLIDS[name], here, body, placed(p, a), request, coal.DistanceResult())
            for p, a in zip(tips, axes, strict=True)
        ]
    )
    clear = (want > 0.02) & (got.mm > 0)
    assert clear.sum() > 10
    # The tool of the library is a polyhedron within 0.004 of it.
    assert (np.abs(got.mm - want)[clear] <= got.bound_mm[clear] + 0.006).all()
    assert np.abs(got.mm - want)[clear].max() < 0.008
    assert index.mesh.deflection_mm >= (0.1 if name != "box" else 0)


def test_a_ball_over_a_sphere_in_closed_form():
    """Between the centres less both radii, within a thousandth where the triangles are half a millimetre off."""
    rng = np.random.default_rng(29)
    middle = random_axes(rng, 50) * rng.uniform(56, 60, (50, 1))
    axes = middle / np.linalg.norm(middle, axis=1, keepdims=True)
    got = near(coarse("sphere"), Poses.tilted(middle - 5 * axes, middle - 5 * axes, axes), PROFILES["ball"], FAR)
    assert got.mm == pytest.approx(np.linalg.norm(middle, axis=1) - 55.0, abs=1e-3)
    assert np.linalg.norm(got.place, axis=1) == pytest.approx(50.0, abs=1e-6)


def test_what_stands_wholly_in_the_material_is_no_gap():
    block = DistanceIndex.build(box_mesh([-100, -100, -100], [100, 100, 100]))
    tips = np.array([[0, 0, -10.0], [60, 0, -10.0], [140, 0, -10.0]])
    got = near(block, Poses.upright(tips, tips), PROFILES["flat"], 20.0)
    assert got.mm == pytest.approx([-95.0, -40.0, 20.0])
    assert got.place[1] == pytest.approx([100, 0, 5])


def test_all_bodies_of_a_tool_are_looked_at():
    """A ledge beside the shank, a wall beside the holder: each body its own gap, and its own limit."""
    holder = [{"lower_diameter_mm": 30, "upper_diameter_mm": 30, "height_mm": 20}]
    cutter = FlatCutter(diameter_mm=10, flute_length_mm=20)
    tool = Tool(number=1, cutter=cutter, stick_out_mm=50, shank_diameter_mm=10, holder=holder)
    ledge = box_mesh([7, -30, 30], [60, 30, 40])
    here = np.zeros((1, 3))
    assembly = assembly_of(tool)
    found = clearance(DistanceIndex.build(ledge), Poses.upright(here, here), assembly, FAR)
    mm = dict(zip(["cutter", *(b.role for b in assembly.watched)], [float(f.mm[0]) for f in found], strict=True))
    assert mm["cutter"] == pytest.approx(np.hypot(2, 10), abs=1e-6)
    assert mm["shank"] == pytest.approx(2.0, abs=1e-6)
    assert mm["holder"] == pytest.approx(10.0, abs=1e-6)
    limits = [1.0, *(5.0 for _ in assembly.watched)]
    near_ones = clearance(DistanceIndex.build(ledge), Poses.upright(here, here), assembly, limits)
    assert [float(f.mm[0]) for f in near_ones] == pytest.approx([1.0, 2.0, 5.0], abs=1e-6)


def test_the_place_nearest_to_a_point_in_the_tool_is_the_point():
    """In whichever convex run it is: a place of a run before it would tell a gap where there is none."""
    profile = profile_of(line_through((0, 0), (8, 0), (8, 4), (3, 4), (3, 10), (8, 10), (8, 14)))
    assert len(profile.runs) == 4
    zero, up = np.zeros((1, 3)), np.array([[0, 0, 1.0]])
    for first, last in zip(profile.runs[:-1], profile.runs[1:], strict=True):
        z = 0.5 * float(profile.bands[first, 0] + profile.bands[last - 1, 1])
        within = np.array([[0.1, 0.0, z]])
        place, share = np.empty((1, 3)), np.zeros(1)
        kernels.beside(zero, zero, up, profile.bands, profile.runs, within, place, share)
        assert place == pytest.approx(within)

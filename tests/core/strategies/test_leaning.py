"""Strategies with a leaning tool against closed forms and exact distances: cone, hyperbolic paraboloid, twisted walls."""

import numpy as np
import pytest
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakePolygon, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.gp import gp_Ax2, gp_Dir, gp_Elips, gp_Pnt
from prism import edges, faces, job_for, made, run, with_targets
from scipy.spatial.transform import Rotation

from fenrik.core.contact.clearance import clearance
from fenrik.core.errors import FenrikError
from fenrik.core.solids.rails import rails_of
from fenrik.core.solids.reading import solid_from_shape
from fenrik.core.solids.rulings import joined, rulings_of
from fenrik.core.strategies.flank import Side, laid_along
from fenrik.core.strategies.leaning import tips, touch
from fenrik.core.toolpath import Kind
from fenrik.core.tools import Assembly, cutting_profile
from fenrik.core.tools.cutters import BallCutter, BullNoseCutter, ChamferMill, FlatCutter
from parts import box, cone, cut, cylinder

UP = np.array([0.0, 0.0, 1.0])


def twisted(turn_deg, half=20.0, tall=30.0, upper=1.0):
    """A square block whose top is turned against its foot: four walls that are hyperbolic paraboloids."""
    sections = BRepOffsetAPI_ThruSections(True, True)
    for z, turn, size in ((0.0, 0.0, half), (tall, turn_deg, half * upper)):
        polygon = BRepBuilderAPI_MakePolygon()
        corners = Rotation.from_euler("z", turn, degrees=True).apply(
            [[-size, -size, 0], [size, -size, 0], [size, size, 0], [-size, size, 0]]
        )
        for x, y, _ in corners.tolist():
            polygon.Add(gp_Pnt(x, y, z))
        polygon.Close()
        sections.AddWire(polygon.Wire())
    sections.Build()
    return sections.Shape()


def walls_of(solid):
    return [i for i, f in enumerate(solid.faces) if abs(f.normal[2]) < 0.9 or f.kind not in ("plane",)]


def in_the_wall(low, high, radius, surface):
    """How deep a cylinder round an axis stands in a wall given by dense places: brute force in NumPy."""
    axis = high - low
    t = np.clip((surface - low) @ axis / (axis @ axis), 0.0, 1.0)
    return radius - np.linalg.norm(surface - low - t[:, None] * axis, axis=1).min()


def bilinear(ends, across=400, up=200):
    """Dense places of the bilinear patch over four corners (2, 2, 3): first and last ruling."""
    u, v = np.meshgrid(np.linspace(0, 1, across), np.linspace(0, 1, up), indexing="ij")
    (a, b), (c, d) = ends
    return (
        ((1 - u) * (1 - v))[..., None] * a
        + ((1 - u) * v)[..., None] * b
        + (u * (1 - v))[..., None] * c
        + (u * v)[..., None] * d
    )


@pytest.mark.parametrize("turn", [4.0, 12.0, 25.0])
def test_on_a_hyperbolic_paraboloid_the_deviation_is_no_more_than_that_of_two_points(turn):
    """Closed form (X. W. Liu 1995): offset at both ends of a ruling whose normals turn by ω, a cylinder cuts in by
    R·(1 − cos(ω/2)) at its middle."""
    solid, radius = solid_from_shape(twisted(turn)), 6.0
    (wall, *_) = walls_of(solid)
    rows = rulings_of(solid, wall, 0.002, UP, radius)
    placed = laid_along(rows, Side(radius), 0.0, 1e9)
    omega = np.arccos(np.einsum("ij,ij->i", rows.normals[:, 0], rows.normals[:, 1]))
    published = radius * (1 - np.cos(omega / 2))
    # Evened out: half of it on either side, against the tangent planes.
    assert (placed.deep_mm <= 1.02 * published / 2).all()
    assert (placed.proud_mm <= 1.02 * published / 2).all()
    assert placed.deep_mm == pytest.approx(published / 2, rel=0.05)
    # Two points alone, against the surface itself: the published figure; and what the strategy does, half of it.
    surface = bilinear(rows.ends[[0, -1]]).reshape(-1, 3)
    k = len(rows.ends) // 2
    low, high = rows.ends[k] + radius * rows.normals[k]
    assert in_the_wall(low, high, radius, surface) == pytest.approx(published[k], rel=0.02, abs=3e-4)
    length = np.linalg.norm(rows.ends[k, 1] - rows.ends[k, 0])
    ours = in_the_wall(placed.foot[k], placed.foot[k] + length * placed.axis[k], radius, surface)
    assert ours <= 0.52 * published[k] + 1e-5


@pytest.mark.parametrize("turn", [0.0, 12.0, 25.0])
def test_a_twisted_wall_is_never_cut_deeper_than_the_tolerance(turn):
    solid, radius, tolerance = solid_from_shape(twisted(turn)), 6.0, 0.01
    for wall in walls_of(solid):
        rows = rulings_of(solid, wall, 0.0025, UP, radius)
        placed = laid_along(rows, Side(radius), 0.0, tolerance)
        surface = bilinear(rows.ends[[0, -1]]).reshape(-1, 3)
        length = np.linalg.norm(rows.ends[:, 1] - rows.ends[:, 0], axis=1)
        for k in range(0, len(rows.ends), max(len(rows.ends) // 9, 1)):
            deep = in_the_wall(placed.foot[k], placed.foot[k] + length[k] * placed.axis[k], radius, surface)
            assert deep <= tolerance + 2e-4
        if turn == 0.0:
            assert max(placed.deep_mm.max(), placed.proud_mm.max()) < 1e-7


def test_a_cone_is_touched_along_its_whole_line():
    solid, radius = solid_from_shape(cone(0, 0, 0, 30.0, 18.0, 40.0)), 8.0
    (wall,) = [i for i, f in enumerate(solid.faces) if f.kind == "cone"]
    rows = rulings_of(solid, wall, 0.002, UP, radius)
    assert rows.closed
    placed = laid_along(rows, Side(radius), 0.0, 0.01)
    assert max(placed.deep_mm.max(), placed.proud_mm.max()) < 1e-6
    half = np.arctan2(12.0, 40.0)
    assert placed.axis[:, 2] == pytest.approx(np.cos(half))
    # Beside the foot: out along the cone's normal.
    assert np.linalg.norm(placed.foot[:, :2], axis=1) == pytest.approx(30.0 + radius * np.cos(half))
    assert placed.foot[:, 2] == pytest.approx(radius * np.sin(half))


def test_a_tapered_side_lies_on_a_flat_wall():
    """Its axis leans from an upright wall by its own half angle."""
    solid = solid_from_shape(box(0, 0, 0, 40, 20, 15))
    (wall,) = [i for i, f in enumerate(solid.faces) if f.normal[1] < -0.9]
    rows = rulings_of(solid, wall, 0.002, UP, 3.0)
    placed = laid_along(rows, Side(3.0, np.deg2rad(5.0)), 0.0, 0.01)
    assert max(placed.deep_mm.max(), placed.proud_mm.max()) < 1e-6
    assert placed.axis[:, 2] == pytest.approx(np.cos(np.deg2rad(5)), abs=1e-9)
    assert placed.axis[:, 1] == pytest.approx(-np.sin(np.deg2rad(5)), abs=1e-9)


def test_walls_that_meet_are_one_and_corners_are_gone_round():
    solid = solid_from_shape(twisted(10.0))
    rows = [rulings_of(solid, i, 0.005, UP, 4.0) for i in walls_of(solid)]
    order = [rows[0]]
    rest = rows[1:]
    while rest:
        nxt = next(
            r for r in rest if min(np.abs(r.ends[i] - order[-1].ends[j]).max() for i in (0, -1) for j in (0, -1)) < 1e-6
        )
        rest = [r for r in rest if r is not nxt]
        order.append(nxt)
    (whole,) = joined(order)
    assert whole.closed
    turn = np.arccos(np.clip(np.einsum("ij,ij->i", whole.normals[1:, 0], whole.normals[:-1, 0]), -1, 1))
    assert turn.max() < 0.08
    heading = np.unwrap(np.arctan2(whole.normals[:, 0, 1], whole.normals[:, 0, 0]))
    assert abs(heading[-1] - heading[0]) == pytest.approx(2 * np.pi, abs=1e-6)


def test_what_is_not_ruled_is_refused_with_its_face():
    ball = solid_from_shape(
        cut(
            box(-20, -20, 0, 40, 40, 30),
            __import__("OCP.BRepPrimAPI", fromlist=["x"]).BRepPrimAPI_MakeSphere(gp_Pnt(0, 0, 30), 12.0).Shape(),
        )
    )
    (hollow,) = [i for i, f in enumerate(ball.faces) if f.kind == "sphere"]
    with pytest.raises(FenrikError, match="curved both ways"):
        rulings_of(ball, hollow, 0.002, UP)
    pierced = solid_from_shape(cut(box(0, 0, 0, 40, 20, 15), box(10, -1, 4, 10, 30, 6)))
    (wall,) = [i for i, f in enumerate(pierced.faces) if f.normal[1] < -0.9 and f.centroid[1] < 1e-6]
    with pytest.raises(FenrikError, match="between its first and last ruling"):
        rulings_of(pierced, wall, 0.002, UP)


def test_a_ruled_face_that_is_cut_off_slanting_keeps_its_border():
    """A cylinder under a plane that leans by 20°: each line ends where the plane cuts it."""
    solid = solid_from_shape(slanted_ring())
    (side,) = [i for i, f in enumerate(solid.faces) if f.kind == "cylinder" and not f.concave]
    rows = rulings_of(solid, side, 0.01, UP, 5.0)
    assert rows.closed
    top = rows.ends[:, 1]
    # The ring itself ends at 40.
    assert top[:, 2] == pytest.approx(np.minimum(30 - top[:, 0] * np.tan(np.deg2rad(20)), 40.0), abs=1e-4)
    assert rows.ends[:, 0, 2] == pytest.approx(0.0, abs=1e-6)


# The whole road of a row


def test_a_row_of_swarf_on_a_cone_leaves_the_cone():
    shape = cone(0, 0, 0, 30.0, 22.0, 25.0)
    params = {"strategy": "swarf milling", "floor_clearance_mm": -1.0, "tolerance_mm": 0.02}
    cutter = {"kind": "flat", "diameter_mm": 16, "flutes": 4, "flute_length_mm": 50}
    build = job_for(shape, [(1, params)], {1: cutter}, cell_mm=0.5)
    build = with_targets(build, 10, faces(build, lambda f: f.kind == "cone"))
    outcome = run(build)
    assert outcome.unreached == []
    path = outcome.toolpath
    cutting = path.kind == Kind.CUT
    assert cutting.sum() > 50
    half = np.arctan2(8.0, 25.0)
    assert path.axis[cutting, 2] == pytest.approx(np.cos(half), abs=1e-6)
    stock = build.stock_after(build.job.operations[0])
    # Wherever the stock still stands over the plane of the foot within the flutes' reach, it is the cone.
    x, y, _ = stock.node_axes()
    top = stock.tops()
    radial = np.hypot(*np.meshgrid(x, y, indexing="ij"))
    on_the_wall = (radial > 23) & (radial < 29)
    exact = (30.0 - radial) / np.tan(half)
    assert np.abs(top - exact)[on_the_wall].max() < 0.15  # a cell's worth of slope beside a round edge
    assert (top - exact)[on_the_wall].min() > -0.07


def hollow():
    """A block with a ruled hole from a small ellipse below to a larger, shifted one above."""
    sections = BRepOffsetAPI_ThruSections(True, True)
    for z, x, a, b in ((0.0, 0.0, 24.0, 20.0), (26.0, 2.0, 30.0, 24.0)):
        ellipse = gp_Elips(gp_Ax2(gp_Pnt(x, 0, z), gp_Dir(0, 0, 1)), a, b)
        sections.AddWire(BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(ellipse).Edge()).Wire())
    sections.Build()
    return cut(box(-40, -36, 0, 80, 72, 26), sections.Shape())


BENCH = {
    "twisted": (lambda: twisted(12.0), lambda f: abs(f.normal[2]) < 0.9, 12),
    "cone": (lambda: cone(0, 0, 0, 30.0, 22.0, 25.0), lambda f: f.kind == "cone", 16),
    "hollow": (hollow, lambda f: f.kind == "freeform", 16),
}


@pytest.mark.parametrize("part", BENCH)
def test_along_its_motions_the_cutter_stays_out_of_the_exact_faces(part):
    """Between rows too, by the clearance of the whole sweep (which knows nothing of rulings)."""
    (shape, wanted, diameter), tolerance = BENCH[part], 0.02
    params = {"strategy": "swarf milling", "tolerance_mm": tolerance, "floor_clearance_mm": 0.5}
    cutter = {"kind": "flat", "diameter_mm": diameter, "flutes": 4, "flute_length_mm": 60}
    build = job_for(shape(), [(1, params)], {1: cutter}, cell_mm=1.0)
    build = with_targets(build, 10, faces(build, wanted))
    path = made(build).toolpath
    setup = build.job.setups[0]
    index = build.part_distances(setup)
    profile = cutting_profile(build.job.tools[0].cutter)
    poses = path.poses(0.001)
    poses = poses.rows(np.unique(np.linspace(0, len(poses) - 1, 9).astype(int)))
    (found,) = clearance(index, poses, Assembly(profile), 0.1)
    assert len(path) > 40
    assert found.mm.min() >= -tolerance - index.mesh.deflection_mm
    # It is at the wall, too: nowhere along the cuts farther off than twist and tolerance make it.
    assert found.mm[path.kind[poses.source] == Kind.CUT].max() < 0.05


def test_levels_go_from_the_top_down():
    params = {"strategy": "swarf milling", "stepdown_mm": 5, "tolerance_mm": 0.02}
    build = job_for(twisted(8.0), [(1, params)], {1: {"kind": "flat", "diameter_mm": 12, "flutes": 4}}, cell_mm=0.5)
    build = with_targets(build, 10, faces(build, lambda f: abs(f.normal[2]) < 0.9))
    path = made(build).toolpath
    cutting = path.kind == Kind.CUT
    heights = [path.point[cutting & (path.pass_id == k), 2].mean() for k in np.unique(path.pass_id[cutting])]
    # The walls are 30.1 long along their rulings.
    assert len(heights) == 7
    assert np.diff(heights)[:5] == pytest.approx(-5.0, abs=0.1)
    assert np.diff(heights)[5] == pytest.approx(-0.3, abs=0.1)


@pytest.mark.parametrize(
    "cutter",
    [
        BallCutter(diameter_mm=8, flute_length_mm=20),
        BullNoseCutter(diameter_mm=10, corner_radius_mm=2, flute_length_mm=20),
        FlatCutter(diameter_mm=6, flute_length_mm=20),
        ChamferMill(diameter_mm=10, tip_diameter_mm=1, included_deg=90, flute_length_mm=5),
    ],
    ids=lambda c: c.kind,
)
def test_the_cutter_touches_its_plane_and_no_more(cutter):
    """Against brute force: all places of the turned outline over the plane, the nearest on it."""
    profile, rng = cutting_profile(cutter), np.random.default_rng(5)
    normal = rng.normal(size=(40, 3))
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    axis = normal + 0.9 * rng.normal(size=(40, 3))
    axis /= np.linalg.norm(axis, axis=1, keepdims=True)
    contact = rng.uniform(-5, 5, (40, 3))
    tip = tips(contact, normal, axis, profile)
    z = np.linspace(profile.bottom_mm, profile.top_mm, 2001)
    r = np.array([profile.radius_at(v) for v in z])
    for p, n, a, c in zip(tip, normal, axis, contact, strict=True):
        across = n - (n @ a) * a
        across /= max(np.linalg.norm(across), 1e-12)
        lowest = (p - c) @ n + z * (a @ n) - r * (across @ n)
        assert lowest.min() == pytest.approx(0.0, abs=2e-3)
    assert touch(profile, np.array([0.0])).height[0] == profile.bottom_mm


def test_rails_follow_edges_with_the_faces_beside_them():
    solid = solid_from_shape(cylinder(0, 0, 0, 20, 12))
    (rim,) = [i for i, e in enumerate(solid.edges) if e.kind == "circle" and abs(e.centre[2] - 12) < 1e-9]
    (rail,) = rails_of(solid, [rim], 0.001)
    assert rail.closed
    assert np.hypot(rail.point[:, 0], rail.point[:, 1]) == pytest.approx(20.0)
    beside = np.stack([rail.left, rail.right])
    up = beside[..., 2] > 0.5
    assert (up.sum(axis=0) == 1).all()
    out = rail.point[:, :2] / 20.0
    side = np.where(up[0][:, None], rail.right, rail.left)
    assert side[:, :2] == pytest.approx(out, abs=1e-6)
    # The face at the left lies at the left of the way.
    left_way = np.cross(rail.left, rail.along)
    inward = np.column_stack([-out, np.zeros(len(out))])
    top_left = rail.left[:, 2] > 0.5
    assert np.all(np.einsum("ij,ij->i", left_way, np.where(top_left[:, None], inward, -UP)) > 0.9)
    chord = np.linalg.norm(np.diff(rail.point, axis=0), axis=1).max()
    assert 20.0 * (1 - np.cos(np.arcsin(chord / 40))) <= 0.0011 + 20 * 0.05**2 / 8


def test_edges_that_meet_are_one_way_whatever_their_order():
    solid = solid_from_shape(box(0, 0, 0, 30, 20, 10))
    top = [i for i, e in enumerate(solid.edges) if abs(e.middle[2] - 10) < 1e-9]
    (rail,) = rails_of(solid, top[::-1], 0.001)
    assert rail.closed
    assert rail.length_mm == pytest.approx(100.0)
    (part,) = rails_of(
        solid,
        [top[0], top[1]] if set(solid.edges[top[0]].ends) & set(solid.edges[top[1]].ends) else [top[0], top[2]],
        0.001,
    )
    assert not part.closed


def slanted_ring(lean=20.0):
    """A ring with a bore that comes out of a top that leans: its edge is an ellipse in space."""
    block = cylinder(0, 0, 0, 30, 40)
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
    from OCP.gp import gp_Ax1, gp_Dir, gp_Trsf

    turn = gp_Trsf()
    turn.SetRotation(gp_Ax1(gp_Pnt(0, 0, 30), gp_Dir(0, 1, 0)), np.deg2rad(lean))
    above = BRepBuilderAPI_Transform(box(-60, -60, 30, 120, 120, 60), turn, True).Shape()
    return cut(block, above, cylinder(0, 0, -1, 16, 80))


def test_a_chamfer_on_an_edge_in_space_is_as_wide_as_asked_everywhere():
    """A 90° cutter whose axis is the bisector of both faces breaks the edge by the same depth all the way round; how
    deep it goes into the part is measured on the exact faces."""
    shape, depth = slanted_ring(), 0.6
    cutter = {
        "kind": "chamfer mill",
        "diameter_mm": 8,
        "tip_diameter_mm": 0.5,
        "included_deg": 60,
        "flute_length_mm": 6,
    }
    params = {
        "strategy": "5-axis curve following", "axis": "normal", "normal_of": "both faces", "depth_mm": depth,
        "tilt_deg": 60.0, "tolerance_mm": 0.02,
    }  # fmt: skip
    build = job_for(shape, [(1, params)], {1: cutter}, cell_mm=0.5)

    def inner(e):
        return (
            e.turn == "convex"
            and e.length_mm > 90
            and max(np.hypot(e.points[:, 0], e.points[:, 1])) < 17
            and e.points[:, 2].max() > 20
        )

    build = with_targets(build, 10, edges(build, inner))
    path = made(build).toolpath
    cutting = np.flatnonzero(path.kind == Kind.CUT)
    assert len(cutting) > 60
    # The edge in closed form: radius 16, z = 30 − x·tan(20°). The side of the cone (half angle 30°) leans 60° from the
    # axis' plane: the cutter's side must come `depth` inside the edge along the bisector.
    t = np.linspace(0, 2 * np.pi, 4000)
    edge = np.column_stack([16 * np.cos(t), 16 * np.sin(t), 30 - 16 * np.cos(t) * np.tan(np.deg2rad(20))])
    for k in cutting[:: len(cutting) // 12]:
        away = edge - path.point[k]
        along = away @ path.axis[k]
        off = np.linalg.norm(away - along[:, None] * path.axis[k], axis=1)
        within = (along > 0) & (along < 6)
        side = 0.25 + along * np.tan(np.deg2rad(30)) - off
        assert (side[within] * np.cos(np.deg2rad(30))).max() == pytest.approx(depth, abs=0.03)


def test_an_axis_through_a_point_and_a_blended_one():
    base = {"strategy": "5-axis curve following", "normal_of": "left face", "tolerance_mm": 0.02}
    shape = cylinder(0, 0, 0, 20, 12)
    rim = lambda e: e.kind == "circle" and abs(e.centre[2] - 12) < 1e-9  # noqa: E731
    ball = {"kind": "ball", "diameter_mm": 6, "flutes": 2}

    def path_of(**rest):
        build = job_for(shape, [(1, base | rest)], {1: ball}, cell_mm=1.0)
        return made(with_targets(build, 10, edges(build, rim))).toolpath

    through = path_of(axis="through a point", point_mm=(0, 0, 90))
    cut_rows = through.kind == Kind.CUT
    # Each axis' line passes the point; contact and centre of the ball differ by its radius.
    away = np.array([0, 0, 90]) - through.point[cut_rows]
    off = np.linalg.norm(np.cross(away, through.axis[cut_rows]), axis=1)
    assert off.max() < 3.0 + 1e-6
    blended = path_of(axis="blended", directions=[{"share": 0, "along": (0, 0, 1)}, {"share": 1, "along": (1, 0, 1)}])
    lean = np.rad2deg(np.arccos(blended.axis[blended.kind == Kind.CUT, 2]))
    assert lean[0] < 2
    assert lean[-1] == pytest.approx(45, abs=0.1)
    assert np.diff(lean).min() > -1e-9
    assert np.diff(lean).max() <= 3.0 + 1e-6


def test_lead_and_tilt_are_measured_from_the_normal():
    shape = box(0, 0, 0, 60, 40, 20)
    row = lambda e: abs(e.middle[1]) < 1e-9 and abs(e.middle[2] - 20) < 1e-9  # noqa: E731
    for lead, tilt in ((10.0, 0.0), (0.0, 15.0), (-20.0, 0.0)):
        params = {"strategy": "5-axis curve following", "normal_of": "left face", "lead_deg": lead, "tilt_deg": tilt}
        build = job_for(shape, [(1, params)], {1: {"kind": "ball", "diameter_mm": 6, "flutes": 2}}, cell_mm=1.0)
        build = with_targets(build, 10, edges(build, row))
        path = made(build).toolpath
        rows = np.flatnonzero(path.kind == Kind.CUT)
        way = path.point[rows[-1]] - path.point[rows[0]]
        way /= np.linalg.norm(way)
        axis = path.axis[rows[0]]
        given = build.link_of(build.job.operations[0]).given
        normal = given.ways.rails[0].left[0]
        left = np.cross(normal, way)
        assert np.rad2deg(np.arcsin(axis @ way)) == pytest.approx(lead, abs=1e-6)
        assert np.rad2deg(np.arcsin(axis @ left)) == pytest.approx(tilt, abs=1e-6)

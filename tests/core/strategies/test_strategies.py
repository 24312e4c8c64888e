"""Roughing and finishing: no gouge against the exact B-rep, allowances kept, everything reachable cleared."""

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeVertex
from OCP.BRepExtrema import BRepExtrema_DistShapeShape
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
from OCP.gp import gp_Pnt
from OCP.TopAbs import TopAbs_SHELL
from OCP.TopoDS import TopoDS

from fenrik.core.contact import DropIndex, tip_heights
from fenrik.core.contact.distance import DistanceIndex, signed_distances
from fenrik.core.errors import FenrikError
from fenrik.core.solids.describe import list_shapes
from fenrik.core.solids.reading import mesh_at, solid_from_shape
from fenrik.core.stock import Stock, cut
from fenrik.core.strategies.given import Given, Region
from fenrik.core.strategies.ground.level_ground import flat_heights, plan_levels
from fenrik.core.strategies.level_roughing import LevelRoughing
from fenrik.core.strategies.parallel_finishing import ParallelFinishing
from fenrik.core.strategies.registry import run_strategy
from fenrik.core.toolpath import Feeds, Kind, Poses
from fenrik.core.tools import Assembly, BallCutter, BullNoseCutter, FlatCutter, Tool, cutting_profile

FLAT = FlatCutter(diameter_mm=8, flute_length_mm=30)
BALL = BallCutter(diameter_mm=6, flute_length_mm=30)
BULL = BullNoseCutter(diameter_mm=8, corner_radius_mm=1.5, flute_length_mm=30)


def inputs(solid, cutter, tolerance=0.02, stock=None, boundary=None, within=None):
    mesh = mesh_at(solid, within or tolerance * 0.25)
    low, high = mesh.bounds()
    stock = stock or Stock.box(low - [2, 2, 0], high + [2, 2, 1], 0.5)
    tool = Tool(number=1, cutter=cutter, stick_out_mm=45)
    return given_of(mesh, stock, tool, boundary, solid.surfaces)


def given_of(mesh, stock, tool, boundary=None, faces=None):
    high = mesh.bounds()[1]
    return Given.of(
        mesh=mesh,
        surface=(mesh, faces),
        stock=stock,
        tool=tool,
        cutter=tool.cutter,
        feeds=Feeds(1000, 300, 2000),
        safe=(high[2] + 16, high[2] + 6),
        obstacles=None,
        region=Region(faces=boundary),
        keep_out=[],
        stay_in=[],
        reference=None,
    )


def carve(given, path):
    flat, _ = path.flattened(0.002)
    poses = Poses.upright(flat.point[:-1], flat.point[1:])
    return cut(given.stock, poses, Assembly(cutting_profile(given.tool.cutter))), flat


def deviations(solid, stock):
    places, _, sources = stock.hits()
    return signed_distances(DistanceIndex.build(mesh_at(solid, 0.016), solid.surfaces), places).mm, sources, places


@pytest.mark.parametrize("angle", [0, 37])
def test_finishing_never_gouges_the_exact_surface(dish, dish_shape, angle):
    """Distance from the ball's centre to the B-rep (BRepExtrema) is at least R − tolerance, along the motions too."""
    tolerance = 0.02
    path = run_strategy(
        inputs(dish, BALL, tolerance), ParallelFinishing(stepover_mm=2.5, direction_deg=angle, tolerance_mm=tolerance)
    ).toolpath
    cutting = np.flatnonzero((path.kind == Kind.CUT) | (path.kind == Kind.LINK))
    rng = np.random.default_rng(0)
    shell = TopoDS.Shell(list_shapes(dish_shape, TopAbs_SHELL)[0])
    distances = []
    for i in rng.choice(cutting, 150, replace=False):
        t = rng.uniform()
        centre = path.point[i - 1] * (1 - t) + path.point[i] * t + [0, 0, 3]
        probe = BRepBuilderAPI_MakeVertex(gp_Pnt(*map(float, centre))).Vertex()
        distances.append(BRepExtrema_DistShapeShape(probe, shell).Value())
    assert min(distances) >= 3 - tolerance
    on_surface = np.array(distances)
    assert np.median(on_surface) < 3 + tolerance


def test_finishing_from_coarse_triangles_keeps_to_the_exact_faces(dish, dish_shape):
    """Triangles 0.1 mm off; where the ball rests within the dish, BRepExtrema finds it at R, not 0.1 mm off."""
    given = inputs(dish, BALL, 0.02, within=0.1)
    path = run_strategy(given, ParallelFinishing(stepover_mm=2.5, tolerance_mm=0.02)).toolpath
    shell = TopoDS.Shell(list_shapes(dish_shape, TopAbs_SHELL)[0])
    from_middle = np.hypot(*(path.point[:, :2] - [25, 20]).T)
    cutting = np.flatnonzero((path.kind == Kind.CUT) & (from_middle < 16))
    off = []
    for i in np.random.default_rng(0).choice(cutting, 150, replace=False):
        probe = BRepBuilderAPI_MakeVertex(gp_Pnt(*map(float, path.point[i] + [0, 0, 3]))).Vertex()
        off.append(abs(BRepExtrema_DistShapeShape(probe, shell).Value() - 3))
    assert max(off) < 1e-6
    plain = DropIndex.build(given.mesh, cutting_profile(BALL))
    places = path.point[cutting]
    assert np.abs(tip_heights(plain, places[:, :2]) - places[:, 2]).max() > 0.02


@pytest.mark.parametrize("cutter", [FLAT, BALL, BULL])
def test_finishing_follows_the_tip_height_between_samples(dish, cutter):
    tolerance = 0.01
    given = inputs(dish, cutter, tolerance)
    path = run_strategy(given, ParallelFinishing(stepover_mm=4, tolerance_mm=tolerance)).toolpath
    index = DropIndex.build(given.mesh, cutting_profile(cutter))
    cutting = np.flatnonzero(path.kind == Kind.CUT)
    t = np.random.default_rng(1).uniform(size=(len(cutting), 1))
    probe = path.point[cutting - 1] * (1 - t) + path.point[cutting] * t
    over = tip_heights(index, probe[:, :2]) - probe[:, 2]
    chord = path.point[cutting] - path.point[cutting - 1]
    level = np.hypot(chord[:, 0], chord[:, 1]) / np.linalg.norm(chord, axis=1)
    assert np.abs(over * level).max() < 0.7 * tolerance


def test_scallop_left_on_a_flat():
    """h = R − √(R² − (s/2)²): what stays between two passes on a plane."""
    solid = solid_from_shape(BRepPrimAPI_MakeBox(30.0, 20.0, 10.0).Shape())
    given = inputs(solid, BALL)
    path = run_strategy(given, ParallelFinishing(scallop_mm=0.05, tolerance_mm=0.005)).toolpath
    (stock, _), _ = carve(given, path)
    distance, sources, places = deviations(solid, stock)
    top = (sources >= 0) & (places[:, 2] > 9.9) & np.all((places[:, :2] > [3, 3]) & (places[:, :2] < [27, 17]), axis=1)
    assert distance[top].max() <= 0.0505
    assert distance[top].max() > 0.03
    assert distance.min() > -0.006


def test_allowances_are_left_by_finishing(dish):
    given = inputs(dish, BALL, 0.01)
    params = ParallelFinishing(stepover_mm=0.6, allowance_mm=0.3, floor_allowance_mm=0.3, tolerance_mm=0.01)
    (stock, _), _ = carve(given, run_strategy(given, params).toolpath)
    distance, sources, _ = deviations(dish, stock)
    assert distance[sources >= 0].min() > 0.3 - 0.012


def test_one_way_and_boundary_of_faces(dish):
    face = next(i for i, f in enumerate(dish.faces) if f.kind == "sphere")
    mesh = mesh_at(dish, 0.005).of_faces([face])
    given = inputs(dish, BALL, boundary=mesh)
    path = run_strategy(
        given, ParallelFinishing(stepover_mm=2, way="one way", tolerance_mm=0.02, overlap_mm=-1)
    ).toolpath
    cutting = path.point[path.kind == Kind.CUT]
    rim = np.sqrt(30**2 - 22**2)
    assert np.hypot(cutting[:, 0] - 25, cutting[:, 1] - 20).max() < rim - 1 + 0.05
    passes = [path.point[path.pass_id == k] for k in range(path.pass_id.max() + 1)]
    assert all(p[-1, 0] > p[0, 0] for p in passes if len(p) > 1)
    assert not (path.kind == Kind.LINK).any()


@pytest.mark.parametrize(
    ("params", "words"),
    [({"stepover_mm": 1.0, "overlap_mm": -90}, "empty"), ({"scallop_mm": 4.0}, "corner radius")],
)
def test_finishing_refuses(dish, params, words):
    with pytest.raises(FenrikError, match=words):
        run_strategy(inputs(dish, BALL), ParallelFinishing(**params))
    with pytest.raises(FenrikError, match="flat cutter"):
        run_strategy(inputs(dish, FLAT), ParallelFinishing(scallop_mm=0.01))


@pytest.mark.parametrize("milling", ["climb", "conventional"])
def test_roughing_keeps_allowances_and_clears_the_rest(pocket, milling):
    given = inputs(pocket, FLAT, 0.05)
    outcome = run_strategy(
        given,
        LevelRoughing(
            stepdown_mm=4, stepover_mm=3.5, allowance_mm=0.3, floor_allowance_mm=0.2, tolerance_mm=0.05, milling=milling
        ),
    )
    (stock, record), flat = carve(given, outcome.toolpath)
    distance, sources, places = deviations(pocket, stock)
    assert distance[sources >= 0].min() > 0.2 - 0.01
    assert record.removed_mm3[flat.kind[1:] == Kind.RAPID].sum() == 0
    assert outcome.unreached == []
    floor = (sources >= 0) & (np.abs(places[:, 2] - 10.2) < 1e-6)
    assert floor.sum() > 1000
    # Inside the pocket, a radius away from its corners, nothing stands above the floor's allowance.
    inner = np.all((places[:, :2] > [10.4, 14.5]) & (places[:, :2] < [49.6, 25.5]), axis=1)
    assert places[inner & (places[:, 2] > 9)][:, 2].max() < 10.2 + 1e-6
    around = places[np.all((places[:, :2] < -0.4) | (places[:, :2] > 70), axis=1)]
    assert len(around) == 0


def test_climb_keeps_the_wall_on_the_right(pocket):
    given = inputs(pocket, FLAT, 0.05)
    path = run_strategy(given, LevelRoughing(stepdown_mm=12, stepover_mm=3, tolerance_mm=0.05)).toolpath
    here = (path.kind == Kind.CUT) & (np.abs(path.point[:, 2] - 10) < 1e-6)
    inner = here & np.all((path.point[:, :2] > 10) & (path.point[:, :2] < 50), axis=1)
    p = path.point[inner][:, :2] - [30, 20]
    turning = p[:-1, 0] * p[1:, 1] - p[:-1, 1] * p[1:, 0]
    assert turning.sum() > 0


def test_levels_at_flat_areas(pocket):
    given = inputs(pocket, FLAT)
    assert flat_heights(given, 1.0) == pytest.approx([10.0, 20.0])
    levels = plan_levels(given, LevelRoughing(stepdown_mm=3, stepover_mm=3, floor_allowance_mm=0.2), 21.0, 0.0)
    assert any(abs(z - 20.2) < 1e-9 for z in levels)
    assert any(abs(z - 10.2) < 1e-9 for z in levels)
    assert max(np.diff([21.0, *levels][::-1])) <= 3 + 1e-9


def test_pocket_by_pocket_not_level_by_level():
    block = BRepPrimAPI_MakeBox(80.0, 30.0, 20.0).Shape()
    for x in (6, 46):
        block = BRepAlgoAPI_Cut(block, BRepPrimAPI_MakeBox(gp_Pnt(x, 6, 5), 28.0, 18.0, 20.0).Shape()).Shape()
    solid = solid_from_shape(block)
    mesh = mesh_at(solid, 0.01)
    stock = Stock.box(np.zeros(3), np.array([80.0, 30, 20]), 0.5)
    tool = Tool(number=1, cutter=FLAT, stick_out_mm=45)
    given = given_of(mesh, stock, tool)
    path = run_strategy(given, LevelRoughing(stepdown_mm=3, stepover_mm=3.5, bottom_mm=5.0, tolerance_mm=0.05)).toolpath
    side = path.point[path.kind == Kind.CUT][:, 0] > 40
    assert np.count_nonzero(np.diff(side.astype(int))) == 1


def test_too_narrow_place_is_reported_with_its_width(pocket):
    given = inputs(pocket, FlatCutter(diameter_mm=24, flute_length_mm=30), 0.05)
    outcome = run_strategy(given, LevelRoughing(stepdown_mm=5, stepover_mm=10, tolerance_mm=0.05))
    assert len(outcome.unreached) == 1
    found = outcome.unreached[0]
    assert "20" in found.reason.split("about")[1][:8]
    assert found.place[:2] == pytest.approx((30, 20), abs=12)
    assert found.level_mm == pytest.approx(10, abs=0.01)


def test_only_where_stock_is(pocket):
    given = inputs(pocket, FLAT, 0.05)
    params = LevelRoughing(stepdown_mm=5, stepover_mm=3.5, tolerance_mm=0.05)
    (stock, _), _ = carve(given, run_strategy(given, params).toolpath)
    again = run_strategy(inputs(pocket, FLAT, 0.05, stock), params).toolpath
    assert again.cut_length_mm() < 0.02 * run_strategy(given, params).toolpath.cut_length_mm()


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({"stepover_mm": 9}, "wider than the tool"),
        ({"bottom_mm": 50, "top_mm": 20}, "above the top"),
        ({"stepdown_mm": 1e-3}, "levels"),
    ],
)
def test_roughing_refuses(pocket, params, words):
    with pytest.raises(FenrikError, match=words):
        run_strategy(inputs(pocket, FLAT), LevelRoughing(**{"stepdown_mm": 4, "stepover_mm": 3, **params}))


def test_roughing_down_to_a_bottom_over_all_stock_is_empty_and_says_so(pocket):
    found = run_strategy(inputs(pocket, FLAT), LevelRoughing(stepdown_mm=4, stepover_mm=3, bottom_mm=50))
    assert len(found.toolpath) == 0
    assert "No stock stands over the bottom" in found.unreached[0].reason

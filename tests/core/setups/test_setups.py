"""How a part lies, its stock, what holds it, and grids, against closed forms."""

import math

import numpy as np
import pytest
import trimesh

import parts
from fenrik.core.build import Build
from fenrik.core.errors import FenrikError
from fenrik.core.job import shared_offsets
from fenrik.core.job_reading import parse_job
from fenrik.core.placing import Placing
from fenrik.core.recognise import recognise
from fenrik.core.setups.fixtures import Place
from fenrik.core.setups.holding import moved_place, seat
from fenrik.core.setups.orientation import UpFace, UpPoints, frame_words, oriented_frame
from fenrik.core.setups.stocks import StockList, next_size
from fenrik.core.solids import EdgeReference, FaceRule, find_faces, reference_to
from fenrik.core.solids.reading import solid_from_shape, solid_from_shapes
from fenrik.core.solids.writing import write_solid
from fenrik.core.solids.xcaf import NamedShape
from fenrik.core.stock import Stock
from fenrik.core.store import MemoryStore


@pytest.fixture(scope="module")
def block():
    """60 × 40 × 20 with a pocket 40 × 20, 10 deep."""
    return solid_from_shape(parts.cut(parts.box(0, 0, 0, 60, 40, 20), parts.box(10, 10, 10, 40, 20, 20)))


def placed(solid, files=None, extra=None, **setup):
    data = {"part": {"file": "a.step"}, "setups": [{"id": "a", **setup}], "files": sorted(files or {}), **(extra or {})}
    job = parse_job(data)
    return Placing(job, job.setups[0], solid, solid, lambda n: (files or {})[n], lambda _: None, 0.5)


def volume(stock):
    count, at, _, _ = stock.dense(2)
    lengths = np.diff(at, axis=2)[..., ::2]
    return float(lengths[np.arange(lengths.shape[2]) < count[..., None] // 2].sum()) * stock.lattice.cell_mm**2


def made(placing):
    return placing.make_stock(lambda _: None)


# Orientation


def test_directions_from_faces_edges_and_points(block):
    pocket_floor = find_faces(block, FaceRule(normal=(0, 0, 1), at_z=10), "f")[0]
    up = UpFace(face=reference_to(block, pocket_floor))
    assert frame_words(up, block, recognise(block)) == "on floor of pocket 1"
    assert frame_words(up, block, None) == "on a flat face at 10 mm"
    flipped = oriented_frame(up, block, "up", flip=True)
    assert np.allclose(flipped.rotation[:, 2], [0, 0, -1])
    points = UpPoints(points=((0, 0, 0), (0, 1, 0), (0, 0, 1)))
    assert np.allclose(oriented_frame(points, block, "up").rotation[:, 2], [1, 0, 0])
    with pytest.raises(FenrikError, match="in one line"):
        oriented_frame(UpPoints(points=((0, 0, 0), (1, 0, 0), (2, 0, 0))), block, "up")
    along = next(e for e in block.edges if abs(e.tangent[1]) > 0.9 and e.length_mm == pytest.approx(40))
    reference = EdgeReference(edge="line", length_mm=40, middle=along.middle)
    frame = oriented_frame(parse_job({"setups": [{"id": "a"}]}).setups[0].up, block, "up", x_along=reference)
    assert abs(frame.rotation[:, 0] @ [0, 1, 0]) == pytest.approx(1)
    with pytest.raises(FenrikError, match="no edge"):
        oriented_frame(up, block, "up", x_along=EdgeReference(edge="line", length_mm=41, middle=(0, 0, 0)))


def test_every_frame_is_right_handed(block):
    for axis in ("+x", "-x", "+y", "-y", "+z", "-z"):
        for flip in (False, True):
            placing = placed(block, up={"kind": "axis", "axis": axis}, flip=flip, spin_deg=33)
            assert np.linalg.det(placing.frame.rotation) == pytest.approx(1)


# Stock


def test_round_bar_hexagon_and_turned_outline(block):
    bar = placed(block, stock={"kind": "round bar", "axis": "x", "radial_mm": 1, "start_mm": 2, "end_mm": 3})
    radius = math.hypot(20, 10) + 1
    assert np.allclose(bar.stock, [[-2, 20 - radius, 10 - radius], [63, 20 + radius, 10 + radius]])
    assert volume(made(bar)) == pytest.approx(math.pi * radius**2 * 65, rel=5e-3)
    tube = placed(
        block, stock={"kind": "round bar", "axis": "z", "radial_mm": 1, "start_mm": 0, "end_mm": 0, "bore_mm": 20}
    )
    wide = math.hypot(30, 20) + 1
    assert volume(made(tube)) == pytest.approx(math.pi * (wide**2 - 100) * 20, rel=5e-3)
    hexagon = placed(block, stock={"kind": "hexagon bar", "axis": "x", "radial_mm": 0, "start_mm": 0, "end_mm": 0})
    flats = float(hexagon.stock[1, 2] - hexagon.stock[0, 2])
    assert volume(made(hexagon)) == pytest.approx(math.sqrt(3) / 2 * flats**2 * 60, rel=5e-3)
    mesh, _ = hexagon.stock_mesh()
    general = trimesh.Trimesh(mesh.vertices, mesh.triangles)
    assert general.is_watertight
    assert general.contains(np.array([[0.01, 0.01, 0.01], [59.9, 39.9, 19.9], [30, 0.01, 19.9]])).all()


def test_outlines_pulled_up_and_turned():
    pin = solid_from_shape(parts.fuse(parts.cylinder(0, 0, 0, 10, 20), parts.cylinder(0, 0, 20, 5, 15)))
    pulled = placed(pin, stock={"kind": "outline", "around_mm": 2, "z_minus_mm": 0, "z_plus_mm": 1})
    assert volume(made(pulled)) == pytest.approx(math.pi * 144 * 36, rel=0.01)
    turned = placed(pin, stock={"kind": "turned outline", "axis": "z", "radial_mm": 1, "start_mm": 0, "end_mm": 0})
    assert volume(made(turned)) == pytest.approx(math.pi * (121 * 20 + 36 * 15), rel=0.01)
    mesh, _ = turned.stock_mesh()
    assert trimesh.Trimesh(mesh.vertices, mesh.triangles).is_watertight


def test_sizes_from_the_stock_list(block):
    box = placed(block, stock={"kind": "box", "round_up": True, "x_minus_mm": 2, "x_plus_mm": 2, "z_plus_mm": 1})
    assert np.allclose(box.stock[1] - box.stock[0], [65, 45, 25])
    assert box.stock[1, 2] == pytest.approx(21)  # the extra thickness is below
    bar = placed(block, stock={"kind": "round bar", "axis": "x", "round_up": True})
    assert float(bar.stock[1, 1] - bar.stock[0, 1]) == pytest.approx(50)
    with pytest.raises(FenrikError, match="largest size kept"):
        next_size(StockList().bars_mm, 900, "stock.diameter")


def test_stock_from_a_body_and_from_a_file(block):
    model = solid_from_shapes(
        [NamedShape(parts.box(0, 0, 0, 60, 40, 20), "part"), NamedShape(parts.box(-5, -5, -5, 70, 50, 30), "casting")]
    )
    body = placed(model, stock={"kind": "body", "body": "casting"})
    assert np.allclose(body.stock, [[-5, -5, -5], [65, 45, 25]])
    assert volume(made(body)) == pytest.approx(70 * 50 * 30, rel=0.02)
    with pytest.raises(FenrikError, match="no body of that name"):
        placed(model, stock={"kind": "body", "body": "gone"}).stock  # noqa: B018
    files = {"cast.stl": write_solid(solid_from_shape(parts.box(-1, -2, -3, 70, 50, 30)), ".stl")}
    mesh = placed(block, files, stock={"kind": "file", "file": "cast.stl"})
    assert np.allclose(mesh.stock, [[-1, -2, -3], [69, 48, 27]])
    with pytest.raises(FenrikError, match="not a file of this job"):
        placed(block, stock={"kind": "file", "file": "other.stl"})


def test_turning_the_part_over_keeps_what_was_cut(block):
    step = write_solid(block, ".step")
    rough = {"strategy": "level roughing", "stepdown_mm": 5, "stepover_mm": 4, "tolerance_mm": 0.05}
    job = parse_job(
        {
            "part": {"file": "a.step"},
            "tools": [
                {"number": 1, "cutter": {"kind": "flat", "diameter_mm": 8, "flute_length_mm": 30}, "stick_out_mm": 40}
            ],
            "setups": [
                {"id": "top", "stock": {"kind": "box", "z_minus_mm": 3}},
                {
                    "id": "bottom",
                    "up": {"kind": "axis", "axis": "-z"},
                    "stock": {"kind": "earlier setup", "setup": "top"},
                },
            ],
            "operations": [{"number": 10, "setup": "top", "tool": 1, "params": rough}],
            "cell_mm": 0.6,
        }
    )
    build = Build(job, step, MemoryStore())
    top, bottom = job.setups
    left = build.stock_after(job.operations[0])
    turned = build.first_stock(bottom)
    assert volume(turned) == pytest.approx(volume(left), rel=1e-2)
    assert volume(turned) < 0.9 * volume(build.first_stock(top))
    places, _, _ = turned.hits()
    # The pocket now looks down: material over its floor, none below it.
    under = places[(np.abs(places[:, 0] - 30) < 5) & (np.abs(places[:, 1] + 20) < 3)]
    assert under[:, 2].min() == pytest.approx(-10, abs=0.06)
    before = build.first_stock_key(bottom)
    changed = job.model_copy(
        update={
            "operations": [
                job.operations[0].model_copy(
                    update={"tool": 1, "params": job.operations[0].params.model_copy(update={"stepdown_mm": 4})}
                )
            ]
        }
    )
    assert Build(changed, step, MemoryStore()).first_stock_key(bottom) != before
    with pytest.raises(FenrikError, match="not a setup before"):
        parse_job({"setups": [{"id": "a", "stock": {"kind": "earlier setup", "setup": "a"}}]})


# Fixtures

VICE = {"kind": "vice", "id": "v", "name": "Vice"}


def test_a_vice_grips_the_stock_and_says_how_deep(block):
    placing = placed(block, fixtures=[VICE], stock={"kind": "box", "z_minus_mm": 5})
    _, solid = placing.fixtures[0]
    jaws = [b for b in solid.bodies if "jaw" in b.name]
    assert len(jaws) == 2
    inner = [f for f in solid.faces if f.kind == "plane" and abs(abs(f.normal[1]) - 1) < 1e-9]
    assert {round(f.centroid[1], 6) for f in inner} >= {-2.0, 42.0}  # both jaws on the stock's sides
    assert placing.check() == []
    assert placing.table_level == pytest.approx(-5 - 50)
    shallow = placed(block, fixtures=[{**VICE, "jaw_height_mm": 2}], stock={"kind": "box", "z_minus_mm": 5})
    assert [f.kind for f in shallow.check()] == ["grip"]
    wide = placed(block, fixtures=[{**VICE, "opening_mm": 50}])
    assert [f.kind for f in wide.check()] == ["gap"]
    assert wide.check()[0].amount == pytest.approx(3)
    assert [f.kind for f in placing.check(lowest_cut=0.0)] == ["jaw in the way"]
    assert placing.check(lowest_cut=26.0) == []


def test_step_and_soft_jaws_carry_the_part_on_ledges(block):
    for jaws in ("step", "soft"):
        solid = placed(block, fixtures=[{**VICE, "jaws": jaws}]).fixtures[0][1]
        ledges = [f for f in solid.faces if f.kind == "plane" and f.normal[2] > 0.9 and abs(f.centroid[2]) < 1e-9]
        assert len(ledges) >= 2
        assert solid.bounds()[0, 2] == pytest.approx(-12 - 50)


def test_every_fixture_is_a_closed_solid(block):
    fixtures = [
        VICE,
        {"kind": "toe clamp", "id": "c"},
        {"kind": "plate", "id": "p", "size_x_mm": 200, "size_y_mm": 150},
        {"kind": "chuck", "id": "k"},
    ]
    placing = placed(block, fixtures=fixtures)
    for fixture, solid in placing.fixtures:
        assert all(b.kind == "solid" and b.volume_mm3 > 0 for b in solid.bodies), fixture.kind
        assert not solid.warnings
    holes = len([f for f in placing.fixtures[2][1].faces if f.kind == "cylinder"])
    assert holes == 7 * 5
    with pytest.raises(FenrikError, match="wider than their pitch"):
        placed(block, fixtures=[{"kind": "plate", "id": "p", "hole_mm": 30}])


def test_gap_to_the_table_is_measured_and_closed(block):
    placing = placed(block, fixtures=[VICE], table_below_mm=53.5)
    gap = [f for f in placing.check() if f.kind == "gap"]
    assert gap[0].amount == pytest.approx(3.5)
    lower = {**VICE, "place": {"z_mm": -3.5}}
    assert [
        f for f in placed(block, fixtures=[lower], table_below_mm=53.5).check() if f.kind in ("gap", "overlap")
    ] == []
    sunk = {**VICE, "place": {"z_mm": -5}}
    assert [f.kind for f in placed(block, fixtures=[sunk], table_below_mm=53.5).check() if f.amount < 0] == ["overlap"]


def test_a_fixture_is_seated_by_picking_two_faces(block):
    clamp = {"kind": "toe clamp", "id": "c", "place": {"x_mm": 60, "y_mm": 9, "z_mm": 33, "turn_deg": 20}}
    placing = placed(block, fixtures=[clamp])
    fixture, solid = placing.fixtures[0]
    nose = next(i for i, f in enumerate(solid.faces) if f.normal[2] < -0.9 and f.centroid[2] == pytest.approx(33))
    top = find_faces(block, FaceRule(normal=(0, 0, 1), at_z=20), "f")[0]
    shift, turn = seat(solid, nose, block, top)
    assert turn == 0
    assert shift == pytest.approx([0, 0, -13])
    moved = moved_place(fixture.place, np.array([30.0, 20, 0]), np.zeros(3), shift, turn)
    assert moved == Place(x_mm=60, y_mm=9, z_mm=20, turn_deg=20)
    side = next(i for i, f in enumerate(block.faces) if f.normal[0] > 0.9 and f.centroid[0] == pytest.approx(60))
    end = next(
        i
        for i, f in enumerate(solid.faces)
        if f.kind == "plane" and abs(f.normal[2]) < 0.1 and f.area_mm2 > 300 and f.normal[0] < -0.5
    )
    shift, turn = seat(solid, end, block, side)
    assert turn == pytest.approx(-20)
    with pytest.raises(FenrikError, match="lean differently"):
        seat(solid, nose, block, side)


def test_shared_offsets_are_said(block):
    job = parse_job({"setups": [{"id": "a"}, {"id": "b"}, {"id": "c", "work_offset": 103}]})
    assert shared_offsets(job) == {54: ["a", "b"]}
    with pytest.raises(FenrikError, match="54 to 59, or 101"):
        parse_job({"setups": [{"id": "a", "work_offset": 70}]})


# Grids


def test_a_grid_of_copies_turned_and_mirrored(block):
    grid = {
        "columns": 3,
        "rows": 2,
        "pitch_x_mm": 70,
        "pitch_y_mm": 50,
        "turn_deg": 180,
        "mirror": True,
        "which": "chequered",
    }
    placing = placed(block, grid=grid)
    assert len(placing.instances) == 6
    assert [i.is_mirrored for i in placing.instances] == [False, True, False, True, False, True]
    assert np.allclose(placing.parts, [[0, 0, 0], [200, 90, 20]])
    mesh = placing.mesh_of_parts(block.mesh)
    general = trimesh.Trimesh(mesh.vertices, mesh.triangles)
    assert general.is_watertight
    assert general.volume == pytest.approx(6 * block.volume_mm3, rel=1e-6)  # mirrored ones still face outwards
    assert np.allclose(placing.stock, [[-2, -2, 0], [202, 92, 21]])
    each = placed(block, grid={**grid, "blanks": "one each"})
    assert volume(made(each)) == pytest.approx(6 * 64 * 44 * 21, rel=0.02)
    assert isinstance(made(placing), Stock)


def test_an_operation_on_one_copy_leaves_the_others_alone(block):
    step = write_solid(block, ".step")
    rough = {"strategy": "level roughing", "stepdown_mm": 10, "stepover_mm": 4, "tolerance_mm": 0.05}
    base = {
        "part": {"file": "a.step"},
        "tools": [
            {"number": 1, "cutter": {"kind": "flat", "diameter_mm": 8, "flute_length_mm": 30}, "stick_out_mm": 40}
        ],
        "setups": [{"id": "a", "grid": {"columns": 2, "rows": 1, "pitch_x_mm": 80, "blanks": "one each"}}],
        "operations": [{"number": 10, "setup": "a", "tool": 1, "instance": 2, "params": rough}],
        "cell_mm": 0.8,
    }
    build = Build(parse_job(base), step, MemoryStore())
    before, after = build.first_stock(build.job.setups[0]), build.stock_after(build.job.operations[0])

    def material(stock, low, high):
        x, _, _ = stock.node_axes()
        count, at, _, _ = stock.dense(2)
        lengths = np.diff(at, axis=2)[..., ::2] * (np.arange(at.shape[2] // 2) < count[..., None] // 2)
        inside = (x > low) & (x < high)
        return float(lengths[inside].sum())

    assert material(after, -5, 65) == material(before, -5, 65)
    assert material(after, 78, 145) < 0.9 * material(before, 78, 145)
    base["operations"][0]["instance"] = 9
    with pytest.raises(FenrikError, match="not in the grid"):
        Build(parse_job(base), step, MemoryStore()).path(parse_job(base).operations[0])


def test_a_body_that_is_a_fixture_has_a_setup_of_its_own():
    model = solid_from_shapes(
        [NamedShape(parts.box(0, 0, 0, 40, 30, 10), "part"), NamedShape(parts.box(0, 40, 0, 50, 20, 15), "nest")]
    )
    step = write_solid(model, ".step")
    job = parse_job(
        {
            "part": {"file": "a.step", "roles": [{"body": "nest", "role": "fixture"}]},
            "setups": [
                {"id": "jaw", "makes": "nest"},
                {"id": "part", "fixtures": [{"kind": "body", "id": "n", "body": "nest"}]},
            ],
        }
    )
    build = Build(job, step, MemoryStore())
    assert build.solid.volume_mm3 == pytest.approx(40 * 30 * 10)
    jaw, part = (build.placing(s) for s in job.setups)
    assert np.allclose(jaw.one_part, [[0, 40, 0], [50, 60, 15]])
    assert np.allclose(part.one_part, [[0, 0, 0], [40, 30, 10]])
    assert part.fixtures[0][1].volume_mm3 == pytest.approx(50 * 20 * 15)
    wrong = parse_job({"part": {"file": "a.step", "roles": [{"body": "nset", "role": "fixture"}]}, "setups": []})
    with pytest.raises(FenrikError, match=r"part\.roles\.0\.body .*no body of that name.*nest"):
        _ = Build(wrong, step, MemoryStore()).solid
    lost = parse_job({"part": {"file": "a.step"}, "setups": [{"id": "x", "makes": "gone"}]})
    with pytest.raises(FenrikError, match="no body of that name"):
        Build(lost, step, MemoryStore()).placing(lost.setups[0])

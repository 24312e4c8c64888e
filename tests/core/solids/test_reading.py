"""Reading solids: volumes and areas in closed form, mesh measures against trimesh, and bad files."""

import io

import numpy as np
import pytest
import trimesh
from OCP.BRep import BRep_Builder
from OCP.BRepBuilderAPI import BRepBuilderAPI_NurbsConvert
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCone, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeSphere
from OCP.IGESControl import IGESControl_Writer
from OCP.TopoDS import TopoDS_Compound

from fenrik.core.errors import FenrikError
from fenrik.core.solids import FaceRule, find_faces, read_solid, reference_to
from fenrik.core.solids.reading import MAX_BYTES, mesh_at, solid_from_shape
from fenrik.core.solids.tessellate import to_bytes
from fenrik.demo.modelling import write_step


@pytest.mark.parametrize(
    ("shape", "volume", "area"),
    [
        (BRepPrimAPI_MakeSphere(10.0).Shape(), 4 / 3 * np.pi * 1000, 400 * np.pi),
        (BRepPrimAPI_MakeCylinder(5.0, 20.0).Shape(), 500 * np.pi, 250 * np.pi),
        (
            BRepPrimAPI_MakeCone(6.0, 2.0, 9.0).Shape(),
            np.pi * 9 / 3 * (36 + 12 + 4),
            np.pi * (36 + 4 + 8 * np.hypot(4, 9)),
        ),
    ],
)
def test_closed_forms(shape, volume, area):
    solid = solid_from_shape(shape)
    assert solid.volume_mm3 == pytest.approx(volume, rel=1e-9)
    assert solid.area_mm2 == pytest.approx(area, rel=1e-9)
    mesh = mesh_at(solid, 0.002)
    general = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
    assert general.is_watertight
    assert mesh.volume_mm3() == pytest.approx(general.volume, rel=1e-9)
    assert mesh.volume_mm3() == pytest.approx(volume, rel=2e-3)


def test_deflection_is_kept():
    mesh = mesh_at(solid_from_shape(BRepPrimAPI_MakeSphere(10.0).Shape()), 0.01)
    middles = mesh.corners().mean(axis=1)
    assert 10 - np.linalg.norm(middles, axis=1).min() < 0.0105


def test_formats_agree(tmp_path, pocket_shape):
    write_step(pocket_shape, tmp_path / "a.step")
    writer = IGESControl_Writer()
    writer.AddShape(pocket_shape)
    writer.Write(str(tmp_path / "a.igs"))
    from OCP.BRepTools import BRepTools

    BRepTools.Write_s(pocket_shape, str(tmp_path / "a.brep"))
    volume = 60 * 40 * 20 - 40 * 20 * 10
    for name in ("a.step", "a.brep"):
        assert read_solid((tmp_path / name).read_bytes(), name).volume_mm3 == pytest.approx(volume)
    igs = read_solid((tmp_path / "a.igs").read_bytes(), "a.igs")
    assert np.allclose(igs.bounds(), [[0, 0, 0], [60, 40, 20]], atol=1e-6)


def test_stl_binary_and_text(pocket):
    general = trimesh.Trimesh(pocket.mesh.vertices, pocket.mesh.triangles)
    for data in (general.export(file_type="stl"), general.export(file_type="stl_ascii").encode()):
        solid = read_solid(data, "part.stl", 2.0)
        assert solid.volume_mm3 == pytest.approx(8 * pocket.volume_mm3, rel=1e-6)
        assert len(solid.faces) == 11
        assert not solid.is_exact
        assert find_faces(solid, FaceRule(normal=(0, 0, 1), at_z=20), "f")


def test_scale_hint_for_metres_and_inches():
    shape = BRepPrimAPI_MakeSphere(0.05).Shape()
    assert "25.4" in solid_from_shape(shape).warnings[0]
    assert "0.001" in solid_from_shape(shape, 1e6).warnings[0]
    assert solid_from_shape(shape, 100).warnings == []
    # A part of 5 mm is more often one in another unit.
    rod = solid_from_shape(BRepPrimAPI_MakeSphere(2.5).Shape())
    assert "25.4 makes it 127 mm" in rod.warnings[0]


def _nan_stl():
    mesh = trimesh.creation.box()
    data = bytearray(mesh.export(file_type="stl"))
    data[84 + 12 : 84 + 16] = b"\xff\xff\xff\x7f"
    return bytes(data)


def _empty_compound():
    compound = TopoDS_Compound()
    BRep_Builder().MakeCompound(compound)
    return compound


@pytest.mark.parametrize(
    ("data", "name", "words"),
    [
        (b"", "a.step", "empty"),
        (b"hello", "a.step", "not a STEP"),
        (b"x" * 50, "a.doc", "ending"),
        (b"ISO-10303-21;\nHEADER;", "a.step", "breaks off"),
        (b"PK\x03\x04" + b"0" * 99, "a.stl", "not an STL"),
        (b"solid x\nvertex 1 2 x\n", "a.stl", "not three numbers"),
        (b"solid x\nendsolid", "a.stl", "no whole triangle"),
        (b"ISO-10303-21;\nHEADER;ENDSEC;DATA;ENDSEC;END-ISO-10303-21;", "a.stp", ""),
        (b"garbage", "a.brep", ""),
        (b"garbage", "a.igs", ""),
        (b"0" * (MAX_BYTES + 1), "a.step", "at most"),
    ],
)
def test_bad_files_say_what_to_do(data, name, words):
    with pytest.raises(FenrikError) as error:
        read_solid(data, name)
    problem = error.value.problems[0]
    assert problem.field.startswith("part")
    assert words in problem.message
    assert problem.way_out


def test_nan_scale_and_nothing():
    with pytest.raises(FenrikError, match="not numbers"):
        read_solid(_nan_stl(), "a.stl")
    with pytest.raises(FenrikError, match="above 0"):
        read_solid(b"x", "a.stl", 0.0)
    with pytest.raises(FenrikError, match="no surface"):
        solid_from_shape(_empty_compound())


def test_open_mesh_is_reported(pocket):
    mesh = trimesh.Trimesh(pocket.mesh.vertices, pocket.mesh.triangles[3:])
    assert any("open" in w for w in read_solid(mesh.export(file_type="stl"), "a.stl").warnings)


def test_faces_are_found_again_and_lost_is_said(pocket, dish):
    for index in range(len(pocket.faces)):
        assert find_faces(pocket, reference_to(pocket, index), "f") == [index]
    floor = find_faces(pocket, FaceRule(normal=(0, 0, 1), at_z=10), "f")
    assert len(floor) == 1
    assert pocket.faces[floor[0]].area_mm2 == pytest.approx(800)
    with pytest.raises(FenrikError, match="lost"):
        find_faces(dish, reference_to(pocket, floor[0]), "operations.10.face")


def test_brep_bytes_give_the_same_solid_again(dish, dish_shape):
    assert solid_from_shape(dish.shape()).volume_mm3 == pytest.approx(dish.volume_mm3, rel=1e-12)
    assert io.BytesIO(to_bytes(dish_shape)).read(10)


def test_level_faces_that_come_as_free_form_are_planes_that_look_outwards():
    box = BRepPrimAPI_MakeBox(30.0, 20.0, 10.0).Shape()
    plain, bent = solid_from_shape(box), solid_from_shape(BRepBuilderAPI_NurbsConvert(box, True).Shape())
    assert [f.kind for f in bent.faces] == ["plane"] * 6
    for a, b in zip(plain.faces, bent.faces, strict=True):
        assert b.normal == pytest.approx(a.normal, abs=1e-9)
        assert b.origin @ np.array(b.normal) == pytest.approx(a.origin @ np.array(a.normal), abs=1e-9)
    rod = solid_from_shape(BRepBuilderAPI_NurbsConvert(BRepPrimAPI_MakeCylinder(5.0, 20.0).Shape(), True).Shape())
    assert sorted(f.kind for f in rod.faces) == ["freeform", "plane", "plane"]

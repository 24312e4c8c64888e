"""Several bodies, names, colours, health, what a click takes, and round trips of every format."""

import numpy as np
import pytest
import trimesh
from OCP.BRep import BRep_Builder
from OCP.TopAbs import TopAbs_FACE
from OCP.TopoDS import TopoDS_Compound

from fenrik.core.errors import FenrikError
from fenrik.core.solids import find_faces, read_solid
from fenrik.core.solids.describe import list_shapes
from fenrik.core.solids.health import check_thoroughly, crossing_faces
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.packing import pack_solid, unpack_solid
from fenrik.core.solids.picking import alike_faces, edge_chains, loop_of, smooth_groups
from fenrik.core.solids.reading import solid_from_shape, solid_from_shapes
from fenrik.core.solids.references import EdgeReference, FaceRule, edge_reference_to, find_edge
from fenrik.core.solids.writing import write_solid
from fenrik.core.solids.xcaf import NamedShape, write_step
from parts import box, cut, cylinder, dressed, milled, round_upright_edges, turned


@pytest.fixture(scope="module")
def assembly():
    return solid_from_shapes(
        [
            NamedShape(box(0, 0, 0, 20, 20, 20), "Ledge ⌀ 20", "#aa3311", ["#112233"] + ["#aa3311"] * 5),
            NamedShape(cylinder(50, 0, 0, 5, 10), "Pin", "#00ff00"),
            NamedShape(cylinder(80, 0, 0, 5, 10), "Pin", "#00ff00"),
        ]
    )


def test_bodies_have_names_of_their_own_and_colours(assembly):
    assert [b.name for b in assembly.bodies] == ["Ledge ⌀ 20", "Pin", "Pin 2"]
    assert [b.faces for b in assembly.bodies] == [6, 3, 3]
    assert assembly.faces[0].colour == "#112233"
    assert assembly.faces[1].colour == "#aa3311"
    assert {f.body for f in assembly.faces[6:9]} == {1}
    assert alike_faces(assembly, 1, "colour") == [1, 2, 3, 4, 5]


@pytest.mark.parametrize("suffix", [".step", ".stl", ".3mf", ".glb"])
def test_round_trip(assembly, suffix):
    data = write_solid(assembly, suffix, 0.005)
    if suffix == ".glb":
        scene = trimesh.load_scene(trimesh.util.wrap_as_stream(data), file_type="glb")
        assert sum(g.volume for g in scene.geometry.values()) * 1e9 == pytest.approx(assembly.volume_mm3, rel=2e-3)
        assert set(scene.geometry) == {"Ledge ⌀ 20", "Pin", "Pin 2"}
        return
    back = read_solid(data, f"a{suffix}")
    assert np.allclose(back.bounds(), assembly.bounds(), atol=1e-9 if suffix == ".step" else 0.005)
    exact = suffix == ".step"
    assert back.volume_mm3 == pytest.approx(assembly.volume_mm3, rel=1e-9 if exact else 2e-3)
    if suffix != ".stl":
        assert sorted(b.name for b in back.bodies) == sorted(b.name for b in assembly.bodies)
    if exact:
        assert back.faces[0].colour == "#112233"
        assert {back.bodies[1].colour, back.faces[7].colour} == {"#00ff00"}


def test_obj_and_units_of_3mf():
    mesh = trimesh.creation.box((10, 20, 30))
    obj = read_solid(mesh.export(file_type="obj").encode(), "a.obj")
    assert obj.volume_mm3 == pytest.approx(6000)
    assert len(obj.faces) == 6
    scene = trimesh.Scene(mesh)
    scene.units = "mm"
    data = scene.export(file_type="3mf")
    assert read_solid(data, "a.3mf").volume_mm3 == pytest.approx(6000)
    for name, bad in (("a.3mf", b"PK\x03\x04 nothing"), ("a.obj", b"v 1 2\nf 1 2 3 9\n"), ("a.obj", b"\xff\xfe")):
        with pytest.raises(FenrikError) as error:
            read_solid(bad, name)
        assert error.value.problems[0].way_out


def test_instances_of_an_assembly_stand_in_their_places(tmp_path):
    data = write_step([NamedShape(turned(box(0, 0, 0, 4, 5, 6)), "part")])
    solid = read_solid(data, "a.step")
    assert solid.volume_mm3 == pytest.approx(120)
    kept = unpack_solid(pack_solid(solid))
    assert kept.bodies == solid.bodies
    assert kept.faces == solid.faces
    assert kept.edges[3].into == solid.edges[3].into


def test_loose_faces_are_sewn_and_open_ones_are_reported():
    block = box(0, 0, 0, 10, 10, 10)
    faces = list_shapes(block, TopAbs_FACE)

    def compound(chosen):
        builder, out = BRep_Builder(), TopoDS_Compound()
        builder.MakeCompound(out)
        for f in chosen:
            builder.Add(out, f)
        return out

    sewn = solid_from_shape(compound(faces))
    assert sewn.volume_mm3 == pytest.approx(1000)
    assert [(h.kind, h.mended) for h in sewn.health] == [("open shell", True)]
    gaping = solid_from_shape(compound(faces[:5]))
    assert any(h.kind == "open shell" and not h.mended for h in gaping.health)
    assert any("open" in w for w in gaping.warnings)


def test_slivers_tiny_edges_and_crossings():
    thin = solid_from_shape(cut(box(0, 0, 0, 20, 20, 10), box(5, 5, 9.998, 10, 10, 5)))
    assert any(h.kind == "sliver" and h.amount_mm == pytest.approx(0.002, rel=0.1) for h in thin.health)
    tiny = solid_from_shape(box(0, 0, 0, 20, 20, 0.0005))
    assert sum(h.kind == "tiny edge" for h in tiny.health) == 4
    clean = solid_from_shape(milled())
    assert check_thoroughly(clean) == []
    one, other = trimesh.creation.box((10, 10, 10)), trimesh.creation.box((4, 4, 20))
    both = trimesh.util.concatenate([one, other])
    ids = np.repeat([0, 1], [len(one.faces), len(other.faces)]).astype(np.int32)
    assert [c[:2] for c in crossing_faces(Mesh(both.vertices, both.faces.astype(np.int32), ids))] == [(0, 1)]


def test_chains_loops_smooth_groups_and_likeness():
    solid = solid_from_shape(round_upright_edges(box(0, 0, 0, 40, 20, 8), 5))
    chains = edge_chains(solid)
    top = max(range(len(solid.faces)), key=lambda i: solid.faces[i].centroid[2])
    rim = solid.faces[top].loops[0]
    assert len({int(chains[e]) for e in rim}) == 1
    assert set(np.flatnonzero(chains == chains[rim[0]])) == set(rim)
    assert set(loop_of(solid, rim[0], top)) == set(rim)
    groups = smooth_groups(solid)
    side = solid.faces[top].neighbours[0]
    assert (groups == groups[side]).sum() == len(solid.faces[top].neighbours)
    parts = solid_from_shape(dressed())
    corner = next(i for i, f in enumerate(parts.faces) if f.kind == "cylinder" and f.radius_mm == pytest.approx(6))
    assert len(alike_faces(parts, corner, "radius")) == 4
    floor = find_faces(parts, FaceRule(normal=(0, 0, 1), at_z=25), "f")[0]
    assert alike_faces(parts, floor, "level") == [floor]


def test_edges_and_rules_find_again():
    solid = solid_from_shape(dressed())
    for k in range(len(solid.edges)):
        assert find_edge(solid, edge_reference_to(solid, k), "f") == k
    with pytest.raises(FenrikError, match="no edge"):
        find_edge(solid, EdgeReference(edge="line", length_mm=3, middle=(0, 0, 0)), "f")
    assert len(find_faces(solid, FaceRule(surface="cylinder", radius_mm=3, concave=False), "f")) == 4
    with pytest.raises(ValueError, match="no condition"):
        FaceRule()

"""Keys against the model: one face of every kind changed at a time, and nothing stale."""

import json

import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCone,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakeSphere,
    BRepPrimAPI_MakeTorus,
)
from OCP.gp import gp_Ax2, gp_Circ, gp_Dir, gp_Pnt
from prism import bore, faces, flat, floor_at, job_for

from fenrik.core.build import Build
from fenrik.core.errors import FenrikError
from fenrik.core.job_reading import parse_job
from fenrik.core.solids.reading import solid_from_shape
from fenrik.core.solids.writing import write_solid
from fenrik.core.store import MemoryStore

SIZES = {"floor": 14.0, "bore": 6.0, "sink": 6.0, "ball": 6.0, "groove": 2.0, "waist": 6.0}
FACES = {
    "plane": {"floor": 13.9},
    "cylinder": {"bore": 6.02},
    "cone": {"sink": 6.2},
    "sphere": {"ball": 6.05},
    "torus": {"groove": 2.05},
    "freeform": {"waist": 6.2},
}


def upright(x, y, z):
    return gp_Ax2(gp_Pnt(x, y, z), gp_Dir(0, 0, 1))


def waisted(x, y, waist):
    """A body that swells and narrows: its wall is a B-spline."""
    through = BRepOffsetAPI_ThruSections(True, False)
    for z, radius in ((10.0, 5.0), (15.0, waist), (21.0, 8.0)):
        circle = BRepBuilderAPI_MakeEdge(gp_Circ(upright(x, y, z), radius)).Edge()
        through.AddWire(BRepBuilderAPI_MakeWire(circle).Wire())
    return through.Shape()


def plate(floor, bore, sink, ball, groove, waist):
    """A plate of 90 × 60 × 20 with a pocket, a bore, a countersink, a dimple, a ring groove and a swelling hollow."""
    shape = BRepPrimAPI_MakeBox(90.0, 60.0, 20.0).Shape()
    for tool in (
        BRepPrimAPI_MakeBox(gp_Pnt(6, 6, floor), 24.0, 18.0, 10.0).Shape(),
        BRepPrimAPI_MakeCylinder(upright(44, 15, -1), bore, 30.0).Shape(),
        BRepPrimAPI_MakeCone(upright(70, 15, 14), 2.0, sink, 7.0).Shape(),
        BRepPrimAPI_MakeSphere(gp_Pnt(16, 44, 21), ball).Shape(),
        BRepPrimAPI_MakeTorus(upright(44, 44, 20), 7.0, groove).Shape(),
        waisted(72, 44, waist),
    ):
        shape = BRepAlgoAPI_Cut(shape, tool).Shape()
    return shape


ROWS = [
    (1, {"strategy": "level roughing", "stepdown_mm": 5, "stepover_mm": 4, "tolerance_mm": 0.3}),
    (2, {"strategy": "parallel finishing", "stepover_mm": 4, "tolerance_mm": 0.1}),
    (1, {"strategy": "pocket clearing", "stepover_mm": 4, "stepdown_mm": 5}),
    (1, {"strategy": "bore milling"}),
    (1, {"strategy": "contour", "targets": [{"kind": "outline"}]}),
]


@pytest.fixture(scope="module")
def build():
    made = job_for(
        plate(**SIZES), ROWS, {1: flat(5), 2: {"kind": "ball", "diameter_mm": 6}}, {"kind": "box", "z_plus_mm": 1},
        cell_mm=2.0,
    )  # fmt: skip
    document = json.loads(made.job.model_dump_json())
    document["operations"][2]["params"]["targets"] = faces(made, floor_at(SIZES["floor"]))
    document["operations"][3]["params"]["targets"] = faces(made, bore(SIZES["bore"]))
    return made.with_job(parse_job(document))


def paths(build):
    """Key and bytes of the path of each row, or its error."""
    found = {}
    for o in build.job.operations:
        try:
            build.path(o)
            found[o.params.strategy] = build.path_key(o), build.store[build.path_key(o)]
        except FenrikError as error:
            found[o.params.strategy] = str(error), b""
    return found


@pytest.fixture(scope="module")
def before(build):
    made = paths(build)
    assert all(kept for _, kept in made.values()), made
    return made


@pytest.mark.parametrize("kind", FACES)
def test_a_changed_face_changes_the_key_or_leaves_the_bytes(build, before, kind):
    shape = plate(**SIZES | FACES[kind])
    assert kind in {f.kind for f in build.solid.faces}
    other = Build(build.job, write_solid(solid_from_shape(shape), ".step"), MemoryStore())
    after = paths(other)
    stale = [n for n in before if after[n][0] == before[n][0] and after[n][1] != before[n][1]]
    assert stale == []
    # What goes over all of the part has to see each of them.
    assert after["parallel finishing"][0] != before["parallel finishing"][0]

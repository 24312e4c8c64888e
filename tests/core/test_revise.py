"""A new version of the model under a job: what follows, what is lost, and what stays valid."""

import parts
from fenrik.core.build import Build
from fenrik.core.job_reading import parse_job
from fenrik.core.revise import revise
from fenrik.core.solids import FaceRule, edge_reference_to, find_faces, reference_to
from fenrik.core.solids.reading import solid_from_shape
from fenrik.core.solids.writing import write_solid
from fenrik.core.store import MemoryStore


def plate(hole=(15.0, 15.0), floor=12.0, under=(80.0, 30.0), slot=True):
    """100 × 60 × 20: a through hole, a pocket, a slot on the right, and a blind hole from below."""
    shape = parts.cut(parts.box(0, 0, 0, 100, 60, 20), parts.cylinder(*hole, -1, 4, 30))
    shape = parts.cut(shape, parts.box(30, 15, floor, 30, 30, 20), parts.cylinder(*under, -1, 3, 9))
    return parts.cut(shape, parts.box(85, -1, 15, 8, 80, 20)) if slot else shape


def solid(**rest):
    return solid_from_shape(plate(**rest))


def job_for(model):
    floor = find_faces(model, FaceRule(normal=(0, 0, 1), at_z=12), "f")[0]
    slot = find_faces(model, FaceRule(normal=(0, 0, 1), at_z=15), "f")[0]
    rim = next(i for i, e in enumerate(model.edges) if e.kind == "circle" and e.centre[2] == 20)
    finish = {"strategy": "parallel finishing", "stepover_mm": 1.5, "tolerance_mm": 0.05}

    def row(number, setup, face):
        return {
            "number": number,
            "setup": setup,
            "tool": 1,
            "params": {**finish, "boundary": {"kind": "faces", "faces": [reference_to(model, face).model_dump()]}},
        }

    return {
        "part": {"file": "a.step"},
        "tools": [
            {"number": 1, "cutter": {"kind": "ball", "diameter_mm": 4, "flute_length_mm": 20}, "stick_out_mm": 40}
        ],
        "setups": [{"id": "a"}, {"id": "b"}, {"id": "under", "up": {"kind": "axis", "axis": "-z"}}],
        "operations": [row(10, "a", floor), row(20, "b", slot)],
        "selections": [
            {"name": "rim", "items": [edge_reference_to(model, rim).model_dump()]},
            {"name": "bores", "items": [{"surface": "cylinder", "radius_mm": 4}]},
        ],
        "cell_mm": 1.0,
    }


def test_references_follow_a_moved_hole_and_a_deeper_pocket():
    before = solid()
    document = parse_job(job_for(before)).model_dump(mode="json")
    after = solid(hole=(22, 18), floor=9.0)
    revised = revise(document, before, after)
    assert revised.lost == []
    assert revised.followed == 3
    face = revised.document["operations"][0]["params"]["boundary"]["faces"][0]
    assert face["centroid"][2] == 9
    assert revised.document["selections"][0]["items"][0]["middle"] != document["selections"][0]["items"][0]["middle"]
    job = parse_job(revised.document)
    assert len(Build(job, write_solid(after, ".step"), MemoryStore()).path(job.operations[0]).toolpath) > 10


def test_what_is_gone_is_lost_and_named():
    before = solid()
    document = parse_job(job_for(before)).model_dump(mode="json")
    revised = revise(document, before, solid(slot=False))
    assert revised.lost == ["operations.20.params.boundary.faces.0"]
    again = revise(document, before, solid_from_shape(parts.box(0, 0, 0, 100, 60, 20)))
    assert "selections.bores.items.0" in again.lost


def keys(model, document):
    build = Build(parse_job(document), write_solid(model, ".step"), MemoryStore())
    return [build.path_key(o) for o in build.job.operations]


def test_untouched_operations_stay_valid_and_touched_ones_do_not():
    before = solid()
    document = parse_job(job_for(before)).model_dump(mode="json")
    first = keys(before, document)
    for changed, expected in (
        ({}, [True, True]),
        ({"hole": (15, 40)}, [True, True]),  # far from both boundaries
        ({"under": (80, 20)}, [True, True]),  # cannot be seen from above
        ({"floor": 9.0}, [False, True]),
        ({"slot": False}, [True, False]),
    ):
        after = solid(**changed)
        revised = revise(document, before, after)
        fresh = []
        for k, operation in enumerate(revised.document["operations"]):
            lost = any(f"operations.{operation['number']}." in p for p in revised.lost)
            one = {**revised.document, "operations": [operation]}
            fresh.append(not lost and keys(after, one)[0] == first[k])
        assert fresh == expected, changed


def test_another_order_of_faces_changes_nothing():
    from OCP.BRep import BRep_Builder
    from OCP.TopoDS import TopoDS_Compound

    from fenrik.core.solids.describe import list_faces

    before = solid()
    document = parse_job(job_for(before)).model_dump(mode="json")
    builder, loose = BRep_Builder(), TopoDS_Compound()
    builder.MakeCompound(loose)
    for face in reversed(list_faces(plate())):
        builder.Add(loose, face)
    after = solid_from_shape(loose)
    revised = revise(document, before, after)
    assert revised.lost == []
    assert keys(after, revised.document) == keys(before, document)

"""Two versions of a model with planted changes."""

from collections import Counter

from OCP.BRep import BRep_Builder
from OCP.TopoDS import TopoDS_Compound

from fenrik.core.solids import FaceRule, find_faces
from fenrik.core.solids.describe import list_faces
from fenrik.core.solids.reading import solid_from_shape
from fenrik.core.solids.revisions import match_faces
from parts import box, cut, cylinder, milled, round_upright_edges


def plate(hole=(15, 15), pocket=30.0, extra=True):
    shape = cut(box(0, 0, 0, 100, 60, 20), cylinder(*hole, -1, 4, 30), cylinder(85, 15, -1, 4, 30))
    shape = cut(shape, round_upright_edges(box(35, 20, 10, pocket, 25, 20), 5))
    return cut(shape, cylinder(85, 45, 12, 3, 20)) if extra else shape


def changes(a, b):
    before, after = solid_from_shape(a), solid_from_shape(b)
    return before, after, match_faces(before, after)


def test_nothing_changed_and_another_order_of_faces():
    _, _, found = changes(milled(), milled())
    assert {c.change for c in found} == {"same"}
    # The same faces in another order.
    builder, loose = BRep_Builder(), TopoDS_Compound()
    builder.MakeCompound(loose)
    for face in reversed(list_faces(plate())):
        builder.Add(loose, face)
    first, second, pairs = changes(plate(), loose)
    assert {c.change for c in pairs} == {"same"}
    assert any(c.before != c.after for c in pairs)
    assert all(first.faces[c.before].radius_mm == second.faces[c.after].radius_mm for c in pairs)


def test_a_moved_hole():
    before, _, found = changes(plate(), plate(hole=(22, 18)))
    moved = [c for c in found if c.change == "moved"]
    assert [before.faces[c.before].kind for c in moved] == ["cylinder"]
    assert "moved by 7, 3, 0" in moved[0].words
    assert Counter(c.change for c in found)["gone"] == 0


def test_a_resized_pocket():
    before, after, found = changes(plate(), plate(pocket=40.0))
    count = Counter(c.change for c in found)
    assert (count["gone"], count["new"]) == (0, 0)
    resized = {before.faces[c.before].kind for c in found if c.change == "resized"}
    assert resized == {"plane"}
    moved = [before.faces[c.before] for c in found if c.change == "moved"]
    assert sum(f.kind == "cylinder" for f in moved) == 2  # the two corners of the side that went
    floor = next(c for c in found if c.before in find_faces(before, FaceRule(normal=(0, 0, 1), at_z=10), "floor"))
    assert after.faces[floor.after].area_mm2 > before.faces[floor.before].area_mm2


def test_a_deleted_and_an_added_feature():
    _, _, found = changes(plate(), plate(extra=False))
    assert Counter(c.change for c in found)["gone"] == 2  # side and floor of the blind hole
    _, _, back = changes(plate(extra=False), plate())
    assert Counter(c.change for c in back)["new"] == 2


def test_a_wider_hole_says_so():
    a = cut(box(0, 0, 0, 50, 50, 10), cylinder(20, 20, -1, 3, 20))
    b = cut(box(0, 0, 0, 50, 50, 10), cylinder(20, 20, -1, 3.5, 20))
    _, _, found = changes(a, b)
    assert any("radius 3 mm is 3.5 mm" in c.words for c in found)

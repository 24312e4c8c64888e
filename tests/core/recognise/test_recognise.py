"""The recogniser on solids with known features: none missed, none invented; turned to odd angles, mirrored, patterned."""

import math
from collections import Counter

import numpy as np
import pytest

import parts
from fenrik.core.errors import FenrikError
from fenrik.core.recognise import recognise
from fenrik.core.solids.reading import solid_from_shape

POSES = {"as it is": lambda s: s, "turned": parts.turned, "mirrored": parts.mirrored}


@pytest.fixture(params=POSES.values(), ids=POSES.keys())
def pose(request):
    return request.param


def seen(shape, directions=None):
    return recognise(solid_from_shape(shape), directions)


def counts(found):
    return {k: len(getattr(found, k)) for k in ("holes", "pockets", "bosses", "chamfers", "blends")}


def kinds(hole):
    return [s.kind for s in hole.steps]


def test_every_kind_of_hole(pose):
    found = seen(pose(parts.plate()))
    assert counts(found) == {"holes": 6, "pockets": 0, "bosses": 0, "chamfers": 0, "blends": 0}
    by = {round(h.diameter_mm, 3): h for h in found.holes}
    assert sorted(by) == [5.0, 5.5, 6.0, 6.6, 8.0, 10.0]
    assert all(h.accessible for h in found.holes)
    assert by[8.0].through
    assert by[8.0].depth_mm == pytest.approx(20)
    blind = by[6.0]
    assert not blind.through
    assert kinds(blind) == ["bore", "drill point"]
    assert blind.depth_mm == pytest.approx(12)
    assert blind.tip_depth_mm == pytest.approx(12 + 3 / math.tan(math.radians(59)))  # drill-point geometry
    assert blind.steps[1].angle_deg == pytest.approx(118)
    assert kinds(by[6.6]) == ["counterbore", "bore"]
    assert (by[6.6].steps[0].diameter_mm, by[6.6].steps[0].depth_mm) == (pytest.approx(11), pytest.approx(6.5))
    assert kinds(by[5.5]) == ["countersink", "bore"]
    assert by[5.5].steps[0].angle_deg == pytest.approx(90)
    assert by[5.5].steps[0].diameter_mm == pytest.approx(10.4)
    assert kinds(by[5.0]) == ["chamfer", "bore"]
    assert by[5.0].threads[0] == "M6"  # ISO 2306: M6 is drilled 5.0
    assert kinds(by[10.0]) == ["bore", "flat bottom"]
    assert len({h.group for h in found.holes}) == 6


def test_holes_point_out_of_the_material(pose):
    shape = pose(parts.plate())
    found = seen(shape)
    directions = np.array([h.direction for h in found.holes])
    assert np.allclose(directions, directions[0])
    only = seen(shape, [tuple(-directions[0])])
    assert Counter(h.through for h in only.holes) == {True: 4}  # from below only through holes are seen


def test_every_kind_of_hollow(pose):
    found = seen(pose(parts.milled()))
    assert counts(found) == {"holes": 0, "pockets": 7, "bosses": 1, "chamfers": 0, "blends": 16}
    by = {(p.kind, round(p.depth_mm, 3)): p for p in found.pockets}
    assert set(by) == {
        ("pocket", 10), ("pocket", 6), ("pocket", 8), ("slot", 5), ("through pocket", 30), ("open pocket", 12), ("open slot", 6),
    }  # fmt: skip
    outer, inner = by["pocket", 10], by["pocket", 6]
    assert (outer.length_mm, outer.width_mm) == (pytest.approx(40), pytest.approx(30))
    assert outer.corner_radii_mm == [4]
    assert inner.parent == outer.name
    assert outer.parent == ""
    assert (inner.length_mm, inner.width_mm) == (pytest.approx(20), pytest.approx(14))
    assert len(by["pocket", 8].islands) == 1
    assert found.bosses[0].island_of == by["pocket", 8].name
    assert found.bosses[0].round
    assert found.bosses[0].length_mm == pytest.approx(12)
    assert found.bosses[0].height_mm == pytest.approx(8)
    slot = by["slot", 5]
    assert (slot.width_mm, slot.length_mm) == (pytest.approx(8), pytest.approx(30, abs=1e-3))
    assert by["open slot", 6].width_mm == pytest.approx(10)
    assert by["through pocket", 30].corner_radii_mm == [3]
    assert {b.radius_mm for b in found.blends} == {4, 5, 3}


def test_chamfers_fillets_and_what_stands_on_them(pose):
    found = seen(pose(parts.dressed()))
    assert counts(found) == {"holes": 0, "pockets": 1, "bosses": 1, "chamfers": 1, "blends": 10}
    pocket, boss, chamfer = found.pockets[0], found.bosses[0], found.chamfers[0]
    assert (pocket.kind, pocket.floor_radius_mm, pocket.corner_radii_mm) == ("pocket", pytest.approx(2), [6])
    assert pocket.depth_mm == pytest.approx(12)
    assert (boss.length_mm, boss.height_mm) == (pytest.approx(16), pytest.approx(8))
    assert chamfer.width_mm == pytest.approx(1.5 * math.sqrt(2))
    assert chamfer.angle_deg == pytest.approx(45)
    assert len(chamfer.faces) == 8
    radii = Counter((round(b.radius_mm, 6), b.concave) for b in found.blends)
    assert radii == {(3, False): 4, (6, True): 4, (2, True): 2}


def test_draft_and_its_angle():
    found = seen(parts.leaning(), [(0, 0, 1)])
    assert found.pockets[0].draft_deg == pytest.approx(5, abs=0.01)
    assert [(round(w.draft_deg, 2), len(w.faces), w.accessible) for w in found.draft_walls] == [(5.0, 4, True)]
    assert found.undercuts == []
    below = seen(parts.leaning(), [(0, 0, -1)])
    assert [w.accessible for w in below.draft_walls] == [False]


def test_undercut_of_a_t_slot():
    found = seen(parts.undercut(), [(0, 0, 1)])
    # Two ledges of 4 × 60 and the floor's wings under them; the walls of the wide part (6 × 60) on both sides.
    assert sum(u.area_mm2 for u in found.undercuts) == pytest.approx(2 * (4 * 60 + 4 * 60 + 6 * 60), rel=0.15)
    assert seen(parts.milled(), [(0, 0, 1)]).undercuts == []
    assert seen(parts.dressed(), [(0, 0, 1)]).undercuts == []


def test_crossing_holes_and_a_keyway(pose):
    found = seen(pose(parts.crossing()))
    assert sorted(round(h.diameter_mm, 3) for h in found.holes) == [6, 10, 12]
    cross = next(h for h in found.holes if h.diameter_mm == pytest.approx(6))
    assert cross.through
    assert cross.accessible  # from its own side, not from inside the bore that it meets
    assert found.pockets == []


def test_a_hole_square_to_a_leaning_face():
    found = seen(parts.sloped())
    assert len(found.holes) == 1
    hole = found.holes[0]
    tilt = math.radians(20)
    assert hole.direction == pytest.approx((math.sin(tilt), 0, math.cos(tilt)))
    assert hole.depth_mm == pytest.approx(10)
    assert seen(parts.sloped(), [(0, 0, 1)]).holes == []


def test_a_patterned_plate_gives_every_hole_once():
    shape = parts.box(0, 0, 0, 200, 120, 15)
    for i in range(8):
        for j in range(5):
            shape = parts.cut(shape, parts.cylinder(15 + i * 23, 15 + j * 22, -1, 2.1 if (i + j) % 2 else 3.4, 20))
    found = seen(shape)
    assert len(found.holes) == 40
    assert Counter(h.group for h in found.holes).most_common() == [
        (found.holes[0].group, 20),
        (found.holes[-1].group, 20),
    ]
    assert {tuple(h.threads[:1]) for h in found.holes} == {("M5",), ("M8",)}  # ISO 2306: 4.2 and 6.8


def test_a_thing_over_a_hole_is_said():
    block = parts.cut(parts.box(0, 0, 0, 60, 40, 40), parts.box(-1, -1, 15, 40, 60, 10))
    shape = parts.cut(block, parts.cylinder(20, 20, 5, 3, 11))
    hole = seen(shape).holes[0]
    assert not hole.accessible
    assert "stands over" in hole.why


def test_plain_bodies_have_nothing_invented():
    assert counts(seen(parts.box(0, 0, 0, 10, 20, 30))) == dict.fromkeys(
        ("holes", "pockets", "bosses", "chamfers", "blends"), 0
    )
    assert counts(seen(parts.cylinder(0, 0, 0, 10, 30))) == dict.fromkeys(
        ("holes", "pockets", "bosses", "chamfers", "blends"), 0
    )


def test_a_bad_direction_is_refused():
    with pytest.raises(FenrikError, match="no length"):
        seen(parts.box(0, 0, 0, 1, 1, 1), [(0, 0, 0)])

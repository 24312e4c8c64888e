"""Floors with fillets: rounded ends reach into them, flat ones leave steps; measured on the stock and in closed form."""

import json
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from prism import edges, faces, flat, floor_at, job_for, proof, run, with_targets

from fenrik.core.build import Build
from fenrik.core.job_reading import parse_job
from fenrik.core.solids.reading import solid_from_shape
from fenrik.core.solids.writing import write_solid
from fenrik.core.store import MemoryStore
from fenrik.core.strategies.prismatic import reach_beside, rounded_end
from fenrik.core.toolpath import Kind
from fenrik.core.tools.cutters import BullNoseCutter
from parts import box, cut, fillet, round_upright_edges

FLOOR, TOP, CORNER, FILLET = 8.0, 16.0, 7.0, 3.0
LEFT, MIDDLE_X, MIDDLE_Y = 14.0, 29.0, 23.0


def bull(diameter, corner):
    if corner == 0:
        return {"kind": "flat", "diameter_mm": diameter, "flutes": 3}
    if 2 * corner == diameter:
        return {"kind": "ball", "diameter_mm": diameter, "flutes": 2}
    return {"kind": "bull-nose", "diameter_mm": diameter, "corner_radius_mm": corner, "flutes": 3}


def dish():
    """A pocket 30 × 26 × 8 with corners R7 and a fillet R3 round its floor."""
    hollow = round_upright_edges(box(LEFT, 10, FLOOR, 30, 26, 20), CORNER)
    level = lambda a, b, m: max(abs(p[2] - FLOOR) for p in (a, b, m)) < 1e-6  # noqa: E731
    return cut(box(0, 0, 0, 58, 46, TOP), fillet(hollow, FILLET, level))


def machined(cutter, *params):
    rows = [(1, p) for p in params]
    build = job_for(dish(), rows, {1: cutter})
    for k in range(len(rows)):
        build = with_targets(build, 10 * (k + 1), faces(build, floor_at(FLOOR)))
    return build


CLEAR = {"strategy": "pocket clearing", "stepover_mm": 3, "stepdown_mm": 4}
WALLS = {"strategy": "contour", "lead": "arc"}


def across(build):
    """Height of the stock along x through the middle of the pocket, from the left wall inwards."""
    stock = build.stock_after(build.job.operations[-1])
    x, y, _ = stock.node_axes()
    return x, stock.tops()[:, np.searchsorted(y, MIDDLE_Y)]


@pytest.mark.parametrize(("diameter", "corner"), [(9, FILLET), (6, FILLET)])
def test_a_mill_with_the_fillets_radius_makes_wall_and_fillet_in_one_pass(diameter, corner):
    build = machined(bull(diameter, corner), CLEAR, WALLS)
    assert [u.reason for o in build.job.operations for u in build.path(o).unreached] == []
    summary, _ = proof(build)
    assert [f for f in summary["findings"] if f["kind"] != "full width"] == []
    assert summary["deviation"]["min_mm"] > -0.02
    x, height = across(build)
    beyond = np.clip(x - LEFT, 0, FILLET)
    exact = FLOOR + FILLET - np.sqrt(FILLET**2 - (FILLET - beyond) ** 2)
    inside = (x > LEFT + 0.1) & (x < MIDDLE_X)
    # A ball leaves scallops on the floor; the fillet and the wall are exact with both.
    near = inside & (x < LEFT + FILLET) if 2 * corner == diameter else inside
    assert np.abs(height - exact)[near].max() < 0.02
    assert np.all(height[(x > 9) & (x < LEFT - 0.1)] == pytest.approx(TOP, abs=1e-6))
    # The pass is at the wall, with exact arcs in the corners.
    path = run(build, 20).toolpath
    at_floor = (path.kind == Kind.CUT) & (np.abs(path.point[:, 2] - FLOOR) < 1e-6)
    assert path.point[at_floor][:, 0].min() == pytest.approx(LEFT + diameter / 2, abs=0.004)
    assert (path.motion[at_floor] > 0).sum() <= 8


def test_the_rim_picked_by_its_edges_is_followed_the_same_way():
    build = machined(bull(10, FILLET), WALLS)
    by_floor = run(build).toolpath
    rim = edges(build, lambda e: np.ptp(e.points[:, 2]) < 1e-6 and abs(e.points[0, 2] - FLOOR) < 1e-6)
    by_edges = run(with_targets(build, 10, rim)).toolpath
    assert by_edges.cut_length_mm() == pytest.approx(by_floor.cut_length_mm(), abs=1e-6)


def test_a_flat_mill_makes_the_wall_and_leaves_steps_in_the_fillet():
    build = machined(bull(10, 0), CLEAR, WALLS | {"stepdown_mm": 1})
    summary, _ = proof(build)
    assert [f for f in summary["findings"] if f["kind"] != "full width"] == []
    assert summary["deviation"]["min_mm"] > -0.02
    x, height = across(build)
    exact = FLOOR + FILLET - np.sqrt(np.maximum(FILLET**2 - (FILLET - np.clip(x - LEFT, 0, FILLET)) ** 2, 0))
    inside = (x > LEFT + 0.1) & (x < MIDDLE_X)
    over = (height - exact)[inside]
    assert over.min() > -0.01
    assert 0.3 < over.max() < 1.01  # never higher than a step


@settings(max_examples=60, deadline=None)
@given(
    st.floats(1.0, 12.0),
    st.floats(0.05, 0.95),
    st.floats(0.2, 10.0),
    st.floats(0.0, 12.0),
)
def test_the_reach_beside_a_fillet_touches_and_never_bites(radius, share, fillet_mm, over):
    cutter = BullNoseCutter(diameter_mm=2 * radius, corner_radius_mm=share * radius, flute_length_mm=30)
    corner = cutter.corner_radius_mm
    reach = reach_beside(rounded_end(cutter), radius, fillet_mm, over)
    # Clearance between tool and fillet at every height, by the two circles.
    h = np.append((max(corner, fillet_mm) + 1) * np.linspace(0, 1, 8000) ** 2, corner)
    tool = radius - corner + np.sqrt(np.maximum(corner**2 - (corner - np.minimum(h, corner)) ** 2, 0))
    u = np.clip(h + over, 0, fillet_mm)
    room = reach + np.sqrt(np.maximum(fillet_mm**2 - (fillet_mm - u) ** 2, 0)) - tool
    assert abs(room.min()) < 1e-3


def test_the_reach_beside_a_fillet_in_closed_form():
    end = rounded_end(BullNoseCutter(diameter_mm=10, corner_radius_mm=3, flute_length_mm=20))
    assert reach_beside(end, 5, 3, 0) == pytest.approx(2)  # equal radii: contact all along
    assert reach_beside(end, 5, 3, 3) == pytest.approx(2)  # above the fillet: at the wall
    assert reach_beside(end, 5, 2, 0) == pytest.approx(3)  # a greater corner touches the wall
    assert reach_beside(end, 5, 6, 0) == pytest.approx(2)  # a smaller one stands on the rim
    assert reach_beside(None, 5, 3, 0) == pytest.approx(5)
    assert reach_beside(None, 5, 3, 1) == pytest.approx(5 - math.sqrt(9 - 4), abs=1e-3)
    assert reach_beside(None, 5, 0, 0) == 5


def test_the_floor_of_a_mesh_has_the_rim_of_its_solid():
    shape = cut(box(0, 0, 0, 60, 40, 20), box(10, 10, 8, 40, 20, 20))
    exact = job_for(shape, [(1, {"strategy": "contour"})], {1: flat(8)})
    data = json.loads(exact.job.model_dump_json())
    data["part"]["file"] = "part.stl"
    build = Build(parse_job(data), write_solid(solid_from_shape(shape), ".stl"), MemoryStore())
    lengths = [run(with_targets(b, 10, faces(b, floor_at(8.0)))).toolpath.cut_length_mm() for b in (exact, build)]
    assert lengths[1] == pytest.approx(lengths[0], abs=0.01)

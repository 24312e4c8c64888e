"""How much of the surface is finished: told before, measured after, on solids that nothing was built for."""

import functools
import itertools
import json

import numpy as np
import pytest

from fenrik.core.build import Build
from fenrik.core.build.build import PROOF_VERSION
from fenrik.core.build.chain import AUDIT_VERSION, STOCK_VERSION
from fenrik.core.build.picks import picked_faces
from fenrik.core.job_reading import parse_job
from fenrik.core.planning import (
    keep_finish,
    kept_map,
    measured_finish,
    predicted_finish,
    propose_route,
    propose_sides,
    with_route,
)
from fenrik.core.planning.forecast import Surface
from fenrik.core.planning.left_map import FINISHED, LEFT, NOT_SEEN
from fenrik.core.report import air_shares
from fenrik.core.solids.reading import solid_from_shape
from fenrik.core.solids.writing import write_solid
from fenrik.core.store import MemoryStore
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.tools import Tool
from fenrik.demo.jobs.rows import SIDES
from fenrik.demo.shop import SHOP_TOOLS
from outside import SEEDS, job_of, planned
from parts import box, cut, cylinder, fuse
from solids import frustum, random_solid, rectangle

SHOP = [Tool.model_validate(t) for t in SHOP_TOOLS]


def build_of(shape):
    data = write_solid(solid_from_shape(shape), ".step")
    return Build(parse_job(job_of("finish")), data, MemoryStore())


def with_everything(build, sides=True):
    found = propose_sides(build, SHOP) if sides else propose_route(build, build.job.setups[0], SHOP)
    return build.with_job(with_route(build.job, found))


@pytest.mark.parametrize(
    ("shape", "least"),
    [
        # What once came out with the blank standing round it: a step in one side, a boss on top, a pocket in a side.
        (lambda: cut(box(0, 0, 0, 100, 60, 25), box(80, 20, 19, 30, 20, 10)), 0.97),
        (lambda: fuse(box(0, 0, 0, 60, 40, 20), cylinder(30, 20, 20, 6, 8)), 0.97),
        (lambda: cut(box(0, 0, 0, 60, 40, 24), box(40, 10, 6, 30, 20, 8)), 0.95),
        # Sides that lean have an outline, but no contour makes them.
        (lambda: frustum(rectangle(76, 71), rectangle(72, 67), 0, 17), 0.97),
    ],
    ids=["step in a side", "boss on top", "pocket in a side", "sides that lean"],
)
def test_nothing_of_the_blank_stays_round_simple_parts(shape, least):
    build = with_everything(build_of(shape()))
    told = predicted_finish(build)
    for setup in build.job.setups:
        if build.job.route(setup):
            build.compute(setup)
            assert [f for f in build.proof(setup)[0]["findings"] if f["kind"] in ("gouge", "rapid in stock")] == []
    found = measured_finish(build)
    assert found.measured
    assert found.finished_fraction > least
    assert told.finished_fraction == pytest.approx(found.finished_fraction, abs=0.04)
    area = sum(f.area_mm2 for f in build.solid.faces)
    assert sum(x.area_mm2 for x in found.left_over) == pytest.approx(
        (1 - found.finished_fraction) * area, rel=0.2, abs=5
    )


@pytest.mark.parametrize("proven", [False, True], ids=["predicted", "measured"])
def test_the_map_of_what_is_left_agrees_with_the_figures(proven):
    undercut = fuse(box(24, -1, 12, 12, 42, 20), box(20, -1, 8, 20, 42, 6))
    build = with_everything(build_of(cut(box(0, 0, 0, 60, 40, 24), undercut)), sides=False)
    if proven:
        for setup in build.job.setups:
            build.compute(setup)
    figures = keep_finish(build) if proven else predicted_finish(build)
    found = kept_map(build)
    assert found.measured == proven
    left = found.state != FINISHED
    assert left.mean() == pytest.approx(1 - figures.finished_fraction, abs=0.02)
    assert np.all((found.thick_mm > 0) == left)
    # The underside keeps its millimetre of stock.
    below = found.place[:, 2] < 1e-3
    assert np.all(left[below])
    assert np.median(found.thick_mm[below]) == pytest.approx(2.0, abs=0.05)
    assert np.all(found.state[below] == (LEFT if proven else NOT_SEEN))
    assert np.linalg.norm(found.normal, axis=1) == pytest.approx(1.0)


def test_cones_over_the_flats_of_a_hexagon_are_no_chamfers():
    # They end in curves below: there is no edge that a chamfer mill could follow, and those rows could not be computed.
    build = with_everything(build_of(random_solid(83).shape), sides=False)
    rows = build.job.operations
    cones = {i for i, f in enumerate(build.solid.faces) if f.kind == "cone"}
    assert not {f for o in rows if o.params.strategy == "edge chamfer" for f in picked_faces(build, o)} & cones
    assert {f for o in rows if o.name == "Slopes" for f in picked_faces(build, o)} & cones


def test_flats_whose_feet_end_in_cones_get_walls_and_no_contour():
    # Only the middle of each foot is level; a contour would follow that and leave the rest of the flat.
    build = with_everything(build_of(random_solid(291).shape), sides=False)
    flats = {i for i, f in enumerate(build.solid.faces) if f.kind == "plane" and abs(f.normal[2]) < 0.01}
    outer = {i for i in flats if np.linalg.norm(build.solid.faces[i].centroid[:2]) > 12}
    assert len(outer) == 6
    rows = [(o.params.strategy, outer & set(picked_faces(build, o))) for o in build.job.operations]
    assert not [name for name, faces in rows if name == "contour" and faces]
    assert outer == {f for name, faces in rows if name == "waterline" for f in faces}


def test_the_underside_and_an_undercut_are_told_with_area_and_reason():
    undercut = fuse(box(24, -1, 12, 12, 42, 20), box(20, -1, 8, 20, 42, 6))
    build = build_of(cut(box(0, 0, 0, 60, 40, 24), undercut))
    build = with_everything(build, sides=False)
    left = {x.face: x for x in predicted_finish(build).left_over}
    faces = build.solid.faces
    under = next(i for i, f in enumerate(faces) if f.kind == "plane" and f.normal[2] < -0.99 and f.centroid[2] < 1)
    assert left[under].area_mm2 == pytest.approx(60 * 40, rel=0.01)
    assert left[under].why == "it is not seen from any setup"
    ceilings = [i for i, f in enumerate(faces) if f.kind == "plane" and f.normal[2] < -0.99 and f.centroid[2] > 1]
    assert all(i in left for i in ceilings)
    # The line on top says how much.
    assert "faces left" in predicted_finish(build).words


def test_a_side_that_was_not_taken_leaves_nothing_but_its_name_to_the_next():
    # Both setups have one name; what is seen from the one is not what is seen from the other.
    build = build_of(cut(box(0, 0, 0, 60, 40, 20), box(20, 10, 12, 20, 20, 20)))
    data = json.loads(build.job.model_dump_json())
    surface = Surface(build)
    seen = {}
    for axis in ("+z", "-z"):
        data["setups"][0]["up"] = {"kind": "axis", "axis": axis}
        turned = build.with_job(parse_job(data))
        setup = turned.job.setups[0]
        places = surface.places.in_frame(turned.frame(setup))
        found = surface.reach(turned, setup).seen(places)
        seen[axis] = float(places.area_mm2[found & (places.normal[:, 2] > 0.99)].sum())
    assert seen["+z"] == pytest.approx(60 * 40, rel=0.01)
    assert seen["-z"] == pytest.approx(60 * 40, rel=0.01)
    walls = surface.reach(turned, setup).seen(places) & (np.abs(places.normal[:, 2]) < 0.01)
    # From below the pocket's walls are hidden: only the outside stands free.
    assert float(places.area_mm2[walls].sum()) == pytest.approx(200 * 20, rel=0.02)


def test_two_chains_of_setups_count_each_face_where_least_is_left():
    build = build_of(box(0, 0, 0, 40, 30, 10))
    data = json.loads(build.job.model_dump_json())
    blank = data["setups"][0]["stock"] | {"z_minus_mm": 0}
    data["setups"][0]["stock"] = blank
    data["setups"].append(data["setups"][0] | {"id": "other", "stock": blank | dict.fromkeys(SIDES, 0)})
    data["tools"] = [next(t for t in SHOP_TOOLS if t["name"] == "End mill 20")]
    row = {"setup": "first", "tool": data["tools"][0]["number"], "params": {"strategy": "facing"}}
    data["operations"] = [row | {"number": 10}, row | {"number": 20, "setup": "other"}]
    found = measured_finish(build.with_job(parse_job(data)))
    assert found.finished_fraction == pytest.approx(1.0, abs=0.01)
    data["operations"].pop()
    alone = measured_finish(build.with_job(parse_job(data)))
    sides = [x for x in alone.left_over if x.most_mm == pytest.approx(2, abs=0.01)]
    assert sum(x.area_mm2 for x in sides) == pytest.approx(2 * (40 + 30) * 10, rel=0.03)


def test_what_the_stock_has_already_needs_no_row_and_no_side():
    build = build_of(cut(box(0, 0, 0, 60, 40, 20), box(20, 10, 12, 20, 20, 20)))
    data = json.loads(build.job.model_dump_json())
    data["setups"][0]["stock"] |= dict.fromkeys(SIDES, 0) | {"z_minus_mm": 0, "z_plus_mm": 1}
    flush = build.with_job(parse_job(data))
    whole = sum(f.area_mm2 for f in flush.solid.faces)
    bare = predicted_finish(flush)
    assert bare.finished_fraction == pytest.approx((60 * 40 + 2 * 20 * 100) / whole, abs=0.01)
    assert propose_sides(flush, SHOP).setups == []


def test_a_row_that_cuts_air_says_so():
    columns = {
        "point": np.array([[0.0, 0, 0], [10, 0, 0], [30, 0, 0], [30, 5, 0]]),
        "fresh": np.array([True, False, False, False]),
        "kind": np.array([3, 3, 3, 0]),
        "operation": np.array([10, 10, 10, 10]),
        "removed": np.array([0.0, 4.0, 0.0, 0.0]),
    }
    assert air_shares(columns) == {10: pytest.approx(20 / 30)}


@functools.cache
def seeds_of_these_versions():
    """Twelve of the bench's seeds, others with each new version of a strategy, of the audit or of the proof; of solids
    of a hand's breadth, which take half a minute each."""
    versions = [*(s.version for s in STRATEGIES.values()), AUDIT_VERSION, PROOF_VERSION, STOCK_VERSION]
    order = np.random.default_rng(versions).permutation(np.arange(1, SEEDS + 1)).tolist()
    small = (seed for seed in order if longest_mm(random_solid(seed).shape) < 80)
    return list(itertools.islice(small, 12))


def longest_mm(shape):
    low, high = solid_from_shape(shape).bounds()
    return float((high - low).max())


@functools.cache
def result_of(which):
    seed = seeds_of_these_versions()[which]
    return planned(write_solid(solid_from_shape(random_solid(seed).shape), ".step"), f"seed {seed}")


@pytest.mark.parametrize("which", range(12))
def test_a_part_from_outside_is_finished_or_told(which):
    result = result_of(which)
    assert result["findings"] == [], json.dumps(result["findings"][:2])
    assert result["untold"] < 0.001
    assert result["gouge_mm"] < 0.07, "by Open CASCADE"
    edges = result["edges"]
    assert max(edges["fast_mm"], edges["slow_mm"]) <= 0.001 * edges["arcs_mm"], "feeds worked out by hand"


def test_most_of_what_could_be_made_is_made():
    # Single solids may be worse: the tools of the shop are shorter than the reference thinks.
    assert np.median([result_of(which)["of_could"] for which in range(12)]) > 0.97

"""Ways from cut to cut: never through the part, and low where there is room."""

import numpy as np
import pytest
import shapely
from prism import axis_ways, faces, flat, floor_at, job_for, proof, run, with_targets

from fenrik.core.regions import Shadow
from fenrik.core.regions.polygons import to_shape
from fenrik.core.solids.reading import mesh_at
from fenrik.core.strategies.linking import Linker
from fenrik.core.toolpath import Kind, PathBuilder
from fenrik.core.toolpath.builder import Feeds
from fenrik.core.toolpath.safe import SafePlane
from parts import box, cut, cylinder, fuse


def link_part():
    """Two eyes with a thinner web between, such as a connecting rod has: the web stands between 5 and 13."""
    eyes = fuse(cylinder(0, 0, 0, 16, 18), cylinder(70, 0, 0, 11, 18), box(0, -6, 5, 70, 12, 8))
    return cut(eyes, cylinder(0, 0, -1, 6, 30))


def through_the_part(build, path, radius):
    """How far (mm²) the tool stands in the part on motions at each height: sections by the part's shadow alone."""
    mesh = mesh_at(build.solid, 0.002).in_frame(build.frame(build.job.setups[0]))
    shadow = Shadow(mesh)
    worst = 0.0
    flat_path, _ = path.flattened(0.002)
    for a, b in zip(flat_path.point[:-1], flat_path.point[1:], strict=True):
        body = to_shape(shadow.above(min(a[2], b[2]) + 1e-3))
        way = shapely.LineString([a[:2], b[:2]]) if np.hypot(*(b - a)[:2]) > 1e-9 else shapely.Point(a[:2])
        if body.distance(way) < radius - 0.01:
            worst = max(worst, way.buffer(radius - 0.01, quad_segs=32).intersection(body).area)
    return worst


@pytest.mark.parametrize("stepdown", [3, 6])
def test_a_contour_of_open_chains_never_links_through_the_part(stepdown):
    def wall(f):
        return f.kind == "cylinder" or (f.kind == "plane" and abs(f.normal[2]) < 0.01)

    build = job_for(link_part(), [(1, {"strategy": "contour", "stepdown_mm": stepdown})], {1: flat(8)})
    build = with_targets(build, 10, faces(build, wall, lambda f: not f.concave))
    path = run(build).toolpath
    assert path.cut_length_mm() > 100
    assert through_the_part(build, path, 4.0) == 0.0
    assert [f for f in proof(build)[0]["findings"] if f["kind"] in ("gouge", "rapid in stock")] == []


def test_levels_of_a_closed_pass_are_joined_without_going_up():
    build = job_for(box(0, 0, 0, 60, 40, 12), [(1, {"strategy": "contour", "stepdown_mm": 3})], {1: flat(8)})
    path = run(with_targets(build, 10, [{"kind": "outline"}])).toolpath
    low = path.point[:, 2] < 12.0
    first, last = np.flatnonzero(path.kind == Kind.CUT)[[0, -1]]
    assert low[first : last + 1].all()


def test_a_step_beside_a_wall_links_over_it():
    # Two floors at one level with a rib between: the way from one to the other goes over the rib.
    rib = cut(box(0, 0, 0, 80, 40, 20), box(5, 5, 10, 30, 30, 20), box(45, 5, 10, 30, 30, 20))
    build = job_for(rib, [(1, {"strategy": "contour", "stepdown_mm": 4})], {1: flat(8)})
    build = with_targets(build, 10, faces(build, floor_at(10.0)))
    path = run(build).toolpath
    assert through_the_part(build, path, 4.0) == 0.0
    crossing = axis_ways(path, (Kind.CUT, Kind.LINK, Kind.ENTRY, Kind.EXIT, Kind.APPROACH))
    assert shapely.distance(shapely.MultiLineString(list(crossing)), shapely.LineString([(40, 6), (40, 34)])) > 4.0


@pytest.mark.parametrize(("rib_mm", "joined"), [(30, True), (40, False)])
def test_through_cleared_ground_it_goes_round_corners_or_not_at_all(rib_mm, joined):
    ground = shapely.box(0, 0, 80, 40) - shapely.box(38, 0, 42, rib_mm)
    shapely.prepare(ground)
    builder = PathBuilder(Feeds(500, 200, 900), SafePlane.at_height(50.0), 20.0)
    linker = Linker(builder, None, lambda level, window: ground)
    linker.over(np.array([20.0, 5.0]), 3.0, 4.0)
    assert linker.through(ground, np.array([60.0, 5.0])) == joined
    path = builder.finish()
    assert np.count_nonzero(path.kind == Kind.LINK) == (3 if joined else 0)
    assert all(ground.buffer(1e-6).covers(axis_ways(path, (Kind.LINK,))))
    assert np.all(path.feed[path.kind == Kind.LINK] == 900)
    assert path.point[path.kind == Kind.APPROACH].tolist() == [[20.0, 5.0, 3.0]]

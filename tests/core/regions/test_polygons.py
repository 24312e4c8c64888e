"""Random regions against Shapely (GEOS), which Fenrik's Clipper2 operations know nothing of."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as some

from fenrik.core.regions import area_of, clip_lines, components, contains, difference, offset, union
from fenrik.core.regions.polygons import (
    LEAST_AREA_MM2,
    from_shape,
    intersection,
    line_length,
    pole_of,
    signed_area,
    thinned,
    to_shape,
    widened,
)

seeds = some.integers(0, 10_000)
BOOLEANS = {
    "union": (union, shapely.union),
    "intersection": (intersection, shapely.intersection),
    "difference": (difference, shapely.difference),
}


def blob(rng, at=(0.0, 0.0), size=20.0, places=14) -> np.ndarray:
    """A star-shaped ring, counter-clockwise round its middle: a corner in each of so many equal parts of a turn."""
    angle = 2 * np.pi * (np.arange(places) + rng.uniform(0, 1, places)) / places
    radius = size * rng.uniform(0.35, 1.0, places)
    return np.column_stack([radius * np.cos(angle), radius * np.sin(angle)]) + at


def region(rng, pieces=3) -> list[np.ndarray]:
    """Some blobs, overlapping or not, one of them with a hole."""
    whole = union(*([blob(rng, rng.uniform(-30, 30, 2))] for _ in range(pieces)))
    return difference(whole, [blob(rng, rng.uniform(-20, 20, 2), 6.0)])


def same(ours: list[np.ndarray], theirs, slack: float) -> bool:
    """Whether two regions differ by no more than a strip round them."""
    return to_shape(ours).symmetric_difference(theirs).area <= slack


@pytest.mark.parametrize("name", BOOLEANS)
@settings(max_examples=40, deadline=None)
@given(seed=seeds)
def test_booleans(name, seed):
    rng = np.random.default_rng(seed)
    a, b = region(rng), region(rng)
    ours, theirs = BOOLEANS[name]
    want = theirs(to_shape(a), to_shape(b))
    assert same(ours(a, b), want, 1e-3)
    assert area_of(ours(a, b)) == pytest.approx(want.area, abs=1e-3)


@settings(max_examples=30, deadline=None)
@given(seed=seeds, distance=some.floats(-4, 6))
def test_offsets(seed, distance):
    rng = np.random.default_rng(seed)
    a = region(rng)
    want = to_shape(a).buffer(distance, quad_segs=200)
    got = offset(a, distance)
    assert same(got, want, 2e-3 * max(to_shape(a).length, 1.0))


@settings(max_examples=20, deadline=None)
@given(seed=seeds, distance=some.floats(0.2, 3))
def test_sharp_offsets_hold_the_round_ones(seed, distance):
    a = region(np.random.default_rng(seed))
    want = to_shape(a).buffer(distance, join_style="mitre", mitre_limit=4.0)
    got = to_shape(offset(a, distance, sharp=True))
    round_ = to_shape(offset(a, distance))
    assert round_.difference(got).area < 3e-3 * round_.length
    assert got.area <= want.area * 1.02


@settings(max_examples=30, deadline=None)
@given(seed=seeds)
def test_lines_inside_and_outside_make_the_whole(seed):
    rng = np.random.default_rng(seed)
    a = region(rng)
    line = rng.uniform(-45, 45, (6, 2))
    inside, outside = clip_lines([line], a), clip_lines([line], a, inside=False)
    track = shapely.LineString(line)
    want = track.intersection(to_shape(a)).length
    assert sum(map(line_length, inside)) == pytest.approx(want, abs=1e-3)
    assert sum(map(line_length, [*inside, *outside])) == pytest.approx(track.length, abs=2e-3)
    for piece in inside:
        assert to_shape(a).buffer(1e-3).covers(shapely.LineString(piece))
    # Each goes on as the line does: a place a little after its begin is nearer to the line's own end along it.
    for piece in [*inside, *outside]:
        if line_length(piece) < 1e-2 or not track.is_simple:
            continue
        begin, on = (track.project(shapely.Point(p)) for p in (piece[0], piece[0] + 1e-3 * (piece[1] - piece[0])))
        assert on >= begin


@settings(max_examples=30, deadline=None)
@given(seed=seeds)
def test_stretches_of_a_closed_line_go_on_as_it_does_up_to_its_seam(seed):
    rng = np.random.default_rng(seed)
    ring = blob(rng)  # counter-clockwise round the origin
    closed = np.vstack([ring, ring[:1]])
    across = [np.array([[-30.0, -30], [30, -30], [30, 0.5 * ring[0, 1] - 1], [-30, 0.5 * ring[0, 1] - 1]])]
    for piece in [*clip_lines([closed], across), *clip_lines([closed], across, inside=False)]:
        if line_length(piece) < 1e-2:
            continue
        a, b = piece[:-1], piece[1:]
        assert np.sum(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) > 0


@settings(max_examples=30, deadline=None)
@given(seed=seeds)
def test_pieces_are_connected_and_make_the_whole(seed):
    a = region(np.random.default_rng(seed), 4)
    pieces = components(a)
    shapes = [shapely.Polygon(p[0], p[1:]) for p in pieces]
    assert all(s.is_valid for s in shapes)
    assert sum(s.area for s in shapes) == pytest.approx(area_of(a), abs=1e-6)
    assert [s.area for s in (shapely.Polygon(p[0]) for p in pieces)] == sorted(
        (shapely.Polygon(p[0]).area for p in pieces), reverse=True
    )
    for piece in pieces:
        assert signed_area(piece[0]) > 0
        assert all(signed_area(hole) < 0 for hole in piece[1:])


@settings(max_examples=30, deadline=None)
@given(seed=seeds)
def test_places_in_a_region(seed):
    rng = np.random.default_rng(seed)
    a = region(rng)
    places = rng.uniform(-50, 50, (300, 2))
    assert contains(a, places).tolist() == [to_shape(a).intersects(shapely.Point(p)) for p in places]


@settings(max_examples=30, deadline=None)
@given(seed=seeds, tolerance=some.floats(0.01, 1.0))
def test_thinned_rings_stay_within_the_tolerance(seed, tolerance):
    a = region(np.random.default_rng(seed))
    thin = thinned(a, tolerance)
    assert sum(map(len, thin)) <= sum(map(len, a))
    for ring in thin:
        near = min(shapely.hausdorff_distance(shapely.LinearRing(ring), shapely.LinearRing(r)) for r in a)
        assert near <= tolerance + 1e-9


@settings(max_examples=20, deadline=None)
@given(seed=seeds, distance=some.floats(0.3, 4))
def test_a_widened_line_is_all_that_lies_near_it(seed, distance):
    line = np.random.default_rng(seed).uniform(-20, 20, (5, 2))
    want = shapely.LineString(line).buffer(distance, quad_segs=200)
    assert same(widened([line], distance), want, 5e-3 * want.length)


@settings(max_examples=20, deadline=None)
@given(seed=seeds)
def test_the_pole_is_the_place_furthest_from_the_rim(seed):
    piece = components(region(np.random.default_rng(seed)))[0]
    place, far = pole_of(piece, 0.01)
    shape = shapely.Polygon(piece[0], piece[1:])
    assert shape.contains(shapely.Point(place))
    assert far == pytest.approx(shape.boundary.distance(shapely.Point(place)))
    assert shape.buffer(-far - 0.05).is_empty


@settings(max_examples=20, deadline=None)
@given(seed=seeds)
def test_there_and_back_by_the_other_library(seed):
    a = region(np.random.default_rng(seed))
    back = from_shape(to_shape(a))
    assert area_of(back) == pytest.approx(area_of(a), abs=1e-6)
    assert len(back) == len([r for r in a if abs(signed_area(r)) > LEAST_AREA_MM2])


def test_a_sliver_that_runs_the_other_way_does_not_turn_an_offset_round():
    # Rounding leaves such rings beside large ones; as the lowest of all it decided the sense of the offset.
    square = np.array([[0.0, 0], [40, 0], [40, 30], [0, 30]])
    sliver = np.array([[5.0, -1e-4], [20, -2e-4], [30, -1e-4], [20, -3e-4]])
    assert signed_area(sliver) < 0
    for distance, area in ((0.5, 41 * 31 - (4 - np.pi) * 0.25), (-0.5, 39 * 29)):
        assert area_of(offset([square, sliver], distance)) == pytest.approx(area, rel=1e-4)

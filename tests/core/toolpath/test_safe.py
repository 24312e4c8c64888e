"""Safe surfaces: where tools come out of them, and that no way over them comes back within, held against places strewn
along each way by `Toolpath` itself and by plain geometry."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as some
from scipy.spatial.transform import Rotation

from fenrik.core.errors import FenrikError
from fenrik.core.frames import Frame
from fenrik.core.toolpath import Feeds, PathBuilder, Toolpath
from fenrik.core.toolpath.safe import SafeCylinder, SafePlace, SafePlane, SafeSphere, Way

AXIS = np.array([2.0, -1.0, 2.0]) / 3.0
SURFACES = {
    "plane": SafePlane(np.array([1.0, 2.0, 30.0]), AXIS),
    "cylinder": SafeCylinder(np.array([4.0, -3.0, 2.0]), AXIS, 25.0),
    "sphere": SafeSphere(np.array([4.0, -3.0, 2.0]), 25.0),
}


def distance(name: str, points: np.ndarray) -> np.ndarray:
    """How far places lie beyond a surface, by its definition."""
    surface, points = SURFACES[name], np.atleast_2d(points)
    if name == "plane":
        return (points - surface.point) @ AXIS
    if name == "cylinder":
        return np.linalg.norm(np.cross(points - surface.point, AXIS), axis=1) - 25.0
    return np.linalg.norm(points - surface.centre, axis=1) - 25.0


def path_of(start: np.ndarray, way: Way) -> Toolpath:
    """A way as a toolpath from its start."""
    n = len(way.point) + 1
    path = Toolpath.plain(
        np.vstack([start, way.point]),
        np.concatenate([[0], way.motion]).astype(np.int8),
        np.vstack([np.zeros(3), way.centre]),
        np.zeros(n, np.int8),
        np.zeros(n),
    )
    path.normal[1:] = way.normal
    return path


def random_place(draw) -> np.ndarray:
    return np.array([draw(some.floats(-60, 60)) for _ in range(3)])


@pytest.mark.parametrize("name", SURFACES)
@given(data=some.data())
def test_a_tool_that_leaves_comes_out_on_the_surface(name, data):
    surface = SURFACES[name]
    place = random_place(data.draw)
    along = np.array([data.draw(some.floats(-1, 1)) for _ in range(3)]) + AXIS * 2.5
    along /= np.linalg.norm(along)
    if name == "cylinder" and np.linalg.norm(np.cross(along, AXIS)) < 0.05:
        return
    out = surface.leave(place, along)
    if surface.beyond(place).all():
        assert distance(name, place)[0] >= -1e-8  # what rounds to the surface counts as on it
        assert (out == place).all()
        return
    assert distance(name, out)[0] == pytest.approx(0.0, abs=1e-7)
    assert surface.beyond(out + 1e-6 * along).all()
    way = out - place
    assert np.linalg.norm(np.cross(way, along)) < 1e-6
    assert way @ along > 0


@pytest.mark.parametrize("name", SURFACES)
@given(data=some.data())
def test_no_way_over_comes_back_within(name, data):
    surface = SURFACES[name]
    ends = []
    for _ in range(2):
        place = random_place(data.draw)
        spoke = AXIS if name == "plane" else place - (surface.centre if name == "sphere" else surface.point)
        if name == "cylinder":
            spoke = spoke - (spoke @ AXIS) * AXIS
        if np.linalg.norm(spoke) < 1e-3:
            return
        ends.append(surface.leave(place, spoke / np.linalg.norm(spoke)))
    path = path_of(ends[0], surface.over(*ends))
    assert path.point[-1] == pytest.approx(ends[1], abs=1e-9)
    for row in range(1, len(path)):
        along = path.places(np.full(200, row), np.linspace(0, 1, 200))
        assert distance(name, along).min() > -1e-6
    # The way round is no longer than half a turn at the larger radius, and what lies between along the axis.
    assert path.lengths().sum() <= np.pi * max(np.linalg.norm(e) + 6 for e in ends) + np.linalg.norm(ends[0] - ends[1])


def test_round_a_sphere_to_the_far_side_is_half_a_great_circle():
    start, end = (SURFACES["sphere"].centre + s * np.array([25.0, 0, 0]) for s in (1, -1))
    path = path_of(start, SURFACES["sphere"].over(start, end))
    assert path.lengths().sum() == pytest.approx(np.pi * 25)


def test_round_a_cylinder_the_shorter_way_and_along_it():
    surface = SafeCylinder(np.zeros(3), np.array([0, 0, 1.0]), 11.0)
    start, end = np.array([12.0, 0, 0]), np.array([0.0, -20.0, 30.0])
    path = path_of(start, surface.over(start, end))
    turn = path.places(np.array([1]), np.array([0.5]))[0]
    assert turn == pytest.approx([12 * np.cos(np.pi / 4), -12 * np.sin(np.pi / 4), 15])
    assert path.lengths().sum() == pytest.approx(np.hypot(12 * np.pi / 2, 30) + 8)


def test_ways_that_keep_beyond_are_straight():
    surface = SURFACES["sphere"]
    start, end = surface.centre + np.array([30.0, -40, 0]), surface.centre + np.array([30.0, 40, 0])
    way = surface.over(start, end)
    assert len(way.point) == 1
    assert way.motion[0] == 0
    near = surface.over(start - [8, 0, 0], end - [8, 0, 0])
    assert near.motion[0] != 0


def test_over_a_place_of_the_machine():
    safe = SafePlace(np.array([0.0, 0, 200]))
    assert safe.leave(np.array([5.0, 5, 5]), AXIS) == pytest.approx([0, 0, 200])
    assert safe.over(np.zeros(3), np.ones(3)).point == pytest.approx(np.array([[0, 0, 200.0], [1, 1, 1]]))
    assert safe.beyond(np.array([[0, 0, 200.0], [0, 0, 201.0]])).tolist() == [True, False]


@pytest.mark.parametrize(
    ("name", "along"), [("plane", -AXIS), ("plane", np.cross(AXIS, [0, 0, 1])), ("cylinder", AXIS)]
)
def test_what_is_never_reached_is_said(name, along):
    with pytest.raises(FenrikError, match=f"is a {name} that the tool never reaches"):
        SURFACES[name].leave(np.array([4.0, -3.0, 2.0]), along)


@pytest.mark.parametrize("name", [*SURFACES, "place"])
def test_in_a_frame_it_says_the_same(name):
    surface = SafePlace(np.array([3.0, 4, 5])) if name == "place" else SURFACES[name]
    frame = Frame("turned", np.array([7.0, -8, 9]), Rotation.from_rotvec([0.5, 1.1, -0.7]).as_matrix())
    moved = surface.in_frame(frame)
    places = np.random.default_rng(1).uniform(-50, 50, (60, 3))
    assert moved.beyond(frame.to_local(places)).tolist() == surface.beyond(places).tolist()
    inside = places[~surface.beyond(places)][0]
    out = surface.leave(inside, AXIS + [0.5, 0, 0])
    assert moved.leave(frame.to_local(inside), frame.direction_to_local(AXIS + [0.5, 0, 0])) == pytest.approx(
        frame.to_local(out), abs=1e-9
    )


def test_a_path_comes_and_goes_beyond_its_safe_surface():
    """A round part: over its middle the tool comes from higher than over its side."""
    safe = SafeCylinder(np.zeros(3), np.array([0.0, 1.0, 0.0]), 50.0)
    builder = PathBuilder(Feeds(1000, 300, 2000), safe, 20.0)
    builder.travel(30.0, 5.0, 12.0)
    builder.cut(np.array([[30.0, 5, 10], [0, 5, 10]]))
    path = builder.finish()
    assert path.point[0] == pytest.approx([30, 5, 40])
    assert path.point[-1] == pytest.approx([0, 5, 50])

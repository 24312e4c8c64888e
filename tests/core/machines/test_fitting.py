"""Paths fitted to machines, looked at between rows by forward kinematics alone; the frustum of NAS 979 (ISO 10791-7)."""

import numpy as np
import pytest
from paths import path_of
from scipy.spatial.transform import Rotation

from fenrik.core.errors import FenrikError
from fenrik.core.machines import Chain, Joint, course, fitting
from fenrik.core.toolpath import Kind
from fenrik.core.toolpath.safe import SafeSphere

LINEAR = [
    Joint(name=n, direction=d, low=-1000, high=1000, speed=30_000)
    for n, d in (("X", (1, 0, 0)), ("Y", (0, 1, 0)), ("Z", (0, 0, 1)))
]
A = {
    "name": "A",
    "kind": "rotary",
    "direction": (1, 0, 0),
    "origin": (0, 0, 60),
    "low": -110,
    "high": 110,
    "speed": 9000,
}
C = {"name": "C", "kind": "rotary", "direction": (0, 0, 1), "speed": 18_000}
AT, AROUND = (40.0, -25.0, 30.0), SafeSphere(np.array([0.0, 0.0, 20.0]), 120.0)
TOLERANCE_MM = 0.01


def table(low=-360.0, high=360.0):
    return Chain(
        [*LINEAR, Joint(carries="work", **A), Joint(carries="work", **C | {"low": low, "high": high})], 90.0, AT
    )


def fitted(chain, path, *settings, **more):
    """A path fitted to the joints that suit it best."""
    return fitting.fitted(chain, path, course(chain, path.point, path.axis, path.feed <= 0), *settings, **more)


def head():
    turning = Joint(carries="work", **C | {"low": None, "high": None})
    return Chain([*LINEAR, Joint(**A | {"origin": (0, 0, 150)}), turning], 90.0, AT)


def frustum(turns=1.0, rows=121, tilt=10.0):
    """The flank of a cone of 15° half angle that leans, cut round with the tool along its rulings (NAS 979)."""
    t = np.linspace(0, 2 * np.pi * turns, rows)
    out = np.column_stack([np.cos(t), np.sin(t), np.zeros(rows)])
    half = np.deg2rad(15.0)
    lean = Rotation.from_euler("y", tilt, degrees=True)
    ruling = -np.sin(half) * out + [0, 0, np.cos(half)]
    return path_of(lean.apply(50.0 * out) + [10, 5, 0], lean.apply(ruling))


def strays(chain, path, made, lever_mm, between=9):
    """How far tip and a place on the axis are from the meant motion, densely between rows: the given path's rows are
    straight, their axes turn evenly in the plane of both (SciPy's slerp)."""
    worst = 0.0
    for row in np.unique(made.source[made.path.feed > 0])[1:]:
        own = np.flatnonzero(made.source == row)
        own = own[made.path.kind[own] == path.kind[row]]
        start, end = path.point[row - 1], path.point[row]
        a, b = path.axis[row - 1], path.axis[row]
        turn = np.cross(a, b)
        size = np.linalg.norm(turn)
        around = turn / size * np.arctan2(size, a @ b) if size > 1e-15 else np.zeros(3)
        for i in own:
            for s in np.linspace(0, 1, between):
                is_at = chain.forward(made.joints[i - 1] + s * (made.joints[i] - made.joints[i - 1]))
                # The moment of the meant motion is that at which its tip is nearest.
                share = np.clip((is_at.point[0] - start) @ (end - start) / ((end - start) @ (end - start)), 0.0, 1.0)
                tip = np.linalg.norm(start + share * (end - start) - is_at.point[0])
                worst = max(
                    worst,
                    tip + lever_mm * np.linalg.norm(Rotation.from_rotvec(share * around).apply(a) - is_at.axis[0]),
                )
    return worst


@pytest.mark.parametrize("chain", [table(), head()], ids=["table-table", "head-table"])
def test_a_frustum_is_made_within_tolerance_between_rows_too(chain):
    path = frustum(rows=41)
    made = fitted(chain, path, AROUND, TOLERANCE_MM, 40.0)
    assert made.off_mm <= TOLERANCE_MM
    assert strays(chain, path, made, 40.0) <= TOLERANCE_MM
    pose = chain.forward(made.joints)
    assert pose.point == pytest.approx(made.path.point, abs=1e-6)
    assert pose.axis == pytest.approx(made.path.axis, abs=1e-9)
    assert made.turned == []
    # The same rows as they are would be off by far more.
    assert len(made.path) > 2 * len(path)


def test_where_the_control_holds_the_tip_only_the_axis_has_to_be_kept():
    path = frustum(rows=41)
    free, held = (fitted(table(), path, AROUND, TOLERANCE_MM, 40.0, holds=h) for h in ("joints", "tip"))
    assert len(path) <= len(held.path) < len(free.path)


def test_a_table_that_comes_to_its_end_turns_back_away_from_the_work():
    chain = table(-200.0, 200.0)
    path = frustum(turns=2.5, rows=301)
    made = fitted(chain, path, AROUND, TOLERANCE_MM, 40.0)
    assert len(made.turned) == 2
    assert np.abs(made.joints[:, 4]).max() <= 200.0 + 1e-9
    assert chain.least_minutes(made.joints, np.zeros(len(made.joints))).max() < 1.0
    own = made.path.kind == Kind.CUT
    assert np.array_equal(made.source[own], np.sort(made.source[own]))
    # Where the joints turn the tip is beyond all that is clamped; then it comes back to the place that it left.
    for k in made.turned:
        rows = np.flatnonzero((made.source == k) & ~own)
        turning = rows[made.path.kind[rows] == Kind.RAPID]
        seen = chain.forward(made.joints[turning]).point
        assert seen == pytest.approx(made.path.point[turning], abs=1e-6)
        assert (np.linalg.norm(seen - AROUND.centre, axis=1) >= AROUND.radius_mm - 1e-6).all()
        assert np.abs(made.joints[turning, 4][-1] - made.joints[rows[0] - 1, 4]) == pytest.approx(360, abs=1)
        assert made.path.point[rows[-1]] == pytest.approx(path.point[k - 1])
        assert made.path.axis[rows[-1]] == pytest.approx(path.axis[k - 1])
    cut = np.flatnonzero(own & np.append(False, own[:-1]))
    assert np.abs(made.joints[cut, 4] - made.joints[cut - 1, 4]).max() < 90


def test_two_whole_turns_at_once_are_no_way_to_go_on():
    """Halfway through 720° all joints look right."""
    made = fitted(table(), frustum(turns=2.7, rows=250), AROUND, TOLERANCE_MM, 40.0)
    assert len(made.turned) == 1
    cut = np.flatnonzero((made.path.kind == Kind.CUT) & np.append(False, made.path.kind[:-1] == Kind.CUT))
    assert np.abs(made.joints[cut, 4] - made.joints[cut - 1, 4]).max() < 30


def test_the_beginning_is_chosen_so_that_the_end_can_be_reached():
    """One turn of 340° either way: begun at 0 as it would be nearest, the table would come to its end."""
    for sense in (1, -1):
        t = np.deg2rad(np.linspace(0, 340 * sense, 80))
        axis = np.column_stack([0.4 * np.sin(t), 0.4 * np.cos(t), np.full(80, 0.9)])
        point = np.column_stack([30 * np.sin(t), 30 * np.cos(t), np.zeros(80)])
        made = fitted(table(-185.0, 185.0), path_of(point, axis), AROUND, TOLERANCE_MM, 40.0)
        assert made.turned == []


def test_near_the_pole_the_tool_is_slowed_and_not_flung():
    """Past the pole at a tenth of a degree: the table turns by nearly half a turn within a millimetre or two."""
    s = np.linspace(-20, 20, 201)
    axis = np.column_stack([np.deg2rad(s), np.full(201, np.deg2rad(0.1)), np.ones(201)])
    point = np.column_stack([s, np.zeros(201), np.zeros(201)])
    chain, path = table(), path_of(point, axis, 3000.0)
    made = fitted(chain, path, AROUND, TOLERANCE_MM, 40.0)
    length = made.path.lengths()[1:]
    speed = np.abs(np.diff(made.joints, axis=0)) / np.maximum(length / made.path.feed[1:], 1e-12)[:, None]
    assert (speed <= np.array([j.speed for j in chain.joints]) * (1 + 1e-9)).all()
    assert made.path.feed[1:].min() < 1500
    assert made.path.feed[[1, -1]] == pytest.approx(3000)
    assert made.off_mm <= TOLERANCE_MM


def test_straight_through_the_pole_the_table_goes_on_to_the_other_side():
    s = np.linspace(-20, 20, 41)
    axis = np.column_stack([np.sin(np.deg2rad(s)), np.zeros(41), np.cos(np.deg2rad(s))])
    made = fitted(table(), path_of(np.column_stack([s, s * 0, s * 0]), axis), AROUND, TOLERANCE_MM, 40.0)
    assert np.ptp(made.joints[:, 4]) < 1e-6
    assert np.ptp(made.joints[:, 3]) == pytest.approx(40, abs=1e-6)


def test_three_axes_are_left_as_they_are():
    point = np.random.default_rng(0).uniform(-50, 50, (20, 3))
    path = path_of(point, np.tile([0.0, 0, 1], (20, 1)))
    made = fitted(Chain(LINEAR), path, AROUND, TOLERANCE_MM, 40.0)
    assert np.array_equal(made.path.point, path.point)
    assert np.array_equal(made.path.feed, path.feed)
    assert made.joints == pytest.approx(point)


def test_what_no_joint_reaches_stays_and_is_marked():
    path = frustum(rows=21)
    path.axis[10] = [0, 0, -1]
    made = fitted(table(), path, AROUND, TOLERANCE_MM, 40.0)
    assert np.unique(made.source[np.isnan(made.joints).any(axis=1)]).tolist() == [10]


def test_a_path_that_would_become_endless_is_refused(monkeypatch):
    monkeypatch.setattr(fitting, "MOST_ROWS", 1000)
    with pytest.raises(FenrikError, match="millions of rows"):
        fitted(table(), frustum(rows=401), AROUND, 1e-6, 40.0)

"""Arcs in any plane against rotations of SciPy, poses against its spherical interpolation, and what a builder writes."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation, Slerp

from fenrik.core.errors import FenrikError
from fenrik.core.frames import Frame
from fenrik.core.sketches import Curve
from fenrik.core.toolpath import Feeds, Kind, Motion, PathBuilder, Poses, SafePlane, Toolpath
from fenrik.core.toolpath.builder import curve_motions

Z = np.array([0.0, 0, 1])


def arc(start, centre, normal, angle_deg, climb, motion):
    """A path of one arc made by turning its start with SciPy."""
    normal = np.asarray(normal, float) / np.linalg.norm(normal)
    turn = Rotation.from_rotvec(normal * np.deg2rad(angle_deg) * (1 if motion == Motion.ARC_CCW else -1))
    end = centre + turn.apply(np.asarray(start) - centre) + climb * normal
    path = Toolpath.plain(
        np.array([start, end]), np.array([0, motion], np.int8), np.array([np.zeros(3), centre]),
        np.full(2, Kind.CUT, np.int8), np.full(2, 500.0),
    )  # fmt: skip
    path.normal[:] = normal
    return path


@pytest.mark.parametrize("motion", [Motion.ARC_CW, Motion.ARC_CCW])
@pytest.mark.parametrize("normal", [(0, 0, 1), (0, 1, 0), (1, 0, 0), (0.3, -0.5, 0.8)])
@pytest.mark.parametrize("angle", [20.0, 90.0, 180.0, 271.0, 360.0])
def test_arcs_in_any_plane(motion, normal, angle):
    unit = np.asarray(normal, float) / np.linalg.norm(normal)
    spoke = np.cross(unit, [0.2, 0.9, 0.4])
    centre = np.array([3.0, -2, 5])
    start = centre + 7 * spoke / np.linalg.norm(spoke)
    path = arc(start, centre, normal, angle, 1.5, motion)
    sweep, radius = path.sweep(1, start)
    assert (np.rad2deg(sweep), radius) == pytest.approx((angle, 7.0))
    assert path.lengths()[1] == pytest.approx(np.hypot(7 * np.deg2rad(angle), 1.5))
    flat, source = path.flattened(0.001)
    sign = 1 if motion == Motion.ARC_CCW else -1
    share = np.arange(1, len(flat)) / (len(flat) - 1)
    turned = Rotation.from_rotvec(unit * (sign * np.deg2rad(angle) * share)[:, None]).apply(start - centre)
    assert np.allclose(flat.point[1:], centre + turned + unit * (1.5 * share)[:, None], atol=1e-9)
    assert source.tolist() == [0] + [1] * (len(flat) - 1)
    step = np.deg2rad(angle) / (len(flat) - 1)
    assert 7 * (1 - np.cos(step / 2)) <= 0.001 + 1e-9


def test_an_arc_of_g18_keeps_its_length():
    """Three quarters of a circle in the Z–X plane about (0, 0, 0), seen from −Y: what was 10 × 4.99 × 0 before."""
    path = arc(np.array([5.0, 0, 0]), np.zeros(3), (0, 1, 0), 270, 0.0, Motion.ARC_CW)
    flat, _ = path.flattened(0.001)
    assert np.ptp(flat.point, axis=0).tolist() == pytest.approx([10, 0, 10], abs=2e-3)


def test_a_path_in_another_frame():
    rng = np.random.default_rng(1)
    frame = Frame("tool", rng.normal(size=3), Rotation.random(random_state=2).as_matrix())
    path = arc(np.array([5.0, 0, 1]), np.array([1.0, 2, 3]), (0, 0, 1), 130, 2.0, Motion.ARC_CCW)
    moved = path.in_frame(frame)
    here, there = path.flattened(0.01)[0], moved.flattened(0.01)[0]
    assert np.allclose(frame.to_local(here.point), there.point, atol=1e-9)
    assert np.allclose(there.axis, frame.direction_to_local(Z), atol=1e-12)
    assert moved.lengths() == pytest.approx(path.lengths())


@pytest.mark.parametrize("bulge", [0.3, -0.3, 1.0, -1.0])
def test_a_bulge_turns_the_way_of_dxf(bulge):
    """Above 0 counter-clockwise; the bulge is the tangent of a quarter of the angle (DXF)."""
    curve = Curve(np.array([[0.0, 0], [4, 0]]), np.array([bulge]), False)
    points, motion, centre = curve_motions(curve, 1.0, 3.0)
    assert motion.tolist() == [Motion.ARC_CCW if bulge > 0 else Motion.ARC_CW]
    path = Toolpath.plain(
        np.vstack([[0, 0, 1.0], points]), np.append(0, motion).astype(np.int8), np.vstack([np.zeros(3), centre]),
        np.full(2, Kind.CUT, np.int8), np.ones(2),
    )  # fmt: skip
    assert path.sweep(1, path.point[0])[0] == pytest.approx(4 * np.arctan(abs(bulge)))
    middle = path.flattened(1e-4)[0].point
    # A counter-clockwise arc from left to right bulges downwards.
    lowest = middle[np.abs(middle[:, 0] - 2).argmin(), 1]
    assert lowest == pytest.approx(-2 * bulge, abs=0.02)
    assert middle[-1].tolist() == pytest.approx([4, 0, 3])


def test_the_axis_turns_evenly():
    """Against SciPy's spherical interpolation."""
    rng = np.random.default_rng(5)
    a, b = (v / np.linalg.norm(v, axis=1, keepdims=True) for v in rng.normal(size=(2, 20, 3)))
    poses = Poses(np.zeros((20, 3)), np.ones((20, 3)), a, b, np.arange(20))
    for k in range(20):
        turn = Rotation.from_rotvec(np.cross(a[k], b[k]) / np.linalg.norm(np.cross(a[k], b[k])) * poses.angles_rad()[k])
        shares = np.linspace(0, 1, 7)
        expect = Slerp([0, 1], Rotation.concatenate([Rotation.identity(), turn]))(shares).apply(a[k])
        assert np.allclose(poses.axis_at(np.full(7, k), shares), expect, atol=1e-12)


def test_straightened_steps_stay_within_the_bound():
    """Places of the tool at dense moments against the step that is then under way."""
    rng = np.random.default_rng(6)
    first = np.array([0.1, 0.2, 1.0])
    last = np.array([-0.2, 0.35, 0.9])
    first, last = first / np.linalg.norm(first), last / np.linalg.norm(last)
    one = Poses(np.zeros((1, 3)), np.array([[6.0, 2, 1]]), first[None], last[None], np.array([41]))
    steps, off = one.straightened(0.0, 30.0, 5.0, 0.005)
    assert off <= 0.005
    assert set(steps.source.tolist()) == {41}
    body = np.column_stack([rng.uniform(-5, 5, (40, 2)), rng.uniform(0, 30, 40)])
    body = body[np.hypot(body[:, 0], body[:, 1]) <= 5]
    frame_x = np.cross(first, last) / np.linalg.norm(np.cross(first, last))

    def stand(axis):
        return np.column_stack([frame_x, np.cross(axis, frame_x), axis])

    for share in np.linspace(0.003, 0.997, 61):
        k = min(int(share * len(steps)), len(steps) - 1)
        inside = share * len(steps) - k
        axis = one.axis_at(np.array([0]), np.array([share]))[0]
        true = one.end[0] * share + body @ stand(axis).T
        tip = steps.start[k] + (steps.end[k] - steps.start[k]) * inside
        assert np.linalg.norm(tip + body @ stand(steps.start_axis[k]).T - true, axis=1).max() <= off + 1e-9
    with pytest.raises(FenrikError, match="turns right over"):
        Poses(one.start, one.end, first[None], -first[None], one.source).straightened(0, 1, 1, 0.1)


def test_each_kind_of_motion_has_its_feed():
    builder = PathBuilder(Feeds(cutting=1000, entry=300, exit=2000), SafePlane.at_height(20.0), 10.0)
    builder.travel(0, 0, 5)
    builder.approach(np.array([0.0, 0, 4]))
    builder.enter(np.array([0.0, 0, 2]))
    builder.enter_helix(np.array([1.0, 0]), np.array([0.0, 0, 1]), 2.0, 1.0)
    builder.follow(Curve(np.array([[0.0, 0], [4, 0]]), np.array([0.5]), False), Kind.ENTRY)
    builder.cut(np.array([9.0, 0, 1]))
    builder.link(np.array([9.0, 5, 1]))
    builder.follow(Curve(np.array([[9.0, 5], [12, 5]]), np.array([0.0]), False), Kind.EXIT)
    path = builder.finish()
    want = {
        Kind.RAPID: 0, Kind.RETRACT: 0, Kind.APPROACH: 300, Kind.ENTRY: 300, Kind.CUT: 1000, Kind.LINK: 1000,
        Kind.EXIT: 2000,
    }  # fmt: skip
    assert {Kind(k): {float(f) for f in path.feed[path.kind == k]} for k in np.unique(path.kind)} == {
        k: {float(f)} for k, f in want.items()
    }
    assert path.point[0].tolist() == [0, 0, 20]
    assert path.point[-1, 2] == 20

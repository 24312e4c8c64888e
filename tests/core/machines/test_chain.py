"""Chains against `scipy.spatial.transform` and `kinpy` (a reader of URDF, on its own arithmetic), round trips, and the published closed form of a table-table machine."""

import kinpy
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some
from scipy.spatial.transform import Rotation

from fenrik.core.errors import FenrikError
from fenrik.core.machines import Chain, Joint, Machine, course

LINEAR = [
    Joint(name=n, direction=d, low=-1000, high=1000) for n, d in (("X", (1, 0, 0)), ("Y", (0, 1, 0)), ("Z", (0, 0, 1)))
]
A = {"name": "A", "kind": "rotary", "direction": (1, 0, 0), "origin": (0, 5, -60), "low": -120, "high": 30}
C = {"name": "C", "kind": "rotary", "direction": (0, 0, 1), "origin": (0, 5, 0), "low": -360, "high": 360}
TABLE_TABLE = [*LINEAR, Joint(carries="work", **A), Joint(carries="work", **C)]
HEAD_TABLE = [*LINEAR, Joint(carries="tool", **A | {"origin": (0, 0, 150)}), Joint(carries="work", **C)]
HEAD_HEAD = [*LINEAR, Joint(**C), Joint(**A | {"origin": (0, 0, 150)})]
NUTATING = [*LINEAR, Joint(carries="work", **C), Joint(**A | {"direction": (0, 1, 1), "low": -180, "high": 180})]
MACHINES = {"table-table": TABLE_TABLE, "head-table": HEAD_TABLE, "head-head": HEAD_HEAD, "tilted axis": NUTATING}


def matrix(joint, value):
    """A joint's motion as a 4 × 4 matrix, by SciPy."""
    found = np.eye(4)
    along = np.array(joint.direction, float) / np.linalg.norm(joint.direction)
    if joint.kind == "linear":
        found[:3, 3] = value * along
        return found
    turn = Rotation.from_rotvec(np.deg2rad(value) * along).as_matrix()
    found[:3, :3], found[:3, 3] = turn, np.array(joint.origin) - turn @ np.array(joint.origin)
    return found


@pytest.mark.parametrize("name", MACHINES)
def test_forward_against_matrices(name):
    joints = MACHINES[name]
    values = np.random.default_rng(1).uniform(-100, 25, (40, len(joints)))
    pose = Chain(joints, tool_mm=80).forward(values)
    longer = [j.model_copy(update={"origin": np.add(j.origin, (0, 0, 80 * (j.carries == "tool")))}) for j in joints]
    for row, point, axis in zip(values, pose.point, pose.axis, strict=True):
        work, tool = np.eye(4), np.eye(4)
        for joint, value in zip(longer, row, strict=True):
            if joint.carries == "work":
                work = work @ matrix(joint, value)
            else:
                tool = tool @ matrix(joint, value)
        seen = np.linalg.inv(work) @ tool
        assert point == pytest.approx(seen[:3, 3], abs=1e-9)
        assert axis == pytest.approx(seen[:3, 2], abs=1e-12)


def urdf_of(joints, tool_mm):
    """A machine in the Unified Robot Description Format (metres, radians): two branches of links from one base, a joint
    frame at each origin, and a fixed link for the tip, to which the work is raised by the length of the tool."""
    links, parts = ['<link name="base"/>'], []
    for branch in ("work", "tool"):
        parent, at = "base", np.zeros(3)
        for joint in (j for j in joints if j.carries == branch):
            kind = "prismatic" if joint.kind == "linear" else "revolute"
            here = np.array(joint.origin) - [0.0, 0.0, tool_mm if branch == "work" else 0.0]
            x, y, z = ((here - at) / 1000).tolist()
            along = (np.array(joint.direction, float) / np.linalg.norm(joint.direction)).tolist()
            parts.append(
                f'<joint name="{joint.name}" type="{kind}"><parent link="{parent}"/><child link="{joint.name}_link"/>'
                f'<origin xyz="{x!r} {y!r} {z!r}" rpy="0 0 0"/><axis xyz="{along[0]!r} {along[1]!r} {along[2]!r}"/>'
                f'<limit lower="-9" upper="9" effort="1" velocity="1"/></joint>'
            )
            links.append(f'<link name="{joint.name}_link"/>')
            parent, at = f"{joint.name}_link", here
        x, y, z = ((np.array([0, 0, -tool_mm]) - at) / 1000).tolist()
        links.append(f'<link name="{branch}_end"/>')
        parts.append(
            f'<joint name="{branch}_fixed" type="fixed"><parent link="{parent}"/><child link="{branch}_end"/>'
            f'<origin xyz="{x!r} {y!r} {z!r}" rpy="0 0 0"/></joint>'
        )
    return f'<robot name="machine">{"".join(links)}{"".join(parts)}</robot>'


@pytest.mark.parametrize("name", MACHINES)
def test_forward_against_a_reader_of_urdf(name):
    joints = MACHINES[name]
    other = kinpy.build_chain_from_urdf(urdf_of(joints, 110.0))
    values = np.random.default_rng(2).uniform(-100, 25, (30, len(joints)))
    pose = Chain(joints, tool_mm=110.0).forward(values)
    for row, point, axis in zip(values, pose.point, pose.axis, strict=True):
        there = {j.name: v / 1000 if j.kind == "linear" else np.deg2rad(v) for j, v in zip(joints, row, strict=True)}
        ends = {k: t.matrix() for k, t in other.forward_kinematics(there).items() if k.endswith("_end")}
        seen = np.linalg.inv(ends["work_end"]) @ ends["tool_end"]
        assert point == pytest.approx(1000 * seen[:3, 3], abs=1e-8)
        assert axis == pytest.approx(seen[:3, 2], abs=1e-11)


@pytest.mark.parametrize("name", MACHINES)
@settings(max_examples=60, deadline=None)
@given(data=some.data())
def test_round_trip_and_all_solutions(name, data):
    joints = MACHINES[name]
    chain = Chain(joints, tool_mm=95.0)
    values = np.array([data.draw(some.floats(max(j.low, -200), min(j.high, 200)), label=j.name) for j in joints])
    pose = chain.forward(values)
    found = chain.inverse(pose.point[0], pose.axis[0])
    assert found
    for one in found:
        again = chain.forward(one)
        assert again.point[0] == pytest.approx(pose.point[0], abs=1e-6)
        # A tool that leans by a millionth of a degree counts as upright.
        assert again.axis[0] == pytest.approx(pose.axis[0], abs=4e-8)
        assert all(j.allows(v) for j, v in zip(joints, one, strict=True))
    # The values that were begun with are among them, unless the tool stands along a rotary axis, where any turn does.
    nearest = min(np.abs(one - values).max() for one in found)
    tilt = np.linalg.norm(np.cross(pose.axis[0], [0, 0, 1]))
    assert nearest < 1e-5 or tilt < 1e-5


def test_table_table_closed_form():
    """A = −acos(k), C = atan2(i, j) and the other way round: for a table that tilts about X and carries one that turns
    about Z (common practice; up to the sign of the tilt)."""
    chain = Chain(TABLE_TABLE)
    axis = np.array([0.3, -0.4, 0.8])
    axis /= np.linalg.norm(axis)
    found = chain.inverse(np.zeros(3), axis)
    tilt = np.rad2deg(np.arccos(axis[2]))
    assert {round(abs(v[3]), 6) for v in found} == {round(tilt, 6)}
    turned = {round(v[4] % 360, 6) for v in found}
    expected = np.rad2deg(np.arctan2(axis[0], axis[1]))
    assert turned <= {round(expected % 360, 6), round((expected + 180) % 360, 6)}
    # The tilt of +31° lies beyond the end of A at 30°: only the other one is left, in both turns of C.
    assert all(v[3] < 0 for v in found)
    assert len(found) == 2


def test_a_pose_out_of_reach_has_no_solution():
    chain = Chain(TABLE_TABLE)
    assert chain.inverse(np.zeros(3), np.array([0.0, 0.0, -1.0])) == []
    assert chain.inverse(np.array([0.0, 0.0, 5000.0]), np.array([0.0, 0.0, 1.0])) == []


def test_three_axes_are_the_place_of_the_tip():
    machine = Machine(name="Gull", travel_mm=(500, 400, 300))
    points = np.random.default_rng(0).uniform(-100, 100, (50, 3))
    up = np.tile([0.0, 0, 1], (50, 1))
    assert course(machine.chain(), points, up).joints == pytest.approx(points, abs=1e-12)
    assert machine.chain().inverse(points[0], np.array([0.0, 1.0, 0.0])) == []
    assert [(j.name, j.low, j.high) for j in machine.all_joints()] == [
        ("X", -250, 250), ("Y", -200, 200), ("Z", 0, 300),
    ]  # fmt: skip


def test_following_keeps_near_and_says_what_is_out_of_reach():
    chain = Chain(TABLE_TABLE)
    turn = np.deg2rad(np.linspace(0, 350, 40))
    axis = np.column_stack([np.sin(turn) * 0.5, np.cos(turn) * 0.5, np.full(40, np.sqrt(0.75))])
    values = course(chain, np.zeros((40, 3)), axis).joints
    assert np.abs(np.diff(values[:, 4])).max() < 15
    axis[7] = [0, 0, -1]
    values = course(chain, np.zeros((40, 3)), axis).joints
    assert np.flatnonzero(np.isnan(values).any(axis=1)).tolist() == [7]


def test_a_table_holds_its_turn_while_the_tool_stands_along_it():
    """Leaning, upright for a while, leaning on: upright any turn of C would do, and to go to 0 and back would be idle
    turning under the cut."""
    chain = Chain(TABLE_TABLE)
    tilt = np.abs(np.linspace(0.4, -0.4, 41))
    tilt[15:26] = 0.0
    axis = np.column_stack([np.sin(tilt), np.zeros(41), np.cos(tilt)])
    point = np.random.default_rng(3).uniform(-50, 50, (41, 3))
    values = course(chain, point, axis).joints
    assert np.ptp(values[:, 4]) == pytest.approx(0.0, abs=1e-9)
    assert abs(values[0, 4]) == pytest.approx(90.0)
    pose = chain.forward(values)
    assert pose.point == pytest.approx(point, abs=1e-6)
    assert pose.axis == pytest.approx(axis, abs=1e-9)


@pytest.mark.parametrize("name", MACHINES)
def test_following_takes_solutions_and_turns_on_over_the_half_turn(name):
    """Each row is one of all solutions; a joint that may turn for ever does not jump back after half a turn."""
    joints = [j.model_copy(update={"low": None, "high": None}) for j in MACHINES[name]]
    chain = Chain(joints, 70.0)
    turn = np.linspace(0, 4 * np.pi, 200)
    axis = np.column_stack([0.3 * np.sin(turn), 0.3 * np.cos(turn), np.full(200, np.sqrt(1 - 0.09))])
    point = np.random.default_rng(4).uniform(-50, 50, (200, 3))
    values = course(chain, point, axis).joints
    pose = chain.forward(values)
    assert pose.point == pytest.approx(point, abs=1e-6)
    assert pose.axis == pytest.approx(axis, abs=1e-9)
    assert np.abs(np.diff(values[:, chain.rotary], axis=0)).max() < 20
    assert max(np.ptp(values[:, k]) for k in chain.rotary) == pytest.approx(720, abs=1e-6)
    for k in range(0, 200, 40):
        found = np.array(chain.inverse(point[k], axis[k]))
        apart = (found[:, chain.rotary] - values[k, chain.rotary] + 180) % 360 - 180
        assert np.abs(apart).max(axis=1).min() < 1e-6


def test_following_keeps_within_the_ends_of_rotary_joints_but_not_of_linear_ones():
    chain = Chain(HEAD_TABLE)
    turn = np.linspace(0, 6 * np.pi, 300)
    axis = np.column_stack([0.3 * np.sin(turn), 0.3 * np.cos(turn), np.full(300, np.sqrt(1 - 0.09))])
    values = course(chain, np.full((300, 3), 4000.0), axis).joints
    assert np.abs(values[:, 4]).max() <= 360
    assert not np.isnan(values).any()
    assert chain.inverse(np.full(3, 4000.0), axis[0]) == []


def test_a_missing_joint_is_said_and_not_left_out_of_the_numbers():
    """Without Y nothing off the plane is reached; the way in X and Z alone would look right."""
    flat = Chain([LINEAR[0], LINEAR[2]])
    up = np.tile([0.0, 0, 1], (3, 1))
    assert course(flat, np.array([[1.0, 0, 2], [3, 0, 4], [5, 0, 6]]), up).joints == pytest.approx(
        np.array([[1, 2], [3, 4], [5, 6]])
    )
    beside = course(flat, np.array([[1.0, 0, 2], [3, 7, 4], [5, 0, 6]]), up).joints
    assert np.isnan(beside[1]).all()
    assert beside[[0, 2]] == pytest.approx(np.array([[1, 2], [5, 6]]))


def test_a_longer_tool_stands_farther_from_the_head_but_not_from_the_table():
    """A head that turns about an axis 150 over the gauge line: a quarter turn carries the tip of a tool of 60 by 210."""
    head, table = Chain(HEAD_TABLE, 60.0), Chain(TABLE_TABLE, 60.0)
    away = head.forward([0, 0, 0, -90, 0]).point[0]
    assert away == pytest.approx([0, -210, 210], abs=1e-9)
    assert table.forward([1, 2, 3, -20, 5]).point == pytest.approx(Chain(TABLE_TABLE).forward([1, 2, 3, -20, 5]).point)


def test_wrong_joints_are_refused():
    with pytest.raises(FenrikError, match="has no length"):
        Chain([Joint(name="X", direction=(0, 0, 0))])
    with pytest.raises(ValueError, match="same name"):
        Machine(name="M", joints=[LINEAR[0], LINEAR[0]])
    with pytest.raises(FenrikError, match="more than two rotary"):
        Chain([*TABLE_TABLE, Joint(**A | {"name": "B"})]).inverse(np.zeros(3), np.array([0.0, 0, 1]))

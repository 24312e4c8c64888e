"""Arms: forward against a reader of URDF (`kinpy`) and SciPy; all postures of random poses in closed form."""

import kinpy
import numpy as np
import pytest
from cells import urdf_of
from scipy.spatial.transform import Rotation

from fenrik.core.errors import FenrikError
from fenrik.core.robots import Arm, ArmJoint, Axes, Axis, Link, LinkTable, all_postures, arm_from_urdf
from fenrik.core.robots.inverse import WAYS, family_of


def arm_of(name, *rows):
    joints = [ArmJoint(name=f"J{k + 1}") for k in range(6)]
    return Arm(name=name, joints=joints, shape=LinkTable(rows=[Link(**r) for r in rows]))


WRISTED = arm_of(
    "Gannet",
    {"d_mm": 610, "a_mm": 190, "alpha_deg": -90},
    {"a_mm": 700, "zero_deg": -90},
    {"a_mm": 110, "alpha_deg": -90},
    {"d_mm": 790, "alpha_deg": 90},
    {"alpha_deg": -90},
    {"d_mm": 128},
)
"""Shoulder beside the first axis, forearm beside the elbow, wrist in a point."""
OFFSET = arm_of(
    "Turnstone",
    {"d_mm": 180, "alpha_deg": 90},
    {"a_mm": -480},
    {"a_mm": -430},
    {"d_mm": 140, "alpha_deg": 90},
    {"d_mm": 95, "alpha_deg": -90},
    {"d_mm": 135},
)
"""Three parallel axes, a wrist that is no point."""
ARMS = {"spherical wrist": WRISTED, "three parallel axes": OFFSET}


@pytest.mark.parametrize("arm", ARMS.values(), ids=ARMS)
def test_forward_against_a_reader_of_urdf(arm):
    chain = kinpy.build_serial_chain_from_urdf(urdf_of(arm), "flange")
    values = np.random.default_rng(1).uniform(-180, 180, (30, 6))
    turn, place = arm.forward(values)
    for v, r, p in zip(values, turn, place, strict=True):
        seen = chain.forward_kinematics(np.deg2rad(v))
        assert np.asarray(seen.pos) * 1000 == pytest.approx(p, abs=1e-6)
        assert Rotation.from_quat(np.roll(seen.rot, -1)).as_matrix() == pytest.approx(r, abs=1e-9)


@pytest.mark.parametrize("arm", ARMS.values(), ids=ARMS)
def test_the_link_table_is_that_of_denavit_and_hartenberg(arm):
    """The product of the table's own matrices, by SciPy."""
    values = np.random.default_rng(4).uniform(-180, 180, 6)
    whole = np.eye(4)
    for link, v in zip(arm.shape.rows, values, strict=True):
        about_z, along_z, along_x, about_x = np.eye(4), np.eye(4), np.eye(4), np.eye(4)
        about_z[:3, :3] = Rotation.from_euler("z", v + link.zero_deg, degrees=True).as_matrix()
        along_z[2, 3], along_x[0, 3] = link.d_mm, link.a_mm
        about_x[:3, :3] = Rotation.from_euler("x", link.alpha_deg, degrees=True).as_matrix()
        whole = whole @ about_z @ along_z @ along_x @ about_x
    turn, place = arm.forward(values)
    assert turn[0] == pytest.approx(whole[:3, :3], abs=1e-12)
    assert place[0] == pytest.approx(whole[:3, 3], abs=1e-9)


@pytest.mark.parametrize("name", ARMS)
def test_every_posture_reaches_its_pose_and_the_one_begun_with_is_among_them(name):
    arm = ARMS[name]
    assert family_of(arm.screws()) == name
    values = np.random.default_rng(2).uniform(-180, 180, (1000, 6))
    turn, place = arm.forward(values)
    found = all_postures(arm, turn, place)
    assert found.shape == (1000, len(WAYS), 6)
    there = ~np.isnan(found).any(axis=2)
    again_turn, again_place = arm.forward(found[there])
    row = np.nonzero(there)[0]
    assert np.abs(again_place - place[row]).max() < 1e-9 * 1e3
    assert np.abs(again_turn - turn[row]).max() < 1e-9
    apart = np.abs((found - values[:, None] + 180) % 360 - 180).max(axis=2)
    assert np.nanmin(apart, axis=1).max() < 1e-6
    # Eight postures where all can be had: most poses of an arm within reach have them all, and no two are the same.
    assert there.sum(axis=1).min() >= 2
    for k in np.flatnonzero(there.all(axis=1))[:50]:
        gaps = np.abs((found[k][:, None] - found[k][None] + 180) % 360 - 180).max(axis=2) + 999 * np.eye(8)
        assert gaps.min() > 1e-4


@pytest.mark.parametrize("name", ARMS)
def test_beyond_reach_there_is_none(name):
    arm = ARMS[name]
    found = all_postures(arm, np.eye(3)[None], np.array([[5000.0, 0, 0]]))
    assert np.isnan(found).all()


def test_stretched_and_straight_wrists_are_solved_too():
    """Singular poses: the elbow stretched, the wrist's axes 4 and 6 in line."""
    values = np.array([[10.0, 20, 30, 40, 0, 50], [0, 0, 0, 0, 0, 0], [15, -40, 35, 0, 0, -20]])
    for arm in ARMS.values():
        turn, place = arm.forward(values)
        found = all_postures(arm, turn, place)
        for k in range(len(values)):
            some = found[k][~np.isnan(found[k]).any(axis=1)]
            assert len(some)
            again_turn, again_place = arm.forward(some)
            assert np.abs(again_place - place[k]).max() < 1e-5
            assert np.abs(again_turn - turn[k]).max() < 1e-7


def test_an_arm_without_a_closed_form_is_refused():
    rows = [r.model_dump() for r in WRISTED.shape.rows]
    rows[4]["a_mm"] = 40.0
    with pytest.raises(FenrikError, match="no closed form"):
        all_postures(arm_of("Odd", *rows), np.eye(3)[None], np.zeros((1, 3)))
    with pytest.raises(ValueError, match="same name"):
        Arm(name="A", joints=[ArmJoint(name="J1")] * 6, shape=WRISTED.shape)
    with pytest.raises(ValueError, match="below the highest"):
        ArmJoint(name="J", low_deg=5, high_deg=5)
    with pytest.raises(ValueError, match="no direction"):
        Axes(rows=[Axis(along=(0, 0, 0), origin_mm=(0, 0, 0))] * 6, flange_mm=(0, 0, 0))


@pytest.mark.parametrize("arm", ARMS.values(), ids=ARMS)
def test_an_arm_comes_back_from_its_urdf(arm):
    read = arm_from_urdf(urdf_of(arm).encode())
    assert read.tip == "flange"
    values = np.random.default_rng(6).uniform(-180, 180, (20, 6))
    for a, b in zip(arm.forward(values), read.arm.forward(values), strict=True):
        assert a == pytest.approx(b, abs=1e-6)
    assert read.arm.high == pytest.approx(np.rad2deg(9.0))
    assert np.isnan(all_postures(read.arm, *arm.forward(values))).all(axis=2).sum() <= 6 * 20


URDF = urdf_of(WRISTED)


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "is no XML"),
        ("<robot", "is no XML"),
        ("<house/>", "begins with house"),
        ("<robot/>", "0 turning joints"),
        (URDF.replace('<joint name="j3" type="revolute">', '<joint name="j3" type="prismatic">'), "5 turning joints"),
        (URDF.replace('<child link="l4"/>', '<child link="l3"/>'), "hangs link l3 on two joints: a loop"),
        (URDF.replace('<parent link="base"/>', '<parent link="l5"/>'), "a loop"),
        (URDF.replace('xyz="0.0 0.0 0.0"', 'xyz="0 zero 0"', 1), "no three numbers"),
        (URDF.replace('<parent link="l1"/>', ""), "does not say what it joins"),
        (URDF.replace('lower="-9"', 'lower="deep"', 1), "no number for lower"),
    ],
)
def test_what_is_wrong_with_a_urdf_is_said(text, why):
    with pytest.raises(FenrikError, match=why):
        arm_from_urdf(text.encode())


def test_meshes_that_a_urdf_names_are_told():
    text = URDF.replace(
        '<link name="l2"/>', '<link name="l2"><visual><geometry><mesh filename="upper.stl"/></geometry></visual></link>'
    )
    assert arm_from_urdf(text.encode()).meshes == ["upper.stl"]
    with pytest.raises(FenrikError, match="has no link claw"):
        arm_from_urdf(text.encode(), "claw")

"""Cells: all postures of the arms that Fenrik ships against a general rigid-body library (`kinpy`, through URDF), SciPy
products of turns, and themselves; what is wrong with a cell is said."""

import json

import kinpy
import numpy as np
import pytest
from cells import CELLS, chain_of, urdf_of
from scipy.spatial.transform import Rotation

from fenrik.core.errors import FenrikError
from fenrik.core.job_reading import parse_job
from fenrik.core.machines.linkage import Linkage
from fenrik.core.robots import Cell, all_postures, arm_from_urdf
from fenrik.demo.cells import PLINTH

BOTH = list(CELLS)


def within(name, count, seed=0):
    """Values of all joints between their ends."""
    rng, joints = np.random.default_rng(seed), chain_of(name).joints
    low = [-180.0 if j.low is None else j.low for j in joints]
    high = [180.0 if j.high is None else j.high for j in joints]
    return rng.uniform(low, high, (count, len(joints)))


@pytest.mark.parametrize("name", BOTH)
def test_ten_thousand_directions_and_all_postures_of_a_thousand_poses(name):
    """Forward ∘ inverse within 1e-9 of a metre and of a radian, for tools that point any way, and for every one of the
    up to eight postures of random poses; the posture begun with is among them."""
    arm, rng = CELLS[name].arm, np.random.default_rng(3)
    turn = Rotation.random(10_000, random_state=4).as_matrix()
    _, somewhere = arm.forward(rng.uniform(arm.low, arm.high, (10_000, 6)))
    # Places where the arm was, pointing any way: most of them are within reach.
    for rotation, place in ((turn, 0.6 * somewhere), arm.forward(rng.uniform(arm.low, arm.high, (1000, 6)))):
        found = all_postures(arm, rotation, place)
        there = ~np.isnan(found).any(axis=2)
        assert there.any(axis=1).mean() > 0.5
        row = np.nonzero(there)[0]
        again, at = arm.forward(found[there])
        assert np.abs(again - rotation[row]).max() < 1e-9
        assert np.abs(at - place[row]).max() < 1e-9 * 1e3
    values = rng.uniform(-180, 180, (1000, 6))
    found = all_postures(arm, *arm.forward(values))
    apart = np.abs((found - values[:, None] + 180) % 360 - 180).max(axis=2)
    assert np.nanmin(apart, axis=1).max() < 1e-6


@pytest.mark.parametrize("name", BOTH)
def test_a_general_library_puts_the_flange_where_the_cell_has_it(name):
    arm = CELLS[name].arm
    chain = kinpy.build_serial_chain_from_urdf(urdf_of(arm), "flange")
    values = np.random.default_rng(1).uniform(-180, 180, (40, 6))
    for v, r, p in zip(values, *arm.forward(values), strict=True):
        seen = chain.forward_kinematics(np.deg2rad(v))
        assert np.asarray(seen.pos) * 1000 == pytest.approx(p, abs=1e-6)
        assert Rotation.from_quat(np.roll(seen.rot, -1)).as_matrix() == pytest.approx(r, abs=1e-9)
    read = arm_from_urdf(urdf_of(arm).encode()).arm
    turn, place = arm.forward(values)
    for v, r, p in zip(values, turn, place, strict=True):
        again = read.forward(v)
        assert again[1][0] == pytest.approx(p, abs=1e-6)
        assert again[0][0] == pytest.approx(r, abs=1e-9)


@pytest.mark.parametrize("name", BOTH)
def test_the_tip_stands_in_the_work_where_a_product_of_frames_has_it(name):
    """Track, base, arm, mount and tool one after another, and the turntable backwards, by SciPy alone."""
    cell, tool, at = CELLS[name], 187.0, np.array([30.0, -20.0, 12.0])
    chain = chain_of(name, tool, tuple(at))
    values = within(name, 50)
    pose = chain.forward(values)
    for v, point, axis in zip(values, pose.point, pose.axis, strict=True):
        turn, place = cell.arm.forward(v[chain.columns])
        mount = Rotation.from_euler("xyz", cell.mount.turns_deg, degrees=True).as_matrix()
        tip = place[0] + turn[0] @ (np.array(cell.mount.at_mm) + mount @ [0, 0, -tool])
        along = turn[0] @ mount @ [0, 0, 1]
        base = Rotation.from_euler("xyz", cell.base.turns_deg, degrees=True)
        tip, along = base.apply(tip) + cell.base.at_mm, base.apply(along)
        if cell.track is not None:
            tip = tip + v[chain.track] * np.array(cell.track.along)
        tip = tip - cell.table.at_mm
        if cell.turntable is not None:
            back = Rotation.from_euler("z", -v[chain.table], degrees=True)
            tip, along = back.apply(tip), back.apply(along)
        assert tip - at == pytest.approx(point, abs=1e-8)
        assert along == pytest.approx(axis, abs=1e-12)


@pytest.mark.parametrize("name", BOTH)
def test_values_near_to_others_are_found_again(name):
    chain, values = chain_of(name), within(name, 300, 5)
    pose = chain.forward(values)
    free = (chain.measures(values) > 0.05).all(axis=1)
    found = chain.near(pose.point, pose.axis, values)
    assert np.abs(found - values)[free].max() < 1e-6
    place, turns = chain.tip_poses(values)
    way, rounds = chain.posture_words(values)
    again = chain.from_tip(place, turns, values, way, rounds)
    assert np.abs(again - values)[free].max() < 1e-6


@pytest.mark.parametrize("name", BOTH)
def test_how_near_a_posture_is_to_singular_is_what_the_jacobian_says(name):
    """The product of the three measures and the determinant of the Jacobian, worked out by differences, vanish
    together: their ratio is the same everywhere."""
    cell, chain = CELLS[name], chain_of(name)
    values = within(name, 60, 8)
    ratios = []
    for v in values:
        turn, place = (x[0] for x in cell.arm.forward(v[chain.columns]))
        columns = []
        for k in range(6):
            more = v[chain.columns].copy()
            more[k] += 1e-4
            turned, moved = (x[0] for x in cell.arm.forward(more))
            spin = (turned - turn) @ turn.T / np.deg2rad(1e-4)
            columns.append([*((moved - place) / np.deg2rad(1e-4)), spin[2, 1], spin[0, 2], spin[1, 0]])
        ratios.append(abs(np.linalg.det(np.array(columns))) / np.prod(chain.measures(v[None])[0]))
    assert np.ptp(ratios) < 2e-3 * np.mean(ratios)


@pytest.mark.parametrize("name", BOTH)
def test_bodies_of_a_cell_stand_apart_at_home(name):
    """What hangs on one another may touch; nothing else does."""
    from itertools import combinations

    from fenrik.core.machines.linkage import Solids

    cell = CELLS[name]
    linkage = Linkage(cell.joints())
    home = np.zeros(len(cell.joints()))
    home[cell.arm_columns] = cell.home_deg
    bodies = [Solids.around(b.name, b.frame, b.groups) for b in cell.placed_bodies()]
    touching = [
        (a.name, b.name)
        for a, b in combinations(bodies, 2)
        if a.frame != b.frame and not linkage.neighbours(a.frame, b.frame) and linkage.distance_mm(a, b, home) <= 0
    ]
    assert touching == []


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"turntable": {"name": "J3"}}, "same name"),
        ({"turntable": {"low_deg": 5}}, "give both or none"),
        ({"track": {"along": [0, 0, 0]}}, "no direction"),
        ({"bodies": [{"name": "b", "of": "base", "moves_with": "J9",
                      "shapes": [{"kind": "box", "low_mm": [0, 0, 0], "high_mm": [1, 1, 1]}]}]}, "none of the arm's"),
        ({"postures": [{"name": "a", "joints_deg": [0] * 6}] * 2}, "same name"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_a_cell_is_said(change, why):
    with pytest.raises(ValueError, match=why):
        Cell.model_validate(PLINTH | change)


def test_a_cell_and_a_machine_may_not_share_a_name():
    with pytest.raises(FenrikError, match="more than once"):
        parse_job({"cells": [PLINTH], "machines": [{"name": PLINTH["name"]}]})
    job = parse_job(json.loads(parse_job({"cells": [PLINTH]}).model_dump_json()))
    assert job.cells[0] == CELLS["plinth"]

"""One answer for a whole path: against brute force over all freedoms, and against what each wish says."""

import numpy as np
import pytest
from cells import CELLS, chain_of, flat, spiral
from paths import path_of

from fenrik.core.errors import FenrikError
from fenrik.core.robots import ArmWishes, CellChain, Place, Posture, Turntable, all_postures, whole_path
from fenrik.core.robots.pace import greatest_acceleration, paced
from fenrik.core.robots.reach import reasons
from fenrik.core.robots.whole_path import seconds_of


def standing(chain, joints):
    """What postures cost in a second, (n,), as `whole_path` tells it, in plain NumPy: near ends and near singular ones."""
    arm = chain.cell.arm
    share = np.abs(joints - 0.5 * (arm.low + arm.high)) / (0.5 * (arm.high - arm.low))
    cost = (2.0 * np.maximum((share - 0.75) / 0.25, 0.0) ** 2).sum(axis=1)
    values = np.zeros((len(joints), len(chain.joints)))
    values[:, chain.columns] = joints
    lack = np.maximum(1.0 - chain.measures(values) / 0.3, 0.0)
    return cost + (4.0 * lack**2 / (0.02 + chain.measures(values))).sum(axis=1)


def cost_of(chain, joints, table, seconds):
    """The cost of a way: standing, and moving."""
    speed = np.array([j.speed_deg_s for j in chain.cell.arm.joints])
    moved = ((np.diff(joints, axis=0) / speed) ** 2).sum(axis=1)
    turned = np.zeros(len(moved)) if table is None else (np.diff(table) / chain.cell.turntable.speed_deg_s) ** 2
    return float((standing(chain, joints) * seconds).sum() + ((moved + turned) / seconds[1:]).sum())


def choices(chain, path, spins, tables):
    """All postures over a grid of spins and turns of the table: (n, spins × tables, 8, 6), NaN beyond the ends."""
    n = len(path)
    arm, found = chain.cell.arm, []
    for table in tables:
        values = np.zeros((n, len(chain.joints)))
        if chain.table is not None:
            values[:, chain.table] = table
        place, along = chain.to_base(path.point, path.axis, values)
        lead = np.cross(along, [0.0, 1.0, 0.0])
        lead /= np.linalg.norm(lead, axis=1, keepdims=True)
        side = np.cross(along, lead)
        for spin in np.deg2rad(spins):
            x = np.cos(spin) * lead + np.sin(spin) * side
            turn = np.stack([x, np.cross(along, x), along], axis=2) @ chain.shape.grip
            found.append(all_postures(arm, turn, place - turn @ chain.shape.tip))
    joints = np.stack(found, axis=1)
    middle = 0.5 * (arm.low + arm.high)
    joints = joints - 360.0 * np.round((joints - middle) / 360.0)
    joints[((joints < arm.low) | (joints > arm.high)).any(axis=3)] = np.nan
    return joints


def brute_force(chain, path, spins, tables):
    """The least cost of all ways over a grid of freedoms, every choice after every other."""
    seconds, speed = seconds_of(path), np.array([j.speed_deg_s for j in chain.cell.arm.joints])
    joints = choices(chain, path, spins, tables)
    turn = np.repeat(np.asarray(tables, float), len(spins))
    least = np.inf
    for way in range(8):
        own = joints[:, :, way]
        total = standing(chain, own[0]) * seconds[0]
        total = np.where(np.isnan(total), np.inf, total)
        for k in range(1, len(path)):
            moved = own[k][:, None] - own[k - 1][None]
            step = ((moved / speed) ** 2).sum(axis=2)
            step = np.where(np.isnan(step) | (np.abs(moved) > 108).any(axis=2), np.inf, step)
            if chain.table is not None:
                off = turn[:, None] - turn[None]
                off = off - 360.0 * np.round(off / 360.0)
                step = step + (off / chain.cell.turntable.speed_deg_s) ** 2
            stands = np.where(np.isnan(own[k]).any(axis=1), np.inf, standing(chain, np.nan_to_num(own[k])) * seconds[k])
            total = (total[None] + step / seconds[k]).min(axis=1) + stands
        least = min(least, float(total.min()))
    return least


HELD = ArmWishes(table="held")


@pytest.mark.parametrize("lean", [0.0, 0.5])
def test_the_turn_about_the_tool_costs_no_more_than_brute_force_over_all_of_it(lean):
    """200 rows, 90 spins and eight postures, every one after every other."""
    chain, path = chain_of("plinth"), flat(200)
    path.axis[:] = np.array([np.sin(lean), 0, np.cos(lean)])
    way = whole_path(chain, path, HELD)
    assert not way.lost.any()
    assert not way.leap.any()
    own = cost_of(chain, way.joints[:, chain.columns], None, seconds_of(path))
    assert own <= 1.02 * brute_force(chain, path, np.arange(0, 360, 4), [0.0])


def test_spin_and_table_together_cost_no_more_than_brute_force_over_both():
    chain, path = chain_of("plinth"), spiral(200, turns=2.0, low=500, high=560)
    path.feed[1:] = 6000.0
    way = whole_path(chain, path, ArmWishes())
    own = cost_of(chain, way.joints[:, chain.columns], way.joints[:, chain.table], seconds_of(path))
    assert own <= 1.02 * brute_force(chain, path, np.arange(0, 360, 22.5), np.arange(0, 360, 15.0))


@pytest.mark.parametrize("name", list(CELLS))
def test_the_tip_is_on_the_path_and_every_joint_between_its_ends(name):
    chain = chain_of(name, 120.0)
    path = spiral(1500) if name == "plinth" else flat(600)
    way = whole_path(chain, path, ArmWishes())
    assert not way.lost.any()
    assert not way.leap.any()
    pose = chain.forward(way.joints)
    assert np.abs(pose.point - path.point).max() < 1e-6
    assert np.abs(pose.axis - path.axis).max() < 1e-9
    for joint, values in zip(chain.joints, way.joints.T, strict=True):
        assert joint.low is None or values.min() >= joint.low - 1e-6
        assert joint.high is None or values.max() <= joint.high + 1e-6
    assert way.measures.min() > 0.03
    assert np.abs(np.diff(way.joints[:, chain.columns], axis=0)).max() < 12
    speed = np.array([j.speed for j in chain.joints]) / 60
    seconds = paced(way.joints, path.lengths() / 50.0, speed, chain.cell.accelerations())
    assert (greatest_acceleration(way.joints, seconds) <= chain.cell.accelerations() * (1 + 1e-6)).all()


def test_answers_differ_as_the_wishes_say():
    chain, path = chain_of("plinth"), spiral(1500)

    def solved(**wishes):
        way = whole_path(chain, path, ArmWishes(**wishes))
        assert not way.lost.any()
        turned = np.abs(np.diff(way.joints[:, chain.table])).sum()
        return way, turned, np.abs(np.diff(way.joints[:, chain.columns], axis=0)).sum()

    plain, *_ = solved()
    assert solved(elbow_high=1)[0].elbow_mm.mean() > plain.elbow_mm.mean() + 40
    assert solved(facing=1)[0].flange_deg.mean() < 0.3 * plain.flange_deg.mean()
    lazy, steady = solved(table_turns=1, arm_turns=0), solved(table_turns=0, arm_turns=1)
    assert lazy[2] < steady[2]
    assert lazy[1] >= steady[1]
    posture = Posture(name="taught", joints_deg=tuple(np.median(plain.joints[:, :6], axis=0) + [0, 0, 0, 0, 0, 40]))
    cell = CELLS["plinth"].model_copy(update={"postures": [posture]})
    near = whole_path(CellChain(cell, 220.0), path, ArmWishes(stay=1, posture="taught"))

    def off(way):
        return np.abs(way.joints[:, :6] - posture.joints_deg).mean()

    assert off(near) < 0.7 * off(plain)


def test_axes_round_the_arm_are_held_or_set_once_as_told():
    chain, path = chain_of("plinth"), flat(200)
    for mode, value in (("held", 35.0), ("set once", None)):
        way = whole_path(chain, path, ArmWishes(table=mode, table_deg=35.0))
        assert not way.lost.any()
        assert np.ptp(way.joints[:, chain.table]) < 1e-9
        if value is not None:
            assert way.joints[0, chain.table] == pytest.approx(value)
    rail = chain_of("track", 120.0)
    far = path_of(
        np.column_stack([np.linspace(-1100, 1100, 300), np.zeros(300), np.full(300, 40.0)]),
        np.tile([0.0, 0, 1], (300, 1)),
    )
    ridden = [
        np.ptp(whole_path(rail, far, ArmWishes(track="moves along", **more)).joints[:, rail.track])
        for more in ({}, {"table_turns": 1, "arm_turns": 0})
    ]
    assert 0 < ridden[0] < 1000 < ridden[1]
    held = whole_path(rail, far, ArmWishes(track="held", track_mm=300))
    assert 0 < held.lost.sum() < 300
    assert np.nanmax(np.abs(held.joints[:, rail.track] - 300)) < 1e-9


def test_a_narrower_range_is_kept():
    chain, path = chain_of("plinth"), spiral(600, turns=6)
    free = whole_path(chain, path, ArmWishes())
    middle = float(np.median(free.joints[:, 3]))
    narrow = [{"joint": "J4", "low": middle - 200, "high": middle - 20}]
    way = whole_path(chain, path, ArmWishes(ranges=narrow))
    reached = way.joints[~way.lost]
    assert len(reached) > 500
    assert reached[:, 3].max() <= middle - 20 + 1e-6
    with pytest.raises(FenrikError, match="names no joint"):
        whole_path(chain, path, ArmWishes(ranges=[{"joint": "J9", "low": 0, "high": 1}]))
    with pytest.raises(FenrikError, match="leave J1 no way"):
        whole_path(chain, path, ArmWishes(ranges=[{"joint": "J1", "low": 300, "high": 350}]))
    with pytest.raises(FenrikError, match="none of those taught"):
        whole_path(chain, path, ArmWishes(stay=0.5, posture="of yesterday"))


def test_rows_that_are_not_reached_are_left_out_with_their_reason_and_the_rest_is_solved():
    cell = CELLS["plinth"].model_copy(update={"turntable": None})
    chain = CellChain(cell, 220.0)
    path = flat(200, size=300.0)
    path.point[80:120, 0] += 2600.0
    way = whole_path(chain, path, ArmWishes())
    assert np.flatnonzero(way.lost).tolist() == list(range(80, 120))
    pose = chain.forward(way.joints[~way.lost])
    assert np.abs(pose.point - path.point[~way.lost]).max() < 1e-6
    assert way.leap[120]
    assert set(reasons(chain, path.point[way.lost], path.axis[way.lost], ArmWishes())) == {"reach"}
    away = CellChain(cell.model_copy(update={"table": Place(at_mm=(6000, 0, 300))}), 220.0)
    assert whole_path(away, path, ArmWishes()).lost.all()


def test_an_arm_whose_joints_all_wind_is_solved_with_table_and_track():
    """Every joint from −360 to 360: without a bound each would make three states of one, 729 in all."""
    arm = CELLS["track"].arm
    joints = [j.model_copy(update={"low_deg": -360.0, "high_deg": 360.0}) for j in arm.joints]
    change = {"arm": arm.model_copy(update={"joints": joints}), "turntable": Turntable(name="E2")}
    chain, path = CellChain(CELLS["track"].model_copy(update=change), 120.0), flat(150)
    way = whole_path(chain, path, ArmWishes())
    assert not way.lost.any()
    assert not way.leap.any()
    assert np.abs(way.joints[:, chain.columns]).max() <= 360 + 1e-6
    assert np.abs(chain.forward(way.joints).point - path.point).max() < 1e-6


def test_nothing_and_one_row_are_solved():
    chain = chain_of("plinth")
    assert len(whole_path(chain, flat(1).rows(np.zeros(0, int)), ArmWishes()).joints) == 0
    one = whole_path(chain, flat(2).rows(np.array([1])), ArmWishes())
    assert chain.forward(one.joints).point == pytest.approx(flat(2).point[1:], abs=1e-6)

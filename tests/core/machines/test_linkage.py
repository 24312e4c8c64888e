"""Bodies of machines against dense sampling by SciPy and brute-force distances; planted touches between rows."""

import numpy as np
import pytest
from scipy.optimize import linprog
from scipy.spatial.transform import Rotation

from fenrik.core.machines import Joint, Machine
from fenrik.core.machines.bodies import STILL, Box, MachineBody, Round, hull_of
from fenrik.core.machines.linkage import Linkage, Solids

X, Y, Z = (Joint(name=n, direction=d) for n, d in (("X", (1, 0, 0)), ("Y", (0, 1, 0)), ("Z", (0, 0, 1))))
A = Joint(name="A", kind="rotary", carries="work", direction=(1, 0, 0), origin=(0, 0, 50))
C = Joint(name="C", kind="rotary", carries="work", direction=(0, 0, 1))
LINKAGE = Linkage([X, Y, Z, A, C])
HEAD = Solids("head", 2, [hull_of(Round(foot_mm=(0, 0, -80), height_mm=80, radius_mm=30).corners())])
LUG = Solids("lug", 4, [hull_of(Box(low_mm=(60, -10, 0), high_mm=(90, 10, 40)).corners())])


def placed(solids, values):
    """Corners of each piece in the base's frame, the joints' motions applied one by one by SciPy."""
    found = []
    for corners, _ in solids.pieces:
        p = corners
        for k in LINKAGE.before(solids.frame)[::-1]:
            j = LINKAGE.joints[k]
            if j.kind == "linear":
                p = p + values[k] * np.array(j.direction)
            else:
                o = np.array(j.origin)
                p = Rotation.from_rotvec(np.deg2rad(values[k]) * np.array(j.direction, float)).apply(p - o) + o
        found.append(p)
    return found


def apart(a, b, values):
    """Whether two bodies are apart: a plane between the corners of each two pieces (linear programming)."""
    for p in placed(a, values):
        for q in placed(b, values):
            rows = np.vstack([np.hstack([p, -np.ones((len(p), 1))]), np.hstack([-q, np.ones((len(q), 1))])])
            found = linprog(np.zeros(4), A_ub=rows, b_ub=-np.ones(len(rows)), bounds=[(None, None)] * 4)
            if not found.success:
                return False
    return True


def test_distances_are_those_of_brute_force():
    rng = np.random.default_rng(2)
    for _ in range(60):
        values = np.array(
            [*rng.uniform(-150, 150, 2), rng.uniform(0, 250), rng.uniform(-90, 90), rng.uniform(-180, 180)]
        )
        gap = LINKAGE.distance_mm(HEAD, LUG, values)
        assert apart(HEAD, LUG, values) == (gap > 1e-6)


def test_no_place_moves_farther_than_the_bound():
    rng = np.random.default_rng(3)
    for solids in (HEAD, LUG):
        still = Solids("floor", STILL, [hull_of(Box(low_mm=(-1, -1, -1), high_mm=(1, 1, 1)).corners())])
        for _ in range(30):
            values = np.array([[*rng.uniform(-99, 99, 3), *rng.uniform(-180, 180, 2)] for _ in range(2)])
            moved = max(
                np.linalg.norm(p - q, axis=1).max()
                for p, q in zip(placed(solids, values[0]), placed(solids, values[1]), strict=True)
            )
            assert moved <= LINKAGE.bounds_mm(solids, still, values)[0] + 1e-9


def ways(seed):
    rng = np.random.default_rng(seed)
    n = int(rng.integers(2, 9))
    return np.column_stack([
        rng.uniform(-120, 120, n), rng.uniform(-90, 90, n), rng.uniform(90, 260, n), rng.uniform(-60, 60, n), rng.uniform(-180, 180, n),
    ])  # fmt: skip


def test_sixty_ways_touches_between_rows_are_found_and_others_are_not_called_so():
    """Dense sampling as reference: 120 places a step."""
    touched = 0
    for seed in range(60):
        values = ways(seed)
        dense = np.concatenate(
            [values[k] + np.linspace(0, 1, 120)[:, None] * (values[k + 1] - values[k]) for k in range(len(values) - 1)]
        )
        seen = [LINKAGE.distance_mm(HEAD, LUG, v) for v in dense]
        k = int(np.argmin(seen))
        span = dense[max(k - 1, 0) : k + 2]
        finer = [span[i] + t * (span[i + 1] - span[i]) for i in range(len(span) - 1) for t in np.linspace(0, 1, 40)]
        least = min(LINKAGE.distance_mm(HEAD, LUG, v) for v in finer)
        near = list(LINKAGE.closest(HEAD, LUG, values, 0.0))
        # What dense sampling sees touch is found; what is found comes within what a step of the bound leaves open.
        if least <= 0:
            touched += 1
            assert near, seed
        if near:
            assert least <= 0.1, seed
    assert 15 <= touched <= 50


def test_a_touch_wholly_between_two_rows_is_found_with_its_moment():
    """The lug swings under the head within one step: apart before and after."""
    values = np.array([[75.0, 0, 75, 0, -60], [75, 0, 75, 0, 60]])
    assert LINKAGE.distance_mm(HEAD, LUG, values[0]) > 5
    assert LINKAGE.distance_mm(HEAD, LUG, values[1]) > 5
    (*_, last) = list(LINKAGE.closest(HEAD, LUG, values, 0.0))
    assert last.row == 0
    assert 0.1 < last.share < 0.9
    assert last.mm <= 0.05


def test_what_hangs_on_one_another_is_not_held_against_it():
    assert LINKAGE.neighbours(3, 4)
    assert LINKAGE.neighbours(STILL, 3)
    assert LINKAGE.neighbours(STILL, 0)
    assert not LINKAGE.neighbours(STILL, 4)
    assert not LINKAGE.neighbours(2, 4)


def test_bodies_that_hang_on_nothing_are_refused():
    with pytest.raises(ValueError, match="which is none of the joints"):
        Machine(
            name="M",
            joints=[X, Y, Z],
            bodies=[MachineBody(name="arm", moves_with="Q", shapes=[Box(low_mm=(0, 0, 0), high_mm=(1, 1, 1))])],
        )
    with pytest.raises(ValueError, match="has no size"):
        Box(low_mm=(0, 0, 0), high_mm=(1, 0, 1))

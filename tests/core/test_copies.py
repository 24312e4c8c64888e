"""Copies against the same motions turned point by point (`scipy.spatial.transform`), leaning tools and arcs included."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from fenrik.core.copies import LineCopies, MirrorCopies, RoundCopies, copied, joined_copies, where_stock_lets
from fenrik.core.errors import FenrikError
from fenrik.core.stock import Stock
from fenrik.core.toolpath import ORIENTED, Kind, Motion, Toolpath
from fenrik.core.tools.profile import bull_nose_profile

ZERO = np.array([3.0, -2.0, 1.0])


def leaning_path():
    """A line, a level arc, and an arc in a plane that leans, with a tool that leans too."""
    lean = Rotation.from_euler("xz", [30, 40], degrees=True).as_matrix()
    point = np.array([[0, 0, 5], [10, 0, 5], [10, 10, 5], [0, 0, 0.0]])
    centre = np.array([[0, 0, 0], [0, 0, 0], [10, 5, 5], [0, 0, 0.0]])
    point[3], centre[3] = point[2] + lean @ [8, 8, 0], point[2] + lean @ [8, 0, 0]
    motion = np.array([Motion.LINE, Motion.LINE, Motion.ARC_CCW, Motion.ARC_CW], np.int8)
    path = Toolpath.plain(point, motion, centre, np.full(4, Kind.CUT, np.int8), np.full(4, 500.0))
    path.axis[:] = lean[:, 2]
    path.normal[3] = lean[:, 2]
    path.side[1:3] = 41
    return path


def places(path):
    """Places and axes along a path, after even shares of each motion."""
    share = np.tile(np.linspace(0, 1, 9), len(path) - 1)
    rows = np.repeat(np.arange(1, len(path)), 9)
    return path.places(rows, share), path.axis[rows]


def assert_same(copy, turn, about, shift=0.0):
    """A copy is at every moment where the turned motion of the path is."""
    point, axis = places(leaning_path())
    got, its = places(copy)
    assert got == pytest.approx((point - about) @ turn.T + about + shift, abs=1e-9)
    assert its == pytest.approx(axis @ turn.T, abs=1e-12)


def test_copies_in_a_line():
    path = leaning_path()
    made = copied(path, path, LineCopies(count=4, step_x_mm=12, step_y_mm=-3), ZERO)
    assert len(made) == 4
    for k, copy in enumerate(made):
        assert_same(copy, np.eye(3), np.zeros(3), np.array([12.0, -3, 0]) * k)


@pytest.mark.parametrize(("angle", "count", "between"), [(360.0, 5, 72.0), (90.0, 4, 30.0), (-120.0, 3, -60.0)])
def test_copies_round_an_axis(angle, count, between):
    path = leaning_path()
    made = copied(path, path, RoundCopies(count=count, angle_deg=angle, x_mm=7, y_mm=4), ZERO)
    assert len(made) == count
    for k, copy in enumerate(made):
        turn = Rotation.from_rotvec([0, 0, np.deg2rad(k * between)]).as_matrix()
        assert_same(copy, turn, ZERO + [7, 4, 0])
        assert (copy.motion == path.motion).all()
        assert (copy.side == path.side).all()


@pytest.mark.parametrize("across", ["x", "y"])
def test_mirrored_copies(across):
    path = leaning_path()
    k = "xy".index(across)
    turn, about = np.eye(3), ZERO.copy()
    turn[k, k] = -1
    about[k] += 6
    (copy,) = copied(path, path, MirrorCopies(across=across, at_mm=6, original=False), ZERO)
    assert_same(copy, turn, about)
    assert copy.side.tolist() == [0, 42, 42, 0]
    both = copied(path, path, MirrorCopies(across=across, at_mm=6), ZERO)
    assert both[0] is path
    assert both[1].point == pytest.approx(copy.point)


def test_a_mirrored_copy_is_made_of_the_path_with_the_other_way_of_milling():
    path, other = leaning_path(), leaning_path().moved(np.array([0, 0, 50.0]))
    made = copied(path, other, MirrorCopies(at_mm=0), np.zeros(3))
    assert made[1].point[:, 2] == pytest.approx(path.point[:, 2] + 50)


def test_a_spindle_stopped_in_its_place_is_not_turned():
    path = leaning_path()
    path.spindle[2] = ORIENTED
    for copies in (RoundCopies(count=3), MirrorCopies()):
        with pytest.raises(FenrikError, match="turn the side"):
            copied(path, path, copies, ZERO)
    assert len(copied(path, path, LineCopies(count=2), ZERO)) == 2


def test_nothing_is_copied_of_an_empty_path():
    assert copied(Toolpath.empty(), Toolpath.empty(), LineCopies(), ZERO) == []
    assert len(joined_copies([])) == 0


def cut_along(x):
    """A way of 8 mm at depth 2 in a block of 40 × 20 × 10, come to at rapid from above."""
    point = np.array([[x, 6, 20], [x, 6, 11], [x, 6, 8], [x, 14, 8], [x, 14, 20.0]])
    kind = np.array([Kind.RAPID, Kind.RAPID, Kind.ENTRY, Kind.CUT, Kind.RETRACT], np.int8)
    return Toolpath.plain(point, np.zeros(5, np.int8), np.zeros((5, 3)), kind, np.array([0, 0, 200, 500, 0.0]))


def test_copies_beside_the_stock_are_left_out_and_told():
    stock = Stock.box(np.zeros(3), np.array([40.0, 20, 10]), 1.0)
    paths = [cut_along(6.0 + 16 * k) for k in range(4)]
    kept, told = where_stock_lets(paths, True, stock, bull_nose_profile(3, 0, 10))
    assert [float(p.point[0, 0]) for p in kept] == [6.0, 22.0, 38.0]
    (left,) = told
    assert left.reason.startswith("copy 4 of 4: there is no stock")
    assert left.place == (54.0, 14.0, 8.0)
    assert left.advice


def test_copies_that_would_run_fast_into_standing_stock_are_left_out():
    low = Stock.box(np.zeros(3), np.array([40.0, 20, 10]), 0.4)
    path = cut_along(6.0)
    deep = replace(path, point=path.point - [0, 0, 6] * (path.point[:, 2:] < 15), kind=path.kind)
    kept, told = where_stock_lets([path, deep], True, low, bull_nose_profile(3, 0, 10))
    assert len(kept) == 1
    assert "rapid motions would run into" in told[0].reason
    # The rapid goes 5 mm deep: about 141 mm³, less what the row itself cut there 2 mm deep.
    amount = float(told[0].reason.split("into ")[1].split(" mm³")[0])
    assert amount == pytest.approx(np.pi * 9 * 3, rel=0.1)


def test_a_copy_of_what_is_cut_already_is_left_out_but_never_the_row_itself():
    stock = Stock.box(np.zeros(3), np.array([40.0, 20, 10]), 1.0)
    path = cut_along(6.0)
    kept, told = where_stock_lets([path, path], True, stock, bull_nose_profile(3, 0, 10))
    assert len(kept) == 1
    assert "no stock" in told[0].reason
    beside = cut_along(90.0)
    assert len(where_stock_lets([beside], True, stock, bull_nose_profile(3, 0, 10))[0]) == 1
    assert len(where_stock_lets([beside], False, stock, bull_nose_profile(3, 0, 10))[0]) == 0


def test_holes_of_copies_are_numbered_on():
    path = leaning_path()
    path.hole[:] = [-1, 0, 0, 1]
    joined = joined_copies([path, path, path])
    assert joined.hole.tolist() == [-1, 0, 0, 1, -1, 2, 2, 3, -1, 4, 4, 5]

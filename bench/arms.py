"""Arms: a spiral of 27 000 places round a figure of 1.8 m, solved whole, against a loop of a numeric inverse."""

from __future__ import annotations

import statistics
import sys
import time
from pathlib import Path

import numpy as np

from common import show

TESTS = Path(__file__).parent.parent / "tests" / "core"
sys.path[:0] = [str(TESTS), str(TESTS / "robots")]


def spiral() -> None:
    """The whole-path answer with clearances of all that the arm carries, in seconds; the reference: a general library's
    inverse (kinpy through URDF, damped least squares from the pose before), one place after another, on 60 of them."""
    import kinpy
    from cells import CELLS, urdf_of

    from fenrik.core.robots import ArmWishes, CellChain, surroundings, whole_path
    from fenrik.core.robots.pace import greatest_acceleration, paced
    from fenrik.core.toolpath import Kind, Toolpath
    from fenrik.core.tools import Tool
    from fenrik.demo import figurehead
    from fenrik.demo.jobs.seal_figurehead import BALL

    cell, tool = CELLS["plinth"], Tool.model_validate(BALL)
    tip, axis = figurehead.spiral(40.0, 11.3, 85)
    n = len(tip)
    path = Toolpath.plain(
        tip, np.zeros(n, np.int8), np.zeros((n, 3)), np.full(n, Kind.CUT, np.int8), np.full(n, 6000.0)
    )
    path.axis[:] = axis
    path.feed[0] = 0.0
    chain, mesh = CellChain(cell, tool.assembly_mm), figurehead.mesh()
    wishes = ArmWishes(elbow_high=0.3)

    def solved():  # type: ignore[no-untyped-def]
        began = time.perf_counter()
        around = surroundings(cell, tool, [(mesh.vertices, mesh.triangles)])
        found = whole_path(chain, path, wishes, around)
        return found, time.perf_counter() - began

    solved()
    taken = []
    for _ in range(3):
        way, seconds = solved()
        taken.append(seconds)
    best, middle = min(taken), statistics.median(taken)
    speed = np.array([j.speed for j in chain.joints]) / 60
    paces = paced(way.joints, path.lengths() / 100.0, speed, cell.accelerations())
    hard = (greatest_acceleration(way.joints, paces) / cell.accelerations()).max()
    solver = kinpy.build_serial_chain_from_urdf(urdf_of(cell.arm), "flange")
    rows = np.linspace(0, n - 1, 60).astype(int)
    turn, place = chain.flange(way.joints[rows])
    began = time.perf_counter()
    for r, p, q in zip(turn, place, np.deg2rad(way.joints[rows][:, :6]), strict=True):
        goal = kinpy.Transform(rot=_quaternion(r), pos=p / 1000.0)
        solver.inverse_kinematics(goal, q + 0.02)
    each = (time.perf_counter() - began) / len(rows)
    show(
        f"arm, {n} places",
        each * n / middle,
        "at least 50, in at most 10 s",
        f"{middle:.1f} s (best {best:.1f}), not reached {int(way.lost.sum())}, by another way {int(way.leap.sum())}, "
        f"least from singular {way.measures.min():.2f} (0.03 counts), clearance at least {way.clearance_mm.min():.0f} mm, "
        f"acceleration {100 * hard:.0f} % of what the joints have; reference {1000 * each:.1f} ms each",
    )


def _quaternion(turn: np.ndarray) -> np.ndarray:
    from scipy.spatial.transform import Rotation

    return np.roll(Rotation.from_matrix(turn).as_quat(), 1)


BENCHES = {"spiral": spiral}

"""Compile all kernels ahead of their first use, by a tiny job of each kind."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from multiprocessing import get_context

import numpy as np

from fenrik.core.build import Build
from fenrik.core.contact import DropIndex, tip_heights
from fenrik.core.contact.clearance import clearance, pushed
from fenrik.core.contact.distance import DistanceIndex, signed_distances
from fenrik.core.frames import Points
from fenrik.core.job_reading import parse_job
from fenrik.core.machines import Machine
from fenrik.core.machines.bodies import Round
from fenrik.core.posting import ControllerState, PostedOperation, load_controllers, post_programs
from fenrik.core.progress import Progress, silent
from fenrik.core.regions import Shadow, fit_arcs
from fenrik.core.robots import (
    Arm,
    ArmJoint,
    ArmWishes,
    Cell,
    CellBody,
    CellChain,
    Link,
    LinkTable,
    Place,
    Turntable,
    surroundings,
    whole_path,
)
from fenrik.core.robots.reach import bands
from fenrik.core.solids.exact import exact_faces
from fenrik.core.solids.mesh_faces import group_faces
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.rays import RayCaster
from fenrik.core.sources import COMPILED, all_kernels, is_warm
from fenrik.core.stock import Stock, cut, stock_mesh
from fenrik.core.stock.shaping import stock_from_mesh
from fenrik.core.stock.standing import standing
from fenrik.core.store import MemoryStore
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.toolpath import Feeds, MotionLimits, PathBuilder, Poses, SafePlane, Toolpath, motion_times
from fenrik.core.toolpath.poses import UPRIGHT
from fenrik.core.toolpath.tour import visiting_order
from fenrik.core.tools import Assembly, BallCutter, Body, Tool
from fenrik.core.tools.profile import bull_nose_profile


def _warm_exact_faces(points: Points) -> None:
    from OCP.BRepBuilderAPI import BRepBuilderAPI_NurbsConvert
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder

    from fenrik.core.solids.describe import list_faces
    from fenrik.core.solids.tessellate import tessellate

    body = BRepPrimAPI_MakeCylinder(2.0, 3.0).Shape()
    for shape in (body, BRepBuilderAPI_NurbsConvert(body).Shape()):
        surfaces = exact_faces(list_faces(shape))[0]
        signed_distances(DistanceIndex.build(tessellate(shape, 0.01), surfaces), points)


def warm_opening() -> None:
    """Opens a small job, so that the first one of a day does not wait for what all need: modules, kernels, the sources
    behind keys."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere

    from fenrik.core.solids.xcaf import NamedShape, write_step

    tool = {"number": 1, "stick_out_mm": 20, "cutter": {"kind": "ball", "diameter_mm": 4, "flute_length_mm": 9}}
    row = {"number": 10, "setup": "top", "tool": 1, "params": {"strategy": "parallel finishing", "stepover_mm": 1}}
    document = {
        "name": "warm",
        "part": {"file": "ball.step"},
        "tools": [tool],
        "setups": [{"id": "top"}],
        "operations": [row],
    }
    job = parse_job(document)
    model = write_step([NamedShape(BRepPrimAPI_MakeSphere(5.0).Shape(), "Ball")])
    Build(job, model, MemoryStore()).proof_key(job.setups[0])


_CORNERS = np.array([[0.0, 0, 0], [4, 0, 0], [0, 4, 0], [0, 0, 4]])
_MESH = Mesh(_CORNERS, np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3], [0, 3, 2]], np.int32), np.zeros(4, np.int32))
_PROFILES = [bull_nose_profile(1.0, corner, 5.0) for corner in (0.0, 1.0, 0.3)]


def _drop() -> None:
    for profile in _PROFILES:
        tip_heights(DropIndex.build(_MESH, profile), np.array([[1.0, 1.0], [9.0, 9.0]]))


def _cut_with(poses: Callable[[Points, Points], Poses]) -> Stock:
    starts = np.array([[-2.0, 3, 3], [3, 3, 2.5]])
    for profile in _PROFILES:
        stock = Stock.box(np.zeros(3), np.array([6.0, 6.0, 4.0]), 0.5)
        bodies = Assembly(profile, (Body("shank", profile.lifted(5.0)),))
        stock, _ = cut(stock, poses(starts, starts + [3.0, 1.0, -0.5]), bodies)
    return stock


def _cut_upright() -> None:
    stock = _cut_with(Poses.upright)
    stock_mesh(stock)
    standing(stock, _MESH)


def _cut_leaning() -> None:
    _cut_with(lambda starts, ends: Poses.tilted(starts, ends, np.array([0.1, 0.2, 1.0])))


def _distances() -> None:
    _warm_exact_faces(_CORNERS + 0.1)


def _clearance() -> None:
    index, tips = DistanceIndex.build(_MESH), np.array([[1.0, 1.0, 9.0]])
    clearance(index, Poses.upright(tips, tips), Assembly(_PROFILES[2]), 1.0)
    pushed(index, tips, UPRIGHT, UPRIGHT, _PROFILES[2])


def _shapes() -> None:
    from fenrik.core.solids.tessellate import weld

    turn = np.linspace(0, 6, 12)
    Shadow(_MESH).above(1.0)
    RayCaster(_MESH).first_hits(_CORNERS + 9.0, -_CORNERS - 1.0)
    fit_arcs(np.column_stack([np.cos(turn), np.sin(turn)]), False, 1e-3)
    visiting_order(np.random.default_rng(0).uniform(0, 9, (12, 2)), "shortest way")
    group_faces(weld(_MESH))
    stock_from_mesh(_MESH, 1.0)


def _programs() -> None:
    builder = PathBuilder(Feeds(100, 50, 200), SafePlane.at_height(9.0), 6.0)
    builder.travel(0, 0, 5)
    builder.enter_helix(np.array([1.0, 0]), np.array([0.0, 0, 4]), 5.0, 1.0)
    builder.cut(np.array([[1.0, 1, 4], [2, 2, 4]]))
    path = builder.finish()
    motion_times(path, MotionLimits())
    tool = Tool(number=1, cutter=BallCutter(diameter_mm=2, flute_length_mm=4), stick_out_mm=9)
    machine = Machine(name="warm")
    for controller in (c for c in load_controllers().values() if not c.drives_arms):
        for program in post_programs(controller, machine, [PostedOperation(1, "warm", tool, 1000, path)], "warm", 54):
            controller.read(program.text, ControllerState(machine, 1, {}, {}))


def _arms() -> None:
    rows = [
        Link(d_mm=600, a_mm=100, alpha_deg=-90), Link(a_mm=700, zero_deg=-90), Link(a_mm=90, alpha_deg=-90),
        Link(d_mm=800, alpha_deg=90), Link(alpha_deg=-90), Link(d_mm=100),
    ]  # fmt: skip
    joints = [ArmJoint(name=f"J{k}", low_deg=-200, high_deg=200) for k in range(6)]
    arm = Arm(name="warm", joints=joints, shape=LinkTable(rows=rows))
    body = CellBody(name="b", of="face", shapes=[Round(foot_mm=(0, 0, 0), height_mm=90, radius_mm=30)])
    cell = Cell(name="warm", arm=arm, table=Place(at_mm=(1000, 0, 300)), turntable=Turntable(), bodies=[body])
    chain = CellChain(cell, 50.0)
    tool = Tool(number=1, cutter=BallCutter(diameter_mm=2, flute_length_mm=4), stick_out_mm=9)
    point = np.column_stack([np.linspace(0, 90, 12), np.zeros(12), np.full(12, 50.0)])
    flat = np.zeros((12, 3))
    path = Toolpath.plain(point, np.zeros(12, np.int8), flat, np.zeros(12, np.int8), np.full(12, 900.0))
    around = surroundings(cell, tool, [(_CORNERS, _MESH.triangles)])
    way = whole_path(chain, path, ArmWishes(), around)
    chain.least_minutes(np.nan_to_num(way.joints), np.ones(12))
    bands(chain, path, ArmWishes(), around)


STEPS: dict[str, tuple[float, Callable[[], None]]] = {
    "arcs, rings, tours, meshes": (1.0, _shapes),
    "distances": (0.80, _distances),
    "programs": (0.56, _programs),
    "cutting upright": (0.52, _cut_upright),
    "clearance": (0.46, _clearance),
    "cutting leaning": (0.44, _cut_leaning),
    "tip heights": (0.30, _drop),
    "arms": (0.90, _arms),
}
"""What there is to compile, with its share of the time; the longest first."""


def warm_step(name: str) -> str:
    """Runs the kernels of one step; gives its name."""
    STEPS[name][1]()
    return name


def warm_process() -> None:
    """Loads what the first work of a process would wait for; nothing where kernels would have to be compiled."""
    if not is_warm():
        return
    warm_opening()
    for name in STEPS:
        warm_step(name)
    for strategy in STRATEGIES.values():
        _ = strategy.code


def warm(progress: Progress = silent, processes: int | None = None) -> None:
    """Runs every kernel once, in processes beside each other; compiled code is kept on disk, so later calls are quick.

    Args:
        processes: as many as there are cores where none is given.
    """
    if is_warm():
        return progress(1.0, "compiled already")
    whole, done = sum(share for share, _ in STEPS.values()), 0.0
    progress(0.0, "compiling kernels")
    # The pool's processes end with this one, wherever it is stopped.
    with get_context("spawn").Pool(processes) as pool:
        for name in pool.imap_unordered(warm_step, STEPS):
            done += STEPS[name][0]
            progress(done / whole, f"compiled: {name}")
    with contextlib.suppress(OSError):  # where nothing can be kept, each start compiles again
        COMPILED.parent.mkdir(exist_ok=True)  # Python has made it, but where it may keep no compiled modules
        COMPILED.write_text(all_kernels(), "utf-8")

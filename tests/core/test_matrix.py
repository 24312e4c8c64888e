"""Every cutter with every strategy that takes it: computed, cut, posted, read back and proven on a part that suits.

The part is a block with a pocket and a bore, an open ledge and a domed top; each strategy gets the geometry that it is
for. What counts is that the road is walked to its end and that stock was taken; `report` on the demo holds figures.
"""

import json

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from prism import bore, edges, faces, floor_at, job_for, with_targets
from sweeps import stock_volume

from fenrik.core.build import Build
from fenrik.core.job_reading import parse_job
from fenrik.core.store import MemoryStore
from fenrik.core.strategies.registry import STRATEGIES

CUTTERS = {
    "flat": {},
    "ball": {},
    "bull-nose": {"corner_radius_mm": 1},
    "face mill": {"flute_length_mm": 8, "lead_deg": 75},
    "chamfer mill": {"tip_diameter_mm": 1},
    "drill": {},
    "spot drill": {},
    "centre drill": {"pilot_diameter_mm": 2.5, "pilot_length_mm": 3},
    "reamer": {},
    "tap": {"diameter_mm": 11.5, "pitch_mm": 1.5, "flute_length_mm": 20},
    "thread mill": {"pitch_mm": 1.5, "neck_diameter_mm": 4.5, "diameter_mm": 7, "flute_length_mm": 21},
    "slotting cutter": {"neck_diameter_mm": 4, "flute_length_mm": 3},
    "lollipop": {"neck_diameter_mm": 5},
    "tapered": {"corner_radius_mm": 1, "taper_deg": 3, "diameter_mm": 6},
    "barrel": {"corner_radius_mm": 2, "flank_radius_mm": 60, "widest_at_mm": 9},
    "dovetail": {"angle_deg": 60, "flute_length_mm": 4},
    "engraving": {"tip_diameter_mm": 0.3, "diameter_mm": 6},
    "boring head": {"diameter_mm": 10},
    "back boring bar": {"diameter_mm": 15, "bar_diameter_mm": 4, "flute_length_mm": 4},
    "own contour": {"places": [[0, 0, 0], [3, 0, 0], [4, 2, 0], [4, 14, 0]]},
}


CELL_MM = 0.4703
"""Puts no ray into the plane of a chamfer, nor on a whole micrometre, to which a program rounds: one that lies in the
tool's own surface may be cut or not."""


def block():
    body = BRepPrimAPI_MakeBox(60.0, 44.0, 20.0).Shape()
    tools = [
        BRepPrimAPI_MakeBox(gp_Pnt(8, 8, 12), 26.0, 28.0, 20.0).Shape(),
        BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(47, 22, -1), gp_Dir(0, 0, 1)), 5.0, 30.0).Shape(),
        BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(47, 22, -1), gp_Dir(0, 0, 1)), 7.5, 5.0).Shape(),
    ]
    for t in tools:
        body = BRepAlgoAPI_Cut(body, t).Shape()
    return body


PARAMS = {
    "level roughing": {"stepdown_mm": 4, "stepover_mm": 4, "tolerance_mm": 0.1},
    "steady roughing": {"stepdown_mm": 8, "tolerance_mm": 0.1},
    "rest roughing": {"stepdown_mm": 8, "tolerance_mm": 0.1},
    "plunge roughing": {"step_mm": 3, "stepover_mm": 4, "tolerance_mm": 0.1},
    "parallel finishing": {"stepover_mm": 4, "tolerance_mm": 0.1},
    "thread milling": {"thread": "M10"},
    "drilling": {"depth_mm": 4},
    "contour": {"bottom_from": "part top", "bottom_mm": -3},
    "pocket clearing": {"stepover_mm": 4, "stepdown_mm": 4},
    "5-axis curve following": {"tilt_deg": 20, "depth_mm": 0.4},
    "swarf milling": {"stepdown_mm": 6},
    "cutter location text": {"file": "own.cl"},
}
TILTING = {
    "name": "Razorbill",
    "joints": [
        {"name": "X", "direction": [1, 0, 0]}, {"name": "Y", "direction": [0, 1, 0]}, {"name": "Z", "direction": [0, 0, 1]},
        {"name": "A", "kind": "rotary", "carries": "work", "direction": [1, 0, 0], "low": -110, "high": 110},
        {"name": "C", "kind": "rotary", "carries": "work", "direction": [0, 0, 1], "low": -360, "high": 360},
    ],
}  # fmt: skip
OWN_TEXT = b"UNITS/ MM\nFROM/ -9,-5,30\nFEDRAT/ 400,MMPM\nGOTO/ -9,-5,-5\nGOTO/ 70,-5,-5\nRAPID\nGOTO/ 70,-5,30\nFINI\n"
"""Beside the part, through the stock that stands there."""

PARAMS_WITH = {
    ("drilling", "tap"): {"cycle": "tap", "depth_mm": 12},
}


NEED_A_HOLE = {"back boring": 10, "thread milling": 8.5}
"""What reaches into a hole by a neck or bar, which must not stand in stock: the drill that goes before."""


def targets_for(build, strategy):
    if "targets" not in STRATEGIES[strategy].params.model_fields:
        return None
    if STRATEGIES[strategy].group == "Holes":
        return faces(build, bore(5.0))
    if strategy == "swarf milling":
        return faces(build, lambda f: f.kind == "plane" and f.normal[1] < -0.99 and f.centroid[1] < 1e-6)
    if strategy in ("edge chamfer", "engraving", "5-axis curve following"):
        return edges(
            build, lambda e: not e.closed and np.all(np.abs(e.points[:, 2] - 20) < 1e-6) and e.points[:, 0].max() < 35
        )
    if strategy == "contour":
        return [{"kind": "outline"}]
    if strategy == "waterline":
        return faces(build, lambda f: f.kind == "plane" and abs(f.normal[2]) < 0.01)
    if strategy == "slot":
        return edges(build, lambda e: np.all(np.abs(e.points[:, 2] - 20) < 1e-6) and np.all(e.points[:, 1] < 1e-6))
    return faces(build, floor_at(12.0))


PAIRS = [(name, kind) for name, s in STRATEGIES.items() for kind in s.cutters]
FEW = [
    ("thread milling", "thread mill"), ("contour", "lollipop"), ("contour", "dovetail"), ("slot", "slotting cutter"),
    ("parallel finishing", "lollipop"), ("parallel finishing", "barrel"), ("level roughing", "barrel"),
    ("steady roughing", "bull-nose"), ("rest roughing", "flat"), ("plunge roughing", "bull-nose"),
    ("drilling", "centre drill"), ("back boring", "back boring bar"), ("pocket clearing", "barrel"),
    ("5-axis curve following", "ball"), ("swarf milling", "flat"), ("cutter location text", "bull-nose"),
    ("engraving", "engraving"), ("edge chamfer", "chamfer mill"), ("bore milling", "slotting cutter"),
]  # fmt: skip
"""One pair for each strategy that was hard; `bench/run.py matrix` walks them all."""


def walk(strategy, kind):
    """The road of one row; returns what it took, in mm³, and the proof's summary."""
    cutter = {"kind": kind, "diameter_mm": 8, "flute_length_mm": 14} | CUTTERS[kind]
    rows, drill = (
        [(1, {"strategy": strategy, **PARAMS.get(strategy, {}), **PARAMS_WITH.get((strategy, kind), {})})],
        {"kind": "drill", "diameter_mm": NEED_A_HOLE.get(strategy, 10)},
    )
    if strategy in NEED_A_HOLE:
        rows.insert(0, (2, {"strategy": "drilling", "break_through_mm": 6}))
    number = 10 * len(rows)
    build = job_for(
        block(),
        rows,
        {1: cutter, 2: drill},
        stock={"kind": "box", "z_plus_mm": 1},
        cell_mm=CELL_MM,
        files=["own.cl"],
        machines=[TILTING],
    )
    document = json.loads(build.job.model_dump_json())
    if STRATEGIES[strategy].group == "Leaning tool":
        document["setups"][0] |= {"machine": TILTING["name"], "dialect": "Five axes, tip held"}
    build = Build(parse_job(document), build.model, MemoryStore(), None, {"own.cl": OWN_TEXT})
    targets = targets_for(build, strategy)
    for k in range(len(rows)):
        build = with_targets(build, 10 * (k + 1), targets) if targets is not None else build
    setup, operation = build.job.setups[0], build.job.operations[-1]
    outcome = build.path(operation)
    summary, _ = build.proof(setup)
    if len(outcome.toolpath) == 0:
        return 0.0, summary, outcome
    before, after = build.stock_before(operation), build.proof_stock(setup, number)
    taken = stock_volume(before) - stock_volume(after)
    planned = stock_volume(before) - stock_volume(build.stock_after(operation))
    assert planned == pytest.approx(taken, rel=1e-3, abs=0.05)
    assert summary["program_vs_path_mm"] <= 0.001
    return taken, summary, outcome


@pytest.mark.parametrize(("strategy", "kind"), FEW)
def test_the_road_to_its_end(strategy, kind):
    taken, summary = walk(strategy, kind)[:2]
    assert taken > 1.0
    assert all(f["kind"] != "rapid in stock" for f in summary["findings"])


def test_a_cutter_that_a_strategy_does_not_take_is_named():
    from fenrik.core.errors import FenrikError

    with pytest.raises(FenrikError, match="which thread milling cannot use"):
        walk("thread milling", "flat")


def test_each_cutter_has_a_strategy():
    assert {kind for _, kind in PAIRS} == set(CUTTERS)

"""Machines and cells in motion: their bodies and joints, the way of an arm along a row, and what it reaches."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
from fastapi import APIRouter, Query, Response
from pydantic import BaseModel, Field

from fenrik.app.context import Opened, open_job
from fenrik.app.desk import AtDesk
from fenrik.app.layout import BINARY, binary, encode
from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.machines import Machine
from fenrik.core.machines.bodies import hull_of
from fenrik.core.robots import Cell
from fenrik.core.robots._cell_kernels import MOST_GAP_MM
from fenrik.core.robots.reach import MEANING
from fenrik.demo.cells import PLINTH, TRACK
from fenrik.demo.own import MACHINES, TILTING_TABLE

router = APIRouter(prefix="/api/jobs/{job_id}", tags=["machines"], route_class=AtDesk)
shop = APIRouter(prefix="/api/library", tags=["library"])
FAR_MM = 100_000.0


class ShopMachines(BaseModel):
    """What the shop works on; a job takes copies of it."""

    machines: list[Machine]
    cells: list[Cell]


@shop.get("/machines", operation_id="listShopMachines")
def shop_machines() -> ShopMachines:
    return ShopMachines(
        machines=[Machine.model_validate(m) for m in (*MACHINES, TILTING_TABLE)],
        cells=[Cell.model_validate(c) for c in (PLINTH, TRACK)],
    )


class AxisReach(BaseModel):
    """How much of a row is reached at values of an axis round the arm."""

    name: str
    unit: str
    value: list[float]
    share: list[float]


class PlaceShare(BaseModel):
    """How much of a row is reached with the work zero at x, y over the table's middle."""

    x_mm: float
    y_mm: float
    share: float
    held_share: float


class Asked(BaseModel):
    """Where the arm stands, and how far its flange is to go."""

    joints: list[float] = Field(max_length=12, description="all joints of the cell, mm and degrees")
    move_mm: tuple[float, float, float] = Field(default=(0.0, 0.0, 0.0), description="in part coordinates")


class Standing(BaseModel):
    joints: list[float]
    reached: bool
    why: str = ""


def _to_part(opened: Opened, setup_id: str) -> tuple[Points, Points]:
    """From the machine's frame while all joints are at 0 to part coordinates: rotation (3, 3), shift (3,)."""
    setup = opened.setup(setup_id)
    frame, table = opened.build.frame(setup), opened.job.machine_of(setup).table
    at, zero = np.array(opened.build.clamped(setup).at), opened.build.zero(setup)
    turn = frame.rotation @ table.rotation.T
    return turn, frame.to_part(zero - at) - turn @ table.origin


@router.get("/setups/{setup_id}/machine", operation_id="readMachine", response_class=Response, responses=BINARY)
def machine(job_id: str, setup_id: str) -> Response:
    """Bodies of a setup's machine as triangles where they stand while all joints are at 0, and its joints."""
    opened = open_job(job_id)
    setup = opened.setup(setup_id)
    own = opened.job.machine_of(setup)
    turn, shift = _to_part(opened, setup_id)
    bodies: list[dict[str, Any]] = []
    pieces, first = [], 0
    for body in own.placed_bodies():
        begin = first
        for group in body.groups:
            places, triangles = hull_of(group)
            pieces.append(places[triangles].reshape(-1, 3))
            first += len(pieces[-1])
        bodies.append({"name": body.name, "frame": body.frame, "first": begin, "count": first - begin})
    cell = opened.job.cell_of(setup)
    meta = {
        "name": own.name,
        "cell": cell is not None,
        "joints": [j.model_dump() | {"unit": j.unit} for j in own.all_joints()],
        "arm": [j.name for j in cell.arm.joints] if cell is not None else [],
        "home": _home(cell) if cell is not None else [0.0] * len(own.all_joints()),
        "bodies": bodies,
        "turn": turn.ravel().tolist(),
        "shift": shift.tolist(),
    }
    corners = np.vstack(pieces) if pieces else np.zeros((0, 3))
    return binary(encode(meta, corners=corners.astype(np.float32)))


def _home(cell: Cell) -> list[float]:
    values = np.zeros(len(cell.joints()))
    values[cell.arm_columns] = cell.home_deg
    return [float(v) for v in values]


@router.get("/operations/{number}/arm", operation_id="readArmWay", response_class=Response, responses=BINARY)
def arm_way(job_id: str, number: int) -> Response:
    """An arm's way along a row: places in part coordinates, joints, and how each row stands."""
    opened = open_job(job_id)
    operation = opened.operation(number)
    build = opened.build
    key = build.arm_way_key(operation)
    if key is None or build.store.get(key) is None:
        raise fail("way", "of the arm is out of date or was never solved.", "Solve it first.", number)
    way = build.arm_way(operation)
    solved = way.solved
    setup = opened.job.setup(operation.setup)
    frame, zero = build.frame(setup), build.zero(setup)
    joints = opened.job.machine_of(setup).all_joints()
    room = np.ones(len(way.path))
    for joint, values in zip(joints, solved.joints.T, strict=True):
        if joint.low is not None and joint.high is not None:
            half = 0.5 * (joint.high - joint.low)
            room = np.minimum(room, 1.0 - np.abs(values - 0.5 * (joint.low + joint.high)) / half)
    lost = [
        {"place": (np.array(row["place"])).tolist(), "in_part": frame.to_part(np.array(row["place"]) + zero).tolist(),
         "reason": row["reason"], "words": MEANING[row["reason"]]}
        for row in way.lost
    ]  # fmt: skip
    meta = {"names": way.names, "lost": len(lost), "places": lost[:200], "leaps": int(solved.leap.sum())}
    return binary(
        encode(
            meta,
            points=frame.to_part(way.path.point + zero).astype(np.float32),
            joints=solved.joints.astype(np.float32),
            singular=solved.measures.min(axis=1, initial=1.0).astype(np.float32),
            room=room.astype(np.float32),
            clearance=solved.clearance_mm.astype(np.float32),
            elbow=solved.elbow_mm.astype(np.float32),
            flange=solved.flange_deg.astype(np.float32),
            leap=solved.leap.astype(np.uint8),
        )
    )


@router.get("/operations/{number}/reach", operation_id="readReach")
def reach(job_id: str, number: int) -> list[AxisReach]:
    """How much of a row is reached at each value of turntable and track."""
    opened = open_job(job_id)
    operation = opened.operation(number)
    opened.ready(opened.build.path_key(operation), "path")
    found = opened.build.reach_bands(operation)
    return [AxisReach(name=b.name, unit=b.unit, value=b.value.tolist(), share=b.share.tolist()) for b in found]


@router.get("/operations/{number}/places", operation_id="readPlaces")
def places(job_id: str, number: int, steps: int = Query(default=5, ge=1, le=11)) -> list[PlaceShare]:
    """How much of a row is reached by where the work lies on the table, the best place first."""
    opened = open_job(job_id)
    operation = opened.operation(number)
    opened.ready(opened.build.path_key(operation), "path")
    return [PlaceShare(**asdict(p)) for p in opened.build.reach_by_place(operation, steps)]


@router.post("/operations/{number}/standing", operation_id="moveFlange")
def standing(job_id: str, number: int, asked: Asked) -> Standing:
    """The posture nearest to one, its flange moved."""
    opened = open_job(job_id)
    operation = opened.operation(number)
    chain = opened.build.chain_of(operation)
    values = np.array([asked.joints])
    if values.shape[1] != len(chain.joints) or not np.all(np.isfinite([*asked.joints, *asked.move_mm])):
        raise fail("joints", f"are not {len(chain.joints)} numbers.", "Give one for each joint.", len(asked.joints))
    if np.abs(values).max() > FAR_MM or np.abs(asked.move_mm).max() > FAR_MM:
        raise fail("joints", "are beyond what a cell could have.", "Check the numbers.", float(np.abs(values).max()))
    turn, place = chain.flange(values)
    to_part, _ = _to_part(opened, operation.setup)
    place = place + chain.base.direction_to_local(np.array(asked.move_mm) @ to_part)
    found = chain.at_flange(turn, place, values)[0]
    if np.isnan(found).any():
        return Standing(joints=asked.joints, reached=False, why="out of the arm's reach")
    kept = chain.keeps_ends(found)
    return Standing(joints=found.tolist(), reached=kept, why="" if kept else "a joint is beyond its end")


class Stretch(BaseModel):
    """What came of a stretch of a row that was solved alone."""

    rows: int
    lost: int
    why: str = Field(description="why the first of those that are not reached is not")
    leaps: int
    singular: float
    clearance_mm: float
    joints: list[float] = Field(description="where it begins")


@router.get("/operations/{number}/stretch", operation_id="solveStretch")
def stretch(job_id: str, number: int, first: int = Query(ge=0), last: int = Query(ge=1)) -> Stretch:
    """The way along a stretch of a row alone: whether it is reached, how near to singular and to ends it comes."""
    opened = open_job(job_id)
    operation = opened.operation(number)
    opened.ready(opened.build.path_key(operation), "path")
    way = opened.build.solve_stretch(operation, first, last)
    solved = way.solved
    return Stretch(
        rows=last - first,
        lost=len(way.lost),
        why=MEANING[way.lost[0]["reason"]] if way.lost else "",
        leaps=int(solved.leap.sum()),
        singular=float(solved.measures.min(initial=1.0)),
        clearance_mm=float(solved.clearance_mm.min(initial=MOST_GAP_MM)),
        joints=solved.joints[0].tolist() if len(solved.joints) else [],
    )

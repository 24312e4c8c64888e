"""Setups worked out for the screen: scene, stock, fixtures, findings; seating and closing gaps."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np
from fastapi import APIRouter, Response
from pydantic import BaseModel, Field

from fenrik.app.context import Opened, open_job, rework
from fenrik.app.desk import AtDesk
from fenrik.app.layout import BINARY, binary, encode
from fenrik.app.routers.jobs import JobState, job_state
from fenrik.app.routers.parts import solid_arrays
from fenrik.core.errors import FenrikError, fail
from fenrik.core.findings import Finding
from fenrik.core.job import Job, Setup
from fenrik.core.placing import Placing, in_frame
from fenrik.core.setups.fixtures import stock_foot
from fenrik.core.setups.holding import gap_below, moved_place, seat
from fenrik.core.setups.orientation import frame_words
from fenrik.core.setups.stocks import EarlierStock
from fenrik.core.solids import Solid
from fenrik.core.stock import stock_mesh

router = APIRouter(prefix="/api/jobs/{job_id}/setups/{setup_id}", tags=["setups"], route_class=AtDesk)


class Copy(BaseModel):
    """One copy of the part: p ↦ turn · p + shift, in part coordinates."""

    number: int
    turn: list[list[float]]
    shift: list[float]
    mirrored: bool


class Standing(BaseModel):
    """A fixture as it stands."""

    id: str
    name: str
    kind: str
    low: list[float]
    high: list[float]
    gap_to_table_mm: float


class Scene(BaseModel):
    """A setup's frame, stock and zero; places in the setup's frame unless said otherwise."""

    origin: list[float] = Field(description="of the work zero, in part coordinates")
    rotation: list[list[float]]
    came_from: str
    stock_low: list[float]
    stock_high: list[float]
    part_low: list[float]
    part_high: list[float]
    zero: list[float]
    cell_mm: float
    table_level: float
    copies: list[Copy]
    fixtures: list[Standing]
    findings: list[Finding]


class Seat(BaseModel):
    """A flat face of a fixture, and the face of the part or another fixture that it shall lie on, by number."""

    face: int = Field(ge=0)
    on: Literal["part", "fixture"] = "part"
    fixture: str = ""
    target_face: int = Field(ge=0)


@router.get("/scene", operation_id="readScene")
def scene(job_id: str, setup_id: str) -> Scene:
    """Everything of a setup but its geometry."""
    opened = open_job(job_id)
    setup, build = opened.setup(setup_id), opened.build
    placing = build.placing(setup)
    frame, zero = placing.frame, placing.zero
    (low, high), (part_low, part_high) = placing.stock, placing.parts
    return Scene(
        origin=placing.work_frame.origin.tolist(),
        rotation=frame.rotation.tolist(),
        came_from=_words(opened, setup, placing),
        stock_low=low.tolist(),
        stock_high=high.tolist(),
        part_low=part_low.tolist(),
        part_high=part_high.tolist(),
        zero=zero.tolist(),
        cell_mm=build.cell_mm(setup),
        table_level=placing.table_level,
        copies=_copies(placing),
        fixtures=[
            Standing(
                id=f.id,
                name=f.name or f.kind,
                kind=f.kind,
                low=s.bounds()[0].tolist(),
                high=s.bounds()[1].tolist(),
                gap_to_table_mm=float(s.bounds()[0, 2]) - placing.table_level,
            )
            for f, s in placing.fixtures
        ],
        findings=placing.check(_lowest_cut(opened, setup)),
    )


def _words(opened: Opened, setup: Setup, placing: Placing) -> str:
    found = opened.build.recognition() if setup.up.kind == "face" and not setup.makes else None
    return frame_words(setup.up, placing.part, found) + (", upside down" if setup.flip else "")


def _copies(placing: Placing) -> list[Copy]:
    rotation = placing.frame.rotation
    copies = []
    for i in placing.instances:
        turn = rotation @ i.turn @ rotation.T
        shift = rotation @ (i.middle + i.shift - i.turn @ i.middle)
        copies.append(Copy(number=i.number, turn=turn.tolist(), shift=shift.tolist(), mirrored=i.is_mirrored))
    return copies


def _lowest_cut(opened: Opened, setup: Setup) -> float | None:
    """The lowest place of the tip in the paths that are ready, in the setup's frame; None where none is."""
    build = opened.build
    lows = []
    for operation in opened.job.route(setup):
        try:
            ready = build.store.get(build.path_key(operation)) is not None
        except FenrikError:
            continue
        if ready and len(path := build.outcome(operation).toolpath):
            lows.append(float(path.point[:, 2].min()))
    return min(lows) if lows else None


@router.get("/stock", operation_id="readFirstStock", response_class=Response, responses=BINARY)
def first_stock(job_id: str, setup_id: str) -> Response:
    """The surface of the stock as it comes, in part coordinates; of an earlier setup's result where that is ready."""
    opened = open_job(job_id)
    setup, build = opened.setup(setup_id), opened.build
    placing = build.placing(setup)
    mesh, _ = placing.stock_mesh()
    whole = True
    if isinstance(setup.stock, EarlierStock):
        whole = build.has_first_stock(setup)
        if whole:
            mesh = stock_mesh(build.first_stock(setup))
    vertices = placing.frame.to_part(mesh.vertices).astype(np.float32)
    block = encode({"as_cut": whole}, vertices=vertices, triangles=mesh.triangles.astype(np.uint32))
    return binary(block)


@router.get(
    "/fixtures/{fixture_id}/geometry", operation_id="readFixtureGeometry", response_class=Response, responses=BINARY
)
def fixture_geometry(job_id: str, setup_id: str, fixture_id: str) -> Response:
    """A fixture's triangles and edges, in part coordinates."""
    opened = open_job(job_id)
    placing = opened.build.placing(opened.setup(setup_id))
    arrays = solid_arrays(_fixture(placing, fixture_id)[1])
    for name in ("vertices", "edge_points"):
        arrays[name] = placing.frame.to_part(arrays[name]).astype(np.float32)
    block = encode({"fixture": fixture_id}, **arrays)
    return binary(block)


def _fixture(placing: Placing, fixture_id: str) -> tuple[Any, Solid]:
    found = next(((f, s) for f, s in placing.fixtures if f.id == fixture_id), None)
    if found is None:
        raise fail("fixture", "does not exist (any more).", "Choose another fixture.", fixture_id)
    return found


@router.post("/fixtures/{fixture_id}/seat", operation_id="seatFixture")
def seat_fixture(job_id: str, setup_id: str, fixture_id: str, body: Seat) -> JobState:
    """Turn and move a fixture so that one of its flat faces lies on a face of the part or of another fixture."""

    def way(opened: Opened, placing: Placing, solid: Solid) -> Way:
        if body.on == "part":
            target = in_frame(opened.build.all_bodies, placing.frame)
        else:
            target = _fixture(placing, body.fixture)[1]
        for name, one, index in (("face", solid, body.face), ("target_face", target, body.target_face)):
            if index >= len(one.faces):
                raise fail(name, f"is not there: the body has {len(one.faces)} faces.", "Pick again.", index)
        shift, turn = seat(solid, body.face, target, body.target_face)
        return np.array(solid.faces[body.face].centroid), shift, turn

    return _move(job_id, setup_id, fixture_id, way)


@router.post("/fixtures/{fixture_id}/close-gap", operation_id="closeGap")
def close_gap(job_id: str, setup_id: str, fixture_id: str) -> JobState:
    """Let a fixture down (or up) onto the table."""

    def way(_opened: Opened, placing: Placing, solid: Solid) -> Way:
        gap = gap_below(fixture_id, solid.bounds(), "the table", placing.table_level)
        return np.zeros(3), np.array(gap.shift), 0.0

    return _move(job_id, setup_id, fixture_id, way)


Way = tuple[np.ndarray, np.ndarray, float]
"""A pivot, how far it is moved, and by how much the body is turned about it."""


def _move(job_id: str, setup_id: str, fixture_id: str, way: Callable[[Opened, Placing, Solid], Way]) -> JobState:
    def work(opened: Opened) -> tuple[Job, None]:
        setup = opened.setup(setup_id)
        placing = opened.build.placing(setup)
        fixture, solid = _fixture(placing, fixture_id)
        place = moved_place(fixture.place, stock_foot(placing.stock), *way(opened, placing, solid))
        fixtures = [f.model_copy(update={"place": place}) if f.id == fixture_id else f for f in setup.fixtures]
        moved = setup.model_copy(update={"fixtures": fixtures})
        setups = [moved if s.id == setup_id else s for s in opened.job.setups]
        return opened.job.model_copy(update={"setups": setups}), None

    rework(job_id, f"place {fixture_id}", work)
    return job_state(job_id)

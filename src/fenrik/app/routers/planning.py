"""Routes proposed from features, what is left uncovered, and orders with fewer tool changes."""

from __future__ import annotations

from typing import Literal

import numpy as np
from fastapi import APIRouter, Response
from pydantic import BaseModel

from fenrik.app import library
from fenrik.app.context import Opened, open_job, rework
from fenrik.app.desk import AtDesk
from fenrik.app.layout import BINARY, binary, encode
from fenrik.app.routers.jobs import JobState, job_state
from fenrik.core.errors import fail
from fenrik.core.job import Job
from fenrik.core.planning import (
    Coverage,
    Finish,
    FirstSetup,
    Reordering,
    RouteProposal,
    Uncovered,
    coverage,
    first_setup,
    kept_finish,
    kept_map,
    make_holes,
    predicted_finish,
    propose_for,
    propose_order,
    propose_route,
    propose_sides,
    with_route,
)
from fenrik.core.recipe import HoleWay

router = APIRouter(prefix="/api/jobs/{job_id}", tags=["planning"], route_class=AtDesk)

LIFTED_SHARE = 1e-3
"""How far places are drawn over the surface, as a share of the part's size, so that it does not hide them."""
Sides = Literal["this", "all"]


class RouteTaken(BaseModel):
    """A job with a proposed route in it, and what the proposal said."""

    job: JobState
    proposal: RouteProposal


@router.get("/first-setup", operation_id="readFirstSetup")
def read_first_setup(job_id: str) -> FirstSetup:
    """How the part is best held first: the side that sees most of it up, with stock and machine."""
    return first_setup(open_job(job_id).build)


@router.get("/setups/{setup_id}/route-proposal", operation_id="readRouteProposal")
def proposal(job_id: str, setup_id: str, sides: Sides = "this") -> RouteProposal:
    """A route by the job's recipe: for what can be seen along the setup's direction, or for all sides of the part."""
    return _proposed(open_job(job_id), setup_id, sides)


def _proposed(opened: Opened, setup_id: str, sides: Sides) -> RouteProposal:
    if sides == "all":
        return propose_sides(opened.build, library.library_tools())
    return propose_route(opened.build, opened.setup(setup_id), library.library_tools())


@router.post("/setups/{setup_id}/route-proposal", operation_id="takeRouteProposal")
def take_proposal(job_id: str, setup_id: str, sides: Sides = "this") -> RouteTaken:
    """The proposed route added to the job, with its setups and the tools from the shop; one step of undo."""

    def work(opened: Opened) -> tuple[Job, RouteProposal]:
        found = _proposed(opened, setup_id, sides)
        if not found.operations:
            way_out = "Turn the setup to a side with features, or add rows by hand."
            raise fail("route", "has nothing to propose here.", way_out)
        return with_route(opened.job, found), found

    found = rework(job_id, "take the proposed route", work)
    return RouteTaken(job=job_state(job_id), proposal=found)


class HolesMade(BaseModel):
    """Which holes (by faces, numbered in the whole model), and how they are to be made."""

    faces: list[int]
    way: HoleWay


class HolesAnswer(BaseModel):
    """The job with its holes made that way, and what could not be."""

    job: JobState
    uncovered: list[Uncovered]


@router.post("/holes/way", operation_id="makeHoles")
def holes_way(job_id: str, body: HolesMade) -> HolesAnswer:
    """Make holes another way; rows that make them already follow. One step of undo."""

    def work(opened: Opened) -> tuple[Job, list[Uncovered]]:
        if not (faces := _of_part(opened, body.faces)):
            raise fail("faces", "are none of the part's.", "Choose a row of the table of holes.", body.faces[:5])
        return make_holes(opened.build, faces, body.way, library.library_tools())

    told = rework(job_id, f"holes by {body.way}", work)
    return HolesAnswer(job=job_state(job_id), uncovered=told)


def _of_part(opened: Opened, faces: list[int]) -> set[int]:
    """Those of the part among faces of the whole model, in the part's numbers."""
    wanted = set(faces)
    return {k for k, number in enumerate(opened.build.part_faces) if number in wanted}


@router.get("/coverage", operation_id="readCoverage")
def read_coverage(job_id: str) -> Coverage:
    """Features that no operation of the job makes; faces are numbers in the whole model."""
    opened = open_job(job_id)
    found = coverage(opened.build)
    numbers = opened.build.part_faces
    return Coverage(
        features=found.features,
        uncovered=[u.model_copy(update={"faces": [numbers[f] for f in u.faces]}) for u in found.uncovered],
    )


@router.get("/finish", operation_id="readFinish")
def read_finish(job_id: str) -> Finish:
    """How much of the surface is finished: measured where all rows are proven, else what the rows will finish."""
    build = open_job(job_id).build
    return kept_finish(build) or predicted_finish(build)


@router.get("/left-over/places", operation_id="readLeftPlaces", response_class=Response, responses=BINARY)
def read_left_places(job_id: str) -> Response:
    """Places of the part with what the rows leave on each: as they leave it where all are proven, else as they will."""
    build = open_job(job_id).build
    found = kept_map(build)
    lifted = found.place + LIFTED_SHARE * float(np.linalg.norm(np.ptp(build.solid.bounds(), axis=0))) * found.normal
    meta = {"measured": found.measured, "most_mm": float(found.thick_mm.max(initial=0.0))}
    places, thick = lifted.astype(np.float32), found.thick_mm.astype(np.float32)
    return binary(encode(meta, places=places, thick=thick, state=found.state))


class FacesLeft(BaseModel):
    """Faces that are left over, by their numbers in the file's order."""

    faces: list[int]


@router.post("/left-over", operation_id="makeLeftOver")
def make_left_over(job_id: str, body: FacesLeft) -> RouteTaken:
    """Rows for faces that are left over, from the setups that see them; one step of undo."""

    def work(opened: Opened) -> tuple[Job, RouteProposal]:
        if not (wanted := _of_part(opened, body.faces)):
            raise fail("faces", "are none of the part's.", "Choose a row of the list.", body.faces[:5])
        total = propose_for(opened.build, wanted, library.library_tools())
        if not total.operations:
            raise fail("route", "finds no tool that comes to it.", "Take a smaller or longer tool, or another side up.")
        return with_route(opened.job, total), total

    total = rework(job_id, "rows for what is left over", work)
    return RouteTaken(job=job_state(job_id), proposal=total)


@router.get("/setups/{setup_id}/order", operation_id="readOrder")
def read_order(job_id: str, setup_id: str) -> Reordering:
    """An order of the setup's rows with fewer tool changes."""
    opened = open_job(job_id)
    return propose_order(opened.job, opened.setup(setup_id))


@router.post("/setups/{setup_id}/order", operation_id="takeOrder")
def take_order(job_id: str, setup_id: str) -> JobState:
    """Put the setup's rows into that order; one step of undo."""

    def work(opened: Opened) -> tuple[Job, None]:
        wanted = propose_order(opened.job, opened.setup(setup_id)).order
        rank = {number: k for k, number in enumerate(wanted)}
        rows = opened.job.operations
        mine = iter(sorted((o for o in rows if o.setup == setup_id), key=lambda o: rank.get(o.number, len(rank))))
        ordered = [next(mine) if o.setup == setup_id else o for o in rows]
        return opened.job.model_copy(update={"operations": ordered}), None

    rework(job_id, "fewer tool changes", work)
    return job_state(job_id)

"""Long work, events, releases and things that the forms need."""

from __future__ import annotations

import json
from functools import cache
from typing import Annotated, Any, Literal, get_args

from fastapi import APIRouter, Header, Request, Response
from pydantic import BaseModel, Field
from sqlmodel import Session, col, select
from sse_starlette.sse import EventSourceResponse

from fenrik.app import problems
from fenrik.app.access.headers import policy_of_document
from fenrik.app.access.sessions import LOCAL, asking
from fenrik.app.context import open_job, store
from fenrik.app.desk import AtDesk
from fenrik.app.documents import load, still
from fenrik.app.events import HELLO, hub
from fenrik.app.notices import Kind, notify
from fenrik.app.tables import ReleaseRow, engine, now
from fenrik.app.work import tasks
from fenrik.core.errors import fail
from fenrik.core.job import Job
from fenrik.core.keys import sha256
from fenrik.core.posting.controllers import load_controllers
from fenrik.core.report import cl_texts, merged_proof, setup_report, setup_sheet

router = APIRouter(prefix="/api", tags=["work"])
desk = APIRouter(prefix="/api", tags=["work"], route_class=AtDesk)
STREAM_S = 300.0
"""A stream of somebody who is signed in ends after so long: it would go on when the session has ended."""


class Compute(BaseModel):
    """What to compute: operations of a setup (all when empty), and whether to prove them."""

    setup: str
    operations: list[int] = []
    proof: bool = True


class TaskId(BaseModel):
    task: str


class Release(BaseModel):
    number: int
    revision: int
    made_at: str
    by: str = ""
    files: list[str]
    faults: int


@desk.post("/jobs/{job_id}/compute", operation_id="compute", status_code=202)
def compute(job_id: str, body: Compute) -> TaskId:
    opened = open_job(job_id)
    setup = opened.setup(body.setup)
    route = {o.number for o in opened.job.route(setup)}
    if not route:
        raise fail("operations", "are missing: nothing is switched on in this setup.", "Add an operation.", body.setup)
    unknown = sorted(set(body.operations) - route)
    if unknown:
        raise fail(
            "operations", "are not in this setup's route, or switched off.", "Choose rows of the route.", unknown
        )
    return TaskId(task=tasks.submit(job_id, body.model_dump()))


@router.post("/tasks/{task_id}/cancel", operation_id="cancelTask")
def cancel(task_id: str) -> TaskId:
    if not tasks.cancel(task_id):
        raise fail("task", "does not exist (any more).", "Nothing needs to be done.", task_id)
    return TaskId(task=task_id)


@router.get("/schema", operation_id="readSchema", response_model=dict[str, Any])
def schema() -> Response:
    """JSON Schema of the job document; the forms are made from it."""
    return Response(_schema(), media_type="application/json")


@cache
def _schema() -> str:
    return json.dumps(Job.model_json_schema())


class ControllerTold(BaseModel):
    """A kind of controller as menus show it."""

    name: str
    description: str
    drives: Literal["machines", "arms"]
    turns: bool = Field(description="whether it is told how the tool leans")


@router.get("/dialects", operation_id="listDialects")
def dialects() -> list[ControllerTold]:
    return [
        ControllerTold(
            name=name,
            description=getattr(controller.document, "description", ""),
            drives="arms" if controller.drives_arms else "machines",
            turns=controller.speaks_joints or controller.drives_arms,
        )
        for name, controller in load_controllers().items()
    ]


@router.get(
    "/events",
    operation_id="events",
    response_class=Response,
    responses={200: {"content": {"text/event-stream": {"schema": {"enum": [HELLO, *get_args(Kind)]}}}}},
)
async def events(request: Request, last_event_id: Annotated[str | None, Header(max_length=60)] = None) -> Response:
    """Changes of jobs and progress of work, as server-sent events; after `Last-Event-ID` where a stream broke off."""
    client = request.client.host if request.client else ""
    if not hub.has_room(client):
        return problems.answer(429, "There are too many open streams.", detail="Close some of the tabs.")
    stream = hub.stream(client, last_event_id, None if asking.get() is LOCAL else STREAM_S)
    return EventSourceResponse(({"id": e.id, "event": e.kind, "data": e.data} async for e in stream), ping=15)


@desk.post("/jobs/{job_id}/releases", operation_id="release", status_code=201)
def release(job_id: str) -> Release:
    """Seal the programs, cutter location data, setup sheet and report of all proved setups."""
    opened = open_job(job_id)
    build = opened.build
    setups = [s for s in opened.job.setups if opened.job.route(s)]
    if not setups:
        raise fail("operations", "are missing.", "Add an operation first.")
    for setup in setups:
        if store().get(build.proof_key(setup)) is None:
            raise fail("proof", f"of {setup.name or setup.id} is out of date.", "Compute and prove the route first.")
    reports, files, keys = {}, {}, {}
    for setup in setups:
        reports[setup.id] = setup_report(build, setup)
        keys[f"program {setup.id}"], keys[f"proof {setup.id}"] = build.program_key(setup), build.proof_key(setup)
        for program in build.programs(setup):
            files[f"nc/{program.name}"] = program.text
        for name, text in cl_texts(build, setup).items():
            files[f"cl/{name}"] = text.encode()
    files["setup-sheet.html"] = setup_sheet(build, reports).encode()
    report = {
        "proof": merged_proof([r["proof"] for r in reports.values()]),
        "operations": [o for r in reports.values() for o in r["operations"]],
        "setups": [r["setup"] for r in reports.values()],
        "programs": [p for r in reports.values() for p in r["programs"]],
    }
    files["report.json"] = json.dumps(report, indent=2).encode()
    for data in files.values():
        store().put(sha256(data), "released file", data)
    with Session(engine()) as session:
        row, _ = load(session, job_id, lock=True)
        still(row, opened.version)
        newest = session.exec(
            select(ReleaseRow.number).where(ReleaseRow.job_id == job_id).order_by(col(ReleaseRow.number).desc())
        ).first()
        made = ReleaseRow(
            job_id=job_id,
            number=(newest or 0) + 1,
            revision=row.head,
            keys=keys,
            report=report,
            files={name: sha256(data) for name, data in files.items()},
            by=asking.get().name,
            made_at=now(),
        )
        session.add(made)
        notify(session, kind="release", job=job_id)
        session.commit()
        return _release(made)


@router.get("/jobs/{job_id}/releases", operation_id="listReleases")
def list_releases(job_id: str) -> list[Release]:
    with Session(engine()) as session:
        load(session, job_id)
        rows = session.exec(
            select(ReleaseRow).where(ReleaseRow.job_id == job_id).order_by(col(ReleaseRow.number).desc())
        ).all()
        return [_release(r) for r in rows]


@router.get(
    "/jobs/{job_id}/releases/{number}/files/{name:path}",
    operation_id="readReleasedFile",
    response_class=Response,
    # A name with a line break leads nowhere.
    responses={200: {"content": {"application/octet-stream": {}}}, 404: {}},
)
def released_file(job_id: str, number: int, name: str) -> Response:
    with Session(engine()) as session:
        row = session.get(ReleaseRow, (job_id, number)) if 0 < number < 2**31 else None
        sha = row.files.get(name) if row else None
    data = store().get(sha) if sha else None
    if data is None:
        raise fail("file", "is not part of this release.", "Choose one of its files.", name)
    media = "text/html; charset=utf-8" if name.endswith(".html") else "text/plain; charset=ascii"
    shown = "inline" if name.endswith(".html") else "attachment"
    return Response(
        data,
        media_type=media,
        headers={
            "content-disposition": f'{shown}; filename="{name.split("/")[-1]}"',
            "content-security-policy": policy_of_document(data),
        },
    )


@desk.get(
    "/jobs/{job_id}/setup-sheet",
    operation_id="readSetupSheet",
    response_class=Response,
    responses={200: {"content": {"text/html": {}}}},
)
def sheet(job_id: str) -> Response:
    """The setup sheet of all proved setups, for printing."""
    build = open_job(job_id).build
    ready = [s for s in build.job.setups if build.job.route(s) and store().get(build.proof_key(s)) is not None]
    if not ready:
        raise fail("proof", "is out of date.", "Compute and prove the route first.")
    html = setup_sheet(build, {s.id: setup_report(build, s) for s in ready})
    return Response(
        html,
        media_type="text/html; charset=utf-8",
        headers={"content-security-policy": policy_of_document(html.encode())},
    )


def _release(row: ReleaseRow) -> Release:
    faults = sum(f["severity"] == "fault" for f in row.report["proof"]["findings"])
    return Release(
        number=row.number,
        revision=row.revision,
        made_at=row.made_at.isoformat(),
        by=row.by,
        files=sorted(row.files),
        faults=faults,
    )

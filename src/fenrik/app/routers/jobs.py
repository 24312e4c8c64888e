"""Jobs: list, make, read, change, undo, export, import, model file."""

from __future__ import annotations

import io
import zipfile
from datetime import datetime
from typing import Annotated, Any

from fastapi import APIRouter, File, Response, UploadFile
from pydantic import BaseModel, Field, GetJsonSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema
from sqlmodel import Session

from fenrik.app import documents
from fenrik.app.access.roles import needs
from fenrik.app.context import open_job, store
from fenrik.app.desk import AtDesk
from fenrik.app.documents import Change
from fenrik.app.heads import JobHead, head_of, heads, keep_summary
from fenrik.app.library import new_job_defaults
from fenrik.app.reading import DOCUMENT, MAX_DOCUMENT_BYTES, clean_name, read_job_file
from fenrik.app.status import JobStatus, job_status
from fenrik.app.tables import engine
from fenrik.core.build import Build
from fenrik.core.job import Job
from fenrik.core.job_reading import parse_job
from fenrik.core.solids.reading import MAX_BYTES
from fenrik.core.units import parse_number

router = APIRouter(prefix="/api", tags=["jobs"])
desk = APIRouter(prefix="/api", tags=["jobs"], route_class=AtDesk)


class _AsJob:
    """In the description of the interface a document stands as the job that it was written from."""

    @classmethod
    def __get_pydantic_json_schema__(cls, _: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        return handler(Job.__pydantic_core_schema__)


class JobState(BaseModel):
    """A job's document with its version."""

    id: str
    version: int
    revision: int
    document: Annotated[dict[str, Any], _AsJob]


class Revision(BaseModel):
    """One change of a job: what it was, by whom (empty for the one local user), when."""

    number: int
    label: str
    by: str
    made_at: datetime


class NewJob(BaseModel):
    name: str = Field(default="New job", min_length=1, max_length=120)


class Changes(BaseModel):
    label: str = Field(default="change", max_length=120)
    changes: list[Change] = Field(min_length=1, max_length=200)


class NumberText(BaseModel):
    text: str = Field(max_length=200)
    quantity: str = Field(default="length", pattern="^(length|feed|angle|speed|none)$")


class NumberValue(BaseModel):
    value: float


@router.get("/jobs", operation_id="listJobs")
def list_jobs() -> list[JobHead]:
    """All jobs, with what is known of each; one whose state is unknown tells it when its head is read."""
    return heads()


@router.post("/jobs", operation_id="createJob", status_code=201)
def create_job(new: NewJob) -> JobState:
    """A new job with the shop's machines and materials, and a few tools."""
    job = parse_job({"name": new.name, **new_job_defaults()})
    return job_state(documents.create(job))


@router.get("/jobs/{job_id}", operation_id="readJob")
def job_state(job_id: str) -> JobState:
    with Session(engine()) as session:
        row, revision = documents.load(session, job_id)
        document = parse_job(revision.document).model_dump(mode="json")
        return JobState(id=row.id, version=row.version, revision=row.head, document=document)


@desk.get("/jobs/{job_id}/head", operation_id="readHead")
def read_head(job_id: str) -> JobHead:
    """A job as the list shows it, worked out where that is not known."""
    found = head_of(job_id)
    if found.known:
        return found
    _status_now(job_id)
    return head_of(job_id)


@desk.get(
    "/jobs/{job_id}/picture",
    operation_id="readPicture",
    response_class=Response,
    responses={200: {"content": {"image/png": {}}}},
)
def read_picture(job_id: str) -> Response:
    """A small picture of the part."""
    lasting = {"cache-control": "private, max-age=31536000"}
    return Response(open_job(job_id).build.picture(), media_type="image/png", headers=lasting)


@router.delete("/jobs/{job_id}", operation_id="deleteJob", status_code=204)
def delete_job(job_id: str) -> None:
    """Take a job out of the list; it can come back for a while."""
    documents.delete(job_id)


@router.post("/jobs/{job_id}/restore", operation_id="restoreJob")
def restore_job(job_id: str) -> JobState:
    """Bring a deleted job back."""
    documents.restore(job_id)
    return job_state(job_id)


@router.post("/jobs/{job_id}/duplicate", operation_id="duplicateJob", status_code=201)
def duplicate_job(job_id: str) -> JobState:
    """The same job once more, under a name of its own."""
    return job_state(documents.duplicate(job_id))


@router.patch("/jobs/{job_id}", operation_id="changeJob", response_model=JobState)
def change_job(job_id: str, body: Changes) -> Response:
    row, document = documents.change(job_id, body.changes, body.label)
    state = JobState(id=row.id, version=row.version, revision=row.head, document=document)
    # Written by the model itself: a document of a thousand rows would else be walked through twice more.
    return Response(state.model_dump_json(), media_type="application/json")


@router.post("/jobs/{job_id}/undo", operation_id="undo")
def undo(job_id: str) -> JobState:
    documents.step(job_id, -1)
    return job_state(job_id)


@router.post("/jobs/{job_id}/redo", operation_id="redo")
def redo(job_id: str) -> JobState:
    documents.step(job_id, 1)
    return job_state(job_id)


@router.get("/jobs/{job_id}/history", operation_id="readHistory")
def read_history(job_id: str) -> list[Revision]:
    """What was changed, by whom and when; the latest first."""
    return [Revision(number=r.number, label=r.label, by=r.by, made_at=r.made_at) for r in documents.history(job_id)]


@desk.get("/jobs/{job_id}/status", operation_id="readStatus")
def read_status(job_id: str) -> JobStatus:
    return _status_now(job_id)


def _status_now(job_id: str) -> JobStatus:
    opened = open_job(job_id)
    status = job_status(job_id, opened.build, opened.version, opened.head > 0, opened.head < opened.top)
    keep_summary(opened, status)
    return status


@desk.get(
    "/jobs/{job_id}/export",
    operation_id="exportJob",
    response_class=Response,
    responses={200: {"content": {"application/zip": {}}}},
)
def export_job(job_id: str) -> Response:
    """The document and its model file in one ZIP, as the command line wants them."""
    opened = open_job(job_id)
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(zipfile.ZipInfo(DOCUMENT), opened.job.model_dump_json(indent=2, exclude_none=True))
        if opened.job.part and opened.build.model is not None:
            archive.writestr(zipfile.ZipInfo(opened.job.part.file), opened.build.model)
        for name in opened.build.files:
            archive.writestr(zipfile.ZipInfo(name), opened.build.files[name])
    name = clean_name(opened.job.name) or "job"
    return Response(
        stream.getvalue(),
        media_type="application/zip",
        headers={"content-disposition": f'attachment; filename="{name}.zip"'},
    )


@desk.post("/jobs/import", operation_id="importJob", status_code=201)
def import_job(file: Annotated[UploadFile, File()]) -> JobState:
    """A job from an exported ZIP, or from a bare document."""
    found = read_job_file(file.file.read(MAX_BYTES + MAX_DOCUMENT_BYTES + 1), file.filename or "job")
    job = found.job
    model = None
    if job.part is not None and found.model is not None:
        model = job.part.file, found.model
        store().put(Build(job, found.model, store()).model_key, "solid", found.solid)
    return job_state(documents.create(job, model, files=found.files))


@router.post("/number", operation_id="readNumber")
@needs("look")
def read_number(body: NumberText) -> NumberValue:
    """A number as people type it (`=3*4`, `3/8in`), in mm, mm/min or degrees."""
    return NumberValue(value=parse_number(body.text, body.quantity))

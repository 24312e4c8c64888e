"""The model of a job: bring it in, its bodies, features, health, what a click takes, measures, drawings."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import PurePosixPath
from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, File, Form, Query, Response, UploadFile
from pydantic import BaseModel, Field
from sqlmodel import Session, col, select

from fenrik.app import documents
from fenrik.app.access.roles import needs
from fenrik.app.context import Opened, on_latest, open_job, rework, store
from fenrik.app.desk import AtDesk
from fenrik.app.layout import BINARY, binary, encode
from fenrik.app.reading import check_file, clean_name, read_model
from fenrik.app.routers.jobs import JobState, job_state
from fenrik.app.tables import RevisionRow, engine
from fenrik.core.build import Build
from fenrik.core.errors import FenrikError, fail
from fenrik.core.job import Job, MeasureSpot, Part, bodies_used, zero_points
from fenrik.core.job_reading import parse_job
from fenrik.core.measurements import measure_spots
from fenrik.core.recognise import Recognition
from fenrik.core.recognise.features import Vector
from fenrik.core.revise import revise
from fenrik.core.solids import Solid, edge_reference_to, reference_to
from fenrik.core.solids.measuring import Measured
from fenrik.core.solids.model import HealthNote
from fenrik.core.solids.packing import unpack_solid
from fenrik.core.solids.picking import edge_chains, likeness, smooth_groups
from fenrik.core.solids.reading import MAX_BYTES
from fenrik.core.solids.revisions import match_faces
from fenrik.core.solids.writing import write_solid

router = APIRouter(prefix="/api/jobs/{job_id}", tags=["parts"], route_class=AtDesk)


class PartState(JobState):
    """A job after its model was brought in or replaced."""

    followed: int = 0
    lost: list[str] = Field(default=[])
    changed: dict[str, int] = Field(default={})


class FaceChanged(BaseModel):
    """What became of one face; numbers are those of the model before and now, −1 where it is not there."""

    change: Literal["same", "moved", "resized", "gone", "new"]
    before: int
    after: int
    words: str


class Picked(BaseModel):
    """Faces and edges by their numbers in the model."""

    faces: list[int] = Field(default=[], max_length=20_000)
    edges: list[int] = Field(default=[], max_length=20_000)


class References(BaseModel):
    """Persistent references to picked faces and edges."""

    faces: list[dict[str, Any]]
    edges: list[dict[str, Any]]


class Spots(BaseModel):
    spots: list[MeasureSpot] = Field(min_length=1, max_length=2)


class MeasurementNow(BaseModel):
    """A kept measurement as it measures now; `problem` says why it does not."""

    id: str
    measured: Measured | None = None
    problem: str = ""


@router.put("/part", operation_id="putPart")
def put_part(job_id: str, file: Annotated[UploadFile, File()], scale: Annotated[float, Form()] = 1.0) -> PartState:
    """Bring in the model, or put a new version under the job: references follow what was matched.

    It is read in a process of its own before anything is kept.
    """
    name = clean_name(file.filename or "model.step")
    data = file.file.read(MAX_BYTES + 1)
    packed = read_model(data, name, scale)
    found = on_latest(job_id, lambda opened: _put_under(opened, Part(file=name, scale=scale), data, packed))
    return PartState(**job_state(job_id).model_dump(), **found)


def _put_under(opened: Opened, part: Part, data: bytes, packed: bytes) -> dict[str, Any]:
    """Put a model that was read (as the solid in `packed`) under a job; gives what became of its references."""
    after, before = unpack_solid(packed), _solid_before(opened.build)
    with Session(engine()) as session:
        row, revision = documents.load(session, opened.job_id, lock=True)
        documents.still(row, opened.version)
        document = dict(revision.document)
        names = {b.name for b in after.bodies}
        roles = [r for r in (document.get("part") or {}).get("roles", []) if r["body"] in names]
        followed, lost, changed = 0, [], {}
        if before is not None:
            revised = revise(document, before, after)
            document, followed, lost = revised.document, revised.followed, revised.lost
            kinds = [c.change for c in revised.changes]
            changed = {k: kinds.count(k) for k in dict.fromkeys(kinds)}
        document |= {"part": part.model_dump() | {"roles": roles}}
        if document["name"] == "New job":
            document["name"] = PurePosixPath(part.file).stem.replace("-", " ").replace("_", " ").capitalize()
        sha = documents.keep_model(session, part.file, data)
        job = parse_job(document)
        store().put(Build(job, data, store()).model_key, "solid", packed)
        documents.save(session, row, job.model_dump(mode="json"), sha, f"part {part.file}", revision.files)
        session.commit()
    return {"followed": followed, "lost": lost, "changed": changed}


def _solid_before(build: Build) -> Solid | None:
    return None if build.job.part is None or build.model is None else build.all_bodies


@router.put("/part/scale", operation_id="scalePart")
def scale_part(job_id: str, scale: float) -> JobState:
    """Give the same model another scale."""

    def work(opened: Opened) -> tuple[Job, None]:
        build = opened.build
        if build.job.part is None or build.model is None:
            raise fail("part", "is missing.", "Bring in a model first.")
        packed = read_model(build.model, build.job.part.file, scale)
        scaled = build.job.model_copy(update={"part": build.job.part.model_copy(update={"scale": scale})})
        store().put(Build(scaled, build.model, store()).model_key, "solid", packed)
        return scaled, None

    rework(job_id, "scale", work)
    return job_state(job_id)


@router.put("/files", operation_id="putFile")
def put_file(job_id: str, file: Annotated[UploadFile, File()]) -> JobState:
    """A further file of the job: a casting, a fixture, a drawing (DXF, SVG), cutter location text. One of the same name
    is replaced."""
    name = clean_name(file.filename or "file")
    data = file.file.read(MAX_BYTES + 1)
    check_file(data, name)
    with Session(engine()) as session:
        row, revision = documents.load(session, job_id, lock=True)
        document = dict(revision.document)
        document["files"] = sorted({*document.get("files", []), name})
        files = {**revision.files, name: documents.keep_model(session, name, data)}
        job = parse_job(document)
        documents.save(session, row, job.model_dump(mode="json"), revision.model_sha, f"file {name}", files)
        session.commit()
    return job_state(job_id)


@router.get("/part", operation_id="readPart")
def part_summary(job_id: str) -> dict[str, Any]:
    """Size, volume, health, bodies with their roles, and the faces with their persistent references."""
    build = open_job(job_id).build
    solid = build.all_bodies
    faces = [{**asdict(f), "reference": reference_to(solid, i).model_dump()} for i, f in enumerate(solid.faces)]
    for face in faces:
        for heavy in ("loops", "neighbours"):
            face.pop(heavy)
    points = {k: np.round(v, 6).tolist() for k, v in zero_points(solid).items()}
    part = build.job.part
    roles = [part.role_of(b.name) if part else "part" for b in solid.bodies]
    return {"summary": solid.summary(), "faces": faces, "zero_points": points, "roles": roles}


@router.get("/part/geometry", operation_id="readGeometry", response_class=Response, responses=BINARY)
def part_geometry(job_id: str) -> Response:
    """Triangles with the face of each, and edges as polylines."""
    solid = open_job(job_id).build.all_bodies
    return binary(encode({}, **solid_arrays(solid)))


def solid_arrays(solid: Solid) -> dict[str, np.ndarray]:
    """A solid's triangles and edges as the viewport wants them."""
    points = np.concatenate([e.points for e in solid.edges]) if solid.edges else np.zeros((0, 3))
    return {
        "vertices": solid.mesh.vertices.astype(np.float32),
        "triangles": solid.mesh.triangles.astype(np.uint32),
        "face_ids": solid.mesh.face_ids.astype(np.uint32),
        "edge_counts": np.array([len(e.points) for e in solid.edges], np.uint32),
        "edge_points": points.astype(np.float32),
    }


@router.get("/part/picking", operation_id="readPicking", response_class=Response, responses=BINARY)
def picking(job_id: str) -> Response:
    """What a click takes beside the face or edge itself: chains, smooth groups, loops and likeness, as numbers."""
    solid = open_job(job_id).build.all_bodies
    loops = [(f, loop) for f, face in enumerate(solid.faces) for loop in face.loops]
    groups = {
        f"alike_{by.replace(' ', '_')}": _numbered([likeness(f, by) for f in solid.faces])
        for by in ("radius", "level", "colour", "surface")
    }
    edge_faces = np.array([e.faces for e in solid.edges], np.int32).reshape(-1, 2)
    return binary(
        encode(
            {
                "lengths": [round(e.length_mm, 6) for e in solid.edges],
                "kinds": [e.kind for e in solid.edges],
                "radii": [e.radius_mm for e in solid.edges],
            },
            chains=edge_chains(solid),
            smooth=smooth_groups(solid),
            edge_faces=edge_faces,
            loop_face=np.array([f for f, _ in loops], np.int32),
            loop_counts=np.array([len(loop) for _, loop in loops], np.int32),
            loop_edges=np.array([e for _, loop in loops for e in loop], np.int32),
            body=np.array([f.body for f in solid.faces], np.int32),
            **groups,
        )
    )


def _numbered(values: list[Any]) -> np.ndarray:
    """Equal values get one number; −1 where there is none."""
    numbers: dict[Any, int] = {}
    return np.array([-1 if v is None else numbers.setdefault(v, len(numbers)) for v in values], np.int32)


@router.post("/part/references", operation_id="makeReferences")
@needs("look")
def references(job_id: str, body: Picked) -> References:
    """Persistent references to picked faces and edges."""
    solid = open_job(job_id).build.all_bodies
    for name, picked, count in (("faces", body.faces, len(solid.faces)), ("edges", body.edges, len(solid.edges))):
        wrong = [i for i in picked if not 0 <= i < count]
        if wrong:
            raise fail(name, f"has {count} in this model; {wrong[0]} is not one of them.", "Pick again.", wrong[0])
    return References(
        faces=[reference_to(solid, i).model_dump() for i in body.faces],
        edges=[edge_reference_to(solid, i).model_dump() for i in body.edges],
    )


@router.get("/part/features", operation_id="readFeatures")
def features(
    job_id: str,
    x: float | None = Query(default=None, ge=-1e6, le=1e6),
    y: float | None = Query(default=None, ge=-1e6, le=1e6),
    z: float | None = Query(default=None, ge=-1e6, le=1e6),
) -> Recognition:
    """The features of the part, for a direction where one is given, for all else."""
    build = open_job(job_id).build
    looks: list[Vector] | None = None if x is None and y is None and z is None else [(x or 0.0, y or 0.0, z or 0.0)]
    return build.recognition(looks).renumbered(build.part_faces)


@router.get("/part/health", operation_id="readHealth")
def health(job_id: str) -> list[HealthNote]:
    """A thorough check of the model: what was mended, what is open, thin, tiny, invalid or crosses itself."""
    from fenrik.core.solids.health import check_thoroughly

    return check_thoroughly(open_job(job_id).build.all_bodies)


@router.get("/part/changes", operation_id="readChanges")
def changes(job_id: str) -> list[FaceChanged]:
    """What became of every face since the model before this one; empty where there was none."""
    build = open_job(job_id).build
    before = _model_before(job_id)
    if before is None or build.job.part is None:
        return []
    return [FaceChanged(**asdict(c)) for c in match_faces(before.all_bodies, build.all_bodies)]


def _model_before(job_id: str) -> Build | None:
    """The job as it was with its previous model."""
    with Session(engine()) as session:
        row, revision = documents.load(session, job_id)
        query = (
            select(RevisionRow)
            .where(
                RevisionRow.job_id == job_id,
                col(RevisionRow.number) < row.head,
                col(RevisionRow.model_sha).is_not(None),
                col(RevisionRow.model_sha) != revision.model_sha,
            )
            .order_by(col(RevisionRow.number).desc())
        )
        older = session.exec(query).first()
        if older is None:
            return None
        return Build(parse_job(older.document), documents.model_of(session, older), store())


@router.get("/part/export", operation_id="exportPart", response_class=Response, responses=BINARY)
def export_part(job_id: str, form: Literal["step", "stl", "3mf", "glb"] = "step") -> Response:
    """The part as a file."""
    build = open_job(job_id).build
    data = write_solid(build.solid, f".{form}")
    name = clean_name(build.job.name) or "part"
    return Response(
        data,
        media_type="application/octet-stream",
        headers={"content-disposition": f'attachment; filename="{name}.{form}"'},
    )


@router.get("/part/lost-bodies", operation_id="readLostBodies")
def lost_bodies(job_id: str) -> list[str]:
    """Fields that name a body which the model no longer has."""
    build = open_job(job_id).build
    if build.job.part is None:
        return []
    names = {b.name for b in build.all_bodies.bodies}
    return [field for field, body in bodies_used(build.job) if body not in names]


@router.post("/measure", operation_id="measure")
@needs("look")
def measure(job_id: str, body: Spots) -> Measured:
    """Measure at one spot, or between two; places in part coordinates."""
    return measure_spots(open_job(job_id).build, body.spots)


@router.get("/measurements", operation_id="readMeasurements")
def measurements(job_id: str) -> list[MeasurementNow]:
    """All kept measurements as they measure now."""
    build = open_job(job_id).build
    found = []
    for kept in build.job.measurements:
        try:
            found.append(MeasurementNow(id=kept.id, measured=measure_spots(build, kept.spots)))
        except FenrikError as error:
            found.append(MeasurementNow(id=kept.id, problem=str(error)))
    return found


@router.get("/sketches/{sketch_id}/curves", operation_id="readCurves", response_class=Response, responses=BINARY)
def curves(job_id: str, sketch_id: str) -> Response:
    """The curves of a sketch as polylines in part coordinates, with the item each belongs to."""
    build = open_job(job_id).build
    by_item = build.sketch(sketch_id)
    frame = build.sketch_frame(sketch_id)
    level = next(s.level_mm for s in build.job.sketches if s.id == sketch_id)
    lines, owners = [], []
    for item, own in by_item.items():
        for curve in own:
            flat = curve.flattened(0.02)
            lines.append(frame.to_part(np.column_stack([flat, np.full(len(flat), level)])))
            owners.append(item)
    meta = {"items": owners, "lengths": [round(c.length_mm(), 6) for own in by_item.values() for c in own]}
    counts = np.array([len(line) for line in lines], np.uint32)
    points = np.concatenate(lines) if lines else np.zeros((0, 3))
    return binary(encode(meta, counts=counts, points=points.astype(np.float32)))

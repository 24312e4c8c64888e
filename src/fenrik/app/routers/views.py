"""What the viewport shows: part, frames, paths, stock, proof; numbers go in the typed layout."""

from __future__ import annotations

from typing import Any

import numpy as np
from fastapi import APIRouter, Query, Response
from pydantic import BaseModel

from fenrik.app.context import Opened, open_job
from fenrik.app.desk import AtDesk
from fenrik.app.layout import BINARY, binary, encode
from fenrik.app.player import player_for
from fenrik.core.findings import Finding
from fenrik.core.heights import Height, heights_of
from fenrik.core.job import Setup
from fenrik.core.toolpath.feed_limits import feed_limits

router = APIRouter(prefix="/api/jobs/{job_id}", tags=["views"], route_class=AtDesk)
VIEW_FLATTEN_MM = 0.02


class ProofSummary(BaseModel):
    """A proof without its columns."""

    findings: list[Finding]
    deviation: dict[str, Any]
    by_operation: dict[str, Any]
    program_vs_path_mm: float
    time_s: float
    time_by_operation: dict[str, float]
    motions: int
    operations_in_order: list[int]


class ProgramText(BaseModel):
    name: str
    text: str
    operations: list[int]
    lines: int


@router.get("/operations/{number}/path", operation_id="readPath", response_class=Response, responses=BINARY)
def path(job_id: str, number: int) -> Response:
    """A path's points in part coordinates, with the kind and the load of each motion."""
    opened = open_job(job_id)
    operation = opened.operation(number)
    opened.ready(opened.build.path_key(operation), "path")
    outcome = opened.build.path(operation)
    flat, source = outcome.toolpath.flattened(VIEW_FLATTEN_MM)
    loads, summary = opened.build.loads(operation)
    setup = opened.job.setup(operation.setup)
    frame = opened.build.frame(setup)
    zero = opened.build.zero(setup)
    meta = {
        "motions": len(outcome.toolpath),
        "cut_length_mm": outcome.toolpath.cut_length_mm(),
        "load": {
            **summary.model_dump(),
            "above": [a.model_dump() | {"in_part": frame.to_part(np.array(a.place)).tolist()} for a in summary.above],
        },
        "unreached": [
            {
                **u.model_dump(),
                "in_part": frame.to_part(np.array(u.place)).tolist(),
                "place": (np.array(u.place) - zero).tolist(),
            }
            for u in outcome.unreached
        ],
        "feed_limits": [
            {**limit.model_dump(), "place": (np.array(limit.place) - zero).tolist()}
            for limit in feed_limits(outcome.toolpath, opened.job.machine_of(setup).limits())
        ],
    }
    columns = {
        "engagement": loads.engagement_deg,
        "chip": loads.chip_mm,
        "feed": loads.feed_mm_min,
        "removal": loads.removal_mm3_s,
    }
    return binary(
        encode(
            meta,
            points=frame.to_part(flat.point).astype(np.float32),
            kinds=flat.kind.astype(np.uint8),
            motions=source.astype(np.int32),
            lengths=flat.lengths().astype(np.float32),
            **{name: column[source].astype(np.float32) for name, column in columns.items()},
        )
    )


@router.get("/operations/{number}/heights", operation_id="readHeights")
def heights(job_id: str, number: int) -> list[Height]:
    """Where an operation's heights are, and which numbers of the document move them."""
    opened = open_job(job_id)
    return heights_of(opened.build, opened.operation(number))


class TextRecord(BaseModel):
    """A record of a cutter location text as it stands after its changes."""

    line: int
    text: str
    says: str
    wrong: str
    motion: int


class TextRecords(BaseModel):
    """Some of the records of a text, and how many there are."""

    records: list[TextRecord]
    all: int
    wrong: int


@router.get("/operations/{number}/records", operation_id="readRecords")
def records(
    job_id: str, number: int, first: int = Query(default=1, ge=1), count: int = Query(default=200, ge=1, le=1000),
    wrong: bool = False,
) -> TextRecords:  # fmt: skip
    """Records of a row's cutter location text from a line on; of those that are not understood alone where that is
    asked."""
    opened = open_job(job_id)
    found = opened.build.records_of(opened.operation(number))
    bad = [r for r in found if r.wrong]
    shown = [r for r in (bad if wrong else found) if r.line >= first][:count]
    told = [TextRecord(line=r.line, text=r.text, says=r.says, wrong=r.wrong, motion=r.motion) for r in shown]
    return TextRecords(records=told, all=len(found), wrong=len(bad))


def _proof(opened: Opened, setup: Setup) -> tuple[dict[str, Any], dict[str, np.ndarray]]:
    opened.ready(opened.build.proof_key(setup), "proof")
    return opened.build.proof(setup)


@router.get("/setups/{setup_id}/proof", operation_id="readProof")
def proof(job_id: str, setup_id: str) -> ProofSummary:
    opened = open_job(job_id)
    summary, columns = _proof(opened, opened.setup(setup_id))
    return ProofSummary(motions=len(columns["line"]), **{k: v for k, v in summary.items() if k != "zero"})


@router.get(
    "/setups/{setup_id}/proof/columns", operation_id="readProofColumns", response_class=Response, responses=BINARY
)
def proof_columns(job_id: str, setup_id: str) -> Response:
    """The chart: a row for each motion, places in part coordinates."""
    opened = open_job(job_id)
    setup = opened.setup(setup_id)
    summary, c = _proof(opened, setup)
    frame = opened.build.frame(setup)
    ends, own = np.cumsum(c["seconds"]), opened.job.machine_of(setup)
    lengths = {t.number: t.assembly_mm for t in opened.job.tools}
    long = np.array([lengths.get(int(t), 0.0) for t in c["tool"].tolist()])
    at = opened.build.clamped(setup).at if own.turns else (0.0, 0.0, 0.0)
    rate = np.where(c["seconds"] > 1e-9, c["removed"] / np.maximum(c["seconds"], 1e-9), 0.0)
    return binary(
        encode(
            {"time_s": summary["time_s"], "joints": [j.name for j in own.all_joints()]},
            end_s=ends,
            point=frame.to_part(c["point"]).astype(np.float32),
            axis=(c["axis"] @ frame.rotation.T).astype(np.float32),
            joints=c["joints"].astype(np.float32),
            own=own.stands(c["joints"], at, long).astype(np.float32),
            kind=c["kind"].astype(np.uint8),
            feed=c["feed"].astype(np.float32),
            operation=c["operation"].astype(np.int32),
            tool=c["tool"].astype(np.int32),
            program=c["program"].astype(np.int32),
            line=c["line"].astype(np.int32),
            rate=rate.astype(np.float32),
            engagement=c["engagement"].astype(np.float32),
            clearance=c["clearance"].astype(np.float32),
        )
    )


@router.get("/setups/{setup_id}/proof/stock", operation_id="readStock", response_class=Response, responses=BINARY)
def proof_stock(
    job_id: str,
    setup_id: str,
    motion: int = Query(ge=0),
    have: int | None = Query(default=None, ge=0),
    deviation: bool = False,
    coarse: bool = False,
) -> Response:
    """The stock's surface after some motions: all of it, or the bricks that differ from moment `have`; or coarse, with
    few triangles, for pictures while things move."""
    opened = open_job(job_id)
    setup = opened.setup(setup_id)
    opened.ready(opened.build.proof_key(setup), "proof")
    player = player_for(opened.build, setup)
    return binary(player.coarse(motion) if coarse else player.bricks(motion, have, deviation))


@router.get("/setups/{setup_id}/programs", operation_id="readPrograms")
def programs(job_id: str, setup_id: str) -> list[ProgramText]:
    opened = open_job(job_id)
    setup = opened.setup(setup_id)
    opened.ready(opened.build.program_key(setup), "program")
    return [
        ProgramText(name=p.name, text=p.text.decode("ascii"), operations=p.operations, lines=p.lines)
        for p in opened.build.programs(setup)
    ]

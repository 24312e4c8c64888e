"""What is ready, out of date, computing or failed, and what a job still lacks."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field
from sqlmodel import Session, col, select

from fenrik.app.store import DatabaseStore
from fenrik.app.tables import ComputedRow, TaskRow, engine
from fenrik.app.work.computing import inputs_of
from fenrik.core.build import Build
from fenrik.core.errors import FenrikError
from fenrik.core.job import Operation
from fenrik.core.planning import kept_finish

KEY_LETTERS = 24


class RowLoad(BaseModel):
    """How hard a row works the cutter, in few words."""

    most_deg: float
    target_deg: float | None = None
    above: int = Field(description="at how many places it is above that")


class OperationStatus(BaseModel):
    number: int
    state: str
    reason: str = ""
    fraction: float = 0.0
    time_s: float | None = None
    cuts: bool | None = Field(
        default=None,
        description="false: it cuts nothing, for `reason` where it left something out; known once it is proven",
    )
    load: RowLoad | None = Field(default=None, description="how hard it works the cutter, once it is proven")
    path_key: str = Field(default="", description="changes exactly when the path does")
    way: str = Field(default="", description="of the arm, in a cell: ready or out of date; empty: no cell")
    way_key: str = Field(default="", description="changes exactly when the arm's way does")


class SetupStatus(BaseModel):
    id: str
    proof: str
    program: str
    proof_key: str = Field(default="", description="changes exactly when the proof does")
    program_key: str = Field(default="", description="changes exactly when the programs do")
    time_s: float | None = None
    faults: int = 0
    attentions: int = 0
    problem: str = ""


class Missing(BaseModel):
    stage: str
    message: str


class TaskStatus(BaseModel):
    id: str
    state: str
    fraction: float
    words: str
    what: dict[str, Any]
    problems: list[dict[str, Any]] = []


class JobStatus(BaseModel):
    """Everything about a job that is not in its document."""

    version: int
    operations: list[OperationStatus]
    setups: list[SetupStatus]
    missing: list[Missing]
    tasks: list[TaskStatus]
    can_undo: bool
    can_redo: bool
    finished: float | None = Field(default=None, description="share of the surface, measured when all is proven")


def job_status(job_id: str, build: Build, version: int, can_undo: bool, can_redo: bool) -> JobStatus:
    with Session(engine()) as session:
        computed = {
            r.operation: r.inputs for r in session.exec(select(ComputedRow).where(ComputedRow.job_id == job_id))
        }
        tasks = list(
            session.exec(select(TaskRow).where(TaskRow.job_id == job_id).order_by(col(TaskRow.made_at).desc()).limit(8))
        )
    operations, setups = _states(build, computed, tasks)
    shown = [
        TaskStatus(id=t.id, state=t.state, fraction=t.fraction, words=t.words, what=t.what, problems=t.problems)
        for t in tasks
    ]
    return JobStatus(
        version=version,
        operations=operations,
        setups=setups,
        missing=_missing(build, setups, operations),
        tasks=shown,
        can_undo=can_undo,
        can_redo=can_redo,
        finished=_finished(build),
    )


def _finished(build: Build) -> float | None:
    try:
        found = kept_finish(build)
    except FenrikError:
        return None
    return found.finished_fraction if found is not None else None


def _states(
    build: Build, computed: dict[int, Any], tasks: list[TaskRow]
) -> tuple[list[OperationStatus], list[SetupStatus]]:
    job, store = build.job, build.store
    keys: dict[str, str] = {}
    trouble = ""
    if job.part is not None:
        try:
            for setup in job.setups:
                for o in job.route(setup):
                    keys[f"path {o.number}"] = build.path_key(o)
                    keys[f"failure {o.number}"] = build.failure_key(o)
                    if (way := build.arm_way_key(o)) is not None:
                        keys[f"way {o.number}"] = way
                keys[f"program {setup.id}"], keys[f"proof {setup.id}"] = (
                    build.program_key(setup),
                    build.proof_key(setup),
                )
        except FenrikError as error:
            trouble = str(error)
    present = store.present(list(keys.values())) if isinstance(store, DatabaseStore) else set()
    running = next((t for t in tasks if t.state == "running"), None)
    latest = next((t for t in tasks if t.state in ("failed", "done", "cancelled")), None)
    operations: list[OperationStatus] = []
    setups: list[SetupStatus] = []
    times: dict[str, float] = {}
    results: dict[str, Any] = {}
    for setup in job.setups:
        proof, program = keys.get(f"proof {setup.id}"), keys.get(f"program {setup.id}")
        status = SetupStatus(
            id=setup.id,
            proof="ready" if proof in present else "out of date",
            program="ready" if program in present else "out of date",
            problem=trouble,
            proof_key=_short(proof),
            program_key=_short(program),
        )
        if proof in present:
            summary, _ = build.proof(setup)
            status.time_s = summary["time_s"]
            status.faults = sum(f["severity"] == "fault" for f in summary["findings"])
            status.attentions = sum(f["severity"] == "attention" for f in summary["findings"])
            times |= summary["time_by_operation"]
            results |= summary["by_operation"]
        setups.append(status)
    for o in job.operations:
        key = keys.get(f"path {o.number}")
        time_s = times.get(str(o.number))
        proven = keys.get(f"proof {o.setup}") in present
        status_o = OperationStatus(
            number=o.number,
            state="ready",
            time_s=time_s,
            cuts=time_s is not None if proven and o.enabled else None,
            load=_load_of(results.get(str(o.number))),
            path_key=_short(key),
            way_key=_short(keys.get(f"way {o.number}")),
        )
        if f"way {o.number}" in keys:
            status_o.way = "ready" if keys[f"way {o.number}"] in present else "out of date"
        if not o.enabled:
            status_o.state = "off"
        elif key is None or key not in present:
            status_o.state, status_o.reason = "out of date", trouble or _reason(o, build, computed.get(o.number))
            if running and _concerns(running, o):
                status_o.state, status_o.fraction = "computing", running.fraction
            elif latest and latest.state == "failed" and _concerns(latest, o):
                status_o.state, status_o.reason = "failed", latest.words
        elif keys[f"failure {o.number}"] in present:
            status_o.state, status_o.reason = "failed", build.failure(o)
        elif status_o.cuts is False:
            status_o.reason = next((u.reason for u in build.outcome(o).unreached), "")
        operations.append(status_o)
    return operations, setups


def _load_of(result: dict[str, Any] | None) -> RowLoad | None:
    """Of what the proof says of a row, its load."""
    load = (result or {}).get("load")
    return None if load is None else RowLoad(**{**load, "above": len(load["above"])})


def _short(key: str | None) -> str:
    """Enough of a key to tell artefacts apart in a browser."""
    return (key or "")[:KEY_LETTERS]


def _concerns(task: TaskRow, operation: Operation) -> bool:
    numbers = task.what.get("operations")
    return task.what.get("setup") == operation.setup and (not numbers or operation.number in numbers)


def _reason(operation: Operation, build: Build, before: dict[str, Any] | None) -> str:
    """Why an operation is out of date, in words."""
    if before is None:
        return "Not computed yet."
    after = inputs_of(operation, build)
    fields = type(operation.params).model_fields
    changed = [
        f"{fields[k].title or k} was {_word(before['params'].get(k))}, is {_word(v)}"
        for k, v in after["params"].items()
        if k in fields and before["params"].get(k) != v
    ]
    if before["tool"] != after["tool"]:
        changed.append("the tool changed")
    if before["feeds"] != after["feeds"]:
        changed.append("the feeds changed")
    if before.get("part", after["part"]) != after["part"]:
        changed.append("the model changed")
    if not changed and before.get("code", after["code"]) != after["code"]:
        changed.append("Fenrik works it out another way now")
    if not changed and before["before"] != after["before"]:
        changed.append("the stock before it changed")
    return "; ".join(changed) + "." if changed else "Heights of the setup changed."


def _word(value: Any) -> str:
    return "empty" if value is None else f"{value:g}" if isinstance(value, float) else str(value)


def faults_words(count: int) -> str:
    return f"{count} {'fault' if count == 1 else 'faults'} to look at."


def _missing(build: Build, setups: list[SetupStatus], operations: list[OperationStatus]) -> list[Missing]:
    job = build.job
    found = []
    if job.part is None:
        found.append(Missing(stage="part", message="Bring in a model."))
    if not job.setups:
        found.append(Missing(stage="setups", message="Add a setup."))
    found += [
        Missing(stage="setups", message=f"{s.name or s.id}: choose a machine.") for s in job.setups if not s.machine
    ]
    if not job.tools:
        found.append(Missing(stage="tools", message="Add a tool."))
    if not job.operations:
        found.append(Missing(stage="route", message="Add an operation."))
    for setup in job.setups:
        used, places = {o.tool for o in job.route(setup)}, job.machine_of(setup).magazine_places
        if 0 < places < len(used):
            words = f"{setup.name or setup.id}: {len(used)} tools, but the magazine has {places} places."
            found.append(Missing(stage="tools", message=words))
    unsolved = [str(o.number) for o in operations if o.way == "out of date"]
    if unsolved:
        rows = f"row{'s' if len(unsolved) > 1 else ''} {', '.join(unsolved)}"
        found.append(Missing(stage="cell", message=f"The arm's way is not solved for {rows}."))
    for status in setups:
        if job.route(job.setup(status.id)) and status.proof != "ready":
            found.append(Missing(stage="proof", message="Compute and prove the route."))
        if status.faults:
            found.append(Missing(stage="proof", message=faults_words(status.faults)))
    return found

"""Reading a job document from plain data: what is wrong in its fields, and what must agree between its parts."""

from __future__ import annotations

from collections import Counter
from typing import Any

from pydantic import ValidationError

from fenrik.core.errors import FenrikError, Problem
from fenrik.core.job import Job, Operation, Setup
from fenrik.core.setups.fixtures import FileFixture
from fenrik.core.setups.stocks import EarlierStock, MeshStock

MOST_PROBLEMS = 100
"""Of a document that is wrong all over, so many are told."""


def parse_job(data: Any) -> Job:
    """A job document from plain JSON.

    Raises:
        FenrikError: with one problem for each field that is wrong.
    """
    try:
        job = Job.model_validate(data)
    except ValidationError as error:
        raise FenrikError(*(_problem(e, data) for e in error.errors()[:MOST_PROBLEMS])) from error
    problems = check_references(job)
    if problems:
        raise FenrikError(*problems)
    return job


def _problem(error: Any, data: Any) -> Problem:
    path = ".".join(_field_path(error["loc"], data))
    value = error.get("input")
    shown = value if isinstance(value, str | int | float | bool | None) else None
    message = error["msg"].removeprefix("Value error, ")
    return Problem(path or "job", message[:1].lower() + message[1:] + ".", "Correct this field.", shown)


def _field_path(location: tuple[Any, ...], data: Any) -> list[str]:
    """The path of a field without what pydantic adds for unions: tags of kinds, and names of models."""
    path: list[str] = []
    here, tagged = data, False
    for part in location:
        if isinstance(part, str):
            is_tag = isinstance(here, dict) and not tagged and part in (here.get("kind"), here.get("strategy"))
            if is_tag or part[:1].isupper() or "[" in part or "-" in part:
                tagged = tagged or is_tag
                continue
        path.append(str(part))
        inside = (isinstance(here, dict) and part in here) or (isinstance(here, list) and isinstance(part, int))
        here, tagged = (here[part] if inside and (isinstance(here, dict) or part < len(here)) else None), False
    return path


def check_references(job: Job) -> list[Problem]:
    """Things that must agree between the parts of a document."""
    problems = []
    named: list[tuple[str, list[Any]]] = [
        ("tools", [t.number for t in job.tools]),
        ("setups", [s.id for s in job.setups]),
        ("operations", [o.number for o in job.operations]),
        ("machines", [*(m.name for m in job.machines), *(c.name for c in job.cells)]),
        ("materials", [m.name for m in job.materials]),
        ("selections", [v.name for v in job.selections]),
        ("measurements", [m.id for m in job.measurements]),
        ("sketches", [k.id for k in job.sketches]),
        *((f"setups.{s.id}.fixtures", [f.id for f in s.fixtures]) for s in job.setups),
    ]
    for name, values in named:
        for value in sorted((v for v, count in Counter(values).items() if count > 1), key=str):
            problems.append(Problem(name, f"{value} is there more than once.", "Give each its own.", value))
    setups, tools = {s.id for s in job.setups}, {t.number for t in job.tools}
    for k, operation in enumerate(job.operations):
        if operation.setup not in setups:
            problems.append(
                Problem(f"operations.{k}.setup", "is not a setup of this job.", "Choose a setup.", operation.setup)
            )
        if operation.tool not in tools:
            problems.append(
                Problem(f"operations.{k}.tool", "is not a tool of this job.", "Choose a tool.", operation.tool)
            )
        problems += _check_seen_row(job, operation, k)
    if job.material and job.material_of() is None:
        problems.append(Problem("material", "is not a material of this job.", "Choose a material.", job.material))
    machines = {m.name for m in job.machines} | {c.name for c in job.cells}
    for k, setup in enumerate(job.setups):
        problems += _check_stock_and_fixtures(job, setup, k)
        if setup.machine and setup.machine not in machines:
            problems.append(
                Problem(f"setups.{k}.machine", "is not a machine of this job.", "Choose a machine.", setup.machine)
            )
        if setup.retract_mm > setup.clearance_mm:
            problems.append(
                Problem(
                    f"setups.{k}.retract_mm",
                    f"lies above the clearance height ({setup.clearance_mm:g} mm).",
                    "Lower it, or raise the clearance height.",
                    setup.retract_mm,
                )
            )
    return problems


def _check_seen_row(job: Job, operation: Operation, k: int) -> list[Problem]:
    """A row whose stock is looked at, but that does not come before in the same setup."""
    row, before = operation.sees.row, [o.number for o in job.operations[:k] if o.setup == operation.setup]
    if row is None or row in before:
        return []
    return [Problem(f"operations.{k}.sees.row", "is not a row before this one.", "Choose an earlier row.", row)]


def _check_stock_and_fixtures(job: Job, setup: Setup, k: int) -> list[Problem]:
    """Files that are not there, and a stock that would come from the setup itself or a later one."""
    problems = []
    if isinstance(setup.stock, EarlierStock):
        before = [s.id for s in job.setups[:k]]
        if setup.stock.setup not in before:
            problems.append(
                Problem(
                    f"setups.{k}.stock.setup",
                    "is not a setup before this one.",
                    "Choose an earlier setup.",
                    setup.stock.setup,
                )
            )
        elif setup.stock.after not in (None, *(o.number for o in job.operations if o.setup == setup.stock.setup)):
            problems.append(
                Problem(f"setups.{k}.stock.after", "is not a row of that setup.", "Choose another.", setup.stock.after)
            )
    named = [("stock.file", setup.stock.file)] if isinstance(setup.stock, MeshStock) else []
    named += [(f"fixtures.{f.id}.file", f.file) for f in setup.fixtures if isinstance(f, FileFixture)]
    return problems + [
        Problem(f"setups.{k}.{field}", "is not a file of this job.", "Bring the file in first.", file)
        for field, file in named
        if file not in job.files
    ]

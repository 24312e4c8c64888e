"""Commands for jobs: plan, propose a route, print the schema, look at a model file, compile kernels."""

from __future__ import annotations

import argparse
import json
import resource
import sys
import time
from collections.abc import Callable
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.progress import BarColumn, TextColumn, TimeElapsedColumn
from rich.progress import Progress as Bars

from fenrik import __version__
from fenrik.cli import parts
from fenrik.cli.codes import DONE, FAULTS
from fenrik.cli.parts import bytes_of
from fenrik.core.build import Build
from fenrik.core.errors import FenrikError, Problem
from fenrik.core.job import Job, Operation
from fenrik.core.job_reading import parse_job
from fenrik.core.planning import (
    Finish,
    coverage,
    first_setup,
    measured_finish,
    predicted_finish,
    propose_route,
    propose_sides,
    with_route,
)
from fenrik.core.progress import Progress, part_of, silent
from fenrik.core.report import (
    cl_texts,
    joint_texts,
    merged_proof,
    other_programs,
    setup_report,
    setup_sheet,
    trajectory_texts,
)
from fenrik.core.solids import read_solid
from fenrik.core.solids.writing import stl_bytes, write_mesh
from fenrik.core.stock import stock_mesh
from fenrik.core.store import MemoryStore
from fenrik.processes import give_back_early


def add_commands(commands: Any) -> None:
    """Put these commands beside the others."""
    plan_parser = commands.add_parser("plan", help="compute, prove and post a job; needs no server")
    plan_parser.add_argument("job", type=Path)
    plan_parser.add_argument("--out", type=Path, required=True)
    plan_parser.add_argument("--only", default="", help="numbers of operations, for example 10,20")
    plan_parser.add_argument("--cell", type=float, default=None, help="resolution of the stock in mm")
    commands.add_parser("schema", help="print the JSON Schema of the job document")
    import_parser = commands.add_parser("import", help="print size, volume, faces and warnings of a model file")
    import_parser.add_argument("file", type=Path)
    import_parser.add_argument("--scale", type=float, default=1.0)
    route_parser = commands.add_parser("route", help="propose a route for a setup from the part's features")
    route_parser.add_argument("job", type=Path)
    route_parser.add_argument("--setup", default="", help="id of the setup; the first where none is given")
    route_parser.add_argument(
        "--all-sides", action="store_true", help="for all setups, and new ones where features look another way"
    )
    route_parser.add_argument("--tools", type=Path, default=None, help="tool list (JSON or CSV) in place of the shop's")
    route_parser.add_argument("--out", type=Path, default=None, help="write the job with the route in it")
    reach_parser = commands.add_parser("reach", help="how much of a row an arm reaches, by where the work lies")
    reach_parser.add_argument("job", type=Path)
    reach_parser.add_argument("--operation", type=int, required=True, help="number of the row")
    reach_parser.add_argument("--steps", type=int, default=5, help="places along each side of the table")
    reach_parser.add_argument("--clear", action="store_true", help="look at what stands round, too")
    stock_parser = commands.add_parser("stock", help="write the stock after a row as STL or 3MF")
    stock_parser.add_argument("job", type=Path)
    stock_parser.add_argument("--row", type=int, required=True, help="number of the row")
    stock_parser.add_argument("--out", type=Path, required=True, help="file to write: .stl or .3mf")
    commands.add_parser("warm", help="compile the kernels ahead of their first use")


def _schema(_options: argparse.Namespace) -> int:
    print(json.dumps(Job.model_json_schema(), indent=2))
    return DONE


def _import(options: argparse.Namespace) -> int:
    solid = read_solid(bytes_of(options.file, "file"), options.file.name, options.scale)
    print(json.dumps({"file": options.file.name, **solid.summary()}, indent=2))
    return DONE


def _route(options: argparse.Namespace) -> int:
    job, model, files = read_job_file(options.job)
    if not job.setups:
        first = first_setup(Build(job, model, MemoryStore(), None, files))
        print(first.words, file=sys.stderr)
        job = job.model_copy(update={"setups": [first.setup]})
    setup = next((s for s in job.setups if s.id == options.setup), None) if options.setup else job.setups[0]
    if setup is None:
        raise FenrikError(Problem("setup", "is not in the job.", "Name one of its setups.", options.setup))
    build, shop = Build(job, model, MemoryStore(), None, files), parts.tool_list(options.tools)
    found = propose_sides(build, shop) if options.all_sides else propose_route(build, setup, shop)
    made = with_route(job, found)
    if options.out is not None:
        options.out.write_text(made.model_dump_json(indent=2, exclude_none=True), "utf-8")
    rules = {r.number: r.rule for r in found.reasons}
    rows = [
        {
            "number": o.number,
            "name": o.name,
            "setup": o.setup,
            "tool": o.tool,
            "strategy": o.params.strategy,
            "rule": rules[o.number],
        }
        for o in found.operations
    ]
    grown = build.with_job(made)
    finish = predicted_finish(grown)
    told = {
        "operations": rows,
        "finish": finish.model_dump(),
        "uncovered": [u.model_dump() for u in coverage(grown).uncovered],
    }
    print(json.dumps(told, indent=2, ensure_ascii=False))
    for words in [*found.assumed, finish.words]:
        print(words, file=sys.stderr)
    return DONE


def read_job_file(path: Path) -> tuple[Job, bytes, dict[str, bytes]]:
    """A job document, the model file beside it, and its further files."""
    try:
        data = json.loads(bytes_of(path, "job"))
    except (ValueError, RecursionError) as error:
        raise FenrikError(Problem("job", f"is not JSON: {error}.", "Correct the file.", path.name)) from error
    job = parse_job(data)
    if job.part is None:
        raise FenrikError(Problem("part", "is missing.", "Name the model file."))
    model = _beside(path, job.part.file, "part.file")
    return job, model, {name: _beside(path, name, f"files.{k}") for k, name in enumerate(job.files)}


def _beside(job: Path, name: str, field: str) -> bytes:
    """The bytes of a file in the job's folder."""
    file = (job.parent / name).resolve()
    if not file.is_relative_to(job.parent.resolve()):
        raise FenrikError(Problem(field, "leaves the job's folder.", "Put the file beside the job.", name))
    return bytes_of(file, field)


def plan(
    path: Path, out: Path, only: set[int] | None = None, cell_mm: float | None = None, progress: Progress = silent
) -> dict[str, Any]:
    """Compute a job and write everything into a folder; gives the report.

    Raises:
        FenrikError: when the job is wrong.
    """
    began = time.perf_counter()
    job, model, files = read_job_file(path)
    if only is not None:
        missing = only - {o.number for o in job.operations}
        if missing:
            raise FenrikError(
                Problem(
                    "only", "names operations that the job does not have.", "Use numbers of the route.", sorted(missing)
                )
            )
        job = job.model_copy(update={"operations": [o for o in job.operations if o.number in only]})
    build = Build(job, model, MemoryStore(), cell_mm, files)
    compute_s: dict[int, float] = {}
    reports: dict[str, dict[str, Any]] = {}
    setups = [s for s in job.setups if job.route(s)]
    if not setups:
        raise FenrikError(Problem("operations", "are missing: nothing is switched on.", "Add an operation."))
    for k, setup in enumerate(setups):
        share = part_of(progress, k / len(setups), (k + 1) / len(setups))
        route = job.route(setup)
        for j, operation in enumerate(route):
            started = time.perf_counter()
            step = part_of(share, 0.7 * j / len(route), 0.7 * (j + 1) / len(route))
            build.compute(setup, {operation.number}, with_proof=False, progress=step)
            compute_s[operation.number] = time.perf_counter() - started
        build.proof(setup, part_of(share, 0.7, 0.95))
        reports[setup.id] = setup_report(build, setup, compute_s)
    report = _write(build, reports, out)
    rows = report["operations"]
    report["failed"] = [{"number": o["number"], "name": o["name"], "why": o["failed"]} for o in rows if o["failed"]]
    report["operations"] = [{k: v for k, v in o.items() if k != "failed"} for o in rows if not o["failed"]]
    finish = measured_finish(build)
    report |= {
        "finish": finish.model_dump() if finish is not None else None,
        "seconds": time.perf_counter() - began,
        "version": __version__,
        "peak_memory_mb": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024,
    }
    (out / "report.json").write_text(json.dumps(report, indent=2), "utf-8")
    progress(1.0, "done")
    return report


def _write(build: Build, reports: dict[str, dict[str, Any]], out: Path) -> dict[str, Any]:
    for folder in (out, out / "cl", out / "nc", out / "joints"):
        folder.mkdir(parents=True, exist_ok=True)
    report: dict[str, Any] = {"operations": [], "setups": [], "programs": []}
    for id_, one in reports.items():
        setup = build.job.setup(id_)
        for name, text in cl_texts(build, setup).items():
            (out / "cl" / name).write_text(text, "ascii")
        for name, text in {**joint_texts(build, setup), **trajectory_texts(build, setup)}.items():
            (out / "joints" / name).write_text(text, "utf-8")
        for program in [*build.programs(setup), *other_programs(build, setup)]:
            (out / "nc" / program.name).write_bytes(program.text)
        mesh = one["stock_mesh"]
        in_part = type(mesh)(build.frame(setup).to_part(mesh.vertices), mesh.triangles, mesh.face_ids)
        suffix = "" if len(reports) == 1 else f"-{id_}"
        (out / f"stock{suffix}.stl").write_bytes(stl_bytes(in_part))
        report["operations"] += one["operations"]
        report["setups"].append(one["setup"])
        report["programs"] += one["programs"]
    report["proof"] = merged_proof([r["proof"] for r in reports.values()])
    (out / "setup-sheet.html").write_text(setup_sheet(build, reports), "utf-8")
    return report


def _plan(options: argparse.Namespace) -> int:
    give_back_early()
    try:
        only = {int(n) for n in options.only.split(",") if n.strip()} or None
    except ValueError as error:
        raise FenrikError(
            Problem("only", "is not a list of numbers.", "Write for example 10,20.", options.only)
        ) from error
    if options.cell is not None and not options.cell > 0:
        raise FenrikError(Problem("cell", "must be above 0.", "Use for example 0.2.", options.cell))
    report = _with_bar(lambda progress: plan(options.job, options.out, only, options.cell, progress))
    faults = [f for f in report["proof"]["findings"] if f["severity"] == "fault"]
    if report["finish"] is not None:
        print(Finish.model_validate(report["finish"]).words, file=sys.stderr)
    for row in report["operations"]:
        for left in row["unreached"]:
            print(f"row {row['number']}: {left['reason']} {left['advice']}", file=sys.stderr)
        if not row["cuts"]:
            words = (
                "It cuts nothing: see to that" if row["unreached"] else "Nothing stands where it would cut. Take it out"
            )
            print(f"row {row['number']}: {words}.", file=sys.stderr)
    for finding in faults[:20]:
        print(f"{finding['kind']}: {finding['message']} {finding['advice']}", file=sys.stderr)
    return FAULTS if faults else DONE


def _with_bar(work: Callable[[Progress], dict[str, Any]], words: str = "planning") -> dict[str, Any]:
    console = Console(stderr=True)
    if not console.is_terminal:
        return work(silent)
    with Bars(
        TextColumn("{task.description}"),
        BarColumn(),
        TextColumn("{task.percentage:>3.0f} %"),
        TimeElapsedColumn(),
        console=console,
    ) as bars:
        task = bars.add_task(words, total=1.0)
        return work(lambda fraction, words: bars.update(task, completed=fraction, description=words[:40]))


def _reach(options: argparse.Namespace) -> int:
    """How much of a row is reached at each value of the axes round the arm, and by where the work lies."""
    if not 1 <= options.steps <= 25:
        raise FenrikError(Problem("steps", "must be 1 to 25.", "Use for example 5.", options.steps))
    job, model, files = read_job_file(options.job)
    operation = _row_of(job, options.operation)
    build = Build(job, model, MemoryStore(), None, files)
    places = build.reach_by_place(operation, options.steps, options.clear)
    bands = build.reach_bands(operation)
    told = {
        "operation": operation.number,
        "places": [asdict(p) for p in places],
        "axes": [
            {"name": b.name, "unit": b.unit, "value": b.value.round(3).tolist(), "share": b.share.round(4).tolist()}
            for b in bands
        ],
    }
    print(json.dumps(told, indent=2))
    best = places[0]
    print(f"best place: X{best.x_mm:g} Y{best.y_mm:g}, {100 * best.share:.1f} % of the row reached", file=sys.stderr)
    return DONE if best.share >= 1.0 else FAULTS


def _stock(options: argparse.Namespace) -> int:
    """The stock after a row, in part coordinates."""
    if options.out.suffix not in (".stl", ".3mf"):
        raise FenrikError(Problem("out", "is neither .stl nor .3mf.", "Choose one of them.", options.out.name))
    job, model, files = read_job_file(options.job)
    operation = _row_of(job, options.row)
    build, setup = Build(job, model, MemoryStore(), None, files), job.setup(operation.setup)

    def work(progress: Progress) -> dict[str, Any]:
        mesh = stock_mesh(build.stock_after_row(setup, operation.number))
        in_part = replace(mesh, vertices=build.frame(setup).to_part(mesh.vertices))
        options.out.write_bytes(write_mesh(in_part, options.out.suffix))
        progress(1.0, "done")
        return {"volume_mm3": abs(mesh.volume_mm3()), "left_mm3": abs(mesh.volume_mm3()) - build.made_mm3(setup)}

    print(json.dumps({"row": operation.number, **_with_bar(work, "cutting")}))
    return DONE


def _row_of(job: Job, number: int) -> Operation:
    """A row by its number."""
    found = next((o for o in job.operations if o.number == number), None)
    if found is None:
        numbers = ", ".join(str(o.number) for o in job.operations)
        raise FenrikError(Problem("operation", "is not in the job.", f"Name one of {numbers}.", number))
    return found


def _warm(_options: argparse.Namespace) -> int:
    from fenrik.core.warm import warm

    def work(progress: Progress) -> dict[str, Any]:
        warm(progress)
        return {}

    _with_bar(work, "compiling")
    return DONE


COMMANDS: dict[str, Callable[[argparse.Namespace], int]] = {
    "plan": _plan,
    "schema": _schema,
    "route": _route,
    "import": _import,
    "reach": _reach,
    "stock": _stock,
    "warm": _warm,
}

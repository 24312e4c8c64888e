"""Everything that leaves the house for one job: report, cutter location data, programs, stock, setup sheet."""

from __future__ import annotations

import json
from importlib import resources
from typing import Any

import numpy as np
from jinja2 import Environment

from fenrik.core.build import Build
from fenrik.core.job import Setup
from fenrik.core.keys import sha256
from fenrik.core.posting import Posted, load_controllers
from fenrik.core.posting.cl import cutter_location
from fenrik.core.stock import stock_mesh
from fenrik.core.toolpath import Kind
from fenrik.core.toolpath.feed_limits import feed_limits


def operation_rows(build: Build, setup: Setup, compute_s: dict[int, float] | None = None) -> list[dict[str, Any]]:
    """Results of each operation of a setup that has been proved."""
    summary, columns = build.proof(setup)
    air, limits = air_shares(columns), build.job.machine_of(setup).limits()
    rows = []
    for operation in build.job.route(setup):
        outcome = build.outcome(operation)
        result = summary["by_operation"].get(str(operation.number), {})
        rows.append(
            {
                "number": operation.number,
                "name": operation.name,
                "strategy": operation.params.strategy,
                "tool": operation.tool,
                "motions": len(outcome.toolpath),
                "cut_length_mm": outcome.toolpath.cut_length_mm(),
                "cuts": str(operation.number) in summary["time_by_operation"],
                "time_s": summary["time_by_operation"].get(str(operation.number), 0.0),
                "compute_s": (compute_s or {}).get(operation.number, 0.0),
                "worst_gouge_mm": result.get("worst_gouge_mm"),
                "worst_excess_mm": result.get("worst_excess_mm"),
                "peak_engagement_deg": result.get("peak_engagement_deg"),
                "bound_mm": result.get("bound_mm"),
                "unreached": [u.model_dump() for u in outcome.unreached],
                "failed": outcome.why,
                "air_share": air.get(operation.number, 0.0),
                "feed_limits": [limit.model_dump() for limit in feed_limits(outcome.toolpath, limits)],
            }
        )
    return rows


def air_shares(columns: dict[str, Any]) -> dict[int, float]:
    """The share of each row's way at cutting feed on which nothing is removed, from the columns of a proof."""
    point, fresh = columns["point"], columns["fresh"]
    way = np.linalg.norm(np.diff(point, axis=0, prepend=point[:1]), axis=1)
    cutting = (columns["kind"] == Kind.CUT) & ~fresh
    found = {}
    for number in np.unique(columns["operation"][cutting]).tolist():
        mine = cutting & (columns["operation"] == number)
        whole, air = float(way[mine].sum()), float(way[mine & (columns["removed"] <= 0)].sum())
        found[number] = air / whole if whole > 0 else 0.0
    return found


def setup_report(build: Build, setup: Setup, compute_s: dict[int, float] | None = None) -> dict[str, Any]:
    """Results of one setup: operations, times, volumes, proof, programs; and its final stock as a mesh."""
    summary, _ = build.proof(setup)
    low, high = build.placing(setup).stock
    order = summary["operations_in_order"]
    final = build.proof_stock(setup, order[-1] if order else None)
    mesh = stock_mesh(final)
    programs = [
        {
            "file": p.name,
            "dialect": setup.dialect,
            "setup": setup.id,
            "operations": p.operations,
            "lines": p.lines,
            "time_s": sum(summary["time_by_operation"].get(str(n), 0.0) for n in p.operations),
            "sha256": sha256(p.text),
            "radii_mm": p.radii_mm,
        }
        for p in build.programs(setup)
    ]
    return {
        "operations": operation_rows(build, setup, compute_s),
        "setup": {
            "name": setup.name or setup.id,
            "time_s": summary["time_s"],
            "stock_before_mm3": float(np.prod(high - low)),
            "stock_after_mm3": abs(mesh.volume_mm3()),
        },
        "proof": {
            "findings": summary["findings"],
            "deviation": summary["deviation"],
            "program_vs_path_mm": summary["program_vs_path_mm"],
        },
        "programs": programs,
        "stock_mesh": mesh,
    }


def merged_proof(proofs: list[dict[str, Any]]) -> dict[str, Any]:
    """One proof entry for a job of several setups: all findings, worst deviations."""
    deviations = [p["deviation"] for p in proofs]
    worst = {
        "min_mm": min((d["min_mm"] for d in deviations), default=0.0),
        "max_mm": max((d["max_mm"] for d in deviations), default=0.0),
        "within_tolerance_fraction": min((d["within_tolerance_fraction"] for d in deviations), default=1.0),
        "error_bound_mm": max((d["error_bound_mm"] for d in deviations), default=0.0),
    }
    return {
        "findings": [f for p in proofs for f in p["findings"]],
        "deviation": worst,
        "program_vs_path_mm": max((p["program_vs_path_mm"] for p in proofs), default=0.0),
    }


def cl_texts(build: Build, setup: Setup) -> dict[str, str]:
    """Cutter location data by file name."""
    zero = build.zero(setup)
    return {
        f"{o.number:03d}.cl": cutter_location(
            o.number, o.name, build.job.tool(o.tool), build.job.rpm(o), build.outcome(o).toolpath.moved(-zero)
        )
        for o in build.job.route(setup)
    }


def joint_texts(build: Build, setup: Setup) -> dict[str, str]:
    """Joint values of each operation's motions as they run, by file name: time, joints (`nan` where the machine does
    not reach), tip and axis in the work."""
    summary, columns = build.proof(setup)
    head = [f"{j.name}_{j.unit}" for j in build.job.machine_of(setup).all_joints()]
    tip, values = columns["point"] - np.array(summary["zero"]), columns["joints"]
    times = np.cumsum(columns["seconds"])
    words = [kind.name.lower() for kind in sorted(Kind)]
    texts = {}
    for operation in build.job.route(setup):
        rows = np.flatnonzero(columns["operation"] == operation.number)
        numbers = np.column_stack([times[rows], values[rows], tip[rows], columns["axis"][rows]])
        lines = [",".join(["time_s", *head, "x", "y", "z", "i", "j", "k", "motion"])]
        for row, kind in zip(numbers.tolist(), columns["kind"][rows].tolist(), strict=True):
            lines.append(",".join([*(f"{v:.6f}" for v in row), words[kind]]))
        texts[f"{operation.number:03d}.csv"] = "\n".join([*lines, ""])
    return texts


def trajectory_texts(build: Build, setup: Setup) -> dict[str, str]:
    """Joint values over time of each operation of a cell as JSON, by file name; none where the machine is no cell."""
    if build.job.cell_of(setup) is None:
        return {}
    _, columns = build.proof(setup)
    joints, times = build.job.machine_of(setup).all_joints(), np.cumsum(columns["seconds"])
    texts = {}
    for operation in build.job.route(setup):
        rows = np.flatnonzero(columns["operation"] == operation.number)
        told = {
            "operation": operation.number,
            "joints": [{"name": j.name, "unit": j.unit} for j in joints],
            "time_s": times[rows].round(6).tolist(),
            "values": columns["joints"][rows].round(6).tolist(),
        }
        texts[f"{operation.number:03d}.json"] = json.dumps(told)
    return texts


def other_programs(build: Build, setup: Setup) -> list[Posted]:
    """The programs of a setup in a cell for the other controls of arms; those of the chosen one are proven."""
    if build.job.cell_of(setup) is None:
        return []
    found = []
    for name, controller in load_controllers().items():
        if controller.drives_arms and name != setup.dialect:
            other = setup.model_copy(update={"dialect": name})
            setups = [other if s.id == setup.id else s for s in build.job.setups]
            found += build.with_job(build.job.model_copy(update={"setups": setups})).programs(other)
    return found


_sheet = Environment(autoescape=True).from_string(
    resources.files("fenrik.core").joinpath("setup_sheet.html").read_text("utf-8")
)


def clock(seconds: float) -> str:
    """Time as people read it: 1:05:09 or 4:07."""
    whole = round(seconds)
    hours, rest = divmod(whole, 3600)
    return f"{hours}:{rest // 60:02d}:{rest % 60:02d}" if hours else f"{rest // 60}:{rest % 60:02d}"


def setup_sheet(build: Build, reports: dict[str, dict[str, Any]]) -> str:
    """The setup sheet as one HTML page without anything from outside."""
    setups = []
    for setup in build.job.setups:
        if setup.id not in reports:
            continue
        report = reports[setup.id]
        low, high = build.placing(setup).stock
        route = build.job.route(setup)
        times = {o["number"]: o["time_s"] for o in report["operations"]}
        setups.append(
            {
                "setup": setup,
                "size": tuple(high - low),
                "time": clock(report["setup"]["time_s"]),
                "zero_words": _zero_words(setup),
                "up_words": getattr(setup.up, "axis", "a picked face"),
                "operations": [
                    {
                        "number": o.number,
                        "name": o.name,
                        "strategy": o.params.strategy,
                        "tool": o.tool,
                        "rpm": build.job.rpm(o),
                        "feed": build.job.feeds(o).cutting,
                        "allowance": o.params.allowance_mm,
                        "time": clock(times.get(o.number, 0.0)),
                    }
                    for o in route
                ],
                "offsets": sorted({(d, r) for p in report["programs"] for d, r in p["radii_mm"].items()}),
                "tools": [build.job.tool(n) for n in dict.fromkeys(o.tool for o in route)],
                "programs": report["programs"],
                "faults": sum(f["severity"] == "fault" for f in report["proof"]["findings"]),
                "low": report["proof"]["deviation"]["min_mm"],
                "high": report["proof"]["deviation"]["max_mm"],
            }
        )
    return _sheet.render(job=build.job, setups=setups)


def _zero_words(setup: Setup) -> str:
    zero = setup.work_zero
    if zero.kind == "point":
        return f"{zero.of} of the part"
    names = (
        {-1: "left", 0: "middle", 1: "right"},
        {-1: "front", 0: "middle", 1: "back"},
        {-1: "bottom", 0: "middle", 1: "top"},
    )
    return f"{zero.of} box, " + ", ".join(n[v] for n, v in zip(names, zero.at, strict=True))

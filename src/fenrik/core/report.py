"""Everything that leaves the house for one job: report, cutter location data, programs, stock, setup sheet."""

from __future__ import annotations

import struct
from typing import Any

import numpy as np
from jinja2 import Environment

from fenrik.core.build import Build
from fenrik.core.job import Setup, stock_box
from fenrik.core.keys import sha256
from fenrik.core.posting.cl import cutter_location
from fenrik.core.solids.model import Mesh
from fenrik.core.stock import stock_mesh


def operation_rows(build: Build, setup: Setup, compute_s: dict[int, float] | None = None) -> list[dict[str, Any]]:
    """Results of each operation of a setup that has been proved."""
    summary, _ = build.proof(setup)
    rows = []
    for operation in build.job.route(setup):
        outcome = build.path(operation)
        result = summary["by_operation"].get(str(operation.number), {})
        rows.append({
            "number": operation.number, "name": operation.name, "strategy": operation.params.strategy,
            "tool": operation.tool, "motions": len(outcome.toolpath),
            "cut_length_mm": outcome.toolpath.cut_length_mm(),
            "time_s": summary["time_by_operation"].get(str(operation.number), 0.0),
            "compute_s": (compute_s or {}).get(operation.number, 0.0),
            "worst_gouge_mm": result.get("worst_gouge_mm"), "worst_excess_mm": result.get("worst_excess_mm"),
            "peak_engagement_deg": result.get("peak_engagement_deg"),
            "unreached": [u.model_dump() for u in outcome.unreached],
        })
    return rows


def setup_report(build: Build, setup: Setup, compute_s: dict[int, float] | None = None) -> dict[str, Any]:
    """Results of one setup: operations, times, volumes, proof, programs; and its final stock as a mesh."""
    summary, _ = build.proof(setup)
    low, high = stock_box(setup, build.frame(setup), build.solid)
    order = summary["operations_in_order"]
    final = build.proof_stock(setup, order[-1] if order else None)
    mesh = stock_mesh(final)
    programs = [{"file": p.name, "dialect": setup.dialect, "setup": setup.id, "operations": p.operations,
                 "lines": p.lines, "time_s": sum(summary["time_by_operation"].get(str(n), 0.0) for n in p.operations),
                 "sha256": sha256(p.text)} for p in build.programs(setup)]
    return {
        "operations": operation_rows(build, setup, compute_s),
        "setup": {"name": setup.name or setup.id, "time_s": summary["time_s"],
                  "stock_before_mm3": float(np.prod(high - low)), "stock_after_mm3": abs(mesh.volume_mm3())},
        "proof": {"findings": summary["findings"], "deviation": summary["deviation"],
                  "program_vs_path_mm": summary["program_vs_path_mm"]},
        "programs": programs, "stock_mesh": mesh,
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
    return {"findings": [f for p in proofs for f in p["findings"]], "deviation": worst,
            "program_vs_path_mm": max((p["program_vs_path_mm"] for p in proofs), default=0.0)}


def cl_texts(build: Build, setup: Setup) -> dict[str, str]:
    """Cutter location data by file name."""
    zero = build.zero(setup)
    return {f"{o.number:03d}.cl": cutter_location(o.number, o.name, build.job.tool(o.tool), build.rpm(o),
                                                  build.path(o).toolpath.moved(-zero))
            for o in build.job.route(setup)}


def stl_bytes(mesh: Mesh) -> bytes:
    """Binary STL."""
    corners = mesh.corners().astype("<f4")
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    record = np.zeros(len(corners), np.dtype([("n", "<f4", 3), ("c", "<f4", (3, 3)), ("a", "<u2")]))
    record["n"] = cross / np.maximum(np.linalg.norm(cross, axis=1), 1e-30)[:, None]
    record["c"] = corners
    return b"Fenrik".ljust(80) + struct.pack("<I", len(corners)) + record.tobytes()


_SHEET = """<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{{ job.name }} – setup sheet</title><style>
body{font:14px/1.45 system-ui,sans-serif;color:#22262a;margin:24px;max-width:900px}
h1{font-size:22px;margin:0 0 2px}h2{font-size:16px;margin:26px 0 6px;border-bottom:2px solid #1f7a6d}
table{border-collapse:collapse;width:100%;margin:6px 0}td,th{padding:4px 8px;border-bottom:1px solid #d9d6cf;text-align:left}
td.n,th.n{text-align:right;font-variant-numeric:tabular-nums}.f{color:#a8324a;font-weight:600}small{color:#5a6168}
dl{display:grid;grid-template-columns:max-content 1fr;gap:2px 16px}dt{color:#5a6168}dd{margin:0}
section{break-inside:avoid}</style></head><body>
<h1>{{ job.name }}</h1><small>Setup sheet · part {{ job.part.file }}</small>
{% for s in setups %}<section><h2>{{ s.setup.name or s.setup.id }}</h2><dl>
<dt>Machine</dt><dd>{{ s.setup.machine or "not chosen" }}</dd><dt>Controller</dt><dd>{{ s.setup.dialect }}</dd>
<dt>Stock</dt><dd>{{ "%.2f × %.2f × %.2f mm"|format(*s.size) }}</dd>
<dt>Work offset</dt><dd>G{{ s.setup.work_offset }}</dd><dt>Work zero</dt><dd>{{ s.zero_words }}</dd>
<dt>Up</dt><dd>{{ s.up_words }}</dd><dt>Time</dt><dd>{{ s.time }}</dd></dl>
<table><tr><th class="n">No.</th><th>Operation</th><th>Tool</th><th class="n">rpm</th><th class="n">Feed</th><th class="n">Allowance</th><th class="n">Time</th></tr>
{% for o in s.operations %}<tr><td class="n">{{ o.number }}</td><td>{{ o.name or o.strategy }}</td><td>T{{ o.tool }}</td><td class="n">{{ "%.0f"|format(o.rpm) }}</td>
<td class="n">{{ "%.0f"|format(o.feed) }}</td><td class="n">{{ "%.2f"|format(o.allowance) }}</td><td class="n">{{ o.time }}</td></tr>{% endfor %}</table>
<table><tr><th>Tool</th><th>Description</th><th class="n">⌀ mm</th><th class="n">Cutting length</th><th class="n">Stick-out</th></tr>
{% for t in s.tools %}<tr><td>T{{ t.number }}</td><td>{{ t.label }}</td><td class="n">{{ "%.3f"|format(t.cutter.diameter_mm) }}</td>
<td class="n">{{ "%.1f"|format(t.cutter.flute_length_mm) }}</td><td class="n">{{ "%.1f"|format(t.stick_out_mm) }}</td></tr>{% endfor %}</table>
<table><tr><th>Program</th><th class="n">Lines</th><th>SHA-256</th></tr>{% for p in s.programs %}<tr><td>{{ p.file }}</td><td class="n">{{ p.lines }}</td><td><small>{{ p.sha256[:16] }}…</small></td></tr>{% endfor %}</table>
{% if s.faults %}<p class="f">{{ s.faults }} findings of fault severity are open in the proof.</p>{% else %}<p>Proof: no faults. Deviation {{ "%.3f to %.3f mm"|format(s.low, s.high) }}.</p>{% endif %}
</section>{% endfor %}</body></html>"""

_sheet = Environment(autoescape=True).from_string(_SHEET)


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
        low, high = stock_box(setup, build.frame(setup), build.solid)
        route = build.job.route(setup)
        times = {o["number"]: o["time_s"] for o in report["operations"]}
        setups.append({
            "setup": setup, "size": tuple(high - low), "time": clock(report["setup"]["time_s"]),
            "zero_words": _zero_words(setup), "up_words": getattr(setup.up, "axis", "a picked face"),
            "operations": [{"number": o.number, "name": o.name, "strategy": o.params.strategy, "tool": o.tool,
                            "rpm": build.rpm(o), "feed": build.feeds(o).cutting, "allowance": o.params.allowance_mm,
                            "time": clock(times.get(o.number, 0.0))} for o in route],
            "tools": [build.job.tool(n) for n in dict.fromkeys(o.tool for o in route)],
            "programs": report["programs"],
            "faults": sum(f["severity"] == "fault" for f in report["proof"]["findings"]),
            "low": report["proof"]["deviation"]["min_mm"], "high": report["proof"]["deviation"]["max_mm"],
        })
    return _sheet.render(job=build.job, setups=setups)


def _zero_words(setup: Setup) -> str:
    zero = setup.work_zero
    if zero.kind == "point":
        return f"{zero.of} of the part"
    names = ({-1: "left", 0: "middle", 1: "right"}, {-1: "front", 0: "middle", 1: "back"},
             {-1: "bottom", 0: "middle", 1: "top"})
    return f"{zero.of} box, " + ", ".join(n[v] for n, v in zip(names, zero.at, strict=True))

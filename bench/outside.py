"""Parts from outside: random solids from a file to proven programs, against what a three-axis machine could do.

`python bench/run.py outside` runs all seeds, which takes hours; ended in between, it goes on where it was as long as no
source changes. `python bench/outside.py 7 12` tells of some.
"""

from __future__ import annotations

import hashlib
import json
import os
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np

from common import show
from feeds import edge_feeds
from solids import random_solid

HERE = Path(__file__).parent
ROOT = HERE.parent
SEEDS = 300
CHUCK_MM = 14.0
ASKED = 60_000
"""Places of a surface for which one asks what could be made of it."""
LOOKED_AT = 60
APART_MM = 0.05
"""What a patch may be off beyond the operations' tolerance before it must be told."""


def job_of(name: str) -> dict[str, Any]:
    """A job as the first clicks make it: stock with 2 mm all round, the shop's materials and machine."""
    from fenrik.demo.jobs.rows import SIDES
    from fenrik.demo.own import MACHINES
    from fenrik.demo.shop import SHOP_MATERIALS

    stock = {"kind": "box", **dict.fromkeys(SIDES, 2), "z_minus_mm": 2, "z_plus_mm": 2}
    return {
        "name": name,
        "part": {"file": "part.step"},
        "machines": MACHINES,
        "materials": SHOP_MATERIALS,
        "material": "Aluminium, wrought",
        "recipe": {"threads": "leave plain"},  # the truth has no threads in its bores
        "setups": [{"id": "first", "machine": MACHINES[0]["name"], "stock": stock}],
    }


def held(build: Any) -> Any:
    """The setup with the best side up, 2 mm of stock all round."""
    from fenrik.core.planning import first_setup

    first, plain = first_setup(build).setup, build.job.setups[0]
    return plain.model_copy(update={"up": first.up, "spin_deg": first.spin_deg})


def result_of(seed: int) -> dict[str, Any]:
    """One solid from its file to proven programs, and what came of it."""
    from fenrik.core.solids.reading import solid_from_shape
    from fenrik.core.solids.writing import write_solid

    made = random_solid(seed)
    data = write_solid(solid_from_shape(made.shape), ".step")
    return {"seed": seed, "words": made.words, **planned(data, f"seed {seed}")}


def planned(data: bytes, name: str) -> dict[str, Any]:
    """From the bytes of a STEP file to figures."""
    from fenrik.core.build import Build
    from fenrik.core.job_reading import parse_job
    from fenrik.core.planning import propose_sides, with_route
    from fenrik.core.planning.lying import STRATEGY_FOR
    from fenrik.core.report import air_shares
    from fenrik.core.store import MemoryStore
    from fenrik.core.tools import Tool
    from fenrik.demo.shop import SHOP_TOOLS

    began = time.perf_counter()
    shop, store = [Tool.model_validate(t) for t in SHOP_TOOLS], MemoryStore()
    build = Build(parse_job(job_of(name)), data, store)
    build = build.with_job(build.job.model_copy(update={"setups": [held(build)]}))
    found = propose_sides(build, shop)
    build = build.with_job(with_route(build.job, found))
    routed = time.perf_counter() - began
    result: dict[str, Any] = {
        "rows": [
            f"{o.setup} {o.number} {o.name} T{o.tool} ⌀{build.job.tool(o.tool).cutter.diameter_mm:g}"
            for o in build.job.operations
        ],
        "proposal_s": routed,
        "findings": [],
        "told": [u.words + ": " + u.why for u in found.uncovered],
    }
    setups = [s for s in build.job.setups if build.job.route(s)]
    cut_mm = air_mm = 0.0
    finishing = {name for duty, name in STRATEGY_FOR.items() if duty != "level"}
    for setup in setups:
        build.compute(setup)
        summary, columns = build.proof(setup)
        result["findings"] += [f for f in summary["findings"] if f["severity"] == "fault"]
        shares = air_shares(columns)
        for o in build.job.route(setup):
            if o.params.strategy not in finishing:
                cut = build.outcome(o).toolpath.cut_length_mm()
                cut_mm, air_mm = cut_mm + cut, air_mm + cut * shares.get(o.number, 0.0)
    result["unreached"] = {
        o.number: [u.reason for u in build.outcome(o).unreached][:4]
        for o in build.job.operations
        if build.outcome(o).unreached
    }
    result["edges"] = edge_feeds(build, setups)
    result |= {"air": air_mm / max(cut_mm, 1e-9), "cut_mm": cut_mm, "seconds": time.perf_counter() - began}
    result |= surface_of(build, setups)
    return result


def surface_of(build: Any, setups: list[Any]) -> dict[str, Any]:
    """How much of the surface is finished, how much could be, how deep anything is cut under it, and what nobody
    told."""
    from fenrik.core.planning import measured_finish
    from fenrik.core.solids.reading import mesh_at
    from fenrik.core.stock.standing import standing

    last = setups[-1] if setups else build.job.setups[0]
    route = build.job.route(last)
    stock = build.stock_after(route[-1]) if route else build.first_stock(last)
    mesh = mesh_at(build.solid, 0.005)
    found = standing(stock, mesh.in_frame(build.frame(last)))
    tolerance = min((o.params.tolerance_mm for o in build.job.operations), default=0.0)
    off = found.over_mm > tolerance + APART_MM
    told: dict[int, float] = {}
    if setups:
        finish = measured_finish(build)
        told = {x.face: x.area_mm2 for x in finish.left_over} if finish is not None else {}
    area = found.area_mm2
    # A share of the surface needs no more places than this to be known to a tenth of a percent.
    asked = np.sort(np.random.default_rng(0).permutation(len(area))[:ASKED])
    could = np.zeros(len(area), bool)
    could[asked] = could_be_made(
        build,
        mesh,
        build.frame(last).to_part(found.place[asked]),
        found.normal[asked] @ build.frame(last).rotation.T,
        setups,
    )
    left = {}
    for face in np.unique(found.face[off]):
        mine = off & (found.face == face)
        left[int(face)] = [
            float(area[mine].sum()),
            float(found.over_mm[mine].max()),
            build.solid.faces[face].kind,
            float((area * (mine & could)).sum() * len(area) / len(asked)),
        ]
    worst = sorted(left.items(), key=lambda kv: -kv[1][0])[:8]
    return {
        "area": float(area.sum()),
        "finished": float(area[~off].sum() / area.sum()),
        "could": float(area[could].sum() / area[asked].sum()),
        "of_could": float(area[could & ~off].sum() / max(area[could].sum(), 1e-9)),
        "untold": sum(max(v[0] - told.get(f, 0.0), 0.0) for f, v in left.items()) / float(area.sum()),
        "gouge_mm": deepest(build, last, stock),
        "left": worst,
    }


def deepest(build: Any, setup: Any, stock: Any) -> float:
    """How deep the cut surface lies inside the part by Open CASCADE, of the places that Fenrik takes for the deepest and
    as many others."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeVertex
    from OCP.BRepClass3d import BRepClass3d_SolidClassifier
    from OCP.BRepExtrema import BRepExtrema_DistShapeShape
    from OCP.gp import gp_Pnt
    from OCP.TopAbs import TopAbs_IN

    from fenrik.core.contact.distance import signed_distances

    places, _, _ = stock.hits()
    order = np.argsort(signed_distances(build.part_distances(setup), places).mm)
    others = np.random.default_rng(0).permutation(len(places))[:LOOKED_AT]
    shape, worst = build.solid.shape(), 0.0
    inside = BRepClass3d_SolidClassifier(shape)
    for place in build.frame(setup).to_part(places[[*order[:LOOKED_AT], *others]]):
        inside.Perform(gp_Pnt(*place), 1e-7)
        if inside.State() == TopAbs_IN:
            at = BRepBuilderAPI_MakeVertex(gp_Pnt(*place)).Vertex()
            worst = max(worst, BRepExtrema_DistShapeShape(at, shape).Value())
    return worst


def could_be_made(build: Any, mesh: Any, places: np.ndarray, normals: np.ndarray, setups: list[Any]) -> np.ndarray:
    """Which places some cutter of the shop can touch from one of the setups with nothing of it in the part: judged by
    rays up from a ring round its end, which know nothing of how Fenrik finds places for tools."""
    from fenrik.core.solids.rays import RayCaster

    rays = RayCaster(mesh)
    could = np.zeros(len(places), bool)
    cutters = [(d / 2, False) for d in (2, 3, 6, 10, 16, 20)] + [(d / 2, True) for d in (2, 4, 6, 8, 12)]
    turn = np.arange(16) * 2 * np.pi / 16
    for setup in setups:
        frame = build.frame(setup)
        up = frame.rotation[:, 2]
        side = normals @ frame.rotation
        for radius, ball in cutters:
            open_ = np.flatnonzero(~could & (side[:, 2] > -1e-3))
            if len(open_) == 0:
                break
            n, p = side[open_], frame.to_local(places[open_])
            flat = np.hypot(n[:, 0], n[:, 1])
            if ball:
                centre = p + radius * n
                tip = centre - [0, 0, radius]
            else:
                out = n[:, :2] / np.maximum(flat, 1e-12)[:, None] * (flat > 1e-6)[:, None]
                tip = p + np.column_stack([radius * out, np.zeros(len(p))])
            tip = tip + 0.01 * n
            free = np.ones(len(open_), bool)
            for share in (0.0, 0.5, 1.0):
                r = radius * share * 0.995
                rise = radius - np.sqrt(max(radius**2 - r**2, 0.0)) if ball else 0.0
                for t in turn if share else turn[:1]:
                    begin = tip[free] + [r * np.cos(t), r * np.sin(t), rise + 0.005]
                    if not free.any():
                        break
                    hit = rays.first_hits(frame.to_part(begin), np.tile(up, (len(begin), 1)))
                    free[np.flatnonzero(free)[hit >= 0]] = False
            # The chuck of the longest tool of that diameter.
            for t in turn:
                begin = tip[free] + [CHUCK_MM * np.cos(t), CHUCK_MM * np.sin(t), min(15 * radius, 120) + 8]
                if free.any():
                    hit = rays.first_hits(frame.to_part(begin), np.tile(up, (len(begin), 1)))
                    free[np.flatnonzero(free)[hit >= 0]] = False
            good = open_[free]
            could[good] = True
    return could


def result_or_failure(seed: int) -> dict[str, Any]:
    """One that fails is a result as well."""
    try:
        return result_of(seed)
    except Exception as error:
        return {"seed": seed, "failed": f"{type(error).__name__}: {error}"}


def work_on(kept: Path) -> None:
    """Seed after seed that nobody has taken; a file without a result says that somebody has."""
    for seed in range(1, SEEDS + 1):
        try:
            with (kept / f"{seed}.json").open("x") as file:
                file.write(json.dumps(result_or_failure(seed), default=float))
        except FileExistsError:
            continue


def outside() -> None:
    """All seeds that have no result of these sources yet, as many processes as there are cores."""
    kept = ROOT / ".run" / "outside" / sources()
    kept.mkdir(parents=True, exist_ok=True)
    for file in kept.glob("*.json"):
        if not file.stat().st_size:
            file.unlink()  # taken by a run that was ended
    command = [sys.executable, str(Path(__file__)), "--into", str(kept)]
    alone = {**os.environ, "NUMBA_NUM_THREADS": "1"}
    running = [subprocess.Popen(command, env=alone) for _ in range(os.cpu_count() or 1)]
    for process in running:
        process.wait()
    tell([json.loads(file.read_text()) for file in sorted(kept.glob("*.json"))])


def sources() -> str:
    """Hash of the core and of this bench."""
    from fenrik.core.sources import all_sources

    own = b"".join(file.read_bytes() for file in sorted(HERE.glob("*.py")))
    return hashlib.sha256(all_sources().encode() + own).hexdigest()[:16]


def tell(results: list[dict[str, Any]]) -> None:
    done = [r for r in results if "failed" not in r]
    share = np.array([r["of_could"] for r in done])
    seconds = np.array([r["seconds"] for r in done])
    show(
        "parts from outside",
        float(np.median(share)),
        "median 0.97, worst tenth 0.90",
        f"{len(results)} solids, {len(results) - len(done)} failed; of what could be made: median {100 * np.median(share):.1f} %, "
        f"tenth {100 * np.quantile(share, 0.1):.1f} %; untold at most {100 * max(r['untold'] for r in done):.2f} %; cut under the surface by at most {max(r['gouge_mm'] for r in done):.3f} mm; with faults {sum(bool(r['findings']) for r in done)}; "
        f"air {100 * sum(r['air'] * r['cut_mm'] for r in done) / sum(r['cut_mm'] for r in done):.1f} %; arcs with the edge over a tenth too fast {sum(r['edges']['fast_mm'] for r in done):.2f} (at walls cut before {sum(r['edges']['fast_at_cut_walls_mm'] for r in done):.0f}), too slow untold {sum(r['edges']['slow_mm'] for r in done):.0f} of {sum(r['edges']['arcs_mm'] for r in done):.0f} mm; {np.median(seconds):.0f} s, at most {seconds.max():.0f} s",
    )


BENCHES = {"outside": outside}

if __name__ == "__main__":
    if sys.argv[1:2] == ["--into"]:
        work_on(Path(sys.argv[2]))
    else:
        for number in sys.argv[1:]:
            print(json.dumps(result_or_failure(int(number)), default=float), flush=True)

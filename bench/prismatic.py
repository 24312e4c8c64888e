"""Benchmarks of prismatic work: a plate from STEP to proven code, pockets with many points, the order of holes."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import Any

import numpy as np

from common import show, timed
from fenrik.demo.plate import bench_plate, long_drills

# The engagement is measured by the raster that the tests use, not by the product.
sys.path.append(str(Path(__file__).parents[1] / "tests" / "core" / "strategies"))


def plate_job() -> dict[str, Any]:
    """The plate in a job as a person would set it up: stock with 1 mm over it, the shop's materials and machine."""
    from fenrik.demo.jobs.rows import SIDES
    from fenrik.demo.own import MACHINES
    from fenrik.demo.shop import SHOP_MATERIALS

    stock = {"kind": "box", **dict.fromkeys(SIDES, 2), "z_minus_mm": 0, "z_plus_mm": 1}
    return {
        "name": "bench plate",
        "part": {"file": "plate.step"},
        "machines": MACHINES,
        "materials": SHOP_MATERIALS,
        "material": "Aluminium, wrought",
        "setups": [
            {
                "id": "top",
                "machine": MACHINES[0]["name"],
                "stock": stock,
                "work_zero": {"kind": "box point", "of": "part", "at": [-1, -1, 1]},
            }
        ],
    }


READ_S = 1.55
"""Seconds in which the machine of the bars would read the plate's file: worked out, not measured, from the 37 s that
route and paths took there with code that takes some 24 readings for them; readings themselves vary by half."""


def plate() -> None:
    """From a STEP file to a route that leaves nothing uncovered, computed and proven; against reading the file alone.

    The bars are 25 s for route and paths, 35 s for proven, on a machine that reads the file in `READ_S`.
    """
    from prism import engaged_arcs

    from fenrik.core.build import Build
    from fenrik.core.build.picks import targets_of
    from fenrik.core.job_reading import parse_job
    from fenrik.core.planning import coverage, propose_route
    from fenrik.core.regions.polygons import to_shape
    from fenrik.core.solids.reading import read_solid, solid_from_shape
    from fenrik.core.solids.writing import write_solid
    from fenrik.core.store import MemoryStore
    from fenrik.core.toolpath import Kind
    from fenrik.core.tools import Tool
    from fenrik.core.warm import warm_process
    from fenrik.demo.shop import SHOP_TOOLS

    data = write_solid(solid_from_shape(bench_plate()), ".step")
    warm_process()  # as a worker does that waits for work
    before = timed(lambda: read_solid(data, "plate.step"))
    began = time.perf_counter()
    job = parse_job(plate_job())
    shop = [Tool.model_validate(t) for t in [*SHOP_TOOLS, *long_drills()]]
    store = MemoryStore()
    setup = job.setups[0]
    proposal = propose_route(Build(job, data, store), setup, shop)
    job = job.model_copy(update={"operations": proposal.operations, "tools": proposal.tools})
    build = Build(job, data, store)
    left = coverage(build)
    planned = time.perf_counter() - began
    build.compute(setup, with_proof=False)
    computed = time.perf_counter() - began
    summary, _ = build.proof(setup)
    proven = time.perf_counter() - began
    alone = (before + timed(lambda: read_solid(data, "plate.step"))) / 2  # a machine's speed changes meanwhile
    clearing = [o for o in job.operations if o.params.strategy == "pocket clearing"]
    areas = [targets_of(build, o).areas for o in clearing]
    retracts = sum(int(np.sum(build.path(o).toolpath.kind == Kind.RETRACT)) for o in clearing)
    first = [a for a in areas[0] if a.floor == areas[0][0].floor]
    region = to_shape([r for a in first for r in a.rings])
    radius = job.tool(clearing[0].tool).cutter.radius_mm
    wide = float(np.mean(engaged_arcs(build.path(clearing[0]).toolpath, radius, first[0].floor, region, 0.25) > 170))
    kinds: dict[str, int] = {}
    for finding in summary["findings"]:
        kinds[finding["kind"]] = kinds.get(finding["kind"], 0) + 1
    untold = sum(len(build.path(o).unreached) for o in job.operations)
    show(
        "plate from STEP to route",
        computed / alone,
        f"at most {25 / READ_S:.0f}",
        f"{len(job.operations)} operations, {left.features} features, {len(left.uncovered)} uncovered; "
        f"route {planned:.1f} s, paths and stock {computed:.1f} s, proven {proven:.1f} s; "
        f"{retracts} retracts in {sum(map(len, areas))} pockets of {len(clearing)} rows, {100 * wide:.2f} % of cuts over 170°; findings {kinds or 'none'}; {untold} reports",
    )
    show("plate proven", proven / alone, f"at most {35 / READ_S:.1f}", f"reading the file alone {alone:.2f} s")
    for o in job.operations:
        told = build.path(o).unreached
        print(
            f"    {o.number} {o.name} T{o.tool} {o.params.strategy}"
            + (f": {told[0].reason} (+{len(told) - 1})" if told else "")
        )
    for u in left.uncovered[:5] + proposal.uncovered[:5]:
        print("    left:", u.name, u.words, u.why)


def ragged(points: int) -> list[np.ndarray]:
    """A pocket outline of very many points: a gear-like ring with waves."""
    turn = np.linspace(0, 2 * np.pi, points, endpoint=False)
    radius = 100 + 12 * np.sin(9 * turn) + 0.8 * np.sin(131 * turn)
    return [radius[:, None] * np.column_stack([np.cos(turn), np.sin(turn)])]


def pocket() -> None:
    """Offset passes of a pocket with 20 000 boundary points, against the bare Clipper2 offsets that it needs."""
    import fenrik.core.strategies.pocket_clearing as clearing
    from fenrik.core.regions import offset
    from fenrik.core.strategies.ground.fronts import in_order

    def ours(region: list[np.ndarray]) -> list[tuple[list[np.ndarray], float]]:
        """The passes in order, with their arcs; gives the offsets that were needed on the way."""
        needed: list[tuple[list[np.ndarray], float]] = []

        def kept(shape: list[np.ndarray], distance: float, tolerance: float = 5e-4) -> list[np.ndarray]:
            needed.append((shape, distance))
            return offset(shape, distance, tolerance)

        clearing.offset = kept
        fronts = clearing.offset_rings(kept(region, -4.0, clearing.ARC_FIT_MM), 3.2)
        clearing.offset = offset
        for k in in_order(fronts, np.zeros(2)):
            clearing.pass_curve(fronts[k].points)
        return needed

    ours(ragged(2000))
    seconds = {}
    for points in (5000, 10_000, 20_000):
        region = ragged(points)
        needed = [n for n in ours(region) if n[1] < 0]
        bare = timed(lambda n=needed: [offset(shape, d, clearing.ARC_FIT_MM) for shape, d in n])
        seconds[points] = (timed(lambda r=region: ours(r)), bare)
    a, b = seconds[20_000]
    growth = a / seconds[5000][0]
    show(
        "pocket of 20 000 points",
        a / b,
        "at most 3",
        f"{a:.2f} s, bare offsets {b:.2f} s; 4 × the points cost {growth:.1f} ×",
    )


def tour() -> None:
    """The way over 200 holes against the best found by a general-purpose solver in ten seconds."""
    from ortools.constraint_solver import pywrapcp, routing_enums_pb2

    from fenrik.core.toolpath.tour import visiting_order

    places = np.random.default_rng(11).uniform(0, 400, (200, 2))
    visiting_order(places[:20], "shortest way")
    order = visiting_order(places, "shortest way")
    seconds = timed(lambda: visiting_order(places, "shortest way"), 1)
    mine = float(np.linalg.norm(np.diff(places[order], axis=0), axis=1).sum())
    first = int(order[0])
    # An open tour: going home costs nothing.
    away = np.round(np.linalg.norm(places[:, None] - places[None], axis=2) * 1000).astype(int)
    away[:, first] = 0
    manager = pywrapcp.RoutingIndexManager(200, 1, first)
    routing = pywrapcp.RoutingModel(manager)
    callback = routing.RegisterTransitCallback(lambda i, j: int(away[manager.IndexToNode(i), manager.IndexToNode(j)]))
    routing.SetArcCostEvaluatorOfAllVehicles(callback)
    parameters = pywrapcp.DefaultRoutingSearchParameters()
    parameters.first_solution_strategy = routing_enums_pb2.FirstSolutionStrategy.PATH_CHEAPEST_ARC
    parameters.local_search_metaheuristic = routing_enums_pb2.LocalSearchMetaheuristic.GUIDED_LOCAL_SEARCH
    parameters.time_limit.seconds = 10
    theirs = routing.SolveWithParameters(parameters).ObjectiveValue() / 1000
    show(
        "order of 200 holes",
        mine / theirs,
        "at most 1.05",
        f"{mine:.0f} mm in {seconds:.2f} s, solver {theirs:.0f} mm in 10 s",
    )


BENCHES = {f.__name__: f for f in (plate, pocket, tour)}

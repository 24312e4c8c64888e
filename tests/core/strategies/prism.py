"""Plates with known pockets and holes, run through an operation and cut."""

import json

import numpy as np
import shapely

from fenrik.core.build import Build
from fenrik.core.build.picks import absolute_params
from fenrik.core.job_reading import parse_job
from fenrik.core.solids.reading import solid_from_shape
from fenrik.core.solids.references import edge_reference_to, reference_to
from fenrik.core.solids.writing import write_solid
from fenrik.core.store import MemoryStore
from fenrik.core.strategies.registry import run_strategy
from fenrik.core.toolpath import Kind


def tool(number, cutter, stick_out=60.0, **rest):
    return {
        "number": number,
        "cutter": {"flute_length_mm": 40, **cutter},
        "stick_out_mm": stick_out,
        "spindle_rpm": 6000,
        "cutting_feed_mm_min": 900,
        "entry_feed_mm_min": 300,
        "exit_feed_mm_min": 3000,
        **rest,
    }


def flat(diameter=8.0, **rest):
    return {"kind": "flat", "diameter_mm": diameter, "flutes": 3, **rest}


def job_for(shape, operations, cutters, stock=None, **rest):
    """A job with one setup on a shape; operations are (tool number, params)."""
    data = {
        "name": "bench piece",
        "part": {"file": "part.step"},
        "tools": [tool(n, c) for n, c in cutters.items()],
        "setups": [
            {
                "id": "top",
                "stock": stock or {"kind": "box", "z_plus_mm": 0},
                "work_zero": {"kind": "box point", "of": "part", "at": [-1, -1, 1]},
            }
        ],
        "operations": [
            {"number": 10 * (k + 1), "setup": "top", "tool": n, "params": p} for k, (n, p) in enumerate(operations)
        ],
        "cell_mm": 0.25,
        **rest,
    }
    return Build(parse_job(json.loads(json.dumps(data))), write_solid(solid_from_shape(shape), ".step"), MemoryStore())


def faces(build, *tests):
    """References to the faces that pass every test (face → bool)."""
    solid = build.solid
    found = [reference_to(solid, i).model_dump() for i, f in enumerate(solid.faces) if all(t(f) for t in tests)]
    assert found
    return [{"kind": "faces", "faces": found}]


def edges(build, test):
    solid = build.solid
    found = [edge_reference_to(solid, i).model_dump() for i, e in enumerate(solid.edges) if test(e)]
    assert found
    return [{"kind": "edges", "edges": found}]


def floor_at(z):
    return lambda f: f.kind == "plane" and f.normal[2] > 0.999 and abs(f.centroid[2] - z) < 1e-6


def bore(radius):
    return lambda f: f.kind == "cylinder" and f.concave and abs(f.radius_mm - radius) < 1e-6


def with_targets(build, number, targets):
    """The same job with the targets of an operation put in."""
    data = json.loads(build.job.model_dump_json())
    next(o for o in data["operations"] if o["number"] == number)["params"]["targets"] = targets
    return build.with_job(parse_job(data))


def run(build, number=10):
    operation = next(o for o in build.job.operations if o.number == number)
    return build.path(operation)


def made(build, number=10):
    """What the strategy alone makes, whatever stock stands in the way of it."""
    operation = next(o for o in build.job.operations if o.number == number)
    return run_strategy(build.link_of(operation).given, absolute_params(build, operation))


def proof(build):
    setup = build.job.setups[0]
    build.compute(setup)
    return build.proof(setup)


def axis_ways(path, kinds=(Kind.CUT, Kind.LINK, Kind.ENTRY), level=None):
    """The plan of chosen motions as lines (arcs within 1 µm)."""
    flat_path, _ = path.flattened(0.001)
    start = np.vstack([flat_path.point[:1], flat_path.point[:-1]])
    keep = np.isin(flat_path.kind, kinds)
    if level is not None:
        keep &= np.abs(flat_path.point[:, 2] - level) < 1e-6
    return shapely.linestrings(np.stack([start[keep][:, :2], flat_path.point[keep][:, :2]], axis=1))


def swept_area(path, radius, level=None):
    ways = axis_ways(path, (Kind.CUT,), level)
    return shapely.union_all(shapely.buffer(ways, radius, quad_segs=64))


def worst_outside(path, allowed, kinds=(Kind.CUT, Kind.LINK, Kind.ENTRY)):
    """How far the axis leaves an allowed region, mm."""
    ways = axis_ways(path, kinds)
    boundary = allowed.boundary
    worst = 0.0
    for way in ways:
        outside = way.difference(allowed)
        if not outside.is_empty:
            worst = max(worst, max(boundary.distance(shapely.Point(p)) for p in shapely.get_coordinates(outside)))
    return worst


def engaged_arcs(path, radius, level, region, cell=0.1):
    """Arc of the cutter in material along the cuts at a level, (n,) degrees, one for each step of 0.5 mm."""
    return engaged_sides(path, radius, level, region, cell)[:, 1:].sum(axis=1)


def engaged_sides(path, radius, level, region, cell=0.1):
    """Arcs of the cutter in material along the cuts at a level, by a raster of its own (CHECKS: an area raster).

    Args:
        region: Shapely area that stands as material at first.

    Returns:
        (n, 3), one row for each step of 0.5 mm along the cuts: number of the motion, degrees on the left and on the
        right of the way.
    """
    flat, motion = path.flattened(0.01)
    low, high = np.array(region.bounds[:2]) - radius, np.array(region.bounds[2:]) + radius
    size = np.ceil((high - low) / cell).astype(int) + 1
    x, y = low[0] + cell * np.arange(size[0]), low[1] + cell * np.arange(size[1])
    material = shapely.contains_xy(region, *np.meshgrid(x, y, indexing="ij"))
    turn = np.deg2rad(np.arange(0.5, 360))
    rim = (radius - cell / 2) * np.column_stack([np.cos(turn), np.sin(turn)])
    around = np.arange(-int(radius / cell) - 1, int(radius / cell) + 2)
    disc = (around[:, None] ** 2 + around[None, :] ** 2) * cell**2 <= radius**2
    found = []
    for i in range(1, len(flat)):
        if abs(flat.point[i, 2] - level) > 1e-6 or flat.kind[i] not in (Kind.CUT, Kind.LINK, Kind.ENTRY):
            continue
        a, b = flat.point[i - 1, :2], flat.point[i, :2]
        steps = max(int(np.ceil(np.linalg.norm(b - a) / 0.5)), 1)
        ahead = rim @ (b - a) > 0
        left = rim[ahead] @ [a[1] - b[1], b[0] - a[0]] > 0
        for k in range(1, steps + 1):
            centre = a + (b - a) * k / steps
            at = np.clip(np.rint((centre + rim[ahead] - low) / cell).astype(int), 0, size - 1)
            if flat.kind[i] == Kind.CUT:
                stands = material[at[:, 0], at[:, 1]]
                found.append((motion[i], (stands & left).sum(), (stands & ~left).sum()))
            mid = np.rint((centre - low) / cell).astype(int)
            rows, columns = mid[0] + around, mid[1] + around
            inside = np.ix_(rows[(rows >= 0) & (rows < size[0])], columns[(columns >= 0) & (columns < size[1])])
            material[inside] &= ~disc[np.ix_((rows >= 0) & (rows < size[0]), (columns >= 0) & (columns < size[1]))]
    return np.array(found, float).reshape(-1, 3)

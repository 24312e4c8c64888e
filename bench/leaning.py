"""Leaning tools on random solids: how deep the cutter goes into the exact faces, by dense places of the faces and of the
motions, with no code of the strategies."""

from __future__ import annotations

import sys
import time
from dataclasses import dataclass
from typing import Any

import numba
import numpy as np

from common import show
from solids import random_solid

SEEDS = 40
FINE_MM = 0.0005
HEIGHTS, PLACES_MM, STEP_MM = 400, 0.15, 0.2
TOLERANCE_MM = 0.01


def deepest(path: Any, profile: Any, mesh: Any, kinds: Any) -> tuple[float, np.ndarray]:
    """How deep places of a surface come to lie in the cutter along the motions of some kinds, mm, and where.

    Args:
        mesh: triangles so near to the exact faces as the figure is to be right.
    """
    from scipy.spatial import KDTree

    tip, axis = _stations(path, kinds)
    if len(tip) == 0:
        return 0.0, np.zeros(3)
    reach = float(np.hypot(profile.radius_mm, profile.top_mm - profile.bottom_mm)) / 2 + profile.radius_mm
    middle = tip + 0.5 * (profile.bottom_mm + profile.top_mm) * axis
    places = _dense(mesh, KDTree(middle), reach)
    if len(places) == 0:
        return 0.0, np.zeros(3)
    depth, nearest = np.empty(len(tip)), np.empty(len(tip), np.int64)
    _deepest_places(tip, axis, np.ascontiguousarray(places), _outline(profile), depth, nearest)
    k = int(depth.argmax())
    return max(float(depth[k]), 0.0), places[nearest[k]]


def _outline(profile: Any) -> np.ndarray:
    """The cutter's outline (n, 2) from the tip up, radius and height, as short chords."""
    heights = np.unique(np.append(np.linspace(profile.bottom_mm, profile.top_mm, HEIGHTS), profile.bands[:, :2]))
    radii = np.maximum([profile.radius_at(float(z)) for z in heights], 0.0)
    # Above it the tool goes on: only the bottom and the sides count.
    return np.vstack([[0.0, heights[0]], np.column_stack([radii, heights])])


@numba.njit(parallel=True, cache=True)
def _deepest_places(tips: Any, axes: Any, places: Any, outline: Any, depth: Any, nearest: Any) -> None:
    widest, low, high = outline[:, 0].max(), outline[0, 1], outline[-1, 1]
    for i in numba.prange(len(tips)):
        depth[i], nearest[i] = 0.0, 0
        for j in range(len(places)):
            x, y, z = places[j, 0] - tips[i, 0], places[j, 1] - tips[i, 1], places[j, 2] - tips[i, 2]
            h = x * axes[i, 0] + y * axes[i, 1] + z * axes[i, 2]
            r2 = x * x + y * y + z * z - h * h
            if h <= low or h >= high or r2 >= widest * widest:
                continue
            r = np.sqrt(max(r2, 0.0))
            k = np.searchsorted(outline[1:, 1], h)
            r0, z0, r1, z1 = outline[k, 0], outline[k, 1], outline[k + 1, 0], outline[k + 1, 1]
            if k > 0 and r >= r0 + (r1 - r0) * (h - z0) / max(z1 - z0, 1e-12):
                continue
            best = np.inf
            for q in range(len(outline) - 1):
                ar, az = outline[q, 0], outline[q, 1]
                dr, dz = outline[q + 1, 0] - ar, outline[q + 1, 1] - az
                size = dr * dr + dz * dz
                t = 0.0 if size == 0.0 else min(max(((r - ar) * dr + (h - az) * dz) / size, 0.0), 1.0)
                best = min(best, (r - ar - t * dr) ** 2 + (h - az - t * dz) ** 2)
            if np.sqrt(best) > depth[i]:
                depth[i], nearest[i] = np.sqrt(best), j


def _stations(path: Any, kinds: Any) -> tuple[np.ndarray, np.ndarray]:
    """The tool at short steps along motions: straight, the axis turning evenly."""
    steps = path.poses(0.001)
    steps = steps.rows(np.isin(path.kind[steps.source], kinds))
    tips, axes = [], []
    for a, b, u, v in zip(steps.start, steps.end, steps.start_axis, steps.end_axis, strict=True):
        count = max(int(np.ceil(np.linalg.norm(b - a) / STEP_MM)), 2)
        share = np.linspace(0.0, 1.0, count)[:, None]
        turn = u + share * (v - u)
        tips.append(a + share * (b - a))
        axes.append(turn / np.linalg.norm(turn, axis=1, keepdims=True))
    return (np.vstack(tips), np.vstack(axes)) if tips else (np.zeros((0, 3)), np.zeros((0, 3)))


def _dense(mesh: Any, near: Any, reach: float) -> np.ndarray:
    """Places of triangles, close to one another, as far as they lie near the tool somewhere."""
    corners, rng = mesh.corners(), np.random.default_rng(1)
    found = [mesh.vertices]
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    # Large triangles are split until each piece is small against the tool, so that far ones can be dropped.
    while len(corners):
        size = np.linalg.norm(corners - corners[:, [1, 2, 0]], axis=2).max(axis=1)
        middle = corners.mean(axis=1)
        away, _ = near.query(middle)
        keep = away < reach + size
        corners, area, size = corners[keep], area[keep], size[keep]
        large = size > reach
        small = corners[~large]
        count = np.ceil(area[~large] / PLACES_MM**2).astype(int) + 1
        row = np.repeat(np.arange(len(small)), count)
        u, v = rng.random(len(row)), rng.random(len(row))
        over = u + v > 1
        u[over], v[over] = 1 - u[over], 1 - v[over]
        a, b, c = small[row, 0], small[row, 1], small[row, 2]
        found.append(a + u[:, None] * (b - a) + v[:, None] * (c - a))
        corners, area = _quartered(corners[large], area[large])
    return np.vstack(found)


def _quartered(corners: np.ndarray, area: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    ab, bc, ca = (a + b) / 2, (b + c) / 2, (c + a) / 2
    pieces = [np.stack(p, axis=1) for p in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))]
    return np.vstack(pieces) if len(corners) else corners, np.tile(area / 4, 4)


CUTTERS = (
    {"kind": "ball", "diameter_mm": 6.0},
    {"kind": "ball", "diameter_mm": 2.0},
    {"kind": "bull-nose", "diameter_mm": 8.0, "corner_radius_mm": 1.5},
    {"kind": "flat", "diameter_mm": 6.0},
    {"kind": "chamfer mill", "diameter_mm": 8.0, "tip_diameter_mm": 0.5, "included_deg": 60.0, "flute_length_mm": 6.0},
    {"kind": "tapered", "diameter_mm": 3.0, "corner_radius_mm": 1.5, "taper_deg": 4.0},
)


@dataclass(frozen=True)
class Try:
    """One row on one made-up solid: how deep beyond what is meant, how long the cuts are, and what was told."""

    words: str
    over_mm: float
    cut_mm: float
    told: int
    where: np.ndarray


def follow(seed: int) -> Try | str:
    """Curve following along random edges of a random solid."""
    rng = np.random.default_rng(seed + 1000)
    solid, build = _job(seed)
    wanted = [i for i, e in enumerate(solid.edges) if e.turn in ("convex", "concave", "smooth") and e.length_mm > 2.0]
    first = wanted[int(rng.integers(len(wanted)))]
    chain = [first]
    if rng.random() < 0.5:
        face = solid.edges[first].faces[int(rng.integers(2))]
        chain = [i for i in wanted if face in solid.edges[i].faces]
    inner = solid.edges[first].turn == "concave"
    if inner:
        # In an inner edge a tool touches both faces; beside it there is no room for one that touches one of them.
        chain = [i for i in chain if solid.edges[i].turn == "concave"]
    depth = 0.0 if inner else float(rng.choice([0.0, 0.0, 0.3, 0.8]))
    params = {
        "strategy": "5-axis curve following",
        "normal_of": "both faces" if inner else str(rng.choice(["both faces", "left face", "right face"])),
        "lead_deg": float(rng.choice([0.0, 0.0, 10.0, -15.0])),
        "tilt_deg": 0.0 if inner else float(rng.choice([0.0, 0.0, 20.0, -30.0, 60.0])),
        "depth_mm": depth,
        "side_mm": 0.0 if inner else float(rng.choice([0.0, 0.0, 0.0, 1.5])),
        "run_on_mm": float(rng.choice([0.0, 2.0])),
        "run_off_mm": float(rng.choice([0.0, 2.0])),
        "tolerance_mm": TOLERANCE_MM,
    }
    cutter = CUTTERS[int(rng.integers(len(CUTTERS)))]
    return _tried(
        build, {"edges": [chain]}, params, cutter, f"{seed}: {len(chain)} edges, {cutter['kind']}, {params}", depth
    )


def swarf(seed: int) -> Try | str:
    """Swarf milling of the walls of a random ruled block, by its faces or between the edges at its foot and top."""
    rng = np.random.default_rng(seed + 2000)
    solid, build = _job_of(_ruled(rng))
    walls = [i for i, f in enumerate(solid.faces) if abs(f.normal[2]) < 0.95 or f.kind != "plane"]
    level = [
        {i for i, e in enumerate(solid.edges) if np.ptp(e.points[:, 2]) < 1e-6 and (e.middle[2] > 1.0) == top}
        for top in (0, 1)
    ]
    cutter = {"kind": str(rng.choice(["flat", "ball", "tapered"])), "diameter_mm": float(rng.choice([6.0, 10.0, 16.0]))}
    cutter |= {"flute_length_mm": 60.0}
    cutter |= {"corner_radius_mm": cutter["diameter_mm"] / 2, "taper_deg": 3.0} if cutter["kind"] == "tapered" else {}
    params = {
        "strategy": "swarf milling",
        "floor_clearance_mm": float(rng.choice([0.0, 0.5, -1.0])),
        "stepdown_mm": None if rng.random() < 0.6 else 8.0,
        "allowance_mm": float(rng.choice([0.0, 0.0, 0.2])),
        "tolerance_mm": TOLERANCE_MM,
    }
    by_edges = bool(rng.random() < 0.5)
    picks = {"edges": [sorted(g) for g in level]} if by_edges else {"faces": walls}
    return _tried(build, picks, params, cutter, f"{seed}: {picks}, {cutter['kind']}, {params}", 0.0)


def lay(seed: int) -> Try | str:
    """A circle drawn on one of the sides of a random solid, laid on it and followed on the surface or into it."""
    rng = np.random.default_rng(seed + 3000)
    solid, build = _job(seed)
    low, high = np.array(solid.mesh.bounds())
    size = float((high - low)[:2].min())
    circle = {
        "kind": "circle",
        "id": "c1",
        "x_mm": float(rng.uniform(-0.2, 0.2)) * size,
        "y_mm": float(rng.uniform(-0.2, 0.2)) * size,
        "radius_mm": float(rng.uniform(0.1, 0.4)) * size,
    }
    side = {
        "id": "drawn",
        "up": {"kind": "axis", "axis": str(rng.choice(["+z", "+x", "-y"]))},
        "stock": {"kind": "box"},
    }
    data = build.job.model_dump(mode="json")
    data["setups"].append(side | {"work_zero": {"kind": "box point", "of": "part", "at": [0, 0, 1]}})
    data["sketches"] = [{"id": "k1", "setup": "drawn", "items": [circle]}]
    depth = float(rng.choice([0.0, 0.2]))
    params = {
        "strategy": "5-axis curve following",
        "lead_deg": float(rng.choice([0.0, 15.0])),
        "depth_mm": depth,
        "side_mm": float(rng.choice([0.0, 0.7])),
        "tolerance_mm": TOLERANCE_MM,
    }
    cutter = CUTTERS[int(rng.integers(3))]
    words = f"{seed}: {side['up']['axis']}, {circle}, {cutter['kind']}, {params}"
    return _tried(build.with_job(_parsed(data)), {"sketch": "k1"}, params, cutter, words, depth)


def _parsed(data: dict[str, Any]) -> Any:
    from fenrik.core.job_reading import parse_job

    return parse_job(data)


def _ruled(rng: np.random.Generator) -> Any:
    """A block between two polygons of as many corners that are turned, moved and of other sizes; or two ellipses."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakePolygon, BRepBuilderAPI_MakeWire
    from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
    from OCP.gp import gp_Ax2, gp_Dir, gp_Elips, gp_Pnt

    sections, count = BRepOffsetAPI_ThruSections(True, True), int(rng.integers(2, 7))
    tall, turn, size = float(rng.uniform(10, 35)), np.deg2rad(rng.uniform(-18, 18)), rng.uniform(0.75, 1.1)
    radius, shift = rng.uniform(18, 40), rng.uniform(-4, 4, 2)
    corners = np.sort(rng.uniform(-0.25, 0.25, count)) + np.arange(count)
    for z, angle, scale, move in ((0.0, 0.0, 1.0, np.zeros(2)), (tall, turn, size, shift)):
        if count == 2:
            at = gp_Ax2(gp_Pnt(*move.tolist(), z), gp_Dir(0, 0, 1), gp_Dir(np.cos(angle), np.sin(angle), 0))
            ellipse = gp_Elips(at, radius * scale, 0.7 * radius * scale)
            sections.AddWire(BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(ellipse).Edge()).Wire())
            continue
        polygon = BRepBuilderAPI_MakePolygon()
        for a in (2 * np.pi * corners / count + angle).tolist():
            polygon.Add(gp_Pnt(radius * scale * np.cos(a) + move[0], radius * scale * np.sin(a) + move[1], z))
        polygon.Close()
        sections.AddWire(polygon.Wire())
    sections.Build()
    return sections.Shape()


def _job(seed: int) -> tuple[Any, Any]:
    return _job_of(random_solid(seed).shape)


def _job_of(shape: Any) -> tuple[Any, Any]:
    from fenrik.core.build import Build
    from fenrik.core.solids.reading import solid_from_shape
    from fenrik.core.solids.writing import write_solid
    from fenrik.core.store import MemoryStore

    data = write_solid(solid_from_shape(shape), ".step")
    job = {
        "name": "leaning",
        "part": {"file": "part.step"},
        "setups": [{"id": "first", "stock": {"kind": "box", "z_plus_mm": 1}}],
        "cell_mm": 1.0,
    }
    build = Build(_parsed(job), data, MemoryStore())
    return build.solid, build


def _targets(solid: Any, picks: dict[str, Any]) -> list[dict[str, Any]]:
    from fenrik.core.solids.references import edge_reference_to, reference_to

    if "sketch" in picks:
        return [{"kind": "sketch on faces", "sketch": picks["sketch"]}]
    if "faces" in picks:
        return [{"kind": "faces", "faces": [reference_to(solid, i).model_dump() for i in picks["faces"]]}]
    return [
        {"kind": "edges", "edges": [edge_reference_to(solid, i).model_dump() for i in group]}
        for group in picks["edges"]
    ]


def _tried(
    build: Any, picks: dict[str, Any], params: dict[str, Any], cutter: dict[str, Any], words: str, meant: float
) -> Try | str:
    from fenrik.core.build.picks import absolute_params
    from fenrik.core.errors import FenrikError
    from fenrik.core.strategies.registry import run_strategy
    from fenrik.core.toolpath import Kind
    from fenrik.core.tools import cutting_profile

    tool = {
        "number": 1,
        "cutter": {"flute_length_mm": 20.0, "flutes": 2, **cutter},
        "stick_out_mm": 80.0,
        "spindle_rpm": 6000,
        "cutting_feed_mm_min": 900,
    }
    row = {"number": 10, "setup": "first", "tool": 1, "params": params | {"targets": _targets(build.solid, picks)}}
    build = build.with_job(_parsed(build.job.model_dump(mode="json") | {"tools": [tool], "operations": [row]}))
    operation, setup = build.job.operations[0], build.job.setups[0]
    try:
        outcome = run_strategy(build.link_of(operation).given, absolute_params(build, operation))
    except FenrikError as error:
        return f"{words}: {error}"
    path, profile = outcome.toolpath, cutting_profile(build.job.tools[0].cutter)
    mesh, _ = build.exact_part(setup, FINE_MM)
    deep, where = deepest(path, profile, mesh, [Kind.CUT])
    cut_mm = float(path.lengths()[path.kind == Kind.CUT].sum())
    return Try(words, deep - meant, cut_mm, len(outcome.unreached), where)


def _all(name: str, one: Any) -> None:
    began, tries, refused = time.perf_counter(), [], 0
    for seed in [int(a) for a in sys.argv[2:] if a.isdigit()] or range(SEEDS):
        found = one(seed)
        if isinstance(found, str):
            refused += 1
            print("refused", found)
            continue
        tries.append(found)
        sign = f"  <<< at {found.where.round(2).tolist()}" if found.over_mm > TOLERANCE_MM else ""
        print(f"{found.over_mm:8.4f}  cut {found.cut_mm:7.1f}  told {found.told:2d}  {found.words}{sign}", flush=True)
    worst = max((t.over_mm for t in tries), default=0.0)
    some = sum(t.cut_mm > 0 for t in tries)
    show(
        f"{name}, gouge",
        worst / TOLERANCE_MM,
        "at most 1",
        f"{len(tries)} rows, {some} with cuts, {refused} refused: {time.perf_counter() - began:.0f} s",
    )


def leaning() -> None:
    """Gouges of curve following on random solids, along edges and along sketches laid on them, and of swarf milling on
    random ruled blocks, against the tolerance."""
    _all("curve following", follow)
    _all("laid sketches", lay)
    _all("swarf milling", swarf)


BENCHES = {"leaning": leaning}

if __name__ == "__main__":
    _all(sys.argv[1], {"follow": follow, "lay": lay, "swarf": swarf}[sys.argv[1]])

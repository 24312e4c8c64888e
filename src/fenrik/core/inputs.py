"""What the strategies are given, made from the document and the artefacts."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal, cast

import numpy as np
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.job import Operation, Setup
from fenrik.core.progress import Progress
from fenrik.core.regions import Rings
from fenrik.core.regions.polygons import from_shape
from fenrik.core.sketches import Curve, region_of
from fenrik.core.solids import Mesh, find_faces
from fenrik.core.solids.references import find_edge
from fenrik.core.strategies.common import TESSELLATION_SHARE, StrategyInputs
from fenrik.core.strategies.level_roughing import LevelRoughing
from fenrik.core.strategies.parallel_finishing import FacesBoundary, ParallelFinishing, SketchBoundary
from fenrik.core.strategies.prismatic import TargetParams
from fenrik.core.strategies.registry import StrategyParams
from fenrik.core.strategies.targets import EdgesTarget, FacesTarget, SketchTarget, Targets
from fenrik.core.targeting import Targeting

if TYPE_CHECKING:
    from fenrik.core.build import Build

End = Literal["top", "bottom"]
ENDS: tuple[End, End] = ("top", "bottom")
TARGET_DEFLECTION_MM = 0.002
"""Triangles under the operations on exact geometry; their offsets are fitted with arcs within the same."""


def strategy_inputs(build: Build, operation: Operation, progress: Progress) -> StrategyInputs:
    """Everything a strategy may look at.

    Raises:
        FenrikError: when picked geometry is lost.
    """
    setup, params = build.job.setup(operation.setup), operation.params
    exact = isinstance(params, TargetParams)
    deflection = min(params.tolerance_mm * TESSELLATION_SHARE, TARGET_DEFLECTION_MM if exact else np.inf)
    mesh = build.mesh(setup, float(deflection), operation.instance)
    boundary, area = None, None
    if isinstance(params, ParallelFinishing) and isinstance(params.boundary, FacesBoundary):
        boundary = mesh.of_faces(picked_faces(build, operation) or [])
    if isinstance(params, ParallelFinishing) and isinstance(params.boundary, SketchBoundary):
        area = _sketch_area(build, setup, params.boundary.sketch)
    stock = build.stock_before(operation)
    obstacles = build.obstacles(setup, operation.instance)
    top = _over(build, setup, obstacles)
    zero = build.zero(setup)
    return StrategyInputs(
        mesh,
        stock,
        build.job.tool(operation.tool),
        build.feeds(operation),
        top + setup.clearance_mm,
        top + setup.retract_mm,
        boundary,
        progress,
        area,
        obstacles,
        build.rpm(operation),
        (float(zero[0]), float(zero[1]), float(zero[2])),
        targets_of(build, operation) if exact else Targets(),
        build.shadow(setup, mesh, operation.instance) if exact else None,
        _sketch_rings(build, setup, params.keep_out) if isinstance(params, TargetParams) else [],
        _sketch_rings(build, setup, params.stay_in) if isinstance(params, TargetParams) else [],
    )


def safe_over(build: Build, setup: Setup, instance: int | None) -> float:
    """The height over which stock, fixtures and other copies end; clearance and retract height count from it."""
    return _over(build, setup, build.obstacles(setup, instance))


def _over(build: Build, setup: Setup, obstacles: Mesh | None) -> float:
    highest = float(build.placing(setup).stock[1][2])
    return highest if obstacles is None else max(highest, float(obstacles.bounds()[1][2]))


def absolute_params(build: Build, operation: Operation) -> StrategyParams:
    """Parameters of an operation with nothing in them that only its setup can tell: heights at picked faces become
    heights over the work zero, levels of roughing heights of the setup's frame.

    Raises:
        FenrikError: when no face is picked where one is counted from, or it is lost.
    """
    p = operation.params
    zero = float(build.zero(build.job.setup(operation.setup))[2])
    update: dict[str, Any] = {}
    for end in ENDS:
        own: float | None = getattr(p, f"{end}_mm", None)
        if own is None:
            continue
        if isinstance(p, LevelRoughing):
            update[f"{end}_mm"] = own + zero
        elif isinstance(p, TargetParams) and getattr(p, f"{end}_from") == "a pick":
            level = _picked_level(build, operation, end) - zero + own
            update |= {f"{end}_from": "work zero", f"{end}_mm": level, f"{end}_pick": None}
    return cast(StrategyParams, p.model_copy(update=update)) if update else p


def _picked_level(build: Build, operation: Operation, end: End) -> float:
    """Height in the setup's frame of the faces that an operation's top or bottom is picked at."""
    setup = build.job.setup(operation.setup)
    field = f"operations.{operation.number}.params.{end}_pick"
    pick = getattr(operation.params, f"{end}_pick")
    if pick is None:
        raise fail(field, "holds no face.", f"Pick a face for the {end}, or count it from something else.")
    faces = find_faces(build.placing(setup).part, pick, field)
    low, high = build.mesh_of_one(setup, TARGET_DEFLECTION_MM).of_faces(faces).bounds()[:, 2]
    return float(high if end == "top" else low)


def targets_of(build: Build, operation: Operation) -> Targets:
    """What an operation on picked geometry is applied to, on every copy of the part that it is meant for."""
    setup, params = build.job.setup(operation.setup), operation.params
    assert isinstance(params, TargetParams)
    placing = build.placing(setup)
    first = build.mesh_of_one(setup, TARGET_DEFLECTION_MM)
    finder = Targeting(
        placing.part,
        placing.frame,
        first,
        build.shadow(setup, first, 1),
        lambda: build.features_of(setup),
        lambda i: _sketch_here(build, setup, i),
        lambda i: _sketch_points(build, setup, i),
    )
    found = finder.find(params, f"operations.{operation.number}")
    drawn = [t for t in params.targets if isinstance(t, SketchTarget)]
    if operation.instance is not None:
        return found.on(build.instance(setup, operation.instance))
    if setup.grid is None or len(drawn) == len(params.targets):
        return found
    return Targets.joined([found.on(i) for i in placing.instances])


def picked_faces(build: Build, operation: Operation) -> list[int] | None:
    """Faces that an operation is bounded by or applied to; None where it is not about picked faces and edges only."""
    params = operation.params
    part = build.placing(build.job.setup(operation.setup)).part
    field = f"operations.{operation.number}.params"
    if isinstance(params, TargetParams):
        if not all(isinstance(t, FacesTarget | EdgesTarget) for t in params.targets):
            return None
        return [
            i
            for k, t in enumerate(params.targets)
            if isinstance(t, FacesTarget)
            for j, f in enumerate(t.faces)
            for i in find_faces(part, f, f"{field}.targets.{k}.faces.{j}")
        ]
    if not isinstance(params, ParallelFinishing) or not isinstance(params.boundary, FacesBoundary):
        return None
    return [i for k, s in enumerate(params.boundary.faces) for i in find_faces(part, s, f"{field}.boundary.faces.{k}")]


def picked_edges(build: Build, operation: Operation) -> list[int] | None:
    """Edges that an operation is applied to; None as for faces."""
    params = operation.params
    if picked_faces(build, operation) is None:
        return None
    part = build.placing(build.job.setup(operation.setup)).part
    field = f"operations.{operation.number}.params.targets"
    targets = params.targets if isinstance(params, TargetParams) else []
    return [
        find_edge(part, e, f"{field}.{k}.edges.{j}")
        for k, t in enumerate(targets)
        if isinstance(t, EdgesTarget)
        for j, e in enumerate(t.edges)
    ]


def _turned(build: Build, setup: Setup, sketch_id: str, points: Points) -> Points:
    """Places (n, 2) of a sketch in the setup's frame, (n, 3).

    Raises:
        FenrikError: when the sketch does not lie level there.
    """
    on, here = build.sketch_frame(sketch_id), build.frame(setup)
    if float(on.rotation[:, 2] @ here.rotation[:, 2]) < 1 - 1e-9:
        raise fail("sketch", "does not lie level in this setup.", "Draw it on this setup's frame.", sketch_id)
    level = next(s.level_mm for s in build.job.sketches if s.id == sketch_id)
    return here.to_local(on.to_part(np.column_stack([points, np.full(len(points), level)])))


def _sketch_here(build: Build, setup: Setup, sketch_id: str) -> tuple[dict[str, list[Curve]], float]:
    """The curves of a sketch by item in the setup's frame, and their height."""
    curves = build.sketch(sketch_id)
    level = float(_turned(build, setup, sketch_id, np.zeros((1, 2)))[0, 2])
    return {
        item: [Curve(_turned(build, setup, sketch_id, c.points)[:, :2], c.bulges, c.closed) for c in own]
        for item, own in curves.items()
    }, level


def _sketch_points(build: Build, setup: Setup, sketch_id: str) -> dict[str, Points]:
    """The single places of a sketch by item in the setup's frame."""
    sketch = next(s for s in build.job.sketches if s.id == sketch_id)
    return {
        i.id: _turned(build, setup, sketch_id, np.array([[i.x_mm, i.y_mm]]))[:, :2]
        for i in sketch.items
        if i.kind == "point"
    }


def _sketch_rings(build: Build, setup: Setup, sketch_id: str) -> Rings:
    """The region inside a sketch's closed curves; nothing where no sketch is named."""
    return from_shape(_sketch_area(build, setup, sketch_id)) if sketch_id else []


def _sketch_area(build: Build, setup: Setup, sketch_id: str) -> BaseGeometry:
    """The area of a sketch in the setup's frame, whatever frame it was drawn on (it must lie level in both)."""
    curves, _ = _sketch_here(build, setup, sketch_id)
    return region_of([c for own in curves.values() for c in own])

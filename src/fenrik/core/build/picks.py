"""What operations name of the model and of sketches, found in the setup's frame; and what they see of the part."""

from __future__ import annotations

from typing import Any

import numpy as np
from shapely.geometry.base import BaseGeometry

from fenrik.core.build.geometry import Geometry
from fenrik.core.errors import fail
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.job import Operation, Setup
from fenrik.core.regions import Rings
from fenrik.core.regions.polygons import from_shape
from fenrik.core.setups.grids import Instance
from fenrik.core.sketches import Curve, region_of
from fenrik.core.solids import find_faces
from fenrik.core.solids.laid import Laid, Layer
from fenrik.core.solids.rails import rails_of
from fenrik.core.solids.references import find_edge
from fenrik.core.solids.rulings import Rulings, joined, rulings_between, rulings_of
from fenrik.core.solids.signatures import face_boxes, face_signature
from fenrik.core.strategies.common import End
from fenrik.core.strategies.picked import TargetParams
from fenrik.core.strategies.registry import STRATEGIES, StrategyParams
from fenrik.core.strategies.targets import LaidTarget, SketchTarget, Targets, Ways
from fenrik.core.targeting import Targeting


def picked_faces(geometry: Geometry, operation: Operation) -> list[int]:
    """Numbers of the faces that an operation names.

    Raises:
        FenrikError: naming the pick that is lost.
    """
    part = geometry.placing(geometry.job.setup(operation.setup)).part
    field = f"operations.{operation.number}.params"
    return [i for name, face in operation.params.picks().faces for i in find_faces(part, face, f"{field}.{name}")]


def picked_edges(geometry: Geometry, operation: Operation) -> list[int]:
    """Numbers of the edges that an operation names; raises as for faces."""
    part = geometry.placing(geometry.job.setup(operation.setup)).part
    field = f"operations.{operation.number}.params"
    return [find_edge(part, edge, f"{field}.{name}") for name, edge in operation.params.picks().edges]


def absolute_params(geometry: Geometry, operation: Operation) -> StrategyParams:
    """Parameters of an operation with nothing in them that only its setup can tell.

    Raises:
        FenrikError: when no face is picked where one is counted from, or it is lost.
    """
    setup = geometry.job.setup(operation.setup)
    return operation.params.absolute(
        float(geometry.zero(setup)[2]), lambda end: _picked_level(geometry, operation, end)
    )


def _picked_level(geometry: Geometry, operation: Operation, end: End) -> float:
    """Height in the setup's frame of the faces that an operation's top or bottom is picked at."""
    setup = geometry.job.setup(operation.setup)
    field = f"operations.{operation.number}.params.{end}_pick"
    pick = getattr(operation.params, f"{end}_pick")
    if pick is None:
        raise fail(field, "holds no face.", f"Pick a face for the {end}, or count it from something else.")
    faces = find_faces(geometry.placing(setup).part, pick, field)
    low, high = geometry.face_bounds(setup, faces)[:, 2]
    return float(high if end == "top" else low)


def targets_of(geometry: Geometry, operation: Operation) -> Targets:
    """What an operation on picked geometry is applied to, on every copy of the part that it is meant for."""
    setup, params = geometry.job.setup(operation.setup), operation.params
    assert isinstance(params, TargetParams)
    placing = geometry.placing(setup)

    def shadow() -> Any:
        return geometry.shadow(setup, geometry.mesh_of_one(setup, params.mesh_within_mm()), 1)

    finder = Targeting(
        placing.part,
        placing.frame,
        lambda: geometry.mesh_of_one(setup, params.mesh_within_mm()),
        shadow,
        lambda: geometry.features_of(setup),
        lambda i: _sketch_here(geometry, setup, i),
        lambda i: _sketch_points(geometry, setup, i),
    )
    found = finder.find(params, f"operations.{operation.number}")
    drawn = [t for t in params.targets if isinstance(t, SketchTarget)]
    if operation.instance is not None:
        return found.on(geometry.instance(setup, operation.instance))
    if setup.grid is None or len(drawn) == len(params.targets):
        return found
    return Targets.joined([found.on(i) for i in placing.instances])


# In space


def copies_of(geometry: Geometry, operation: Operation) -> list[Instance]:
    """The copies of the part that an operation is meant for."""
    setup = geometry.job.setup(operation.setup)
    if operation.instance is None:
        return geometry.placing(setup).instances
    return [geometry.instance(setup, operation.instance)]


def ways_of(geometry: Geometry, operation: Operation) -> Ways:
    """The edges that an operation names, on every copy that it is meant for, and its sketches laid on faces.

    Raises:
        FenrikError: where an edge, a face or a sketch is lost.
    """
    placing, edges = geometry.placing(geometry.job.setup(operation.setup)), picked_edges(geometry, operation)
    here = [r.in_frame(placing.frame) for r in rails_of(placing.part, edges, operation.params.mesh_within_mm())]
    rails = [
        r.moved(*copy.motion, k * len(placing.part.faces))
        for k, copy in enumerate(copies_of(geometry, operation))
        for r in here
    ]
    unusable: list[Unreached] = []
    for k, target in enumerate(getattr(operation.params, "targets", [])):
        if isinstance(target, LaidTarget):
            laid = _laid(geometry, operation, target, f"operations.{operation.number}.params.targets.{k}")
            rails += laid.rails
            unusable += laid.unusable
    return Ways(rails, unusable)


def rulings_of_rows(geometry: Geometry, operation: Operation) -> list[Rulings]:
    """The straight lines of the faces that an operation names, and between each two of its ways along edges, walls that
    follow one another as one; on every copy of the part that it is meant for.

    Raises:
        FenrikError: where a pick is lost, a face is not ruled, or edges are no two ways.
    """
    frame, part = (p := geometry.placing(geometry.job.setup(operation.setup))).frame, p.part
    within, off = operation.params.mesh_within_mm(), geometry.job.tool(operation.tool).cutter.radius_mm
    up = frame.rotation[:, 2]
    walls = [rulings_of(part, f, within, up, off) for f in picked_faces(geometry, operation)]
    edges = picked_edges(geometry, operation)
    ways = rails_of(part, edges, within)
    if len(ways) % 2:
        raise fail(
            f"operations.{operation.number}.params.targets",
            f"make {len(ways)} ways along edges; a wall lies between two.",
            "Pick the edges at its foot and those at its top.",
        )
    for first, second in zip(ways[::2], ways[1::2], strict=True):
        walls += rulings_between(first, second, within, up, off)
    here = [r.in_frame(frame) for r in joined(walls)]
    return [r.moved(*copy.motion) for copy in copies_of(geometry, operation) for r in here]


def _laid(geometry: Geometry, operation: Operation, target: LaidTarget, field: str) -> Ways:
    """A sketch thrown on the part, on all copies of it; for a row that is meant for one copy, moved there with it."""
    setup, within = geometry.job.setup(operation.setup), operation.params.mesh_within_mm()
    placing, curves = geometry.placing(setup), geometry.sketch(target.sketch)
    wanted = target.items or list(curves)
    lost = [i for i in wanted if i not in curves]
    if lost:
        raise fail(f"{field}.items", f"are not in the sketch: {', '.join(lost)}.", "Choose others.", target.sketch)
    faces = [i for j, f in enumerate(target.faces) for i in find_faces(placing.part, f, f"{field}.faces.{j}")]
    first = None if operation.instance is None else 1
    count, copies = len(placing.part.faces), 1 if first else len(placing.instances)
    numbers = [k * count + i for k in range(copies) for i in faces] if faces else None
    on = geometry.sketch_frame(target.sketch)
    down = geometry.frame(setup).direction_to_local(-on.rotation[:, 2])
    layer = Layer(*geometry.exact_part(setup, within, first), down, numbers)
    rails, told = [], []
    for item in wanted:
        for curve in curves[item]:
            places = _in_setup(geometry, setup, target.sketch, curve.flattened(within))
            laid = layer.lay(places, within)
            rails += laid.rails
            if laid.beside is not None:
                told.append(_beside(item, laid))
    if operation.instance is not None:
        rails = [r.moved(*geometry.instance(setup, operation.instance).motion) for r in rails]
    return Ways(rails, told)


def _beside(item: str, laid: Laid) -> Unreached:
    assert laid.beside is not None
    reason = f"{laid.beside_mm:.3g} mm of {item} lie beside the faces."
    return Unreached.at(laid.beside, reason, "Pick the faces there too, or move the sketch.")


# Sketches


def _in_setup(geometry: Geometry, setup: Setup, sketch_id: str, points: Points) -> Points:
    """Places (n, 2) of a sketch in the setup's frame, (n, 3), however the sketch lies there."""
    level = next(s.level_mm for s in geometry.job.sketches if s.id == sketch_id)
    places = np.column_stack([points, np.full(len(points), level)])
    return geometry.frame(setup).to_local(geometry.sketch_frame(sketch_id).to_part(places))


def _turned(geometry: Geometry, setup: Setup, sketch_id: str, points: Points) -> Points:
    """Places (n, 2) of a sketch in the setup's frame, (n, 3).

    Raises:
        FenrikError: when the sketch does not lie level there.
    """
    on, here = geometry.sketch_frame(sketch_id), geometry.frame(setup)
    if float(on.rotation[:, 2] @ here.rotation[:, 2]) < 1 - 1e-9:
        raise fail("sketch", "does not lie level in this setup.", "Draw it on this setup's frame.", sketch_id)
    return _in_setup(geometry, setup, sketch_id, points)


def _sketch_here(geometry: Geometry, setup: Setup, sketch_id: str) -> tuple[dict[str, list[Curve]], float]:
    """The curves of a sketch by item in the setup's frame, and their height."""
    curves = geometry.sketch(sketch_id)
    level = float(_turned(geometry, setup, sketch_id, np.zeros((1, 2)))[0, 2])
    return {
        item: [Curve(_turned(geometry, setup, sketch_id, c.points)[:, :2], c.bulges, c.closed) for c in own]
        for item, own in curves.items()
    }, level


def _sketch_points(geometry: Geometry, setup: Setup, sketch_id: str) -> dict[str, Points]:
    """The single places of a sketch by item in the setup's frame."""
    sketch = next(s for s in geometry.job.sketches if s.id == sketch_id)
    return {
        i.id: _turned(geometry, setup, sketch_id, np.array([[i.x_mm, i.y_mm]]))[:, :2]
        for i in sketch.items
        if i.kind == "point"
    }


def sketch_area(geometry: Geometry, setup: Setup, sketch_id: str) -> BaseGeometry:
    """The area of a sketch in the setup's frame, whatever frame it was drawn on (it must lie level in both)."""
    curves, _ = _sketch_here(geometry, setup, sketch_id)
    return region_of([c for own in curves.values() for c in own])


def sketch_rings(geometry: Geometry, setup: Setup, sketch_id: str) -> Rings:
    """The region inside a sketch's closed curves; nothing where no sketch is named."""
    return from_shape(sketch_area(geometry, setup, sketch_id)) if sketch_id else []


# Looks: what a path goes out of date with


def part_look(geometry: Geometry, operation: Operation) -> list[str]:
    """Signatures of the faces that an operation sees.

    Faces that cannot be seen along the tool axis do not count (but for strategies that see all), nor (where the path is
    about picked faces and edges only) those that the tool does not come near: so a change elsewhere in the model leaves
    the path valid.
    """
    setup = geometry.job.setup(operation.setup)
    placing = geometry.placing(setup)
    solid = placing.part
    everything = STRATEGIES[operation.params.strategy].sees == "all"
    faces = list(range(len(solid.faces))) if everything else geometry.seen_in(setup)
    near = _reached_box(geometry, operation)
    if near is None:
        return sorted(str(face_signature(solid.faces[f])) for f in faces)
    return sorted(str(s) for s in placing.looks.near(faces, near))


def _reached_box(geometry: Geometry, operation: Operation) -> Points | None:
    """Lowest and highest corner (in the plane) that the tool of an operation on picked geometry reaches; None where it
    may be anywhere."""
    if operation.params.picks().whole:
        return None
    faces, edges = picked_faces(geometry, operation), picked_edges(geometry, operation)
    if not faces + edges:
        return None
    placing = geometry.placing(geometry.job.setup(operation.setup))
    part = placing.part
    boxes = [*face_boxes([part.faces[i] for i in faces], placing.frame)]
    boxes += [
        np.array([p.min(axis=0), p.max(axis=0)]) for p in (placing.frame.to_local(part.edges[i].points) for i in edges)
    ]
    low = np.min([b[0] for b in boxes], axis=0)[:2]
    high = np.max([b[1] for b in boxes], axis=0)[:2]
    overlap = getattr(operation.params, "overlap_mm", 0.0)
    reach = 2.0 * geometry.job.tool(operation.tool).cutter.diameter_mm + overlap
    return np.array([low - reach, high + reach])


def sketch_look(geometry: Geometry, operation: Operation, *, leaning: bool = False) -> Any:
    """The curves, single places and heights of the sketches that an operation uses; None where it uses none.

    Args:
        leaning: the sketches may lie in any way; the frames that they lie on belong to it.
    """
    ids = operation.params.picks().sketches
    if not ids:
        return None
    used = [next((s for s in geometry.job.sketches if s.id == i), None) for i in ids]
    levels = [[s.level_mm, [i for i in s.items if i.kind == "point"]] for s in used if s is not None]
    curves = [c for i in ids for own in geometry.sketch(i).values() for c in own]
    frames = [geometry.sketch_frame(i) for i in ids] if leaning else []
    lie = [[np.round(f.rotation, 12).tolist(), np.round(f.origin, 9).tolist()] for f in frames]
    drawn = [[np.round(c.points, 9).tolist(), np.round(c.bulges, 9).tolist(), c.closed] for c in curves]
    return [drawn, levels, lie] if leaning else [drawn, levels]

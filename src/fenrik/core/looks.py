"""What an operation sees of the part, its surroundings and its sketches: what its path goes out of date with."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.inputs import picked_edges, picked_faces
from fenrik.core.job import Operation
from fenrik.core.solids.signatures import face_box, face_signature, signatures_near
from fenrik.core.strategies.parallel_finishing import ParallelFinishing, SketchBoundary
from fenrik.core.strategies.prismatic import TargetParams
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.strategies.targets import SketchTarget

if TYPE_CHECKING:
    from fenrik.core.build import Build


def part_look(build: Build, operation: Operation) -> dict[str, Any]:
    """What an operation sees of the part and its surroundings.

    Faces that cannot be seen along the tool axis do not count (but for strategies that see all), nor (where a boundary
    of faces is given) those that the tool does not come near: so a change elsewhere in the model leaves the path valid.
    """
    setup = build.job.setup(operation.setup)
    placing = build.placing(setup)
    solid = placing.part
    everything = STRATEGIES[operation.params.strategy].sees == "all"
    faces = list(range(len(solid.faces))) if everything else build.seen_in(setup)
    near = _reached_box(build, operation)
    if near is None:
        look = sorted(face_signature(solid.faces[f]) for f in faces)
    else:
        look = sorted(signatures_near(solid, faces, placing.frame, near))
    fixtures = [f.model_dump(mode="json") for f in setup.fixtures]
    return {
        "faces": look,
        "turn": np.round(placing.frame.rotation, 12).tolist(),
        "grid": setup.grid,
        "instance": operation.instance,
        "fixtures": [fixtures, np.round(placing.stock, 9).tolist()] if fixtures else [],
    }


def _reached_box(build: Build, operation: Operation) -> Points | None:
    """Lowest and highest corner (in the plane) that the tool of an operation on picked geometry reaches."""
    faces, edges = picked_faces(build, operation), picked_edges(build, operation)
    if faces is None or edges is None or not faces + edges:
        return None
    placing = build.placing(build.job.setup(operation.setup))
    part = placing.part
    boxes = [np.asarray(face_box(part.faces[i], placing.frame)) for i in faces]
    boxes += [
        np.array([p.min(axis=0), p.max(axis=0)]) for p in (placing.frame.to_local(part.edges[i].points) for i in edges)
    ]
    low = np.min([b[0] for b in boxes], axis=0)[:2]
    high = np.max([b[1] for b in boxes], axis=0)[:2]
    reach = 2.0 * build.job.tool(operation.tool).cutter.diameter_mm + getattr(operation.params, "overlap_mm", 0.0)
    return np.array([low - reach, high + reach])


def sketch_look(build: Build, operation: Operation) -> Any:
    """The curves of sketches that an operation uses; None where it uses none."""
    params = operation.params
    if isinstance(params, TargetParams):
        ids = [t.sketch for t in params.targets if isinstance(t, SketchTarget)]
        ids += [i for i in (params.keep_out, params.stay_in) if i]
    elif isinstance(params, ParallelFinishing) and isinstance(params.boundary, SketchBoundary):
        ids = [params.boundary.sketch]
    else:
        return None
    used = [next((s for s in build.job.sketches if s.id == i), None) for i in ids]
    levels = [[s.level_mm, [i for i in s.items if i.kind == "point"]] for s in used if s is not None]
    curves = [c for i in ids for own in build.sketch(i).values() for c in own]
    drawn = [[np.round(c.points, 9).tolist(), np.round(c.bulges, 9).tolist(), c.closed] for c in curves]
    return [drawn, levels] if isinstance(params, TargetParams) else drawn

"""Another way to make some holes: rows that make them so far let go of them, and new rows take their place."""

from __future__ import annotations

from typing import Any

from fenrik.core.build import Build
from fenrik.core.job import Job, Operation
from fenrik.core.planning.coverage import Uncovered
from fenrik.core.planning.route import propose_route
from fenrik.core.recipe import HoleChoice, HoleWay
from fenrik.core.recognise.features import Hole
from fenrik.core.solids import Solid, find_faces, reference_to
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.strategies.targets import FacesTarget
from fenrik.core.tools import Tool


def make_holes(build: Build, faces: set[int], way: HoleWay, shop: list[Tool]) -> tuple[Job, list[Uncovered]]:
    """The job with the holes that own some faces made another way; what could not be made so is told.

    Without rows that make them only the choice is kept, for the next proposal.

    Args:
        faces: numbers of faces of the part.

    Raises:
        FenrikError: when the part is missing, or picked geometry is lost.
    """
    job, solid = build.job, build.solid
    holes = [h for h in build.recognition().holes if set(h.faces) & faces]
    mine = {f for h in holes for f in h.faces}
    kept = [c for c in job.hole_choices if not mine & set(find_faces(solid, c.face, "hole_choices"))]
    chosen = [] if way == "automatic" else [HoleChoice(face=reference_to(solid, _bore(h)), way=way) for h in holes]
    rows = [_without(solid, o, mine) for o in job.operations]
    changed = [k for k, (a, b) in enumerate(zip(job.operations, rows, strict=True)) if a is not b]
    left = [o for o in rows if o is not None]
    job = job.model_copy(update={"hole_choices": [*kept, *chosen], "operations": left})
    if not changed or way == "leave":
        return job, []
    told: list[Uncovered] = []
    touched = {build.job.operations[k].setup for k in changed}
    for setup in [s for s in job.setups if s.id in touched]:
        found = propose_route(build.with_job(job), setup, shop, only=mine)
        first = next(k for k in changed if build.job.operations[k].setup == setup.id)
        before = {o.number for o in build.job.operations[:first]}
        at = sum(o.number in before for o in job.operations)
        operations = [*job.operations[:at], *found.operations, *job.operations[at:]]
        job = job.model_copy(update={"operations": operations, "tools": [*job.tools, *found.tools]})
        told += found.uncovered
    return job, told


def _bore(hole: Hole) -> int:
    return next((s for s in hole.steps if s.kind == "bore"), hole.steps[0]).faces[0]


def _without(solid: Solid, operation: Operation, faces: set[int]) -> Operation | None:
    """A row that makes holes, without some faces: itself where it has none of them, None where nothing stays."""
    params = operation.params
    if not STRATEGIES[params.strategy].for_holes:
        return operation
    targets: list[Any] = []
    hit = False
    for k, target in enumerate(params.targets):
        if not isinstance(target, FacesTarget):
            targets.append(target)
            continue
        kept: list[Any] = []
        for j, selector in enumerate(target.faces):
            field = f"operations.{operation.number}.params.targets.{k}.faces.{j}"
            numbers = find_faces(solid, selector, field)
            rest = [i for i in numbers if i not in faces]
            hit |= len(rest) < len(numbers)
            kept += [selector] if len(rest) == len(numbers) else [reference_to(solid, i) for i in rest]
        if kept:
            targets.append(target.model_copy(update={"faces": kept}))
    if not hit:
        return operation
    return operation.model_copy(update={"params": params.model_copy(update={"targets": targets})}) if targets else None

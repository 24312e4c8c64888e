"""From recognised features to a route: which operations, with which tools, in which order, by the rules of a recipe."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

import numpy as np
from pydantic import BaseModel, Field

from fenrik.core.build import Build
from fenrik.core.cutting.data import PECKING
from fenrik.core.cutting.load import Limits, propose
from fenrik.core.job import Job, Operation, Setup
from fenrik.core.planning.coverage import Made, Uncovered, what_is_made
from fenrik.core.planning.duties import Duties
from fenrik.core.planning.forecast import Forecast, forecast
from fenrik.core.planning.hole_rows import HoleRows
from fenrik.core.planning.planner import Planner
from fenrik.core.planning.tooling import Toolbox
from fenrik.core.progress import Progress, silent
from fenrik.core.recipe import Recipe
from fenrik.core.recognise import Recognition
from fenrik.core.recognise.features import Feature, Vector
from fenrik.core.solids import find_faces, reference_to
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.tools import Tool
from fenrik.core.tools.running import as_cutting

NO_MATERIAL = "No material is chosen: every tool runs at its own speed and feed, whatever it cuts."


class Reason(BaseModel):
    """Why an operation stands in the proposal."""

    number: int
    rule: str


class RouteProposal(BaseModel):
    """Operations, tools and setups to add to a job, why, and what is left without an operation."""

    setups: list[Setup] = []
    operations: list[Operation]
    tools: list[Tool]
    reasons: list[Reason]
    uncovered: list[Uncovered]
    assumed: list[str] = Field(default=[], description="what was not said and had to be taken for granted")


def with_route(job: Job, found: RouteProposal) -> Job:
    """The job with a proposal taken."""
    return job.model_copy(update={k: [*getattr(job, k), *getattr(found, k)] for k in ("setups", "tools", "operations")})


def propose_route(
    build: Build,
    setup: Setup,
    shop: list[Tool],
    recipe: Recipe | None = None,
    progress: Progress = silent,
    only: set[int] | None = None,
    surface_too: bool = False,
    before: Forecast | None = None,
) -> RouteProposal:
    """A route for what can be seen along a setup's direction and is made by no operation yet.

    Args:
        shop: tools that may be taken into the job where its own do not fit.
        recipe: the rules; the job's own where none is given.
        only: numbers of faces; nothing but features that own some of them. surface_too: and what else of them is seen.
        before: what the job's rows finish, where that is at hand.

    Raises:
        FenrikError: when the part is missing.
    """
    recipe = recipe or build.job.recipe
    placing = build.placing(setup)
    up = placing.frame.rotation[:, 2]
    look: Vector = (float(up[0]), float(up[1]), float(up[2]))
    progress(0.1, "recognising features")
    solid = placing.part
    made = what_is_made(build)
    found = _still_to_make(build.recognition([look]), made, only)
    ways = {f: c.way for c in build.job.hole_choices for f in find_faces(solid, c.face, "hole_choices")}
    progress(0.3, "looking at the surface")
    before = before or forecast(build)
    places = before.surface.places.in_frame(placing.frame)
    reach = before.surface.reach(build, setup)
    material = build.job.material_of()
    planner = Planner(
        solid,
        found,
        recipe,
        Toolbox(list(build.job.tools), shop, build.job.machine_of(setup).longest_tool_mm),
        ways,
        up,
        float(placing.parts[1][2]),
        float(placing.stock[1][2]),
        max(float(placing.parts[0][2] - placing.stock[0][2]), 0.0),
        placing.stock,
        build.recognition().holes,
        placing.frame,
        places,
        before.done,
        reach,
        made=made.faces | made.begun_from(up),
        begun=made.begun_from(-up),
        pecking=PECKING[material.group if material else "P"],
    )
    progress(0.6, "choosing tools")
    if only is None:
        planner.face_top()
    for step in (planner.outside, planner.pockets, HoleRows(planner).plan, planner.chamfers):
        step()
    if only is None or surface_too:
        open_ = reach.seen(places) & ~before.done & ~planner.taken()
        if only is not None:
            open_ &= np.isin(places.face, sorted(only))
        Duties(planner, open_, float(build.zero(setup)[2])).plan()
    return _as_proposal(build, setup, planner)


def _still_to_make(found: Recognition, made: Made, only: set[int] | None) -> Recognition:
    """The features that no operation makes, of those that are asked for."""

    def wanted(feature: Feature) -> bool:
        return not made.covers(feature) and (only is None or bool(only & set(feature.faces)))

    kinds = ("holes", "pockets", "chamfers", "outer_profiles")
    return found.model_copy(update={k: [f for f in getattr(found, k) if wanted(f)] for k in kinds})


def _as_proposal(build: Build, setup: Setup, planner: Planner) -> RouteProposal:
    job = build.job
    first = max([o.number for o in job.operations], default=0) // 10 * 10 + 10
    operations, reasons = [], []
    speeds = _speeds(build, setup)
    names: dict[str, int] = defaultdict(int)
    for k, draft in enumerate(planner.ordered()):
        number = first + 10 * k
        names[draft.name] += 1
        faces = [reference_to(planner.solid, f) for f in draft.faces]
        applied = STRATEGIES[draft.params["strategy"]].params.on_faces(faces) if faces else {}
        rpm, feed = speeds(draft.tool, draft.params)
        operations.append(
            Operation.model_validate(
                {
                    "number": number,
                    "name": draft.name,
                    "setup": setup.id,
                    "tool": draft.tool.number,
                    "params": draft.params | applied,
                    "spindle_rpm": rpm,
                    "cutting_feed_mm_min": feed,
                }
            )
        )
        reasons.append(Reason(number=number, rule=draft.rule))
    assumed = [*([] if job.material_of() else [NO_MATERIAL]), *planner.assumed]
    return RouteProposal(
        operations=operations, tools=planner.box.taken, reasons=reasons, uncovered=planner.left, assumed=assumed
    )


def _speeds(build: Build, setup: Setup):  # type: ignore[no-untyped-def]
    """Spindle speed and feed of a tool in the job's material on the setup's machine; the tool's own without one."""
    material, machine = build.job.material_of(), build.job.machine_of(setup)

    def of(tool: Tool, params: dict[str, Any]) -> tuple[float | None, float | None]:
        if material is None:
            return None, None
        limits = Limits(machine.spindle_max_rpm, machine.max_feed_mm_min, machine.power_kw, machine.torque_nm)
        found = propose(as_cutting(tool), material, limits, build.job.load)
        return found.spindle_rpm.taken, found.cutting_feed_mm_min.taken

    return of

"""A route for every side of a part: the setups that a job has, and new ones where features look another way."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field

import numpy as np

from fenrik.core.build import Build
from fenrik.core.errors import fail
from fenrik.core.frames import AXES, Points
from fenrik.core.job import EXTENDED_OFFSETS, PLAIN_OFFSETS, Setup
from fenrik.core.planning.coverage import Uncovered, coverage
from fenrik.core.planning.first import turned_square
from fenrik.core.planning.forecast import Forecast, forecast
from fenrik.core.planning.looking import directions_of, worth_of
from fenrik.core.planning.route import RouteProposal, propose_route, with_route
from fenrik.core.progress import Progress, silent
from fenrik.core.recipe import Recipe
from fenrik.core.recognise.features import Vector
from fenrik.core.setups.orientation import UpAxis, UpDirection
from fenrik.core.setups.stocks import EarlierStock
from fenrik.core.solids.seeing import seen_places
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.tools import Tool

SAME = 1 - 1e-6
MOST_SIDES = 6
LEAST_SHARE, LEAST_MM2 = 0.005, 2.0
"""A side is not worth a setup for less than this of the part's surface."""
NOT_LOOKED_AT = "no setup looks along it, and one of its own would finish too little"
EMPTY = RouteProposal(operations=[], tools=[], reasons=[], uncovered=[])


def propose_sides(
    build: Build, shop: list[Tool], recipe: Recipe | None = None, progress: Progress = silent
) -> RouteProposal:
    """A route for all setups of the part, then for the directions in which features are still left, each with a setup
    of its own that takes over the stock of the one before. A direction for which nothing can be proposed gets none.

    Raises:
        FenrikError: when the job has no setup to begin with, or the part is missing.
    """
    own = [s for s in build.job.setups if not s.makes]
    if not own:
        raise fail("setups", "are missing.", "Add a setup: it says which way is up first, and on which machine.")
    sides = _Sides(build, forecast(build), EMPTY)
    for setup in own:
        progress(0.1, f"setup {setup.name or setup.id}")
        sides.take(propose_route(sides.build, setup, shop, recipe, before=sides.now))
    tried = [build.frame(s).rotation[:, 2] for s in own]
    last = own[-1]
    lies = build.frame(last).to_part(np.array(list(itertools.product(*zip(*build.placing(last).stock, strict=True)))))
    while last.grid is None and len(tried) < len(own) + MOST_SIDES and (up := sides.next_direction(tried)) is not None:
        tried.append(np.array(up))
        setup = turned_square(sides.build, _side(sides.build, last, up), lies)
        progress(0.5, f"setup {setup.name}")
        bare = EMPTY.model_copy(update={"setups": [setup]})
        found = propose_route(_grown(sides.build, bare), setup, shop, recipe, before=sides.now)
        if sides.take_if_worth(found.model_copy(update={"setups": [setup]})):
            last = setup
    return sides.total.model_copy(update={"uncovered": sides.left()})


def propose_for(build: Build, faces: set[int], shop: list[Tool]) -> RouteProposal:
    """Rows in the job's setups for faces (numbers in the part) that are left over, though rows may be applied to them.

    Raises:
        FenrikError: when the part is missing.
    """
    now = forecast(build)
    here = np.isin(now.surface.places.face, sorted(faces))
    sides = _Sides(build, Forecast(now.surface, np.where(here, -1, now.row).astype(np.int32)), EMPTY)
    for setup in [s for s in build.job.setups if not s.makes]:
        sides.take(propose_route(sides.build, setup, shop, only=faces, surface_too=True, before=sides.now))
    return sides.total


@dataclass
class _Sides:
    """The job as it grows side by side, and what the sides could not make wholly or not at all."""

    build: Build
    now: Forecast
    total: RouteProposal
    told: list[Uncovered] = field(default_factory=list)
    partly: list[Uncovered] = field(default_factory=list)

    def take(self, found: RouteProposal) -> None:
        """One side's route into the job."""
        grown = _grown(self.build, found)
        self._take(found, grown, forecast(grown, self.now.surface))

    def take_if_worth(self, found: RouteProposal) -> bool:
        """The same if it makes a hole, or finishes enough of the surface for a setup of its own."""
        if not found.operations:
            return False
        grown = _grown(self.build, found)
        after, area = forecast(grown, self.now.surface), self.now.surface.places.area_mm2
        gained = float(area[after.done & ~self.now.done].sum())
        holes = any(STRATEGIES[o.params.strategy].for_holes for o in found.operations)
        worth = holes or gained > self._least
        if worth:
            self._take(found, grown, after)
        return worth

    def _take(self, found: RouteProposal, grown: Build, after: Forecast) -> None:
        self.build, self.now = grown, after
        self.total = RouteProposal(
            **{k: [*getattr(self.total, k), *getattr(found, k)] for k in RouteProposal.model_fields}
            | {"assumed": list(dict.fromkeys([*self.total.assumed, *found.assumed]))}
        )
        still = {frozenset(u.faces) for u in coverage(self.build).uncovered}
        for left in found.uncovered:
            (self.told if frozenset(left.faces) in still else self.partly).append(left)

    @property
    def _least(self) -> float:
        return max(LEAST_SHARE * float(self.now.surface.places.area_mm2.sum()), LEAST_MM2)

    def next_direction(self, tried: list[Points]) -> Vector | None:
        """The direction in which most of what is left can be seen, of those not tried; None where that is little."""
        surface, solid = self.now.surface, self.build.solid
        left = surface.places.rows(np.flatnonzero(~self.now.done))
        if len(left) == 0:
            return None
        holes = self.build.recognition().holes
        best, most = None, self._least
        open_faces = set(np.unique(left.face).tolist())
        open_holes = [h for h in holes if h.direction is not None and open_faces & set(h.faces)]
        waiting = [np.array(h.direction) for h in open_holes]
        waiting += [-np.array(h.direction) for h in open_holes if h.through]
        for d in directions_of(solid, holes):
            if any(float(t @ d) > SAME for t in tried):
                continue
            worth = worth_of(left, seen_places(surface.rays, left, d, 2 * surface.deflection_mm), d, holes)
            # A hole is worth a side however small it is.
            worth += self._least if any(float(d @ w) > SAME for w in waiting) else 0.0
            if worth > most * (1 + 1e-6):
                best, most = d, worth
        return None if best is None else (float(best[0]), float(best[1]), float(best[2]))

    def left(self) -> list[Uncovered]:
        """What no operation makes in the end, with the reasons that the sides gave, and what is made only in part."""
        why = {frozenset(u.faces): u.why for u in self.told if u.why}
        left = coverage(self.build).uncovered
        return [
            *(u.model_copy(update={"why": why.get(frozenset(u.faces), u.why or NOT_LOOKED_AT)}) for u in left),
            *self.partly,
        ]


def _grown(build: Build, found: RouteProposal) -> Build:
    """The job with a proposal taken."""
    return build.with_job(with_route(build.job, found))


def _side(build: Build, before: Setup, up: Vector) -> Setup:
    """A setup like the one before with another side up."""
    ids = {s.id for s in build.job.setups}
    axis = next((name for name, d in AXES.items() if float(np.dot(d, up)) > SAME), None)
    x, y, z = (round(v, 2) + 0.0 for v in up)  # no −0.00
    return Setup(
        id=next(name for k in range(1, len(ids) + 2) if (name := f"side-{k}") not in ids),
        name=f"From {axis}" if axis else f"From ({x:.2f}, {y:.2f}, {z:.2f})",
        up=UpAxis.model_validate({"axis": axis}) if axis else UpDirection(direction=up, came_from="surface left"),
        stock=EarlierStock(setup=before.id),
        machine=before.machine,
        dialect=before.dialect,
        work_offset=_free_offset(build, before),
        clearance_mm=before.clearance_mm,
        retract_mm=before.retract_mm,
    )


def _free_offset(build: Build, like: Setup) -> int:
    """The first work offset that no setup on the machine uses and the controller has; the same one where all are used,
    which the setups then warn about."""
    used = {s.work_offset for s in build.job.setups if s.machine == like.machine}
    offsets = [*PLAIN_OFFSETS, *(EXTENDED_OFFSETS if build.controller(like).extended_offsets else [])]
    return next((o for o in offsets if o not in used), like.work_offset)

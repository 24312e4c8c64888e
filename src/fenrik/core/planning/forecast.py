"""What of a part's surface the rows of a job will finish, told before anything is cut.

Places spread over the surface are each asked: is there a row that is applied to their face, that finishes places which
lie as they do, and whose tool can touch them with nothing of it in the part? What the proof then measures is the
truth (see `finish`); this is what a proposal goes by.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrik.core.build import Build
from fenrik.core.build.picks import picked_faces
from fenrik.core.job import Operation, Setup
from fenrik.core.planning.coverage import from_side
from fenrik.core.planning.lying import Mask, lying
from fenrik.core.planning.planner import mouth_for
from fenrik.core.planning.reach import Reach
from fenrik.core.setups.grids import join_meshes
from fenrik.core.setups.stocks import BoxStock
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.rays import RayCaster
from fenrik.core.solids.sampling import SurfacePlaces, surface_places
from fenrik.core.strategies.picked import MillingParams, TargetParams
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.strategies.targets import OutlineTarget

PLACES = 12_000
FINEST_MM, DEFLECTION_SHARE = 0.01, 1e-4
TOP_MM, FLUSH_COSINE = 1e-3, 1 - 1e-6
AS_IT_CAME = 0


@dataclass
class Surface:
    """The surface of a job's part as places, and each side made ready; shared by forecasts of one part.

    Attributes:
        places: in part coordinates.
    """

    build: Build
    _sides: dict[object, Reach] = field(default_factory=dict)

    @cached_property
    def mesh(self) -> Mesh:
        return self.build.part_mesh(self.deflection_mm)

    @cached_property
    def places(self) -> SurfacePlaces:
        return surface_places(self.mesh, PLACES)

    @cached_property
    def rays(self) -> RayCaster:
        return RayCaster(self.mesh)

    @property
    def deflection_mm(self) -> float:
        size = float(np.linalg.norm(np.ptp(self.build.solid.bounds(), axis=0)))
        return max(FINEST_MM, DEFLECTION_SHARE * size)

    def reach(self, build: Build, setup: Setup) -> Reach:
        """What tools reach from the side of a setup."""
        # By how it stands and what holds it, not by its name: a side that was not taken leaves its name to the next.
        stands = build.frame(setup).rotation.tobytes(), tuple(f.model_dump_json() for f in setup.fixtures)
        if stands not in self._sides:
            mesh = build.mesh_of_one(setup, self.deflection_mm)
            fixtures = build.placing(setup).fixture_mesh()
            self._sides[stands] = Reach(mesh if fixtures is None else join_meshes([mesh, fixtures]))
        return self._sides[stands]


@dataclass(frozen=True)
class Forecast:
    """Attributes:
    surface: the places. row: (n,) number of the row that finishes each, −1 where none does, `AS_IT_CAME` where the
        stock has that surface already.
    """

    surface: Surface
    row: NDArray[np.int32]

    @property
    def done(self) -> Mask:
        return self.row >= 0

    @property
    def finished_fraction(self) -> float:
        area = self.surface.places.area_mm2
        return float(area[self.done].sum() / max(float(area.sum()), 1e-12))


def forecast(build: Build, surface: Surface | None = None) -> Forecast:
    """What the rows of a job that are switched on will finish.

    Raises:
        FenrikError: when the part is missing, or picked geometry is lost.
    """
    surface = surface or Surface(build)
    places = surface.places
    row = np.where(_as_it_came(build, places), AS_IT_CAME, -1).astype(np.int32)
    for operation in build.job.operations:
        setup = build.job.setup(operation.setup)
        if not operation.enabled or setup.makes:
            continue
        mine = _may_finish(build, operation, places)
        open_ = np.flatnonzero(mine & (row < 0))
        if len(open_) == 0:
            continue
        local = places.rows(open_).in_frame(build.frame(setup))
        row[open_[_finished(build, operation, local, surface)]] = operation.number
    return Forecast(surface, row)


def _as_it_came(build: Build, places: SurfacePlaces) -> Mask:
    """Places on the sides of a first stock that is a plain box."""
    came = np.zeros(len(places), bool)
    for setup in build.job.setups:
        if setup.makes or setup.grid is not None or not isinstance(setup.stock, BoxStock):
            continue
        low, high = build.placing(setup).stock
        own = places.in_frame(build.frame(setup))
        for side, level in ((-1.0, low), (1.0, high)):
            flush = (side * own.normal > FLUSH_COSINE) & (np.abs(own.place - level) < TOP_MM)
            came |= flush.any(axis=1)
    return came


def _finished(build: Build, operation: Operation, places: SurfacePlaces, surface: Surface) -> Mask:
    """Which of some places, in the frame of a row's setup, it finishes: those that lie as it finishes them and that its
    tool comes to."""
    strategy, setup = STRATEGIES[operation.params.strategy], build.job.setup(operation.setup)
    duties = strategy.finishes(operation.params)
    if {"hole", "mouth", "edge"} & set(duties):
        return _over_bottom(build, operation, places)
    lies = lying(places.normal[:, 2])
    fits = np.logical_or.reduce([lies[d] for d in duties] or [np.zeros(len(places), bool)])
    if strategy.makes(operation.params) == "the top":
        return fits & (places.place[:, 2] > float(build.placing(setup).parts[1, 2]) - TOP_MM)
    rows = np.flatnonzero(fits & _over_bottom(build, operation, places))
    fits = np.zeros(len(places), bool)
    fits[rows] = surface.reach(build, setup).touched(build.job.tool(operation.tool), places.rows(rows))
    return np.asarray(fits)


def _over_bottom(build: Build, operation: Operation, places: SurfacePlaces) -> Mask:
    """Which of some places, in the frame of a row's setup, lie over its bottom where that is set higher than theirs."""
    params, setup = operation.params, build.job.setup(operation.setup)
    z = places.place[:, 2]
    if not isinstance(params, MillingParams):
        return np.ones(len(z), bool)
    if params.bottom_from == "work zero":
        return np.asarray(z > float(build.zero(setup)[2]) + params.bottom_mm)
    if params.bottom_from != "geometry" or params.bottom_mm <= 0:
        return np.ones(len(z), bool)
    mesh = build.mesh_of_one(setup, FINEST_MM)
    foot = np.full(int(mesh.face_ids.max()) + 1, np.inf)
    np.minimum.at(foot, mesh.face_ids, mesh.corners()[:, :, 2].min(axis=1))
    return np.asarray(z > foot[places.face] + params.bottom_mm)


def _may_finish(build: Build, operation: Operation, places: SurfacePlaces) -> Mask:
    """Places on the faces that a row is applied to; those of pockets with their walls, of holes with all of them."""
    strategy, params = STRATEGIES[operation.params.strategy], operation.params
    if strategy.makes(params) in ("the top", "all from above"):
        return np.ones(len(places), bool)
    if isinstance(params, TargetParams) and any(isinstance(t, OutlineTarget) for t in params.targets):
        return np.ones(len(places), bool)
    faces = set(picked_faces(build, operation))
    if not faces and not strategy.for_holes and strategy.finishes(params) == ("slope",):
        return np.ones(len(places), bool)
    if strategy.finishes(params) == ("mouth",):
        return np.isin(places.face, sorted(_mouths(build, operation, faces)))
    if faces:
        faces |= _with_the_feature(build, operation, faces)
    return np.isin(places.face, sorted(faces))


def _mouths(build: Build, operation: Operation, faces: set[int]) -> set[int]:
    """The chamfers that come with spotting holes with some faces."""
    up, tool = build.frame(build.job.setup(operation.setup)).rotation[:, 2], build.job.tool(operation.tool)
    holes = [from_side(h, up) for h in build.recognition().holes if faces & set(h.faces)]
    return {f for h in holes for f in mouth_for(h, tool)}


def _with_the_feature(build: Build, operation: Operation, faces: set[int]) -> set[int]:
    """Faces that come with those that are picked: the walls of a floor, the mouth and the end of a bore."""
    found = build.recognition()
    more: set[int] = set()
    if STRATEGIES[operation.params.strategy].for_holes:
        for hole in found.holes:
            steps = [k for k, s in enumerate(hole.steps) if faces & set(s.faces)]
            for k in steps:
                near = hole.steps[k + 1 :] if k + 1 == len(hole.steps) - 1 else []
                more |= {f for s in near if s.kind in ("drill point", "flat bottom", "ball bottom") for f in s.faces}
        return more
    for pocket in found.pockets:
        if faces & set(pocket.floor):
            more |= set(pocket.walls)
    return more

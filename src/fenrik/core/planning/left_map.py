"""Where on the part stock is left, place by place: measured where all rows are cut, else as the rows will leave it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.build import Build
from fenrik.core.frames import Points
from fenrik.core.job import Setup
from fenrik.core.packing import pack, unpack
from fenrik.core.planning.forecast import Forecast
from fenrik.core.setups.stocks import EarlierStock
from fenrik.core.solids.reading import mesh_at
from fenrik.core.stock.standing import Standing, standing

APART_MM = 0.05
"""What a patch may be off beyond the rows' tolerance and still count as finished."""
MESH_MM = 0.005
FINISHED, LEFT, NOT_SEEN = 0, 1, 2
MOST_PLACES = 20_000


@dataclass(frozen=True)
class LeftMap:
    """Places (n, 3) on the part with outward normals, in part coordinates.

    Attributes:
        thick_mm: (n,) what stands there; 0 where it is finished. state: (n,) `FINISHED`, `LEFT` or `NOT_SEEN`.
        measured: whether the cut stock says so; else only the rows are known.
    """

    place: Points
    normal: Points
    thick_mm: Points
    state: NDArray[np.uint8]
    measured: bool

    def packed(self) -> bytes:
        columns = {k: getattr(self, k) for k in ("place", "normal", "thick_mm", "state")}
        return pack({"measured": self.measured}, **columns)

    @classmethod
    def unpacked(cls, data: bytes) -> LeftMap:
        told, arrays = unpack(data)
        return cls(**arrays, measured=told["measured"])


def last_standings(build: Build) -> list[tuple[Setup, Standing]]:
    """What stands over the part after the last setup of each chain of setups that begins with a stock of its own.

    Raises:
        FenrikError: when the part is missing, or a row cannot be computed.
    """
    setups = [s for s in build.job.setups if not s.makes and build.job.route(s)]
    taken_over = {s.stock.setup for s in setups if isinstance(s.stock, EarlierStock)}
    return [(s, what_stands(build, s)) for s in setups if s.id not in taken_over]


def what_stands(build: Build, setup: Setup) -> Standing:
    """What stands over the first copy of the part after the last row of a setup, in the setup's frame."""
    stock = build.stock_after(build.job.route(setup)[-1])
    return standing(stock, mesh_at(build.solid, MESH_MM).in_frame(build.frame(setup)))


def least_off(build: Build) -> float:
    """What must stand somewhere to count as left, mm."""
    setups = [s for s in build.job.setups if not s.makes]
    return APART_MM + min(o.params.tolerance_mm for s in setups for o in build.job.route(s))


def first_thickness(build: Build, found: Forecast) -> Points:
    """How thick the first stock stands over places of a forecast along their normals, (n,) mm; 0 without a setup."""
    places = found.surface.places
    setup = next((s for s in build.job.setups if not s.makes), None)
    if setup is None:
        return np.zeros(len(places))
    low, high = build.placing(setup).stock
    own = places.in_frame(build.frame(setup))
    with np.errstate(divide="ignore", invalid="ignore"):
        far = np.where(own.normal > 0, high - own.place, low - own.place) / own.normal
    return np.asarray(np.where(np.abs(own.normal) > 1e-9, far, np.inf).min(axis=1))


def predicted_map(build: Build, found: Forecast) -> LeftMap:
    """What the rows of a job will leave, by their forecast; the thickness is that of the first stock.

    Raises:
        FenrikError: when the part is missing.
    """
    places = found.surface.places
    state = np.where(found.done, FINISHED, NOT_SEEN).astype(np.uint8)
    for setup in [s for s in build.job.setups if not s.makes]:
        seen = found.surface.reach(build, setup).seen(places.in_frame(build.frame(setup)))
        state[seen & (state == NOT_SEEN)] = LEFT
    thick = np.where(state == FINISHED, 0.0, first_thickness(build, found))
    return LeftMap(places.place, places.normal, thick, state, False)


def measured_map(build: Build, stands: list[tuple[Setup, Standing]]) -> LeftMap:
    """What stands over the part after all rows, on an even choice of places."""
    least = least_off(build)
    columns = []
    for setup, found in stands:
        rows = _evenly(found.area_mm2, MOST_PLACES // len(stands))
        over, frame = found.over_mm[rows], build.frame(setup)
        off = over > least
        state = np.where(off, LEFT, FINISHED).astype(np.uint8)
        normal = found.normal[rows] @ frame.rotation.T
        columns.append((frame.to_part(found.place[rows]), normal, np.where(off, over, 0.0), state))
    place, normal, thick, state = (np.concatenate(column) for column in zip(*columns, strict=True))
    return LeftMap(place, normal, thick, state, True)


def _evenly(area: Points, count: int) -> NDArray[np.int64]:
    """Rows spread evenly over an area."""
    along = np.cumsum(area)
    return np.unique(np.searchsorted(along, (np.arange(count) + 0.5) / count * along[-1]))

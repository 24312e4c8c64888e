"""What a cell reaches of a path, before its way is solved: by turntable and track, with reasons, and where to put the
work instead.

Poses of the path are tried one by one over a grid of all freedoms. A pose counts as reached where some posture stands
between the ends of its joints, is not singular, and keeps the arm's bodies clear of what stands round.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.robots import _whole_path_kernels as kernels
from fenrik.core.robots._cell_kernels import Surroundings
from fenrik.core.robots.around import nothing_around
from fenrik.core.robots.chain import CellChain
from fenrik.core.robots.whole_path import wanted_of
from fenrik.core.robots.wishes import ArmWishes
from fenrik.core.toolpath import Toolpath

Reason = Literal["reach", "limit", "singular", "collision", "way"]
REASONS: tuple[Reason, ...] = ("reach", "limit", "singular", "collision", "way")
"""By how a pose stands at best; `way`: reached by itself, but not on a way with the others."""
MEANING = {
    "reach": "out of the arm's reach",
    "limit": "reached only with a joint beyond its end",
    "singular": "reached only in singular postures",
    "collision": "reached only where the arm would touch what stands round",
    "way": "reached by itself, but not on a way with the rows beside it",
}
REACHED = 4
MOST_POSES, SPINS, TABLES, TRACKS = 240, 12, 24, 9


@dataclass(frozen=True)
class Band:
    """How much of a path is reached at values of an external axis.

    Attributes:
        name: of the joint. value: (v,) deg or mm. share: (v,) of the poses, 0 to 1.
    """

    name: str
    unit: str
    value: Points
    share: Points


@dataclass(frozen=True)
class PlaceReach:
    """How much of a path is reached where the work zero lies at x, y over the table's middle."""

    x_mm: float
    y_mm: float
    share: float
    held_share: float
    """With the external axes at their best one value each."""


@dataclass(frozen=True)
class _Grid:
    spin: Points
    table: Points
    track: Points
    tables: Points
    tracks: Points


def _grid(chain: CellChain, wishes: ArmWishes) -> _Grid:
    wanted = wanted_of(chain, wishes)
    spins = 2 * np.pi * np.arange(SPINS) / SPINS
    tables, tracks = np.array([0.0]), np.array([0.0])
    if chain.table is not None:
        low, high = wanted.external_low[0], wanted.external_high[0]
        endless = high - low >= 2 * np.pi
        tables = 2 * np.pi * np.arange(TABLES) / TABLES - np.pi if endless else np.linspace(low, high, TABLES)
        if wishes.table == "held":
            tables = np.array([np.deg2rad(wishes.table_deg)])
    if chain.track is not None:
        tracks = np.linspace(wanted.external_low[1], wanted.external_high[1], TRACKS)
        if wishes.track == "held":
            tracks = np.array([wishes.track_mm])
    a, b, c = np.meshgrid(spins, tables, tracks, indexing="ij")
    return _Grid(a.ravel(), b.ravel(), c.ravel(), tables, tracks)


def _sampled(n: int) -> NDArray[np.int64]:
    return np.unique(np.linspace(0, n - 1, min(n, MOST_POSES)).astype(np.int64)) if n else np.zeros(0, np.int64)


def standings(
    chain: CellChain, point: Points, axis: Points, wishes: ArmWishes, around: Surroundings | None = None
) -> NDArray[np.int8]:
    """How poses (n, 3), (n, 3) of the work stand over a grid of all freedoms, (n, spins, tables, tracks): 0 out of
    reach, 1 beyond ends, 2 singular, 3 touching, 4 reached."""
    grid, wanted = _grid(chain, wishes), wanted_of(chain, wishes)
    found = kernels.standings(
        chain.arm, chain.shape, around or nothing_around(), wanted, np.ascontiguousarray(point),
        np.ascontiguousarray(axis), kernels.leads(np.ascontiguousarray(axis), np.zeros(len(axis))),
        grid.spin, grid.table, grid.track,
    )  # fmt: skip
    return np.asarray(found.reshape(len(point), SPINS, len(grid.tables), len(grid.tracks)))


def bands(chain: CellChain, path: Toolpath, wishes: ArmWishes, around: Surroundings | None = None) -> list[Band]:
    """For each external axis how much of a path it lets the arm reach at each of its values, the other one free."""
    rows = _sampled(len(path))
    if len(rows) == 0:
        return []
    grid = _grid(chain, wishes)
    there = standings(chain, path.point[rows], path.axis[rows], wishes, around) == REACHED
    found = []
    if chain.table is not None:
        joint = chain.joints[chain.table]
        found.append(Band(joint.name, "deg", np.rad2deg(grid.tables), there.any(axis=(1, 3)).mean(axis=0)))
    if chain.track is not None:
        joint = chain.joints[chain.track]
        found.append(Band(joint.name, "mm", grid.tracks, there.any(axis=(1, 2)).mean(axis=0)))
    return found


def reasons(
    chain: CellChain, point: Points, axis: Points, wishes: ArmWishes, around: Surroundings | None = None
) -> list[Reason]:
    """Why each of some poses is not reached; of very many some are looked at, and the others are told as the nearest of
    them before."""
    if len(point) == 0:
        return []
    looked = _sampled(len(point))
    best = standings(chain, point[looked], axis[looked], wishes, around).max(axis=(1, 2, 3))
    own = np.searchsorted(looked, np.arange(len(point)), "right") - 1
    return [REASONS[int(k)] for k in best[own]]


def by_place(
    chain_at: Callable[[float, float], CellChain], path: Toolpath, wishes: ArmWishes, places: Points,
    around: Callable[[float, float], Surroundings] | None = None,
) -> list[PlaceReach]:  # fmt: skip
    """How much of a path is reached by where the work lies, the best place first: all of it, then most of it with the
    external axes at one value, then nearest to the middle.

    Args:
        chain_at: the cell with the work zero at x, y over the table's middle. places: (p, 2). around: what stands
            round, there.
    """
    rows, found = _sampled(len(path)), []
    for x, y in places.tolist():
        there = standings(
            chain_at(x, y), path.point[rows], path.axis[rows], wishes, around(x, y) if around else None
        ) == REACHED  # fmt: skip
        share = float(there.any(axis=(1, 2, 3)).mean())
        held = float(there.any(axis=1).mean(axis=0).max())
        found.append(PlaceReach(x, y, share, held))
    return sorted(found, key=lambda p: (-round(p.share, 3), -round(p.held_share, 3), np.hypot(p.x_mm, p.y_mm)))

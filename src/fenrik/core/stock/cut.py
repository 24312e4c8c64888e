"""Cut the stock by the true sweep of a tool along straight motions (axis along z).

For each ray near a motion the stretch inside the swept tool is found in closed form (bisection only for a corner
radius on a sloping motion) and taken out of the ray; no stamping of copies, so there are no gaps whatever the length
of a motion. Rays are independent, so tiles of rays run in parallel and the result does not depend on threads.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.progress import Progress, silent
from fenrik.core.stock import _cut_kernels as kernels
from fenrik.core.stock.field import FAMILIES, Stock, freeze_tile, tile_places
from fenrik.core.tools.profile import Profile

LANES = 32
BATCH = 20_000


@dataclass(frozen=True)
class Bodies:
    """The cutter that removes material and the bodies of the same tool that must not touch it."""

    cutter: Profile
    watched: tuple[Profile, ...] = ()


@dataclass(frozen=True)
class CutRecord:
    """What each motion did.

    Attributes:
        removed_mm3: (n,) volume taken by the cutter, measured on the z rays.
        engagement_deg: (n,) arc of the cutter in material, 0 where nothing was taken.
        touch_mm: (n, bodies) how deep each watched body stood in the stock (0: clear).
        touch_place: (n, bodies, 3) where that was deepest.
        dirty: (bx, by, bz) bool, bricks of 32 cells whose surface changed.
    """

    removed_mm3: Points
    engagement_deg: Points
    touch_mm: Points
    touch_place: Points
    dirty: NDArray[np.bool_]


def cut(
    stock: Stock, starts: Points, ends: Points, bodies: Bodies, first_source: int = 0, progress: Progress = silent
) -> tuple[Stock, CutRecord]:
    """Move a tool along straight motions through the stock.

    Args:
        starts, ends: (n, 3) tip places, mm, in the stock's frame; the axis is +z.
        bodies: cutter and watched bodies.
        first_source: number of the first motion, kept with the hits it makes.

    Returns:
        The stock afterwards and what each motion did.

    Raises:
        FenrikError: when a place is not a number.
    """
    starts = np.ascontiguousarray(starts, dtype=np.float64)
    ends = np.ascontiguousarray(ends, dtype=np.float64)
    if not (np.all(np.isfinite(starts)) and np.all(np.isfinite(ends))):
        raise fail("motion", "has a place that is not a number.", "Report this toolpath.")
    n = len(starts)
    lattice = stock.lattice
    origin = np.array(lattice.origin)
    bricks = tuple((s + kernels.BRICK - 1) // kernels.BRICK for s in lattice.shape)
    dirty = np.zeros(bricks, np.uint8)
    removed = np.zeros((LANES, n))
    sines = np.tile(np.array([2.0, -2.0]), (LANES, n, 1))
    touch = np.zeros((LANES, n, max(len(bodies.watched), 1), 4))
    elements, tops, offsets = _stack(bodies.watched)
    tiles = []
    steps = 3 * max((n + BATCH - 1) // BATCH, 1)
    step = 0
    for family in range(3):
        u, v, along = FAMILIES[family]
        dense = stock.dense(family, 4)
        boxes = _ray_boxes(stock, family, starts, ends, bodies)
        changed = np.zeros(dense[0].shape, np.bool_)
        for begin in range(0, max(n, 1), BATCH):
            stop = min(begin + BATCH, n)
            resume = np.full(len(stock.tiles[family]), begin, np.int64)
            while True:
                kernels.cut_family(
                    family,
                    u,
                    v,
                    along,
                    *dense,
                    changed,
                    starts,
                    ends,
                    resume,
                    stop,
                    origin,
                    lattice.cell_mm,
                    bodies.cutter.elements,
                    float(bodies.cutter.top_mm),
                    first_source,
                    dirty,
                    removed,
                    sines,
                    elements,
                    tops,
                    offsets,
                    touch,
                    boxes,
                )
                if np.all(resume >= stop):
                    break
                dense = _with_room(dense)
            step += 1
            progress(step / steps, "cutting the stock")
        tiles.append(
            tuple(
                freeze_tile(dense, pu, pv) if changed[pu, pv].any() else old
                for old, (pu, pv) in zip(stock.tiles[family], tile_places(lattice, family), strict=True)
            )
        )
    deepest = touch[..., 0].argmax(axis=0)
    best = np.take_along_axis(touch, deepest[None, ..., None], axis=0)[0]
    watched = len(bodies.watched)
    low, high = sines[..., 0].min(axis=0), sines[..., 1].max(axis=0)
    angle = np.where(high >= low, np.rad2deg(np.arcsin(np.clip(high, -1, 1)) - np.arcsin(np.clip(low, -1, 1))), 0.0)
    record = CutRecord(removed.sum(axis=0), angle, best[:, :watched, 0], best[:, :watched, 1:], dirty.astype(bool))
    return Stock(lattice, (tiles[0], tiles[1], tiles[2]), max(stock.error_mm, 1e-9)), record


def _ray_boxes(stock: Stock, family: int, starts: Points, ends: Points, bodies: Bodies) -> NDArray[np.int32]:
    """First and last ray along u and v that a motion can reach, (n, 4)."""
    radius = max(p.radius_mm for p in (bodies.cutter, *bodies.watched))
    grow = {0: (radius, radius), 1: (radius, radius), 2: (0.0, bodies.cutter.top_mm)}
    boxes = np.empty((len(starts), 4), np.int32)
    for column, axis in enumerate(FAMILIES[family][:2]):
        low = np.minimum(starts[:, axis], ends[:, axis]) - grow[axis][0] - stock.lattice.origin[axis]
        high = np.maximum(starts[:, axis], ends[:, axis]) + grow[axis][1] - stock.lattice.origin[axis]
        limit = 2 * stock.lattice.shape[axis]
        boxes[:, 2 * column] = np.clip(np.floor(low / stock.lattice.cell_mm), -1, limit)
        boxes[:, 2 * column + 1] = np.clip(np.ceil(high / stock.lattice.cell_mm), -1, limit)
    return boxes


def _with_room(dense: tuple) -> tuple:
    """The same rays with room for twice as many hits."""
    count, at, normal, source = dense
    return (
        count,
        np.concatenate([at, np.zeros_like(at)], axis=2),
        np.concatenate([normal, np.zeros_like(normal)], axis=2),
        np.concatenate([source, np.full_like(source, -1)], axis=2),
    )


def _stack(profiles: tuple[Profile, ...]) -> tuple[Points, Points, NDArray[np.int64]]:
    offsets = np.cumsum([0, *(len(p.elements) for p in profiles)]).astype(np.int64)
    elements = np.concatenate([p.elements for p in profiles]) if profiles else np.zeros((0, 8))
    return elements, np.array([p.top_mm for p in profiles]), offsets

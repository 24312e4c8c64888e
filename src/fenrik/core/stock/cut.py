"""Cut the stock by the true sweep of a tool: any outline, standing in any direction, its axis constant or turning.

For each ray near a motion the stretch inside the swept tool is found and taken out of the ray; no stamping of copies,
so there are no gaps whatever the length of a motion. With a constant axis the sweep is exact. A turning axis is
followed in steps so short that the swept body is within a stated bound, which the stock keeps. Rays are independent,
so tiles of rays run in parallel and the result does not depend on threads.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.progress import Progress, silent
from fenrik.core.stock import _cut_kernels as kernels
from fenrik.core.stock.field import FAMILIES, Dense, Stock, freeze_tile, tile_places
from fenrik.core.toolpath.poses import Poses
from fenrik.core.tools.assembly import Assembly
from fenrik.core.tools.profile import Profile
from fenrik.core.tools.underside import undersides_of

LANES = 19
"""Sums that are kept apart; no multiple of the tiles in a row, so that work beside a row spreads over all of them."""
BATCH = 8192
SCATTER = (7, 3, 5, 1, 6, 4, 2, 0)
TURN_BOUND_MM, TURN_BOUND_CELLS = 0.005, 0.1
WATCH_BOUND = 10.0
"""How far off the sweep of watched bodies (the holder, far from the tip) may be, over the bound of the cutter's."""


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
    stock: Stock, poses: Poses, assembly: Assembly, first_source: int = 0, progress: Progress = silent
) -> tuple[Stock, CutRecord]:
    """Move a tool through the stock.

    Args:
        poses: straight steps in the frame that the stock is spoken of.
        assembly: the body that cuts and those that are watched.
        first_source: number of the first step, kept with the hits it makes.

    Returns:
        The stock afterwards and what each step did. The depth of a watched body is the shortest of the longest
        stretches of stock in it on the three families of rays; never less than how far it must be moved out.

    Raises:
        FenrikError: when a place or an axis is not a number, or an axis turns over in one step.
    """
    given = (poses.start, poses.end, poses.start_axis, poses.end_axis)
    if not all(np.all(np.isfinite(p)) for p in given):
        raise fail("motion", "has a place that is not a number.", "Report this toolpath.")
    if not assembly.profiles:
        return stock, _nothing(stock, len(poses))
    if stock.leans:
        poses = poses.in_frame(stock.frame)
    steps, owner, off = _constant(poses, assembly, stock.lattice.cell_mm)
    work = _Work(stock, steps, (owner + first_source).astype(np.int64), assembly)
    tiles = []
    batches = [(begin, min(begin + BATCH, len(steps))) for begin in range(0, len(steps), BATCH)]
    for family in range(3):
        dense = stock.dense(family, 4)
        changed = np.zeros(dense[0].shape, np.bool_)
        for k, (begin, stop) in enumerate(batches):
            dense = work.run(family, dense, changed, begin, stop)
            progress((family + (k + 1) / len(batches)) / 3, "cutting the stock")
        tiles.append(
            tuple(
                freeze_tile(dense, pu, pv) if changed[pu, pv].any() else old
                for old, (pu, pv) in zip(stock.tiles[family], tile_places(stock.lattice, family), strict=True)
            )
        )
    error = max(stock.error_mm, 1e-9, off + (assembly.cutting.error_mm if assembly.cutting is not None else 0.0))
    record = work.record(owner, len(poses))
    if stock.leans:
        record = replace(record, touch_place=stock.frame.to_part(record.touch_place))
    return Stock(stock.lattice, (tiles[0], tiles[1], tiles[2]), error, stock.frame), record


def _nothing(stock: Stock, n: int) -> CutRecord:
    """What a tool without bodies does."""
    bricks = tuple((s + kernels.BRICK - 1) // kernels.BRICK for s in stock.lattice.shape)
    return CutRecord(np.zeros(n), np.zeros(n), np.zeros((n, 0)), np.zeros((n, 0, 3)), np.zeros(bricks, np.bool_))


def _constant(poses: Poses, assembly: Assembly, cell_mm: float) -> tuple[Poses, NDArray[np.int64], float]:
    """Steps with a constant axis, the pose that each belongs to, and how far off the cutter's sweep may be."""
    numbered = Poses(poses.start, poses.end, poses.start_axis, poses.end_axis, np.arange(len(poses)))
    if np.array_equal(poses.start_axis, poses.end_axis):
        return numbered, numbered.source, 0.0
    bound = min(TURN_BOUND_MM, TURN_BOUND_CELLS * cell_mm)
    off = 0.0
    if assembly.cutting is not None:
        c = assembly.cutting
        numbered, off = numbered.straightened(c.bottom_mm, c.top_mm, c.radius_mm, bound)
    elif assembly.watched:
        low, high = assembly.profiles[0].bottom_mm, assembly.profiles[-1].top_mm
        numbered, off = numbered.straightened(low, high, assembly.radius_mm, WATCH_BOUND * bound)
    return numbered, numbered.source, off


class _Work:
    """Steps with a constant axis made ready for the kernels, and the sums that they leave."""

    def __init__(self, stock: Stock, steps: Poses, sources: NDArray[np.int64], assembly: Assembly) -> None:
        self.lattice = stock.lattice
        self.origin = np.array(stock.lattice.origin)
        self.sources, self.assembly = sources, assembly
        self.axes = np.ascontiguousarray(steps.start_axis)
        self.starts = np.ascontiguousarray(steps.start)
        self.ways = np.ascontiguousarray(steps.end - steps.start)
        self.convex = [run for p in assembly.profiles for run in p.convex()]
        first = 0 if assembly.cutting is None else -1
        self.owner = np.repeat(np.arange(first, len(assembly.watched)), [len(p.runs) - 1 for p in assembly.profiles])
        self.bands = np.concatenate([run.bands for run in self.convex])
        self.runs = np.cumsum([0, *(len(run.bands) for run in self.convex)]).astype(np.int64)
        sides = [undersides_of(run)[0] for run in self.convex]
        self.undersides = np.concatenate([s.elements for s in sides])
        self.chains = np.cumsum([0, *(len(s.elements) for s in sides)]).astype(np.int64)
        n, watched = len(steps), len(assembly.watched)
        self.removed = np.zeros(n)
        self.sines = np.tile(np.array([2.0, -2.0]), (n, 1))
        self.touch = np.zeros((3, n, watched, 4))
        self.tile_counts = [len(t) for t in stock.tiles]
        bricks = tuple((s + kernels.BRICK - 1) // kernels.BRICK for s in stock.lattice.shape)
        self.dirty = np.zeros(bricks, np.uint8)

    def run(self, family: int, dense: Dense, changed: NDArray[np.bool_], begin: int, stop: int) -> Dense:
        """One batch on one family of rays; the rays come back, with more room where they needed it."""
        u, v, along = FAMILIES[family]
        n, rows, watched = stop - begin, slice(begin, stop), len(self.assembly.watched)
        starts, ways, axes = self.starts[rows], self.ways[rows], self.axes[rows]
        turns = _tool_frames(axes, ways)
        boxes = np.stack([_swept_box(run, starts, ways, axes) for run in self.convex], axis=1)
        measured = np.abs(axes).argmax(axis=1) == along
        removed, touch = np.zeros((LANES, n)), np.zeros((LANES, n, max(watched, 1), 4))
        sines = np.tile(np.array([2.0, -2.0]), (LANES, n, 1))
        resume = np.zeros(self.tile_counts[family], np.int64)
        order = np.arange(n) if family == 2 or measured.any() or self._watches(boxes) else _scattered(n)
        while True:
            kernels.cut_family(
                family, u, v, along, *dense, changed, starts, ways, turns, boxes, order, resume, self.origin,
                self.lattice.cell_mm, self.bands, self.runs, self.undersides, self.chains, self.owner, measured,
                self.sources[rows], self.dirty, removed, sines, touch,
            )  # fmt: skip
            if np.all(resume == n):
                break
            dense = _with_room(dense)
        self.removed[rows] += removed.sum(axis=0)
        self.sines[rows, 0] = np.minimum(self.sines[rows, 0], sines[..., 0].min(axis=0))
        self.sines[rows, 1] = np.maximum(self.sines[rows, 1], sines[..., 1].max(axis=0))
        self.touch[family, rows] = _first_deepest(touch)[:, :watched]
        return dense

    def _watches(self, boxes: Points) -> bool:
        """Whether a watched body comes to where stock can be: only then does it matter what was cut before."""
        high = self.origin + self.lattice.cell_mm * (np.array(self.lattice.shape) - 1)
        watched = boxes[:, self.owner >= 0]
        return bool(np.any(np.all((watched[..., :3] < high) & (watched[..., 3:] > self.origin), axis=-1)))

    def record(self, owner: NDArray[np.int64], n: int) -> CutRecord:
        """What each pose did, its steps taken together."""
        removed, low, high = np.zeros(n), np.full(n, 2.0), np.full(n, -2.0)
        np.add.at(removed, owner, self.removed)
        np.minimum.at(low, owner, self.sines[:, 0])
        np.maximum.at(high, owner, self.sines[:, 1])
        span = np.arcsin(np.clip(high, -1, 1)) - np.arcsin(np.clip(low, -1, 1))
        # The family on which a body shows shallowest tells how deep it is.
        seen = np.where(self.touch[..., 0] > 0, self.touch[..., 0], np.inf)
        family = seen.argmin(axis=0)
        best = np.take_along_axis(self.touch, family[None, ..., None], axis=0)[0]
        depth, place = np.zeros((n, best.shape[1])), np.zeros((n, best.shape[1], 3))
        np.maximum.at(depth, owner, best[..., 0])
        for k in range(best.shape[1]):
            at = np.flatnonzero((best[:, k, 0] > 0) & (best[:, k, 0] == depth[owner, k]))[::-1]
            place[owner[at], k] = best[at, k, 1:]
        angle = np.where(high >= low, np.rad2deg(span), 0.0)
        return CutRecord(removed, angle, depth, place, self.dirty.astype(bool))


def _scattered(n: int) -> NDArray[np.int64]:
    """Numbers up to n in chunks, the last of a chunk first: it cuts far, and leaves little to those before it."""
    chunks = -(-n // len(SCATTER))
    order = len(SCATTER) * np.arange(chunks)[:, None] + SCATTER
    return order[order < n]


def _first_deepest(touch: Points) -> Points:
    """Of the lanes' deepest touches (lanes, n, bodies, 4) the deepest of all."""
    lane = touch[..., 0].argmax(axis=0)
    return np.asarray(np.take_along_axis(touch, lane[None, ..., None], axis=0)[0])


def _tool_frames(axes: Points, ways: Points) -> Points:
    """Rows are the axes of the tool's frame, (n, 3, 3): z along the tool, x along the level part of the way."""
    level = ways - np.einsum("ij,ij->i", ways, axes)[:, None] * axes
    size = np.linalg.norm(level, axis=1)
    helper = np.where(np.abs(axes[:, :1]) < 0.9, [[1.0, 0.0, 0.0]], [[0.0, 1.0, 0.0]])
    any_level = np.cross(axes, helper)
    x = np.where((size > 1e-9)[:, None], level, any_level)
    x /= np.linalg.norm(x, axis=1, keepdims=True)
    return np.ascontiguousarray(np.stack([x, np.cross(axes, x), axes], axis=1))


def _swept_box(profile: Profile, starts: Points, ways: Points, axes: Points) -> Points:
    """Lowest and highest corner of what a body sweeps, (n, 6)."""
    around = profile.radius_mm * np.sqrt(np.maximum(1.0 - axes * axes, 0.0))
    ends = [profile.bottom_mm * axes, profile.top_mm * axes]
    low, high = np.minimum(*ends) - around, np.maximum(*ends) + around
    return np.hstack([starts + np.minimum(ways, 0.0) + low, starts + np.maximum(ways, 0.0) + high])


def _with_room(dense: Dense) -> Dense:
    """The same rays with room for twice as many hits."""
    count, at, normal, source = dense
    return (
        count,
        np.concatenate([at, np.zeros_like(at)], axis=2),
        np.concatenate([normal, np.zeros_like(normal)], axis=2),
        np.concatenate([source, np.full_like(source, -1)], axis=2),
    )

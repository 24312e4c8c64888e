"""Cut the stock by the true sweep of a tool: any outline, standing in any direction, its axis constant or turning.

For each ray near a motion the stretch inside the swept tool is found and taken out of the ray; no stamping of copies,
so there are no gaps whatever the length of a motion. With a constant axis the sweep is exact. A turning axis is
followed in steps so short that the swept body is within a stated bound, which the stock keeps. Rays are independent,
so tiles of rays run in parallel and the result does not depend on threads.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.progress import Progress, silent
from fenrik.core.stock import _cut_kernels as kernels
from fenrik.core.stock import _pose_kernels as posed
from fenrik.core.stock.field import FAMILIES, Stock, freeze_tile, tile_places
from fenrik.core.toolpath.poses import SAME_AXIS, UPRIGHT, Poses
from fenrik.core.tools.assembly import Assembly
from fenrik.core.tools.profile import Profile
from fenrik.core.tools.underside import undersides_of

LANES = 16
BATCH = 8192
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
        poses: straight steps in the stock's frame.
        assembly: the body that cuts and those that are watched.
        first_source: number of the first step, kept with the hits it makes.

    Returns:
        The stock afterwards and what each step did. Upright, a watched body's depth is measured along its axis; else
        it is the shortest of the longest stretches on the three families of rays.

    Raises:
        FenrikError: when a place or an axis is not a number, or an axis turns over in one step.
    """
    given = (poses.start, poses.end, poses.start_axis, poses.end_axis)
    if not all(np.all(np.isfinite(p)) for p in given):
        raise fail("motion", "has a place that is not a number.", "Report this toolpath.")
    steps, owner, off = _constant(poses, assembly, stock.lattice.cell_mm)
    work = _Work(stock, steps, (owner + first_source).astype(np.int64), assembly)
    tiles = []
    batches = list(_batches(work.fast))
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
    return Stock(stock.lattice, (tiles[0], tiles[1], tiles[2]), error), work.record(owner, len(poses))


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


def _batches(fast: NDArray[np.bool_]) -> Iterator[tuple[int, int]]:
    """Stretches of steps for one kernel, none longer than a batch."""
    n = len(fast)
    edges = [0, *(np.flatnonzero(fast[1:] != fast[:-1]) + 1).tolist(), n]
    for a, b in itertools.pairwise(edges):
        for begin in range(a, b, BATCH):
            yield begin, min(begin + BATCH, b)


class _Work:
    """Steps with a constant axis made ready for the kernels, and the sums that they leave."""

    def __init__(self, stock: Stock, steps: Poses, sources: NDArray[np.int64], assembly: Assembly) -> None:
        self.lattice = stock.lattice
        self.origin = np.array(stock.lattice.origin)
        self.steps, self.sources, self.assembly = steps, sources, assembly
        self.axes = np.ascontiguousarray(steps.start_axis)
        self.starts, self.ends = (np.ascontiguousarray(p) for p in (steps.start, steps.end))
        plain = assembly.cutting is not None and assembly.cutting.is_plain
        self.fast = (np.abs(self.axes - UPRIGHT).max(axis=1, initial=0.0) < SAME_AXIS) & plain
        n, watched = len(steps), len(assembly.watched)
        self.removed = np.zeros(n)
        self.sines = np.tile(np.array([2.0, -2.0]), (n, 1))
        self.touch = np.zeros((3, n, watched, 4))
        self.tile_counts = [len(t) for t in stock.tiles]
        bricks = tuple((s + kernels.BRICK - 1) // kernels.BRICK for s in stock.lattice.shape)
        self.dirty = np.zeros(bricks, np.uint8)

    def run(self, family: int, dense: tuple, changed: NDArray[np.bool_], begin: int, stop: int) -> tuple:
        """One batch on one family of rays; the rays come back, with more room where they needed it."""
        n = stop - begin
        removed = np.zeros((LANES, n))
        sines = np.tile(np.array([2.0, -2.0]), (LANES, n, 1))
        resume = np.zeros(self.tile_counts[family], np.int64)
        call = self._upright if self.fast[begin] else self._posed
        again, touch = call(family, changed, slice(begin, stop), resume, (removed, sines))
        while True:
            again(dense)
            if np.all(resume >= n):
                break
            dense = _with_room(dense)
        self.removed[begin:stop] += removed.sum(axis=0)
        self.sines[begin:stop, 0] = np.minimum(self.sines[begin:stop, 0], sines[..., 0].min(axis=0))
        self.sines[begin:stop, 1] = np.maximum(self.sines[begin:stop, 1], sines[..., 1].max(axis=0))
        self.touch[family, begin:stop] = touch()
        return dense

    def _upright(self, family: int, changed: NDArray, rows: slice, resume: NDArray, sums: tuple):  # type: ignore[no-untyped-def]
        u, v, along = FAMILIES[family]
        cutting = self.assembly.cutting
        assert cutting is not None
        sides = [(k, s) for k, b in enumerate(self.assembly.watched) for s in undersides_of(b.profile)]
        owner = np.array([k for k, _ in sides], np.int64)
        offsets = np.cumsum([0, *(len(s.elements) for _, s in sides)]).astype(np.int64)
        elements = np.concatenate([s.elements for _, s in sides]) if sides else np.zeros((0, 8))
        touch = np.zeros((LANES, rows.stop - rows.start, max(len(sides), 1), 4))
        radius = max([cutting.radius_mm, *(s.radius_mm for _, s in sides)])
        boxes = _ray_boxes(self, family, rows, radius, cutting.top_mm)
        underside = undersides_of(cutting)[0].elements

        def again(dense: tuple) -> None:
            kernels.cut_family(
                family, u, v, along, *dense, changed, self.starts[rows], self.ends[rows], resume,
                rows.stop - rows.start, self.origin, self.lattice.cell_mm, underside, float(cutting.top_mm),
                self.sources[rows], self.dirty, *sums, elements, offsets, touch, boxes,
            )  # fmt: skip

        def deepest() -> Points:
            found = _first_deepest(touch)[:, : len(sides)]
            out = np.zeros((len(found), len(self.assembly.watched), 4))
            for k, column in zip(owner, np.swapaxes(found, 0, 1), strict=True):
                deeper = column[:, 0] > out[:, k, 0]
                out[deeper, k] = column[deeper]
            return out

        return again, deepest

    def _posed(self, family: int, changed: NDArray, rows: slice, resume: NDArray, sums: tuple):  # type: ignore[no-untyped-def]
        u, v, along = FAMILIES[family]
        profiles = self.assembly.profiles
        bands, runs, bodies = _stack(profiles)
        starts, axes = self.starts[rows], self.axes[rows]
        ways = self.ends[rows] - starts
        turns = _tool_frames(axes, ways)
        boxes = np.stack([_swept_box(p, starts, ways, axes) for p in profiles], axis=1)
        measured = np.abs(axes).argmax(axis=1) == along
        touch = np.zeros((LANES, len(starts), max(len(self.assembly.watched), 1), 4))

        def again(dense: tuple) -> None:
            posed.cut_family_posed(
                family, u, v, along, *dense, changed, starts, ways, turns, boxes, resume, len(starts), self.origin,
                self.lattice.cell_mm, bands, runs, bodies, self.assembly.cutting is not None, measured,
                self.sources[rows], self.dirty, *sums, touch,
            )  # fmt: skip

        return again, lambda: _first_deepest(touch)[:, : len(self.assembly.watched)]

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


def _first_deepest(touch: Points) -> Points:
    """Of the lanes' deepest touches (lanes, n, bodies, 4) the deepest of all."""
    lane = touch[..., 0].argmax(axis=0)
    return np.asarray(np.take_along_axis(touch, lane[None, ..., None], axis=0)[0])


def _ray_boxes(work: _Work, family: int, rows: slice, radius: float, top: float) -> NDArray[np.int32]:
    """First and last ray along u and v that an upright motion can reach, (n, 4)."""
    starts, ends, lattice = work.starts[rows], work.ends[rows], work.lattice
    grow = {0: (radius, radius), 1: (radius, radius), 2: (0.0, top)}
    boxes = np.empty((len(starts), 4), np.int32)
    for column, axis in enumerate(FAMILIES[family][:2]):
        low = np.minimum(starts[:, axis], ends[:, axis]) - grow[axis][0] - lattice.origin[axis]
        high = np.maximum(starts[:, axis], ends[:, axis]) + grow[axis][1] - lattice.origin[axis]
        limit = 2 * lattice.shape[axis]
        boxes[:, 2 * column] = np.clip(np.floor(low / lattice.cell_mm), -1, limit)
        boxes[:, 2 * column + 1] = np.clip(np.ceil(high / lattice.cell_mm), -1, limit)
    return boxes


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


def _with_room(dense: tuple) -> tuple:
    """The same rays with room for twice as many hits."""
    count, at, normal, source = dense
    return (
        count,
        np.concatenate([at, np.zeros_like(at)], axis=2),
        np.concatenate([normal, np.zeros_like(normal)], axis=2),
        np.concatenate([source, np.full_like(source, -1)], axis=2),
    )


def _stack(profiles: list[Profile]) -> tuple[Points, NDArray[np.int64], NDArray[np.int64]]:
    """Bands of all bodies, the runs among them, and the runs of each body."""
    bands = np.concatenate([p.bands for p in profiles])
    runs, bodies, offset = [0], [0], 0
    for p in profiles:
        runs += (p.runs[1:] + offset).tolist()
        offset += len(p.bands)
        bodies.append(len(runs) - 1)
    return bands, np.array(runs, np.int64), np.array(bodies, np.int64)

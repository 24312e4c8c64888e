"""Cut the stock by the true sweep of a tool: any outline, standing in any direction, its axis constant or turning.

For each ray near a motion the stretch inside the swept tool is found and taken out of the ray; no stamping of copies,
so there are no gaps whatever the length of a motion. With a constant axis the sweep is exact. A turning axis is
followed in steps so short that the swept body is within a stated bound, which the stock keeps. Rays are independent,
so tiles of rays run in parallel and the result does not depend on threads.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.progress import Progress, silent
from fenrik.core.stock import _cut_kernels as kernels
from fenrik.core.stock.field import FAMILIES, TILE, Dense, Stock, Tile, freeze_tile
from fenrik.core.toolpath.poses import Poses
from fenrik.core.tools.assembly import Assembly
from fenrik.core.tools.profile import Profile
from fenrik.core.tools.underside import undersides_of

LANES = 19
"""Sums that are kept apart; no multiple of the tiles in a row, so that work beside a row spreads over all of them."""
BATCH = 4096
GROUP = 64
"""Tiles that are written to at one time."""
CHUNK = 1024
"""Motions that may be taken out of order, where only the stock after all of them counts."""
TURN_BOUND_MM, TURN_BOUND_SHARE, TURN_BOUND_CELLS = 0.005, 0.0025, 0.1
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
    """

    removed_mm3: Points
    engagement_deg: Points
    touch_mm: Points
    touch_place: Points


def cut(
    stock: Stock, poses: Poses, assembly: Assembly, first_source: int = 0, progress: Progress = silent
) -> tuple[Stock, CutRecord]:
    """Move a tool through the stock.

    Args:
        poses: straight steps in the frame that the stock is spoken of.
        assembly: the body that cuts and those that are watched.
        first_source: number of the first step, kept with the hits it makes.

    Returns:
        The stock afterwards and what each step did. The depth of a watched body is that of the deepest stretch of stock
        on any ray: how deep it is in the body, from the side or from below, but no more than how long it is.

    Raises:
        FenrikError: when a place or an axis is not a number, or an axis turns over in one step.
    """
    given = (poses.start, poses.end, poses.start_axis, poses.end_axis)
    if not all(np.all(np.isfinite(p)) for p in given):
        raise fail("motion", "has a place that is not a number.", "Report this toolpath.")
    if not assembly.profiles:
        return stock, _nothing(len(poses))
    if stock.leans:
        poses = poses.in_frame(stock.frame)
    steps, owner, off = _constant(poses, assembly, stock.lattice.cell_mm)
    work = _Work(stock, steps, (owner + first_source).astype(np.int64), assembly)
    tiles = [list(family) for family in stock.tiles]
    batches = [(begin, min(begin + BATCH, len(steps))) for begin in range(0, len(steps), BATCH)]
    for k, batch in enumerate(batches):
        swept = work.swept(*batch)
        for family in range(3):
            work.run(family, tiles[family], swept)
            progress((k + (family + 1) / 3) / len(batches), "cutting the stock")
    error = max(stock.error_mm, 1e-9, off + (assembly.cutting.error_mm if assembly.cutting is not None else 0.0))
    record = work.record(owner, len(poses))
    if stock.leans:
        record = replace(record, touch_place=stock.frame.to_part(record.touch_place))
    x, y, z = (tuple(family) for family in tiles)
    return Stock(stock.lattice, (x, y, z), error, stock.frame), record


def _nothing(n: int) -> CutRecord:
    """What a tool without bodies does."""
    return CutRecord(np.zeros(n), np.zeros(n), np.zeros((n, 0)), np.zeros((n, 0, 3)))


def _constant(poses: Poses, assembly: Assembly, cell_mm: float) -> tuple[Poses, NDArray[np.int64], float]:
    """Steps with a constant axis, the pose that each belongs to, and how far off the cutter's sweep may be."""
    numbered = Poses(poses.start, poses.end, poses.start_axis, poses.end_axis, np.arange(len(poses)))
    if np.array_equal(poses.start_axis, poses.end_axis):
        return numbered, numbered.source, 0.0
    bound = min(max(TURN_BOUND_MM, TURN_BOUND_SHARE * cell_mm), TURN_BOUND_CELLS * cell_mm)
    off = 0.0
    if assembly.cutting is not None:
        c = assembly.cutting
        numbered, off = numbered.straightened(c.bottom_mm, c.top_mm, c.radius_mm, bound)
    elif assembly.watched:
        low, high = assembly.profiles[0].bottom_mm, assembly.profiles[-1].top_mm
        numbered, off = numbered.straightened(low, high, assembly.radius_mm, WATCH_BOUND * bound)
    return numbered, numbered.source, off


@dataclass(frozen=True)
class _Loose:
    """Tiles side by side with one room for hits, so that a kernel can write to them.

    Attributes:
        numbers: (t,) of the tiles. columns: counts, places, normals and sources of their rays. changed: (t,)
        resume: (t,) how many motions each has had.
    """

    numbers: NDArray[np.int64]
    columns: Dense
    changed: NDArray[np.bool_]
    resume: NDArray[np.int64]

    @classmethod
    def of(cls, numbers: NDArray[np.int64], tiles: list[Tile], room: int) -> _Loose:
        shape = (len(numbers), TILE, TILE)
        columns: Dense = (
            np.zeros(shape, np.int16),
            np.zeros((*shape, room)),
            np.zeros((*shape, room, 3), np.int8),
            np.full((*shape, room), -1, np.int32),
        )
        for k, tile in enumerate(tiles):
            a, b, cap = tile.at.shape
            columns[0][k, :a, :b] = tile.count
            columns[1][k, :a, :b, :cap] = tile.at
            columns[2][k, :a, :b, :cap] = tile.normal
            columns[3][k, :a, :b, :cap] = tile.source
        return cls(numbers, columns, np.zeros(len(numbers), bool), np.zeros(len(numbers), np.int64))

    def give_back(self, tiles: list[Tile], rays: NDArray[np.int64], n: int) -> _Loose:
        """Put the tiles that have had all n motions back; the others come with room for twice as many hits."""
        across = -(-int(rays[1]) // TILE)
        for k in np.flatnonzero(self.changed):
            a, b = np.minimum(rays - TILE * np.array(divmod(int(self.numbers[k]), across)), TILE)
            own: Dense = tuple(column[k, :a, :b] for column in self.columns)  # type: ignore[assignment]
            tiles[self.numbers[k]] = freeze_tile(own)
        left = np.flatnonzero(self.resume < n)
        numbers = self.numbers[left]
        more = _Loose.of(numbers, [tiles[k] for k in numbers], 2 * self.columns[1].shape[3])
        return replace(more, resume=self.resume[left])


def _loose_tiles(tiles: list[Tile], numbers: NDArray[np.int64]) -> Iterator[_Loose]:
    """Groups of tiles of like room, not many at a time: nothing dense beyond them."""
    room = np.array([_room_for(tiles[k].at.shape[2]) for k in numbers])
    for size in np.unique(room):
        own = numbers[room == size]
        for part in np.array_split(own, -(-len(own) // GROUP)):
            yield _Loose.of(part, [tiles[k] for k in part], int(size))


def _room_for(hits: int) -> int:
    """Room for a few more hits than there are: the next power of two."""
    return max(1 << (hits + 1).bit_length(), 4)


@dataclass(frozen=True)
class _Swept:
    """A batch of steps: which, their tips and ways and axes, the tool's frames, and the box that each run sweeps."""

    rows: slice
    starts: Points
    ways: Points
    axes: Points
    turns: Points
    boxes: Points


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

    def swept(self, begin: int, stop: int) -> _Swept:
        """What a batch of steps sweeps."""
        rows = slice(begin, stop)
        starts, ways, axes = self.starts[rows], self.ways[rows], self.axes[rows]
        boxes = np.stack([_swept_box(run, starts, ways, axes) for run in self.convex], axis=1)
        return _Swept(rows, starts, ways, axes, _tool_frames(axes, ways), boxes)

    def run(self, family: int, tiles: list[Tile], swept: _Swept) -> None:
        """One batch on one family of rays; tiles that it cuts are replaced."""
        u, v, along = FAMILIES[family]
        rows, starts, ways, axes = swept.rows, swept.starts, swept.ways, swept.axes
        n, turns = len(starts), swept.turns
        near, bodies = self._touched(family, swept.boxes, np.array([tile.span for tile in tiles]))
        if len(near) == 0:
            return
        boxes, owner = np.ascontiguousarray(swept.boxes[:, :bodies]), self.owner[:bodies]
        watches = bool(np.any(owner >= 0))
        measured = np.abs(axes).argmax(axis=1) == along
        removed, touch = np.zeros((LANES, n)), np.zeros((LANES, n if watches else 1, len(self.assembly.watched) + 1, 4))
        sines = np.tile(np.array([2.0, -2.0]), (LANES, n, 1))
        # Only where a watched body comes near the stock does it matter what was cut before.
        order = np.arange(n) if family == 2 or watches or measured.any() else _scattered(n)
        rays = np.array(self.lattice.rays(family))
        for loose in _loose_tiles(tiles, near):
            while len(loose.numbers):
                kernels.cut_tiles(
                    family, u, v, along, rays, loose.numbers, *loose.columns, loose.changed, starts, ways, turns,
                    boxes, order, loose.resume, self.origin, self.lattice.cell_mm, self.bands, self.runs,
                    self.undersides, self.chains, owner, measured, self.sources[rows], removed, sines, touch,
                )  # fmt: skip
                loose = loose.give_back(tiles, rays, n)
        self.removed[rows] += removed.sum(axis=0)
        self.sines[rows, 0] = np.minimum(self.sines[rows, 0], sines[..., 0].min(axis=0))
        self.sines[rows, 1] = np.maximum(self.sines[rows, 1], sines[..., 1].max(axis=0))
        if touch[..., 0].any():
            self.touch[family, rows] = _first_deepest(touch)[:, :-1]

    def _touched(self, family: int, boxes: Points, spans: Points) -> tuple[NDArray[np.int64], int]:
        """Numbers of the tiles whose stock a box of the batch reaches into, and how many of the runs there are up to
        the last that does; those of the cutter come first.

        Args:
            spans: (tiles, 2) where the stock of each tile begins and ends along the rays.
        """
        u, v, along = FAMILIES[family]
        shape = np.array([-(-r // TILE) for r in self.lattice.rays(family)])
        near, bodies = np.zeros(shape, bool), 0
        lows, highs = np.moveaxis(spans.reshape(*shape, 2), -1, 0)
        corner, side = self.origin[[u, v]], TILE * self.lattice.cell_mm
        for run in range(boxes.shape[1]):
            own = boxes[:, run]
            first = np.clip(np.floor((own[:, [u, v]] - corner) / side).astype(int), 0, shape)
            last = np.clip(np.floor((own[:, [3 + u, 3 + v]] - corner) / side).astype(int) + 1, 0, shape)
            width = tuple(1 + np.tile(shape, 2))
            packed, which = np.unique(np.ravel_multi_index(np.hstack([first, last]).T, width), return_inverse=True)
            begins, ends = np.full(len(packed), np.inf), np.full(len(packed), -np.inf)
            np.minimum.at(begins, which, own[:, along])
            np.maximum.at(ends, which, own[:, 3 + along])
            for a0, b0, a1, b1, begin, end in zip(*np.unravel_index(packed, width), begins, ends, strict=True):
                here = (lows[a0:a1, b0:b1] <= end) & (highs[a0:a1, b0:b1] >= begin)
                if here.any():
                    near[a0:a1, b0:b1] |= here
                    bodies = run + 1
        return np.flatnonzero(near), bodies

    def record(self, owner: NDArray[np.int64], n: int) -> CutRecord:
        """What each pose did, its steps taken together."""
        removed, low, high = np.zeros(n), np.full(n, 2.0), np.full(n, -2.0)
        np.add.at(removed, owner, self.removed)
        np.minimum.at(low, owner, self.sines[:, 0])
        np.maximum.at(high, owner, self.sines[:, 1])
        span = np.arcsin(np.clip(high, -1, 1)) - np.arcsin(np.clip(low, -1, 1))
        # Each family sees the deepest place only as well as its rays come to it.
        family = self.touch[..., 0].argmax(axis=0)
        best = np.take_along_axis(self.touch, family[None, ..., None], axis=0)[0]
        depth, place = np.zeros((n, best.shape[1])), np.zeros((n, best.shape[1], 3))
        np.maximum.at(depth, owner, best[..., 0])
        for k in range(best.shape[1]):
            at = np.flatnonzero((best[:, k, 0] > 0) & (best[:, k, 0] == depth[owner, k]))[::-1]
            place[owner[at], k] = best[at, k, 1:]
        angle = np.where(high >= low, np.rad2deg(span), 0.0)
        return CutRecord(removed, angle, depth, place)


def _scattered(n: int) -> NDArray[np.int64]:
    """Numbers up to n in chunks, each from far to near: the first ones cut far and leave little to those between."""
    order = (CHUNK * np.arange(-(-n // CHUNK))[:, None] + _far_to_near(CHUNK)).ravel()
    return order[order < n]


def _far_to_near(n: int) -> NDArray[np.int64]:
    """The numbers below a power of two with their bits reversed, the last of them first."""
    order = np.zeros(1, np.int64)
    while len(order) < n:
        order = np.concatenate([2 * order, 2 * order + 1])
    return order[::-1]


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

"""Passes that clear a region with a held engagement: from a way in, or from beside the material, till nothing is left.

A pass is steered until it comes out of the material. The next begins on it, a little before the first place to whose
right material is left, so that it lies along what the one before has cut; when there is none, on the passes before it.
What then still stands anywhere is gone to from the nearest cleared place. All passes have the material on their right.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy import ndimage

from fenrik.core.dividing import in_pieces
from fenrik.core.frames import Points
from fenrik.core.regions import Rings
from fenrik.core.regions.polygons import to_shape
from fenrik.core.sketches import Curve
from fenrik.core.strategies.ground import _cleared_kernels as ground_kernels
from fenrik.core.strategies.ground import _steady_kernels as kernels
from fenrik.core.strategies.ground.cleared import ClearedGround
from fenrik.core.strategies.leading import lead_in, lead_out

STEP_SHARE = 0.08
"""Greatest step as a share of the cutter's radius."""
WIDE_SHARE, INTO_SHARE = 0.4, 0.5
"""Radii of turns away from material and into it, as shares of the cutter's radius."""
AIR_SHARE = 0.6
"""How far a pass goes on without material, and how far before material it begins; shares of the radius."""
LOW_SHARE = 0.25
"""A share of the limit below which the cutter does little."""
ASIDE_SHARE, OPEN_SHARE = 0.3, 0.5
"""How far beside a pass material is looked for, as a share of the stepover, and what of the full arc there counts."""
TOUCH_RAD = 0.02
"""Less than so much engagement is none."""
LEAST_PLACES = 4
"""Where a pass takes nothing, the next place to begin is looked for so many places on."""
FILM_SHARE, THIN_SHARE = 0.06, 0.01
"""Material thinner than so much of the radius is left to the passes in corners, and by them to those along walls."""
CORNER_SHARE = 0.85
"""Of the limit of engagement, in corners: there thin material changes it much."""
LEAST_LEFT_SHARE = 0.002
"""An area of less than so much of the radius squared is not gone after."""
WALL_STEP_SHARE = 0.05
"""Distance of the places along walls as a share of the radius."""
BESIDE_SHARE = 0.3
"""How far passes along walls go on beside what they take, as a share of the radius."""
LEAD_SHARE, LEAD_FLAT_MM = 0.3, 2e-3
LONGEST_SHARE = 60.0
"""A way longer than so many radii is not looked for: going over is faster then."""
FIRST_ROOM = 4096
FEW_NODES = 400
"""Material of fewer nodes is little."""
MOST_LOOKED_AT = 1000


@dataclass(frozen=True)
class Steering:
    """How passes are steered: engagement in radians, bends in 1/mm."""

    limit: float
    tight: float
    radius_mm: float

    @property
    def stepover_mm(self) -> float:
        """Radial depth of the limit along a straight wall."""
        return float(self.radius_mm * (1.0 - np.cos(self.limit)))

    @property
    def wide(self) -> float:
        return min(1.0 / (WIDE_SHARE * self.radius_mm), self.tight)

    @property
    def into(self) -> float:
        return 1.0 / (INTO_SHARE * self.radius_mm)


@dataclass(frozen=True)
class SteadyPass:
    """A pass and how it is come to.

    Attributes:
        points: (n, 2). held: (n,) engagement at them, radians.
        lead: (m, 2) through cleared ground at the level, up to its begin; at least that.
        way: (k, 2) through cleared ground from the end of the pass before to the begin of the lead; None: over
            everything.
        exact: whether the points lie on a wall.
    """

    points: Points
    held: Points
    lead: Points
    way: Points | None
    exact: bool = False


class SteadyClearing:
    """Clears one connected region.

    Attributes:
        given_up: (nx, ny) nodes at which material stands that no pass comes to.
    """

    def __init__(self, ground: ClearedGround, steering: Steering) -> None:
        self.ground, self.steering = ground, steering
        self.at: Points | None = None
        self._away, self._low = steering.wide, LOW_SHARE * steering.limit
        self._limit = steering.limit
        self._film_mm = FILM_SHARE * steering.radius_mm
        self.given_up = np.zeros(ground.ground.axis.shape, np.bool_)

    @property
    def is_open(self) -> bool:
        """Whether there is a place in the region where the cutter touches nothing."""
        g = self.ground.ground
        open_ = np.argwhere((g.axis < 0) & (g.fence < 0))
        return any(ground_kernels.is_clear(g, x, y, 0.0) for x, y in self.ground.places(open_[:MOST_LOOKED_AT]))

    def still_left(self) -> NDArray[np.bool_]:
        """Nodes at which material stands that the cutter could come to."""
        return self.ground.left(self._film_mm)

    def passes(self, start: tuple[Points, Points] | None) -> Iterator[SteadyPass]:
        """All passes, in order.

        Args:
            start: place and direction after the way in; None where there is open ground.
        """
        if start is not None:
            self.at = start[0]
            yield from self._from(*start)
        yield from self._rest()
        # What wide turns leave stands in corners: it is gone after with tight ones, thin as it is.
        steering = self.steering
        self._away, self._low, self._film_mm = steering.tight, TOUCH_RAD, THIN_SHARE * steering.radius_mm
        self._limit = CORNER_SHARE * steering.limit
        self.given_up[:] = False
        yield from self._rest()

    def _rest(self) -> Iterator[SteadyPass]:
        """Passes through what still stands, from where it is come to best."""
        while (place := self._next_left()) is not None:
            at, along, nodes = place
            before = int(self.still_left()[nodes].sum())
            yield from self._from(at, along)
            if int(self.still_left()[nodes].sum()) == before:
                self.given_up[nodes] = True

    def _from(self, at: Points, along: Points) -> Iterator[SteadyPass]:
        """A pass from a place, and all that follow from it."""
        first = self._run(at, along)
        if first is None:
            return
        run, made = first
        yield made
        waiting = [(run, 0)]
        while waiting:
            run, begin = waiting[-1]
            found = self._first_open(run, begin)
            if found < 0:
                waiting.pop()
                continue
            start = self._before(run, found)
            new = self._run(run[start, :2], run[start, 2:4])
            if new is None:
                waiting[-1] = run, found + LEAST_PLACES
                continue
            waiting[-1] = run, found
            waiting.append((new[0], 0))
            yield new[1]

    def _run(self, at: Points, along: Points) -> tuple[Points, SteadyPass] | None:
        """A pass from a place, whole with its directions and as it is cut; None where it takes nothing."""
        g, s, radius = self.ground.ground, self.steering, self.steering.radius_mm
        way = None if self.at is None else self.ground.way(self.at, at, LONGEST_SHARE * radius)
        out, count, why = np.zeros((FIRST_ROOM, 5)), 0, 1
        while why == 1:
            if count == len(out):
                out = np.vstack([out, np.zeros_like(out)])
            count, why = kernels.cut_pass(
                g, *at.tolist(), *along.tolist(), self._limit, self._away, s.tight, s.into, STEP_SHARE * radius,
                self._low, AIR_SHARE * radius, out, count,
            )  # fmt: skip
        engaged = np.flatnonzero(out[:count, 4] > TOUCH_RAD)
        if len(engaged) == 0:
            return None
        run = out[: engaged[-1] + 1].copy()
        first = max(int(engaged[0]) - 1, 0)
        self.at = run[-1, :2]
        return run, SteadyPass(run[first:, :2], run[first:, 4], run[: first + 1, :2], way)

    def along_walls(self, walls: Rings) -> Iterator[SteadyPass]:
        """Passes along the walls of the region where material still stands there, come to and left on arcs."""
        radius = self.steering.radius_mm
        room = to_shape(walls)
        shapely.prepare(room)
        waiting = [line for ring in walls for line in self._touched(_close(ring, WALL_STEP_SHARE * radius))]
        while waiting:
            line = self._nearest(waiting)
            curve = Curve.polyline(line)
            first = lead_in(curve, LEAD_SHARE * radius, 90.0, room, "left")
            last = lead_out(curve, LEAD_SHARE * radius, 90.0, room, "left")
            ends = [np.zeros((0, 2)) if c is None else c.flattened(LEAD_FLAT_MM) for c in (first, last)]
            lead, line = np.vstack([ends[0], line[:1]]), np.vstack([line, ends[1]])
            way = None if self.at is None else self.ground.way(self.at, lead[0], LONGEST_SHARE * radius)
            self.ground.stamp(lead)
            held = np.zeros(len(line))
            kernels.along(self.ground.ground, line, held)
            self.at = line[-1]
            yield SteadyPass(line, held, lead, way, exact=True)

    def _touched(self, ring: Points) -> list[Points]:
        """The stretches of a closed line (n, 2), its first place at its end again, that come to material."""
        found = np.zeros(len(ring))
        kernels.touched(self.ground.ground, ring, found)
        there = found > TOUCH_RAD
        if not there.any():
            return []
        beside = int(np.ceil(BESIDE_SHARE / WALL_STEP_SHARE))
        there = ndimage.binary_dilation(np.concatenate([there[:-1]] * 3), iterations=beside)[
            len(ring) - 1 : -len(ring) + 1
        ]
        if there.all():
            return [ring]
        turned = np.flatnonzero(~there)[0]
        line, there = np.roll(ring[:-1], -turned, axis=0), np.roll(there, -turned)
        ends = np.flatnonzero(np.diff(np.append(there, False).astype(np.int8)))
        return [line[a + 1 : b + 1] for a, b in ends.reshape(-1, 2)]

    def _nearest(self, waiting: list[Points]) -> Points:
        """Take out the line that begins nearest to the tool; a closed one is begun at its place nearest to that."""
        at = waiting[0][0] if self.at is None else self.at
        gaps = [np.linalg.norm(line - at, axis=1) for line in waiting]
        closed = [bool(np.abs(line[0] - line[-1]).max() < 1e-9) for line in waiting]
        k = int(np.argmin([gap.min() if whole else gap[0] for gap, whole in zip(gaps, closed, strict=True)]))
        line = waiting.pop(k)
        if not closed[k]:
            return line
        begin = int(gaps[k][:-1].argmin())
        return np.vstack([line[begin:-1], line[: begin + 1]])

    def _first_open(self, run: Points, begin: int) -> int:
        aside = ASIDE_SHARE * self.steering.stepover_mm
        least = OPEN_SHARE * float(np.arccos(1.0 - aside / self.steering.radius_mm))
        return int(kernels.first_open(self.ground.ground, run, begin, aside, least))

    def _before(self, run: Points, place: int) -> int:
        """The place of a pass a little before another."""
        steps = np.linalg.norm(np.diff(run[: place + 1, :2], axis=0), axis=1)[::-1]
        return place - int(np.searchsorted(np.cumsum(steps), AIR_SHARE * self.steering.radius_mm))

    def _next_left(self) -> tuple[Points, Points, tuple[NDArray[np.int64], ...]] | None:
        """A cleared place beside material that still stands, the direction with that on the right, and its nodes."""
        g, radius = self.ground.ground, self.steering.radius_mm
        left = self.still_left() & ~self.given_up
        labels, count = ndimage.label(left)
        sizes = np.bincount(labels.ravel(), minlength=count + 1)[1:] * g.cell**2
        boxes = ndimage.find_objects(labels)
        for label in (np.argsort(-sizes, kind="stable") + 1).tolist():
            box = boxes[label - 1]
            nodes = np.argwhere(labels[box] == label) + [s.start for s in box]
            if sizes[label - 1] < LEAST_LEFT_SHARE * radius**2:
                break
            found = self._beside(nodes)
            if found is not None:
                return *found, tuple(nodes.T)
            self.given_up[tuple(nodes.T)] = True
        return None

    def _beside(self, nodes: NDArray[np.int64]) -> tuple[Points, Points] | None:
        """Where the cutter stands clear and all but touches one of some nodes, nearest to where it is."""
        g, radius = self.ground.ground, self.steering.radius_mm
        low, high = nodes.min(axis=0), nodes.max(axis=0) + 1
        reach = int(np.ceil(radius / g.cell)) + 4
        a = np.maximum(low - reach, 0)
        b = np.minimum(high + reach, g.axis.shape)
        mask = np.ones(tuple(b - a), np.bool_)
        mask[tuple((nodes - a).T)] = False
        away, nearest = ndimage.distance_transform_edt(mask, return_indices=True)
        window = tuple(slice(i, j) for i, j in zip(a, b, strict=True))
        touching = (away * g.cell < radius + 3 * g.cell) & (g.fence[window] < 0) & (g.axis[window] < radius)
        places = np.argwhere(touching)
        xy = self.ground.places(places + a)
        to = np.moveaxis(nearest[:, touching], 0, -1) - places
        right = to / np.maximum(np.linalg.norm(to, axis=1), 1e-9)[:, None]
        along = np.column_stack([-right[:, 1], right[:, 0]])
        for k in self._order(xy, xy + to * g.cell, along, self.ground.places(nodes)):
            if ground_kernels.is_clear(g, *xy[k].tolist(), 0.0):
                return self._back_from(xy[k], along[k]), along[k]
        return None

    def _order(self, xy: Points, meets: Points, along: Points, places: Points) -> NDArray[np.int64]:
        """Beginnings in the order in which they are tried: of little material the one that has least of it behind, of
        much the nearest."""
        if len(places) > FEW_NODES:
            at = xy[0] if self.at is None else self.at
            return np.argsort(np.linalg.norm(xy - at, axis=1), kind="stable")
        ahead = np.einsum("cnk,ck->cn", places[None] - meets[:, None], along).min(axis=1)
        return np.argsort(-ahead, kind="stable")

    def _back_from(self, at: Points, along: Points) -> Points:
        """A place a little before one, as far as it is clear."""
        g, radius = self.ground.ground, self.steering.radius_mm
        step = STEP_SHARE * radius * along
        for _ in range(int(AIR_SHARE / STEP_SHARE)):
            if not ground_kernels.is_clear(g, *(at - step).tolist(), 0.0):
                break
            at = at - step
        return at


def _close(ring: Points, step: float) -> Points:
    """The places of a ring, and further ones so that none are farther apart than a step; ends where it begins."""
    closed = np.vstack([ring, ring[:1]])
    count = np.maximum(np.ceil(np.linalg.norm(np.diff(closed, axis=0), axis=1) / step).astype(int), 1)
    row, piece = in_pieces(count)
    t = (piece / count[row])[:, None]
    return np.vstack([closed[row] + t * (closed[row + 1] - closed[row]), ring[:1]])

"""Passes that clear a region with a held engagement: from a way in, or from beside the material, till nothing is left.

A pass is steered until it comes out of the material. The next begins on it, a little before the first place to whose
right material is left, so that it lies along what the one before has cut; when there is none, on the passes before it.
What then still stands anywhere is gone to from the nearest cleared place. All passes have the material on their right.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.strategies.ground import _steady_kernels as kernels
from fenrik.core.strategies.ground.cleared import ClearedGround
from fenrik.core.strategies.ground.leftover import Nodes, begins_beside, left_pieces

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
TOOK_SHARE = 5e-4
"""A step that takes material thicker than so much of the radius is a cut."""
LEAST_PLACES = 4
"""Where a pass takes nothing, the next place to begin is looked for so many places on."""
FILM_SHARE = 0.06
"""Material thinner than so much of the radius is left to the passes along walls."""
CORNER_SHARE = 0.75
"""Of the limit of engagement, in corners: there thin material changes it much."""
LONGEST_SHARE = 1000.0
"""A way longer than so many radii is not looked for: going over is faster then."""
MOST_BEGINS = 24
"""A piece of material is given up when no pass from so many places takes of it."""
FIRST_ROOM = 4096


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
    """Clears one connected region."""

    def __init__(self, ground: ClearedGround, steering: Steering) -> None:
        self.ground, self.steering = ground, steering
        self.at: Points | None = None
        self._away, self._low = steering.wide, LOW_SHARE * steering.limit
        self._limit = steering.limit
        self._film = FILM_SHARE * steering.radius_mm

    @property
    def is_open(self) -> bool:
        """Whether there is a place in the region where the cutter touches nothing."""
        return bool(np.any((self.ground.ground.axis < 0) & (self.ground.ground.fence < 0)))

    def still_left(self) -> NDArray[np.bool_]:
        """Nodes at which material stands that the cutter could come to."""
        return self.ground.left(self._film)

    def passes(self, start: tuple[Points, Points] | None) -> Iterator[SteadyPass]:
        """All passes, in order.

        Args:
            start: place and direction after the way in; None where there is open ground.
        """
        if start is not None:
            self.at = start[0]
            yield from self._from(*start)
        yield from self._rest()

    def rest(self) -> Iterator[SteadyPass]:
        """Passes with tight turns through what still stands after that, wherever it is."""
        self._away, self._low = self.steering.tight, TOUCH_RAD
        self._limit = CORNER_SHARE * self.steering.limit
        yield from self._rest()

    def _rest(self) -> Iterator[SteadyPass]:
        """Passes through what still stands, piece by piece, till there is none that any pass comes to."""
        given_up: set[tuple[int, int]] = set()
        while True:
            pieces = [p for p in left_pieces(self.ground, self._film) if (int(p[0][0]), int(p[1][0])) not in given_up]
            if not pieces:
                return
            while pieces:
                yield from self._through(pieces.pop(self._nearest_of(pieces)), given_up)

    def _through(self, nodes: Nodes, given_up: set[tuple[int, int]]) -> Iterator[SteadyPass]:
        """Passes through one piece of material, till they take no more of it."""
        while True:
            still = self.ground.left_at(nodes, self._film)
            if not still.any():
                return
            nodes = tuple(axis[still] for axis in nodes)
            for begin in itertools.islice(begins_beside(self.ground, nodes, self.at), MOST_BEGINS):
                yield from self._from(*begin)
                if not self.ground.left_at(nodes, self._film).all():
                    break
            else:
                given_up.add((int(nodes[0][0]), int(nodes[1][0])))
                return

    def _nearest_of(self, pieces: list[Nodes]) -> int:
        """The piece of material to go to next: the largest first, then the nearest."""
        if self.at is None:
            return 0
        places = self.ground.places(np.array([[axis[0] for axis in nodes] for nodes in pieces]))
        return int(np.linalg.norm(places - self.at, axis=1).argmin())

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
        way = None if self.at is None else self.ground.way(self.at, at, longest_way(radius))
        out, count, why = np.zeros((FIRST_ROOM, 6)), 0, 1
        while why == 1:
            if count == len(out):
                out = np.vstack([out, np.zeros_like(out)])
            count, why = kernels.cut_pass(
                g, *at.tolist(), *along.tolist(), self._limit, self._away, s.tight, s.into, STEP_SHARE * radius,
                self._low, AIR_SHARE * radius, out, count,
            )  # fmt: skip
        engaged = np.flatnonzero((out[:count, 4] > TOUCH_RAD) | (out[:count, 5] > TOOK_SHARE * radius))
        if len(engaged) == 0:
            return None
        run = out[: engaged[-1] + 1].copy()
        first = max(int(engaged[0]) - 1, 0)
        self.at = run[-1, :2]
        return run, SteadyPass(run[first:, :2], run[first:, 4], run[: first + 1, :2], way)

    def _first_open(self, run: Points, begin: int) -> int:
        aside = ASIDE_SHARE * self.steering.stepover_mm
        least = OPEN_SHARE * float(np.arccos(1.0 - aside / self.steering.radius_mm))
        return int(kernels.first_open(self.ground.ground, run, begin, aside, least))

    def _before(self, run: Points, place: int) -> int:
        """The place of a pass a little before another."""
        steps = np.linalg.norm(np.diff(run[: place + 1, :2], axis=0), axis=1)[::-1]
        return place - int(np.searchsorted(np.cumsum(steps), AIR_SHARE * self.steering.radius_mm))


def longest_way(radius_mm: float) -> float:
    """The length of ways over cleared ground beyond which none is looked for."""
    return LONGEST_SHARE * radius_mm

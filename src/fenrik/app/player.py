"""The stock at any moment of a proof, and what of its surface changed between two moments."""

from __future__ import annotations

import itertools
import threading
from collections import OrderedDict
from dataclasses import dataclass, field, replace

import numpy as np

from fenrik.app.bricks import bricks, coarse
from fenrik.core.build import Build
from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.job import Setup
from fenrik.core.stock import Stock, cut
from fenrik.core.toolpath import ORIENTED, Toolpath
from fenrik.core.tools import Assembly, cutting_profile

MOMENTS = 12
FLATTEN_MM = 0.005
PLAYERS = 3
LEAST_RUNG, MOST_RUNGS = 400, 100
"""Motions between two rungs at least, and how many rungs there are at most."""


@dataclass
class Player:
    """One proof, opened for playing.

    Attributes:
        columns: the proof's columns, one row for each motion.
        after: for each operation in order, (first motion after it, its number).
        moments: stocks after some motions, the latest used last.
        rungs: stocks after every so many motions, made in the background; unchanged tiles are shared.
    """

    build: Build
    setup: Setup
    columns: dict[str, np.ndarray]
    after: list[tuple[int, int]]
    moments: OrderedDict[int, Stock] = field(default_factory=OrderedDict)
    lock: threading.Lock = field(default_factory=threading.Lock)
    distance: DistanceIndex | None = None
    rungs: dict[int, Stock] = field(default_factory=dict)
    closed: threading.Event = field(default_factory=threading.Event)

    def climb(self) -> None:
        """Make the rungs, one after another, until closed."""
        step = max(LEAST_RUNG, self.count // MOST_RUNGS)
        begins = [0, *(motion for motion, _ in self.after)]
        numbers = [None, *(number for _, number in self.after)]
        for begin, end, number in zip(begins, [*begins[1:], self.count], numbers, strict=True):
            if begin >= end:
                continue
            stock = self.build.proof_stock(self.setup, number)
            for motion in range(begin + step, end, step):
                if self.closed.is_set():
                    return
                stock = self._cut(stock, motion - step, motion)
                self.rungs[motion] = stock

    @property
    def count(self) -> int:
        return len(self.columns["line"])

    def at(self, motion: int) -> Stock:
        """The stock when the first `motion` motions have been made."""
        motion = max(0, min(motion, self.count))
        with self.lock:
            if motion in self.moments:
                self.moments.move_to_end(motion)
                return self.moments[motion]
            begin, stock = self._nearest(motion)
            stock = self._cut(stock, begin, motion)
            self.moments[motion] = stock
            while len(self.moments) > MOMENTS:
                self.moments.popitem(last=False)
            return stock

    def _nearest(self, motion: int) -> tuple[int, Stock]:
        known = {**dict(self.rungs), **self.moments}
        kept = max((m for m in known if m <= motion), default=-1)
        step = max(((m, n) for m, n in self.after if m <= motion), default=(0, None))
        if kept >= step[0]:
            return kept, known[kept]
        return step[0], self.build.proof_stock(self.setup, step[1])

    def _cut(self, stock: Stock, begin: int, end: int) -> Stock:
        if end <= begin:
            return stock
        c = self.columns
        rows = np.arange(max(begin - 1, 0), end)
        path = Toolpath.plain(
            c["point"][rows], c["motion"][rows], c["centre"][rows], c["kind"][rows], np.zeros(len(rows))
        )
        path = replace(path, axis=c["axis"][rows], normal=c["normal"][rows])
        path.spindle[:] = c["spindle"][rows]
        if begin == 0:
            path = Toolpath.joined([path.rows(np.array([0])), path])
        path.motion[0] = 0
        flat, source = path.flattened(FLATTEN_MM)
        owner = source + begin - 1
        tools = c["tool"][np.maximum(owner, 0)]
        fresh = c["fresh"][np.maximum(owner, 0)]
        poses = flat.steps(source, fresh[1:])
        able = np.flatnonzero(flat.spindle[1:] != ORIENTED)
        poses, tools = poses.rows(able), tools[1:][able]
        for a, b in _stretches(tools):
            cutter = Assembly(cutting_profile(self.build.job.tool(int(tools[a])).cutter))
            stock, _ = cut(stock, poses.rows(np.arange(a, b)), cutter)
        return stock

    def bricks(self, motion: int, have: int | None, deviation: bool) -> bytes:
        """Surface of the bricks that differ from moment `have`, in part coordinates, in the typed layout."""
        stock = self.at(motion)
        known = self.moments.get(have) if have is not None and not deviation else None
        distances = self._distances() if deviation else None
        return bricks({"motion": motion}, stock, self.build.frame(self.setup), known, distances)

    def coarse(self, motion: int) -> bytes:
        """The whole surface with few triangles; as `bricks`."""
        return coarse({"motion": motion}, self.at(motion), self.build.frame(self.setup))

    def _distances(self) -> DistanceIndex:
        if self.distance is None:
            self.distance = self.build.part_distances(self.setup)
        return self.distance


def _stretches(values: np.ndarray) -> list[tuple[int, int]]:
    if len(values) == 0:
        return []
    cuts = [0, *(np.flatnonzero(values[1:] != values[:-1]) + 1).tolist(), len(values)]
    return list(itertools.pairwise(cuts))


_players: OrderedDict[str, Player] = OrderedDict()
_players_lock = threading.Lock()


def player_for(build: Build, setup: Setup) -> Player:
    """The player of a setup's proof, kept open for the next request."""
    key = build.proof_key(setup)
    with _players_lock:
        if key in _players:
            _players.move_to_end(key)
            return _players[key]
        summary, columns = build.proof(setup)
        numbers = columns["operation"]
        after = [(int(np.flatnonzero(numbers == n).max()) + 1, int(n)) for n in summary["operations_in_order"]]
        player = Player(build, setup, columns, sorted(after))
        _players[key] = player
        threading.Thread(target=player.climb, daemon=True).start()
        while len(_players) > PLAYERS:
            _players.popitem(last=False)[1].closed.set()
        return player

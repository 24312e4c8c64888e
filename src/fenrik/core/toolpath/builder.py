"""Put a toolpath together: rapids, approaches, entries, cuts, links, exits."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.toolpath.model import Kind, Motion, Toolpath


@dataclass(frozen=True)
class Feeds:
    """Feeds of an operation, mm/min."""

    cutting: float
    entry: float
    exit: float


class PathBuilder:
    """Collects motions; `finish` gives the toolpath.

    Args:
        feeds: feeds for the kinds of motion.
        clearance_mm: height of rapids before the first and after the last motion.
        retract_mm: height of rapids in between.
    """

    def __init__(self, feeds: Feeds, clearance_mm: float, retract_mm: float) -> None:
        self.feeds = feeds
        self.clearance_mm = clearance_mm
        self.retract_mm = retract_mm
        self.pass_id = -1
        self._chunks: list[tuple[Points, int, Points, int, float, int]] = []
        self._at: Points | None = None

    @property
    def place(self) -> Points | None:
        """Where the tool is; None before the first motion."""
        return self._at

    def _add(
        self, points: Points, kind: Kind, feed: float, motion: int = Motion.LINE, centre: Points | None = None
    ) -> None:
        points = np.atleast_2d(np.asarray(points, dtype=np.float64))
        if self._at is not None and motion == Motion.LINE:
            before = np.vstack([self._at, points[:-1]])
            points = points[np.linalg.norm(points - before, axis=1) > 1e-9]
        if len(points) == 0:
            return
        ring = self.pass_id if kind == Kind.CUT else -1
        self._chunks.append((points, motion, np.zeros(3) if centre is None else centre, kind, feed, ring))
        self._at = points[-1]

    def travel(self, x: float, y: float, start_mm: float) -> None:
        """Lift off, go over a place at rapid, and come down at rapid to `start_mm` over the material."""
        height = self.retract_mm if self._at is not None else self.clearance_mm
        if self._at is not None:
            lift = min(self._at[2] + 0.5, height)
            self._add(np.array([self._at[0], self._at[1], lift]), Kind.EXIT, self.feeds.exit)
            self._add(np.array([self._at[0], self._at[1], height]), Kind.RETRACT, 0.0)
        self._add(np.array([x, y, height]), Kind.RAPID, 0.0)
        if start_mm < height:
            self._add(np.array([x, y, start_mm]), Kind.RAPID, 0.0)

    def approach(self, points: Points) -> None:
        self._add(points, Kind.APPROACH, self.feeds.entry)

    def enter(self, points: Points) -> None:
        """Straight motions into material at the entry feed."""
        self._add(points, Kind.ENTRY, self.feeds.entry)

    def enter_helix(self, centre: Points, end: Points, from_mm: float, pitch_mm: float) -> None:
        """A counter-clockwise helix of half turns down to `end`, ending tangent there; then one level turn."""
        radius_vector = end[:2] - centre[:2]
        half_turns = max(int(np.ceil(2 * (from_mm - end[2]) / pitch_mm)), 1)
        heights = np.linspace(from_mm, end[2], half_turns + 1)
        sign = 1.0 if half_turns % 2 == 0 else -1.0
        start = centre[:2] + sign * radius_vector
        self.approach(np.array([start[0], start[1], from_mm]))
        turns = [*heights[1:], end[2], end[2]]
        for z in turns:
            sign = -sign
            here = centre[:2] + sign * radius_vector
            assert self._at is not None
            self._add(
                np.array([here[0], here[1], z]),
                Kind.ENTRY,
                self.feeds.entry,
                Motion.ARC_CCW,
                np.array([centre[0], centre[1], self._at[2]]),
            )

    def cut(self, points: Points) -> None:
        self._add(points, Kind.CUT, self.feeds.cutting)

    def link(self, points: Points) -> None:
        self._add(points, Kind.LINK, self.feeds.cutting)

    def next_pass(self) -> None:
        self.pass_id += 1

    def finish(self) -> Toolpath:
        """The whole path, lifted to the clearance height at its end."""
        if self._at is None:
            return Toolpath.empty()
        lift = min(self._at[2] + 0.5, self.clearance_mm)
        self._add(np.array([self._at[0], self._at[1], lift]), Kind.EXIT, self.feeds.exit)
        self._add(np.array([self._at[0], self._at[1], self.clearance_mm]), Kind.RETRACT, 0.0)
        sizes = [len(c[0]) for c in self._chunks]
        total = sum(sizes)
        up = np.tile([0.0, 0.0, 1.0], (total, 1))
        return Toolpath(
            np.concatenate([c[0] for c in self._chunks]),
            up,
            np.repeat([c[1] for c in self._chunks], sizes).astype(np.int8),
            np.repeat([c[2] for c in self._chunks], sizes, axis=0),
            up.copy(),
            np.repeat([c[3] for c in self._chunks], sizes).astype(np.int8),
            np.repeat([c[4] for c in self._chunks], sizes).astype(np.float64),
            np.repeat([c[5] for c in self._chunks], sizes).astype(np.int32),
        )

"""Put a toolpath together: rapids, approaches, entries, cuts, links, exits."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.cutting.speeds import Beside, share_at_edge, share_on_arc
from fenrik.core.frames import Points
from fenrik.core.sketches import Curve
from fenrik.core.toolpath.model import Kind, Motion, Toolpath
from fenrik.core.toolpath.poses import UPRIGHT
from fenrik.core.toolpath.safe import Safe

LIFT_MM = 0.5


@dataclass(frozen=True)
class Feeds:
    """Feeds of an operation, and the fastest of its machine, mm/min."""

    cutting: float
    entry: float
    exit: float
    most: float = np.inf


class PathBuilder:
    """Collects motions; `finish` gives the toolpath.

    Args:
        feeds: feeds for the kinds of motion.
        safe: the surface beyond which the tool comes and goes, before the first and after the last motion.
        retract_mm: height of rapids in between.
        radius_mm: of the tool where it cuts; with `beside`, the side of its way on which it does, it decides the feed
            on arcs.
        over: gives the height that a rapid between two places (x, y) must keep, where that is lower than `retract_mm`.
    """

    def __init__(
        self,
        feeds: Feeds,
        safe: Safe,
        retract_mm: float,
        over: Callable[[Points, Points], float] | None = None,
        radius_mm: float = 0.0,
    ) -> None:
        self.feeds = feeds
        self.safe = safe
        self.retract_mm = retract_mm
        self.over = over
        self.radius_mm = radius_mm
        self.beside: Beside = "none"
        self.pass_id = -1
        self.spindle = 1
        self.side, self.offset_mm = 0, 0.0
        self._cycle: tuple[int, int, float] = (0, -1, 0.0)
        self._chunks: list[Toolpath] = []
        self._at: Points | None = None

    @property
    def place(self) -> Points | None:
        """Where the tool is; None before the first motion."""
        return self._at

    def _add(
        self,
        points: Points,
        kind: Kind,
        feed: float,
        motion: NDArray[np.int8] | int = Motion.LINE,
        centre: Points | None = None,
        held_deg: float = np.nan,
    ) -> None:
        points = np.atleast_2d(np.asarray(points, dtype=np.float64))
        motions = np.full(len(points), motion, np.int8) if isinstance(motion, int) else motion
        centre = np.zeros((len(points), 3)) if centre is None else np.atleast_2d(centre)
        before = np.vstack([points[:1] if self._at is None else self._at, points[:-1]])
        feeds, edge = self._feeds(before, kind, feed, motions, centre)
        if self._at is not None:
            moved = (np.abs(points - before).max(axis=1) > 1e-9) | (motions != Motion.LINE)
            points, motions, centre = points[moved], motions[moved], centre[moved]
            feeds, edge = feeds[moved], edge[moved]
        if len(points) == 0:
            return
        ring = self.pass_id if kind == Kind.CUT else -1
        n = len(points)
        path = Toolpath.plain(
            points,
            motions,
            centre,
            np.full(n, kind, np.int8),
            feeds,
            np.full(n, ring, np.int32),
        )
        path.edge[:], path.spindle[:], path.held_deg[:] = edge, self.spindle, held_deg
        path.side[:], path.offset_mm[:] = self.side, self.offset_mm if self.side else 0.0
        path.cycle[:], path.hole[:], path.peck_mm[:] = self._cycle
        self._chunks.append(path)
        self._at = points[-1]

    def _feeds(
        self, before: Points, kind: Kind, feed: float, motion: NDArray[np.int8], centre: Points
    ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Feeds of motions: on arcs such that the edge, not the axis, goes as fast as it does straight on; and the
        share of that which the edge keeps."""
        feeds, edge = np.full(len(motion), float(feed)), np.ones(len(motion))
        arcs = np.flatnonzero(motion != Motion.LINE)
        if self.beside == "none" or self.radius_mm <= 0 or len(arcs) == 0 or kind not in (Kind.CUT, Kind.ENTRY):
            return feeds, edge
        radius = np.linalg.norm((before - centre)[arcs, :2], axis=1)
        outer = Motion.ARC_CCW if self.beside == "right" else Motion.ARC_CW
        hollow = (motion[arcs] == outer) | (self.beside == "both")
        feeds[arcs] = np.clip(feed * share_on_arc(radius, self.radius_mm, hollow), 1.0, max(self.feeds.most, feed))
        edge[arcs] = np.minimum(feeds[arcs] / feed * share_at_edge(radius, self.radius_mm, hollow), 1.0)
        return feeds, edge

    def begin_cycle(self, word: int, hole: int, peck_mm: float = 0.0) -> None:
        """What follows, up to `end_cycle`, is what one canned cycle does at one hole."""
        self._cycle = (word, hole, peck_mm)

    def end_cycle(self) -> None:
        self._cycle = (0, -1, 0.0)

    def dwell(self, seconds: float) -> None:
        """Stand still where the tool is."""
        if self._chunks:
            self._chunks[-1].dwell_s[-1] += seconds

    def rapid(self, points: Points) -> None:
        """Straight on at rapid."""
        self._add(points, Kind.RAPID, 0.0)

    def retract(self, height_mm: float) -> None:
        """Straight up at rapid."""
        if self._at is not None:
            self._add(np.array([self._at[0], self._at[1], height_mm]), Kind.RETRACT, 0.0)

    def lift_off(self) -> None:
        """A little way up at the exit feed."""
        if self._at is not None:
            lift = min(self._at[2] + LIFT_MM, self.retract_mm)
            self._add(np.array([self._at[0], self._at[1], lift]), Kind.EXIT, self.feeds.exit)

    def height_to(self, x: float, y: float) -> float:
        """The height at which the tool can go over to a place at rapid."""
        if self._at is None:
            return float(self.safe.leave(np.array([x, y, self.retract_mm]), UPRIGHT)[2])
        if self.over is None:
            return self.retract_mm
        return float(min(self.over(self._at[:2], np.array([x, y])), self.retract_mm))

    def travel(self, x: float, y: float, start_mm: float) -> None:
        """Lift off, go over a place at rapid, and come down at rapid to `start_mm` over the material."""
        height = max(self.height_to(x, y), start_mm)
        if self._at is not None:
            self.lift_off()
            if self._at[2] < height:
                self.retract(height)
            height = max(height, float(self._at[2]))
        else:
            self._add(self.safe.leave(np.array([x, y, height]), UPRIGHT), Kind.RAPID, 0.0)
        self._add(np.array([x, y, height]), Kind.RAPID, 0.0)
        if start_mm < height:
            self._add(np.array([x, y, start_mm]), Kind.RAPID, 0.0)

    def follow(
        self, curve: Curve, kind: Kind, to_mm: float | None = None, feed: float | None = None, held_deg: float = np.nan
    ) -> None:
        """Along a curve of lines and arcs that begins where the tool is; evenly down (or up) to a height.

        Args:
            to_mm: height at its end; None: the height where the tool is. held_deg: engagement that is planned.
        """
        assert self._at is not None
        if len(curve.points) < 2:
            return
        feeds = {Kind.ENTRY: self.feeds.entry, Kind.APPROACH: self.feeds.entry, Kind.EXIT: self.feeds.exit}
        z0 = float(self._at[2])
        points, motion, centre = curve_motions(curve, z0, z0 if to_mm is None else to_mm)
        self._add(points, kind, feeds.get(kind, self.feeds.cutting) if feed is None else feed, motion, centre, held_deg)

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
        aside, self.beside = self.beside, "both"  # in full material
        for z in turns:
            sign = -sign
            here = centre[:2] + sign * radius_vector
            assert self._at is not None
            middle = np.array([centre[0], centre[1], self._at[2]])
            self._add(np.array([here[0], here[1], z]), Kind.ENTRY, self.feeds.entry, int(Motion.ARC_CCW), middle)
        self.beside = aside

    def cut(self, points: Points) -> None:
        self._add(points, Kind.CUT, self.feeds.cutting)

    def cut_at(self, points: Points, feed: float) -> None:
        """Straight cuts at a feed of their own."""
        self._add(points, Kind.CUT, feed)

    def link(self, points: Points) -> None:
        self._add(points, Kind.LINK, self.feeds.cutting)

    def link_at(self, points: Points, feed: float) -> None:
        """Through cleared ground at a feed of its own."""
        self._add(points, Kind.LINK, feed)

    def next_pass(self) -> None:
        self.pass_id += 1

    def finish(self) -> Toolpath:
        """The whole path, beyond the safe surface at its end."""
        if self._at is None:
            return Toolpath.empty()
        self.lift_off()
        self._add(self.safe.leave(self._at, UPRIGHT), Kind.RETRACT, 0.0)
        return Toolpath.joined(self._chunks)


def curve_motions(curve: Curve, z0: float, z1: float) -> tuple[Points, NDArray[np.int8], Points]:
    """The stretches of a curve as motions: end points (n, 3), kinds of motion, arc centres; z changes with the way."""
    a = curve.points
    b = np.roll(a, -1, axis=0) if curve.closed else a[1:]
    a, bulge = a[: len(b)], curve.bulges
    chord = b - a
    length = np.linalg.norm(chord, axis=1)
    round_ = bulge != 0
    safe = np.where(round_, bulge, 1.0)
    k = (1 - safe * safe) / (4 * safe)
    centre = np.where(round_[:, None], (a + b) / 2 + k[:, None] * np.column_stack([-chord[:, 1], chord[:, 0]]), 0.0)
    radius = np.linalg.norm(a - centre, axis=1)
    way = np.cumsum(np.where(round_, radius * 4 * np.abs(np.arctan(safe)), length))
    z = z0 + (z1 - z0) * way / max(float(way[-1]), 1e-12) if len(way) else way
    before = np.concatenate([[z0], z[:-1]])
    motion = np.where(round_, np.where(bulge > 0, Motion.ARC_CCW, Motion.ARC_CW), Motion.LINE).astype(np.int8)
    return np.column_stack([b, z]), motion, np.column_stack([centre, np.where(round_, before, 0.0)])

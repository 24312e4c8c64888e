"""Fronts that grow from cleared ground: the passes of a pocket that are never full width.

The places that the tool's axis has swept are a region. Grown by the stepover and kept inside the reachable region it
gives the next front: everything on it is cut with the stepover as radial depth, wherever the region's walls, arms and
islands are. Where fronts meet behind an island the last one is thinner. The region of reachable places is thinner
than the stepover only where a wall is thinner than the tool, so growing never crosses a wall.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from fenrik.core.frames import Points
from fenrik.core.regions import Rings, area_of, clip_lines, intersection, offset
from fenrik.core.regions.polygons import SCALE, line_length, thinned, to_shape
from fenrik.core.strategies.ground.entries import Entry

RIM_MM = 3e-3
"""Fronts end this near to the boundary of the reachable region."""
ARC_TOLERANCE_MM = 1e-3
SETTLED_SHARE = 1e-3
MAX_WAVES = 5000
THIN_MM = 5e-4
"""Fronts are thinned by this after each wave: the corners of an offset would breed without end."""
SPIRAL_STEPS = 180


@dataclass
class Front:
    """One pass of a wave.

    Attributes:
        points: (n, 2), uncut material on the right; closed ones repeat their first point.
        ground: the region that is cleared before it, made ready for questions.
        parents: numbers of the passes that must have been cut before.
        entry: a way in of its own, where it is not reached from the pass before.
        spiral: from a way in outwards; it is cut as it runs, whichever side the material is on.
    """

    points: Points
    ground: BaseGeometry
    parents: list[int] = field(default_factory=list)
    entry: Entry | None = None
    spiral: bool = False

    @property
    def closed(self) -> bool:
        return len(self.points) > 3 and bool(np.abs(self.points[0] - self.points[-1]).max() < 2.0 / SCALE)


def grow_fronts(reachable: Rings, cleared: Rings, stepover_mm: float) -> list[Front]:
    """All fronts from cleared ground to the boundary of the reachable region, in waves.

    Args:
        reachable: where the tool's axis may be (one connected piece).
        cleared: where it has been, inside it.
    """
    inner = offset(reachable, -RIM_MM)
    fronts: list[Front] = []
    before: list[int] = []
    settled = SETTLED_SHARE * stepover_mm**2
    for _ in range(MAX_WAVES):
        grown = intersection(offset(cleared, stepover_mm, ARC_TOLERANCE_MM), reachable)
        if area_of(grown) - area_of(cleared) < settled:
            break
        grown = thinned(grown, THIN_MM)
        lines = [line for ring in grown for line in _open_stretches(ring, inner)]
        ground = to_shape(offset(cleared, 2 * RIM_MM))
        shapely.prepare(ground)
        wave = [Front(line, ground) for line in lines if line_length(line) > 0.02 * stepover_mm]
        _find_parents(fronts, before, wave, stepover_mm)
        if not wave:
            break
        before = list(range(len(fronts), len(fronts) + len(wave)))
        fronts += wave
        cleared = grown
    return fronts


def fronts_from(entry: Entry, reachable: Rings, stepover_mm: float, clockwise: bool = False) -> list[Front]:
    """All fronts from a way in. A helix is first widened by a spiral as far as there is room round it."""
    if entry.kind != "helix" or entry.room - entry.size < 0.1 * stepover_mm:
        return grow_fronts(reachable, intersection(entry.cleared, reachable), stepover_mm)
    centre, widest = entry.place - np.array([entry.size, 0.0]), entry.room - RIM_MM
    turns = max(int(np.ceil((widest - entry.size) / stepover_mm)), 1)
    t = np.arange((turns + 1) * SPIRAL_STEPS + 1) * 2 * np.pi / SPIRAL_STEPS
    radius = np.minimum(entry.size + (widest - entry.size) * t / (2 * np.pi * turns), widest)
    turn = radius[:, None] * np.column_stack([np.cos(t), np.sin(t)])
    spiral = centre + turn * [1, -1 if clockwise else 1]
    ground = to_shape(offset(entry.cleared, 2 * RIM_MM))
    shapely.prepare(ground)
    disc = centre + turn[-SPIRAL_STEPS - 1 : -1]
    grown = grow_fronts(reachable, intersection([disc], reachable), stepover_mm)
    after = [replace(f, parents=[k + 1 for k in f.parents] or [0]) for f in grown]
    return [Front(spiral, ground, spiral=True), *after]


def _open_stretches(ring: Points, inner: Rings) -> list[Points]:
    """What of a ring lies inside; a stretch over the ring's seam is one."""
    closed = np.vstack([ring, ring[:1]])
    pieces = clip_lines([closed], inner)
    if len(pieces) > 1 and np.abs(pieces[-1][-1] - pieces[0][0]).max() < 2.0 / SCALE:
        pieces = [np.vstack([pieces[-1], pieces[0][1:]]), *pieces[1:-1]]
    return pieces


def _find_parents(fronts: list[Front], before: list[int], wave: list[Front], stepover: float) -> None:
    if not before or not wave:
        return
    tree = shapely.STRtree([shapely.LineString(fronts[k].points) for k in before])
    shapes = [shapely.LineString(f.points) for f in wave]
    own, theirs = tree.query(shapes, "dwithin", distance=1.05 * stepover + 2 * RIM_MM)
    for a, b in zip(own.tolist(), theirs.tolist(), strict=True):
        wave[a].parents.append(before[b])


def in_order(fronts: list[Front], start: Points) -> list[int]:
    """Fronts one after another: each after its parents, along one branch as far as it goes before the next."""
    waiting = [len(f.parents) for f in fronts]
    children: list[list[int]] = [[] for _ in fronts]
    for k, front in enumerate(fronts):
        for parent in front.parents:
            children[parent].append(k)
    ready = [k for k, count in enumerate(waiting) if count == 0]
    ready.sort(key=lambda k: -float(np.linalg.norm(fronts[k].points[0] - start)))
    order: list[int] = []
    while ready:
        k = ready.pop()
        order.append(k)
        end = fronts[k].points[-1]
        fresh = []
        for child in children[k]:
            waiting[child] -= 1
            if waiting[child] == 0:
                fresh.append(child)
        fresh.sort(key=lambda c: -float(np.linalg.norm(fronts[c].points[0] - end)))
        ready += fresh
    return order

"""Passes over a region: rings along its walls, lines to and fro, a spiral."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely

from fenrik.core.frames import Points
from fenrik.core.regions import Rings, clip_lines, components, fit_arcs, offset
from fenrik.core.regions.polygons import pole_of, thinned
from fenrik.core.sketches import Curve
from fenrik.core.strategies.common import ARC_FIT_MM
from fenrik.core.strategies.ground.entries import Entry
from fenrik.core.strategies.ground.fronts import RIM_MM, THIN_MM, Front
from fenrik.core.strategies.ground.links import ready

THIN_SHARE = 0.35
SPIRAL_STEP = 0.02
"""Radians between the places of a spiral."""


def offset_rings(
    piece: Rings, step: float, open_up: Callable[[Rings, list[Front]], list[int]] | None = None
) -> list[Front]:
    """Rings of a region, each a step inside the one round it; a ring waits for those inside it.

    Args:
        open_up: adds the passes that clear an innermost ring to the list, and gives their numbers.
    """
    fronts: list[Front] = []

    def descend(shape: Rings) -> list[int]:
        inner = components(thinned(offset(shape, -step, ARC_FIT_MM), THIN_MM))
        if open_up is not None and any(pole_of(child)[1] < THIN_SHARE * step for child in inner):
            inner = []  # too thin a core to open without cutting at full width: it is opened from here
        before = [k for child in inner for k in descend(child)]
        if not inner and open_up is not None:
            before = open_up(shape, fronts)
        ground = ready([r for child in inner for r in child]) if inner else ready(shape)
        mine = list(range(len(fronts), len(fronts) + len(shape)))
        fronts.extend(Front(closed_ring(ring), ground, list(before)) for ring in shape)
        return mine

    descend(piece)
    return fronts


def closed_ring(ring: Points) -> Points:
    return np.vstack([ring, ring[:1]])


def pass_curve(run: Points) -> Curve:
    """A pass with its arcs; closed ones end where they begin."""
    return fit_arcs(run, False, ARC_FIT_MM)


def parallel_passes(piece: Rings, wanted: Rings, step: float, direction_deg: float) -> list[Points]:
    """Lines to and fro over a region where stock stands, evenly spaced, none farther apart than the step."""
    turn = np.deg2rad(direction_deg)
    spin = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
    turned = np.vstack(piece) @ spin
    low, high = turned.min(axis=0), turned.max(axis=0)
    rows = np.linspace(low[1], high[1], max(int(np.ceil((high[1] - low[1]) / step)), 1) + 1)
    lines = []
    for k, y in enumerate(np.clip(rows, low[1] + RIM_MM, high[1] - RIM_MM)):
        line = np.array([[low[0] - 1, y], [high[0] + 1, y]]) @ spin.T
        for cut in clip_lines([line if k % 2 == 0 else line[::-1]], piece):
            lines += clip_lines([cut], offset(wanted, step))
    return lines


def spiral_pass(piece: Rings, entry: Entry, step: float, clockwise: bool = False) -> Points | None:
    """One spiral from the entry's helix to the wall, none of its turns farther apart than the step.

    Between the helix and the wall it goes evenly outwards along each ray from the middle; None where a ray meets the
    wall twice (the region cannot be seen whole from its middle) or there is an island.
    """
    if len(piece) > 1:
        return None
    centre, hand = entry.place - np.array([entry.size, 0.0]), [1, -1 if clockwise else 1]
    wall = ((piece[0] - centre) * hand)[:: -1 if clockwise else 1]
    angle = np.unwrap(np.arctan2(wall[:, 1], wall[:, 0]))
    if np.any(np.diff(np.append(angle, angle[0] + 2 * np.pi)) <= 0):
        return None
    steps = max(int(2 * np.pi / SPIRAL_STEP), 90)
    theta = np.arange(steps) * 2 * np.pi / steps
    rays = np.stack([np.zeros((steps, 2)), np.column_stack([np.cos(theta), np.sin(theta)]) * 1e5], axis=1)
    edge = shapely.LinearRing(wall)
    meets = shapely.intersection(shapely.linestrings(rays), edge)
    radius = shapely.distance(shapely.points(0, 0), meets)
    turns = max(int(np.ceil((radius.max() - entry.size) / step)), 1)
    share = np.arange(turns * steps + 1) / (turns * steps)
    r = entry.size + (np.resize(radius, len(share)) - entry.size) * share
    t = np.arange(len(share)) * 2 * np.pi / steps
    return centre + r[:, None] * np.column_stack([np.cos(t), np.sin(t)]) * hand

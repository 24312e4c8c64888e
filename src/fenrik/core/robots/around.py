"""What stands round an arm: boxes and rounds as they are, the work as distances on a lattice that goes with the table.

The work's surfaces are sampled as finely as the lattice is wide, what they enclose is filled, and the Euclidean
distance transform (C. R. Maurer, R. Qi, V. Raghavan 2003, by SciPy) gives each place its distance; it is lessened by
what a sample may be off, so that a gap is never less than it says. The arm's own bodies are balls that enclose
them. This is what a whole path is weighed by; exact distances between bodies are those of the proof.
"""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np
from scipy.ndimage import distance_transform_edt, label

from fenrik.core.frames import Points, plane_axes
from fenrik.core.machines.bodies import STILL
from fenrik.core.robots._cell_kernels import MOST_GAP_MM, Surroundings
from fenrik.core.robots.cell import Cell
from fenrik.core.tools import Tool, assembly_of

PLACES, LEAST_STEP_MM = 160, 5.0
LAST_OWN = 3
"""What the flange carries is kept clear of the links up to the fourth; the fifth carries it."""
FIRST_LINK = 2
"""Bodies that move with the first joints stand beside the base, whatever they do: those from the third on count."""
BALL_SHARE = 0.8
"""Balls of a row lie apart by so much of how thick their body is."""
RING, CORNERS = 12, 8
Surface = tuple[Points, np.ndarray]
"""Places (k, 3) and triangles (m, 3)."""


def nothing_around() -> Surroundings:
    """No bodies, and nothing round them."""
    work, low, step = _field([])
    whole = np.zeros(0, np.int64)
    none = np.zeros((0, 16))
    return Surroundings(whole, np.zeros((0, 3)), np.zeros(0), whole, work, low, step, none, 0, none, whole)


def surroundings(cell: Cell, tool: Tool, on_table: Iterable[Surface]) -> Surroundings:
    """What the bodies of an arm are kept clear of.

    Args:
        tool: in the spindle; its holder counts, what cuts meets the work. on_table: stock and fixtures, closed surfaces
            in the table's frame.
    """
    columns, table = cell.arm_columns, cell.table.frame("table")
    turning = columns.stop if cell.turntable is not None else STILL
    still: list[Points] = []
    turned: list[Points] = []
    balls: list[tuple[int, Points, float, int]] = []
    base = cell.base.frame("base")
    own: list[tuple[int, Points]] = []
    for body in cell.placed_bodies():
        link = body.frame - columns.start
        if body.frame == STILL or body.frame == turning:
            on = turning != STILL and body.frame == turning
            for group in body.groups:
                (turned if on else still).append(_plain(table.to_local(group) if on else group))
        elif 0 <= link <= LAST_OWN:
            own += [(link, _plain(base.to_local(group))) for group in body.groups]
        if FIRST_LINK <= link < columns.stop - columns.start:
            balls += [(link, *ball) for g in body.groups for ball in _balls(base.to_local(g))]
    face = cell.face()
    for part in assembly_of(tool).watched:
        if part.role == "holder":
            for piece in part.profile.convex():
                ends = float(piece.bands[:, 0].min()), float(piece.bands[:, 1].max())
                rings = [_ring(piece.radius_at(z), z - tool.assembly_mm) for z in ends]
                balls += [(5, *ball) for ball in _balls(base.to_local(face.to_part(np.vstack(rings))))]
    balls.sort(key=lambda ball: ball[0])
    field, low, step = _field(list(on_table))
    return Surroundings(
        link=np.array([b[0] for b in balls], np.int64),
        centre=np.array([b[1] for b in balls]).reshape(-1, 3),
        radius=np.array([b[2] for b in balls], dtype=np.float64),
        within=np.array([b[3] for b in balls], np.int64),
        work=field,
        low=low,
        step=step,
        plain=np.array([*turned, *still]).reshape(-1, 16),
        turning=len(turned),
        own=np.array([shape for _, shape in own]).reshape(-1, 16),
        own_link=np.array([link for link, _ in own], np.int64),
    )


def _ring(radius_mm: float, height_mm: float) -> Points:
    t = 2 * np.pi * np.arange(RING) / RING
    return np.column_stack([radius_mm * np.cos(t), radius_mm * np.sin(t), np.full(RING, height_mm)])


def _plain(corners: Points) -> Points:
    """A box by its eight corners, or a round by its two rings, as kernels have it; a cone by its wider end."""
    if len(corners) <= CORNERS:
        middle = corners.mean(axis=0)
        # Corners are in the order of x, y, z: the fifth, third and second lie along one side each.
        sides = np.array([corners[4], corners[2], corners[1]]) - corners[0]
        half = np.linalg.norm(sides, axis=1) / 2
        return np.concatenate([middle, (sides / (2 * half[:, None])).ravel(), half, [0.0]])
    foot, top = corners[: len(corners) // 2], corners[len(corners) // 2 :]
    a, b = foot.mean(axis=0), top.mean(axis=0)
    along = (b - a) / np.linalg.norm(b - a)
    x, y = plane_axes(along)
    radius = max(float(np.linalg.norm(ring - ring.mean(axis=0), axis=1).max()) for ring in (foot, top))
    half = np.array([radius, radius, float(np.linalg.norm(b - a)) / 2])
    return np.concatenate([0.5 * (a + b), x, y, along, half, [1.0]])


def _balls(corners: Points) -> list[tuple[Points, float, int]]:
    """Balls in a row that enclose the convex hull of places, each with the smaller ones within it that do so, too:
    centre, radius, and how many follow that are within it."""
    middle = 0.5 * (corners.min(axis=0) + corners.max(axis=0))
    _, _, axes = np.linalg.svd(corners - middle)
    own = (corners - middle) @ axes.T
    low, high = own.min(axis=0), own.max(axis=0)
    centre = 0.5 * (low + high)
    thick = float(np.linalg.norm((own - centre)[:, 1:], axis=1).max())
    length = float(high[0] - low[0])
    count = max(1, math.ceil(length / max(BALL_SHARE * thick, 1.0)))
    step, angular = length / count, len(corners) <= CORNERS
    pieces, across = (2, 2) if angular else (3, 1)
    found: list[tuple[Points, float, int]] = []

    def ball(at: Points, radius: float, within: int) -> None:
        found.append((middle + axes.T @ at, radius, within))

    for k in range(count):
        first = low[0] + k * step
        inner = list(np.ndindex(pieces, across, across))
        ball(np.array([first + 0.5 * step, centre[1], centre[2]]), math.hypot(thick, 0.5 * step), len(inner))
        for a, b, c in inner:
            along = first + (a + 0.5) * step / pieces
            if not angular:
                ball(np.array([along, centre[1], centre[2]]), math.hypot(thick, 0.5 * step / pieces), 0)
                continue
            size = (high - low)[1:] / 2
            at = np.array([along, low[1] + (b + 0.5) * size[0], low[2] + (c + 0.5) * size[1]])
            ball(at, 0.5 * math.hypot(step / pieces, float(np.hypot(*size))), 0)
    return found


def _field(surfaces: list[Surface]) -> tuple[np.ndarray, Points, float]:
    """Distances to closed surfaces on a lattice, its first place and its step."""
    if not surfaces:
        return np.full((1, 1, 1), MOST_GAP_MM, np.float32), np.zeros(3), 1.0
    low = np.min([p.min(axis=0) for p, _ in surfaces], axis=0) - MOST_GAP_MM
    high = np.max([p.max(axis=0) for p, _ in surfaces], axis=0) + MOST_GAP_MM
    step = max(float((high - low).max()) / PLACES, LEAST_STEP_MM)
    size = np.ceil((high - low) / step).astype(int) + 1
    taken = np.zeros(size, np.bool_)
    for places, triangles in surfaces:
        at = np.rint((_samples(places, triangles, 0.5 * step) - low) / step).astype(int)
        taken[tuple(at.T)] = True
    # What cannot be come to from a corner of the lattice lies within.
    rooms = label(~taken)[0]
    taken |= rooms != rooms[0, 0, 0]
    # A sample is at most half a diagonal from its place of the lattice, a place of the surface half a step from one.
    off = 0.5 * step * (math.sqrt(3.0) + 0.5)
    outside = distance_transform_edt(~taken) * step - off
    inside = distance_transform_edt(taken) * step
    return np.minimum(np.where(taken, -inside, outside), MOST_GAP_MM).astype(np.float32), low, step


def _samples(places: Points, triangles: np.ndarray, apart_mm: float) -> Points:
    """Places of triangles, neighbours at most so far apart."""
    corner = places[triangles]
    sides = np.linalg.norm(corner - np.roll(corner, 1, axis=1), axis=2).max(axis=1)
    pieces = np.maximum(1, np.ceil(sides / apart_mm)).astype(int)
    found = []
    for count in np.unique(pieces):
        own = corner[pieces == count]
        i, j = np.meshgrid(np.arange(count + 1), np.arange(count + 1), indexing="ij")
        keep = i + j <= count
        weights = np.column_stack([i[keep], j[keep], count - i[keep] - j[keep]]) / count
        found.append(np.einsum("wk,tkc->twc", weights, own).reshape(-1, 3))
    return np.vstack(found)

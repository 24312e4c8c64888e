"""Cleared ground as a field over a square lattice, and the cutter's engagement on it.

At each node stands the distance to the nearest place where the axis has been: on the edge of what is cleared it is the
cutter's radius. Along the circle of a cutter the field tells the arc in material; each motion lowers it. Between nodes
it is interpolated, which is off by no more than cell²/(8·radius) where the edge is smooth.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from fenrik.core.kernels import kernel

HALF_ARC = 36
"""Steps in which the front half of the cutter is looked at."""
NEAR_CELLS = 2.0
"""Within so many cells of an edge distances are exact; squares of that size list the edges near them."""
FILM = 1e-3
"""Share of the radius below which material is not felt."""


class Edges(NamedTuple):
    """The edge of a region, listed by squares.

    Attributes:
        line: (m, 4) with the region on the left. reflex: (m,) whether the region is reflex at the end of each.
        first: (rows · columns + 1,), item: which lines lie near each square. columns: squares in y.
    """

    line: np.ndarray
    reflex: np.ndarray
    first: np.ndarray
    item: np.ndarray
    columns: int


class Ground(NamedTuple):
    """What the kernels look at.

    Attributes:
        axis: (nx, ny) distance to the nearest place of the axis. fence: (nx, ny) distance to the edge of where the axis
            may be, below 0 inside.
        x0, y0, cell: the lattice. radius: of the cutter. edges: of the fence.
        cosine, sine: (HALF_ARC + 1,) of the angles from right to left.
    """

    axis: np.ndarray
    fence: np.ndarray
    x0: float
    y0: float
    cell: float
    radius: float
    edges: Edges
    cosine: np.ndarray
    sine: np.ndarray


@kernel(nogil=True)
def list_edges(
    line: np.ndarray, x0: float, y0: float, wide: float, rows: int, columns: int, item: np.ndarray, first: np.ndarray
) -> int:
    """List lines by the squares that they come near; with an empty `item` they are counted into `first` only.

    Returns:
        How many entries there are.
    """
    reach = 1.1 * wide
    filled = np.zeros(rows * columns, np.int64)
    for m in range(len(line)):
        ax, ay, bx, by = line[m, 0], line[m, 1], line[m, 2], line[m, 3]
        dx, dy = bx - ax, by - ay
        i0 = max(int(np.floor((min(ax, bx) - reach - x0) / wide)), 0)
        i1 = min(int(np.floor((max(ax, bx) + reach - x0) / wide)), rows - 1)
        for i in range(i0, i1 + 1):
            # The stretch of the line over this column of squares, and what is beside it.
            low, high = x0 + i * wide - reach, x0 + (i + 1) * wide + reach
            s, e = 0.0, 1.0
            if abs(dx) > 1e-12:
                s = min(max(min((low - ax) / dx, (high - ax) / dx), 0.0), 1.0)
                e = min(max(max((low - ax) / dx, (high - ax) / dx), 0.0), 1.0)
            ya, yb = ay + s * dy, ay + e * dy
            j0 = max(int(np.floor((min(ya, yb) - reach - y0) / wide)), 0)
            j1 = min(int(np.floor((max(ya, yb) + reach - y0) / wide)), columns - 1)
            for j in range(j0, j1 + 1):
                box = i * columns + j
                if len(item) > 0:
                    item[first[box] + filled[box]] = m
                filled[box] += 1
    total = 0
    for box in range(rows * columns):
        if len(item) == 0:
            first[box] = total
        total += filled[box]
    if len(item) == 0:
        first[rows * columns] = total
    return total


@kernel(nogil=True)
def inside(line: np.ndarray, x0: float, y0: float, cell: float, found: np.ndarray) -> None:
    """Mark the nodes (nx, ny) of a lattice that lie inside the lines of a region (even–odd, column by column)."""
    nx, ny = found.shape
    for m in range(len(line)):
        ax, ay, bx, by = line[m, 0], line[m, 1], line[m, 2], line[m, 3]
        if ax == bx:
            continue
        if ax > bx:
            ax, ay, bx, by = bx, by, ax, ay
        i0, i1 = max(int(np.ceil((ax - x0) / cell)), 0), min(int(np.ceil((bx - x0) / cell)), nx)
        for i in range(i0, i1):
            y = ay + (by - ay) * (x0 + i * cell - ax) / (bx - ax)
            j = max(int(np.ceil((y - y0) / cell)), 0)
            if j < ny:
                found[i, j] = not found[i, j]
    for i in range(nx):
        for j in range(1, ny):
            found[i, j] = found[i, j] != found[i, j - 1]


@kernel(nogil=True)
def exact_distance(edges: Edges, x0: float, y0: float, wide: float, x: float, y: float) -> float:
    """Distance to the edge of a region, below 0 inside; infinite where no line is near."""
    i, j = int((x - x0) / wide), int((y - y0) / wide)
    rows = (len(edges.first) - 1) // edges.columns
    if x < x0 or y < y0 or i >= rows or j >= edges.columns:
        return np.inf
    best, outside = np.inf, True
    box = i * edges.columns + j
    for k in edges.item[edges.first[box] : edges.first[box + 1]]:
        ax, ay, bx, by = edges.line[k, 0], edges.line[k, 1], edges.line[k, 2], edges.line[k, 3]
        dx, dy = bx - ax, by - ay
        t = ((x - ax) * dx + (y - ay) * dy) / (dx * dx + dy * dy)
        if t <= 0.0:
            continue  # its begin is the end of the line before
        if t >= 1.0:
            d = (x - bx) ** 2 + (y - by) ** 2
            if d < best:
                best, outside = d, not edges.reflex[k]
            continue
        cross = dx * (y - ay) - dy * (x - ax)
        d = cross * cross / (dx * dx + dy * dy)
        if d < best:
            best, outside = d, cross < 0.0
    return float(np.sqrt(best) if outside else -np.sqrt(best))


@kernel(nogil=True)
def make_exact(edges: Edges, x0: float, y0: float, cell: float, field: np.ndarray) -> None:
    """Put exact distances in place of rough ones near the edge."""
    wide = NEAR_CELLS * cell
    for i in range(field.shape[0]):
        for j in range(field.shape[1]):
            if abs(field[i, j]) < wide:
                d = exact_distance(edges, x0, y0, wide, x0 + i * cell, y0 + j * cell)
                if d < np.inf:
                    field[i, j] = d


@kernel(nogil=True)
def between(field: np.ndarray, x0: float, y0: float, cell: float, x: float, y: float) -> float:
    """The field between its nodes."""
    u, v = (x - x0) / cell, (y - y0) / cell
    i = min(max(int(u), 0), field.shape[0] - 2)
    j = min(max(int(v), 0), field.shape[1] - 2)
    u, v = u - i, v - j
    a = field[i, j] + (field[i + 1, j] - field[i, j]) * u
    b = field[i, j + 1] + (field[i + 1, j + 1] - field[i, j + 1]) * u
    return float(a + (b - a) * v)


@kernel(nogil=True)
def fence_at(g: Ground, x: float, y: float) -> float:
    """How far a place is outside of where the axis may be; below 0 inside, exact near the edge."""
    rough = between(g.fence, g.x0, g.y0, g.cell, x, y)
    wide = NEAR_CELLS * g.cell
    if abs(rough) > wide:
        return rough
    found = exact_distance(g.edges, g.x0, g.y0, wide, x, y)
    return found if found < np.inf else rough


@kernel(nogil=True)
def engagement(g: Ground, x: float, y: float, ux: float, uy: float) -> float:
    """Arc of the cutter's front half in material, radians, at a place with a direction of motion."""
    edge = g.radius * (1.0 + FILM)
    total, before = 0.0, 0.0
    for k in range(HALF_ARC + 1):
        c, s = g.cosine[k] * g.radius, g.sine[k] * g.radius
        value = between(g.axis, g.x0, g.y0, g.cell, x + c * ux - s * uy, y + c * uy + s * ux) - edge
        if k > 0:
            if value > 0.0 and before > 0.0:
                total += 1.0
            elif value > 0.0:
                total += value / (value - before)
            elif before > 0.0:
                total += before / (before - value)
        before = value
    return total * np.pi / HALF_ARC


@kernel(nogil=True)
def is_clear(g: Ground, x: float, y: float, spare: float) -> bool:
    """Whether the cutter stands at a place inside the fence without touching material, with something to spare."""
    if fence_at(g, x, y) > -spare or between(g.axis, g.x0, g.y0, g.cell, x, y) > g.radius:
        return False
    edge = g.radius * (1.0 + FILM)
    reach = g.radius + spare
    for side in (1.0, -1.0):
        for k in range(HALF_ARC):
            c, s = side * g.cosine[k] * reach, side * g.sine[k] * reach
            if between(g.axis, g.x0, g.y0, g.cell, x + c, y + s) > edge:
                return False
    return True


@kernel(nogil=True)
def sees(g: Ground, ax: float, ay: float, bx: float, by: float, spare: float) -> bool:
    """Whether the straight way between two places is clear."""
    pieces = max(int(np.ceil(np.hypot(bx - ax, by - ay) / (0.15 * g.radius))), 1)
    for k in range(1, pieces):  # noqa: SIM110 (kernels know no generators)
        if not is_clear(g, ax + (bx - ax) * k / pieces, ay + (by - ay) * k / pieces, spare):
            return False
    return True


@kernel(nogil=True)
def stamp(g: Ground, x: float, y: float) -> None:
    """Clear what the cutter takes where it stands."""
    reach = g.radius + NEAR_CELLS * g.cell
    i0, i1 = int((x - reach - g.x0) / g.cell), int((x + reach - g.x0) / g.cell) + 2
    j0, j1 = int((y - reach - g.y0) / g.cell), int((y + reach - g.y0) / g.cell) + 2
    for i in range(max(i0, 0), min(i1, g.axis.shape[0])):
        for j in range(max(j0, 0), min(j1, g.axis.shape[1])):
            d = np.hypot(g.x0 + i * g.cell - x, g.y0 + j * g.cell - y)
            if d < g.axis[i, j]:
                g.axis[i, j] = d


@kernel(nogil=True)
def sweep(g: Ground, ax: float, ay: float, bx: float, by: float) -> float:
    """Clear what the cutter takes on a step that is short beside its radius, where it has cleared its begin: only the
    rim of it in front is new. Gives how thick the material was that it took from any node."""
    dx, dy = bx - ax, by - ay
    size = dx * dx + dy * dy
    if size < 1e-18:
        return 0.0
    took = 0.0
    length = np.sqrt(size)
    outer, inner = g.radius + NEAR_CELLS * g.cell, g.radius - NEAR_CELLS * g.cell - length
    inner2 = inner * inner if inner > 0.0 else 0.0
    behind = -g.cell * length - size
    i0, i1 = int((bx - outer - g.x0) / g.cell), int((bx + outer - g.x0) / g.cell) + 2
    for i in range(max(i0, 0), min(i1, g.axis.shape[0])):
        px = g.x0 + i * g.cell - bx
        rest = outer * outer - px * px
        if rest <= 0.0:
            continue
        tall = np.sqrt(rest)
        j0, j1 = int((by - tall - g.y0) / g.cell), int((by + tall - g.y0) / g.cell) + 2
        for j in range(max(j0, 0), min(j1, g.axis.shape[1])):
            py = g.y0 + j * g.cell - by
            along = px * dx + py * dy
            d2 = px * px + py * py
            if d2 < inner2 or along < behind:
                continue
            if along < 0.0:
                t = max(along / size, -1.0)
                d2 = (px - t * dx) ** 2 + (py - t * dy) ** 2
            d = np.sqrt(d2)
            before = g.axis[i, j]
            if d < before:
                took = max(took, before - max(d, g.radius))
                g.axis[i, j] = d
    return took

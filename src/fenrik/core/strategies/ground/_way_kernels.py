"""The shortest way over a lattice of clear places, by A* (Hart, Nilsson and Raphael, 1968)."""

from __future__ import annotations

import heapq

import numpy as np

from fenrik.core.kernels import kernel
from fenrik.core.strategies.ground._cleared_kernels import Ground, is_clear, sees

FIRST_NODES = 2
"""The ends of a way may lie so many nodes from the node that they go to."""


@kernel(nogil=True)
def _meet(g: Ground, x: float, y: float, every: int, nodes: np.ndarray, spare: float) -> tuple[int, int]:
    """The nearest clear node that sees a place; −1 where none does."""
    step = every * g.cell
    ci, cj = int(round((x - g.x0) / step)), int(round((y - g.y0) / step))
    best, bi, bj = np.inf, -1, -1
    for i in range(max(ci - FIRST_NODES, 0), min(ci + FIRST_NODES + 1, nodes.shape[0])):
        for j in range(max(cj - FIRST_NODES, 0), min(cj + FIRST_NODES + 1, nodes.shape[1])):
            px, py = g.x0 + i * step, g.y0 + j * step
            d = np.hypot(px - x, py - y)
            if d < best and is_clear(g, px, py, spare) and sees(g, x, y, px, py, 0.0):
                best, bi, bj = d, i, j
    return bi, bj


@kernel(nogil=True)
def way_over(
    g: Ground, ax: float, ay: float, bx: float, by: float, every: int, spare: float, longest: float
) -> np.ndarray:
    """Places (n, 2) of a way from a to b, both with it, through clear ground; none where there is no such way.

    Args:
        every: distance of the nodes in cells. spare: how far the way keeps from material and fence, but for its ends.
        longest: no way longer than that is looked for.
    """
    step = every * g.cell
    shape = ((g.axis.shape[0] - 1) // every + 1, (g.axis.shape[1] - 1) // every + 1)
    length = np.full(shape, np.inf)
    before = np.full(shape, -1, np.int64)
    done = np.zeros(shape, np.bool_)
    ai, aj = _meet(g, ax, ay, every, length, spare)
    bi, bj = _meet(g, bx, by, every, length, spare)
    if ai < 0 or bi < 0:
        return np.zeros((0, 2))
    length[ai, aj] = 0.0
    waiting = [(step * np.hypot(ai - bi, aj - bj), ai, aj)]
    while len(waiting) > 0:
        total, i, j = heapq.heappop(waiting)
        if total > longest:
            break
        if i == bi and j == bj:
            return _back(g, ax, ay, bx, by, before, bi, bj, step)
        if done[i, j]:
            continue
        done[i, j] = True
        for di in range(-1, 2):
            for dj in range(-1, 2):
                ni, nj = i + di, j + dj
                if ni < 0 or nj < 0 or ni >= shape[0] or nj >= shape[1] or done[ni, nj]:
                    continue
                further = length[i, j] + step * np.hypot(di, dj)
                if further >= length[ni, nj]:
                    continue
                if before[ni, nj] < 0 and not is_clear(g, g.x0 + ni * step, g.y0 + nj * step, spare):
                    done[ni, nj] = True
                    continue
                length[ni, nj], before[ni, nj] = further, i * shape[1] + j
                heapq.heappush(waiting, (further + step * np.hypot(ni - bi, nj - bj), ni, nj))
    return np.zeros((0, 2))


@kernel(nogil=True)
def _back(
    g: Ground, ax: float, ay: float, bx: float, by: float, before: np.ndarray, i: int, j: int, step: float
) -> np.ndarray:
    """The places of a way found, from a to b."""
    found = [(bx, by)]
    while i >= 0:
        found.append((g.x0 + i * step, g.y0 + j * step))
        last = before[i, j]
        i, j = (last // before.shape[1], last % before.shape[1]) if last >= 0 else (-1, -1)
    found.append((ax, ay))
    out = np.empty((len(found), 2))
    for k in range(len(found)):
        out[len(found) - 1 - k, 0], out[len(found) - 1 - k, 1] = found[k]
    return out


@kernel(nogil=True)
def tightened(g: Ground, way: np.ndarray, spare: float) -> np.ndarray:
    """A way (n, 2) without the places past which it sees further."""
    kept = np.empty_like(way)
    kept[0], count, k = way[0], 1, 0
    while k < len(way) - 1:
        ahead = k + 1
        for m in range(len(way) - 1, k + 1, -1):
            ends = spare if k > 0 and m < len(way) - 1 else 0.0
            if sees(g, way[k, 0], way[k, 1], way[m, 0], way[m, 1], ends):
                ahead = m
                break
        kept[count] = way[ahead]
        count, k = count + 1, ahead
    return kept[:count].copy()

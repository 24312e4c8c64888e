"""Take motions out of a path: up before them, over at rapid, and down again where the path can go on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.toolpath.model import Kind, Toolpath
from fenrik.core.toolpath.poses import UPRIGHT

START_GAP_MM = 1.0
LEAST_STRETCH_MM = 10.0
"""What is left of a pass is gone on with where it is at least so long."""

RAPID_MM_MIN = 15_000.0
"""How fast a machine is thought to be where a way over the top is weighed against one in air."""
HOP_WORTH = 1.2
STEEP = 0.2

Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class Detour:
    """How to go over what is left out.

    Attributes:
        safe_mm: height of rapids. stands: highest stock under the tool with its tip at places (…, 2).
        feed: downwards, mm/min. plunges: whether the tool may go straight down into what stands there.
        lifts: whether it may go straight up anywhere; one that stands under what it leaves may not.
    """

    safe_mm: float
    stands: Callable[[Points], Points]
    feed: float
    plunges: bool = True
    lifts: bool = True


def without(path: Toolpath, bad: Mask, way: Detour, whole: bool = False) -> Toolpath:
    """A path without some of its motions (n,); the first place, where it begins, stays.

    Motions of one canned cycle, and those of one run with compensation at the controller, go together; with a bad way
    straight up, which has no other, goes all since the tool came down.

    Args:
        whole: leave out all from the last place over the stock before a bad motion to the first after it.
    """
    bad = _with_their_units(path, bad)
    over = path.point[:, 2] >= way.stands(path.point[:, :2])
    if whole or not way.lifts:
        bad = _from_over_to_over(bad, over)
    else:
        bad = bad | _from_over_to_over(bad & (path.kind == Kind.RETRACT), over)
    bad[0] = False
    pieces: list[Toolpath] = []
    begin, n = 0, len(path)
    while begin < n:
        stop = begin + int(np.argmax(bad[begin:])) if bad[begin:].any() else n
        pieces.append(path.rows(np.arange(begin, stop)))
        if stop == n:
            break
        begin = _goes_on(path, bad, over, stop, way)
        pieces.append(_detour(path, stop - 1, begin, way))
    return Toolpath.joined(pieces)


def _with_their_units(path: Toolpath, bad: Mask) -> Mask:
    """Bad motions and those that go with them: of one hole's cycle, of one run with compensation."""
    bad = bad | ((path.hole >= 0) & np.isin(path.hole, np.unique(path.hole[bad & (path.hole >= 0)])))
    run = np.cumsum(np.diff(path.side, prepend=np.int8(0)) != 0)
    return np.asarray(bad | ((path.side != 0) & np.isin(run, np.unique(run[bad & (path.side != 0)]))))


def _from_over_to_over(bad: Mask, over: Mask) -> Mask:
    """Bad stretches grown to where the tool is over the stock at their begin and end."""
    # A motion from one place over the stock to another is a block of its own.
    starts_over = np.concatenate([[True], over[:-1]])
    block = np.cumsum(starts_over)
    return np.asarray(np.isin(block, np.unique(block[bad])))


def _goes_on(path: Toolpath, bad: Mask, over: Mask, first: int, way: Detour) -> int:
    """The next motion that the path can go on with after a bad one; its length where there is none."""
    n = len(path)
    lengths = path.lengths()
    for r in range(first + 1, n):
        if bad[r] or (path.hole[r] >= 0 and path.hole[r] == path.hole[r - 1]):
            continue
        if path.side[r] and path.side[r - 1]:
            continue
        if over[r - 1]:
            return r
        if not way.plunges or not way.lifts or path.kind[r] != Kind.CUT or path.spindle[r] == 0:
            continue
        stop = r
        while stop < n and path.kind[stop] == Kind.CUT and not bad[stop] and path.pass_id[stop] == path.pass_id[r]:
            stop += 1
        begins = path.pass_id[r] != path.pass_id[first]
        if begins or float(lengths[r:stop].sum()) >= LEAST_STRETCH_MM:
            return r
    return n


def _detour(path: Toolpath, last: int, begin: int, way: Detour) -> Toolpath:
    """From the end of a motion to the start of another one: up, over, down; up alone at the end of the path. A tool
    that leans goes out and in along its own axis."""
    here, there = path.point[last], path.point[min(begin, len(path)) - 1]
    axes = path.axis[[last, min(begin, len(path)) - 1]]
    goes_on = begin < len(path)
    height = max(way.safe_mm if goes_on else float(there[2]), way.safe_mm, float(here[2]))
    rows = [(_raised(here, axes[0], height), axes[0], Kind.RETRACT)]
    if goes_on:
        height = max(height, float(there[2]))
        start = max(float(there[2]), min(float(way.stands(there[:2])) + START_GAP_MM, height))
        if not np.array_equal(axes[1], UPRIGHT):
            start = height  # what stands beside the way down is not known
        rows += [
            (_raised(there, axes[1], height), axes[1], Kind.RAPID),
            (_raised(there, axes[1], start), axes[1], Kind.RAPID),
            (there, axes[1], Kind.APPROACH),
        ]
    points, axis = np.array([r[0] for r in rows]), np.array([r[1] for r in rows])
    kinds = np.array([r[2] for r in rows], np.int8)
    moved = np.linalg.norm(np.diff(points, axis=0, prepend=here[None]), axis=1) > 1e-9
    moved |= np.abs(np.diff(axis, axis=0, prepend=axes[:1])).max(axis=1) > 1e-12
    points, kind = points[moved], kinds[moved]
    n = len(points)
    feed = np.where(kind == Kind.APPROACH, way.feed, 0.0)
    made = Toolpath.plain(points, np.zeros(n, np.int8), np.zeros((n, 3)), kind, feed)
    spindle = path.spindle[min(begin, len(path) - 1)]
    return replace(made, axis=axis[moved], spindle=np.full(n, spindle, np.int8))


def _raised(point: Points, axis: Points, height: float) -> Points:
    """Where a tool that goes out along its axis comes to a height; straight up where its axis hardly rises."""
    along = axis / axis[2] if axis[2] >= STEEP else UPRIGHT
    return np.asarray(point + (height - point[2]) * along)


def hopped(path: Toolpath, idle: Mask, way: Detour, feed: float) -> Toolpath:
    """A path that goes over the top instead of long ways on which it takes nothing, where that is quicker; the path
    itself where there are none. Before and after such a way the tool stands free.

    Args:
        idle: (n,) motions that take nothing. feed: with which they would be gone, mm/min.
    """
    plain = idle & (path.hole < 0) & (path.side == 0)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], plain[1:], [False]]).astype(np.int8))) + 1
    lengths, working = path.lengths(), np.isin(path.kind, [Kind.CUT, Kind.LINK, Kind.ENTRY])
    pieces, done = [], 0
    for a, b in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        air = float(lengths[a:b][working[a:b]].sum())
        if air / feed <= HOP_WORTH * _hop_minutes(path, a, b, way) or not way.lifts:
            continue
        pieces += [path.rows(np.arange(done, a)), _detour(path, a - 1, b, way)]
        done = b
    return Toolpath.joined([*pieces, path.rows(np.arange(done, len(path)))]) if pieces else path


def _hop_minutes(path: Toolpath, a: int, b: int, way: Detour) -> float:
    """Minutes that it takes to go over the top in place of motions a to before b; none at the end of a path."""
    if b == len(path):
        return 0.0
    here, there = path.point[a - 1], path.point[b - 1]
    up, down = max(way.safe_mm - here[2], 0.0), max(way.safe_mm - there[2], 0.0)
    slow = max(min(float(way.stands(there[:2])) + START_GAP_MM, way.safe_mm) - there[2], 0.0)
    return float((up + down - slow + np.hypot(*(there - here)[:2])) / RAPID_MM_MIN + slow / way.feed)


def skimmed(path: Toolpath, idle: Mask, least_mm: float, feed: float) -> Toolpath:
    """A path on which cuts that take nothing are links, where enough of them follow one another.

    Args:
        idle: (n,) motions that take nothing. least_mm: length of the shortest stretch. feed: of links, mm/min.
    """
    cuts = idle & (path.kind == Kind.CUT) & (path.side == 0) & (path.feed < feed)
    stretch = np.cumsum(np.diff(cuts.astype(np.int8), prepend=np.int8(0)) != 0)
    length = np.bincount(stretch, path.lengths())
    chosen = cuts & (length[stretch] >= least_mm)
    return replace(
        path,
        kind=np.where(chosen, Kind.LINK, path.kind).astype(np.int8),
        feed=np.where(chosen, feed, path.feed),
        pass_id=np.where(chosen, -1, path.pass_id).astype(np.int32),
    )

"""Ways from pass to pass through ground that is cleared."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.ops import substring

from fenrik.core.frames import Points
from fenrik.core.regions import Rings, offset
from fenrik.core.regions.polygons import signed_area, to_shape
from fenrik.core.strategies.ground.fronts import RIM_MM

MOST_CORNERS = 250
SLANT = 3.0
"""Cotangent of the slant of steps, some 18°."""


def ready(region: Rings) -> shapely.Geometry:
    """A region, hardly grown, made ready for questions."""
    shape = to_shape(offset(region, 2 * RIM_MM))
    shapely.prepare(shape)
    return shape


def slanting_step(ground: shapely.Geometry, fence: shapely.Geometry, run: Points, step: float) -> Points:
    """Where on the edge of cleared ground to leave it for the begin of a pass, so that the way there slants.

    A step straight out would be full width; one that slants is engaged little more than the pass itself. A pass
    from wall to wall is met from ahead (its begin stands at the wall), a closed one from behind.
    """
    to = run[0]
    near = shapely.get_coordinates(shapely.shortest_line(ground, shapely.Point(to)))[0]
    if np.linalg.norm(near - to) < 0.2 * step:
        return near
    closed = np.abs(run[0] - run[-1]).max() < 1e-4
    way = shapely.LineString(run)
    for share in (1.0, 0.85, 0.7, 0.55, 0.4, 0.3, 0.2, 0.1):
        along = share * min(SLANT * step, 0.9 * way.length)
        beside = way.interpolate(way.length - along if closed else along)
        place = shapely.get_coordinates(shapely.shortest_line(ground, beside))[0]
        if ground.intersection(shapely.LineString([place, to])).length < 0.1 * step and sees(fence, place, to):
            return place
    return near


def sees(ground: shapely.Geometry, a: Points, b: Points) -> bool:
    """Whether the straight way from a to b stays in the ground; b itself may lie on its edge."""
    return bool(ground.covers(shapely.LineString([a, b + (a - b) * 1e-4])))


def way_through(ground: shapely.Geometry, at: Points, to: Points, back: Points | None, room: float) -> Points | None:
    """Places of a way through the ground, `to` with them.

    Args:
        back: another way to begin, the pass before from its end to its begin.
    """
    if sees(ground, at, to):
        return to[None]
    if back is not None and np.abs(back[0] - at).max() < 1e-6 and sees(ground, back[-1], to):
        return np.vstack([back[1:], to])
    return shortest_way(ground, at, to, room)


def along_inside(fence: shapely.Geometry, a: Points, b: Points) -> Points:
    """Places from a to b (without a): straight, or along the fence's edge where the straight way would leave it."""
    if np.linalg.norm(b - a) < 2 * RIM_MM or sees(fence, a, b):
        return b[None]
    rings = [r for p in shapely.get_parts(fence) for r in (p.exterior, *p.interiors)]
    ring = min(rings, key=lambda r: r.distance(shapely.Point(a)) + r.distance(shapely.Point(b)))
    start, end = ring.project(shapely.Point(a)), ring.project(shapely.Point(b))
    if abs(end - start) <= ring.length / 2:
        inner = substring(ring, start, end)
    else:
        rest = [substring(ring, max(start, end), ring.length), substring(ring, 0, min(start, end))]
        joined = np.vstack([shapely.get_coordinates(r) for r in rest])
        inner = shapely.LineString(joined if start > end else joined[::-1])
    # The fence is a little wider than the region; its edge is moved back inside.
    places = shapely.get_coordinates(inner)
    inside = shapely.get_coordinates(shapely.shortest_line(fence.buffer(-2 * RIM_MM), shapely.points(places)))[::2]
    # Where the way begins away from the edge, it goes to the edge first.
    first = 1 if np.linalg.norm(inside[0] - a) < 4 * RIM_MM else 0
    return np.vstack([inside[first:-1], b])


def shortest_way(
    ground: shapely.Geometry, at: Points, to: Points, room: float, longest: float = np.inf
) -> Points | None:
    """The shortest way inside a polygon, round its corners; None where the ends lie in different pieces, or it would be
    longer than so much.

    A* over the graph of what corners see of one another (Hart, Nilsson and Raphael, 1968); what a corner sees is looked
    at when the way comes to it.
    """
    own = next((p for p in shapely.get_parts(ground) if p.distance(shapely.Point(at)) < 1e-2), None)
    if own is None or own.distance(shapely.Point(to)) > 1e-2:
        return None
    simple = shapely.simplify(own.buffer(-room), room / 2)
    turns = [_corners(np.asarray(p.exterior.coords)[:-1], False) for p in shapely.get_parts(simple)]
    turns += [_corners(np.asarray(r.coords)[:-1], True) for p in shapely.get_parts(simple) for r in p.interiors]
    corners = np.vstack([at, to, *turns])
    if len(corners) > MOST_CORNERS:
        return None
    own = own.buffer(1e-4)
    shapely.prepare(own)
    left = np.linalg.norm(corners - to, axis=1)
    length, before = np.full(len(corners), np.inf), np.full(len(corners), -1)
    length[0], open_ = 0.0, np.ones(len(corners), bool)
    while True:
        whole = np.where(open_, length + left, np.inf)
        k = int(whole.argmin())
        if not whole[k] <= longest or np.isinf(whole[k]):
            return None
        if k == 1:
            return corners[_back_from(before)]
        open_[k] = False
        further = length[k] + np.linalg.norm(corners - corners[k], axis=1)
        rows = np.flatnonzero(open_ & (further < length) & (further + left <= longest))
        ways = shapely.linestrings(np.stack([np.tile(corners[k], (len(rows), 1)), corners[rows]], axis=1))
        seen = rows[shapely.covers(own, ways)]
        length[seen], before[seen] = further[seen], k


def _back_from(before: NDArray[np.int64]) -> list[int]:
    """The places of a way from the first, without it, to the second."""
    found = [1]
    while before[found[-1]] != 0:
        found.append(int(before[found[-1]]))
    return found[::-1]


def _corners(ring: Points, hole: bool) -> Points:
    """Corners of a ring that ways inside a polygon go round: those that stand out into it."""
    before, after = ring - np.roll(ring, 1, axis=0), np.roll(ring, -1, axis=0) - ring
    turn = before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0]
    anticlockwise = signed_area(ring) > 0
    return ring[(turn < 0) == (anticlockwise != hole)]

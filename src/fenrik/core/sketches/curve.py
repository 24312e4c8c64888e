"""Flat curves of lines and arcs: chains of places with a bulge for each stretch, as in DXF.

The bulge is the tangent of a quarter of an arc's angle, above 0 counter-clockwise, 0 for a straight stretch.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from shapely.geometry import LineString, Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import fail
from fenrik.core.frames import Points

JOIN_MM = 1e-4


@dataclass(frozen=True)
class Curve:
    """Attributes:
    points: (n, 2) mm.
    bulges: one for each stretch; n − 1, or n where the curve is closed (the last leads back to the first place).
    """

    points: Points
    bulges: Points
    closed: bool = False

    @classmethod
    def polyline(cls, points: Any, closed: bool = False) -> Curve:
        places = np.asarray(points, float).reshape(-1, 2)
        return cls(places, np.zeros(len(places) - (0 if closed else 1)), closed)

    @classmethod
    def arc(cls, centre: Points, radius: float, start_deg: float, sweep_deg: float) -> Curve:
        """Part of a circle, in stretches of at most half a turn; a full turn is closed."""
        full = abs(sweep_deg) >= 360 - 1e-9
        sweep = math.copysign(360.0, sweep_deg) if full else sweep_deg
        count = max(math.ceil(abs(sweep) / 180 - 1e-9), 1)
        turn = np.deg2rad(start_deg + sweep * np.arange(count + 1) / count)
        places = np.asarray(centre, float) + radius * np.column_stack([np.cos(turn), np.sin(turn)])
        bulges = np.full(count, math.tan(math.radians(sweep / count) / 4))
        return cls(places[:-1], bulges, True) if full else cls(places, bulges)

    @property
    def stretches(self) -> list[tuple[Points, Points, float]]:
        """Begin, end and bulge of each stretch."""
        ends = np.roll(self.points, -1, axis=0) if self.closed else self.points[1:]
        return list(zip(self.points, ends, self.bulges.tolist(), strict=False))

    def length_mm(self) -> float:
        return sum(stretch_length(*s) for s in self.stretches)

    def flattened(self, tolerance_mm: float = 0.01) -> Points:
        """Places (m, 2) within a tolerance of the curve; a closed one ends where it begins."""
        places = [self.points[0]]
        for a, b, bulge in self.stretches:
            if bulge:
                centre, radius, start, sweep = arc_of(a, b, bulge)
                step = 2 * math.acos(max(1 - tolerance_mm / radius, -1.0)) if radius > tolerance_mm else math.pi / 2
                count = max(math.ceil(abs(sweep) / step), 1)
                turn = start + sweep * np.arange(1, count) / count
                places += list(centre + radius * np.column_stack([np.cos(turn), np.sin(turn)]))
            places.append(b)
        return np.array(places)

    def moved(self, shift: Points, turn_deg: float = 0.0, scale: float = 1.0) -> Curve:
        """Scaled and turned about the zero, then moved."""
        t = math.radians(turn_deg)
        spin = np.array([[math.cos(t), math.sin(t)], [-math.sin(t), math.cos(t)]])
        return Curve(self.points @ spin * scale + shift, self.bulges, self.closed)

    def reversed(self) -> Curve:
        points = np.roll(self.points[::-1], 1, axis=0) if self.closed else self.points[::-1]
        return Curve(points, -self.bulges[::-1], self.closed)


def arc_of(a: Points, b: Points, bulge: float) -> tuple[Points, float, float, float]:
    """Centre, radius, first angle and sweep (radians) of a stretch with a bulge."""
    sweep = 4 * math.atan(bulge)
    chord = b - a
    k = (1 - bulge * bulge) / (4 * bulge)
    centre = (a + b) / 2 + k * np.array([-chord[1], chord[0]])
    radius = float(np.linalg.norm(a - centre))
    return centre, radius, math.atan2(a[1] - centre[1], a[0] - centre[0]), sweep


def stretch_length(a: Points, b: Points, bulge: float) -> float:
    if not bulge:
        return float(np.linalg.norm(b - a))
    _, radius, _, sweep = arc_of(a, b, bulge)
    return radius * abs(sweep)


def join_curves(curves: list[Curve], tolerance_mm: float = JOIN_MM) -> list[Curve]:
    """Open curves that meet end to end become one; those that come back to their begin are closed."""
    whole = [c for c in curves if c.closed]
    left = [c for c in curves if not c.closed and len(c.points) > 1]
    while left:
        chain = left.pop(0)
        grew = True
        while grew:
            grew = False
            for k, other in enumerate(left):
                joined = _joined(chain, other, tolerance_mm)
                if joined is not None:
                    chain, grew = joined, True
                    left.pop(k)
                    break
        if len(chain.points) > 2 and np.linalg.norm(chain.points[0] - chain.points[-1]) <= tolerance_mm:
            chain = Curve(chain.points[:-1], chain.bulges, True)
        whole.append(chain)
    return whole


def _joined(a: Curve, b: Curve, tolerance_mm: float) -> Curve | None:
    for first, second in ((a, b), (a, b.reversed()), (b, a), (b.reversed(), a)):
        if np.linalg.norm(first.points[-1] - second.points[0]) <= tolerance_mm:
            return Curve(np.vstack([first.points, second.points[1:]]), np.concatenate([first.bulges, second.bulges]))
    return None


def region_of(curves: list[Curve], tolerance_mm: float = 0.005) -> BaseGeometry:
    """The area inside closed curves; a curve inside another makes a hole in it.

    Raises:
        FenrikError: when no curve is closed.
    """
    rings = [Polygon(c.flattened(tolerance_mm)) for c in curves if c.closed]
    if not rings:
        raise fail("sketch", "has no closed curve; it bounds no area.", "Close it, or join its ends.")
    area: BaseGeometry = Polygon()
    for ring in sorted(rings, key=lambda r: -r.area):
        area = area.symmetric_difference(ring.buffer(0))
    return area


def offset_curve(curve: Curve, distance_mm: float) -> list[Curve]:
    """A curve at a distance, with arcs round its corners: outwards (to the right) above 0, inwards below.

    Raises:
        FenrikError: when nothing is left at that distance.
    """
    from OCP.BRepOffsetAPI import BRepOffsetAPI_MakeOffset
    from OCP.GeomAbs import GeomAbs_Arc
    from OCP.TopAbs import TopAbs_WIRE

    from fenrik.core.solids.describe import list_shapes

    if distance_mm == 0:
        return [curve]
    if len(curve.stretches) == 1:
        return [_offset_stretch(*curve.stretches[0], distance_mm)]
    anticlockwise = not curve.closed or _signed_area(curve) > 0
    maker = BRepOffsetAPI_MakeOffset(_wire(curve if anticlockwise else curve.reversed()), GeomAbs_Arc, not curve.closed)
    try:
        maker.Perform(distance_mm)
        shape = maker.Shape()
        wires = [] if shape.IsNull() else list_shapes(shape, TopAbs_WIRE)
    except Exception as error:  # the kernel raises its own kinds where the offset collapses
        raise fail(
            "offset", f"cannot be made {distance_mm:g} mm away.", "Make the distance smaller.", distance_mm
        ) from error
    if not wires:
        raise fail("offset", f"leaves nothing {distance_mm:g} mm away.", "Make the distance smaller.", distance_mm)
    return [c for wire in wires for c in join_curves(_curves_of(wire))]


def _offset_stretch(a: Points, b: Points, bulge: float, distance_mm: float) -> Curve:
    """One line moved to its right, or one arc with another radius."""
    if not bulge:
        along = (b - a) / np.linalg.norm(b - a)
        return Curve.polyline(np.array([a, b]) + distance_mm * np.array([along[1], -along[0]]))
    centre, radius, start, sweep = arc_of(a, b, bulge)
    grown = radius + math.copysign(distance_mm, sweep * distance_mm)
    if grown <= 0:
        raise fail("offset", f"leaves nothing {distance_mm:g} mm away.", "Make the distance smaller.", distance_mm)
    return Curve.arc(centre, grown, math.degrees(start), math.degrees(sweep))


def _signed_area(curve: Curve) -> float:
    p = curve.flattened(0.01)
    return float(np.sum(p[:-1, 0] * p[1:, 1] - p[1:, 0] * p[:-1, 1]) / 2)


def _wire(curve: Curve) -> Any:
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
    from OCP.GC import GC_MakeArcOfCircle
    from OCP.gp import gp_Pnt

    maker = BRepBuilderAPI_MakeWire()
    for a, b, bulge in curve.stretches:
        start, end = gp_Pnt(float(a[0]), float(a[1]), 0), gp_Pnt(float(b[0]), float(b[1]), 0)
        if bulge:
            centre, radius, first, sweep = arc_of(a, b, bulge)
            half = centre + radius * np.array([math.cos(first + sweep / 2), math.sin(first + sweep / 2)])
            arc = GC_MakeArcOfCircle(start, gp_Pnt(float(half[0]), float(half[1]), 0), end).Value()
            maker.Add(BRepBuilderAPI_MakeEdge(arc).Edge())
        else:
            maker.Add(BRepBuilderAPI_MakeEdge(start, end).Edge())
    return maker.Wire()


def _curves_of(wire: Any) -> list[Curve]:
    from OCP.BRepAdaptor import BRepAdaptor_Curve
    from OCP.GeomAbs import GeomAbs_CurveType
    from OCP.TopAbs import TopAbs_EDGE, TopAbs_REVERSED
    from OCP.TopoDS import TopoDS

    from fenrik.core.solids.describe import explore

    found = []
    for sub in explore(wire, TopAbs_EDGE):
        curve = BRepAdaptor_Curve(TopoDS.Edge(sub))
        t0, t1 = curve.FirstParameter(), curve.LastParameter()
        if curve.GetType() == GeomAbs_CurveType.GeomAbs_Circle:
            circle = curve.Circle()
            x, y, _ = circle.Location().Coord()
            away = np.array(curve.Value(t0).Coord())[:2] - [x, y]
            sweep = math.degrees(t1 - t0) * (1.0 if circle.Axis().Direction().Z() > 0 else -1.0)
            one = Curve.arc(np.array([x, y]), circle.Radius(), math.degrees(math.atan2(away[1], away[0])), sweep)
        else:
            one = Curve.polyline([curve.Value(t).Coord()[:2] for t in (t0, t1)])
        found.append(one.reversed() if sub.Orientation() == TopAbs_REVERSED else one)
    return found


def trim_curve(curve: Curve, cutters: list[Curve], keep: Points) -> Curve:
    """The piece of a curve between its meetings with others that lies nearest to a place.

    Raises:
        FenrikError: when the curves do not meet.
    """
    cuts = []
    for k, (a, b, bulge) in enumerate(curve.stretches):
        for other in cutters:
            for c, d, theirs in other.stretches:
                for place in meet(a, b, bulge, c, d, theirs):
                    cuts.append((k, _share(a, b, bulge, place), place))
    cuts = sorted({(k, round(t, 9)): (k, t, p) for k, t, p in cuts}.values(), key=lambda c: (c[0], c[1]))
    if not cuts or (curve.closed and len(cuts) < 2):
        raise fail("trim", "finds no meeting of the curves.", "Choose curves that cross it.")
    pieces = _pieces(curve, cuts)
    return min(pieces, key=lambda p: LineString(p.flattened(0.01)).distance(LineString([keep, keep])))


def _pieces(curve: Curve, cuts: list[tuple[int, float, Points]]) -> list[Curve]:
    """The stretches between cuts, as open curves."""
    count = len(curve.stretches)
    marks: list[tuple[int, float]] = [(k, t) for k, t, _ in cuts]
    if curve.closed:
        spans = list(zip(marks, [*marks[1:], (marks[0][0] + count, marks[0][1])], strict=True))
    else:
        marks = [(0, 0.0), *marks, (count - 1, 1.0)]
        spans = list(itertools.pairwise(marks))
    pieces = []
    for (k0, t0), (k1, t1) in spans:
        points: list[Points] = []
        bulges: list[float] = []
        for k in range(k0, k1 + 1):
            a, b, bulge = curve.stretches[k % count]
            low, high = t0 if k == k0 else 0.0, t1 if k == k1 else 1.0
            if high - low < 1e-12:
                continue
            start, end = _at(a, b, bulge, low), _at(a, b, bulge, high)
            if not points:
                points.append(start)
            points.append(end)
            bulges.append(math.tan(math.atan(bulge) * (high - low)) if bulge else 0.0)
        if len(points) > 1:
            pieces.append(Curve(np.array(points), np.array(bulges)))
    return pieces


def _at(a: Points, b: Points, bulge: float, share: float) -> Points:
    if not bulge:
        return a + share * (b - a)
    centre, radius, start, sweep = arc_of(a, b, bulge)
    angle = start + share * sweep
    return np.asarray(centre + radius * np.array([math.cos(angle), math.sin(angle)]))


def _share(a: Points, b: Points, bulge: float, place: Points) -> float:
    """How far along a stretch a place on it lies, 0 to 1."""
    if not bulge:
        chord = b - a
        return float((place - a) @ chord / (chord @ chord))
    centre, _, start, sweep = arc_of(a, b, bulge)
    turn = math.atan2(place[1] - centre[1], place[0] - centre[0]) - start
    turn = turn % (2 * math.pi) if sweep > 0 else -((-turn) % (2 * math.pi))
    if abs(turn - math.copysign(2 * math.pi, sweep)) < 1e-9:
        turn = 0.0
    return turn / sweep


def meet(a: Points, b: Points, bulge: float, c: Points, d: Points, theirs: float) -> list[Points]:
    """Places where two stretches (lines or arcs) cross."""
    if not bulge and not theirs:
        places = meet_lines(a, b, c, d)
    elif bulge and theirs:
        places = meet_circles(arc_of(a, b, bulge)[:2], arc_of(c, d, theirs)[:2])
    else:
        line, arc = ((a, b), (c, d, theirs)) if not bulge else ((c, d), (a, b, bulge))
        places = meet_line_circle(*line, *arc_of(*arc)[:2])
    slack = 1e-9
    return [
        p
        for p in places
        if -slack <= _share(a, b, bulge, p) <= 1 + slack and -slack <= _share(c, d, theirs, p) <= 1 + slack
    ]


def meet_lines(a: Points, b: Points, c: Points, d: Points) -> list[Points]:
    u, v = b - a, d - c
    cross = float(u[0] * v[1] - u[1] * v[0])
    if abs(cross) < 1e-12:
        return []
    w = c - a
    return [a + u * float(w[0] * v[1] - w[1] * v[0]) / cross]


def meet_line_circle(a: Points, b: Points, centre: Points, radius: float) -> list[Points]:
    u = (b - a) / np.linalg.norm(b - a)
    along = float((centre - a) @ u)
    foot = a + along * u
    rest = radius**2 - float((foot - centre) @ (foot - centre))
    if rest < -1e-12:
        return []
    half = math.sqrt(max(rest, 0.0))
    return [foot - half * u, foot + half * u] if half > 1e-9 else [foot]


def meet_circles(one: tuple[Points, float], other: tuple[Points, float]) -> list[Points]:
    (p, r), (q, s) = one, other
    d = float(np.linalg.norm(q - p))
    if d < 1e-12 or d > r + s + 1e-12 or d < abs(r - s) - 1e-12:
        return []
    x = (d * d + r * r - s * s) / (2 * d)
    u = (q - p) / d
    half = math.sqrt(max(r * r - x * x, 0.0))
    foot, side = p + x * u, np.array([-u[1], u[0]])
    return [foot - half * side, foot + half * side] if half > 1e-9 else [foot]


def lengths_of(curve: Curve) -> Points:
    """Length of each stretch, mm."""
    return np.array([stretch_length(*s) for s in curve.stretches])


def piece_of(curve: Curve, start_mm: float, end_mm: float) -> Curve:
    """The open piece between two distances along a curve; on a closed one they may go on past its length."""
    lengths = lengths_of(curve)
    total = float(lengths.sum())
    count = len(lengths)
    turns = math.floor(start_mm / total) if curve.closed else 0
    start, end = start_mm - turns * total, end_mm - turns * total
    points: list[Points] = []
    bulges: list[float] = []
    at = 0.0
    for k in range(count * (2 if curve.closed else 1)):
        a, b, bulge = curve.stretches[k % count]
        size = float(lengths[k % count])
        low, high = max((start - at) / size, 0.0), min((end - at) / size, 1.0)
        at += size
        if high - low < 1e-9:
            continue
        if not points:
            points.append(_at(a, b, bulge, low))
        points.append(_at(a, b, bulge, high))
        bulges.append(math.tan(math.atan(bulge) * (high - low)) if bulge else 0.0)
    return Curve(np.array(points).reshape(-1, 2), np.array(bulges))


def begun_at(curve: Curve, start_mm: float, overlap_mm: float = 0.0) -> Curve:
    """A closed curve as an open one that begins at a distance along it and goes past its begin by an overlap."""
    total = float(lengths_of(curve).sum())
    return piece_of(curve, start_mm % total, start_mm % total + total + min(overlap_mm, 0.5 * total))

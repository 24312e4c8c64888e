"""Cutter compensation in the plane: from a written contour to the way of the tool's axis, and back.

Rules of the NIST RS274/NGC interpreter report (section 3.7 and appendix B): the first motion is straight, longer than
the offset, and ends where the tool touches the contour square to that motion; round a corner that opens away from the
tool its axis goes on an arc. Corners towards the tool, which the report refuses, are cut off where the offset
stretches meet.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.sketches import Curve
from fenrik.core.sketches.curve import meet_circles, meet_line_circle, meet_lines

TANGENT_MM = 0.002
"""Offset stretches whose ends are no farther apart are taken as tangent."""
ROUNDED_MM = 0.05
"""As far apart may the ends be that rounding of short stretches opens, where their lines do not meet."""
POINT_MM = 0.005
"""Arcs that shrink to less are corners."""


class CompensationError(ValueError):
    """A contour that the offset does not fit; `index` is that of its stretch, `what` says why."""

    def __init__(self, index: int, what: str) -> None:
        super().__init__(what)
        self.index, self.what = index, what


@dataclass(frozen=True)
class Stretch:
    """A line or arc in the plane.

    Attributes:
        start, end: (2,). centre: (2,) of an arc; None for a line.
        turn: 1 counter-clockwise, −1 clockwise, 0 for a line.
        source: what it was made from.
    """

    start: Points
    end: Points
    centre: Points | None = None
    turn: int = 0
    source: int = 0

    def direction(self, at_end: bool) -> Points:
        """Unit direction at its begin or end."""
        if self.centre is None:
            way = self.end - self.start
            return np.asarray(way / np.linalg.norm(way))
        away = (self.end if at_end else self.start) - self.centre
        return np.asarray(self.turn * np.array([-away[1], away[0]]) / np.linalg.norm(away))


def tool_way(written: list[Stretch], left_mm: float, begin: Points | None = None) -> list[Stretch]:
    """The way of the axis along a written contour.

    Args:
        left_mm: how far left of the contour the axis keeps; below zero: right.
        begin: (2,) where the axis is before a straight first stretch on which the controller goes on to its offset;
            None: the contour begins with the offset in force.

    Raises:
        CompensationError: when the first motion is no longer than the offset, an arc is too small, or a corner too
            narrow for the tool.
    """
    shifted = []
    for k, stretch in enumerate(written):
        moved = _entry(stretch, begin, left_mm) if k == 0 and begin is not None else _shifted(stretch, left_mm)
        if moved is None:
            raise CompensationError(k, "has an arc smaller than the tool's radius")
        shifted.append(moved)
    way: list[Stretch] = []
    for k, stretch in enumerate(shifted):
        if not way:
            way.append(stretch)
            continue
        corner = written[k].start
        gap = float(np.linalg.norm(stretch.start - way[-1].end))
        before, after = way[-1].direction(True), stretch.direction(False)
        towards_tool = float(before[0] * after[1] - before[1] * after[0]) * left_mm > 0
        if gap <= TANGENT_MM:
            way.append(replace(stretch, start=way[-1].end))
        elif towards_tool:
            place = _meeting(way[-1], stretch, corner)
            if place is None or not _ahead(way[-1], place) or not _behind(stretch, place):
                if gap > ROUNDED_MM:
                    raise CompensationError(k, "has a corner too narrow for the tool")
                place = way[-1].end
            way[-1] = replace(way[-1], end=place)
            way.append(replace(stretch, start=place))
        else:
            turn = -1 if left_mm > 0 else 1
            way.append(Stretch(way[-1].end, stretch.start, corner, turn, stretch.source))
            way.append(stretch)
    return way


def written_contour(way: list[Stretch], left_mm: float) -> list[Stretch]:
    """The contour that a controller must be given so that the axis goes a way; arcs round corners vanish in it.

    Args:
        left_mm: how far left of the contour the axis keeps; below zero: right.

    Raises:
        CompensationError: when there is no such contour.
    """
    kept = [s for s in (_shifted(w, -left_mm) for w in way) if s is not None]
    if not kept:
        raise CompensationError(0, "is a single point for the tool's radius")
    out = [kept[0]]
    for stretch in kept[1:]:
        place = out[-1].end
        if float(np.linalg.norm(stretch.start - place)) > TANGENT_MM:
            found = _meeting(out[-1], stretch, (place + stretch.start) / 2)
            if found is None:
                raise CompensationError(stretch.source, "has a corner that no contour makes")
            place = found
        out[-1] = replace(out[-1], end=place)
        out.append(replace(stretch, start=place))
    return out


def stretches_of(curve: Curve) -> list[Stretch]:
    """The stretches of a curve."""
    made = []
    for k, (a, b, bulge) in enumerate(curve.stretches):
        if bulge:
            chord = b - a
            side = (1 - bulge * bulge) / (4 * bulge) * np.array([-chord[1], chord[0]])
            made.append(Stretch(a, b, (a + b) / 2 + side, 1 if bulge > 0 else -1, k))
        else:
            made.append(Stretch(a, b, source=k))
    return made


def as_curve(stretches: list[Stretch]) -> Curve:
    """An open curve of stretches that follow each other."""
    points = np.array([stretches[0].start, *(s.end for s in stretches)])
    return Curve(points, np.array([np.tan(_sweep(s) / 4) for s in stretches]))


def _sweep(s: Stretch) -> float:
    if s.centre is None:
        return 0.0
    a, b = s.start - s.centre, s.end - s.centre
    angle = float(np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b))
    return s.turn * ((s.turn * angle) % (2 * np.pi) or 2 * np.pi)


def _entry(stretch: Stretch, begin: Points, left_mm: float) -> Stretch:
    """The straight motion onto the contour: it ends where the tool touches the written end, square to the motion."""
    way = stretch.end - begin
    far = float(np.linalg.norm(way))
    if far <= abs(left_mm):
        raise CompensationError(0, f"enters compensation over {far:.3f} mm, no longer than the offset")
    along = np.sqrt(far * far - left_mm * left_mm)
    u = way / far
    # The motion turned from the line to the written end by the angle whose sine is the offset over the distance.
    turned = (along * u + left_mm * np.array([-u[1], u[0]])) / far
    return Stretch(begin, begin + along * turned, source=stretch.source)


def _shifted(s: Stretch, left_mm: float) -> Stretch | None:
    """A stretch displaced to its left; None where its arc shrinks away."""
    if s.centre is None:
        u = s.direction(False)
        off = left_mm * np.array([-u[1], u[0]])
        return replace(s, start=s.start + off, end=s.end + off)
    radius = float(np.linalg.norm(s.start - s.centre))
    grown = radius - s.turn * left_mm
    if grown < POINT_MM:
        return None
    return replace(
        s, start=s.centre + (s.start - s.centre) * grown / radius, end=s.centre + (s.end - s.centre) * grown / radius
    )


def _meeting(one: Stretch, two: Stretch, near: Points) -> Points | None:
    """Where the whole lines or circles of two stretches meet, nearest to a place."""
    if one.centre is None and two.centre is None:
        found = meet_lines(one.start, one.end, two.start, two.end)
    elif one.centre is not None and two.centre is not None:
        found = meet_circles((one.centre, _radius(one)), (two.centre, _radius(two)))
    else:
        line, arc = (one, two) if one.centre is None else (two, one)
        assert arc.centre is not None
        found = meet_line_circle(line.start, line.end, arc.centre, _radius(arc))
    return min(found, key=lambda p: float(np.linalg.norm(p - near)), default=None)


def _radius(s: Stretch) -> float:
    assert s.centre is not None
    return float(np.linalg.norm(s.start - s.centre))


def _ahead(s: Stretch, place: Points) -> bool:
    """Whether a stretch that ends at a place still runs its own way."""
    return _share(s, place) > 0


def _behind(s: Stretch, place: Points) -> bool:
    """Whether a stretch that begins at a place still runs its own way."""
    return _share(s, place) < 1


def _share(s: Stretch, place: Points) -> float:
    """How far along a stretch a place on its line or circle lies: 0 its begin, 1 its end."""
    if s.centre is None:
        way = s.end - s.start
        return float((place - s.start) @ way / (way @ way))
    whole = abs(_sweep(s))
    part = abs(_sweep(replace(s, end=place)))
    if part > np.pi + whole / 2:
        part -= 2 * np.pi
    return part / whole

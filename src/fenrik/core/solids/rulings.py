"""Rulings: the straight lines of a ruled face, from its one border to the other, with the normals at both ends.

A face is ruled where lines of one of its parameters are straight; which, and whether, is found by looking at its exact
surface (a degree of 1, a cylinder, a cone, an extrusion, or any surface that turns out to be so within a tolerance).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import FenrikError, fail
from fenrik.core.frames import Frame, Points
from fenrik.core.solids.describe import explore, list_faces
from fenrik.core.solids.model import Solid
from fenrik.core.solids.rails import CORNER_COS, Rail

LOOK, ACROSS = 9, 25
BORDER_STEPS, SEAM = 2000, 1e-9
STRAIGHT_MM = 1e-4
MOST_ROWS = 4000
LINE_MM = 1e-4
AREA_SHARE, MEET_MM, CORNER_RAD = 0.01, 1e-3, 0.03
_COLUMNS = ("ends", "normals", "inner", "inner_normals")


@dataclass(frozen=True)
class Rulings:
    """Straight lines (n, 2, 3) that follow one another over a face, from its one end to the other.

    Attributes:
        ends: (n, 2, 3) places, mm. normals: (n, 2, 3) outward there.
        inner: (n, k, 3) places on the face along each line, evenly from end to end; inner_normals: theirs.
        closed: whether the last line is the first.
    """

    ends: Points
    normals: Points
    inner: Points
    inner_normals: Points
    closed: bool

    def in_frame(self, frame: Frame) -> Rulings:
        return Rulings(
            frame.to_local(self.ends.reshape(-1, 3)).reshape(self.ends.shape),
            frame.direction_to_local(self.normals.reshape(-1, 3)).reshape(self.normals.shape),
            frame.to_local(self.inner.reshape(-1, 3)).reshape(self.inner.shape),
            frame.direction_to_local(self.inner_normals.reshape(-1, 3)).reshape(self.inner_normals.shape),
            self.closed,
        )

    def moved(self, turn: Points, shift: Points) -> Rulings:
        """The same on a copy of the part; on a mirrored one (a turn of determinant −1) gone along the other way."""
        places, ways = (self.ends @ turn.T + shift, self.inner @ turn.T + shift), (self.normals, self.inner_normals)
        there = Rulings(places[0], ways[0] @ turn.T, places[1], ways[1] @ turn.T, self.closed)
        return there if np.linalg.det(turn) > 0 else there.reversed()

    def curvature(self) -> Points:
        """How the face curves across its lines, (n, k) 1/mm: above 0 where it bulges out, below 0 where it is hollow; 0
        where lines lie upon each other."""
        n = len(self.inner)
        after, before = np.minimum(np.arange(n) + 1, n - 1), np.maximum(np.arange(n) - 1, 0)
        line = self.inner[:, -1:] - self.inner[:, :1]
        line = line / np.maximum(np.linalg.norm(line, axis=2, keepdims=True), 1e-12)
        bends = []
        for a, b in ((before, np.arange(n)), (np.arange(n), after)):
            step = self.inner[b] - self.inner[a]
            step = step - np.einsum("ikj,ikj->ik", step, np.broadcast_to(line, step.shape))[:, :, None] * line
            size2 = np.einsum("ikj,ikj->ik", step, step)
            turn = np.einsum("ikj,ikj->ik", self.inner_normals[b] - self.inner_normals[a], step)
            bends.append(np.where(size2 > LINE_MM**2, turn / np.maximum(size2, LINE_MM**2), np.nan))
        # Of both sides the one that curves towards the tool more.
        return np.nan_to_num(np.fmin(bends[0], bends[1]))

    def turned_over(self) -> Rulings:
        """The same, each line from its other end."""
        return replace(
            self,
            ends=self.ends[:, ::-1],
            normals=self.normals[:, ::-1],
            inner=self.inner[:, ::-1],
            inner_normals=self.inner_normals[:, ::-1],
        )

    def rows(self, index: NDArray[np.int64]) -> Rulings:
        """Some of the lines, as a wall that is open."""
        return replace(self, **{k: getattr(self, k)[index] for k in _COLUMNS}, closed=False)

    def reversed(self) -> Rulings:
        """The same the other way round."""
        return Rulings(self.ends[::-1], self.normals[::-1], self.inner[::-1], self.inner_normals[::-1], self.closed)


def rulings_of(solid: Solid, face: int, within_mm: float, upright: Points, off_mm: float = 0.0) -> Rulings:
    """The rulings of a face in the part's coordinates, each from its lower end along a direction to its upper one.

    Args:
        within_mm: how far the face, or what runs `off_mm` outside it, may stand off the chords between neighbours.
        upright: (3,) lines of faces that are ruled both ways run along this as far as they can.

    Raises:
        FenrikError: where the face is not ruled, or has no exact surface.
    """
    if not solid.is_exact:
        raise fail("part", "is a mesh: its faces have no exact rulings.", "Bring the part in as STEP.")
    surface, box, sense = _surface(list_faces(solid.shape())[face])
    ruled = _ruled_along(surface, box, upright)
    if ruled is None:
        raise fail(
            f"face {face + 1}",
            "is curved both ways: no straight line lies in it.",
            "Pick a ruled face, or finish this one by another strategy.",
            face + 1,
        )
    rows = _followed(surface, box, sense, ruled, within_mm, off_mm, None)
    if not _fills(solid, face, rows):
        rows = _followed(surface, box, sense, ruled, within_mm, off_mm, _Border(list_faces(solid.shape())[face]))
        if not _fills(solid, face, rows):
            raise _cut_out(solid, face, rows)
    low = float(((rows.ends[:, 1] - rows.ends[:, 0]) @ upright).mean())
    return rows if low >= 0 else rows.turned_over()


def rulings_between(
    first: Rail, second: Rail, within_mm: float, upright: Points, off_mm: float = 0.0
) -> list[Rulings]:  # fmt: skip
    """Straight lines from one way to another, each from its lower end along a direction to its upper one: by shares of
    their lengths, from corner to corner where both have as many, one wall for each such stretch.

    Outward is where the face between both looks, of the two beside the first way the one in which the lines lie.

    Raises:
        FenrikError: where one way is closed and the other is not, or they meet in a point.
    """
    if first.closed != second.closed:
        raise fail("targets", "are a closed way and an open one.", "Pick two of a kind.")
    second = _alike(first, second)
    stretches = list(zip(_stretches(first), _stretches(second), strict=False))
    if len(_stretches(first)) != len(_stretches(second)):
        stretches = [(first, second)]
    return [_between(a, b, within_mm, upright, off_mm) for a, b in stretches]


def _stretches(rail: Rail) -> list[Rail]:
    """A way from corner to corner."""
    runs = np.split(np.arange(len(rail.point)), _corners(rail) + 1)
    return [rail] if len(runs) == 1 else [rail.rows(r) for r in runs if len(r) > 1]


def _corners(rail: Rail) -> NDArray[np.int64]:
    """Rows after which a way turns."""
    gap = np.linalg.norm(np.diff(rail.point, axis=0), axis=1)
    return np.flatnonzero((gap < MEET_MM) & (np.einsum("ij,ij->i", rail.along[1:], rail.along[:-1]) < CORNER_COS))


def _between(first: Rail, second: Rail, within_mm: float, upright: Points, off_mm: float) -> Rulings:
    a, b = _shares(first), _shares(second)
    share: Points = np.unique(np.round(np.append(a, b), 9))
    while True:
        rows = _spanned(first, second, a, b, share)
        if _chords_off(rows.inner + off_mm * rows.inner_normals) <= within_mm or len(share) > MOST_ROWS:
            break
        share = np.sort(np.append(share, 0.5 * (share[1:] + share[:-1])))
    low = float(((rows.ends[:, 1] - rows.ends[:, 0]) @ upright).mean())
    return rows if low >= 0 else rows.turned_over()


def _shares(rail: Rail) -> Points:
    """How far along its length each row of a way is, (n,), 0 to 1."""
    length = np.append(0.0, np.cumsum(np.linalg.norm(np.diff(rail.point, axis=0), axis=1)))
    return length / max(float(length[-1]), 1e-12)


def _alike(first: Rail, second: Rail) -> Rail:
    """The second way gone along as the first is, a closed one from beside where that begins."""
    if not second.closed:
        back = second.reversed()
        apart = [float(np.linalg.norm(first.point[[0, -1]] - r.point[[0, -1]], axis=1).sum()) for r in (second, back)]
        return second if apart[0] <= apart[1] else back
    nearest = _beside(second, first.point[0])
    turned = second if float(second.along[nearest] @ first.along[0]) >= 0 else second.reversed()
    nearest = _beside(turned, first.point[0])
    order = np.roll(np.arange(len(turned.point)), -nearest)
    if np.linalg.norm(turned.point[order[-1]] - turned.point[nearest]) > MEET_MM:
        order = np.append(order, nearest)
    return replace(turned.rows(order), closed=True)


def _beside(rail: Rail, place: Points) -> int:
    """The row of a closed way nearest to a place: of its corners, where it has some."""
    corners = _corners(rail) + 1
    if float(rail.along[0] @ rail.along[-1]) < CORNER_COS:
        corners = np.append(corners, 0)
    rows = corners if len(corners) else np.arange(len(rail.point) - 1)
    return int(rows[np.argmin(np.linalg.norm(rail.point[rows] - place, axis=1))])


def _spanned(first: Rail, second: Rail, a: Points, b: Points, share: Points) -> Rulings:
    """The lines at shares of both ways."""
    low, way_low = _at_share(first, a, share)
    high, way_high = _at_share(second, b, share)
    line = high - low
    size = np.linalg.norm(line, axis=1)
    if size.min() < MEET_MM:
        raise fail("targets", "meet in a point.", "Pick two ways that lie beside each other.")
    v = np.linspace(0.0, 1.0, ACROSS)[None, :, None]
    inner = low[:, None] + v * line[:, None]
    ways = (1 - v) * first.length_mm * way_low[:, None] + v * second.length_mm * way_high[:, None]
    normal = np.cross(ways, np.repeat(line[:, None], ACROSS, axis=1))
    normal /= np.maximum(np.linalg.norm(normal, axis=2, keepdims=True), 1e-300)
    normal *= _side(first, low, line / size[:, None], normal)
    return Rulings(inner[:, [0, -1]], normal[:, [0, -1]], inner, normal, first.closed)


def _at_share(rail: Rail, at: Points, share: Points) -> tuple[Points, Points]:
    """Places of a way, and unit directions there."""
    k = np.clip(np.searchsorted(at, share, "right") - 1, 0, len(at) - 2)
    t = np.clip((share - at[k]) / np.maximum(at[k + 1] - at[k], 1e-12), 0.0, 1.0)[:, None]
    point = rail.point[k] + t * (rail.point[k + 1] - rail.point[k])
    along = rail.along[k] + t * (rail.along[k + 1] - rail.along[k])
    return point, along / np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-12)


def _side(rail: Rail, places: Points, lines: Points, normals: Points) -> float:
    """1 where normals of lines look out of the material, −1 where into it."""
    nearest = np.argmin(np.linalg.norm(places[:, None] - rail.point[None], axis=2), axis=1)
    beside = [v[nearest] for v in (rail.left, rail.right)]
    lean = [float(np.abs(np.einsum("ij,ij->i", v, lines)).mean()) if np.any(v) else np.inf for v in beside]
    wall = beside[int(np.argmin(lean))]
    return 1.0 if float(np.einsum("ij,ij->i", wall, normals[:, 0]).sum()) >= 0 else -1.0


class _Border:
    """The border of a face in the parameters of its surface, as short chords."""

    def __init__(self, face: Any) -> None:
        from OCP.BRepAdaptor import BRepAdaptor_Curve2d
        from OCP.TopAbs import TopAbs_EDGE
        from OCP.TopoDS import TopoDS

        chords = []
        for sub in explore(face, TopAbs_EDGE):
            curve = BRepAdaptor_Curve2d(TopoDS.Edge(sub), face)
            t = np.linspace(curve.FirstParameter(), curve.LastParameter(), BORDER_STEPS)
            places = np.array([(p.X(), p.Y()) for p in map(curve.Value, t.tolist())])
            chords.append(np.stack([places[:-1], places[1:]], axis=1))
        self._chords = np.concatenate(chords)

    def span(self, fixed: float, ruled: int) -> tuple[float, float] | None:
        """The stretch of a line within the border, where there is one alone: values of the parameter along it."""
        across, along = 1 - ruled, ruled
        a, b = self._chords[:, 0], self._chords[:, 1]
        # A line through a corner of chords counts on one side of it only.
        crossing = (a[:, across] <= fixed) != (b[:, across] <= fixed)
        a, b = a[crossing], b[crossing]
        share = (fixed - a[:, across]) / (b[:, across] - a[:, across])
        values = np.sort(a[:, along] + share * (b[:, along] - a[:, along]))
        return (float(values[0]), float(values[-1])) if len(values) == 2 else None


def _followed(
    surface: Any, box: tuple[float, float, float, float], sense: float, ruled: int, within_mm: float, off_mm: float,
    border: _Border | None,
) -> Rulings:  # fmt: skip
    """Lines so close to one another that the chords between them keep within a tolerance."""
    count = LOOK
    while True:
        rows = _lines(surface, box, sense, ruled, count, border)
        if _chords_off(rows.inner + off_mm * rows.inner_normals) <= within_mm or count > MOST_ROWS:
            return rows
        count = 2 * count - 1


def _fills(solid: Solid, face: int, rows: Rulings) -> bool:
    """Whether a face is all that lies between its first and its last line."""
    has = solid.faces[face].area_mm2
    return abs(_area(rows) - has) <= AREA_SHARE * max(_area(rows), has)


def _area(rows: Rulings) -> float:
    a, b = rows.inner[:-1, :-1], rows.inner[1:, 1:]
    c, d = rows.inner[1:, :-1], rows.inner[:-1, 1:]
    return float(0.5 * np.linalg.norm(np.cross(b - a, d - c), axis=2).sum())


def _cut_out(solid: Solid, face: int, rows: Rulings) -> FenrikError:
    """The error for a face that is cut out of its surface across its lines."""
    has, whole = solid.faces[face].area_mm2, _area(rows)
    return fail(
        f"face {face + 1}",
        f"has {has:.1f} mm² of the {whole:.1f} mm² between its first and last ruling.",
        "Split the face along its rulings, or finish it by another strategy.",
        face + 1,
    )


def joined(walls: list[Rulings]) -> list[Rulings]:
    """Walls that follow one another as one, in the order given; round a corner between two of them the normals turn
    step by step about the ruling that they share."""
    found: list[Rulings] = []
    for wall in walls:
        if found and (met := _meeting(found[-1], wall)) is not None:
            found[-1] = met
        else:
            found.append(wall)
    return [_closed(w) for w in found]


def _meeting(first: Rulings, second: Rulings) -> Rulings | None:
    for a in (first, first.reversed()):
        for b in (second, second.reversed()):
            if float(np.linalg.norm(a.ends[-1] - b.ends[0], axis=1).max()) < MEET_MM:
                return _chained(a, b)
    return None


def _chained(a: Rulings, b: Rulings) -> Rulings:
    parts = [a, *_corner(a, b), b]
    columns = {k: np.concatenate([getattr(p, k) for p in parts]) for k in _COLUMNS}
    return Rulings(**columns, closed=False)


def _closed(wall: Rulings) -> Rulings:
    """A wall whose last ruling is its first goes on round the corner between both."""
    if wall.closed or float(np.linalg.norm(wall.ends[-1] - wall.ends[0], axis=1).max()) > MEET_MM:
        return wall
    first = Rulings(wall.ends[:1], wall.normals[:1], wall.inner[:1], wall.inner_normals[:1], False)
    round_ = _chained(wall, first)
    return replace(round_, closed=True)


def _corner(a: Rulings, b: Rulings) -> list[Rulings]:
    """Rows on the ruling that two walls share, their normals turning from the one's to the other's."""
    before, after = a.inner_normals[-1], b.inner_normals[0]
    angle = np.arccos(np.clip(np.einsum("ij,ij->i", before, after), -1.0, 1.0))
    count = int(np.ceil(float(angle.max()) / CORNER_RAD))
    if count < 2:
        return []
    share = (np.arange(1, count) / count)[:, None, None]
    turned = before + share * (after - before)
    turned = turned / np.maximum(np.linalg.norm(turned, axis=2, keepdims=True), 1e-12)
    inner = np.repeat(b.inner[:1], count - 1, axis=0)
    return [Rulings(inner[:, [0, -1]], turned[:, [0, -1]], inner, turned, False)]


def _surface(face: Any) -> tuple[Any, tuple[float, float, float, float], float]:
    from OCP.BRepAdaptor import BRepAdaptor_Surface
    from OCP.BRepTools import BRepTools
    from OCP.TopAbs import TopAbs_REVERSED

    box = BRepTools.UVBounds_s(face)
    return BRepAdaptor_Surface(face, True), tuple(box), -1.0 if face.Orientation() == TopAbs_REVERSED else 1.0


def _at(surface: Any, u: Points, v: Points) -> tuple[Points, Points]:
    """Places (n, 3) and normals (n, 3) of the surface, as its parameters have them."""
    from OCP.gp import gp_Pnt, gp_Vec

    places, normals = np.empty((len(u), 3)), np.empty((len(u), 3))
    point, du, dv = gp_Pnt(), gp_Vec(), gp_Vec()
    for k, (a, b) in enumerate(zip(u.tolist(), v.tolist(), strict=True)):
        surface.D1(a, b, point, du, dv)
        places[k] = point.X(), point.Y(), point.Z()
        normals[k] = np.cross((du.X(), du.Y(), du.Z()), (dv.X(), dv.Y(), dv.Z()))
    size = np.linalg.norm(normals, axis=1, keepdims=True)
    return places, normals / np.maximum(size, 1e-300)


def _ruled_along(surface: Any, box: tuple[float, float, float, float], upright: Points) -> int | None:
    """The parameter (0: u, 1: v) along which lines are straight; of two the one that runs more upright."""
    found = []
    for way in (0, 1):
        fixed = np.linspace(*(box[2:] if way == 0 else box[:2]), LOOK)
        running = np.linspace(*(box[:2] if way == 0 else box[2:]), ACROSS)
        straight, along = True, 0.0
        for value in fixed:
            u, v = (running, np.full(ACROSS, value)) if way == 0 else (np.full(ACROSS, value), running)
            places, _ = _at(surface, u, v)
            chord = places[-1] - places[0]
            size = float(np.linalg.norm(chord))
            if size < STRAIGHT_MM:
                # A point where all lines meet; or a line that comes back to where it began, which is none.
                straight = straight and float(np.abs(places - places[0]).max()) < STRAIGHT_MM
                continue
            off = np.cross(places - places[0], chord / size)
            straight = straight and float(np.linalg.norm(off, axis=1).max()) < STRAIGHT_MM
            along = max(along, abs(float(chord @ upright)) / size)
        if straight:
            found.append((along, way))
    return max(found)[1] if found else None


def _lines(
    surface: Any, box: tuple[float, float, float, float], sense: float, ruled: int, count: int, border: _Border | None
) -> Rulings:
    across = np.linspace(*(box[2:] if ruled == 0 else box[:2]), count)
    running = np.tile(np.linspace(*(box[:2] if ruled == 0 else box[2:]), ACROSS), (count, 1))
    if border is not None:
        # On a seam the border runs along the line itself.
        inside = np.clip(across, across[0] + SEAM * np.ptp(across), across[-1] - SEAM * np.ptp(across))
        spans = [border.span(v, ruled) for v in inside.tolist()]
        across = across[[k for k, span in enumerate(spans) if span is not None]]
        running = np.array([np.linspace(span[0], span[1], ACROSS) for span in spans if span is not None])
    count = len(across)
    fixed_, moving = np.repeat(across, ACROSS), running.ravel()
    places, normals = _at(surface, *((moving, fixed_) if ruled == 0 else (fixed_, moving)))
    inner, inner_normals = places.reshape(count, ACROSS, 3), sense * normals.reshape(count, ACROSS, 3)
    ends = inner[:, [0, -1]]
    closed = bool(np.linalg.norm(ends[0] - ends[-1], axis=1).max() < 10 * STRAIGHT_MM)
    return Rulings(ends, inner_normals[:, [0, -1]], inner, inner_normals, closed)


def _chords_off(inner: Points) -> float:
    """How far places (n, k, 3) stand off the chords between neighbouring lines, looked at by every other line."""
    if len(inner) < 3:
        return 0.0
    chord = inner[2::2] - inner[:-2:2]
    size = np.maximum(np.linalg.norm(chord, axis=2, keepdims=True), 1e-12)
    off = np.linalg.norm(np.cross(inner[1:-1:2] - inner[:-2:2], chord / size), axis=2)
    return float(off.max()) / 4.0

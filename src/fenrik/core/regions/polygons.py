"""Boolean operations and offsets of polygons, by Clipper2.

A region is a list of rings, each (n, 2) mm without its first point repeated; outer rings run counter-clockwise, holes
clockwise. Coordinates are kept to 10 nm inside Clipper2.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyclipr
import shapely
from shapely.geometry.base import BaseGeometry

from fenrik.core.frames import Points

Rings = list[Points]
SCALE = 100_000
ARC_TOLERANCE_MM = 5e-4
"""How far the chords of an offset's round corners may stray."""
LEAST_AREA_MM2 = 1e-7
SLIVER_MM = 5e-4
MITRE_LIMIT = 4.0


def _clean(rings: Sequence[Points]) -> Rings:
    return [np.ascontiguousarray(r, dtype=np.float64) for r in rings if len(r) >= 3]


def _boolean(kind: pyclipr.ClipType, subject: Sequence[Points], clip: Sequence[Points]) -> Rings:
    subject, clip = _clean(subject), _clean(clip)
    if not subject and (kind != pyclipr.Union or not clip):
        return []
    machine = pyclipr.Clipper()
    machine.scaleFactor = SCALE
    machine.preserveCollinear = False
    if subject:
        machine.addPaths(subject, pyclipr.Subject)
    if clip:
        machine.addPaths(clip, pyclipr.Clip)
    return _kept(machine.execute(kind, pyclipr.FillRule.NonZero))


def _kept(rings: Sequence[Points]) -> Rings:
    return [r for r in (np.asarray(p, float) for p in rings) if len(r) >= 3 and abs(signed_area(r)) > LEAST_AREA_MM2]


def union(*regions: Rings) -> Rings:
    """Everything that lies in any of the regions (winding other than zero)."""
    return _boolean(pyclipr.Union, [r for region in regions for r in region], [])


def intersection(a: Rings, b: Rings) -> Rings:
    return _boolean(pyclipr.Intersection, a, b) if a and b else []


def difference(a: Rings, b: Rings) -> Rings:
    return _boolean(pyclipr.Difference, a, b) if a else []


def offset(region: Rings, distance_mm: float, arc_tolerance_mm: float = ARC_TOLERANCE_MM, sharp: bool = False) -> Rings:
    """The region grown (above 0) or shrunk by a distance, with round corners.

    Args:
        arc_tolerance_mm: how far the chords of its round corners may stray.
        sharp: run the sides out to their meeting instead, as far as `MITRE_LIMIT` distances.
    """
    # Clipper2 takes the sense of all rings from the lowest one: a sliver left by rounding there, run through the other
    # way, would turn growing into shrinking.
    region = [r for r in _clean(region) if not _is_sliver(r)]
    if not region:
        return []
    if distance_mm == 0:
        return region
    if distance_mm > 0:
        # A hole that is narrower than twice the distance closes; Clipper2 would spend most of its time to find out.
        region = [r for r in region if np.ptp(r, axis=0).min() / 2 >= distance_mm or signed_area(r) > 0]
    machine = pyclipr.ClipperOffset()
    machine.scaleFactor = SCALE
    machine.arcTolerance = arc_tolerance_mm * SCALE
    machine.miterLimit = MITRE_LIMIT
    machine.addPaths(region, pyclipr.JoinType.Miter if sharp else pyclipr.JoinType.Round, pyclipr.EndType.Polygon)
    return _kept(machine.execute(distance_mm))


def _is_sliver(ring: Points) -> bool:
    """Whether a ring is thinner than any place that is meant."""
    around = float(np.linalg.norm(np.diff(ring, axis=0, append=ring[:1]), axis=1).sum())
    return abs(signed_area(ring)) < SLIVER_MM * around / 2


def thinned(region: Rings, tolerance_mm: float) -> Rings:
    """The rings without places that lie within a tolerance of the way past them (Douglas & Peucker)."""
    # As lines that end where they begin: GEOS would take the first place of a ring out without looking how far that is.
    # A ring that came to cross itself within the tolerance is put right by whatever is done with it next.
    lines = [shapely.LineString(np.vstack([r, r[:1]])) for r in region]
    simple = shapely.simplify(lines, tolerance_mm, preserve_topology=False)
    return _kept([shapely.get_coordinates(line)[:-1] for line in simple])


def widened(lines: Sequence[Points], distance_mm: float) -> Rings:
    """All places within a distance of open lines."""
    lines = [np.ascontiguousarray(line, dtype=np.float64) for line in lines if len(line) >= 2]
    if not lines:
        return []
    machine = pyclipr.ClipperOffset()
    machine.scaleFactor = SCALE
    machine.arcTolerance = ARC_TOLERANCE_MM * SCALE
    machine.addPaths(lines, pyclipr.JoinType.Round, pyclipr.EndType.Round)
    return _kept(machine.execute(distance_mm))


def clip_lines(lines: Sequence[Points], region: Rings, inside: bool = True) -> list[Points]:
    """The stretches of open lines inside (or outside) a region; each keeps its direction."""
    lines = [np.ascontiguousarray(line, dtype=np.float64) for line in lines if len(line) >= 2]
    if not lines:
        return []
    if not region:
        return [] if inside else lines
    found = []
    kind = pyclipr.Intersection if inside else pyclipr.Difference
    for line in lines:
        machine = pyclipr.Clipper()
        machine.scaleFactor = SCALE
        machine.addPaths([line], pyclipr.Subject, True)
        machine.addPaths(_clean(region), pyclipr.Clip)
        _, opened = machine.execute(kind, pyclipr.FillRule.NonZero, returnOpenPaths=True)
        found += _directed(line, [np.asarray(p, float) for p in opened if len(p) >= 2])
    return found


def _directed(line: Points, pieces: list[Points]) -> list[Points]:
    """Pieces of a line in its own direction, joined where one ends and the next begins, in order along it.

    The direction is asked for inside a segment: an end may lie on the seam of a closed line, which is at both ends.
    """
    track = shapely.LineString(line)
    found: list[tuple[float, Points]] = []
    for piece in pieces:
        k = int(np.linalg.norm(np.diff(piece, axis=0), axis=1).argmax())
        places = piece[k] + np.outer([0.25, 0.75], piece[k + 1] - piece[k])
        first, last = (float(track.project(shapely.Point(p))) for p in places)
        found.append((first, piece) if first <= last else (last, piece[::-1]))
    joined: list[Points] = []
    for _, piece in sorted(found, key=lambda f: f[0]):
        if joined and np.abs(joined[-1][-1] - piece[0]).max() < 2.0 / SCALE:
            joined[-1] = np.vstack([joined[-1], piece[1:]])
        else:
            joined.append(piece)
    return joined


def signed_area(ring: Points) -> float:
    """Area of a ring, above 0 counter-clockwise."""
    x, y = ring[:, 0], ring[:, 1]
    return 0.5 * float(x[:-1] @ y[1:] - x[1:] @ y[:-1] + x[-1] * y[0] - x[0] * y[-1])


def line_length(line: Points) -> float:
    """Length of an open line (n, 2), mm."""
    return float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum())


def area_of(region: Rings) -> float:
    """Area of a region, mm²."""
    return sum(signed_area(r) for r in region)


def bounds_of(region: Rings) -> tuple[Points, Points]:
    """Lowest and highest corner of a region."""
    points = np.vstack(region)
    return points.min(axis=0), points.max(axis=0)


def components(region: Rings) -> list[Rings]:
    """The connected pieces of a region, each an outer ring followed by its holes; largest first."""
    outers = sorted((r for r in region if signed_area(r) > 0), key=lambda r: -signed_area(r))
    holes = [r for r in region if signed_area(r) < 0]
    pieces: list[Rings] = [[r] for r in outers]
    if holes:
        shapes = [shapely.Polygon(r) for r in outers]
        tree = shapely.STRtree(shapes)
        for hole in holes:
            # A place on the hole's rim: one inside it might lie in another piece that stands in the hole. Rounding
            # leaves slivers beside rims; what is smaller than a hole is not round it.
            size = -signed_area(hole)
            round_it = [k for k in tree.query(shapely.Point(hole[0]), "within") if shapes[k].area > size]
            if round_it:
                pieces[min(round_it, key=lambda k: shapes[k].area)].append(hole)
    return pieces


def contains(region: Rings, points: Points) -> np.ndarray:
    """Whether each point (n, 2) lies in the region."""
    shape = to_shape(region)
    shapely.prepare(shape)
    return np.asarray(shapely.intersects_xy(shape, points[:, 0], points[:, 1]))


def to_shape(region: Rings) -> BaseGeometry:
    """The region as a Shapely geometry."""
    return shapely.MultiPolygon([shapely.Polygon(p[0], p[1:]) for p in components(region)])


def from_shape(shape: BaseGeometry) -> Rings:
    """The areas of a Shapely geometry as rings."""
    rings: Rings = []
    for part in shapely.get_parts(shape):
        if isinstance(part, shapely.Polygon) and part.area > LEAST_AREA_MM2:
            turned = shapely.orient_polygons(part)
            rings += [np.asarray(r.coords)[:-1, :2] for r in (turned.exterior, *turned.interiors)]
    return rings


def pole_of(piece: Rings, tolerance_mm: float = 0.05) -> tuple[Points, float]:
    """The place of a connected region that is farthest from its boundary, and how far that is."""
    shape = shapely.Polygon(piece[0], piece[1:])
    line = shapely.maximum_inscribed_circle(shape, tolerance=max(tolerance_mm, 1e-3))
    place = np.asarray(line.coords[0])
    return place, float(shape.boundary.distance(shapely.Point(place)))

"""Holes with their steps, from the faces of revolution that share an axis."""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from fenrik.core.cutting.threads import threads_for_bore
from fenrik.core.frames import Points, plane_axes
from fenrik.core.recognise.features import Hole, HoleStep
from fenrik.core.recognise.graph import FaceGraph, clusters

AXIS_TOLERANCE_MM = 2e-3
FULL_ROUND_GAP_DEG = 75.0
COUNTERSINK_SHARE = 1.35
MAX_DIAMETER_MM = 60.0
RIM_SAMPLES = 12


@dataclass(frozen=True)
class _Ring:
    """A face that goes round the axis (or lies across it): its stretch along the axis and its radii at both ends.

    Attributes:
        kind: cylinder, cone, torus, sphere, or plane.
        low, high: along the axis.
        at_low, at_high: radius at either end.
    """

    faces: tuple[int, ...]
    kind: str
    low: float
    high: float
    at_low: float
    at_high: float

    @property
    def widest(self) -> float:
        return max(self.at_low, self.at_high)


def find_holes(graph: FaceGraph) -> list[Hole]:
    """All holes of a solid, whatever their direction; alike ones share a group number."""
    holes = []
    for axis, origin, members in _axes(graph):
        for stack in _stacks(graph, axis, origin, members):
            hole = _hole(graph, axis, origin, stack)
            if hole is not None:
                holes.append(hole)
    holes.sort(key=lambda h: (h.direction, h.signature, h.place))
    groups: dict[tuple[object, ...], int] = {}
    numbered = []
    for k, hole in enumerate(holes):
        direction = tuple(round(v, 3) + 0.0 for v in hole.direction or ())
        group = groups.setdefault((hole.signature, direction), len(groups) + 1)
        numbered.append(hole.model_copy(update={"name": f"hole {k + 1}", "group": group}))
    return numbered


def _axes(graph: FaceGraph) -> list[tuple[Points, Points, list[int]]]:
    """Axes of concave cylinders and cones with the faces of revolution on each."""
    turned = [i for i, f in enumerate(graph.faces) if f.kind in ("cylinder", "cone", "torus")]
    if not turned:
        return []
    directions = np.array([_canonical(np.array(graph.faces[i].normal)) for i in turned])
    origins = np.array([graph.faces[i].origin for i in turned])
    feet = origins - directions * np.einsum("ij,ij->i", origins, directions)[:, None]
    labels = clusters(np.hstack([directions * graph.diagonal, feet]), AXIS_TOLERANCE_MM)
    groups: dict[int, list[int]] = defaultdict(list)
    for k, label in enumerate(labels.tolist()):
        groups[label].append(k)
    found = []
    for rows in groups.values():
        members = [turned[k] for k in rows]
        if any(graph.faces[m].concave and graph.faces[m].kind != "torus" for m in members):
            found.append((directions[rows[0]], feet[rows[0]], members))
    return found


def _canonical(v: Points) -> Points:
    """The one of a direction and its opposite whose largest component is positive."""
    v = np.where(np.abs(v) < 1e-12, 0.0, v)
    return v if v[int(np.abs(v).argmax())] > 0 else -v


def _stacks(graph: FaceGraph, axis: Points, origin: Points, members: list[int]) -> list[list[_Ring]]:
    """Connected faces on one axis that bound a void, each stack in the order along the axis."""
    hollow = {m for m in members if graph.faces[m].concave}
    rounded = {m for m in members if graph.faces[m].kind == "torus" and not graph.faces[m].concave}
    across = {
        n.face
        for m in hollow
        for n in graph.neighbours[m]
        if graph.faces[n.face].kind in ("plane", "sphere") and _closes(graph, n.face, axis, origin)
    }
    allowed = hollow | across | {r for r in rounded if any(n.face in hollow for n in graph.neighbours[r])}
    stacks, left = [], set(hollow)
    while left:
        stack = graph.reach([min(left)], ("smooth", "convex", "concave"), allowed)
        left -= stack
        rings = _rings(graph, axis, origin, stack)
        if rings:
            stacks.append(rings)
    return stacks


def _closes(graph: FaceGraph, face: int, axis: Points, origin: Points) -> bool:
    """A disc or ring across the axis, or a sphere on it, that belongs to a hole: all its boundaries run round the axis,
    and its outer one is an inner corner (the floor of a counterbore, the bottom of a hole)."""
    f = graph.faces[face]
    if f.kind == "sphere":
        return f.concave and _off_axis(np.array(f.origin), axis, origin) < AXIS_TOLERANCE_MM
    if abs(float(np.array(f.normal) @ axis)) < 1 - 1e-6 or len(f.loops) > 2:
        return False
    for loop in f.loops:
        for e in loop:
            edge = graph.edges[e]
            if edge.kind != "circle" or edge.centre is None:
                return False
            if _off_axis(np.array(edge.centre), axis, origin) > AXIS_TOLERANCE_MM:
                return False
    return all(graph.edges[e].turn in ("concave", "smooth") for e in f.loops[0])


def _off_axis(place: Points, axis: Points, origin: Points) -> float:
    away = place - origin
    return float(np.linalg.norm(away - axis * float(away @ axis)))


def _rings(graph: FaceGraph, axis: Points, origin: Points, stack: set[int]) -> list[_Ring]:
    """The faces of a stack as rings; halves of one cylinder or cone become one ring. Empty where it is not round."""
    rings = []
    for faces in _alike(graph, axis, stack):
        low, high = graph.span(faces, axis)
        kind = graph.faces[faces[0]].kind
        if kind in ("cylinder", "cone") and not _is_round(graph, faces, axis, origin):
            return []
        at_low, at_high = _radii(graph, faces, axis, origin, low, high)
        rings.append(_Ring(tuple(faces), kind, low, high, at_low, at_high))
    if not any(r.kind in ("cylinder", "cone") for r in rings):
        return []
    return sorted(rings, key=lambda r: (r.low + r.high, r.high))


def _alike(graph: FaceGraph, axis: Points, stack: set[int]) -> list[list[int]]:
    """Faces of one surface whose stretches along the axis overlap: the halves of a ring."""
    groups: list[tuple[tuple[object, ...], float, float, list[int]]] = []
    for i in sorted(stack):
        f = graph.faces[i]
        low, high = graph.span([i], axis)
        surface = (f.kind, round(f.radius_mm or 0.0, 4), round(f.half_angle_deg or 0.0, 3))
        for k, (other, a, b, faces) in enumerate(groups):
            if other == surface and min(b, high) - max(a, low) >= 0.2 * min(high - low, b - a):
                groups[k] = (other, min(a, low), max(b, high), [*faces, i])
                break
        else:
            groups.append((surface, low, high, [i]))
    return [faces for *_, faces in groups]


def _is_round(graph: FaceGraph, faces: list[int], axis: Points, origin: Points) -> bool:
    """Whether faces go all the way round the axis, apart from a narrow break (a keyway, a crossing bore)."""
    x, y = plane_axes(axis)
    angles = []
    for face in faces:
        corners = graph.corners(face) - origin
        turn = np.arctan2(corners @ y, corners @ x)
        # Three places on each side of each triangle, so that no long triangle leaves a gap.
        for a, b in ((0, 1), (1, 2), (2, 0)):
            step = np.angle(np.exp(1j * (turn[:, b] - turn[:, a])))
            angles += [turn[:, a] + share * step for share in (0.0, 0.33, 0.67)]
    ordered = np.sort(np.mod(np.concatenate(angles), 2 * np.pi))
    gaps = np.diff(np.append(ordered, ordered[0] + 2 * np.pi))
    return math.degrees(float(gaps.max())) < FULL_ROUND_GAP_DEG


def _radii(
    graph: FaceGraph, faces: list[int], axis: Points, origin: Points, low: float, high: float
) -> tuple[float, float]:
    """Radius at the low and the high end of a ring; of a disc or ring across the axis the inner and outer one."""
    f = graph.faces[faces[0]]
    if f.kind == "cylinder":
        assert f.radius_mm is not None
        return f.radius_mm, f.radius_mm
    if f.kind == "cone":
        slope = math.tan(math.radians(f.half_angle_deg or 0.0))
        apex = float((np.array(f.origin) - origin) @ axis)
        base = float(origin @ axis)
        return abs(low - base - apex) * slope, abs(high - base - apex) * slope
    points = graph.points(faces) - origin
    along = points @ axis
    radius = np.linalg.norm(points - np.outer(along, axis), axis=1)
    if f.kind == "plane":
        inner = 0.0 if len(f.loops) == 1 else float(radius.min())
        return inner, float(radius.max())
    heights = along + float(origin @ axis)
    slack = 1e-3 * max(high - low, 1e-6)
    return float(radius[heights <= low + slack].max()), float(radius[heights >= high - slack].max())


def _hole(graph: FaceGraph, axis: Points, origin: Points, rings: list[_Ring]) -> Hole | None:
    faces = {f for r in rings for f in r.faces}
    widest = max(r.widest for r in rings)
    if 2 * widest > MAX_DIAMETER_MM:
        return None
    open_low, open_high = (_is_open(graph, axis, rings, end, faces) for end in (0, -1))
    if not open_low and not open_high:
        return None
    through = open_low and open_high
    ends = [(axis, rings), (-axis, [_flipped(r) for r in reversed(rings)])]
    chosen = _better_end(graph, origin, ends) if through else ends[0 if open_high else 1]
    up, rings = chosen
    rings = list(reversed(rings))  # from the opening down
    main = _main_bore(rings)
    if main is None:
        return None
    top, bottom = rings[0].high, min(r.low for r in rings)
    steps = [_step(rings, k, main, through) for k, r in enumerate(rings) if r.kind != "plane" or not r.at_low]
    depth = top - rings[main].low
    radius = rings[main].at_low if rings[main].kind == "cylinder" else rings[main].widest
    place = _opening(origin, up, rings[0])
    reachable, why = _reachable(graph, place, up, rings[0].at_high)
    bore = next((s for s in steps if s.kind == "bore"), None)
    return Hole(
        name="",
        faces=sorted(faces),
        direction=(float(up[0]) + 0.0, float(up[1]) + 0.0, float(up[2]) + 0.0),
        accessible=reachable,
        why=why,
        place=(float(place[0]), float(place[1]), float(place[2])),
        diameter_mm=2 * radius,
        depth_mm=depth,
        tip_depth_mm=top - bottom,
        through=through,
        steps=steps,
        threads=[t.name for t in threads_for_bore(bore.diameter_mm)] if bore else [],
    )


def _is_open(graph: FaceGraph, axis: Points, rings: list[_Ring], end: int, faces: set[int]) -> bool:
    """Whether the stack opens at its low (0) or high (−1) end."""
    ring = rings[end]
    if ring.kind in ("plane", "sphere"):
        return False
    radius = ring.at_low if end == 0 else ring.at_high
    if radius < 1e-3:
        return False
    outside = [
        n
        for f in ring.faces
        for n in graph.neighbours[f]
        if n.face not in faces and _is_at_end(graph, n.edge, axis, ring, end)
    ]
    if not outside:
        return False
    sharp = [n for n in outside if n.turn != "smooth"]
    return all(n.turn == "convex" for n in sharp) if sharp else ring.kind == "torus"


def _is_at_end(graph: FaceGraph, edge: int, axis: Points, ring: _Ring, end: int) -> bool:
    """Whether an edge lies at the outer half of the end ring."""
    mean = float((graph.edges[edge].points @ axis).mean())
    middle = 0.5 * (ring.low + ring.high)
    return mean < middle if end == 0 else mean > middle


def _better_end(graph: FaceGraph, origin: Points, ends: list[tuple[Points, list[_Ring]]]) -> tuple[Points, list[_Ring]]:
    """The end that a through hole is made from: the wider one, then the one that can be reached, then the first."""
    first, second = (rings[-1] for _, rings in ends)
    apart = first.at_high - second.at_high
    if abs(apart) < 1e-3:
        apart = first.widest - second.widest
    if abs(apart) > 1e-3:
        return ends[0] if apart > 0 else ends[1]
    reachable = [_reachable(graph, _opening(origin, up, rings[-1]), up, rings[-1].at_high)[0] for up, rings in ends]
    return ends[1] if reachable[1] and not reachable[0] else ends[0]


def _opening(origin: Points, up: Points, top: _Ring) -> Points:
    return origin + up * (top.high - float(origin @ up))


def _flipped(ring: _Ring) -> _Ring:
    if ring.kind == "plane":
        return _Ring(ring.faces, ring.kind, -ring.high, -ring.low, ring.at_low, ring.at_high)
    return _Ring(ring.faces, ring.kind, -ring.high, -ring.low, ring.at_high, ring.at_low)


def _main_bore(rings: list[_Ring]) -> int | None:
    """The narrowest bore, the longest of equal ones; a cone where there is no bore."""
    bores = [k for k, r in enumerate(rings) if r.kind == "cylinder"]
    if bores:
        return min(bores, key=lambda k: (round(rings[k].at_low, 4), -(rings[k].high - rings[k].low)))
    cones = [k for k, r in enumerate(rings) if r.kind == "cone"]
    return max(cones, key=lambda k: rings[k].high - rings[k].low) if cones else None


def _step(rings: list[_Ring], k: int, main: int, through: bool) -> HoleStep:
    ring = rings[k]
    angle = None
    faces = list(ring.faces)
    if ring.kind == "cylinder":
        wider = ring.at_low > rings[main].widest + 1e-3 and rings[main].kind == "cylinder"
        kind = "counterbore" if wider else "bore"
        follower = rings[k + 1] if k + 1 < len(rings) else None
        if follower is not None and follower.kind == "plane" and follower.at_low > 0:
            faces += follower.faces
        leader = rings[k - 1] if k else None
        if k > main and leader is not None and leader.kind == "plane" and leader.at_low > 0:
            faces += leader.faces
    elif ring.kind == "cone":
        angle = 2 * math.degrees(math.atan2(abs(ring.at_high - ring.at_low), ring.high - ring.low))
        kind = _cone_kind(rings, k, main, through)
    elif ring.kind == "torus":
        kind = "rounding"
    elif ring.kind == "sphere":
        kind = "ball bottom"
    else:
        kind = "flat bottom"
    return HoleStep(
        kind=kind,
        diameter_mm=2 * ring.widest,
        lower_diameter_mm=2 * (0.0 if ring.kind == "plane" else ring.at_low),
        depth_mm=ring.high - ring.low,
        angle_deg=angle,
        faces=faces,
    )


def _cone_kind(rings: list[_Ring], k: int, main: int, through: bool) -> str:
    ring = rings[k]
    if ring.at_low < 1e-3 and not through:
        return "drill point"
    if rings[main].kind != "cylinder":
        return "taper"
    at_end = k in (0, len(rings) - 1)
    opens = ring.at_high > ring.at_low if k < main else ring.at_low > ring.at_high
    if not opens:
        return "taper"
    if at_end:
        bore = min(ring.at_low, ring.at_high)
        return "countersink" if ring.widest >= COUNTERSINK_SHARE * bore else "chamfer"
    return "taper"


def _reachable(graph: FaceGraph, place: Points, up: Points, radius: float) -> tuple[bool, str]:
    """Whether a tool of the opening's size can come down to it."""
    x, y = plane_axes(up)
    turn = np.linspace(0, 2 * np.pi, RIM_SAMPLES, endpoint=False)
    rim = place + 0.9 * radius * (np.outer(np.cos(turn), x) + np.outer(np.sin(turn), y))
    share, face = graph.blocked(np.vstack([place, rim]), up)
    if share == 0:
        return True, ""
    return False, f"Face {face} stands over {'all' if share == 1 else 'part'} of its opening."

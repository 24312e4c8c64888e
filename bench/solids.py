"""Random solids from a seed: prismatic and mixed ones such as come in from outside, with nothing in them that Fenrik was
built for. What each is made of is told in words; the solid itself is the truth that results are held against."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon, BRepBuilderAPI_Transform
from OCP.BRepCheck import BRepCheck_Analyzer
from OCP.BRepFilletAPI import BRepFilletAPI_MakeChamfer, BRepFilletAPI_MakeFillet
from OCP.BRepGProp import BRepGProp
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCone,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakePrism,
    BRepPrimAPI_MakeSphere,
)
from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from OCP.GProp import GProp_GProps
from OCP.TopAbs import TopAbs_EDGE, TopAbs_SOLID
from OCP.TopoDS import TopoDS

from fenrik.core.solids.describe import list_shapes
from fenrik.demo.modelling import round_upright_edges

Random = np.random.Generator
LEAST_MM, LARGEST_MM = 20.0, 400.0
TURNS = (
    (0, 0, 1), (0, 0, 1), (0, 0, 1), (0, 0, -1), (1, 0, 0), (-1, 0, 0), (0, 1, 0), (0, -1, 0),
)  # fmt: skip
"""Sides that features are put on, the upper one most often."""


@dataclass
class Made:
    """A random solid and what it is made of."""

    shape: Any
    words: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Face:
    """A side that a feature is put on, its own frame: z out of the material with its level 0; half its length and
    width, and how deep the material is."""

    a: float
    b: float
    deep: float


def random_solid(seed: int) -> Made:
    """A valid solid of one piece, 20 to 400 mm long, always the same one for a seed."""
    rng = np.random.default_rng(seed)
    length = float(np.exp(rng.uniform(np.log(LEAST_MM), np.log(LARGEST_MM))))
    width = length * float(rng.uniform(0.35, 1.0))
    height = max(length * float(rng.uniform(0.12, 0.6)), 6.0)
    name, base = _BASES[int(rng.integers(len(_BASES)))]
    made = Made(base(rng, length, width, height), [f"{name} {length:.0f} × {width:.0f} × {height:.0f}"])
    for _ in range(int(rng.integers(2, 8))):
        _add(rng, made, length, width, height)
    if rng.random() < 0.5:
        _break_edges(rng, made, min(length, width, height))
    turn = rng.random()
    if turn < 0.2:
        made.shape = _turned(made.shape, (0, 0, 1), float(rng.uniform(0, 360)))
        made.words.append("turned in the plane")
    elif turn < 0.3:
        made.shape = _turned(made.shape, tuple(rng.normal(size=3)), float(rng.uniform(0, 360)))
        made.words.append("turned in space")
    return made


def _add(rng: Random, made: Made, length: float, width: float, height: float) -> None:
    """One more feature on a random side; without it where the result would be no single valid solid."""
    look = TURNS[int(rng.integers(len(TURNS)))]
    across = {0: (width, height, length), 1: (length, height, width), 2: (length, width, height)}
    a, b, deep = across[int(np.abs(look).argmax())]
    names = list(_FEATURES)
    name = names[int(rng.integers(len(names)))]
    fuse, tool = _FEATURES[name](rng, Face(a / 2, b / 2, deep))
    placed = _onto(tool, look, deep / 2, (0.0, 0.0, height / 2))
    maker = BRepAlgoAPI_Fuse(made.shape, placed) if fuse else BRepAlgoAPI_Cut(made.shape, placed)
    if _is_good(maker.Shape(), 0.15 * volume_of(made.shape)):
        made.shape = maker.Shape()
        made.words.append(f"{name} at {look}")


def _is_good(shape: Any, least_volume: float) -> bool:
    whole = len(list_shapes(shape, TopAbs_SOLID)) == 1 and BRepCheck_Analyzer(shape).IsValid()
    return whole and volume_of(shape) > least_volume


def volume_of(shape: Any) -> float:
    found = GProp_GProps()
    BRepGProp.VolumeProperties_s(shape, found)
    return float(found.Mass())


def _turned(shape: Any, axis: Any, degrees: float) -> Any:
    trsf = gp_Trsf()
    trsf.SetRotation(gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(*(float(v) for v in axis))), float(np.deg2rad(degrees)))
    return BRepBuilderAPI_Transform(shape, trsf, True).Shape()


def _moved(shape: Any, x: float, y: float, z: float) -> Any:
    trsf = gp_Trsf()
    trsf.SetTranslation(gp_Vec(x, y, z))
    return BRepBuilderAPI_Transform(shape, trsf, True).Shape()


def _onto(shape: Any, look: tuple[int, int, int], out: float, middle: tuple[float, float, float]) -> Any:
    """A tool body from the frame of a side into that of the part, whose middle is given."""
    turns = {
        (0, 0, 1): [], (0, 0, -1): [((1, 0, 0), 180)], (0, 1, 0): [((1, 0, 0), -90)], (0, -1, 0): [((1, 0, 0), 90)],
        (1, 0, 0): [((0, 0, 1), 90), ((0, 1, 0), 90)], (-1, 0, 0): [((0, 0, 1), 90), ((0, 1, 0), -90)],
    }  # fmt: skip
    for axis, degrees in turns[look]:
        shape = _turned(shape, axis, degrees)
    return _moved(shape, *(m + out * v for m, v in zip(middle, look, strict=True)))


def box(x: float, y: float, z: float, dx: float, dy: float, dz: float) -> Any:
    """A block with its middle at (x, y), standing on z."""
    return BRepPrimAPI_MakeBox(gp_Pnt(x - dx / 2, y - dy / 2, z), dx, dy, dz).Shape()


def rod(x: float, y: float, z: float, radius: float, height: float) -> Any:
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(0, 0, 1)), radius, height).Shape()


def cone(x: float, y: float, z: float, lower: float, upper: float, height: float) -> Any:
    return BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(0, 0, 1)), lower, upper, height).Shape()


def prism(corners: Any, z: float, height: float) -> Any:
    polygon = BRepBuilderAPI_MakePolygon()
    for x, y in corners:
        polygon.Add(gp_Pnt(float(x), float(y), z))
    polygon.Close()
    return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(polygon.Wire()).Face(), gp_Vec(0, 0, height)).Shape()


def ngon(count: int, radius: float) -> Any:
    turn = np.arange(count) * 2 * np.pi / count
    return radius * np.column_stack([np.cos(turn), np.sin(turn)])


def frustum(lower: Any, upper: Any, z: float, height: float) -> Any:
    """Between two polygons with as many corners, the lower at z."""
    loft = BRepOffsetAPI_ThruSections(True, True)
    for corners, level in ((lower, z), (upper, z + height)):
        polygon = BRepBuilderAPI_MakePolygon()
        for x, y in corners:
            polygon.Add(gp_Pnt(float(x), float(y), level))
        polygon.Close()
        loft.AddWire(polygon.Wire())
    return loft.Shape()


def rectangle(a: float, b: float) -> Any:
    return np.array([[-a, -b], [a, -b], [a, b], [-a, b]]) / 2


def upright_rounded(shape: Any, radius: float) -> Any:
    """All upright edges of a body rounded; the body as it is where that fails."""
    return _or_else(lambda: round_upright_edges(shape, radius), shape)


def _or_else(make: Callable[[], Any], shape: Any) -> Any:
    try:
        made = make()
    except Exception:  # Open CASCADE gives up on some edges; the body then stays as it is.
        return shape
    return made if _is_good(made, 0.0) else shape


def _break_edges(rng: Random, made: Made, size: float) -> None:
    """Fillets or chamfers on some edges."""
    edges = list_shapes(made.shape, TopAbs_EDGE)
    chosen = rng.permutation(len(edges))[: int(rng.integers(1, 5))]
    by, rounded = float(rng.uniform(0.01, 0.06)) * size, rng.random() < 0.5
    for k in chosen.tolist():
        current = list_shapes(made.shape, TopAbs_EDGE)
        if k >= len(current):
            continue
        maker = (BRepFilletAPI_MakeFillet if rounded else BRepFilletAPI_MakeChamfer)(made.shape)
        maker.Add(by, TopoDS.Edge(current[k]))
        after = _or_else(maker.Shape, made.shape)
        if after is not made.shape:
            made.shape = after
            made.words.append(f"{'fillet' if rounded else 'chamfer'} {by:.2f}")


# Bases: (random, length, width, height) → a body standing on z = 0 with its middle at the origin


def _block(rng: Random, length: float, width: float, height: float) -> Any:
    return box(0, 0, 0, length, width, height)


def _rounded_block(rng: Random, length: float, width: float, height: float) -> Any:
    return upright_rounded(box(0, 0, 0, length, width, height), float(rng.uniform(0.05, 0.3)) * width)


def _hexagon(rng: Random, length: float, width: float, height: float) -> Any:
    body = prism(ngon(6, length / 2), 0, height)
    if rng.random() < 0.6:  # flats that end in 30° cones
        r, rise = length / 2, 0.1 * length * np.tan(np.deg2rad(30))
        if 2 * rise < height:
            barrel = BRepAlgoAPI_Fuse(cone(0, 0, 0, 0.9 * r, r, rise), rod(0, 0, rise, r, height - 2 * rise)).Shape()
            barrel = BRepAlgoAPI_Fuse(barrel, cone(0, 0, height - rise, r, 0.9 * r, rise)).Shape()
            from OCP.BRepAlgoAPI import BRepAlgoAPI_Common

            body = BRepAlgoAPI_Common(body, barrel).Shape()
    return body


def _disc(rng: Random, length: float, width: float, height: float) -> Any:
    return rod(0, 0, 0, length / 2, height)


def _angle(rng: Random, length: float, width: float, height: float) -> Any:
    leg = float(rng.uniform(0.3, 0.6))
    a, b = length / 2, width / 2
    return prism([(-a, -b), (a, -b), (a, -b + leg * width), (-a + leg * length, -b + leg * width), (-a + leg * length, b), (-a, b)], 0, height)  # fmt: skip


def _polygon(rng: Random, length: float, width: float, height: float) -> Any:
    turn = np.sort(rng.uniform(0, 2 * np.pi, int(rng.integers(5, 9))))
    turn = np.linspace(0, 2 * np.pi, len(turn), endpoint=False) * 0.7 + 0.3 * turn
    return prism(np.column_stack([length / 2 * np.cos(turn), width / 2 * np.sin(turn)]), 0, height)


def _drafted_block(rng: Random, length: float, width: float, height: float) -> Any:
    inset = 2 * height * float(np.tan(np.deg2rad(rng.uniform(2, 12))))
    inset = min(inset, 0.5 * width)
    return frustum(rectangle(length, width), rectangle(length - inset, width - inset), 0, height)


def _link(rng: Random, length: float, width: float, height: float) -> Any:
    """Two eyes and a web, as a connecting rod has."""
    r, s = width / 2, width * float(rng.uniform(0.25, 0.4))
    x, y = -length / 2 + r, max(length / 2 - s, -length / 2 + 2 * r)
    web = height * float(rng.uniform(0.3, 0.8))
    body = BRepAlgoAPI_Fuse(rod(x, 0, 0, r, height), rod(y, 0, 0, s, height)).Shape()
    return BRepAlgoAPI_Fuse(body, box((x + y) / 2, 0, (height - web) / 2, y - x, s, web)).Shape()


_BASES: list[tuple[str, Callable[[Random, float, float, float], Any]]] = [
    ("block", _block), ("block", _block), ("rounded block", _rounded_block), ("hexagon", _hexagon), ("disc", _disc),
    ("angle", _angle), ("polygon", _polygon), ("drafted block", _drafted_block), ("link", _link),
]  # fmt: skip


# Features: (random, side) → whether it is added (else taken away), and its body in the frame of the side


def _where(rng: Random, face: Face, size: float) -> tuple[float, float]:
    room = [max(half - 0.6 * size, 0.0) for half in (face.a, face.b)]
    return float(rng.uniform(-room[0], room[0])), float(rng.uniform(-room[1], room[1]))


def _size(rng: Random, face: Face, low: float, high: float) -> float:
    return float(rng.uniform(low, high)) * 2 * min(face.a, face.b)


def _askew(rng: Random, shape: Any) -> Any:
    """Turned in the plane of its side, half the time by an odd angle."""
    return _turned(shape, (0, 0, 1), float(rng.uniform(0, 180)) if rng.random() < 0.5 else 90.0 * int(rng.integers(2)))


def _pocket(rng: Random, face: Face) -> tuple[bool, Any]:
    a, b, deep = _size(rng, face, 0.2, 0.6), _size(rng, face, 0.2, 0.5), float(rng.uniform(0.1, 0.6)) * face.deep
    body = upright_rounded(box(0, 0, -deep, a, b, deep + 1), float(rng.uniform(0.12, 0.45)) * min(a, b))
    return False, _moved(_askew(rng, body), *_where(rng, face, max(a, b)), 0)


def _through(rng: Random, face: Face) -> tuple[bool, Any]:
    a, b = _size(rng, face, 0.15, 0.4), _size(rng, face, 0.15, 0.4)
    body = upright_rounded(box(0, 0, -face.deep - 2, a, b, face.deep + 4), float(rng.uniform(0.15, 0.45)) * min(a, b))
    return False, _moved(_askew(rng, body), *_where(rng, face, max(a, b)), 0)


def _sharp_pocket(rng: Random, face: Face) -> tuple[bool, Any]:
    a, b, deep = _size(rng, face, 0.2, 0.5), _size(rng, face, 0.2, 0.5), float(rng.uniform(0.1, 0.4)) * face.deep
    return False, _moved(_askew(rng, box(0, 0, -deep, a, b, deep + 1)), *_where(rng, face, max(a, b)), 0)


def _step(rng: Random, face: Face) -> tuple[bool, Any]:
    a, b, deep = _size(rng, face, 0.2, 0.5), _size(rng, face, 0.2, 0.6), float(rng.uniform(0.1, 0.6)) * face.deep
    side = 1 if rng.random() < 0.5 else -1
    y = float(rng.uniform(-face.b, face.b))
    return False, box(side * face.a, y, -deep, 2 * a, b, deep + 1)


def _slot(rng: Random, face: Face) -> tuple[bool, Any]:
    wide, deep = _size(rng, face, 0.08, 0.3), float(rng.uniform(0.1, 0.5)) * face.deep
    body = box(0, 0, -deep, 4 * (face.a + face.b), wide, deep + 1)
    return False, _moved(_askew(rng, body), *_where(rng, face, wide), 0)


def _crossing(rng: Random, face: Face) -> tuple[bool, Any]:
    wide, deep = _size(rng, face, 0.08, 0.2), float(rng.uniform(0.1, 0.4)) * face.deep
    one = box(0, 0, -deep, 4 * (face.a + face.b), wide, deep + 1)
    other = _turned(
        box(0, 0, -deep * 0.6, 4 * (face.a + face.b), wide, deep + 1), (0, 0, 1), float(rng.uniform(40, 140))
    )
    return False, _moved(BRepAlgoAPI_Fuse(one, other).Shape(), *_where(rng, face, wide), 0)


def _web(rng: Random, face: Face) -> tuple[bool, Any]:
    """Two pockets with a thin wall between."""
    a, b, deep = _size(rng, face, 0.15, 0.3), _size(rng, face, 0.2, 0.5), float(rng.uniform(0.1, 0.4)) * face.deep
    thin = float(rng.uniform(0.8, 2.0))
    pair = [upright_rounded(box(s * (a + thin) / 2, 0, -deep, a, b, deep + 1), 0.3 * min(a, b)) for s in (-1, 1)]
    return False, _moved(BRepAlgoAPI_Fuse(*pair).Shape(), *_where(rng, face, 2 * a), 0)


def _radius(rng: Random, face: Face) -> float:
    return float(np.clip(_size(rng, face, 0.03, 0.15), 1.25, 40.0))


def _hole(rng: Random, face: Face) -> tuple[bool, Any]:
    r = _radius(rng, face)
    deep = face.deep + 2 if rng.random() < 0.5 else float(rng.uniform(0.2, 0.7)) * face.deep
    body = rod(0, 0, -deep, r, deep + 1)
    if rng.random() < 0.3:
        body = BRepAlgoAPI_Fuse(body, rod(0, 0, -0.2 * deep, 1.7 * r, 0.2 * deep + 1)).Shape()
    if deep < face.deep and rng.random() < 0.6:
        body = BRepAlgoAPI_Fuse(body, cone(0, 0, -deep - 0.36 * r, 0, r, 0.36 * r)).Shape()
    return False, _moved(body, *_where(rng, face, 3.5 * r), 0)


def _slanted_hole(rng: Random, face: Face) -> tuple[bool, Any]:
    r = _radius(rng, face)
    body = _turned(rod(0, 0, -2 * face.deep, r, 4 * face.deep), (1, 0, 0), float(rng.uniform(10, 40)))
    return False, _moved(_askew(rng, body), *_where(rng, face, 4 * r), 0)


def _countersunk(rng: Random, face: Face) -> tuple[bool, Any]:
    r = _radius(rng, face)
    body = BRepAlgoAPI_Fuse(rod(0, 0, -face.deep - 2, r, face.deep + 3), cone(0, 0, -r, r, 2.2 * r, 1.2 * r)).Shape()
    return False, _moved(body, *_where(rng, face, 5 * r), 0)


def _boss(rng: Random, face: Face) -> tuple[bool, Any]:
    r, high = _size(rng, face, 0.08, 0.3), float(rng.uniform(0.1, 0.5)) * face.deep
    kinds = (
        lambda: rod(0, 0, -0.5, r, high + 0.5),
        lambda: upright_rounded(box(0, 0, -0.5, 2 * r, 1.4 * r, high + 0.5), 0.2 * r),
        lambda: prism(ngon(6, r), -0.5, high + 0.5),
        lambda: frustum(rectangle(2 * r, 2 * r), rectangle(1.7 * r, 1.7 * r), -0.01, high),
        lambda: cone(0, 0, -0.01, r, 0.6 * r, high),
    )
    return True, _moved(_askew(rng, kinds[int(rng.integers(len(kinds)))]()), *_where(rng, face, 2 * r), 0)


def _dome(rng: Random, face: Face) -> tuple[bool, Any]:
    r = _size(rng, face, 0.15, 0.4)
    z, (x, y) = -r * float(rng.uniform(0.2, 0.7)), _where(rng, face, 2 * r)
    ball = BRepPrimAPI_MakeSphere(gp_Pnt(x, y, z), r).Shape()
    return True, BRepAlgoAPI_Cut(ball, box(x, y, -4 * r - 0.1, 8 * r, 8 * r, 4 * r)).Shape()


def _bowl(rng: Random, face: Face) -> tuple[bool, Any]:
    r = _size(rng, face, 0.15, 0.4)
    x, y = _where(rng, face, 2 * r)
    return False, BRepPrimAPI_MakeSphere(gp_Pnt(x, y, r * float(rng.uniform(0.2, 0.8))), r).Shape()


def _cone_hole(rng: Random, face: Face) -> tuple[bool, Any]:
    r, deep = _size(rng, face, 0.06, 0.2), float(rng.uniform(0.2, 0.6)) * face.deep
    body = cone(0, 0, -deep, 0.5 * r, r + r / deep, deep + 1)
    return False, _moved(body, *_where(rng, face, 2.4 * r), 0)


def _hexagon_pocket(rng: Random, face: Face) -> tuple[bool, Any]:
    r, deep = _size(rng, face, 0.08, 0.25), float(rng.uniform(0.1, 0.5)) * face.deep
    return False, _moved(_askew(rng, prism(ngon(6, r), -deep, deep + 1)), *_where(rng, face, 2 * r), 0)


def _drafted_pocket(rng: Random, face: Face) -> tuple[bool, Any]:
    a, b, deep = _size(rng, face, 0.25, 0.6), _size(rng, face, 0.25, 0.5), float(rng.uniform(0.1, 0.4)) * face.deep
    inset = 2 * (deep + 1) * float(np.tan(np.deg2rad(rng.uniform(2, 15))))
    inset = min(inset, 0.6 * min(a, b))
    body = frustum(rectangle(a - inset, b - inset), rectangle(a, b), -deep, deep + 1)
    return False, _moved(_askew(rng, body), *_where(rng, face, max(a, b)), 0)


def _undercut(rng: Random, face: Face) -> tuple[bool, Any]:
    wide, deep = _size(rng, face, 0.08, 0.2), float(rng.uniform(0.2, 0.5)) * face.deep
    neck = box(0, 0, -deep, 4 * (face.a + face.b), wide, deep + 1)
    foot = box(0, 0, -deep, 4 * (face.a + face.b), 2 * wide, 0.4 * deep)
    return False, _moved(_askew(rng, BRepAlgoAPI_Fuse(neck, foot).Shape()), *_where(rng, face, 2 * wide), 0)


_FEATURES: dict[str, Callable[[Random, Face], tuple[bool, Any]]] = {
    "pocket": _pocket,
    "through pocket": _through,
    "sharp pocket": _sharp_pocket,
    "step": _step,
    "slot": _slot,
    "crossing slots": _crossing,
    "thin web": _web,
    "hole": _hole,
    "another hole": _hole,
    "slanted hole": _slanted_hole,
    "countersunk hole": _countersunk,
    "boss": _boss,
    "dome": _dome,
    "bowl": _bowl,
    "conical hole": _cone_hole,
    "hexagon pocket": _hexagon_pocket,
    "drafted pocket": _drafted_pocket,
    "undercut": _undercut,
}

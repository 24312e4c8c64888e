"""Solids with known features, made with Open CASCADE."""

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakePolygon, BRepBuilderAPI_Transform
from OCP.BRepFilletAPI import BRepFilletAPI_MakeChamfer, BRepFilletAPI_MakeFillet
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCone
from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from OCP.TopAbs import TopAbs_EDGE
from OCP.TopoDS import TopoDS

from fenrik.core.solids.describe import list_shapes
from fenrik.demo.modelling import box, cylinder, round_upright_edges

__all__ = ["box", "cylinder", "round_upright_edges"]


def cone(x, y, z, lower, upper, height, along=(0, 0, 1)):
    return BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(*along)), lower, upper, height).Shape()


def cut(shape, *tools):
    for tool in tools:
        shape = BRepAlgoAPI_Cut(shape, tool).Shape()
    return shape


def fuse(shape, *others):
    for other in others:
        shape = BRepAlgoAPI_Fuse(shape, other).Shape()
    return shape


def obround(x, y, z, length, width, height):
    """A block with half-round ends, its middle at (x, y), standing on z; `length` over all."""
    r = width / 2
    flat = length - width
    return fuse(
        box(x - flat / 2, y - r, z, flat, width, height),
        cylinder(x - flat / 2, y, z, r, height),
        cylinder(x + flat / 2, y, z, r, height),
    )


def drafted(x, y, z, lower, upper, height):
    """A frustum with rectangular ends: `lower` and `upper` are (width, depth)."""
    loft = BRepOffsetAPI_ThruSections(True, True)
    for (w, d), level in ((lower, z), (upper, z + height)):
        polygon = BRepBuilderAPI_MakePolygon()
        for sx, sy in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
            polygon.Add(gp_Pnt(x + sx * w / 2, y + sy * d / 2, level))
        polygon.Close()
        loft.AddWire(polygon.Wire())
    return loft.Shape()


def _edges_where(shape, wanted):
    from OCP.BRepAdaptor import BRepAdaptor_Curve

    for sub in list_shapes(shape, TopAbs_EDGE):
        curve = BRepAdaptor_Curve(TopoDS.Edge(sub))
        a, b = (np.array(curve.Value(t).Coord()) for t in (curve.FirstParameter(), curve.LastParameter()))
        m = np.array(curve.Value(0.5 * (curve.FirstParameter() + curve.LastParameter())).Coord())
        if wanted(a, b, m):
            yield TopoDS.Edge(sub)


def fillet(shape, radius, wanted):
    maker = BRepFilletAPI_MakeFillet(shape)
    for edge in _edges_where(shape, wanted):
        maker.Add(radius, edge)
    return maker.Shape()


def chamfer(shape, width, wanted):
    maker = BRepFilletAPI_MakeChamfer(shape)
    for edge in _edges_where(shape, wanted):
        maker.Add(width, edge)
    return maker.Shape()


def turned(shape, axis=(0.3, -0.5, 0.8), degrees=37.0, shift=(11.0, -7.0, 3.0)):
    trsf = gp_Trsf()
    trsf.SetRotation(gp_Ax1(gp_Pnt(1, 2, 3), gp_Dir(*axis)), np.deg2rad(degrees))
    trsf.SetTranslationPart(gp_Vec(*shift))
    return BRepBuilderAPI_Transform(shape, trsf, True).Shape()


def mirrored(shape):
    trsf = gp_Trsf()
    trsf.SetMirror(gp_Ax2(gp_Pnt(0, 0, 0), gp_Dir(0.6, 0.8, 0)))
    return BRepBuilderAPI_Transform(shape, trsf, True).Shape()


def plate():
    """120 × 80 × 20 with one of each kind of hole.

    Through ⌀8; blind ⌀6, 12 deep, with a 118° point; ⌀6.6 through with a counterbore ⌀11, 6.5 deep; ⌀5.5 through with a
    90° countersink to ⌀10.4; M6 tap drill ⌀5 through with a 0.5 mm entrance chamfer; a flat-bottomed ⌀10, 8 deep.
    """
    s = box(0, 0, 0, 120, 80, 20)
    s = cut(s, cylinder(15, 15, -1, 4, 30))
    tip = 3 / np.tan(np.deg2rad(59))
    s = cut(s, fuse(cylinder(35, 15, 8, 3, 13), cone(35, 15, 8 - tip, 0, 3, tip)))
    s = cut(s, cylinder(55, 15, -1, 3.3, 30), cylinder(55, 15, 13.5, 5.5, 10))
    s = cut(s, cylinder(75, 15, -1, 2.75, 30), cone(75, 15, 20 - 2.45, 2.75, 5.2, 2.45))
    s = cut(s, cylinder(95, 15, -1, 2.5, 30), cone(95, 15, 19.5, 2.5, 3.0, 0.5))
    return cut(s, cylinder(15, 40, 12, 5, 10))


def milled():
    """150 × 100 × 30 with one of each kind of hollow, and a boss.

    A closed pocket 40 × 30, 10 deep, corners R4; in its floor one of 20 × 14, 6 deep more, R3; a pocket with a round
    island; a closed slot 8 wide, 30 long, 5 deep; a through window 16 × 12 with R3; an open step at the right side; an
    open slot 10 wide across the back.
    """
    s = box(0, 0, 0, 150, 100, 30)
    s = cut(s, round_upright_edges(box(10, 10, 20, 40, 30, 20), 4), round_upright_edges(box(20, 18, 14, 20, 14, 20), 3))
    island = cut(round_upright_edges(box(60, 10, 22, 40, 30, 20), 5), cylinder(80, 25, 20, 6, 30))
    s = cut(s, island)
    s = cut(s, obround(30, 55, 25, 30, 8, 20))
    s = cut(s, round_upright_edges(box(60, 48, -1, 16, 12, 40), 3))
    s = cut(s, box(130, -1, 18, 30, 60, 20))
    return cut(s, box(-1, 75, 24, 200, 10, 20))


def dressed():
    """100 × 70 × 25 with edges broken: 1.5 mm chamfers round the top, R3 upright corners; a pocket 50 × 30, 12 deep with
    corners R6 and a floor radius R2; a boss ⌀16, 8 high, with R2 at its foot, on the right."""
    s = round_upright_edges(box(0, 0, 0, 100, 70, 25), 3)
    s = chamfer(s, 1.5, lambda a, b, m: abs(m[2] - 25) < 1e-6)
    hollow = round_upright_edges(box(10, 20, 13, 50, 30, 30), 6)
    hollow = fillet(hollow, 2, lambda a, b, m: abs(a[2] - 13) < 1e-6 and abs(b[2] - 13) < 1e-6)
    s = cut(s, hollow)
    s = fuse(s, cylinder(80, 35, 20, 8, 13))
    return fillet(s, 2, lambda a, b, m: abs(m[2] - 25) < 1e-6 and np.hypot(m[0] - 80, m[1] - 35) < 8.1)


def leaning():
    """A block 80 × 60 × 30 with a pocket whose walls lean 5°, 15 deep: floor 40 × 24."""
    more = 2 * 15 * np.tan(np.deg2rad(5))
    return cut(box(0, 0, 0, 80, 60, 30), drafted(40, 30, 15, (40, 24), (40 + more, 24 + more), 15))


def undercut():
    """A block 60 × 40 × 30 with a T slot along x: 8 wide at the top, 16 wide and 6 high below."""
    return cut(box(0, 0, 0, 60, 40, 30), box(-1, 16, 10, 62, 8, 30), box(-1, 12, 10, 62, 16, 6))


def crossing():
    """A block 80 × 50 × 40: ⌀12 through along z, crossed by ⌀6 along x that ends in it; ⌀10 through with a keyway 3 wide."""
    s = cut(box(0, 0, 0, 80, 50, 40), cylinder(30, 25, -1, 6, 50), cylinder(-1, 25, 20, 3, 31, (1, 0, 0)))
    return cut(s, cylinder(60, 25, -1, 5, 50), box(58.5, 25, -1, 3, 7, 50))


def sloped():
    """A plate 60 × 40 × 20 leaning by 20° about y, cut level below, with a blind ⌀6 hole square to its top, 10 deep."""
    leaning_plate = cut(box(0, 0, 0, 60, 40, 30), cylinder(30, 20, 20, 3, 20))
    return cut(turned(leaning_plate, (0, 1, 0), 20.0, (0.0, 0.0, 10.0)), box(-50, -50, -50, 200, 200, 50))

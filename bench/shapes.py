"""Shapes that only the benchmarks need, modelled through Open CASCADE."""

from __future__ import annotations

from typing import Any

import numpy as np
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeSolid,
    BRepBuilderAPI_MakeWire,
    BRepBuilderAPI_Sewing,
)
from OCP.BRepLib import BRepLib
from OCP.collections import Array2_double
from OCP.GeomAPI import GeomAPI_PointsToBSplineSurface
from OCP.gp import gp_Pnt
from OCP.TopoDS import TopoDS


def waves(x: Any, y: Any, length: float) -> Any:
    """Heights of a free-form top over a part of a length: one broad dome with waves on it."""
    u, v = x / length, y / length
    ripple = 0.025 * np.sin(5.1 * u + 0.4) * np.cos(4.3 * v) + 0.012 * np.sin(9 * u * v)
    return length * (0.11 + 0.05 * np.sin(np.pi * u) + ripple)


def cover(length: float = 320.0, width: float = 200.0, across: tuple[int, int] = (4, 2), points: int = 40) -> Any:
    """A solid with a free-form top in several B-spline faces (8 by default); walls and underside are flat.

    Returns:
        The shape, and the surface under its top, with its parameters running from 0 to 1 along x and y.
    """
    step = length / (points - 1), width / (points - 1)
    heights = Array2_double(1, points, 1, points)
    for i, j in np.ndindex(points, points):
        heights.SetValue(i + 1, j + 1, float(waves(np.float64(i * step[0]), np.float64(j * step[1]), length)))
    maker = GeomAPI_PointsToBSplineSurface()
    maker.Interpolate(heights, 0.0, step[0], 0.0, step[1])
    top = maker.Surface()
    u0, u1, v0, v1 = top.Bounds()
    us, vs = np.linspace(u0, u1, across[0] + 1), np.linspace(v0, v1, across[1] + 1)
    sewing = BRepBuilderAPI_Sewing(1e-4)
    for a, b in zip(us[:-1], us[1:], strict=True):
        for c, d in zip(vs[:-1], vs[1:], strict=True):
            sewing.Add(BRepBuilderAPI_MakeFace(top, a, b, c, d, 1e-6).Face())
    for v in (v0, v1):
        for a, b in zip(us[:-1], us[1:], strict=True):
            sewing.Add(_wall(top.VIso(v), a, b))
    for u in (u0, u1):
        for c, d in zip(vs[:-1], vs[1:], strict=True):
            sewing.Add(_wall(top.UIso(u), c, d))
    sewing.Add(_floor(length, width, across))
    sewing.Perform()
    solid = BRepBuilderAPI_MakeSolid(TopoDS.Shell(sewing.SewedShape())).Solid()
    BRepLib.OrientClosedSolid_s(solid)
    return solid


def _wall(curve: Any, start: float, end: float) -> Any:
    """The flat face from a stretch of a curve down to z = 0."""
    p, q = curve.Value(start), curve.Value(end)
    below = gp_Pnt(q.X(), q.Y(), 0), gp_Pnt(p.X(), p.Y(), 0)
    wire = BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(curve, start, end).Edge())
    for a, b in ((q, below[0]), below, (below[1], p)):
        wire.Add(BRepBuilderAPI_MakeEdge(a, b).Edge())
    return BRepBuilderAPI_MakeFace(wire.Wire(), True).Face()


def _floor(length: float, width: float, across: tuple[int, int]) -> Any:
    xs, ys = np.linspace(0, length, across[0] + 1), np.linspace(0, width, across[1] + 1)
    corners = [(x, 0.0) for x in xs] + [(length, y) for y in ys[1:]] + [(x, width) for x in xs[-2::-1]]
    corners += [(0.0, y) for y in ys[-2:0:-1]]
    wire = BRepBuilderAPI_MakeWire()
    for (a, b), (c, d) in zip(corners, [*corners[1:], corners[0]], strict=True):
        wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(a, b, 0), gp_Pnt(c, d, 0)).Edge())
    return BRepBuilderAPI_MakeFace(wire.Wire(), True).Face()

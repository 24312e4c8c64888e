"""The demo's parts, modelled through Open CASCADE. `python -m fenrik.demo.modelling` writes the shipped STEP files."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeWire,
    BRepBuilderAPI_Transform,
)
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakePrism
from OCP.GeomAPI import GeomAPI_PointsToBSplineSurface
from OCP.gp import gp_Ax1, gp_Ax2, gp_Circ, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from OCP.STEPControl import STEPControl_AsIs, STEPControl_Writer
from OCP.TopAbs import TopAbs_EDGE
from OCP.TopoDS import TopoDS

from fenrik.core.solids.describe import list_shapes

FOLDER = Path(__file__).parent / "models"


def box(x: float, y: float, z: float, dx: float, dy: float, dz: float) -> Any:
    return BRepPrimAPI_MakeBox(gp_Pnt(x, y, z), dx, dy, dz).Shape()


def cylinder(
    x: float, y: float, z: float, radius: float, height: float, along: tuple[float, float, float] = (0, 0, 1)
) -> Any:
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(*along)), radius, height).Shape()


def cut(shape: Any, *tools: Any) -> Any:
    for tool in tools:
        shape = BRepAlgoAPI_Cut(shape, tool).Shape()
    return shape


def round_upright_edges(shape: Any, radius: float) -> Any:
    """Fillet all straight edges along z."""
    fillet = BRepFilletAPI_MakeFillet(shape)
    for sub in list_shapes(shape, TopAbs_EDGE):
        p, q = _ends(sub)
        if np.allclose(p[:2], q[:2]) and abs(p[2] - q[2]) > 1e-6:
            fillet.Add(radius, TopoDS.Edge(sub))
    return fillet.Shape()


def round_edges_at(shape: Any, radius: float, z: float, low: tuple[float, float], high: tuple[float, float]) -> Any:
    """Fillet the edges that lie at height z inside a rectangle."""
    fillet = BRepFilletAPI_MakeFillet(shape)
    for sub in list_shapes(shape, TopAbs_EDGE):
        ends = np.array(_ends(sub))
        inside = np.all((ends[:, :2] > low) & (ends[:, :2] < high))
        if np.allclose(ends[:, 2], z) and inside:
            fillet.Add(radius, TopoDS.Edge(sub))
    return fillet.Shape()


def _ends(edge: Any) -> tuple[np.ndarray, np.ndarray]:
    from OCP.BRepAdaptor import BRepAdaptor_Curve

    curve = BRepAdaptor_Curve(TopoDS.Edge(edge))
    return (np.array(curve.Value(curve.FirstParameter()).Coord()), np.array(curve.Value(curve.LastParameter()).Coord()))


def lantern_bracket() -> Any:
    """A bracket that carries the lantern's guide rod: base, two pockets, a block with a saddle and a bore."""
    base = round_upright_edges(box(0, 0, 0, 120, 80, 14), 10)
    block = round_upright_edges(box(32, 12, 8, 56, 56, 28), 8)
    body = BRepAlgoAPI_Fuse(base, block).Shape()
    body = round_edges_at(body, 4, 14, (28, 8), (92, 72))
    body = cut(body, cylinder(60, -10, 48, 25, 100, (0, 1, 0)))
    for x in (7, 95):
        body = cut(body, round_upright_edges(box(x, 14, 6, 18, 52, 20), 5))
    return cut(body, cylinder(60, 40, -1, 9, 60))


def above(height: Callable[[float, float], float], xs: Any, ys: Any) -> Any:
    """All over a free-form surface that goes through its heights over some places in x and y."""
    from OCP.collections import Array2_gp_Pnt

    points = Array2_gp_Pnt(1, len(xs), 1, len(ys))
    for i, x in enumerate(xs):
        for j, y in enumerate(ys):
            points.SetValue(i + 1, j + 1, gp_Pnt(float(x), float(y), height(x, y)))
    surface = GeomAPI_PointsToBSplineSurface(points).Surface()
    face = BRepBuilderAPI_MakeFace(surface, 1e-6).Face()
    return BRepPrimAPI_MakePrism(face, gp_Vec(0, 0, 60)).Shape()


def _bowl(out: float, power: int) -> float:
    """From 1 in the middle to 0 at the rim, and on as steep as there."""
    return 1 - out**power if out < 1 else -power * (out - 1)


def trumpet_core_half() -> Any:
    """The core half that the fog signal's trumpet is cast round: a flaring hollow, 46 mm deep, in a block with two
    dowel holes."""
    block = round_upright_edges(box(0, 0, 0, 180, 120, 55), 8)

    def height(x: float, y: float) -> float:
        along = (x - 12) / 156
        flare = min(max(along, 0.0), 1.0) ** 1.4
        wide, deep = 20 + 30 * flare, 22 + 24 * flare
        across, lengthwise = _bowl(abs(y - 60) / wide, 3), _bowl(abs(2 * along - 1), 6)
        if across > 0 and lengthwise > 0:
            return float(55 - deep * across * lengthwise)
        beyond = min(across, 0) * max(lengthwise, 0.2) + min(lengthwise, 0) * max(across, 0.2)
        return float(55 - deep * max(beyond, -0.4))

    body = cut(block, above(height, np.linspace(4, 176, 44), np.linspace(2, 118, 31)))
    return cut(body, cylinder(14, 14, 40, 4, 20), cylinder(14, 106, 40, 4, 20))


def lens_mould_insert() -> Any:
    """A mould insert for one panel of the lens: a free-form cavity, a seat around it and four dowel holes."""
    block = round_upright_edges(box(-48, -38, 0, 96, 76, 24), 7)
    block = BRepAlgoAPI_Fuse(block, round_upright_edges(box(-40, -30, 10, 80, 60, 20), 9)).Shape()

    def height(x: float, y: float) -> float:
        dish = (x / 33) ** 2 + (y / 24) ** 2
        wave = 0.9 * np.cos(x / 9.0 + 0.4) * np.cos(y / 11.0)
        return float(30 - 13 + 13 * dish + wave * max(1 - dish, 0) ** 2)

    body = cut(block, above(height, np.linspace(-37, 37, 31), np.linspace(-28, 28, 31)))
    for x, y in ((-42, -32.5), (42, -32.5), (42, 32.5), (-42, 32.5)):
        body = cut(body, cylinder(x, y, 14, 2.8, 20))
    return body


def bored(x: float, y: float, z: float, steps: list[tuple[float, float]], along: tuple[float, float, float]) -> Any:
    """A stepped hole from an opening inwards: (radius, depth from the opening) of each step; begins 5 mm outside."""
    inwards = np.array(along, float) / np.linalg.norm(along)
    x, y, z = (np.array([x, y, z]) - 5 * inwards).tolist()
    tool = None
    for radius, depth in steps:
        one = cylinder(x, y, z, radius, depth + 5, along)
        tool = one if tool is None else BRepAlgoAPI_Fuse(tool, one).Shape()
    return tool


def valve_manifold() -> Any:
    """The manifold of the lamp's oil supply: two ports on top, a gallery through, two ports on leaning faces."""
    body = round_upright_edges(box(0, 0, 0, 110, 70, 50), 6)
    for side in (-1, 1):  # a face leaning by 30° at either end
        wedge = box(-60, -10, 0, 120, 90, 60)
        trsf = gp_Trsf()
        trsf.SetRotation(gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(0, 1, 0)), side * np.deg2rad(30))
        shift = gp_Trsf()
        shift.SetTranslation(gp_Vec(55 + side * 36, 0, 50))
        body = cut(body, BRepBuilderAPI_Transform(wedge, shift.Multiplied(trsf), True).Shape())
    for x in (38, 72):
        body = cut(body, bored(x, 35, 50, [(11, 8), (7, 26)], (0, 0, -1)))
    body = cut(body, cylinder(-5, 35, 26, 5, 120, (1, 0, 0)))
    lean = np.deg2rad(30)
    for side in (-1, 1):
        inwards = (-side * float(np.sin(lean)), 0.0, -float(np.cos(lean)))
        place = np.array([55 + side * 36, 35, 50]) + 9 * np.array([side * np.cos(lean), 0, -np.sin(lean)])
        x, y, z = place.tolist()
        body = cut(body, bored(x, y, z, [(6, 4), (4.25, 16)], inwards))
    for x in (30, 55, 80):
        for y in (8, 62):
            body = cut(body, bored(x, y, 50, [(2.5, 14)], (0, 0, -1)))
    for x, y in ((18, 12), (92, 12), (18, 58), (92, 58)):
        body = cut(body, bored(x, y, 0, [(3.3, 60)], (0, 0, 1)))
    return body


def dial_plate() -> Any:
    """The dial of the clockwork: a disc with a hub bore, a sunk ring for the scale, and six screw holes."""
    disc = cylinder(0, 0, 0, 70, 8)
    ring = cut(cylinder(0, 0, 6.5, 62, 5), cylinder(0, 0, 6, 44, 6))
    disc = cut(disc, ring, cylinder(0, 0, -1, 10, 20))
    for k in range(6):
        turn = np.deg2rad(60 * k + 30)
        x, y = 30 * float(np.cos(turn)), 30 * float(np.sin(turn))
        disc = cut(disc, cylinder(x, y, -1, 2.75, 20), cylinder(x, y, 5, 5, 10))
    return disc


def rail_bracket() -> Any:
    """A bracket of the gallery rail: a plate with a step, a slot and two holes."""
    body = round_upright_edges(box(0, 0, 0, 60, 40, 12), 5)
    body = cut(body, box(38, -1, 7, 40, 60, 10))
    slot = BRepAlgoAPI_Fuse(
        box(10, 17, -1, 16, 6, 30), BRepAlgoAPI_Fuse(cylinder(10, 20, -1, 3, 30), cylinder(26, 20, -1, 3, 30)).Shape()
    ).Shape()
    return cut(body, slot, cylinder(50, 10, -1, 3.3, 20), cylinder(50, 30, -1, 3.3, 20))


def winch_bearing() -> Any:
    """The bearing block of the lamp's winch: two shaft bores, collars sunk from below, an oil groove, four threads."""
    body = cut(box(0, 0, 0, 100, 60, 28), round_upright_edges(box(44, 12, 22, 12, 36, 10), 4))
    for x in (27, 73):
        body = cut(body, cylinder(x, 30, -1, 11, 40), cylinder(x, 30, -1, 15, 7))
    for x, y in ((9, 9), (91, 9), (9, 51), (91, 51)):
        body = cut(body, bored(x, y, 28, [(2.5, 14)], (0, 0, -1)))
    return body


def pump_ring() -> Any:
    """The bilge pump's housing ring: a seat that leans by 12°, and a ruled inner wall from its round foot to a wider
    circle in the seat."""
    seat, lean = gp_Pnt(0, 0, 36), math.radians(12)
    inner = BRepOffsetAPI_ThruSections(True, True)
    for place, along, radius in (
        (gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1), 28.0),
        (gp_Pnt(3, 0, 36 - 3 * math.tan(lean)), gp_Dir(math.sin(lean), 0, math.cos(lean)), 36.0),
    ):
        circle = gp_Circ(gp_Ax2(place, along), radius)
        inner.AddWire(BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(circle).Edge()).Wire())
    inner.Build()
    turn = gp_Trsf()
    turn.SetRotation(gp_Ax1(seat, gp_Dir(0, 1, 0)), lean)
    above = BRepBuilderAPI_Transform(box(-120, -120, 36, 240, 240, 90), turn, True).Shape()
    return cut(cylinder(0, 0, 0, 54, 60), above, inner.Shape())


MODELS = {
    "lantern-bracket.step": lantern_bracket,
    "lens-mould-insert.step": lens_mould_insert,
    "valve-manifold.step": valve_manifold,
    "dial-plate.step": dial_plate,
    "rail-bracket.step": rail_bracket,
    "winch-bearing.step": winch_bearing,
    "pump-ring.step": pump_ring,
    "trumpet-core-half.step": trumpet_core_half,
}


def write_step(shape: Any, path: Path) -> None:
    """Write STEP with a fixed header, so that equal parts give equal files."""
    writer = STEPControl_Writer()
    writer.Transfer(shape, STEPControl_AsIs)
    writer.Write(str(path))
    text = path.read_text("ascii")
    text = re.sub(
        r"FILE_NAME\([^;]*;",
        f"FILE_NAME('{path.name}','2026-01-01T00:00:00',('Skarrow Point workshop'),"
        "('Skarrow Point'),'Fenrik','Fenrik','');",
        text,
        flags=re.S,
    )
    path.write_text(text, "ascii")


def main() -> None:
    FOLDER.mkdir(exist_ok=True)
    for name, make in MODELS.items():
        write_step(make(), FOLDER / name)


if __name__ == "__main__":
    main()

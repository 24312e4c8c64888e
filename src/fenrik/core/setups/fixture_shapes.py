"""Fixtures as exact solids in the setup's frame."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.setups.fixtures import Chuck, MadeFixture, Place, Plate, ToeClamp, Vice, stock_foot
from fenrik.core.solids.model import Solid
from fenrik.core.solids.reading import solid_from_shapes
from fenrik.core.solids.splitting import compound_of
from fenrik.core.solids.xcaf import NamedShape


def made_fixture(fixture: MadeFixture, stock: Points) -> Solid:
    """A parametric fixture as an exact solid in the setup's frame.

    Args:
        stock: (2, 3) box of the stock in the setup's frame.
    """
    makers: dict[str, Any] = {"vice": _vice, "toe clamp": _toe_clamp, "plate": _plate, "chuck": _chuck}
    parts: list[NamedShape] = makers[fixture.kind](fixture, stock)
    move = placement(fixture.place, stock)
    moved = [NamedShape(BRepBuilderAPI_Transform(p.shape, move, True).Shape(), p.name) for p in parts]
    return solid_from_shapes(moved)


def placement(place: Place, stock: Points) -> Any:
    """Open CASCADE's transform from a fixture's own zero into the setup's frame."""
    foot = stock_foot(stock)
    turn, shift = gp_Trsf(), gp_Trsf()
    turn.SetRotation(gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1)), math.radians(place.turn_deg))
    shift.SetTranslation(gp_Vec(*(foot + [place.x_mm, place.y_mm, place.z_mm]).tolist()))
    return shift.Multiplied(turn)


def _box(low: tuple[float, float, float], high: tuple[float, float, float]) -> Any:
    return BRepPrimAPI_MakeBox(gp_Pnt(*low), gp_Pnt(*high)).Shape()


def _cylinder(x: float, y: float, z: float, radius: float, height: float) -> Any:
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(0, 0, 1)), radius, height).Shape()


def _vice(v: Vice, stock: Points) -> list[NamedShape]:
    turned = abs(math.sin(math.radians(v.place.turn_deg))) > 0.7
    opening = v.opening_mm or float(np.ptp(stock, axis=0)[0 if turned else 1])
    half, w, t = opening / 2, v.jaw_width_mm / 2, v.jaw_thickness_mm
    sunk = 0.0 if v.jaws == "hard" else v.ledge_height_mm
    base = _box((-w, -half - t - 10, -sunk - v.base_height_mm), (w, half + t + 10, -sunk))
    jaws = []
    for side in (-1, 1):
        inner, outer = sorted((side * half, side * (half + t)))
        jaw = [_box((-w, inner, -sunk), (w, outer, v.jaw_height_mm))]
        if v.jaws != "hard":
            a, b = sorted((side * half, side * (half - min(v.ledge_mm, half))))
            jaw.append(_box((-w, a, -sunk), (w, b, 0)))
        shape = jaw[0] if len(jaw) == 1 else _fused(jaw)
        if v.jaws == "soft":
            # The nest is as long as the stock; outside it the jaw closes up to the ledge.
            nest = float(np.ptp(stock, axis=0)[1 if turned else 0]) / 2
            if nest < w:
                a, b = sorted((side * half, side * (half - min(v.ledge_mm, half))))
                cheeks = [_box((x0, a, 0), (x1, b, v.jaw_height_mm)) for x0, x1 in ((-w, -nest), (nest, w))]
                shape = _fused([shape, *cheeks])
        jaws.append(shape)
    name = v.name or "vice"
    return [
        NamedShape(base, f"{name} base"),
        NamedShape(jaws[0], f"{name} fixed jaw"),
        NamedShape(jaws[1], f"{name} moving jaw"),
    ]


def _fused(shapes: list[Any]) -> Any:
    result = shapes[0]
    for other in shapes[1:]:
        result = BRepAlgoAPI_Fuse(result, other).Shape()
    return result


def _toe_clamp(c: ToeClamp, _stock: Points) -> list[NamedShape]:
    w = c.width_mm / 2
    strap = _box((-c.reach_mm, -w, 0), (c.length_mm - c.reach_mm, w, c.thickness_mm))
    heel_length = min(15.0, c.length_mm / 3)
    end = c.length_mm - c.reach_mm
    heel = _box((end - heel_length, -w, -c.support_mm), (end, w, 0))
    return [NamedShape(_fused([strap, heel]), c.name or "toe clamp")]


def _plate(p: Plate, _stock: Points) -> list[NamedShape]:
    body = _box((-p.size_x_mm / 2, -p.size_y_mm / 2, -p.thickness_mm), (p.size_x_mm / 2, p.size_y_mm / 2, 0))
    holes = [_cylinder(x, y, -p.thickness_mm - 1, p.hole_mm / 2, p.thickness_mm + 2) for x, y in p.hole_places()]
    if holes:
        body = BRepAlgoAPI_Cut(body, compound_of(holes)).Shape()
    return [NamedShape(body, p.name or "plate")]


def _chuck(c: Chuck, stock: Points) -> list[NamedShape]:
    grip = (c.grip_mm or float(np.ptp(stock, axis=0)[:2].min())) / 2
    if grip >= c.diameter_mm:
        raise fail(
            "fixture.grip_mm", f"is wider than the chuck ({c.diameter_mm:g} mm).", "Take a larger chuck.", 2 * grip
        )
    name = c.name or "chuck"
    shapes = [NamedShape(_cylinder(0, 0, -c.height_mm, c.diameter_mm / 2, c.height_mm), f"{name} body")]
    for k in range(c.jaws):
        jaw = BRepAlgoAPI_Cut(
            _box((0, -c.jaw_width_mm / 2, 0), (grip + c.jaw_length_mm, c.jaw_width_mm / 2, c.jaw_height_mm)),
            _cylinder(0, 0, -1, grip, c.jaw_height_mm + 2),
        ).Shape()
        turn = gp_Trsf()
        turn.SetRotation(gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1)), 2 * math.pi * k / c.jaws)
        shapes.append(NamedShape(BRepBuilderAPI_Transform(jaw, turn, True).Shape(), f"{name} jaw {k + 1}"))
    return shapes

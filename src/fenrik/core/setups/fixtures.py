"""What holds the part: vices, clamps, plates, chucks, or bodies and files; as exact solids in the setup's frame.

Every fixture stands at a place relative to the middle of the stock's underside, so that it keeps its place when the
stock changes. Its own zero is where it carries the part.
"""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from pydantic import BaseModel, ConfigDict, Field, model_validator

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.solids.model import Solid
from fenrik.core.solids.reading import solid_from_shapes
from fenrik.core.solids.splitting import compound_of
from fenrik.core.solids.xcaf import NamedShape

MM: dict[str, Any] = {"unit": "mm"}
MAX_PLATE_HOLES = 600


class _Doc(BaseModel):
    model_config = ConfigDict(extra="forbid")


def _length(default: float, title: str, description: str = "", least: float = 0.1) -> Any:
    return Field(default=default, ge=least, le=5000, title=title, description=description or None, json_schema_extra=MM)


class Place(_Doc):
    """Where a fixture stands, from the middle of the stock's underside, and how it is turned about z."""

    x_mm: float = Field(default=0, ge=-10_000, le=10_000, title="X", json_schema_extra=MM)
    y_mm: float = Field(default=0, ge=-10_000, le=10_000, title="Y", json_schema_extra=MM)
    z_mm: float = Field(default=0, ge=-10_000, le=10_000, title="Z", json_schema_extra=MM)
    turn_deg: float = Field(default=0, ge=-360, le=360, title="Turn about Z", json_schema_extra={"unit": "deg"})


class _Fixture(_Doc):
    id: str = Field(pattern=r"^[a-z0-9-]{1,40}$")
    name: str = Field(default="", max_length=80, title="Name")
    place: Place = Field(default_factory=Place, title="Place")


class Vice(_Fixture):
    """Two jaws that grip along y; the part stands on the base, on steps, or in a nest cut into soft jaws."""

    kind: Literal["vice"] = "vice"
    jaws: Literal["hard", "step", "soft"] = Field(default="hard", title="Jaws")
    opening_mm: float | None = Field(
        default=None, gt=0, le=2000, title="Opening", description="Empty: the stock's width", json_schema_extra=MM
    )
    jaw_width_mm: float = _length(125, "Jaw width")
    jaw_height_mm: float = _length(30, "Jaw height", "Above where the part stands")
    jaw_thickness_mm: float = _length(20, "Jaw thickness")
    base_height_mm: float = _length(50, "Base height", "From the table to where the part stands")
    ledge_mm: float = _length(4, "Ledge", "How far step or nest reaches under the part")
    ledge_height_mm: float = _length(12, "Ledge height", "Of step or nest above the base")


class ToeClamp(_Fixture):
    """A strap that presses down at its nose; its zero is the nose's underside."""

    kind: Literal["toe clamp"] = "toe clamp"
    length_mm: float = _length(70, "Length")
    width_mm: float = _length(25, "Width")
    thickness_mm: float = _length(14, "Thickness")
    reach_mm: float = _length(10, "Reach", "Of the nose over the part")
    support_mm: float = _length(20, "Support", "Height of the heel block")


class Plate(_Fixture):
    """A plate with a grid of holes; its zero is the middle of its top."""

    kind: Literal["plate"] = "plate"
    size_x_mm: float = _length(300, "Size X")
    size_y_mm: float = _length(200, "Size Y")
    thickness_mm: float = _length(25, "Thickness")
    pitch_mm: float = _length(25, "Hole pitch")
    hole_mm: float = Field(default=10, ge=0, le=200, title="Hole", description="0: none", json_schema_extra=MM)

    @model_validator(mode="after")
    def _holes_fit(self) -> Plate:
        if self.hole_mm > 0:
            if self.hole_mm >= self.pitch_mm:
                raise ValueError(f"the holes ({self.hole_mm:g} mm) are wider than their pitch ({self.pitch_mm:g} mm)")
            count = len(self.hole_places())
            if count > MAX_PLATE_HOLES:
                raise ValueError(f"{count} holes are too many (at most {MAX_PLATE_HOLES}); widen the pitch")
        return self

    def hole_places(self) -> list[tuple[float, float]]:
        """Middles of the holes."""
        nx, ny = (int((s - self.pitch_mm) // (2 * self.pitch_mm)) for s in (self.size_x_mm, self.size_y_mm))
        if min(nx, ny) < 0 or self.hole_mm <= 0:
            return []
        return [(i * self.pitch_mm, j * self.pitch_mm) for i in range(-nx, nx + 1) for j in range(-ny, ny + 1)]


class Chuck(_Fixture):
    """A chuck with its axis along z; its zero is the middle of its face."""

    kind: Literal["chuck"] = "chuck"
    diameter_mm: float = _length(160, "Diameter")
    height_mm: float = _length(70, "Height")
    jaws: int = Field(default=3, ge=2, le=6, title="Jaws")
    grip_mm: float | None = Field(
        default=None, gt=0, le=2000, title="Grip diameter", description="Empty: the stock's", json_schema_extra=MM
    )
    jaw_height_mm: float = _length(25, "Jaw height")
    jaw_width_mm: float = _length(22, "Jaw width")
    jaw_length_mm: float = _length(40, "Jaw length")


class BodyFixture(_Fixture):
    """A body of the model, where it stands in the model."""

    kind: Literal["body"] = "body"
    body: str = Field(max_length=200, title="Body")


class FileFixture(_Fixture):
    """A model file of the job; its zero is the file's own."""

    kind: Literal["file"] = "file"
    file: str = Field(max_length=200, title="File")


Fixture = Annotated[Vice | ToeClamp | Plate | Chuck | BodyFixture | FileFixture, Field(discriminator="kind")]
MadeFixture = Vice | ToeClamp | Plate | Chuck


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


def stock_foot(stock: Points) -> Points:
    """The middle of the stock's underside."""
    return np.array([*(stock[0, :2] + stock[1, :2]) / 2, stock[0, 2]])


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
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Fuse

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

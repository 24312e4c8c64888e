"""Construction geometry as the document holds it, and how it becomes curves."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.errors import fail
from fenrik.core.frames import Frame, Points
from fenrik.core.sketches.curve import Curve, join_curves, offset_curve, trim_curve
from fenrik.core.sketches.files import read_drawing
from fenrik.core.sketches.text import text_curves
from fenrik.core.solids import EdgeReference, Solid, find_edge
from fenrik.core.solids.model import Edge

MM: dict[str, Any] = {"unit": "mm"}
DEG: dict[str, Any] = {"unit": "deg"}
FLAT_MM = 1e-6


class _Item(BaseModel):
    model_config = ConfigDict(extra="forbid")
    id: str = Field(pattern=r"^[a-z0-9-]{1,40}$")


def _place(title: str) -> Any:
    return Field(default=0, ge=-100_000, le=100_000, title=title, json_schema_extra=MM)


def _size(default: float, title: str) -> Any:
    return Field(default=default, gt=0, le=100_000, title=title, json_schema_extra=MM)


def _angle(default: float, title: str) -> Any:
    return Field(default=default, ge=-720, le=720, title=title, json_schema_extra=DEG)


class PointItem(_Item):
    """A place."""

    kind: Literal["point"] = "point"
    x_mm: float = _place("X")
    y_mm: float = _place("Y")


class LineItem(_Item):
    """A straight line between two places."""

    kind: Literal["line"] = "line"
    x_mm: float = _place("X")
    y_mm: float = _place("Y")
    to_x_mm: float = _place("To X")
    to_y_mm: float = _place("To Y")


class ArcItem(_Item):
    """Part of a circle; a negative sweep runs clockwise."""

    kind: Literal["arc"] = "arc"
    x_mm: float = _place("Centre X")
    y_mm: float = _place("Centre Y")
    radius_mm: float = _size(10, "Radius")
    start_deg: float = _angle(0, "Starts at")
    sweep_deg: float = _angle(90, "Sweep")


class CircleItem(_Item):
    """A whole circle."""

    kind: Literal["circle"] = "circle"
    x_mm: float = _place("Centre X")
    y_mm: float = _place("Centre Y")
    radius_mm: float = _size(10, "Radius")


class RectangleItem(_Item):
    """A rectangle about its middle, with rounded corners where wished."""

    kind: Literal["rectangle"] = "rectangle"
    x_mm: float = _place("Middle X")
    y_mm: float = _place("Middle Y")
    width_mm: float = _size(40, "Width")
    height_mm: float = _size(20, "Height")
    corner_mm: float = Field(default=0, ge=0, le=100_000, title="Corner radius", json_schema_extra=MM)
    turn_deg: float = _angle(0, "Turn")


class OffsetItem(_Item):
    """Another item at a distance: outwards above 0."""

    kind: Literal["offset"] = "offset"
    of: str = Field(title="Of", max_length=40)
    distance_mm: float = Field(default=2, ge=-10_000, le=10_000, title="Distance", json_schema_extra=MM)


class TrimItem(_Item):
    """The piece of an item, between its meetings with others, that lies nearest to a place."""

    kind: Literal["trim"] = "trim"
    of: str = Field(title="Of", max_length=40)
    by: list[str] = Field(min_length=1, max_length=50, title="By")
    x_mm: float = _place("Keep near X")
    y_mm: float = _place("Keep near Y")


class EdgesItem(_Item):
    """Picked edges of the part, seen along the frame's z."""

    kind: Literal["edges"] = "edges"
    edges: list[EdgeReference] = Field(min_length=1, max_length=2000)


class DrawingItem(_Item):
    """A DXF or SVG file of the job."""

    kind: Literal["drawing"] = "drawing"
    file: str = Field(max_length=200, title="File")
    layer: str = Field(default="", max_length=200, title="Layer", description="Empty: all")
    x_mm: float = _place("X")
    y_mm: float = _place("Y")
    turn_deg: float = _angle(0, "Turn")
    scale: float = Field(default=1, gt=0, le=10_000, title="Scale")


class TextItem(_Item):
    """Text in a single-line font."""

    kind: Literal["text"] = "text"
    text: str = Field(min_length=1, max_length=400, title="Text")
    x_mm: float = _place("X")
    y_mm: float = _place("Y")
    height_mm: float = _size(5, "Height")
    turn_deg: float = _angle(0, "Turn")
    align: Literal["left", "middle", "right"] = Field(default="left", title="Align")


Item = Annotated[
    PointItem
    | LineItem
    | ArcItem
    | CircleItem
    | RectangleItem
    | OffsetItem
    | TrimItem
    | EdgesItem
    | DrawingItem
    | TextItem,
    Field(discriminator="kind"),
]


class Sketch(BaseModel):
    """Curves on a setup's work frame (or the part's own where none is named), at a height."""

    model_config = ConfigDict(extra="forbid")
    id: str = Field(pattern=r"^[a-z0-9-]{1,40}$")
    name: str = Field(default="", max_length=80, title="Name")
    setup: str = Field(default="", max_length=40, title="On the frame of")
    level_mm: float = Field(default=0, ge=-10_000, le=10_000, title="Level", json_schema_extra=MM)
    items: list[Item] = Field(default_factory=list, max_length=2000)


Files = Callable[[str], bytes]


def sketch_curves(sketch: Sketch, solid: Solid | None, frame: Frame, files: Files) -> dict[str, list[Curve]]:
    """The curves of each item, in the frame; points have none.

    Args:
        frame: with the work zero as its origin.
        files: gives the bytes of a file of the job.

    Raises:
        FenrikError: naming the item, when it refers to nothing, to itself, or to lost edges.
    """
    by_id = {i.id: i for i in sketch.items}
    done: dict[str, list[Curve]] = {}
    under_way: set[str] = set()

    def curves_of(item_id: str, field: str) -> list[Curve]:
        if item_id in done:
            return done[item_id]
        if item_id not in by_id:
            raise fail(field, "names an item that is not there.", "Choose another item.", item_id)
        if item_id in under_way:
            raise fail(field, "goes round in a circle.", "Let it refer to an item before it.", item_id)
        under_way.add(item_id)
        done[item_id] = make(by_id[item_id], f"sketches.{sketch.id}.items.{item_id}")
        under_way.discard(item_id)
        return done[item_id]

    def make(item: Any, field: str) -> list[Curve]:
        if isinstance(item, OffsetItem):
            return [c for one in curves_of(item.of, f"{field}.of") for c in offset_curve(one, item.distance_mm)]
        if isinstance(item, TrimItem):
            cutters = [c for other in item.by for c in curves_of(other, f"{field}.by")]
            keep = np.array([item.x_mm, item.y_mm])
            return [trim_curve(c, cutters, keep) for c in curves_of(item.of, f"{field}.of")]
        if isinstance(item, EdgesItem):
            if solid is None:
                raise fail(field, "needs a part.", "Bring in a model first.")
            return join_curves([_projected(solid, e, frame, field) for e in item.edges])
        if isinstance(item, DrawingItem):
            shift = np.array([item.x_mm, item.y_mm])
            curves = read_drawing(files(item.file), item.file, item.layer)
            return [c.moved(shift, item.turn_deg, item.scale) for c in curves]
        return _plain(item)

    for item in sketch.items:
        curves_of(item.id, f"sketches.{sketch.id}")
    return {i.id: done[i.id] for i in sketch.items}


def _plain(item: Any) -> list[Curve]:
    if isinstance(item, LineItem):
        return [Curve.polyline([[item.x_mm, item.y_mm], [item.to_x_mm, item.to_y_mm]])]
    if isinstance(item, ArcItem):
        return [Curve.arc(np.array([item.x_mm, item.y_mm]), item.radius_mm, item.start_deg, item.sweep_deg)]
    if isinstance(item, CircleItem):
        return [Curve.arc(np.array([item.x_mm, item.y_mm]), item.radius_mm, 0, 360)]
    if isinstance(item, RectangleItem):
        return [_rectangle(item)]
    if isinstance(item, TextItem):
        place = np.array([item.x_mm, item.y_mm])
        return [c.moved(place, item.turn_deg) for c in text_curves(item.text, item.height_mm, item.align)]
    return []


def _rectangle(item: RectangleItem) -> Curve:
    w, h = item.width_mm / 2, item.height_mm / 2
    r = min(item.corner_mm, w, h)
    quarter = float(np.tan(np.pi / 8))
    places: list[tuple[float, float]] = []
    bulges: list[float] = []
    for x, y, first, second in (
        (w, -h, (w - r, -h), (w, -h + r)),
        (w, h, (w, h - r), (w - r, h)),
        (-w, h, (-w + r, h), (-w, h - r)),
        (-w, -h, (-w, -h + r), (-w + r, -h)),
    ):
        places += [first, second] if r > 0 else [(x, y)]
        bulges += [quarter, 0.0] if r > 0 else [0.0]
    return Curve(np.array(places, float), np.array(bulges), True).moved(np.array([item.x_mm, item.y_mm]), item.turn_deg)


def _projected(solid: Solid, reference: EdgeReference, frame: Frame, field: str) -> Curve:
    return projected_edge(solid.edges[find_edge(solid, reference, f"{field}.edges")], frame)


def projected_edge(edge: Edge, frame: Frame) -> Curve:
    """An edge seen along the frame's z; arcs stay arcs where they lie level."""
    places: Points = frame.to_local(edge.points)[:, :2]
    if edge.kind == "circle" and edge.axis is not None and edge.centre is not None and edge.radius_mm:
        upright = float(np.array(edge.axis) @ frame.rotation[:, 2])
        if abs(upright) > 1 - FLAT_MM:
            centre = frame.to_local(np.array([edge.centre]))[0, :2]
            away = places - centre
            turn = np.unwrap(np.arctan2(away[:, 1], away[:, 0]))
            sweep = np.sign(turn[-1] - turn[0]) * np.rad2deg(edge.length_mm / edge.radius_mm)
            return Curve.arc(centre, edge.radius_mm, float(np.rad2deg(turn[0])), float(sweep))
    if edge.kind == "line":
        return Curve.polyline(places[[0, -1]])
    return Curve.polyline(places[:-1], True) if edge.closed else Curve.polyline(places)

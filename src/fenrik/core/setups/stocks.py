"""Stocks as people order them: block, round bar, hexagon, the part's outline pulled up or turned, a body, a mesh file,
or what an earlier setup left."""

from __future__ import annotations

import itertools
import math
from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
import shapely
from pydantic import BaseModel, ConfigDict, Field
from shapely.geometry import Point, Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact.region import part_outline
from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh

MM: dict[str, Any] = {"unit": "mm"}
ROUND_TOLERANCE_MM = 0.002
OUTLINE_TOLERANCE_MM = 0.05
TURN_LEVELS = 400
Axis = Literal["x", "y", "z"]


class _Doc(BaseModel):
    model_config = ConfigDict(extra="forbid")


def _allowance(default: float, title: str) -> Any:
    return Field(default=default, ge=0, le=1000, title=title, json_schema_extra=MM)


class _RoundUp(_Doc):
    round_up: bool = Field(
        default=False, title="From the stock list", description="Round sizes up to what the shop keeps"
    )


class BoxStock(_RoundUp):
    """A block around the part with an allowance on each side (in the setup's frame)."""

    kind: Literal["box"] = "box"
    x_minus_mm: float = _allowance(2, "Left (−X)")
    x_plus_mm: float = _allowance(2, "Right (+X)")
    y_minus_mm: float = _allowance(2, "Front (−Y)")
    y_plus_mm: float = _allowance(2, "Back (+Y)")
    z_minus_mm: float = _allowance(0, "Below (−Z)")
    z_plus_mm: float = _allowance(1, "Above (+Z)")


class BarStock(_RoundUp):
    """A round bar along one of the setup's axes."""

    kind: Literal["round bar"] = "round bar"
    axis: Axis = Field(default="z", title="Bar runs along")
    radial_mm: float = _allowance(1, "All round")
    start_mm: float = _allowance(1, "At the low end")
    end_mm: float = _allowance(1, "At the high end")
    bore_mm: float = Field(default=0, ge=0, le=2000, title="Bore", description="Tube: its bore", json_schema_extra=MM)


class HexagonStock(_RoundUp):
    """A hexagonal bar along one of the setup's axes."""

    kind: Literal["hexagon bar"] = "hexagon bar"
    axis: Axis = Field(default="x", title="Bar runs along")
    radial_mm: float = _allowance(1, "All round")
    start_mm: float = _allowance(1, "At the low end")
    end_mm: float = _allowance(1, "At the high end")


class OutlineStock(_RoundUp):
    """The part's outline seen from above, pulled up."""

    kind: Literal["outline"] = "outline"
    around_mm: float = _allowance(2, "All round")
    z_minus_mm: float = _allowance(0, "Below (−Z)")
    z_plus_mm: float = _allowance(1, "Above (+Z)")


class TurnedStock(_Doc):
    """The part's outline turned round an axis through its middle."""

    kind: Literal["turned outline"] = "turned outline"
    axis: Axis = Field(default="z", title="Turned about")
    radial_mm: float = _allowance(1, "All round")
    start_mm: float = _allowance(1, "At the low end")
    end_mm: float = _allowance(1, "At the high end")


class BodyStock(_Doc):
    """A body of the model file."""

    kind: Literal["body"] = "body"
    body: str = Field(max_length=200, title="Body")


class MeshStock(_Doc):
    """A model file of its own, in part coordinates: a casting, a scan."""

    kind: Literal["file"] = "file"
    file: str = Field(max_length=200, title="File")


class EarlierStock(_Doc):
    """What an earlier setup left, at its end or after one of its rows."""

    kind: Literal["earlier setup"] = "earlier setup"
    setup: str = Field(max_length=40, title="Setup")
    after: int | None = Field(
        default=None, ge=1, le=9999, title="After row", description="Of that setup; empty: all of them"
    )


StockShape = Annotated[
    BoxStock | BarStock | HexagonStock | OutlineStock | TurnedStock | BodyStock | MeshStock | EarlierStock,
    Field(discriminator="kind"),
]
MadeStock = BoxStock | BarStock | HexagonStock | OutlineStock | TurnedStock


class StockList(_Doc):
    """What the shop keeps: sizes to which stocks are rounded up."""

    bars_mm: list[float] = Field(
        default=[10, 12, 16, 20, 25, 30, 35, 40, 50, 60, 70, 80, 100, 120, 150, 200], max_length=200
    )
    hexagons_mm: list[float] = Field(default=[8, 10, 13, 17, 19, 24, 27, 30, 36, 41, 46, 55, 65], max_length=200)
    plates_mm: list[float] = Field(default=[5, 6, 8, 10, 12, 15, 20, 25, 30, 35, 40, 50, 60, 80, 100], max_length=200)
    saw_step_mm: float = Field(default=5, gt=0, le=1000, description="lengths are sawn to whole steps")


def next_size(sizes: list[float], wanted: float, field: str) -> float:
    """The smallest size kept that is at least what is wanted.

    Raises:
        FenrikError: when the shop keeps nothing so large.
    """
    fits = [s for s in sizes if s >= wanted - 1e-9]
    if not fits:
        raise fail(
            field, f"needs {wanted:.4g} mm; the largest size kept is {max(sizes, default=0):g} mm.",
            "Add a size to the stock list, or switch rounding off.", wanted,
        )  # fmt: skip
    return min(fits)


def sawn(length: float, kept: StockList) -> float:
    """A length rounded up to whole steps of the saw."""
    return math.ceil(length / kept.saw_step_mm - 1e-9) * kept.saw_step_mm


def stock_bounds(stock: MadeStock, part: Points, kept: StockList, reach_mm: float | None = None) -> Points:
    """Lowest and highest corner of a stock.

    Args:
        part: (2, 3) box of the part in the setup's frame.
        reach_mm: for a turned outline, the largest distance of the part from its axis.
    """
    low, high = part.copy()
    if isinstance(stock, BoxStock):
        low = low - [stock.x_minus_mm, stock.y_minus_mm, stock.z_minus_mm]
        high = high + [stock.x_plus_mm, stock.y_plus_mm, stock.z_plus_mm]
        return _rounded_box(low, high, kept) if stock.round_up else np.array([low, high])
    if isinstance(stock, OutlineStock):
        low = low - [stock.around_mm, stock.around_mm, stock.z_minus_mm]
        high = high + [stock.around_mm, stock.around_mm, stock.z_plus_mm]
        if stock.round_up:
            low[2] = high[2] - next_size(kept.plates_mm, float(high[2] - low[2]), "stock.thickness")
        return np.array([low, high])
    a = "xyz".index(stock.axis)
    b, c = (a + 1) % 3, (a + 2) % 3
    middle = (low + high) / 2
    low[a], high[a] = low[a] - stock.start_mm, high[a] + stock.end_mm
    if getattr(stock, "round_up", False):
        high[a] = low[a] + sawn(float(high[a] - low[a]), kept)
    half = bar_half_width(stock, part, kept, reach_mm)
    wide = half / math.cos(math.pi / 6) if isinstance(stock, HexagonStock) else half
    low[b], high[b] = middle[b] - wide, middle[b] + wide
    low[c], high[c] = middle[c] - half, middle[c] + half
    return np.array([low, high])


def _rounded_box(low: Points, high: Points, kept: StockList) -> Points:
    """Lengths to the saw's step, the extra on both sides; the thickness to a plate, the extra below."""
    size = high - low
    for axis in (0, 1):
        extra = sawn(float(size[axis]), kept) - size[axis]
        low[axis] -= extra / 2
        high[axis] += extra / 2
    low[2] = high[2] - next_size(kept.plates_mm, float(size[2]), "stock.thickness")
    return np.array([low, high])


def bar_half_width(
    stock: BarStock | HexagonStock | TurnedStock, part: Points, kept: StockList, reach_mm: float | None
) -> float:
    """Radius of a round bar or turned outline, half the width across flats of a hexagon."""
    a = "xyz".index(stock.axis)
    b, c = (a + 1) % 3, (a + 2) % 3
    half = np.ptp(part, axis=0)[[b, c]] / 2
    if isinstance(stock, TurnedStock):
        return (reach_mm if reach_mm is not None else float(np.hypot(*half))) + stock.radial_mm
    if isinstance(stock, BarStock):
        diameter = 2 * ((reach_mm if reach_mm is not None else float(np.hypot(*half))) + stock.radial_mm)
        return (next_size(kept.bars_mm, diameter, "stock.diameter") if stock.round_up else diameter) / 2
    # Corners of the part's box must lie inside the flats: |c| ≤ w and |c|/2 + |b|·cos 30° ≤ w.
    width = 2 * max(float(half[1]), float(half[1]) / 2 + float(half[0]) * math.cos(math.pi / 6)) + 2 * stock.radial_mm
    return (next_size(kept.hexagons_mm, width, "stock.width") if stock.round_up else width) / 2


def reach_about(mesh: Mesh, axis: Axis, middle: Points) -> float:
    """Largest distance of a part from an axis through the middle of its box."""
    a = "xyz".index(axis)
    away = np.delete(mesh.vertices[np.unique(mesh.triangles)] - middle, a, axis=1)
    return float(np.linalg.norm(away, axis=1).max())


def made_stock_mesh(stock: MadeStock, part: Mesh, bounds: Points, kept: StockList) -> tuple[Mesh, float]:
    """A stock as a closed mesh in the setup's frame, and how far it may stand from the exact shape.

    Args:
        bounds: (2, 3) exact box of the part.
    """
    if isinstance(stock, BoxStock):
        low, high = stock_bounds(stock, bounds, kept)
        return box_mesh(low, high), 0.0
    if isinstance(stock, OutlineStock):
        low, high = stock_bounds(stock, bounds, kept)
        size = float(np.ptp(bounds, axis=0)[:2].max())
        outline = part_outline(part, max(size / 400, 0.05), OUTLINE_TOLERANCE_MM).buffer(stock.around_mm)
        return pull_up(outline, low[2], high[2], "z"), OUTLINE_TOLERANCE_MM
    middle = bounds.mean(axis=0)
    reach = reach_about(part, stock.axis, middle) if not isinstance(stock, HexagonStock) else None
    low, high = stock_bounds(stock, bounds, kept, reach)
    a = "xyz".index(stock.axis)
    half = bar_half_width(stock, bounds, kept, reach)
    centre = np.array([middle[(a + 1) % 3], middle[(a + 2) % 3]])
    if isinstance(stock, HexagonStock):
        turn = np.deg2rad(np.arange(0, 360, 60))
        corners = centre + half / math.cos(math.pi / 6) * np.column_stack([np.cos(turn), np.sin(turn)])
        return pull_up(Polygon(corners), low[a], high[a], stock.axis), 0.0
    if isinstance(stock, BarStock):
        shape: BaseGeometry = disc(centre, half)
        if stock.bore_mm > 0:
            if stock.bore_mm >= 2 * half:
                raise fail(
                    "stock.bore_mm", f"is as wide as the bar ({2 * half:.4g} mm).", "Make it smaller.", stock.bore_mm
                )
            shape = shape.difference(disc(centre, stock.bore_mm / 2))
        return pull_up(shape, low[a], high[a], stock.axis), ROUND_TOLERANCE_MM
    return _turned(stock, part, middle, low[a], high[a]), ROUND_TOLERANCE_MM


def disc(centre: Points, radius: float) -> Polygon:
    """A circle as a polygon within `ROUND_TOLERANCE_MM`."""
    count = max(int(math.ceil(math.pi / math.acos(max(1 - ROUND_TOLERANCE_MM / radius, -1.0)))), 12)
    return Polygon(Point(*centre).buffer(radius, quad_segs=(count + 3) // 4))


def box_mesh(low: Points, high: Points) -> Mesh:
    """A block as twelve triangles."""
    return pull_up(shapely.box(float(low[0]), float(low[1]), float(high[0]), float(high[1])), low[2], high[2], "z")


def pull_up(shape: BaseGeometry, low: float, high: float, axis: Axis) -> Mesh:
    """Polygons (with holes) pulled from `low` to `high` along an axis: a closed mesh.

    The plane of the polygons is spanned by the two axes that follow the axis in the order x, y, z.
    """
    corners: list[np.ndarray] = []
    for polygon in getattr(shape, "geoms", [shape]):
        polygon = shapely.geometry.polygon.orient(polygon)
        for triangle in shapely.constrained_delaunay_triangles(polygon).geoms:
            ring = np.array(shapely.geometry.polygon.orient(triangle).exterior.coords)[:3]
            corners.append(_lift(ring, high))
            corners.append(_lift(ring[::-1], low))
        for ring in (polygon.exterior, *polygon.interiors):
            points = np.array(ring.coords)
            for p, q in itertools.pairwise(points):
                a, b = _lift(np.array([p, q]), low), _lift(np.array([q, p]), high)
                corners += [np.array([a[0], a[1], b[0]]), np.array([a[0], b[0], b[1]])]
    if not corners:
        raise fail("stock", "has no outline.", "Choose another shape for the stock.")
    placed = np.array(corners)
    order = {"z": [0, 1, 2], "x": [2, 0, 1], "y": [1, 2, 0]}[axis]
    return _mesh_of(placed[:, :, order])


def _lift(points: Points, height: float) -> Points:
    return np.column_stack([points[:, :2], np.full(len(points), height)])


def _mesh_of(corners: Points) -> Mesh:
    from fenrik.core.solids.facets import weld_equal

    vertices, triangles = weld_equal(corners)
    return Mesh(vertices, triangles, np.zeros(len(triangles), np.int32))


def _turned(stock: TurnedStock, part: Mesh, middle: Points, low: float, high: float) -> Mesh:
    """The widest radius of the part at each place along the axis, grown and turned round."""
    a = "xyz".index(stock.axis)
    corners = part.corners() - np.where(np.arange(3) == a, 0.0, middle)
    along = corners[:, :, a]
    radius = np.linalg.norm(np.delete(corners, a, axis=2), axis=2)
    levels = np.linspace(along.min(), along.max(), TURN_LEVELS)
    widest = np.zeros(len(levels))
    for p, q in ((0, 1), (1, 2), (2, 0)):
        # Along a straight edge the radius is at most that of the chord between its ends.
        z0, z1, r0, r1 = along[:, p], along[:, q], radius[:, p], radius[:, q]
        first = np.searchsorted(levels, np.minimum(z0, z1))
        last = np.searchsorted(levels, np.maximum(z0, z1), side="right")
        slope = (r1 - r0) / np.where(np.abs(z1 - z0) < 1e-12, np.inf, z1 - z0)
        for k in range(int((last - first).max(initial=0))):
            row = first + k
            ok = row < last
            at = levels[row[ok]]
            reach = np.where(z0[ok] == z1[ok], np.maximum(r0[ok], r1[ok]), r0[ok] + slope[ok] * (at - z0[ok]))
            np.maximum.at(widest, row[ok], reach)
    # Between two levels the wider one counts, so that no corner between them is lost.
    step = (levels[-1] - levels[0]) / (len(levels) - 1)
    np.maximum.at(
        widest, np.clip(np.rint((along - levels[0]) / step).astype(int), 0, len(levels) - 1).ravel(), radius.ravel()
    )
    wide = np.maximum(widest, np.maximum(np.append(widest[1:], 0), np.append(0, widest[:-1]))) + stock.radial_mm
    profile = np.column_stack([wide, levels])
    profile = np.vstack([[0, low], [wide[0], low], profile, [wide[-1], high], [0, high]])
    return _revolve(profile, stock.axis, middle)


def _revolve(profile: Points, axis: Axis, middle: Points) -> Mesh:
    """A chain of (radius, place along the axis) that begins and ends on the axis, turned round it."""
    most = float(profile[:, 0].max())
    count = max(int(math.ceil(math.pi / math.acos(1 - ROUND_TOLERANCE_MM / most))), 24)
    turn = np.linspace(0, 2 * np.pi, count + 1)
    ring = np.column_stack([np.cos(turn), np.sin(turn)])
    ring[-1] = ring[0]
    corners = []
    for (r0, z0), (r1, z1) in itertools.pairwise(profile):
        a, b = _lift(ring * r0, z0), _lift(ring * r1, z1)
        if r0 > 0:
            corners.append(np.stack([a[:-1], a[1:], b[1:]], axis=1))
        if r1 > 0:
            corners.append(np.stack([a[:-1], b[1:], b[:-1]], axis=1))
    order = {"z": [0, 1, 2], "x": [2, 0, 1], "y": [1, 2, 0]}[axis]
    mesh = _mesh_of(np.concatenate(corners)[:, :, order])
    sides = mesh.corners()[:, 1:] - mesh.corners()[:, :1]
    good = np.linalg.norm(np.cross(sides[:, 0], sides[:, 1]), axis=1) > 1e-14
    return replace(
        mesh,
        vertices=mesh.vertices + np.where(np.arange(3) == "xyz".index(axis), 0.0, middle),
        triangles=mesh.triangles[good],
        face_ids=mesh.face_ids[good],
    )

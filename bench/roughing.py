"""Roughing with a held load, on parts made here: engagement, what is left, time, air, retracts, size."""

from __future__ import annotations

import resource
import sys
import time
from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely
from numba import njit

from common import show

CELL_SHARE, SAMPLE_SHARE = 0.02, 0.1
"""Of the measuring raster's cells and of the samples along motions, in radii."""
FILM_MM = 0.02
RINGS = 720


@dataclass
class Piece:
    """A part with the box it is cut from.

    Attributes:
        shape: Open CASCADE. box: (2, 3). radius_mm: of the cutter. allowance_mm: on walls.
    """

    name: str
    shape: Any
    box: np.ndarray
    radius_mm: float
    stepdown_mm: float
    allowance_mm: float = 0.0


@dataclass
class Measured:
    """What a path does, on a raster of heights of its own.

    Attributes:
        held_deg: (n,) engagement of the samples of cuts. air_mm, cut_mm: length at cutting feed without removal, and in
            all. tops: heights afterwards.
    """

    held_deg: np.ndarray
    air_mm: float
    cut_mm: float
    tops: np.ndarray
    place: np.ndarray


@njit(cache=False)
def _walk(tops, x0, y0, cell, radius, film, start, end, kind, cutting, entering, step):  # type: ignore[no-untyped-def]
    held = []
    places = []
    air, cut = 0.0, 0.0
    reach = int(radius / cell) + 1
    for m in range(len(start)):
        length = np.sqrt(((end[m] - start[m]) ** 2).sum())
        pieces = max(int(np.ceil(length / step)), 1)
        flat = np.hypot(end[m, 0] - start[m, 0], end[m, 1] - start[m, 1])
        for k in range(1, pieces + 1):
            t = k / pieces
            x = start[m, 0] + t * (end[m, 0] - start[m, 0])
            y = start[m, 1] + t * (end[m, 1] - start[m, 1])
            z = start[m, 2] + t * (end[m, 2] - start[m, 2])
            if kind[m] == cutting and flat > 1e-9:
                ux, uy = (end[m, 0] - start[m, 0]) / flat, (end[m, 1] - start[m, 1]) / flat
                touching = 0
                for a in range(RINGS // 2):
                    angle = -np.pi / 2 + (a + 0.5) * 2 * np.pi / RINGS
                    c, s = np.cos(angle), np.sin(angle)
                    px = x + (radius - 0.5 * cell) * (c * ux - s * uy)
                    py = y + (radius - 0.5 * cell) * (c * uy + s * ux)
                    i, j = int((px - x0) / cell), int((py - y0) / cell)
                    if 0 <= i < tops.shape[0] and 0 <= j < tops.shape[1] and tops[i, j] > z + film:
                        touching += 1
                held.append(touching * 360.0 / RINGS)
                places.append((x, y, z))
            took = False
            ci, cj = int((x - x0) / cell), int((y - y0) / cell)
            for i in range(max(ci - reach, 0), min(ci + reach + 2, tops.shape[0])):
                px = x0 + (i + 0.5) * cell - x
                if px * px > radius * radius:
                    continue
                tall = np.sqrt(radius * radius - px * px)
                j0, j1 = int(np.ceil((y - tall - y0) / cell - 0.5)), int(np.floor((y + tall - y0) / cell - 0.5))
                for j in range(max(j0, 0), min(j1 + 1, tops.shape[1])):
                    if tops[i, j] > z:
                        if tops[i, j] > z + film:
                            took = True
                        tops[i, j] = z
            if kind[m] == cutting:
                cut += length / pieces
                if not took:
                    air += length / pieces
    return np.array(held), air, cut, np.array(places)


def measure(piece: Piece, path: Any) -> Measured:
    """Move the cutter through a raster of heights."""
    from fenrik.core.toolpath import Kind

    cell = CELL_SHARE * piece.radius_mm
    flat, _ = path.flattened(0.002)
    low, high = piece.box
    size = np.ceil((high - low)[:2] / cell).astype(int)
    tops = np.full(tuple(size), high[2], np.float32)
    held, air, cut, place = _walk(
        tops, float(low[0]), float(low[1]), cell, piece.radius_mm, FILM_MM, flat.point[:-1], flat.point[1:],
        flat.kind[1:].astype(np.int64), int(Kind.CUT), int(Kind.ENTRY), SAMPLE_SHARE * piece.radius_mm,
    )  # fmt: skip
    return Measured(held, air, cut, tops, place)


def prism(outline: Any, height: float, base: float = 0.0) -> Any:
    """A polygon pulled up."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon
    from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
    from OCP.gp import gp_Pnt, gp_Vec

    def wire(ring: Any) -> Any:
        maker = BRepBuilderAPI_MakePolygon()
        for x, y in np.asarray(ring.coords)[:-1]:
            maker.Add(gp_Pnt(float(x), float(y), base))
        maker.Close()
        return maker.Wire()

    outline = shapely.orient_polygons(outline)
    face = BRepBuilderAPI_MakeFace(wire(outline.exterior), True)
    for ring in outline.interiors:
        face.Add(wire(ring))
    return BRepPrimAPI_MakePrism(face.Face(), gp_Vec(0, 0, height)).Shape()


def less(a: Any, b: Any) -> Any:
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut

    return BRepAlgoAPI_Cut(a, b).Shape()


def plain_pocket(size: float = 1.0) -> Piece:
    """A rectangular pocket 100 × 75 × 12 mm."""
    box = shapely.box(-15, -15, 115, 90)
    shape = less(prism(box, 15.0), prism(shapely.box(0, 0, 100, 75), 12.0, 3.0))
    return Piece("pocket", shape, np.array([[-15, -15, 0], [115, 90, 15.0]]), 6.0, 12.0)


def run(piece: Piece, params: Any, most: float = 12000.0) -> tuple[Any, float, Any]:
    """The path of a strategy on a piece, how long it takes, and what it was given."""
    from fenrik.core.solids.reading import mesh_at, solid_from_shape
    from fenrik.core.stock import Stock
    from fenrik.core.strategies.given import Given, Region
    from fenrik.core.strategies.registry import run_strategy
    from fenrik.core.toolpath import Feeds
    from fenrik.core.tools import FlatCutter, Tool

    solid = solid_from_shape(piece.shape)
    mesh = mesh_at(solid, 0.25 * params.tolerance_mm)
    cutter = FlatCutter(diameter_mm=2 * piece.radius_mm, flute_length_mm=6 * piece.radius_mm)
    tool = Tool(number=1, cutter=cutter, stick_out_mm=max(8 * piece.radius_mm, 80.0))
    stock = Stock.box(piece.box[0], piece.box[1], 0.5)
    given = Given.of(
        mesh=mesh, surface=(mesh, solid.surfaces), stock=stock, tool=tool, cutter=cutter,
        feeds=Feeds(2000, 600, 6000, most), safe=(piece.box[1, 2] + 16, piece.box[1, 2] + 6), obstacles=None,
        region=Region(faces=None),
    )  # fmt: skip
    began = time.perf_counter()
    outcome = run_strategy(given, params)
    return outcome, time.perf_counter() - began, given


def report(piece: Piece, limit: float = 45.0) -> None:
    from fenrik.core.strategies.steady_roughing import SteadyRoughing
    from fenrik.core.toolpath import Kind

    params = SteadyRoughing(
        stepdown_mm=piece.stepdown_mm, engagement_deg=limit, allowance_mm=piece.allowance_mm, tolerance_mm=0.05
    )
    outcome, seconds, _ = run(piece, params)
    path = outcome.toolpath
    found = measure(piece, path)
    held = found.held_deg
    over5, over15 = np.mean(held > 1.05 * limit), np.mean(held > 1.15 * limit)
    retracts = int((path.kind == Kind.RETRACT).sum())
    motions = int((path.kind == Kind.CUT).sum())
    print(
        f"{piece.name}: {seconds:.1f} s, engagement most {held.max(initial=0):.1f} of {limit:g}, over +5 % {100 * over5:.3f} %,"
        f" over +15 % {100 * over15:.3f} %, air {100 * found.air_mm / max(found.cut_mm, 1e-9):.1f} % of {found.cut_mm:.0f} mm,"
        f" {motions / max(found.cut_mm, 1e-9):.2f} motions/mm, retracts {retracts},"
        f" memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6:.2f} GB, {len(outcome.unreached)} told"
    )
    worst = np.argsort(held)[-5:]
    print("   worst", np.round(found.place[worst], 2).tolist(), np.round(held[worst], 1).tolist())
    for told in outcome.unreached[:5]:
        print("   told", told.reason, told.place, told.area_mm2)


if __name__ == "__main__":
    report(plain_pocket(), float(sys.argv[1]) if len(sys.argv) > 1 else 45.0)

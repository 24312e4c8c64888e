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

CELL_SHARE, SAMPLE_SHARE = 0.005, 0.1
"""Of the measuring raster's cells and of the samples along motions, in radii."""
FILM_MM = 0.02
RINGS = 720
FLAT_MM, STAMP_SHARE = 1e-4, 0.02


@dataclass
class Piece:
    """A part with the box it is cut from.

    Attributes:
        shape: Open CASCADE. box: (2, 3). radius_mm: of the cutter. allowance_mm: on walls. blank: a round
            one in place of the box. hole: what is taken out over the base, of pieces with upright walls.
    """

    name: str
    shape: Any
    box: np.ndarray
    radius_mm: float
    stepdown_mm: float
    allowance_mm: float = 0.0
    blank: Any = None
    hole: Any = None


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
def _take(tops, x0, y0, cell, radius, film, at):  # type: ignore[no-untyped-def]
    """Lower the cells under the cutter; gives how many of them stood higher."""
    took, reach = 0, int(radius / cell) + 1
    ci = int((at[0] - x0) / cell)
    for i in range(max(ci - reach, 0), min(ci + reach + 2, tops.shape[0])):
        px = x0 + (i + 0.5) * cell - at[0]
        if px * px > radius * radius:
            continue
        tall = np.sqrt(radius * radius - px * px)
        j0 = int(np.ceil((at[1] - tall - y0) / cell - 0.5))
        j1 = int(np.floor((at[1] + tall - y0) / cell - 0.5))
        for j in range(max(j0, 0), min(j1 + 1, tops.shape[1])):
            if tops[i, j] > at[2]:
                if tops[i, j] > at[2] + film:
                    took += 1
                tops[i, j] = at[2]
    return took


@njit(cache=False)
def _engaged(tops, x0, y0, cell, radius, film, a, b, at):  # type: ignore[no-untyped-def]
    """Arc of the front half of the cutter, on its way from a to b, beside cells that stand higher than its tip, degrees."""
    ux, uy = b[0] - a[0], b[1] - a[1]
    size = max(np.hypot(ux, uy), 1e-12)
    ux, uy, touching = ux / size, uy / size, 0
    for k in range(RINGS // 2):
        angle = -np.pi / 2 + (k + 0.5) * 2 * np.pi / RINGS
        c, s = np.cos(angle), np.sin(angle)
        i = int(np.floor((at[0] + (radius + 0.5 * cell) * (c * ux - s * uy) - x0) / cell))
        j = int(np.floor((at[1] + (radius + 0.5 * cell) * (c * uy + s * ux) - y0) / cell))
        if 0 <= i < tops.shape[0] and 0 <= j < tops.shape[1] and tops[i, j] > at[2] + film:
            touching += 1
    return touching * 360.0 / RINGS


@njit(cache=False)
def _walk(tops, x0, y0, cell, radius, film, start, end, kind, cutting, step):  # type: ignore[no-untyped-def]
    """Move the cutter; at samples of cuts, a step apart, the arc that meets material, and the place; the length of cuts,
    and of those samples that took nothing."""
    held, places = [], []
    air, cut, since, took, moved = 0.0, 0.0, 0.0, 0, 0.0
    for m in range(len(start)):
        length = np.sqrt(((end[m] - start[m]) ** 2).sum())
        pieces = max(int(np.ceil(length / step)), 1)
        last = m + 1 == len(start) or kind[m + 1] != kind[m]
        for k in range(1, pieces + 1):
            place = start[m] + k / pieces * (end[m] - start[m])
            moved += length / pieces
            since += length / pieces if kind[m] == cutting else 0.0
            sample = kind[m] == cutting and since >= 0.99 * step
            if not sample and moved < STAMP_SHARE * radius and not (last and k == pieces):
                continue
            fresh, moved = _take(tops, x0, y0, cell, radius, film, place), 0.0
            took += fresh
            if sample:
                if took > 0:
                    held.append(_engaged(tops, x0, y0, cell, radius, film, start[m], end[m], place))
                    places.append((place[0], place[1], place[2]))
                else:
                    air += since
                cut += since
                since, took = 0.0, 0
            if kind[m] != cutting:
                took = 0
    return np.array(held), air, cut, np.array(places)


def blank_tops(piece: Piece, cell: float) -> np.ndarray:
    """Heights of the piece's stock as it comes."""
    low, high = piece.box
    size = np.ceil((high - low)[:2] / cell).astype(int)
    tops = np.full(tuple(size), high[2], np.float32)
    if piece.blank is not None:
        x, y = (low[a] + (np.arange(size[a]) + 0.5) * cell for a in (0, 1))
        shapely.prepare(piece.blank)
        tops[~shapely.contains_xy(piece.blank, *np.meshgrid(x, y, indexing="ij"))] = -np.inf
    return tops


def measure(piece: Piece, path: Any, cell_share: float = CELL_SHARE, tops: np.ndarray | None = None) -> Measured:
    """Move the cutter through a raster of heights; through one that is there already, of that size, where given."""
    from fenrik.core.toolpath import Kind

    cell = cell_share * piece.radius_mm
    flat, _ = path.flattened(FLAT_MM)
    low = piece.box[0]
    tops = blank_tops(piece, cell) if tops is None else tops.copy()
    held, air, cut, place = _walk(
        tops, float(low[0]), float(low[1]), cell, piece.radius_mm, FILM_MM, flat.point[:-1], flat.point[1:],
        flat.kind[1:].astype(np.int64), int(Kind.CUT), SAMPLE_SHARE * piece.radius_mm,
    )  # fmt: skip
    return Measured(held, air, cut, tops, place)


def left_over(piece: Piece, tops: np.ndarray, cell_share: float = CELL_SHARE) -> tuple[float, float]:
    """Of a piece with upright walls: the share of what the cutter can reach that still stands, %, and how thick it is."""
    from scipy import ndimage

    cell = cell_share * piece.radius_mm
    grown = piece.radius_mm + piece.allowance_mm
    reach = piece.hole.buffer(-grown, quad_segs=64).buffer(piece.radius_mm - cell, quad_segs=64)
    x, y = (piece.box[0, a] + (np.arange(tops.shape[a]) + 0.5) * cell for a in (0, 1))
    shapely.prepare(reach)
    within = shapely.contains_xy(reach, *np.meshgrid(x, y, indexing="ij"))
    stands = tops > piece.box[1, 2] - piece.stepdown_mm + FILM_MM
    thick = ndimage.distance_transform_edt(stands) * cell
    left = stands & within
    return 100 * left.sum() / within.sum(), float(thick[left].max(initial=0.0))


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


def extruded_along_y(outline: list[tuple[float, float]], length: float) -> Any:
    """A polygon in x and z pulled along y."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon
    from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
    from OCP.gp import gp_Pnt, gp_Vec

    maker = BRepBuilderAPI_MakePolygon()
    for x, z in outline:
        maker.Add(gp_Pnt(float(x), 0.0, float(z)))
    maker.Close()
    return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(maker.Wire()).Face(), gp_Vec(0, length, 0)).Shape()


def less(a: Any, b: Any) -> Any:
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut

    return BRepAlgoAPI_Cut(a, b).Shape()


def pocket(size: float) -> Piece:
    """A rectangular pocket 100 × 75 × 12 mm."""
    block, hole = shapely.box(-15, -15, 100 * size + 15, 75 * size + 15), shapely.box(0, 0, 100 * size, 75 * size)
    return prismatic("pocket", block, hole, 12.0, 6.0)


def star(size: float) -> Piece:
    """A boss with five arms, standing in a round blank."""
    turn = np.arange(10) * np.pi / 5 + np.pi / 2
    radius = size * np.where(np.arange(10) % 2 == 0, 55.0, 24.0)
    arms = shapely.Polygon(np.column_stack([radius * np.cos(turn), radius * np.sin(turn)]))
    arms = arms.buffer(-3, quad_segs=32).buffer(6, quad_segs=32).buffer(-3, quad_segs=32)
    blank = shapely.Point(0, 0).buffer(70 * size, quad_segs=96)
    return prismatic("star", blank, blank.buffer(30).difference(arms), 15.0, 5.0, blank)


def islands(size: float) -> Piece:
    """A plate with twelve islands, and two necks narrower than 1.3 diameters of the tool."""
    hole = shapely.union_all([
        shapely.box(0, 0, 150 * size, 110 * size),
        shapely.box(150 * size - 1, 40 * size, 150 * size + 25, 40 * size + 12.5),
        shapely.box(150 * size + 24, 20 * size, 150 * size + 70, 70 * size),
        shapely.box(60 * size, 110 * size - 1, 60 * size + 12, 110 * size + 20),
        shapely.box(40 * size, 110 * size + 19, 100 * size, 110 * size + 60),
    ])  # fmt: skip
    rng = np.random.default_rng(5)
    for k, (i, j) in enumerate(np.ndindex(4, 3)):
        place = shapely.Point((20 + 36 * i) * size, (20 + 34 * j) * size)
        round_ = place.buffer(6 + 3 * rng.uniform(), quad_segs=32)
        square = shapely.box(*(np.array(place.coords[0]) - 7), *(np.array(place.coords[0]) + 7))
        hole = hole.difference(round_ if k % 2 else square)
    low, high = np.array(hole.bounds[:2]) - 15, np.array(hole.bounds[2:]) + 15
    return prismatic("islands", shapely.box(*low, *high), hole, 12.0, 5.0)


def ribs(size: float) -> Piece:
    """Ribs 2 mm thin between channels that are open at one side."""
    block = shapely.box(0, 0, 120 * size, 90 * size)
    pitch = 28.0 * size
    channels = [shapely.box(-30, 4 + k * pitch, 112 * size, 4 + k * pitch + pitch - 2) for k in range(3)]
    return prismatic(
        "ribs", block, shapely.union_all([*channels, shapely.box(-30, -30, -0.001, 120 * size)]), 16.0, 5.0
    )


def cavity(size: float) -> Piece:
    """A cavity 200 × 150 × 60 mm with 3 degrees of draft and a free-form floor."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
    from OCP.gp import gp_Trsf, gp_Vec

    from shapes import cover

    high = 60.0 * size
    mouth = shapely.box(0, 0, 200 * size, 150 * size).buffer(-20 * size).buffer(20 * size, quad_segs=16)
    inner = _drafted(mouth, 25.0 * size, 25.0 * size + high, np.tan(np.deg2rad(3)))
    move = gp_Trsf()
    move.SetTranslation(gp_Vec(-20 * size, -20 * size, 0))
    floor = BRepBuilderAPI_Transform(cover(240 * size, 190 * size), move, True).Shape()
    block = prism(shapely.box(-20 * size, -20 * size, 220 * size, 170 * size), 25.0 * size + high)
    shape = less(block, less(inner, floor))
    box = np.array([[-20, -20, 0], [220, 170, 85.0]]) * size
    return Piece("cavity", shape, box, 6.0, high / 12, 0.5)


def lens(size: float) -> Piece:
    """A lens mould: a spherical hollow with a flat rim in a block."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere
    from OCP.gp import gp_Pnt

    block = prism(shapely.box(-50 * size, -50 * size, 50 * size, 50 * size), 40.0 * size)
    ball = BRepPrimAPI_MakeSphere(gp_Pnt(0, 0, 75.0 * size), 58.0 * size).Shape()
    rim = prism(shapely.Point(0, 0).buffer(48 * size, quad_segs=96), 10.0 * size, 36.0 * size)
    box = np.array([[-50, -50, 0], [50, 50, 40.0]]) * size
    return Piece("lens", less(less(block, ball), rim), box, 5.0, 4.0 * size, 0.3)


def prismatic(name: str, block: Any, hole: Any, depth: float, radius: float, blank: Any = None) -> Piece:
    """A block on a base of 3 mm with a hole of a depth; its box, or a round blank."""
    shape = less(prism(block, depth + 3.0), prism(hole, depth, 3.0))
    box = np.array([[*block.bounds[:2], 0.0], [*block.bounds[2:], depth + 3.0]])
    return Piece(name, shape, box, radius, depth, blank=blank, hole=hole)


def _drafted(outline: Any, low: float, high: float, slope: float) -> Any:
    """A solid between an outline at a height and the same moved in, lower."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakePolygon
    from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
    from OCP.gp import gp_Pnt

    sections = BRepOffsetAPI_ThruSections(True, True)
    ring = np.asarray(outline.exterior.coords)[:-1]
    centre = ring.mean(axis=0)
    scale = 1 - slope * (high - low) / np.abs(ring - centre).max(axis=0)
    for z, by in ((low, scale), (high, np.ones(2))):
        wire = BRepBuilderAPI_MakePolygon()
        for x, y in centre + (ring - centre) * by:
            wire.Add(gp_Pnt(float(x), float(y), z))
        wire.Close()
        sections.AddWire(wire.Wire())
    sections.Build()
    return sections.Shape()


def tool_of(radius_mm: float) -> Any:
    """A flat end mill."""
    from fenrik.core.tools import FlatCutter, Tool

    cutter = FlatCutter(diameter_mm=2 * radius_mm, flute_length_mm=6 * radius_mm)
    return Tool(number=1, cutter=cutter, stick_out_mm=max(8 * radius_mm, 80.0))


def after(given: Any, path: Any) -> Any:
    """The stock that a path leaves of what it was given."""
    from fenrik.core.stock import cut
    from fenrik.core.tools import assembly_of

    return cut(given.stock, path.poses(0.002), assembly_of(given.tool))[0]


PIECES = {"pocket": pocket, "star": star, "islands": islands, "ribs": ribs, "cavity": cavity, "lens": lens}


def run(
    piece: Piece,
    params: Any,
    most: float = 12000.0,
    stock: Any = None,
    earlier_mm: float | None = None,
    fences: tuple[Any, Any] = ((), ()),
    progress: Any = None,
) -> tuple[Any, float, Any]:
    """The path of a strategy on a piece, how long it takes, and what it was given.

    Args:
        stock: as it stands; None: as it comes. earlier_mm: radius of the tool that cleared before, for its name. fences: what the axis
            stays inside of, and what the tool keeps out of.
    """
    from fenrik.core.solids.reading import mesh_at, solid_from_shape
    from fenrik.core.stock import Stock
    from fenrik.core.stock.shaping import stock_from_mesh
    from fenrik.core.strategies.given import Given, Region
    from fenrik.core.strategies.registry import run_strategy
    from fenrik.core.toolpath import Feeds

    solid = solid_from_shape(piece.shape)
    mesh = mesh_at(solid, 0.25 * params.tolerance_mm)
    tool = tool_of(piece.radius_mm)
    cell = 0.5 if np.ptp(piece.box[:, 0]) < 500 else 1.0
    if stock is None and piece.blank is None:
        stock = Stock.box(piece.box[0], piece.box[1], cell)
    elif stock is None:
        stock = stock_from_mesh(mesh_at(solid_from_shape(prism(piece.blank, piece.box[1, 2])), 0.01), cell)
    given = Given.of(
        mesh=mesh, surface=(mesh, solid.surfaces), stock=stock, tool=tool, cutter=tool.cutter,
        feeds=Feeds(2000, 600, 6000, most), safe=(piece.box[1, 2] + 16, piece.box[1, 2] + 6), obstacles=None,
        region=Region(faces=None), reference=None if earlier_mm is None else tool_of(earlier_mm),
        stay_in=fences[0], keep_out=fences[1],
    )  # fmt: skip
    given.progress = progress or given.progress
    began = time.perf_counter()
    outcome = run_strategy(given, params)
    return outcome, time.perf_counter() - began, given


def fronts(piece: Piece, limit: float) -> Any:
    """The path along fronts of equal offset from the same way in, with the stepover of the limit; each front is gone to
    over the top, which is kinder than through the ground."""
    from fenrik.core.regions.polygons import components, from_shape
    from fenrik.core.strategies.ground.entries import EntryParams, plan_entry
    from fenrik.core.strategies.ground.fronts import fronts_from, in_order
    from fenrik.core.toolpath import Feeds, PathBuilder, SafePlane

    reachable = components(from_shape(piece.hole.buffer(-piece.radius_mm, quad_segs=64)))[0]
    entry = plan_entry(piece.radius_mm, True, EntryParams(), reachable, [])
    assert entry is not None
    assert entry.centre is not None
    found = fronts_from(entry, reachable, piece.radius_mm * (1 - np.cos(np.deg2rad(limit))))
    z, high = piece.box[1, 2] - piece.stepdown_mm, piece.box[1, 2] + 10
    builder = PathBuilder(Feeds(2000, 600, 6000), SafePlane.at_height(high), high)
    turn = np.linspace(0, 2 * np.pi, 65)
    ring = entry.centre + entry.size * np.column_stack([np.cos(turn), np.sin(turn)])
    builder.rapid(np.array([*ring[0], high]))
    builder.enter(np.column_stack([np.vstack([ring, entry.centre]), np.full(66, z)]))
    for k in in_order(found, entry.place):
        line = found[k].points
        builder.rapid(np.array([*builder.place[:2], high]))  # type: ignore[index]
        builder.rapid(np.array([*line[0], high]))
        builder.enter(np.array([*line[0], z]))
        builder.cut(np.column_stack([line[1:], np.full(len(line) - 1, z)]))
    return builder.finish()


def roughing(limit: float = 45.0, size: float = 1.0, names: tuple[str, ...] = tuple(PIECES)) -> None:
    """Steady roughing of all pieces; beside it fronts of equal offset on those with upright walls and no open side."""
    from fenrik.core.strategies.steady_roughing import SteadyRoughing
    from fenrik.core.toolpath import Kind

    for name in names:
        piece = PIECES[name](size)
        params = SteadyRoughing(
            stepdown_mm=piece.stepdown_mm, engagement_deg=limit, allowance_mm=piece.allowance_mm, tolerance_mm=0.05
        )
        run(piece, params)
        outcome, seconds, _ = run(piece, params)
        path = outcome.toolpath
        found = measure(piece, path)
        left = "" if piece.hole is None else f"left {left_over(piece, found.tops)[0]:.4f} %, "
        motions, retracts = int((path.kind == Kind.CUT).sum()), int((path.kind == Kind.RETRACT).sum())
        held = _held_words(found, limit)
        if name in ("pocket", "islands"):
            held += f" (fronts of equal offset: {_held_words(measure(piece, fronts(piece, limit)), limit)})"
        show(
            f"steady roughing, {name}",
            float(np.mean(found.held_deg > 1.05 * limit)) / 0.001,
            "1 (0.1 % of samples)",
            f"{held}; {left}air {100 * found.air_mm / found.cut_mm:.1f} %, {motions / found.cut_mm:.2f} motions/mm, "
            f"retracts {retracts}, {len(outcome.unreached)} told, {found.cut_mm / 1000:.1f} m in {seconds:.1f} s, "
            f"{resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6:.2f} GB with the raster",
        )


def sizes(limit: float = 45.0, names: tuple[str, ...] = ("cavity",), grown: tuple[str, ...] = ("islands",)) -> None:
    """Computing time and memory without the measuring raster: pieces at once, and how time grows with size."""
    from fenrik.core.strategies.steady_roughing import SteadyRoughing

    def took(name: str, size: float) -> tuple[float, float]:
        piece = PIECES[name](size)
        params = SteadyRoughing(
            stepdown_mm=piece.stepdown_mm, engagement_deg=limit, allowance_mm=piece.allowance_mm, tolerance_mm=0.05
        )
        outcome, seconds, _ = run(piece, params)
        return seconds, outcome.toolpath.cut_length_mm() / 1000

    def memory() -> float:
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6

    took("pocket", 1.0)  # kernels are compiled
    for name in names:
        seconds, metres = took(name, 1.0)
        show(f"computing, {name}", seconds / 20, "1 (20 s)", f"{seconds:.1f} s, {metres:.1f} m, {memory():.2f} GB")
    for name in grown:
        found = [took(name, size) for size in (1.0, 2.0, 4.0)]
        power = np.polyfit(*np.log(np.array(found)).T[::-1], 1)[0]
        told = ", ".join(f"{seconds:.1f} s for {metres:.1f} m" for seconds, metres in found)
        show(f"computing by size, {name}", float(power) / 1.2, "1 (path^1.2)", f"{told}, {memory():.2f} GB")


def rest(limit: float = 45.0, names: tuple[str, ...] = ("pocket", "islands", "ribs")) -> None:
    """Rest roughing with a tool of 0.42 of the diameter, by what the stock holds and by the name of the first tool."""
    from dataclasses import replace

    from fenrik.core.strategies.rest_roughing import RestRoughing
    from fenrik.core.strategies.steady_roughing import SteadyRoughing
    from fenrik.core.toolpath import Kind

    for name in names:
        piece = PIECES[name](1.0)
        fields = {"stepdown_mm": piece.stepdown_mm, "engagement_deg": limit, "tolerance_mm": 0.05}
        first, _, given = run(piece, SteadyRoughing(**fields))
        small, share = replace(piece, radius_mm=0.42 * piece.radius_mm), 2 * CELL_SHARE
        tops = measure(piece, first.toolpath, share * small.radius_mm / piece.radius_mm).tops
        for how, named, known in (
            ("by the stock", {}, {"stock": after(given, first.toolpath)}),
            ("by the tool", {"reference_tool": 2}, {"earlier_mm": piece.radius_mm}),
        ):
            outcome, seconds, _ = run(small, RestRoughing(**fields, **named), **known)
            path = outcome.toolpath
            found = measure(small, path, share, tops)
            show(
                f"rest roughing {how}, {name}", found.air_mm / max(found.cut_mm, 1e-9) / 0.05, "1 (5 % of cuts in air)",
                f"air {100 * found.air_mm / max(found.cut_mm, 1e-9):.1f} % of {found.cut_mm:.0f} mm; left "
                f"{left_over(small, tops, share)[0]:.3f} % before, {left_over(small, found.tops, share)[0]:.4f} % after; "
                f"{_held_words(found, limit)}; retracts {int((path.kind == Kind.RETRACT).sum())}; {seconds:.1f} s",
            )  # fmt: skip


def cycle(limit: float = 45.0, size: float = 1.0, names: tuple[str, ...] = ("cavity", "star", "ribs")) -> None:
    """Time of steady roughing by the machine's motion model, beside offset roughing of the same levels.

    Offset roughing with 0.4 of the diameter from pass to pass has one feed. It is as high as the torque at its worst
    engagement allows (all but one sample in a thousand), where that torque, which goes with feed and width of cut, is
    that of steady roughing at its limit; and no chip is thicker than there.
    """
    from dataclasses import replace

    from fenrik.core.strategies.level_roughing import LevelRoughing
    from fenrik.core.strategies.steady_roughing import SteadyRoughing
    from fenrik.core.toolpath import Kind
    from fenrik.core.toolpath.timing import MotionLimits, motion_times

    limits = MotionLimits(24_000, 12_000, 3500, 0.02)
    for name in names:
        piece = PIECES[name](size)
        fields = {"stepdown_mm": piece.stepdown_mm, "allowance_mm": piece.allowance_mm, "tolerance_mm": 0.05}
        steady = run(piece, SteadyRoughing(engagement_deg=limit, **fields))[0].toolpath
        offsets = run(piece, LevelRoughing(stepover_mm=0.8 * piece.radius_mm, **fields))[0].toolpath
        found = measure(piece, offsets, 2 * CELL_SHARE)
        worst = float(np.percentile(found.held_deg, 99.9))
        narrow, wide = (1 - np.cos(np.deg2rad(v)) for v in (limit, worst))
        chip = np.sin(np.deg2rad(limit)) / np.sin(np.deg2rad(min(worst, 90.0)))
        share = min(narrow / wide, chip)
        slowed = replace(offsets, feed=np.where(offsets.kind == Kind.CUT, share * offsets.feed, offsets.feed))
        mine, other = (float(motion_times(path, limits).sum()) for path in (steady, slowed))
        plain = float(motion_times(offsets, limits).sum())
        slots = SAMPLE_SHARE * piece.radius_mm * float((found.held_deg > 175).sum())
        show(
            f"cycle time, {name}", mine / other, "0.4 (cavity), 0.6 (star, ribs)",
            f"steady {mine:.0f} s, {100 * (1 - mine / other):.0f} % shorter than offsets {other:.0f} s at {share:.2f} of "
            f"the feed (worst {worst:.0f} deg, {slots:.0f} mm of slots); offsets at the whole feed {plain:.0f} s",
        )  # fmt: skip


def _held_words(found: Measured, limit: float) -> str:
    held = found.held_deg
    over, far = (100 * float(np.mean(held > share * limit)) for share in (1.05, 1.15))
    return f"most {held.max():.1f} of {limit:g} deg, {over:.3f} % over by 5 %, {far:.3f} % by 15 %"


BENCHES = {"roughing": roughing, "roughing-cycle": cycle, "roughing-rest": rest, "roughing-sizes": sizes}


if __name__ == "__main__":
    chosen = tuple(sys.argv[1].split(",")) if len(sys.argv) > 1 else tuple(PIECES)
    roughing(*(float(v) for v in sys.argv[2:4]), names=chosen)

"""Curves out of drawings: DXF (ezdxf) and SVG (svgelements), lengths in mm, lines and arcs kept exact."""

from __future__ import annotations

import io
import math
from pathlib import Path
from typing import Any

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.sketches.budget import (
    LEAST_STRETCHES,
    MAX_ENTITIES,
    Budget,
    TooMuch,
    Tree,
    check_extent,
    check_size,
    flattened_bezier,
)
from fenrik.core.sketches.curve import Curve, join_curves

DRAWING_SUFFIXES = (".dxf", ".svg")
FLATTEN_MM = 0.005
MM_PER_PX = 25.4 / 96


def read_drawing(data: bytes, name: str, layer: str = "") -> list[Curve]:
    """The curves of a drawing, those that meet end to end joined.

    Args:
        layer: only this layer of a DXF; empty for all.

    Raises:
        FenrikError: field `drawing`, when the file is damaged, holds no curve, or far too many.
    """
    suffix = Path(name).suffix.lower()
    if suffix not in DRAWING_SUFFIXES:
        raise fail("drawing", f"has the ending {suffix or '(none)'}.", "Use .dxf or .svg.", name)
    try:
        curves = _read_dxf(data, layer) if suffix == ".dxf" else _read_svg(data)
    except TooMuch as error:
        raise fail("drawing", f"{error}.", "Export only the curves that this job needs.", name) from error
    except MemoryError:
        raise
    except Exception as error:  # the packages raise whatever their parsers raise
        raise fail("drawing", f"cannot be read: {type(error).__name__}.", "Export it again.", name) from error
    curves = [c for c in curves if len(c.points) > 1 and np.all(np.isfinite(c.points)) and c.length_mm() > 1e-9]
    if not curves:
        where = f" on layer {layer}" if layer else ""
        raise fail("drawing", f"holds no lines or arcs{where}.", "Choose another file or layer.", name)
    return join_curves(curves)


def drawing_layers(data: bytes) -> list[str]:
    """Names of the layers of a DXF that hold anything."""
    document = _dxf(data)
    return sorted({e.dxf.layer for e in document.modelspace()})


def _dxf(data: bytes) -> Any:
    import ezdxf
    from ezdxf import recover

    try:
        return ezdxf.read(io.StringIO(data.decode("utf-8")))
    except (UnicodeDecodeError, ezdxf.DXFStructureError):
        return recover.read(io.BytesIO(data))[0]


def _read_dxf(data: bytes, layer: str) -> list[Curve]:
    from ezdxf import units
    from ezdxf.disassemble import recursive_decompose

    document = _dxf(data)
    check_size(_entities_of(document))
    source = units.InsertUnits(document.units) if document.units else units.InsertUnits(units.MM)
    factor = units.conversion_factor(source, units.InsertUnits(units.MM))
    curves: list[Curve] = []
    budget = Budget()
    for entity in recursive_decompose(document.modelspace()):
        if not layer or entity.dxf.layer == layer:
            curves += [budget.spent(c.moved(np.zeros(2), 0.0, factor)) for c in _entity(entity)]
    return curves


def _entities_of(document: Any) -> Tree:
    """Model space and blocks with what each inserts of the others, before anything is inserted."""
    spaces = {block.name: block for block in document.blocks} | {"": document.modelspace()}
    tree: Tree = {}
    for name, space in spaces.items():
        inserts = [(e.dxf.name, max(e.mcount, 1)) for e in space if e.dxftype() == "INSERT"]
        tree[name] = len(space), inserts
    return tree


def _entity(e: Any) -> list[Curve]:
    kind = e.dxftype()
    if kind == "LINE":
        return [Curve.polyline([e.dxf.start.vec2, e.dxf.end.vec2])]
    if kind in ("ARC", "CIRCLE"):
        centre = np.array(e.ocs().to_wcs(e.dxf.center))[:2]
        mirrored = e.dxf.extrusion.z < 0
        if kind == "CIRCLE":
            return [Curve.arc(centre, e.dxf.radius, 0, 360)]
        sweep = (e.dxf.end_angle - e.dxf.start_angle) % 360 or 360
        start = 180 - e.dxf.start_angle if mirrored else e.dxf.start_angle
        return [Curve.arc(centre, e.dxf.radius, start, -sweep if mirrored else sweep)]
    if kind == "LWPOLYLINE":
        rows = np.array(list(e.get_points("xyb")), float)
        if len(rows) < 2:
            return []
        mirrored = e.dxf.extrusion.z < 0
        if mirrored:
            rows[:, 0] *= -1
            rows[:, 2] *= -1
        return [Curve(rows[:, :2], rows[:, 2] if e.closed else rows[:-1, 2], bool(e.closed))]
    if kind == "POLYLINE" and e.is_2d_polyline:
        rows = np.array([[v.dxf.location.x, v.dxf.location.y, v.dxf.get("bulge", 0)] for v in e.vertices], float)
        return (
            [Curve(rows[:, :2], rows[:, 2] if e.is_closed else rows[:-1, 2], bool(e.is_closed))]
            if len(rows) > 1
            else []
        )
    if kind in ("SPLINE", "ELLIPSE"):
        around = e.control_points if kind == "SPLINE" else [e.dxf.center, e.dxf.major_axis]
        check_extent(np.array([[p[0], p[1]] for p in around]))
        places = np.array([[p.x, p.y] for p in e.flattening(FLATTEN_MM)])
        return [Curve.polyline(places)] if len(places) > 1 else []
    return []


def _read_svg(data: bytes) -> list[Curve]:
    from svgelements import SVG, Shape
    from svgelements import Path as SvgPath

    check_size(_elements_of(data))
    curves: list[Curve] = []
    budget = Budget()
    for element in SVG.parse(io.BytesIO(data)).elements():
        if isinstance(element, Shape):
            curves += [budget.spent(c) for c in _svg_path(SvgPath(element).reify())]
    return [Curve(c.points * [MM_PER_PX, -MM_PER_PX], -c.bulges, c.closed) for c in curves]


def _elements_of(data: bytes) -> Tree:
    """Elements with an id and what each uses of the others, before anything is used; the whole drawing is ""."""
    from lxml import etree

    if b"<!ENTITY" in data:
        raise ValueError("entities are not read")
    root = etree.fromstring(data, etree.XMLParser(resolve_entities=False, no_network=True))
    tree: Tree = {}
    for name, element in [("", root), *((e.get("id"), e) for e in root.iter() if e.get("id"))]:
        within = [e for e in element.iter() if isinstance(e.tag, str)]
        used = [e.get("href") or e.get("{http://www.w3.org/1999/xlink}href") or "" for e in within]
        tree[name] = len(within), [(href[1:], 1) for href in used if href.startswith("#")]
        if sum(len(uses) + 1 for _, uses in tree.values()) > MAX_ENTITIES:
            raise TooMuch("holds too many elements")
    return tree


def _svg_path(path: Any) -> list[Curve]:
    from svgelements import Arc, Close, CubicBezier, Line, Move, QuadraticBezier

    found: list[Curve] = []
    for segment in path:
        if isinstance(segment, Move) or segment.start is None or segment.end is None:
            continue
        start, end = (np.array([p.x, p.y], float) for p in (segment.start, segment.end))
        if isinstance(segment, Line | Close):
            if np.linalg.norm(end - start) > 1e-9:
                found.append(Curve.polyline([start, end]))
        elif isinstance(segment, Arc) and abs(segment.rx - segment.ry) < 1e-9 * max(segment.rx, 1.0):
            centre = np.array([segment.center.x, segment.center.y])
            first = math.degrees(math.atan2(*(start - centre)[::-1]))
            found.append(Curve.arc(centre, float(segment.rx), first, math.degrees(segment.sweep)))
        elif isinstance(segment, CubicBezier):
            middle = [(p.x, p.y) for p in (segment.control1, segment.control2)]
            found.append(Curve.polyline(flattened_bezier(np.array([start, *middle, end]), FLATTEN_MM / MM_PER_PX)))
        elif isinstance(segment, QuadraticBezier):
            middle = [(segment.control.x, segment.control.y)]
            found.append(Curve.polyline(flattened_bezier(np.array([start, *middle, end]), FLATTEN_MM / MM_PER_PX)))
        else:
            found.append(Curve.polyline(_flattened_ellipse(segment, FLATTEN_MM / MM_PER_PX)))
    return join_curves(found, 1e-6)


def _flattened_ellipse(arc: Any, tolerance: float) -> Points:
    """Places along an elliptic arc: an arc of its longer half axis would stray by no more."""
    longer = max(abs(arc.rx), abs(arc.ry))
    check_extent(np.array([[arc.center.x + longer, arc.center.y + longer]]))
    step = 2.0 * math.acos(max(1.0 - tolerance / max(longer, tolerance), -1.0))
    count = max(math.ceil(abs(arc.sweep) / step), LEAST_STRETCHES)
    return np.array([[p.x, p.y] for p in (arc.point(t) for t in np.linspace(0, 1, count + 1))])

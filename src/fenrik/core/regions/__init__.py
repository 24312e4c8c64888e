"""Regions of the plane: polygons by Clipper2, curves with exact arcs, and what the part covers from a height up."""

from fenrik.core.regions.arcs import fit_arcs
from fenrik.core.regions.cover import Cover
from fenrik.core.regions.heights import told_apart
from fenrik.core.regions.polygons import (
    Rings,
    area_of,
    clip_lines,
    components,
    contains,
    difference,
    intersection,
    offset,
    union,
)
from fenrik.core.regions.shadow import Shadow

__all__ = [
    "Cover",
    "Rings",
    "Shadow",
    "area_of",
    "clip_lines",
    "components",
    "contains",
    "difference",
    "fit_arcs",
    "intersection",
    "offset",
    "told_apart",
    "union",
]

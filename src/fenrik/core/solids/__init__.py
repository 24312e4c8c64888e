"""Solids: read them, tessellate, measure, refer to their faces and points."""

from fenrik.core.solids.model import Body, Edge, Face, Mesh, Solid
from fenrik.core.solids.reading import read_solid
from fenrik.core.solids.references import (
    EdgeReference,
    FaceReference,
    FaceRule,
    FaceSelector,
    Selector,
    edge_reference_to,
    find_edge,
    find_faces,
    find_selected,
    reference_to,
)

__all__ = [
    "Body",
    "Edge",
    "EdgeReference",
    "Face",
    "FaceReference",
    "FaceRule",
    "FaceSelector",
    "Mesh",
    "Selector",
    "Solid",
    "edge_reference_to",
    "find_edge",
    "find_faces",
    "find_selected",
    "read_solid",
    "reference_to",
]

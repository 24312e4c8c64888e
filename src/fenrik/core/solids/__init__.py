"""Solids: read them, tessellate, measure, refer to their faces and points."""

from fenrik.core.solids.model import Edge, Face, Mesh, Solid
from fenrik.core.solids.reading import read_solid
from fenrik.core.solids.references import FaceReference, FaceRule, FaceSelector, find_faces, reference_to

__all__ = [
    "Edge",
    "Face",
    "FaceReference",
    "FaceRule",
    "FaceSelector",
    "Mesh",
    "Solid",
    "find_faces",
    "read_solid",
    "reference_to",
]

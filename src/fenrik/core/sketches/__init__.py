"""Construction geometry: points, lines, arcs, offsets, trims, drawings and text on a frame."""

from fenrik.core.sketches.curve import Curve, region_of
from fenrik.core.sketches.model import Sketch, sketch_curves

__all__ = ["Curve", "Sketch", "region_of", "sketch_curves"]

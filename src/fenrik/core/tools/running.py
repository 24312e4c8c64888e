"""A tool as the cutting data see it."""

from __future__ import annotations

from fenrik.core.cutting.forces import FLUTED_SHARE
from fenrik.core.cutting.load import Cutting
from fenrik.core.tools.cutters import Tap
from fenrik.core.tools.model import Tool


def as_cutting(tool: Tool) -> Cutting:
    """What of a tool matters for speeds and forces."""
    c = tool.cutter
    stations = [(FLUTED_SHARE * c.diameter_mm, 0.0, c.flute_length_mm)]
    stations += [(diameter, low, high) for _, diameter, low, high in tool.stations()]
    return Cutting(
        c.family,
        c.diameter_mm,
        c.flutes,
        c.flute_length_mm,
        tool.material,
        tuple(stations),
        c.pitch_mm if isinstance(c, Tap) else None,
    )

"""The contour of a whole tool as places (radius, height), for drawing it to scale."""

from __future__ import annotations

from typing import Any

from fenrik.core.tools.contour import flatten_contour
from fenrik.core.tools.model import Tool


def tool_outline_bodies(tool: Tool) -> list[dict[str, Any]]:
    """Each body of a tool, from the tip upwards: `name` (cutter, neck, shank, holder) and `points` (radius, height)."""
    cutter = flatten_contour(tool.cutter.contour())
    bodies: list[dict[str, Any]] = [{"name": "cutter", "points": [list(p) for p in cutter]}]
    for name, diameter, low, high in tool.stations():
        bodies.append({"name": name, "points": [[diameter / 2, low], [diameter / 2, high]]})
    height = tool.stick_out_mm
    for section in tool.holder:
        top = height + section.height_mm
        bodies.append(
            {
                "name": "holder",
                "points": [[section.lower_diameter_mm / 2, height], [section.upper_diameter_mm / 2, top]],
            }
        )
        height = top
    return bodies

"""The outline of a whole tool as places (radius, height), for drawing it to scale."""

from __future__ import annotations

from pydantic import BaseModel

from fenrik.core.tools.contour import flatten_contour
from fenrik.core.tools.model import Tool

STEP_DEG = 3.0


class OutlineBody(BaseModel):
    """One body of a tool; its places (radius, height above the tip) begin and end on the axis."""

    name: str
    points: list[tuple[float, float]]


def tool_outline(tool: Tool) -> list[OutlineBody]:
    """Cutter, neck, shank and holder of a tool, from the tip upwards."""
    bodies = [_closed("cutter", flatten_contour(tool.cutter.contour(), STEP_DEG))]
    for name, diameter, low, high in tool.stations():
        bodies.append(_closed(name, [(diameter / 2, low), (diameter / 2, high)]))
    height = tool.stick_out_mm
    for section in tool.holder:
        top = height + section.height_mm
        sides = [(section.lower_diameter_mm / 2, height), (section.upper_diameter_mm / 2, top)]
        bodies.append(_closed("holder", sides))
        height = top
    return bodies


def _closed(name: str, places: list[tuple[float, float]]) -> OutlineBody:
    first, last = (0.0, places[0][1]), (0.0, places[-1][1])
    whole = [first, *places, last]
    return OutlineBody(name=name, points=[p for k, p in enumerate(whole) if k == 0 or p != whole[k - 1]])

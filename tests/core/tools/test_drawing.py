"""What is drawn of a tool against the bodies that touch and collide: the same radii at the same heights, and volumes by
Pappus and Guldin."""

import math

import numpy as np
import pytest
import shapely
from kinds import KINDS, cutter

from fenrik.core.tools import Tool
from fenrik.core.tools.assembly import assembly_of
from fenrik.core.tools.drawing import tool_outline

HOLDER = [
    {"lower_diameter_mm": 24, "upper_diameter_mm": 30, "height_mm": 30},
    {"lower_diameter_mm": 40, "upper_diameter_mm": 40, "height_mm": 15},
]


def tool(kind: str = "flat", **rest) -> Tool:
    return Tool(number=1, cutter=cutter(kind), **({"stick_out_mm": 60, "holder": HOLDER} | rest))


def widest(points, height: float) -> float:
    """The radius of a drawn body at a height."""
    cut = shapely.Polygon(points).intersection(shapely.LineString([(-1, height), (500, height)]))
    return 0.0 if cut.is_empty else cut.bounds[2]


@pytest.mark.parametrize("kind", KINDS)
def test_what_is_drawn_is_what_collides(kind):
    drawn = tool_outline(tool(kind))
    bodies = assembly_of(tool(kind)).profiles
    for height in np.arange(0.337, 104.0, 0.731):
        seen = max(widest(b.points, height) for b in drawn)
        there = max(p.radius_at(height) for p in bodies)
        assert seen == pytest.approx(max(there, 0.0), abs=0.06)


@pytest.mark.parametrize("kind", KINDS)
def test_each_body_begins_and_ends_on_the_axis(kind):
    for body in tool_outline(tool(kind)):
        assert body.points[0][0] == body.points[-1][0] == 0.0
        assert all(a != b for a, b in zip(body.points[:-1], body.points[1:], strict=True))
        assert shapely.Polygon(body.points).is_valid


def test_bodies_from_the_tip_upwards():
    drawn = tool_outline(tool(neck_length_mm=10, neck_diameter_mm=9, shank_diameter_mm=12))
    assert [b.name for b in drawn] == ["cutter", "neck", "shank", "holder", "holder"]
    ends = [(b.points[0][1], b.points[-1][1]) for b in drawn]
    assert ends == [(0, 20), (20, 30), (30, 60), (60, 90), (90, 105)]


def test_volumes():
    drawn = {b.name: shapely.Polygon(b.points) for b in tool_outline(tool(holder=HOLDER[:1], shank_diameter_mm=12))}
    volume = {name: 2 * math.pi * p.centroid.x * p.area for name, p in drawn.items()}
    assert volume["cutter"] == pytest.approx(math.pi * 25 * 20)
    assert volume["shank"] == pytest.approx(math.pi * 36 * 40)
    assert volume["holder"] == pytest.approx(math.pi * 30 / 3 * (12**2 + 12 * 15 + 15**2))


def test_a_tool_whose_flutes_reach_the_holder_has_nothing_between():
    assert [b.name for b in tool_outline(tool(stick_out_mm=20, holder=[]))] == ["cutter"]

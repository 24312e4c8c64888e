"""Tool lists as files, searching, differences, and the shortest stick-out against geometry."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from fenrik.core.contact.stickout import shortest_stick_out
from fenrik.core.errors import FenrikError
from fenrik.core.solids.reading import mesh_at, solid_from_shape
from fenrik.core.tools import Tool
from fenrik.core.tools.library import (
    find_tools,
    tool_difference,
    tools_from_csv,
    tools_from_json,
    tools_to_csv,
    tools_to_json,
)
from fenrik.demo.shop import SHOP_MATERIALS, SHOP_TOOLS
from parts import box, cut, cylinder


def tool(**rest):
    base = {
        "number": 7,
        "name": "Slot, 6",
        "cutter": {"kind": "flat", "diameter_mm": 6, "flute_length_mm": 15},
        "stick_out_mm": 40,
    }
    return Tool.model_validate({**base, **rest})


def test_the_shop_library_goes_out_and_comes_back():
    tools = [Tool.model_validate(t) for t in SHOP_TOOLS]
    assert 55 <= len(tools) <= 90
    assert len({t.number for t in tools}) == len(tools)
    assert len(SHOP_MATERIALS) == 12
    assert tools_from_json(tools_to_json(tools)) == tools
    assert tools_from_csv(tools_to_csv(tools)) == tools
    assert {t.cutter.kind for t in tools} >= {
        "flat",
        "ball",
        "drill",
        "tap",
        "reamer",
        "chamfer mill",
        "thread mill",
        "face mill",
    }


@given(
    st.floats(0.5, 50), st.integers(1, 9), st.text(st.characters(codec="utf-8", exclude_categories=["C"]), max_size=20)
)
def test_any_tool_survives_csv(diameter, flutes, name):
    one = tool(
        name=name.strip(), cutter={"kind": "flat", "diameter_mm": diameter, "flute_length_mm": 20, "flutes": flutes}
    )
    back = tools_from_csv(tools_to_csv([one]))[0]
    assert back.cutter == one.cutter


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "no rows"),
        ("number,cutter.kind\n1,flat", "row 2"),
        ("number,name\n1,a,b,c", "more cells"),
        (
            "number,cutter.kind,cutter.diameter_mm,cutter.flute_length_mm,stick_out_mm\n1,flat,-3,10,30",
            "greater than or equal to 0.01",
        ),
        ("number,holder\n1,nonsense", "is not a list"),
        ("number,number.x\n1,2", "no value of its own"),
    ],
)
def test_wrong_rows_are_named(text, words):
    with pytest.raises(FenrikError, match=words):
        tools_from_csv(text)


def test_wrong_json_is_named():
    for text, words in (("{", "not JSON"), ('{"x": 1}', "no list"), ('{"tools": [{"number": 1}]}', "tools.0")):
        with pytest.raises(FenrikError, match=words):
            tools_from_json(text)


def test_semicolons_and_commas_as_a_spreadsheet_writes_them():
    text = "number;cutter.kind;cutter.diameter_mm;cutter.flute_length_mm;stick_out_mm\n4;drill;6,8;60;80\n"
    assert tools_from_csv(text)[0].cutter.diameter_mm == 6.8


def test_finding_and_differences():
    tools = [Tool.model_validate(t) for t in SHOP_TOOLS]
    drills = find_tools(tools, kind="drill", smallest_mm=5, largest_mm=7)
    assert drills
    assert all(5 <= t.cutter.diameter_mm <= 7 for t in drills)
    assert find_tools(tools, words="ball 6")
    assert tool_difference(tool(), tool(number=9)) == []
    assert tool_difference(tool(), tool(stick_out_mm=45)) == [("stick_out_mm", 40, 45)]


def test_shortest_stick_out_in_a_deep_pocket():
    # A pocket 30 × 30, 25 deep: a ⌀28 holder with 1 mm to spare cannot come in; a ⌀20 one can.
    block = solid_from_shape(cut(box(0, 0, 0, 60, 60, 40), box(15, 15, 15, 30, 30, 40)))
    mesh = mesh_at(block, 0.01)
    wide = tool(holder=[{"lower_diameter_mm": 40, "upper_diameter_mm": 40, "height_mm": 30}])
    found = shortest_stick_out(mesh, wide)
    assert found.bound == "holder"
    assert found.shortest_mm == pytest.approx(25 + 1, abs=1e-6)
    slim = tool(holder=[{"lower_diameter_mm": 5.9, "upper_diameter_mm": 5.9, "height_mm": 60}])
    assert shortest_stick_out(mesh, slim, margin_mm=0.0).shortest_mm == 15
    cone = tool(holder=[{"lower_diameter_mm": 10, "upper_diameter_mm": 50, "height_mm": 40}])
    # At the wall the tip stands 3 mm from it: the cone (45° less) meets the rim at radius 3 + 1.
    need = shortest_stick_out(mesh, cone, margin_mm=0.0)
    rise = (3 - 5) / ((50 - 10) / 2 / 40)
    assert need.shortest_mm == pytest.approx(25 - min(rise, 0) if rise < 0 else 25, abs=5)
    assert not math.isnan(need.shortest_mm)


def test_tips_of_a_path_decide_where_they_are_given():
    pin = solid_from_shape(cylinder(0, 0, 0, 10, 30))
    holder = tool(holder=[{"lower_diameter_mm": 30, "upper_diameter_mm": 30, "height_mm": 30}])
    beside = np.array([[13.0, 0.0, 10.0]])
    assert shortest_stick_out(mesh_at(pin, 0.01), holder, 0.5, beside).shortest_mm == pytest.approx(20.5)
    far = np.array([[60.0, 0.0, 0.0]])
    assert shortest_stick_out(mesh_at(pin, 0.01), holder, 0.5, far).bound == "cutting length"


def test_a_tool_that_leans_needs_the_same_stick_out_as_an_upright_one_over_the_part_that_leans():
    block = mesh_at(solid_from_shape(cut(box(0, 0, 0, 60, 60, 40), box(15, 15, 15, 30, 30, 40))), 0.01)
    holder = tool(holder=[{"lower_diameter_mm": 24, "upper_diameter_mm": 44, "height_mm": 40}])
    tips = np.array([[20.0, 20.0, 15.0], [30.0, 30.0, 15.0], [5.0, 5.0, 40.0]])
    upright = shortest_stick_out(block, holder, 1.0, tips)
    assert upright.bound == "holder"
    turn = Rotation.from_rotvec([0.4, -0.7, 0.2])
    leaning = replace(block, vertices=turn.apply(block.vertices))
    axes = np.tile(turn.apply([0.0, 0.0, 1.0]), (3, 1))
    found = shortest_stick_out(leaning, holder, 1.0, turn.apply(tips), axes)
    assert found.shortest_mm == pytest.approx(upright.shortest_mm, abs=1e-5)
    assert found.place == pytest.approx(turn.apply([upright.place])[0])

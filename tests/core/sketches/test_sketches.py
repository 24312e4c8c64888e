"""Construction geometry against closed forms, general polygon libraries, and files written by general packages."""

import io
import math

import ezdxf
import numpy as np
import pytest
from shapely.geometry import Point, Polygon

from fenrik.core.errors import FenrikError
from fenrik.core.frames import Frame
from fenrik.core.sketches import Curve, Sketch, region_of, sketch_curves
from fenrik.core.sketches.curve import join_curves, meet, offset_curve, trim_curve
from fenrik.core.sketches.files import drawing_layers, read_drawing
from fenrik.core.sketches.text import text_curves
from fenrik.core.solids import edge_reference_to
from fenrik.core.solids.reading import solid_from_shape
from parts import box, cut, cylinder


def curves(*items, solid=None, files=None):
    sketch = Sketch.model_validate({"id": "s", "items": list(items)})
    return sketch_curves(sketch, solid, Frame(), lambda name: (files or {})[name])


def rectangle(**rest):
    return {"id": "r", "kind": "rectangle", "width_mm": 40, "height_mm": 20, **rest}


def test_lengths_and_areas_in_closed_form():
    own = curves(
        {"id": "l", "kind": "line", "to_x_mm": 3, "to_y_mm": 4},
        {"id": "a", "kind": "arc", "radius_mm": 10, "start_deg": 30, "sweep_deg": -270},
        {"id": "c", "kind": "circle", "radius_mm": 7},
        rectangle(corner_mm=5, turn_deg=30),
        {"id": "p", "kind": "point"},
    )
    assert own["l"][0].length_mm() == pytest.approx(5)
    assert own["a"][0].length_mm() == pytest.approx(10 * math.radians(270))
    assert own["c"][0].length_mm() == pytest.approx(14 * math.pi)
    assert own["r"][0].length_mm() == pytest.approx(2 * (30 + 10) + 10 * math.pi)
    assert region_of(own["r"], 1e-4).area == pytest.approx(800 - (4 - math.pi) * 25, rel=1e-5)
    assert own["p"] == []


@pytest.mark.parametrize("distance", [3.0, -3.0, -6.0])
def test_offsets_against_shapely(distance):
    shape = curves(rectangle(corner_mm=5))["r"][0]
    made = offset_curve(shape, distance)
    wanted = Polygon(shape.flattened(1e-4)).buffer(distance, quad_segs=256)
    assert region_of(made, 1e-4).area == pytest.approx(wanted.area, rel=1e-4)
    assert len(made[0].bulges) <= 8  # arcs stay arcs
    with pytest.raises(FenrikError, match="away"):
        offset_curve(shape, -15.0)


def test_offset_of_open_lines_lies_at_their_right():
    assert offset_curve(Curve.polyline([[0, 0], [10, 0]]), 2.0)[0].points.tolist() == [[0, -2], [10, -2]]
    anticlockwise = Curve.arc(np.zeros(2), 10, 0, 90)
    assert offset_curve(anticlockwise, 2.0)[0].length_mm() == pytest.approx(6 * math.pi)
    assert offset_curve(anticlockwise.reversed(), 2.0)[0].length_mm() == pytest.approx(4 * math.pi)
    corner = offset_curve(Curve.polyline([[0, 0], [10, 0], [10, 10]]), 2.0)[0]
    assert corner.length_mm() == pytest.approx(20 + math.pi)  # the outer side of a left turn lies at the right
    assert offset_curve(Curve.polyline([[0, 0], [10, 0], [10, 10]]), -2.0)[0].length_mm() == pytest.approx(16)


def test_trimming_keeps_the_piece_that_was_pointed_at():
    own = curves(
        {"id": "c", "kind": "circle", "radius_mm": 10},
        {"id": "l", "kind": "line", "x_mm": -20, "y_mm": 6, "to_x_mm": 20, "to_y_mm": 6},
        {"id": "t", "kind": "trim", "of": "c", "by": ["l"], "y_mm": 10},
        {"id": "u", "kind": "trim", "of": "l", "by": ["c"], "y_mm": 6},
    )
    angle = 2 * math.acos(0.6)
    assert own["t"][0].length_mm() == pytest.approx(10 * angle)
    assert own["t"][0].points[:, 1].min() == pytest.approx(6)
    assert own["u"][0].length_mm() == pytest.approx(16)
    with pytest.raises(FenrikError, match="no meeting"):
        trim_curve(Curve.polyline([[0, 0], [1, 0]]), [Curve.polyline([[0, 5], [1, 5]])], np.zeros(2))


def test_meetings_of_arcs():
    a, b = Curve.arc(np.zeros(2), 5, 0, 360), Curve.arc(np.array([6.0, 0]), 5, 0, 360)
    places = {tuple(np.round(p, 6)) for s in a.stretches for t in b.stretches for p in meet(*s, *t)}
    assert places == {(3.0, 4.0), (3.0, -4.0)}


def test_joining_and_regions_with_holes():
    sides = [
        Curve.polyline([[0, 0], [10, 0]]),
        Curve.polyline([[10, 8], [10, 0]]),
        Curve.polyline([[10, 8], [0, 8]]),
        Curve.polyline([[0, 8], [0, 0]]),
    ]
    joined = join_curves(sides)
    assert len(joined) == 1
    assert joined[0].closed
    hole = Curve.arc(np.array([5.0, 4.0]), 2, 0, 360)
    assert region_of([*joined, hole], 1e-4).area == pytest.approx(80 - 4 * math.pi, rel=1e-4)
    with pytest.raises(FenrikError, match="no closed curve"):
        region_of([Curve.polyline([[0, 0], [1, 1]])])


def test_picked_edges_become_curves():
    solid = solid_from_shape(cut(box(0, 0, 0, 50, 30, 10), cylinder(20, 15, -1, 6, 20)))
    rim = next(i for i, e in enumerate(solid.edges) if e.kind == "circle" and e.centre[2] == pytest.approx(10))
    top = [i for i, e in enumerate(solid.edges) if e.kind == "line" and e.points[:, 2].min() > 9.9]
    references = [edge_reference_to(solid, i).model_dump() for i in top]
    own = curves(
        {"id": "e", "kind": "edges", "edges": references},
        {"id": "h", "kind": "edges", "edges": [edge_reference_to(solid, rim).model_dump()]},
        solid=solid,
    )
    assert len(own["e"]) == 1
    assert own["e"][0].closed
    assert own["h"][0].length_mm() == pytest.approx(12 * math.pi)
    with pytest.raises(FenrikError, match="needs a part"):
        curves({"id": "e", "kind": "edges", "edges": references})


def dxf():
    doc = ezdxf.new(units=ezdxf.units.IN)
    space = doc.modelspace()
    space.add_lwpolyline(
        [(0, 0, 0), (2, 0, 1), (2, 1, 0), (0, 1, 0)], format="xyb", close=True, dxfattribs={"layer": "outline"}
    )
    space.add_circle((1, 0.5), 0.25, dxfattribs={"layer": "holes"})
    space.add_arc((0, 0), 1, 350, 10, dxfattribs={"layer": "arc"})
    block = doc.blocks.new("pin")
    block.add_circle((0, 0), 0.1)
    space.add_blockref("pin", (5, 5), dxfattribs={"layer": "holes"})
    stream = io.StringIO()
    doc.write(stream)
    return stream.getvalue().encode()


def test_dxf_in_inches_with_bulges_layers_and_blocks():
    everything = read_drawing(dxf(), "a.dxf")
    assert len(everything) == 4
    outline = read_drawing(dxf(), "a.dxf", "outline")[0]
    assert outline.length_mm() == pytest.approx((2 + 1 + 2 + math.pi / 2) * 25.4)
    assert read_drawing(dxf(), "a.dxf", "arc")[0].length_mm() == pytest.approx(25.4 * math.radians(20))
    assert set(drawing_layers(dxf())) == {"outline", "holes", "arc"}
    with pytest.raises(FenrikError, match="on layer nothing"):
        read_drawing(dxf(), "a.dxf", "nothing")


def test_svg_lengths_are_mm_and_y_points_up():
    svg = b"""<svg xmlns="http://www.w3.org/2000/svg" width="100mm" height="50mm" viewBox="0 0 100 50">
    <rect x="10" y="10" width="30" height="20"/><circle cx="70" cy="25" r="8"/><path d="M0 0 L10 0 A5 5 0 0 1 20 0"/></svg>"""
    found = read_drawing(svg, "a.svg")
    by_length = sorted(c.length_mm() for c in found)
    assert by_length == pytest.approx([10 + 5 * math.pi, 16 * math.pi, 100], rel=1e-6)
    rect = next(c for c in found if c.length_mm() == pytest.approx(100))
    assert rect.points[:, 1].max() == pytest.approx(-10)


@pytest.mark.parametrize(
    ("data", "name"),
    [
        (b"", "a.dxf"),
        (b"garbage", "a.dxf"),
        (b"<svg", "a.svg"),
        (b"x", "a.pdf"),
        (b"<svg xmlns='http://www.w3.org/2000/svg'/>", "a.svg"),
    ],
)
def test_bad_drawings_say_what_to_do(data, name):
    with pytest.raises(FenrikError) as error:
        read_drawing(data, name)
    assert error.value.problems[0].way_out


def test_text_stands_on_its_baseline():
    strokes = text_curves("H", 7.0)
    places = np.concatenate([c.points for c in strokes])
    assert (places[:, 1].min(), places[:, 1].max()) == (pytest.approx(0), pytest.approx(7))
    right = np.concatenate([c.points for c in text_curves("Skarrow", 5.0, "right")])
    assert right[:, 0].max() == pytest.approx(0)
    two = np.concatenate([c.points for c in text_curves("A\nB", 7.0)])
    assert two[:, 1].min() < -4
    with pytest.raises(FenrikError, match="does not have"):
        text_curves("½", 5.0)


def test_items_that_refer_wrongly_are_named():
    with pytest.raises(FenrikError, match="not there"):
        curves({"id": "o", "kind": "offset", "of": "x"})
    with pytest.raises(FenrikError, match="round in a circle"):
        curves({"id": "o", "kind": "offset", "of": "p"}, {"id": "p", "kind": "offset", "of": "o"})


def test_a_sketch_bounds_a_finishing_path_with_a_keep_out():
    from fenrik.core.build import Build
    from fenrik.core.job_reading import parse_job
    from fenrik.core.solids.writing import write_solid
    from fenrik.core.store import MemoryStore

    step = write_solid(solid_from_shape(box(0, 0, 0, 60, 40, 10)), ".step")
    job = parse_job(
        {
            "part": {"file": "a.step"},
            "tools": [
                {"number": 1, "cutter": {"kind": "ball", "diameter_mm": 6, "flute_length_mm": 20}, "stick_out_mm": 40}
            ],
            "setups": [{"id": "a", "work_zero": {"kind": "box point", "of": "part", "at": [0, 0, 1]}}],
            "sketches": [
                {"id": "s", "setup": "a", "items": [rectangle(), {"id": "c", "kind": "circle", "radius_mm": 4}]}
            ],
            "operations": [
                {
                    "number": 10,
                    "setup": "a",
                    "tool": 1,
                    "params": {
                        "strategy": "parallel finishing",
                        "stepover_mm": 1,
                        "boundary": {"kind": "sketch", "sketch": "s"},
                    },
                }
            ],
            "cell_mm": 0.8,
        }
    )
    path = Build(job, step, MemoryStore()).path(job.operations[0]).toolpath
    cutting = path.point[path.kind == 3] - [30, 20, 0]
    inside = Polygon([(-20, -10), (20, -10), (20, 10), (-20, 10)]).difference(Point(0, 0).buffer(4))
    assert len(cutting) >= 30
    assert np.ptp(cutting[:, 0]) == pytest.approx(40, abs=0.01)
    assert all(inside.buffer(1e-3).contains(Point(*p[:2])) for p in cutting)

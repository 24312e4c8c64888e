"""Contours of every kind of cutter: volumes against closed forms, the convex profile against a general offset."""

import math

import numpy as np
import pytest
from kinds import KINDS, cutter
from pydantic import ValidationError
from shapely.geometry import LineString, Polygon

from fenrik.core.cutting.threads import standard_threads
from fenrik.core.errors import FenrikError
from fenrik.core.tools import Tool, assembly_of, cutting_profile, profile_of
from fenrik.core.tools.apt import apt_parameters
from fenrik.core.tools.contour import flatten_contour
from fenrik.core.tools.holders import standard_holders
from fenrik.core.tools.kernels import height
from fenrik.core.tools.underside import underside_of, undersides_of


def revolved_volume(places):
    """Volume of revolution of a chain from the axis (Pappus on the polygon below it)."""
    ring = Polygon([*places, (0, places[-1][1])])
    return 2 * math.pi * ring.centroid.x * ring.area


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_has_a_contour_from_the_axis_to_its_top(kind):
    c = cutter(kind)
    places = flatten_contour(c.contour(), 0.5)
    assert places[0] == (0, 0)
    assert max(r for r, _ in places) == pytest.approx(max(c.diameter_mm / 2, getattr(c, "widest_mm", 0) / 2), abs=1e-6)
    assert min(r for r, _ in places) >= 0
    assert len(apt_parameters(c)) == 7


@pytest.mark.parametrize(
    ("kind", "volume"),
    [
        ("flat", math.pi * 25 * 20),
        ("ball", 2 / 3 * math.pi * 125 + math.pi * 25 * 15),
        ("drill", math.pi * 25 * (20 - 5 / math.tan(math.radians(59)) * 2 / 3)),
        (
            "dovetail",
            math.pi
            * 5
            / 3
            * (25 + 5 * (5 - 5 / math.tan(math.radians(60))) + (5 - 5 / math.tan(math.radians(60))) ** 2),
        ),
        ("lollipop", math.pi * (4 / 3 * 125 - 1 * (3 * 5 - 1) / 3) + math.pi * 9 * 11),
    ],
)
def test_volumes_in_closed_form(kind, volume):
    # The lollipop's ball loses a cap of height 1 (⌀6 neck on ⌀10): π·h²·(3R − h)/3.
    assert revolved_volume(flatten_contour(cutter(kind).contour(), 0.2)) == pytest.approx(volume, rel=1e-4)


@pytest.mark.parametrize("kind", KINDS)
def test_every_cutter_is_a_closed_profile_of_convex_runs(kind):
    """Radius at each height against the contour as a polygon (Shapely); each run is a concave function of height."""
    c = cutter(kind)
    profile = profile_of(c.contour())
    places = flatten_contour(c.contour(), 0.1)
    body = Polygon([*places, (0, places[-1][1])]).buffer(0)
    assert profile.bottom_mm == 0
    assert profile.top_mm == pytest.approx(max(z for _, z in places))
    for z in np.linspace(0.05, profile.top_mm - 0.05, 211):
        wide = body.intersection(LineString([(0, z), (100, z)])).bounds[2]
        assert profile.radius_at(z) == pytest.approx(wide, abs=4e-5 + profile.error_mm)
    for first, last in zip(profile.runs[:-1], profile.runs[1:], strict=True):
        low, high = profile.bands[first, 0], profile.bands[last - 1, 1]
        radii = [profile.radius_at(z) for z in np.linspace(low + 1e-9, high - 1e-9, 101)]
        assert np.all(np.diff(radii, 2) <= 1e-9)


def test_what_cuts_and_what_does_not():
    """The neck of a lollipop and of a single-tooth thread mill is no edge."""
    for kind, rest in (("lollipop", {}), ("thread mill", {"teeth": "single"})):
        tool = Tool(number=1, cutter=cutter(kind, **rest), stick_out_mm=30)
        assembly = assembly_of(tool)
        assert [b.role for b in assembly.watched] == ["neck", "shank"]
        assert assembly.watched[0].profile.bottom_mm == assembly.cutting.top_mm
        assert assembly.watched[0].profile.radius_mm < assembly.cutting.radius_mm
    assert cutting_profile(cutter("lollipop")).top_mm == pytest.approx(5 + 4)
    assert {k for k in KINDS if not cutting_profile(cutter(k)).is_plain} == {
        "centre drill",
        "thread mill",
        "slotting cutter",
        "lollipop",
        "barrel",
        "dovetail",
    }


def test_hollow_contours_stand_outside_by_no_more_than_said():
    """A hollow arc from (2, 0) up to (5, 3) about (5, 0): its radius at each height in closed form."""
    bulge = -math.tan(math.pi / 8)
    c = cutter("own contour", places=[[0, 0, 0], [2, 0, bulge], [5, 3, 0], [5, 20, 0]])
    profile = profile_of(c.contour())
    assert 0 < profile.error_mm <= 5e-4
    for angle in np.linspace(0.05, 1.5, 40):
        z, r = 3 * math.sin(angle), 2 + 3 * (1 - math.cos(angle))
        assert -1e-9 <= profile.radius_at(z) - r <= profile.error_mm / math.cos(angle) + 1e-9


def test_undersides_of_cutters_that_turn_inwards():
    """What a tool dropped from above touches with: only what is widest so far."""
    ball = undersides_of(cutting_profile(cutter("lollipop")))
    assert [height(u.elements, 3.0) for u in ball] == pytest.approx([5 - 4])
    disc = undersides_of(cutting_profile(cutter("dovetail")))
    assert [(u.radius_mm, height(u.elements, 4.9)) for u in disc] == [(5.0, 0.0)]
    pilot, cone = undersides_of(cutting_profile(cutter("centre drill")))
    assert (pilot.radius_mm, cone.radius_mm) == pytest.approx((1.5, 5.0))
    assert height(cone.elements, 1.0) == 4.0
    with pytest.raises(FenrikError, match="not a single convex body"):
        underside_of(cutting_profile(cutter("centre drill")))


@pytest.mark.parametrize(
    "kind", ["flat", "ball", "bull-nose", "chamfer mill", "drill", "tapered", "face mill", "own contour"]
)
@pytest.mark.parametrize("offset", [0.0, 0.7])
def test_grown_profiles_against_a_general_offset(kind, offset):
    c = cutter(kind)
    profile = underside_of(cutting_profile(c), offset)
    places = np.array(flatten_contour(c.contour(), 0.25))
    top = places[-1]
    body = Polygon([*places, (top[0], 60), (-top[0], 60), *(places[::-1] * [-1, 1])])
    grown = body.buffer(offset, quad_segs=180) if offset else body
    assert profile.radius_mm == pytest.approx(top[0] + offset, abs=1e-9)
    for rho in np.linspace(0, profile.radius_mm * 0.999, 37):
        line = np.array([[rho, -50], [rho, 50]])
        cut = grown.intersection(LineString(line))
        assert height(profile.elements, rho) == pytest.approx(cut.bounds[1] + offset, abs=4e-3)


@pytest.mark.parametrize(
    ("kind", "rest", "words"),
    [
        ("bull-nose", {"corner_radius_mm": 5}, "below half the diameter"),
        ("drill", {"flute_length_mm": 2}, "shorter than the point"),
        ("tap", {"thread": "M10", "pitch_mm": 1.25}, "not that of M10"),
        ("tap", {"thread": "M99"}, "not a thread"),
        ("lollipop", {"neck_diameter_mm": 10}, "as wide as the ball"),
        ("barrel", {"flank_radius_mm": 4}, "larger than half"),
        ("dovetail", {"flute_length_mm": 20}, "meet before"),
        ("own contour", {"places": [[1, 0, 0], [5, 2, 0]]}, "begin at the tip"),
        ("chamfer mill", {"tip_diameter_mm": 10}, "as wide as the cutter"),
    ],
)
def test_numbers_that_do_not_agree_are_refused(kind, rest, words):
    with pytest.raises(ValidationError, match=words):
        cutter(kind, **rest)


def test_assemblies_stack_up_and_say_what_does_not_fit():
    base = {"number": 3, "cutter": {"kind": "flat", "diameter_mm": 6, "flute_length_mm": 15}, "stick_out_mm": 40}
    tool = Tool.model_validate({**base, "neck_diameter_mm": 5.5, "neck_length_mm": 10, "shank_diameter_mm": 8})
    assert tool.stations() == [("neck", 5.5, 15, 25), ("shank", 8, 25, 40)]
    for more, words in (
        ({"neck_length_mm": 30}, "longer than the stick-out"),
        ({"length_mm": 35}, "more than the tool is long"),
        ({"stick_out_mm": 10}, "shorter than the cutting length"),
    ):
        with pytest.raises(ValidationError, match=words):
            Tool.model_validate({**base, **more})


def test_threads_of_the_standards():
    # ISO 261, ISO 724 (values of the standard's table), ISO 2306; ¼-20 with 0.201 in is common practice.
    threads = standard_threads()
    for name, d2, d1, drill in (("M6", 5.350, 4.917, 5.0), ("M8", 7.188, 6.647, 6.8), ("M10", 9.026, 8.376, 8.5)):
        t = threads[name]
        assert (round(t.pitch_diameter_mm, 3), round(t.minor_mm, 3), t.tap_drill_mm) == (d2, d1, drill)
    quarter = threads["1/4-20 UNC"]
    assert quarter.tap_drill_mm == pytest.approx(0.201 * 25.4)
    assert quarter.pitch_mm == pytest.approx(1.27)


def test_standard_holders_have_the_flange_of_their_standard():
    holders = standard_holders()
    assert holders["ISO 40 collet chuck 25"].sections[-1].lower_diameter_mm == 63.5  # ISO 7388-1
    assert holders["HSK-A 63 shrink chuck 12"].sections[-1].lower_diameter_mm == 63  # ISO 12164-1
    assert all(h.source for h in holders.values())


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("number", ["diameter_mm", "flute_length_mm"])
def test_a_cutter_without_size_is_refused(kind, number):
    """The smallest number above 0 is no size: such a cutter has no contour."""
    with pytest.raises(ValidationError, match=number):
        cutter(kind, **{number: math.ulp(0.0)})


@pytest.mark.parametrize("kind", [k for k in KINDS if k != "own contour"])
def test_any_numbers_are_refused_or_give_a_contour(kind):
    """One that hangs together, outside the axis and above the tip."""
    rng = np.random.default_rng(7)
    names = [n for n in type(cutter(kind)).model_fields if n.endswith(("_mm", "_deg"))]
    taken = 0
    for _ in range(300):
        numbers = {n: 10 ** rng.uniform(-2, 2.5) if n.endswith("_mm") else rng.uniform(3, 170) for n in names}
        try:
            pieces = cutter(kind, **({"thread": ""} if kind == "tap" else {}), **numbers).contour()
        except ValidationError:
            continue
        taken += 1
        ends = [(0.0, 0.0)] + [(p.r1, p.z1) for p in pieces]
        assert np.allclose([(p.r0, p.z0) for p in pieces], ends[:-1], atol=1e-9)
        assert np.min(ends) >= -1e-9
    assert taken > 5


@pytest.mark.parametrize("kind", ["tap", "thread mill"])
def test_a_pitch_without_size_is_refused(kind):
    with pytest.raises(ValidationError, match="pitch_mm"):
        cutter(kind, **{"thread": "", "pitch_mm": math.ulp(0.0)})

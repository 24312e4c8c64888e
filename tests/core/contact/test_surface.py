"""Tip heights on exact faces, from coarse triangles, against closed forms and against very fine triangles."""

from functools import cache

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Fuse
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCone,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakeSphere,
    BRepPrimAPI_MakeTorus,
)
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from test_distance import paraboloid

from fenrik.core.contact import Surface, tip_heights
from fenrik.core.solids.describe import list_faces
from fenrik.core.solids.exact import exact_faces
from fenrik.core.solids.reading import mesh_at, solid_from_shape
from fenrik.core.solids.tessellate import tessellate
from fenrik.core.tools.profile import bull_nose_profile, cone_profile

ENDS = {
    "ball": bull_nose_profile(4, 4, 20),
    "bull-nose": bull_nose_profile(4, 1, 20),
    "flat": bull_nose_profile(4, 0, 20),
    "tapered": cone_profile(1.0, 4.0, 6.0),
}
LYING = gp_Ax2(gp_Pnt(-40, 0, 0), gp_Dir(1, 0.2, 0.1))
LEANING = gp_Ax2(gp_Pnt(0, 0, 0), gp_Dir(0.3, -0.2, 1))
SHAPES = {
    "sphere": lambda: BRepPrimAPI_MakeSphere(gp_Ax2(gp_Pnt(1, 2, -5), gp_Dir(0.3, 0.2, 1)), 30).Shape(),
    "cylinder": lambda: BRepPrimAPI_MakeCylinder(LYING, 25, 90).Shape(),
    "cone": lambda: BRepPrimAPI_MakeCone(LEANING, 30, 8, 40).Shape(),
    "torus": lambda: BRepPrimAPI_MakeTorus(LEANING, 30, 12).Shape(),
}


def _surface(shape, profile, within):
    return Surface.build(*_meshed(shape, within), profile)


@cache
def _meshed(shape, within):
    solid = solid_from_shape(SHAPES[shape]() if isinstance(shape, str) else shape)
    return mesh_at(solid, within), solid.surfaces


@pytest.mark.parametrize("end", ENDS)
@pytest.mark.parametrize("shape", SHAPES)
def test_heights_from_coarse_triangles_are_those_of_fine_ones(shape, end):
    """From triangles 0.2 mm off against triangles 0.0005 mm off (whose plain heights are right within that)."""
    coarse, fine = (_surface(shape, ENDS[end], within) for within in (0.2, 0.0005))
    places = np.random.default_rng(3).uniform(-28, 28, (1500, 2))
    found, settled = coarse.tips(places)
    true, _ = fine.tips(places)
    met = np.isfinite(true)
    here = settled & met
    assert here.sum() > 0.6 * met.sum()
    assert np.abs(found[here] - true[here]).max() < 0.002
    rest = met & ~settled & np.isfinite(found)
    assert np.abs(found[rest] - true[rest]).max(initial=0) < 3.0


@pytest.mark.parametrize(("radius", "corner"), [(4, 4), (4, 1), (4, 0)])
def test_a_sphere_in_closed_form(radius, corner):
    """The tip over a sphere of R: its offset for a ball; a torus' circle rides on it for a bull-nose cutter."""
    surface = _surface(BRepPrimAPI_MakeSphere(100).Shape(), bull_nose_profile(radius, corner, 20), 0.5)
    rng = np.random.default_rng(1)
    away, turn = rng.uniform(0, 70, 800), rng.uniform(0, 2 * np.pi, 800)
    tips, settled = surface.tips(np.column_stack([away * np.cos(turn), away * np.sin(turn)]))
    flat = radius - corner
    rim = np.maximum(away - flat, 0.0)
    want = np.sqrt((100 + corner) ** 2 - rim**2) - corner
    assert settled.mean() > 0.95
    assert np.abs(tips - want)[settled].max() < 1e-6


@pytest.mark.parametrize("corner", [2.0, 1.0])
def test_a_free_form_cup_in_closed_form(corner):
    """A ball or a torus in the cup z = r² / 4f: its circle stands off by r along the normal at the radius s that it
    touches, so it is at s − r·s/√(s² + 4f²) from the axis of the cup, and s²/4f + r·2f/√(s² + 4f²) high."""
    focal, radius = 60.0, 2.0
    face = paraboloid(focal, 40.0)
    mesh = tessellate(face, 0.1)
    surfaces, own = exact_faces(list_faces(face))
    assert own.all()
    surface = Surface.build(mesh, surfaces, bull_nose_profile(radius, corner, 20))
    s, turn = np.random.default_rng(2).uniform(4, 25, (2, 500))
    slant = np.sqrt(s * s + 4 * focal * focal)
    # The torus' circle is wider than its place on the tool's axis by what it stands off from there, outwards.
    away = s - corner * s / slant - (radius - corner)
    places = np.column_stack([away * np.cos(turn), away * np.sin(turn)])
    tips, settled = surface.tips(places)
    assert settled.mean() > 0.95
    want = s * s / (4 * focal) + corner * 2 * focal / slant - corner
    assert np.abs(tips - want)[settled].max() < 1e-6
    assert np.abs(tip_heights(surface.index, places) - want).max() > 1e-3


@pytest.mark.parametrize("end", ["ball", "bull-nose"])
def test_several_bodies_grown_together(end):
    """Leaning bodies over a block, triangles 0.1 mm off: right nearly everywhere, and never below what the triangles
    say by more than those stand off where they are steep. A face that they just miss may be missed."""
    shape = BRepPrimAPI_MakeBox(60.0, 50.0, 12.0).Shape()
    for made in (
        BRepPrimAPI_MakeSphere(gp_Ax2(gp_Pnt(18, 30, 10), gp_Dir(0.2, 0.1, 1)), 9.0),
        BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(38, 20, 9), gp_Dir(-0.2, 0.1, 1)), 9.0, 3.0, 12.0),
        BRepPrimAPI_MakeTorus(gp_Ax2(gp_Pnt(30, 36, 12), gp_Dir(0.1, -0.1, 1)), 10.0, 3.0),
    ):
        shape = BRepAlgoAPI_Fuse(shape, made.Shape()).Shape()
    coarse, fine = (_surface(shape, ENDS[end], within) for within in (0.1, 0.0005))
    places = np.random.default_rng(5).uniform([-3, -3], [63, 53], (5000, 2))
    (found, settled), (true, _) = coarse.tips(places), fine.tips(places)
    plain = tip_heights(coarse.index, places)
    here = settled & np.isfinite(true)
    assert here.sum() > 0.5 * np.isfinite(true).sum()
    assert np.mean(np.abs(found[here] - true[here]) > 0.005) < 0.003
    met = np.isfinite(plain)
    assert (found[met] - plain[met]).min() > -0.4
    assert np.mean(np.abs(found[here] - true[here])) < 0.1 * np.mean(np.abs(plain[here] - true[here]))

"""What a cell reaches: places that are far enough or not by plain geometry, and where the work should lie instead."""

import numpy as np
import trimesh
from cells import CELLS, TOOL, chain_of, flat, spiral
from paths import path_of

from fenrik.core.robots import ArmWishes, CellChain, Turntable, surroundings
from fenrik.core.robots.reach import bands, by_place, reasons

UP = np.array([[0.0, 0, 1]])


def test_a_track_reaches_what_lies_beside_where_it_is():
    """A place at the stand's left end is reached from the left of the track, one at its right end from the right."""
    chain = chain_of("track", 120.0)
    for x in (-1100.0, 1100.0):
        (band,) = bands(chain, path_of(np.array([[x, 0.0, 40.0]] * 3), np.tile(UP, (3, 1))), ArmWishes())
        assert band.name == "E1"
        reached = band.value[band.share > 0.5]
        assert np.abs(reached - (1600 + x)).max() <= 1200
        assert band.share[np.argmin(np.abs(band.value - (1600 + x)))] == 1.0


def test_the_far_side_of_a_figure_is_reached_only_where_the_table_brings_it():
    chain = chain_of("plinth", TOOL.assembly_mm)
    side = path_of(np.array([[260.0, 0, 600]] * 3), np.tile([[1.0, 0, 0.2]], (3, 1)))
    figure = trimesh.creation.cylinder(radius=255, height=1500, sections=40)
    figure.apply_translation([0, 0, 750])
    around = surroundings(CELLS["plinth"], TOOL, [(np.array(figure.vertices), np.array(figure.faces))])
    (band,) = bands(chain, side, ArmWishes(), around)
    facing = np.abs((band.value - 180 + 180) % 360 - 180)
    assert band.share[facing < 40].min() == 1.0
    assert band.share[facing > 150].max() == 0.0


def test_reasons_are_told_apart():
    cell = CELLS["plinth"]
    chain = chain_of("plinth")
    assert reasons(chain, np.array([[5000.0, 0, 0]]), UP, ArmWishes()) == ["reach"]
    narrow = ArmWishes(table="held", ranges=[{"joint": "J1", "low": 90, "high": 170}])
    assert reasons(chain, np.array([[0.0, 0, 300]]), UP, narrow) == ["limit"]
    assert reasons(chain, np.array([[0.0, 0, 300]]), UP, ArmWishes()) == ["way"]
    assert reasons(chain, np.zeros((0, 3)), np.zeros((0, 3)), ArmWishes()) == []
    tight = CellChain(cell.model_copy(update={"turntable": Turntable(name="E1", low_deg=-5, high_deg=5)}), 220.0)
    assert reasons(tight, np.array([[470.0, 0, 300]]), np.array([[1.0, 0, -1.2]]), ArmWishes()) == ["reach"]


def test_the_best_place_is_one_where_all_is_reached():
    """A raster that hangs over the far end of the stand: nearer to the track all of it is reached."""
    path = flat(120, size=500.0)
    far = CELLS["track"].model_copy(update={"table_mm": (2600.0, 1600.0)})
    places = np.array([[0.0, 900.0], [0.0, 450.0], [0.0, 0.0]])
    found = by_place(
        lambda x, y: CellChain(far, 120.0, (x, y, 0.0)), path, ArmWishes(track="held", track_mm=1600), places
    )
    assert (found[0].x_mm, found[0].y_mm) == (0.0, 0.0)
    assert found[0].share == 1.0
    assert [p.share for p in found] == sorted((p.share for p in found), reverse=True)
    assert found[-1].share < 0.5


def test_a_whole_spiral_needs_the_table_to_move():
    chain = chain_of("plinth")
    (place,) = by_place(lambda x, y: chain, spiral(300), ArmWishes(), np.zeros((1, 2)))
    assert place.share == 1.0
    once = by_place(lambda x, y: chain, spiral(300, radius=450, lean=-0.3), ArmWishes(), np.zeros((1, 2)))[0]
    assert once.held_share < 0.95 < once.share

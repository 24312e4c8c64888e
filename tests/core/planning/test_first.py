"""How a part is held first: it lies low with what is to be machined up, whichever way it was modelled."""

import numpy as np
import pytest
from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
from OCP.gp import gp_Ax1, gp_Dir, gp_Pnt, gp_Trsf

from fenrik.core.build import Build
from fenrik.core.job_reading import parse_job
from fenrik.core.planning import first_setup, propose_sides, with_route
from fenrik.core.recipe import Recipe
from fenrik.core.solids.reading import solid_from_shape
from fenrik.core.solids.writing import write_solid
from fenrik.core.store import MemoryStore
from fenrik.core.tools import Tool
from fenrik.demo.shop import SHOP_TOOLS
from parts import box, cut

SMALL, LARGE = {"name": "Small", "travel_mm": [50, 50, 50]}, {"name": "Large", "travel_mm": [600, 400, 400]}


def plate():
    """100 × 60 × 15 with a pocket in its top."""
    return cut(box(0, 0, 0, 100, 60, 15), box(20, 15, 7, 60, 30, 20))


def turned(shape, axis, degrees):
    move = gp_Trsf()
    move.SetRotation(gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(*axis)), np.deg2rad(degrees))
    return BRepBuilderAPI_Transform(shape, move, True).Shape()


def held(shape, machines=(SMALL, LARGE)):
    model = write_solid(solid_from_shape(shape), ".step")
    job = parse_job({"name": "x", "part": {"file": "p.step"}, "machines": list(machines)})
    build = Build(job, model, MemoryStore())
    found = first_setup(build)
    return found, build.with_job(job.model_copy(update={"setups": [found.setup]}))


@pytest.mark.parametrize(
    ("axis", "degrees", "up"),
    [((0, 0, 1), 0, "+z"), ((1, 0, 0), 180, "-z"), ((1, 0, 0), 90, "-y"), ((0, 1, 0), 90, "+x")],
)
def test_the_plate_lies_flat_with_its_pocket_up_however_it_was_modelled(axis, degrees, up):
    found, build = held(turned(plate(), axis, degrees))
    assert found.setup.up.axis == up
    size = np.ptp(build.placing(found.setup).parts, axis=0)
    assert size[2] == pytest.approx(15)
    whole = sum(f.area_mm2 for f in build.solid.faces)
    assert found.seen == pytest.approx(1 - 100 * 60 / whole, abs=0.01)
    assert f"sees {100 * found.seen:.0f} %" in found.words


def test_one_that_lies_slanted_is_turned_level_and_its_stock_fits_close():
    leaning = turned(turned(plate(), (0, 0, 1), 33), (0.3, 1, 0.2), 50)
    found, build = held(leaning)
    assert found.setup.up.kind == "direction"
    size = np.ptp(build.placing(found.setup).parts, axis=0)
    assert sorted(size.tolist()) == pytest.approx([15, 60, 100], abs=0.01)
    assert size[2] == pytest.approx(15, abs=0.01)


def test_one_that_is_turned_in_the_plane_gets_its_box_turned_and_a_round_one_does_not():
    found, build = held(turned(plate(), (0, 0, 1), 25))
    assert np.sort(np.ptp(build.placing(found.setup).parts, axis=0)) == pytest.approx([15, 60, 100], abs=0.01)
    straight, _ = held(plate())
    assert straight.setup.spin_deg == 0


def test_all_sides_of_one_that_is_turned_in_the_plane_lie_along_the_machine():
    block = cut(plate(), *[box(x, 20, -1, 18, 20, 4) for x in (20, 60)])
    _, build = held(turned(block, (0, 0, 1), 25), machines=[LARGE])
    found = propose_sides(build, [Tool.model_validate(t) for t in SHOP_TOOLS], Recipe())
    (below,) = found.setups
    after = build.with_job(with_route(build.job, found))
    assert np.sort(np.ptp(after.placing(below).parts, axis=0)) == pytest.approx([15, 60, 100], abs=0.01)


def test_one_that_the_machine_takes_only_lengthwise_is_laid_lengthwise():
    long = cut(box(0, 0, 0, 300, 390, 30), box(20, 20, 20, 200, 300, 20))
    found, build = held(long)
    assert np.ptp(build.placing(found.setup).parts, axis=0)[:2] == pytest.approx([390, 300])
    found, build = held(turned(long, (0, 0, 1), 65))
    assert np.ptp(build.placing(found.setup).parts, axis=0)[:2] == pytest.approx([390, 300], abs=0.01)


def test_the_first_machine_that_takes_the_stock_is_taken():
    assert held(plate())[0].setup.machine == "Large"
    assert held(box(0, 0, 0, 20, 20, 10))[0].setup.machine == "Small"
    assert held(plate(), machines=[])[0].setup.machine == ""


def test_the_machine_is_chosen_for_the_stock_as_it_is_turned():
    # 104 × 64 with its stock: the machine takes it along its axes, not the 117 × 117 round it as it was modelled.
    near = {"name": "Near", "travel_mm": [130, 90, 90]}
    found, _ = held(turned(plate(), (0, 0, 1), 45), machines=[near, LARGE])
    assert found.setup.machine == "Near"

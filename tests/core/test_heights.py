"""Heights of operations: what they are counted from, picked faces, and paths that keep to them."""

import json

import numpy as np
import pytest
from prism import bore, faces, flat, floor_at, job_for, run, with_targets

from fenrik.core.errors import FenrikError
from fenrik.core.heights import heights_of
from fenrik.core.job_reading import parse_job
from fenrik.core.toolpath import Kind
from parts import box, cut, cylinder

STOCK = {"kind": "box", "z_plus_mm": 3}
DRILL = {"kind": "drill", "diameter_mm": 5, "point_deg": 118}


def stepped():
    """60 × 40 × 20 with a pocket 8 deep, a ledge 5 below the top, and a bore ⌀5."""
    return cut(
        box(0, 0, 0, 60, 40, 20),
        box(20, 10, 12, 20, 20, 20),
        box(50, -1, 15, 20, 50, 20),
        cylinder(10, 20, -1, 2.5, 40),
    )


def pocket_row(**params):
    build = job_for(stepped(), [(1, {"strategy": "pocket clearing", "stepover_mm": 4, **params})], {1: flat(8)}, STOCK)
    return with_targets(build, 10, faces(build, floor_at(12.0)))


def levels(build):
    return {h.name: (round(h.level_mm, 6), round(h.base_mm, 6)) for h in heights_of(build, build.job.operations[0])}


def test_heights_count_from_stock_part_geometry_and_work_zero():
    # The work zero is the part's top: stock to +3, the pocket's floor at −8.
    assert levels(pocket_row()) == {"clearance": (18, 3), "retract": (8, 3), "top": (3, 3), "bottom": (-8, -8)}
    found = levels(pocket_row(top_from="part top", top_mm=1, bottom_from="work zero", bottom_mm=-4))
    assert (found["top"], found["bottom"]) == ((1, 0), (-4, 0))


def test_heights_of_rows_that_ask_for_none_and_of_roughing_in_levels():
    drilled = job_for(stepped(), [(1, {"strategy": "drilling"})], {1: DRILL}, STOCK)
    assert set(levels(with_targets(drilled, 10, faces(drilled, bore(2.5))))) == {"clearance", "retract"}
    rough = job_for(
        stepped(),
        [(1, {"strategy": "level roughing", "stepdown_mm": 2, "stepover_mm": 4, "bottom_mm": -12})],
        {1: flat(8)},
        STOCK,
    )
    found = levels(rough)
    assert (found["top"], found["bottom"]) == ((3, 0), (-12, 0))
    facing = job_for(stepped(), [(1, {"strategy": "facing", "bottom_mm": 0.5})], {1: flat(8)}, STOCK)
    assert levels(facing)["bottom"] == (0.5, 0)


def picked(build, **ends):
    """A job whose row has its top or bottom at the face of a level."""
    data = json.loads(build.job.model_dump_json())
    for end, level in ends.items():
        face = faces(build, floor_at(level))[0]["faces"][0]
        data["operations"][0]["params"] |= {f"{end}_from": "a pick", f"{end}_pick": face}
    return build.with_job(parse_job(data))


def test_a_height_at_a_picked_face_is_where_the_path_begins_and_ends():
    build = picked(pocket_row(stepdown_mm=1.0), top=15.0, bottom=12.0)
    found = levels(build)
    assert (found["top"], found["bottom"]) == ((-5, -5), (-8, -8))
    path = run(build).toolpath
    cutting = np.unique(np.round(path.point[path.kind == Kind.CUT][:, 2], 6))
    assert cutting.tolist() == [12, 13, 14]


def test_a_height_without_its_pick_or_with_a_lost_one_is_told():
    with pytest.raises(FenrikError, match="holds no face"):
        run(pocket_row(top_from="a pick"))
    lost = picked(pocket_row(), bottom=12.0)
    data = json.loads(lost.job.model_dump_json())
    data["operations"][0]["params"]["bottom_pick"] |= {"area_mm2": 1.0, "centroid": [900, 900, 900]}
    with pytest.raises(FenrikError, match="bottom_pick"):
        run(lost.with_job(parse_job(data)))

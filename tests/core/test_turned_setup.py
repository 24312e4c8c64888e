"""A second setup turned by an odd angle: the road to its end, its stock carried over hit by hit."""

import json

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from prism import flat, job_for

from fenrik.core.job_reading import parse_job
from fenrik.core.setups.stocks import EarlierStock
from fenrik.core.stock.shaping import upright

ROUGH = {"strategy": "level roughing", "stepdown_mm": 3, "stepover_mm": 3, "tolerance_mm": 0.1}


@pytest.fixture(scope="module")
def build():
    """A block with a pocket and a slanting bore: roughed from above, then once more along the bore."""
    body = BRepAlgoAPI_Cut(
        BRepPrimAPI_MakeBox(37.0, 29.0, 17.0).Shape(), BRepPrimAPI_MakeBox(gp_Pnt(7, 6, 9), 17.0, 13.0, 20.0).Shape()
    ).Shape()
    axis = gp_Ax2(gp_Pnt(30, 14, 20), gp_Dir(-0.35, 0, -0.94))
    body = BRepAlgoAPI_Cut(body, BRepPrimAPI_MakeCylinder(axis, 3.5, 40.0).Shape()).Shape()
    stock = {"kind": "box", "z_plus_mm": 2, "x_plus_mm": 1, "x_minus_mm": 1}
    made = job_for(body, [(1, ROUGH), (1, ROUGH)], {1: flat(6)}, stock, cell_mm=0.6)
    document = json.loads(made.job.model_dump_json())
    turned = document["setups"][0] | {
        "id": "odd",
        "up": {"kind": "direction", "direction": [0.35, 0.1, 0.94], "came_from": "along the bore"},
        "stock": {"kind": EarlierStock.model_fields["kind"].default, "setup": "top"},
        "work_offset": 55,
    }
    document["setups"].append(turned)
    document["operations"][1]["setup"] = "odd"
    return made.with_job(parse_job(document))


def test_the_turned_setup_goes_on_from_the_very_stock(build):
    first, second = build.job.operations
    top, odd = build.job.setups
    left, given = build.stock_after(first), build.first_stock(odd)
    assert given.leans
    assert given.error_mm == left.error_mm
    in_part = [build.frame(s).to_part(stock.hits()[0]) for s, stock in ((top, left), (odd, given))]
    assert in_part[1] == pytest.approx(in_part[0], abs=1e-9)
    # Its strategy sees it upright, and is told what that costs.
    assert not build.stock_seen(second).leans
    assert build.stock_seen(second).error_mm > given.error_mm


def test_what_later_rows_see_is_cut_on_and_as_the_stock_is(build):
    """The stock that a third row sees was cut with the second row's path; made upright anew it has the same surface."""
    document = json.loads(build.job.model_dump_json())
    document["operations"].append(document["operations"][1] | {"number": 30})
    build = build.with_job(parse_job(document))
    third = build.job.operations[2]
    seen, anew = build.stock_seen(third), upright(build.stock_before(third))
    assert not seen.leans
    gone = [stock.tops() for stock in (build.stock_seen(build.job.operations[1]), seen, anew)]
    cut = np.isfinite(gone[0]) & np.isfinite(gone[1])
    assert (gone[0][cut] - gone[1][cut]).max() > 1
    both = np.isfinite(gone[1]) & np.isfinite(gone[2])
    assert np.quantile(np.abs(gone[1][both] - gone[2][both]), 0.98) < 0.05
    assert np.mean(np.isfinite(gone[1]) != np.isfinite(gone[2])) < 0.01


def test_the_turned_setup_is_cut_and_proven(build):
    _, second = build.job.operations
    odd = build.job.setups[1]
    build.compute(odd)
    summary, columns = build.proof(odd)
    assert summary["findings"] == []
    assert summary["deviation"]["min_mm"] > -0.1 - summary["deviation"]["error_bound_mm"]
    assert float(np.sum(columns["removed"])) > 10
    assert build.stock_after(second).leans

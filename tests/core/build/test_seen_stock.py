"""Which stock a row is made for, and what is started from one: by the motions that follow from it."""

import copy
import json

import numpy as np
import pytest
import trimesh

from fenrik.cli import DONE, WRONG_JOB, main
from fenrik.core.build import Build
from fenrik.core.errors import FenrikError
from fenrik.core.job_reading import parse_job
from fenrik.core.proof.loads import loads_of, summary_of
from fenrik.core.store import MemoryStore
from fenrik.core.toolpath import Feeds, Kind, PathBuilder, SafePlane
from fenrik.demo.modelling import write_step

ROUGH = {"strategy": "level roughing", "stepdown_mm": 5, "stepover_mm": 4, "tolerance_mm": 0.05}
TOOL = {"number": 1, "cutter": {"kind": "flat", "diameter_mm": 8, "flute_length_mm": 25}, "stick_out_mm": 40}
SMALL = {"number": 2, "cutter": {"kind": "flat", "diameter_mm": 4, "flute_length_mm": 25}, "stick_out_mm": 40}


def job(**second):
    """The same roughing twice: the second time nothing stands, unless it sees another stock."""
    rows = [
        {"number": 10, "setup": "a", "tool": 1, "params": ROUGH},
        {"number": 20, "setup": "a", "tool": 1, "params": ROUGH, **second},
    ]
    return {
        "part": {"file": "part.step"}, "tools": [TOOL, SMALL], "operations": rows, "cell_mm": 0.8,
        "setups": [{"id": "a"}, {"id": "b", "stock": {"kind": "earlier setup", "setup": "a"}}],
    }  # fmt: skip


@pytest.fixture(scope="module")
def folder(tmp_path_factory, pocket_shape):
    path = tmp_path_factory.mktemp("seen")
    write_step(pocket_shape, path / "part.step")
    return path


@pytest.fixture(scope="module")
def store():
    return MemoryStore()


def build_of(folder, store, document):
    return Build(parse_job(document), (folder / "part.step").read_bytes(), store)


@pytest.mark.parametrize(
    ("sees", "cuts"),
    [
        ({"kind": "chain"}, False),
        ({"kind": "before row", "row": 10}, True),
        ({"kind": "first stock"}, True),
        ({"kind": "no stock"}, True),
    ],
)
def test_a_row_is_made_for_the_stock_that_it_sees(folder, store, sees, cuts):
    build = build_of(folder, store, job(sees=sees))
    _, second = (build.path(o).toolpath for o in build.job.operations)
    lengths = second.lengths()[second.kind == Kind.CUT].sum()
    assert bool(lengths > 0) is cuts
    chain = build_of(folder, store, job())
    same = build.path_key(build.job.operations[1]) == chain.path_key(chain.job.operations[1])
    assert same is (sees["kind"] == "chain")
    # What is cut is cut from the stock that is there: nothing stands any more, so the path takes nothing.
    loads, _ = build.loads(build.job.operations[1])
    assert loads.removal_mm3_s.sum() == pytest.approx(0.0, abs=1e-6)
    assert build.loads(build.job.operations[0])[0].removal_mm3_s.max() > 0


def test_a_row_named_must_come_before():
    for row in (20, 30):
        with pytest.raises(FenrikError, match="not a row before this one"):
            parse_job(job(sees={"kind": "before row", "row": row}))
    with pytest.raises(FenrikError, match="exactly where"):
        parse_job(job(sees={"kind": "before row"}))


def test_a_setup_starts_from_the_stock_after_a_row(folder, store):
    """Volumes: after no row the whole block, after row 10 what it leaves; and by no row of another setup."""
    document = job()
    volumes = {}
    for after in (None, 10, 20):
        own = copy.deepcopy(document)
        own["setups"][1]["stock"]["after"] = after
        own["operations"][0]["enabled"] = after != 20  # row 20 alone then leaves what 10 left
        build = build_of(folder, store, own)
        volumes[after] = build.first_stock(build.job.setup("b")).volume_mm3()
        assert volumes[after] == build.stock_after_row(build.job.setup("a"), after or 20).volume_mm3()
    low, high = build.placing(build.job.setup("a")).stock
    assert volumes[10] < 0.95 * np.prod(high - low)
    assert volumes[None] == pytest.approx(volumes[10], rel=1e-3)
    document["operations"][0]["enabled"] = False
    document["setups"][1]["stock"]["after"] = 10
    build = build_of(folder, store, document)
    assert build.first_stock(build.job.setup("b")).volume_mm3() == pytest.approx(np.prod(high - low), rel=1e-9)
    document["setups"][1]["stock"]["after"] = 99
    with pytest.raises(FenrikError, match="not a row of that setup"):
        parse_job(document)


def test_the_stock_after_a_row_is_written_as_a_file(folder, tmp_path, capsys):
    path = folder / "job.json"
    path.write_text(json.dumps(job()))
    for name in ("a.stl", "a.3mf"):
        assert main(["stock", str(path), "--row", "10", "--out", str(tmp_path / name)]) == DONE
        told = json.loads(capsys.readouterr().out)
        mesh = trimesh.load(tmp_path / name, force="mesh")
        assert abs(mesh.volume) == pytest.approx(told["volume_mm3"], rel=1e-3)
        assert 0 < told["left_mm3"] < told["volume_mm3"]
    assert main(["stock", str(path), "--row", "99", "--out", str(tmp_path / "b.stl")]) == WRONG_JOB
    assert main(["stock", str(path), "--row", "10", "--out", str(tmp_path / "b.obj")]) == WRONG_JOB


def test_the_reference_tool_must_be_there(folder, store):
    rest = {"strategy": "rest roughing", "stepdown_mm": 5, "tolerance_mm": 0.05, "reference_tool": 7}
    build = build_of(folder, store, job(tool=2, params=rest))
    with pytest.raises(FenrikError, match="not a tool of this job"):
        build.path_key(build.job.operations[1])
    other = {**rest, "reference_tool": 1}
    build = build_of(folder, store, job(tool=2, params=other))
    wider = job(tool=2, params=other)
    wider["tools"][0] = {**TOOL, "cutter": {**TOOL["cutter"], "diameter_mm": 10}}
    again = build_of(folder, store, wider)
    assert build.path_key(build.job.operations[1]) != again.path_key(again.job.operations[1])


def wall_pass(feed=600.0):
    """A cut of 40 mm along a wall."""
    builder = PathBuilder(Feeds(feed, 100, 100), SafePlane.at_height(20.0), 20.0)
    builder.rapid(np.array([0.0, 0.0, 20.0]))
    builder.enter(np.array([0.0, 0.0, 0.0]))
    builder.cut(np.column_stack([np.linspace(1, 40, 40), np.zeros(40), np.zeros(40)]))
    return builder.finish()


@pytest.mark.parametrize(("held", "chip"), [(30.0, 0.5), (90.0, 1.0), (150.0, 1.0)])
def test_chip_feed_and_removal_in_closed_forms(held, chip):
    """fz · sin φ up to a right angle, fz beyond; removal is volume over the time that the motions take."""
    path = wall_pass()
    cuts = path.kind == Kind.CUT
    took = np.where(cuts, 12.0, 0.0)
    loads = loads_of(path, took, np.where(cuts, held, 0.0), 0.1, rpm=3000, flutes=2)
    assert loads.chip_mm[cuts] == pytest.approx(chip * 600 / (3000 * 2))
    seconds = 60 * path.lengths()[cuts].sum() / 600
    middle = np.flatnonzero(cuts)[5:-5]
    assert loads.removal_mm3_s[middle] == pytest.approx(took.sum() / seconds, rel=1e-6)
    assert loads.engagement_deg[~cuts].max() == 0


def test_places_above_what_is_held_are_told_one_by_one():
    path = wall_pass()
    engaged = np.zeros(len(path))
    cuts = np.flatnonzero(path.kind == Kind.CUT)
    engaged[cuts] = 40.0
    engaged[cuts[3:5]] = [60.0, 80.0]  # one place
    engaged[cuts[30]] = 178.0  # another, at full width
    path.held_deg[:] = engaged
    loads = loads_of(path, np.ones(len(path)), engaged, 0.1, 3000, 2)
    told = summary_of(path, loads, 45.0, radius_mm=5.0)
    assert [round(p.engagement_deg) for p in told.above] == [80, 178]
    assert told.above[0].place == pytest.approx((path.point[cuts[4]]).tolist())
    assert (told.most_deg, told.slot_mm, told.planned) == (pytest.approx(178.0), pytest.approx(1.0), True)
    assert summary_of(path, loads, None, 5.0).above == []

"""The job document, keys of artefacts, and the command line on small jobs and on the demo."""

import json
import re

import numpy as np
import pytest
import trimesh

from fenrik.cli import DONE, FAULTS, WRONG_JOB, main
from fenrik.core.build import Build
from fenrik.core.errors import FenrikError
from fenrik.core.job import zero_points
from fenrik.core.job_reading import parse_job
from fenrik.core.keys import key_of
from fenrik.core.placing import Placing
from fenrik.core.posting import read_program
from fenrik.core.store import MemoryStore
from fenrik.demo import demo_job, demo_model
from fenrik.demo.modelling import write_step


def place(job, solid):
    """The first setup of a job worked out on a solid."""
    return Placing(job, job.setups[0], solid, solid, lambda _name: b"", lambda _id: None, None)


def small_job(**changes):
    tool = {"number": 1, "cutter": {"kind": "flat", "diameter_mm": 8, "flute_length_mm": 25}, "stick_out_mm": 40}
    ball = {"number": 2, "cutter": {"kind": "ball", "diameter_mm": 6, "flute_length_mm": 25}, "stick_out_mm": 40}
    job = {
        "name": "Small",
        "part": {"file": "part.step"},
        "tools": [tool, ball],
        "setups": [{"id": "a", "work_zero": {"kind": "box point", "of": "part", "at": [0, 0, 1]}}],
        "operations": [
            {
                "number": 10,
                "setup": "a",
                "tool": 1,
                "params": {"strategy": "level roughing", "stepdown_mm": 5, "stepover_mm": 4, "tolerance_mm": 0.05},
            },
            {
                "number": 20,
                "setup": "a",
                "tool": 2,
                "params": {"strategy": "parallel finishing", "stepover_mm": 2, "tolerance_mm": 0.02},
            },
        ],
        "cell_mm": 0.8,
    }
    return job | changes


@pytest.fixture(scope="module")
def folder(tmp_path_factory, pocket_shape):
    path = tmp_path_factory.mktemp("job")
    write_step(pocket_shape, path / "part.step")
    (path / "job.json").write_text(json.dumps(small_job()))
    return path


def build_of(folder, job=None):
    return Build(parse_job(job or small_job()), (folder / "part.step").read_bytes(), MemoryStore())


def test_keys_do_not_see_order_or_kind_of_number():
    assert key_of("x", 1, a=5, b=[1.0, 2]) == key_of("x", 1, b=[1, 2.0], a=5.0)
    assert key_of("x", 1, a=0.1) != key_of("x", 2, a=0.1)


def test_a_change_makes_only_what_depends_on_it_out_of_date(folder):
    first = build_of(folder)
    changed = small_job()
    changed["operations"][1]["params"]["stepover_mm"] = 1.5
    second = build_of(folder, changed)
    a, b = first.job.operations
    assert first.path_key(a) == second.path_key(second.job.operations[0])
    assert first.path_key(b) != second.path_key(second.job.operations[1])
    renamed = small_job(name="Other")
    renamed["operations"][0]["name"] = "Rough"
    renamed["setups"][0]["work_offset"] = 57
    third = build_of(folder, renamed)
    assert third.path_key(third.job.operations[1]) == first.path_key(b)
    assert third.program_key(third.job.setups[0]) != first.program_key(first.job.setups[0])
    rough = small_job()
    rough["operations"][0]["params"]["stepdown_mm"] = 4
    assert build_of(folder, rough).path_key(parse_job(rough).operations[1]) != first.path_key(b)


def test_nothing_is_computed_twice_and_cancel_leaves_nothing_half(folder):
    build = build_of(folder)
    build.compute(build.job.setups[0])
    count = len(build.store)
    again = Build(build.job, build.model, build.store)
    again.compute(again.job.setups[0], progress=lambda f, w: None)
    assert len(build.store) == count
    cancelled = build_of(folder)

    def stop(fraction, _words):
        if fraction > 0.3:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        cancelled.compute(cancelled.job.setups[0], progress=stop)
    cancelled.compute(cancelled.job.setups[0])
    assert cancelled.store == build.store


def test_frames_stock_and_27_zeros(pocket):
    for axis, size in (("+z", (60, 40, 20)), ("+x", (None, None, 60)), ("-y", (None, None, 40))):
        job = parse_job(small_job(setups=[{"id": "a", "up": {"kind": "axis", "axis": axis}, "spin_deg": 90}]))
        placing = place(job, pocket)
        low, high = placing.stock
        part_low, part_high = pocket.mesh.in_frame(placing.frame).bounds()
        assert np.all(low <= part_low)
        assert np.all(high >= part_high)
        assert (part_high - part_low)[2] == pytest.approx(size[2])
    seen = set()
    for x in (-1, 0, 1):
        for y in (-1, 0, 1):
            for z in (-1, 0, 1):
                job = parse_job(
                    small_job(setups=[{"id": "a", "work_zero": {"kind": "box point", "of": "part", "at": [x, y, z]}}])
                )
                zero = place(job, pocket).zero
                assert zero == pytest.approx([30 * (x + 1), 20 * (y + 1), 10 * (z + 1)])
                seen.add(tuple(zero))
    assert len(seen) == 27


def test_zero_on_a_vertex_and_lost(pocket):
    assert len(zero_points(pocket)["vertex"]) == 16
    good = {"id": "a", "work_zero": {"kind": "point", "of": "vertex", "place": [10, 10, 20]}}
    bad = {"id": "a", "work_zero": {"kind": "point", "of": "vertex", "place": [11, 10, 20]}}
    for data, lost in ((good, False), (bad, True)):
        placing = place(parse_job(small_job(setups=[data])), pocket)
        if lost:
            with pytest.raises(FenrikError, match="lost"):
                placing.zero  # noqa: B018
        else:
            assert placing.zero == pytest.approx([10, 10, 20])


def test_up_by_face_rule(pocket):
    data = {"id": "a", "up": {"kind": "face", "face": {"normal": [1, 0, 0]}}}
    placing = place(parse_job(small_job(setups=[data])), pocket)
    # Two faces look along +x (outside and pocket); the rule takes the first, both give the same direction.
    assert np.allclose(placing.frame.rotation[:, 2], [1, 0, 0])


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"part": {"file": "../../etc/passwd"}}, "part.file"),
        ({"part": {"file": "/etc/passwd"}}, "part.file"),
        ({"setups": []}, "operations.0.setup"),
        ({"tools": []}, "operations.0.tool"),
        ({"setups": [{"id": "a", "retract_mm": 50}]}, "setups.0.retract_mm"),
        ({"setups": [{"id": "a", "stock": {"kind": "box", "x_minus_mm": -1}}]}, "setups.0.stock.x_minus_mm"),
        ({"setups": [{"id": "a", "work_offset": 60}]}, "setups.0.work_offset"),
        ({"version": 9}, "version"),
        ({"x": 1}, "x"),
        ({"cell_mm": 0}, "cell_mm"),
        ({"setups": [{"id": "a"}, {"id": "a"}]}, "setups"),
    ],
)
def test_wrong_documents_name_the_field(change, field):
    with pytest.raises(FenrikError) as error:
        parse_job(small_job(**change))
    assert any(p.field.startswith(field) for p in error.value.problems), error.value.problems


def test_plan_writes_everything(folder, tmp_path, capsys):
    assert main(["plan", str(folder / "job.json"), "--out", str(tmp_path)]) == DONE
    report = json.loads((tmp_path / "report.json").read_text())
    assert [o["number"] for o in report["operations"]] == [10, 20]
    first = report["operations"][0]
    assert set(first) == {
        "number",
        "name",
        "strategy",
        "tool",
        "cuts",
        "motions",
        "cut_length_mm",
        "time_s",
        "compute_s",
        "worst_gouge_mm",
        "worst_excess_mm",
        "peak_engagement_deg",
        "bound_mm",
        "unreached",
        "air_share",
        "feed_limits",
    }
    assert report["setups"][0]["stock_before_mm3"] == pytest.approx(64 * 44 * 21)
    assert report["proof"]["program_vs_path_mm"] <= 0.0005 + 1e-9
    assert report["proof"]["deviation"]["error_bound_mm"] < 0.01
    assert report["peak_memory_mb"] > 0
    assert 0 <= first["air_share"] < 1
    assert first["cuts"]
    assert 0 < report["finish"]["finished_fraction"] < 1
    assert 0 < first["bound_mm"] < 0.05
    lines = (tmp_path / "joints" / "010.csv").read_text().splitlines()
    assert lines[0] == "time_s,X_mm,Y_mm,Z_mm,x,y,z,i,j,k,motion"
    rows = [line.split(",") for line in lines[1:]]
    values = np.array([row[:-1] for row in rows], float)
    assert np.all(np.diff(values[:, 0]) >= 0)
    assert np.array_equal(values[:, 1:4], values[:, 4:7])  # upright on three axes: the joints are the tip
    assert {"cut", "rapid"} <= {row[-1] for row in rows}
    program = (tmp_path / "nc" / report["programs"][0]["file"]).read_bytes()
    assert report["programs"][0]["lines"] == program.count(b"\n")
    read_program(program)
    stock = trimesh.load(tmp_path / "stock.stl")
    assert stock.is_watertight
    assert abs(stock.volume) == pytest.approx(report["setups"][0]["stock_after_mm3"], rel=1e-4)
    assert (tmp_path / "cl" / "010.cl").read_text().startswith("PARTNO/")
    assert "<table" in (tmp_path / "setup-sheet.html").read_text()
    assert "src=" not in (tmp_path / "setup-sheet.html").read_text()


def test_same_bytes_twice_and_only(folder, tmp_path):
    for name in ("a", "b"):
        main(["plan", str(folder / "job.json"), "--out", str(tmp_path / name), "--only", "10", "--cell", "0.6"])
    for file in ("nc", "cl"):
        for p in (tmp_path / "a" / file).iterdir():
            assert p.read_bytes() == (tmp_path / "b" / file / p.name).read_bytes()
    assert (tmp_path / "a" / "stock.stl").read_bytes() == (tmp_path / "b" / "stock.stl").read_bytes()
    assert [o["number"] for o in json.loads((tmp_path / "a" / "report.json").read_text())["operations"]] == [10]


def test_faults_give_exit_code_2(folder, tmp_path, capsys):
    job = small_job()
    job["machines"] = [demo_job("winch-bearing").machines[0].model_dump(mode="json")]
    job["setups"][0] |= {"machine": job["machines"][0]["name"], "on_table_mm": [900, 0]}
    (folder / "far.json").write_text(json.dumps(job))
    assert main(["plan", str(folder / "far.json"), "--out", str(tmp_path), "--only", "10"]) == FAULTS
    assert "travel" in capsys.readouterr().err


def test_a_row_that_cuts_nothing_is_told(folder, tmp_path, capsys):
    """The same once more, after itself."""
    job = small_job()
    first = job["operations"][0]
    over = first | {"number": 12, "params": first["params"] | {"bottom_mm": 100}}
    job["operations"] = [first, first | {"number": 11}, over]
    (folder / "twice.json").write_text(json.dumps(job))
    main(["plan", str(folder / "twice.json"), "--out", str(tmp_path), "--cell", "0.6"])
    rows = json.loads((tmp_path / "report.json").read_text())["operations"]
    assert [row["cuts"] for row in rows] == [True, False, False]
    told = capsys.readouterr().err
    assert "row 11: Nothing stands where it would cut." in told
    # One that leaves something out is not said to have found nothing.
    assert "row 12: Nothing stands" not in told
    assert "row 12: It cuts nothing" in told


def test_what_is_left_out_is_told(folder, tmp_path, capsys):
    """Deep steps in thick stock would take the holder into it: those passes are left out, with reason and way out."""
    job = small_job()
    job["tools"][0] |= {
        "stick_out_mm": 9,
        "holder": [{"lower_diameter_mm": 60, "upper_diameter_mm": 60, "height_mm": 20}],
    }
    job["tools"][0]["cutter"]["flute_length_mm"] = 8
    job["setups"][0]["stock"] = {"kind": "box", "z_plus_mm": 40}
    job["operations"][0]["params"]["stepdown_mm"] = 25
    (folder / "bad.json").write_text(json.dumps(job))
    assert main(["plan", str(folder / "bad.json"), "--out", str(tmp_path), "--only", "10"]) == DONE
    told = capsys.readouterr().err
    assert "row 10: " in told
    assert "left out: the holder would stand" in told
    assert "longer" in told


@pytest.mark.parametrize(
    "text", ["{", "[]", '{"name": 5}', '{"part": {"file": "missing.step"}, "name": "x"}', '{"name": "x"}']
)
def test_wrong_jobs_give_exit_code_1_and_a_list(text, tmp_path, capsys):
    (tmp_path / "j.json").write_text(text)
    assert main(["plan", str(tmp_path / "j.json"), "--out", str(tmp_path / "o")]) == WRONG_JOB
    assert json.loads(capsys.readouterr().err)["problems"][0]["field"]


def test_schema_and_import(folder, capsys):
    assert main(["schema"]) == DONE
    schema = json.loads(capsys.readouterr().out)
    assert schema["$defs"]["LevelRoughing"]["properties"]["stepdown_mm"]["unit"] == "mm"
    assert main(["import", str(folder / "part.step")]) == DONE
    assert json.loads(capsys.readouterr().out)["volume_mm3"] == pytest.approx(40000)
    assert main(["import", str(folder / "nothing.step")]) == WRONG_JOB


def test_example_in_the_docs_is_a_job():
    from pathlib import Path

    text = (Path(__file__).parents[2] / "docs" / "job-format.md").read_text()
    example = re.search(r"```json\n(.*?)```", text, re.S)
    assert parse_job(json.loads(example.group(1))).operations


def test_demo_is_proved_without_findings():
    """The winch bearing; all others are proven in the application."""
    job = demo_job("winch-bearing")
    build = Build(job, demo_model("winch-bearing"), MemoryStore(), 0.8)
    summary, _ = build.proof(job.setups[0])
    assert summary["findings"] == []
    threads = summary["by_operation"].pop("50")
    assert threads["worst_gouge_mm"] < 0.65  # into the tap drill, on purpose
    assert all(r["worst_gouge_mm"] < 0.02 for r in summary["by_operation"].values())
    assert not build.path(job.operations[0]).unreached


def test_a_row_that_cannot_be_computed_is_a_failed_row_and_the_others_are_planned(folder, tmp_path, capsys):
    job = small_job()
    bad = json.loads(json.dumps(job["operations"][0])) | {"number": 15}
    bad["params"]["stepover_mm"] = 200
    job["operations"].insert(1, bad)
    (folder / "half.json").write_text(json.dumps(job))
    assert main(["plan", str(folder / "half.json"), "--out", str(tmp_path)]) == FAULTS
    report = json.loads((tmp_path / "report.json").read_text())
    assert [f["number"] for f in report["failed"]] == [15]
    assert "stepover_mm" in report["failed"][0]["why"]
    assert [o["number"] for o in report["operations"]] == [o["number"] for o in job["operations"] if o["number"] != 15]
    assert "Row 15 is not in the program" in capsys.readouterr().err

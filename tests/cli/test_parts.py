"""The command line before the first cut: the same answers as the library, and clear refusals."""

import json
import subprocess
import sys

import pytest

from fenrik.cli import DONE, WRONG_JOB, main
from fenrik.core.solids import read_solid
from fenrik.core.solids.xcaf import NamedShape, write_step
from fenrik.core.warm import warm_opening
from parts import box, cut, cylinder, plate


@pytest.fixture(scope="module")
def step(tmp_path_factory):
    path = tmp_path_factory.mktemp("cli") / "plate.step"
    path.write_bytes(write_step([NamedShape(plate(), "Plate")]))
    return path


def run(capsys, *arguments):
    code = main([str(a) for a in arguments])
    out = capsys.readouterr()
    return code, out.out, out.err


def test_features_health_and_import(step, capsys):
    code, out, _ = run(capsys, "features", step)
    assert code == DONE
    assert len(json.loads(out)["holes"]) == 6
    _, out, _ = run(capsys, "features", step, "--from", "0,0,-1")
    assert len(json.loads(out)["holes"]) == 4
    assert json.loads(run(capsys, "health", step)[1]) == []
    assert json.loads(run(capsys, "import", step)[1])["bodies"][0]["name"] == "Plate"


@pytest.mark.parametrize("suffix", ["stl", "3mf", "step"])
def test_convert(step, capsys, tmp_path, suffix):
    out = tmp_path / f"a.{suffix}"
    assert run(capsys, "convert", step, out)[0] == DONE
    assert read_solid(out.read_bytes(), out.name).volume_mm3 == pytest.approx(
        read_solid(step.read_bytes(), "a.step").volume_mm3, rel=1e-3
    )


def test_nothing_but_the_answer_is_on_standard_output(step, tmp_path):
    """In a process of its own: the CAD kernel would tell statistics there, once for each process."""
    out = tmp_path / "a.step"
    command = [sys.executable, "-m", "fenrik.cli"]
    told = subprocess.run([*command, "convert", step, out], capture_output=True, check=True).stdout
    assert json.loads(told)["file"] == "a.step"
    told = subprocess.run([*command, "import", out], capture_output=True, check=True).stdout
    assert json.loads(told)["bodies"][0]["name"] == "Plate"


def test_compare_and_measure(step, capsys, tmp_path):
    other = tmp_path / "b.step"
    other.write_bytes(write_step([NamedShape(cut(box(0, 0, 0, 120, 80, 20), cylinder(25, 20, -1, 4, 30)), "Plate")]))
    changes = json.loads(run(capsys, "compare", step, other)[1])
    assert any("moved by 10, 5, 0" in c["words"] for c in changes["changes"])
    solid = read_solid(step.read_bytes(), "a.step")
    top = next(i for i, f in enumerate(solid.faces) if f.kind == "plane" and f.normal[2] > 0.9 and f.centroid[2] > 19)
    measured = json.loads(run(capsys, "measure", step, f"f{top}", "10,10,32.5")[1])
    assert next(v["value"] for v in measured["values"] if v["name"] == "distance") == pytest.approx(12.5)


def test_tools_and_speeds(capsys, tmp_path):
    _, text, _ = run(capsys, "tools", "--as", "csv")
    path = tmp_path / "tools.csv"
    path.write_text(text)
    assert len(json.loads(run(capsys, "tools", path)[1])["tools"]) == len(text.strip().splitlines()) - 1
    code, out, _ = run(capsys, "speeds", 108, "Mild steel", "--load", "1")
    assert code == DONE
    assert json.loads(out)["spindle_rpm"]["value"] > 1000


@pytest.mark.parametrize(
    "arguments",
    [
        ("features", "missing.step"),
        ("features", "STEP", "--from", "up"),
        ("measure", "STEP", "f999"),
        ("measure", "STEP", "f0", "f1", "f2"),
        ("convert", "STEP", "out.doc"),
        ("speeds", "1", "Mild steel"),
        ("speeds", "101", "Cheese"),
    ],
)
def test_what_is_wrong_is_said_with_the_way_out(step, capsys, arguments):
    code, _, err = run(capsys, *(step if a == "STEP" else a for a in arguments))
    assert code == WRONG_JOB
    assert json.loads(err)["problems"][0]["way_out"]


def test_a_route_from_the_command_line(step, tmp_path, capsys):
    job = tmp_path / "job.json"
    (tmp_path / "plate.step").write_bytes(step.read_bytes())
    job.write_text(json.dumps({"part": {"file": "plate.step"}, "setups": [{"id": "top"}]}))
    code, out, _ = run(capsys, "route", job, "--out", tmp_path / "routed.json")
    assert code == DONE
    answer = json.loads(out)
    assert any(o["strategy"] == "drilling" for o in answer["operations"])
    assert all(o["rule"] for o in answer["operations"])
    routed = json.loads((tmp_path / "routed.json").read_text())
    assert len(routed["operations"]) == len(answer["operations"])
    code, out, _ = run(capsys, "route", job, "--all-sides")
    assert code == DONE
    everywhere = [o for o in json.loads(out)["operations"] if o["setup"] == "top"]
    assert len(everywhere) == len(answer["operations"])
    code, out, _ = run(capsys, "route", tmp_path / "routed.json", "--all-sides")
    assert code == DONE
    assert "top" not in {o["setup"] for o in json.loads(out)["operations"]}  # there, all is made already
    code, _, err = run(capsys, "route", job, "--setup", "nowhere")
    assert code == WRONG_JOB
    assert "nowhere" in err


def test_the_description_of_the_interface_names_its_routes(capsys):
    code, out, _ = run(capsys, "openapi")
    assert code == DONE
    described = json.loads(out)
    assert "/api/jobs/{job_id}/holes/way" in described["paths"]
    ways = described["components"]["schemas"]["HolesMade"]["properties"]["way"]["enum"]
    assert {"automatic", "tap", "leave"} <= set(ways)


TILTING = {
    "name": "Tern",
    "joints": [
        {"name": "X", "direction": [1, 0, 0], "low": -300, "high": 300},
        {"name": "Y", "direction": [0, 1, 0], "low": -300, "high": 300},
        {"name": "Z", "direction": [0, 0, 1], "low": 0, "high": 400},
        {"name": "A", "kind": "rotary", "carries": "work", "direction": [1, 0, 0], "low": -110, "high": 20},
        {"name": "C", "kind": "rotary", "carries": "work", "direction": [0, 0, 1], "low": -180, "high": 180},
    ],
}


def test_machine_joints_pose_and_reach(capsys, tmp_path):
    file = tmp_path / "tern.json"
    file.write_text(json.dumps(TILTING))
    code, out, _ = run(capsys, "machine", file)
    assert code == DONE
    assert [(j["name"], j["unit"], j["low"]) for j in json.loads(out)["joints"]][3] == ("A", "deg", -110)
    pose = json.loads(run(capsys, "machine", file, "--at", "x=10,A=-30")[1])
    # The table tilted by −30° about X: in the work the tool is turned by 30° about X, towards −Y.
    assert pose["axis"] == pytest.approx([0, -0.5, 0.75**0.5])
    assert pose["point_mm"][0] == pytest.approx(10)
    reach = ",".join(str(v) for v in [*pose["point_mm"], *pose["axis"]])
    found = json.loads(run(capsys, "machine", file, f"--reach={reach}")[1])["solutions"]
    assert len(found) == 1
    assert found[0] == pytest.approx({"X": 10, "Y": 0, "Z": 0, "A": -30, "C": 0}, abs=1e-6)
    for wrong in (["--at", "B=3"], ["--at", "x"], ["--reach", "1,2,3"]):
        code, _, err = run(capsys, "machine", file, *wrong)
        assert code == WRONG_JOB
        assert err
    file.write_text('{"name": "", "joints": 3}')
    assert run(capsys, "machine", file)[0] == WRONG_JOB


def test_the_job_that_a_server_opens_first_is_sound():
    """It runs in the background, where nobody would see it fail."""
    warm_opening()


def test_cutter_location_text_says_what_is_understood_and_what_not(capsys, tmp_path):
    file = tmp_path / "a.cl"
    file.write_text("UNITS/ INCH\nFROM/0,0,1\nFEDRAT/10,IPM\nGOTO/1,0,1,0,0.6,0.8\nHUH/1\n")
    code, out, _ = run(capsys, "cl", file)
    told = json.loads(out)
    assert code == DONE
    assert (told["records"], told["understood"], told["unit"], told["leans"]) == (5, 4, "inch", True)
    assert told["high_mm"] == [25.4, 0, 25.4]
    assert told["not_understood"] == [{"line": 5, "text": "HUH/1", "why": "the word HUH is not known"}]
    assert run(capsys, "cl", tmp_path / "none.cl")[0] == WRONG_JOB


def test_an_arm_stands_where_it_says_and_is_reached_by_all_its_postures(capsys, tmp_path):
    rows = [
        {"d_mm": 500, "a_mm": 150, "alpha_deg": -90}, {"a_mm": 600, "zero_deg": -90}, {"a_mm": 90, "alpha_deg": -90},
        {"d_mm": 640, "alpha_deg": 90}, {"alpha_deg": -90}, {"d_mm": 110},
    ]  # fmt: skip
    joints = [{"name": f"J{k + 1}"} for k in range(6)]
    joints[4] |= {"low_deg": -100, "high_deg": 100}
    file = tmp_path / "arm.json"
    file.write_text(json.dumps({"name": "Gannet", "joints": joints, "shape": {"kind": "link table", "rows": rows}}))
    assert json.loads(run(capsys, "arm", file)[1])["family"] == "spherical wrist"
    reach = "--reach=800,200,600,170,15,-30"
    postures = json.loads(run(capsys, "arm", file, reach)[1])["postures"]
    assert len(postures) >= 4
    for posture in postures:
        at = ",".join(str(v) for v in posture["joints_deg"])
        place = json.loads(run(capsys, "arm", file, f"--at={at}")[1])["place_mm"]
        assert place == pytest.approx([800, 200, 600], abs=1e-6)
        assert posture["within_ends"] == (abs(posture["joints_deg"][4]) <= 100)
    file.write_text(json.dumps({"name": "Gannet", "joints": joints[:5], "shape": {"kind": "link table", "rows": rows}}))
    assert run(capsys, "arm", file)[0] == WRONG_JOB

"""The HTTP interface: changes, conflicts, history, import and export, releases, work, and everything that can go wrong."""

import io
import json
import subprocess
import sys
import threading
import zipfile
from concurrent.futures import ThreadPoolExecutor

import httpx
import numpy as np
import psutil
import pytest
import schemathesis
import trimesh
from hypothesis import HealthCheck, given, settings
from schemathesis.specs.openapi.checks import positive_data_acceptance

from app_fixtures import decode, free_port, patch, wait_for_answer
from cluster import outliving, words_of
from fenrik.app.documents import Change, apply
from fenrik.app.layout import encode
from fenrik.app.problems import Conflict
from fenrik.core.errors import FenrikError
from fenrik.demo import DEMO_JOBS

DEMO = "lantern-bracket"


def test_layout_round_trip():
    meta, arrays = decode(
        encode({"a": 1}, x=np.arange(3, dtype=np.float32), y=np.arange(6, dtype=np.uint8).reshape(2, 3))
    )
    assert meta == {"a": 1}
    assert arrays["y"].tolist() == [[0, 1, 2], [3, 4, 5]]
    assert arrays["x"].tolist() == [0, 1, 2]


def test_change_paths_by_identity_and_conflict():
    document = {"operations": [{"number": 10, "params": {"s": 1.0}}, {"number": 20, "params": {"s": 2.0}}], "tools": []}
    apply(document, Change(path="operations/20/params/s", value=3.0, was=2))
    assert document["operations"][1]["params"]["s"] == 3.0
    with pytest.raises(Conflict, match=r"is now 3\.0; you saw 2"):
        apply(document, Change(path="operations/20/params/s", value=4.0, was=2))
    apply(document, Change(op="move", path="operations/20", value=0))
    assert [o["number"] for o in document["operations"]] == [20, 10]
    apply(document, Change(op="remove", path="operations/20"))
    assert len(document["operations"]) == 1
    for path in ("operations/99/params/s", "nothing/here", "operations/10/params/s/t"):
        with pytest.raises(FenrikError):
            apply(document, Change(path=path, value=1, check=False))


def test_demo_is_ready_with_clean_proofs(client):
    for job in client.get("/api/jobs").json():
        if job["id"] not in DEMO_JOBS:
            continue
        status = client.get(f"/api/jobs/{job['id']}/status").json()
        assert {o["state"] for o in status["operations"]} == {"ready"}
        assert status["missing"] == []
        for setup in status["setups"]:
            if not any(
                o["setup"] == setup["id"] for o in client.get(f"/api/jobs/{job['id']}").json()["document"]["operations"]
            ):
                continue
            assert setup["faults"] == 0
            proof = client.get(f"/api/jobs/{job['id']}/setups/{setup['id']}/proof").json()
            assert proof["findings"] == []
            assert proof["program_vs_path_mm"] <= 0.0005 + 1e-9


def test_change_undo_redo_and_what_goes_out_of_date(client, small_job, wait):
    url = f"/api/jobs/{small_job}"
    client.post(f"{url}/compute", json={"setup": "s1"}).raise_for_status()
    wait(lambda: client.get(f"{url}/status").json()["tasks"][0]["state"] == "done")
    assert client.get(f"{url}/status").json()["setups"][0]["proof"] == "ready"
    assert (
        patch(client, small_job, {"path": "operations/10/params/stepdown_mm", "value": 4, "was": 5}).status_code == 200
    )
    row = client.get(f"{url}/status").json()["operations"][0]
    assert row["state"] == "out of date"
    assert "Stepdown was 5, is 4" in row["reason"]
    client.post(f"{url}/undo")
    status = client.get(f"{url}/status").json()
    assert status["operations"][0]["state"] == "ready"
    assert status["can_redo"]
    client.post(f"{url}/redo")
    assert client.get(url).json()["document"]["operations"][0]["params"]["stepdown_mm"] == 4
    patch(client, small_job, {"path": "name", "value": "Renamed", "was": client.get(url).json()["document"]["name"]})
    assert not client.get(f"{url}/status").json()["can_redo"]
    client.post(f"{url}/undo")
    client.post(f"{url}/undo")
    scale = {"path": "part/scale", "value": 1.01, "check": False}
    assert patch(client, small_job, scale).status_code == 200
    assert client.get(f"{url}/status").json()["operations"][0]["reason"] == "the model changed."


def test_two_people_in_one_field(client, small_job):
    first = patch(client, small_job, {"path": "operations/10/params/stepdown_mm", "value": 3, "was": 5})
    second = patch(client, small_job, {"path": "operations/10/params/stepdown_mm", "value": 2, "was": 5})
    other = patch(client, small_job, {"path": "operations/10/params/stepover_mm", "value": 4, "was": 5})
    assert (first.status_code, second.status_code, other.status_code) == (200, 409, 200)
    assert second.headers["content-type"] == "application/problem+json"
    assert "is now 3" in second.json()["problems"][0]["message"]
    params = client.get(f"/api/jobs/{small_job}").json()["document"]["operations"][0]["params"]
    assert (params["stepdown_mm"], params["stepover_mm"]) == (3, 4)


@pytest.mark.parametrize(
    ("path", "value", "words"),
    [
        ("operations/10/params/stepover_mm", 0, "greater than or equal to 0.001"),
        ("operations/10/params/stepover_mm", 1e-300, "greater than or equal to 0.001"),
        ("cell_mm", 1e-300, "greater than or equal to 0.001"),
        ("tools/1/cutter/diameter_mm", 0, "greater than or equal to 0.01"),
        ("operations/10/tool", 99, "not a tool"),
        ("part/file", "../x.step", "inside the job's folder"),
        ("operations/10/params/stepover_mm", "abc", "number"),
        ("setups/s1/dialect", None, "string"),
    ],
)
def test_bad_values_are_refused_with_their_field(client, small_job, path, value, words):
    before = client.get(f"/api/jobs/{small_job}").json()
    answer = patch(client, small_job, {"path": path, "value": value, "check": False})
    assert answer.status_code == 422
    assert words in answer.json()["problems"][0]["message"]
    assert answer.json()["problems"][0]["field"]
    assert client.get(f"/api/jobs/{small_job}").json() == before


@pytest.mark.parametrize(
    ("data", "name"),
    [
        (b"", "a.step"),
        (b"ISO-10303-21;" + b"\0" * 5000, "a.step"),
        (b"MZ\x90", "a.exe"),
        (b"solid\nvertex nan nan nan\n" * 3, "../../x.stl"),
        (b"\xff" * 100_000, "a.igs"),
        (b"\x00" * 4000, "a.brep"),
    ],
)
def test_hostile_files_leave_nothing_behind(client, small_job, data, name):
    before = client.get(f"/api/jobs/{small_job}").json()
    answer = client.put(f"/api/jobs/{small_job}/part", files={"file": (name, io.BytesIO(data))})
    assert answer.status_code == 422
    assert answer.json()["problems"][0]["way_out"]
    assert client.get(f"/api/jobs/{small_job}").json() == before
    assert client.get("/api/health").status_code == 200


def test_upload_of_200_mb_is_refused(client, small_job):
    answer = client.put(f"/api/jobs/{small_job}/part", files={"file": ("a.stl", io.BytesIO(b"0" * 200_000_000))})
    assert answer.status_code == 422
    assert "MB" in answer.json()["problems"][0]["message"]


def test_export_and_import(client, small_job):
    data = client.get(f"/api/jobs/{small_job}/export").content
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        assert set(archive.namelist()) == {"job.json", "pocket-block.step"}
    made = client.post("/api/jobs/import", files={"file": ("j.zip", io.BytesIO(data))}).json()
    a, b = client.get(f"/api/jobs/{small_job}").json()["document"], made["document"]
    assert a == b
    for bad in (b"PK\x03\x04junk", b"{", b"[1]", b'{"name": 1}'):
        assert client.post("/api/jobs/import", files={"file": ("j.zip", io.BytesIO(bad))}).status_code == 422


def test_scale_mends_a_model(client, small_job):
    url = f"/api/jobs/{small_job}/part"
    client.put(f"{url}/scale", params={"scale": 25.4}).raise_for_status()
    assert client.get(url).json()["summary"]["size_mm"] == pytest.approx([60 * 25.4, 40 * 25.4, 20 * 25.4])
    assert client.put(f"{url}/scale", params={"scale": 0}).status_code == 422


def test_stock_bricks_only_what_changed(client):
    url = f"/api/jobs/{DEMO}/setups/top/proof/stock"
    full, _ = decode(client.get(url, params={"motion": 1000}).content)
    assert full["full"]
    meta, arrays = decode(client.get(url, params={"motion": 1004, "have": 1000}).content)
    assert not meta["full"]
    _, whole = decode(client.get(url, params={"motion": 1004}).content)
    assert 0 < len(arrays["ids"]) < len(whole["ids"]) / 2
    _, coloured = decode(client.get(url, params={"motion": 10**6, "deviation": True}).content)
    assert len(coloured["deviation"]) * 3 == coloured["vertices"].size
    assert np.abs(coloured["deviation"]).max() < 1


def test_the_stock_after_any_row(client):
    """Volumes of the meshes; bricks that differ, put in place of those before, give the whole."""
    url = f"/api/jobs/{DEMO}/setups/top/stock-after"
    rows = [o["number"] for o in client.get(f"/api/jobs/{DEMO}").json()["document"]["operations"]]
    told, before = decode(client.get(url, params={"row": rows[0]}).content)
    assert told["full"]
    assert told["left_mm3"] > 0
    first, _ = decode(client.get(url, params={"row": 0}).content)
    assert first["volume_mm3"] > told["volume_mm3"]
    part, changed = decode(client.get(url, params={"row": rows[1], "have": rows[0]}).content)
    _, whole = decode(client.get(url, params={"row": rows[1]}).content)
    assert not part["full"]
    vertices = {}
    for block in (before, changed):
        ends = np.cumsum(block["vertex_counts"])
        for number, end, count in zip(block["ids"], ends, block["vertex_counts"], strict=True):
            vertices[int(number)] = block["vertices"][int(end - count) : int(end)]
    merged = np.concatenate([vertices[k] for k in sorted(vertices) if len(vertices[k])])
    order = np.argsort(whole["ids"])
    assert (np.diff(order) > 0).all()
    assert merged == pytest.approx(whole["vertices"])
    file = client.get(f"{url}/file", params={"row": rows[0], "form": "stl"})
    assert abs(trimesh.load(io.BytesIO(file.content), file_type="stl").volume) == pytest.approx(
        told["volume_mm3"], rel=1e-3
    )
    assert client.get(url, params={"row": rows[0], "deviation": True}).status_code == 200
    path, columns = decode(client.get(f"/api/jobs/{DEMO}/operations/{rows[0]}/path").content)
    assert path["load"]["planned"]
    assert columns["engagement"].max() == pytest.approx(path["load"]["most_deg"])
    status = client.get(f"/api/jobs/{DEMO}/status").json()
    assert status["operations"][0]["load"]["target_deg"] == path["load"]["target_deg"]


def test_playing_and_proof_agree_at_the_end(client):
    url = f"/api/jobs/{DEMO}/setups/top/proof/stock"
    count = client.get(f"/api/jobs/{DEMO}/setups/top/proof").json()["motions"]
    _, a = decode(client.get(url, params={"motion": count}).content)
    _, columns = decode(client.get(f"/api/jobs/{DEMO}/setups/top/proof/columns").content)
    assert len(columns["line"]) == count
    assert np.all(np.diff(columns["end_s"]) >= 0)
    assert a["vertices"].reshape(-1, 3).min(axis=0) == pytest.approx([0, 0, 0], abs=0.5)


def test_release_is_sealed_and_can_be_rebuilt(client):
    made = client.post(f"/api/jobs/{DEMO}/releases")
    assert made.status_code == 201
    number = made.json()["number"]
    program = next(f for f in made.json()["files"] if f.startswith("nc/"))
    url = f"/api/jobs/{DEMO}/releases/{number}/files"
    text = client.get(f"{url}/{program}").content
    assert text == client.get(f"/api/jobs/{DEMO}/setups/top/programs").json()[0]["text"].encode()
    assert "setup sheet" in client.get(f"{url}/setup-sheet.html").text
    assert client.get(f"{url}/../../../secret").status_code in (404, 422)
    assert client.get(f"/api/jobs/{DEMO}/setup-sheet").status_code == 200


def test_cancel(client, small_job, wait):
    url = f"/api/jobs/{small_job}"
    patch(
        client,
        small_job,
        {"path": "operations/10/params/stepdown_mm", "value": 0.15, "check": False},
        {"path": "cell_mm", "value": 0.2, "check": False},
    )
    task = client.post(f"{url}/compute", json={"setup": "s1"}).json()["task"]
    wait(lambda: client.get(f"{url}/status").json()["tasks"][0]["state"] == "running")
    client.post(f"/api/tasks/{task}/cancel").raise_for_status()
    wait(lambda: client.get(f"{url}/status").json()["tasks"][0]["state"] == "cancelled", 60)


def test_a_row_that_cuts_nothing_says_why_where_it_left_something_out(client, small_job, wait):
    url = f"/api/jobs/{small_job}"
    good = client.get(url).json()["document"]["operations"][0]
    over = good | {"number": 30, "params": good["params"] | {"bottom_mm": 100}}
    for row in (good | {"number": 20}, over):
        patch(client, small_job, {"op": "add", "path": "operations", "value": row}).raise_for_status()
    client.post(f"{url}/compute", json={"setup": "s1"}).raise_for_status()
    wait(lambda: client.get(f"{url}/status").json()["setups"][0]["proof"] == "ready")
    rows = client.get(f"{url}/status").json()["operations"]
    assert [r["cuts"] for r in rows] == [True, False, False]
    assert [r["reason"] for r in rows] == ["", "", "No stock stands over the bottom."]


def test_failed_work_says_why(client, small_job, wait):
    url = f"/api/jobs/{small_job}"
    good = client.get(url).json()["document"]["operations"][0]
    patch(client, small_job, {"path": "operations/10/params/stepover_mm", "value": 200, "was": 5}).raise_for_status()
    patch(client, small_job, {"op": "add", "path": "operations", "value": good | {"number": 20}}).raise_for_status()
    client.post(f"{url}/compute", json={"setup": "s1"}).raise_for_status()
    wait(lambda: client.get(f"{url}/status").json()["tasks"][0]["state"] == "done")
    status = client.get(f"{url}/status").json()
    assert "Row 10 could not be computed" in status["tasks"][0]["words"]
    # It is a failed row, and no more: the others are computed, and the proof tells what the program goes without.
    assert [o["state"] for o in status["operations"]] == ["failed", "ready"]
    assert "wider than the tool" in status["operations"][0]["reason"]
    findings = client.get(f"{url}/setups/s1/proof").json()["findings"]
    assert [f["operation"] for f in findings if f["kind"] == "not computed"] == [10]
    patch(client, small_job, {"path": "operations/10/params/stepover_mm", "value": 4, "was": 200}).raise_for_status()
    assert client.get(f"{url}/status").json()["operations"][0]["state"] == "out of date"
    # Computed well meanwhile, then taken back: what failed has failed still, and so it has in a copy of the job.
    client.post(f"{url}/compute", json={"setup": "s1"}).raise_for_status()
    wait(lambda: client.get(f"{url}/status").json()["operations"][0]["state"] == "ready")
    client.post(f"{url}/undo").raise_for_status()
    twin = client.post(f"{url}/duplicate").json()["id"]
    for id_ in (small_job, twin):
        row = client.get(f"/api/jobs/{id_}/status").json()["operations"][0]
        assert row["state"] == "failed"
        assert "wider than the tool" in row["reason"]


def test_a_stopped_server_leaves_no_process_behind(server, wait):
    port = free_port()
    process = subprocess.Popen([sys.executable, "-m", "fenrik.cli", "serve", "--port", str(port)])
    children = []
    try:
        wait_for_answer(f"http://127.0.0.1:{port}")
        # The workers begin once the server has all that it computes with.
        wait(lambda: any("worker" in words_of(c) for c in psutil.Process(process.pid).children(recursive=True)))
        children = psutil.Process(process.pid).children(recursive=True)
    finally:
        process.terminate()
        process.wait(30)
    assert outliving(children, 20) == []


def test_a_killed_worker_loses_nothing(server, client, small_job, wait):
    """The worker is killed in the middle; another takes the work up and finishes it."""
    url = f"/api/jobs/{small_job}"
    patch(
        client,
        small_job,
        {"path": "operations/10/params/stepdown_mm", "value": 0.3, "check": False},
        {"path": "cell_mm", "value": 0.25, "check": False},
    )
    client.post(f"{url}/compute", json={"setup": "s1"}).raise_for_status()
    wait(lambda: client.get(f"{url}/status").json()["tasks"][0]["state"] == "running")
    port = server.rsplit(":", 1)[1]
    serving = next(p for p in psutil.process_iter() if {"serve", port} <= set(words_of(p)))
    victims = [p for p in serving.children() if "worker" in words_of(p)]
    assert victims
    for process in victims:
        process.kill()
    wait(lambda: client.get(f"{url}/status").json()["tasks"][0]["state"] == "done", 240)
    assert client.get(f"{url}/status").json()["setups"][0]["proof"] == "ready"


def test_work_that_is_asked_for_at_once_is_all_done(client, small_job, wait):
    url = f"/api/jobs/{small_job}"
    job = client.get(url).json()["document"]
    setups = [job["setups"][0] | {"id": f"t{k}"} for k in range(6)]
    rows = [job["operations"][0] | {"number": 100 + 10 * k, "setup": f"t{k}"} for k in range(6)]
    changes = [
        {"path": "setups", "value": setups, "check": False},
        {"path": "operations", "value": rows, "check": False},
    ]
    patch(client, small_job, *changes).raise_for_status()
    bodies = [{"setup": f"t{k}", "operations": [100 + 10 * k], "proof": False} for k in range(6)]
    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(lambda body: client.post(f"{url}/compute", json=body), bodies))
    assert {a.status_code for a in answers} == {202}
    wait(lambda: {t["state"] for t in client.get(f"{url}/status").json()["tasks"][:6]} == {"done"}, 120)


def test_events_reach_a_second_page(server, client, small_job):
    seen = []

    def listen():
        with httpx.stream("GET", f"{server}/api/events", timeout=20) as stream:
            for line in stream.iter_lines():
                seen.append(line)
                if "data:" in line and small_job in line:
                    return

    thread = threading.Thread(target=listen, daemon=True)
    thread.start()
    while not any("hello" in s for s in seen):
        thread.join(0.1)
    patch(client, small_job, {"path": "name", "value": "Seen", "check": False})
    thread.join(15)
    assert any(small_job in s for s in seen)


def test_numbers_as_typed(client):
    assert client.post("/api/number", json={"text": "3/8in"}).json()["value"] == pytest.approx(9.525)
    assert client.post("/api/number", json={"text": "rm -rf"}).status_code == 422


def test_unknown_things(client):
    for path in (
        "/api/jobs/nope",
        "/api/jobs/nope/status",
        f"/api/jobs/{DEMO}/setups/nope/scene",
        f"/api/jobs/{DEMO}/operations/99/path",
    ):
        answer = client.get(path)
        assert answer.status_code == 422
        assert answer.json()["problems"][0]["way_out"]
    assert client.get("/api/nothing").status_code == 404


@pytest.fixture
def shop_as_it_was(client):
    """What made-up requests put into the shop's library is taken out again."""
    recipe = client.get("/api/library/recipe").json()
    tools = client.get("/api/library/tools.json").content
    yield
    known = {t["number"] for t in json.loads(tools)["tools"]}
    for tool in client.get("/api/library/tools").json():
        if tool["number"] not in known:
            client.delete(f"/api/library/tools/{tool['number']}").raise_for_status()
    client.post("/api/library/tools/import", files={"file": ("t.json", tools)}).raise_for_status()
    client.put("/api/library/recipe", json=recipe).raise_for_status()


@pytest.mark.usefixtures("shop_as_it_was")
def test_any_request_keeps_to_the_contract(server):
    """schemathesis: every operation of the OpenAPI with made-up input, all its checks but one; it is not in the schema
    whether there is a job of that name, or whether the numbers of a tool fit together."""
    schema = schemathesis.openapi.from_url(f"{server}/openapi.json")
    for result in schema.exclude(operation_id=["events", "compute"]).get_all_operations():
        operation = result.ok()
        strategy = operation.as_strategy()

        @settings(max_examples=8, deadline=None, suppress_health_check=list(HealthCheck))
        @given(case=strategy)
        def check(case):
            response = case.call(base_url=server)
            case.validate_response(response, excluded_checks=[positive_data_acceptance])
            if response.status_code >= 400:
                assert "application/problem+json" in str(response.headers["content-type"])

        check()


@pytest.mark.parametrize("name", ["a\x00b", "\ud800"])
def test_characters_that_cannot_be_kept(client, name):
    answer = client.post("/api/jobs", content=json.dumps({"name": name}), headers={"content-type": "application/json"})
    assert answer.status_code == 422
    assert answer.json()["problems"][0]["way_out"]


def test_a_tool_is_drawn_before_it_is_kept_and_only_if_it_is_one(client):
    cutter = {"kind": "flat", "diameter_mm": 10, "flute_length_mm": 20}
    drawn = client.post("/api/tools/outline", json={"number": 1, "cutter": cutter, "stick_out_mm": 40})
    assert [b["name"] for b in drawn.json()] == ["cutter", "shank"]
    assert drawn.json()[0]["points"] == [[0, 0], [5, 0], [5, 20], [0, 20]]
    none = client.post("/api/tools/outline", json={"number": 1, "cutter": cutter | {"diameter_mm": -3}})
    assert none.status_code == 422
    assert "diameter_mm" in none.text

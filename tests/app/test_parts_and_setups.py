"""The HTTP interface before the first cut: models and their revisions, features, measures, files, setups, library."""

import io
import json
import zipfile

import ezdxf
import numpy as np
import pytest

from app_fixtures import decode, patch
from fenrik.core.solids.xcaf import NamedShape, write_step
from parts import box, cut, cylinder, plate

DIAL = "dial-plate"


def step(shape, name="Plate"):
    return write_step([NamedShape(shape, name)])


@pytest.fixture
def job(client):
    id_ = client.post("/api/jobs", json={"name": "New job"}).json()["id"]
    client.put(f"/api/jobs/{id_}/part", files={"file": ("plate.step", step(plate()))}).raise_for_status()
    answer = patch(
        client, id_, {"op": "add", "path": "setups", "value": {"id": "s1", "machine": "Gull (three-axis mill)"}}
    )
    answer.raise_for_status()
    return id_


def test_a_new_job_knows_the_shop(client):
    document = client.post("/api/jobs", json={"name": "Fresh"}).json()["document"]
    names = {m["name"] for m in document["materials"]}
    assert {"Grey cast iron", "Aluminium, wrought"} <= names
    assert document["machines"][0]["power_kw"] > 0


def test_features_and_references(client, job):
    found = client.get(f"/api/jobs/{job}/part/features").json()
    assert len(found["holes"]) == 6
    below = client.get(f"/api/jobs/{job}/part/features", params={"z": -1}).json()
    assert len(below["holes"]) == 4
    faces = found["holes"][0]["faces"]
    references = client.post(f"/api/jobs/{job}/part/references", json={"faces": faces, "edges": [0]}).json()
    assert len(references["faces"]) == len(faces)
    wrong = client.post(f"/api/jobs/{job}/part/references", json={"faces": [999]})
    assert wrong.status_code == 422
    assert "999" in wrong.json()["problems"][0]["message"]


def test_features_of_a_part_among_other_bodies_are_numbered_in_the_model(client, job):
    data = write_step([NamedShape(box(-50, 0, 0, 20, 20, 20), "Nest"), NamedShape(plate(), "Plate")])
    client.put(f"/api/jobs/{job}/part", files={"file": ("two.step", data)}).raise_for_status()
    patch(
        client, job, {"path": "part/roles", "value": [{"body": "Nest", "role": "fixture"}], "was": []}
    ).raise_for_status()
    part = client.get(f"/api/jobs/{job}/part").json()
    assert part["roles"] == ["fixture", "part"]
    found = client.get(f"/api/jobs/{job}/part/features").json()
    assert all(part["faces"][f]["body"] == 1 for h in found["holes"] for f in h["faces"])
    every = [{"body": "Nest", "role": "fixture"}, {"body": "Plate", "role": "left out"}]
    patch(client, job, {"path": "part/roles", "value": every, "check": False}).raise_for_status()
    assert "no body that is the part" in client.get(f"/api/jobs/{job}/part/features").json()["problems"][0]["message"]


def test_picking_tables(client, job):
    meta, arrays = decode(client.get(f"/api/jobs/{job}/part/picking").content)
    count = len(client.get(f"/api/jobs/{job}/part").json()["faces"])
    assert len(arrays["smooth"]) == len(arrays["alike_radius"]) == count
    assert len(meta["lengths"]) == len(arrays["chains"])
    assert arrays["loop_counts"].sum() == len(arrays["loop_edges"])


def test_a_revision_is_compared_and_undone(client, job):
    moved = cut(box(0, 0, 0, 120, 80, 20), cylinder(25, 20, -1, 4, 30))
    faces = client.get(f"/api/jobs/{job}/part").json()["faces"]
    bore = next(f for f in faces if f["radius_mm"] == 4)["reference"]
    gone = next(f for f in faces if f["radius_mm"] == 5)["reference"]
    kept = [{"name": "moves", "items": [bore]}, {"name": "goes", "items": [gone]}]
    patch(client, job, {"path": "selections", "value": kept, "check": False}).raise_for_status()
    answer = client.put(f"/api/jobs/{job}/part", files={"file": ("plate.step", step(moved))}).json()
    assert answer["lost"] == ["selections.goes.items.0"]
    assert answer["followed"] == 1
    assert answer["changed"]["moved"] == 1
    assert answer["document"]["selections"][0]["items"][0]["centroid"] == pytest.approx([25, 20, 10])
    changes = client.get(f"/api/jobs/{job}/part/changes").json()
    assert any("moved by 10, 5, 0" in c["words"] for c in changes)
    client.post(f"/api/jobs/{job}/undo")
    assert len(client.get(f"/api/jobs/{job}/part/features").json()["holes"]) == 6
    assert client.get(f"/api/jobs/{job}/part/changes").json() == []


def test_measurements_follow_and_say_when_they_are_lost(client, job):
    faces = client.get(f"/api/jobs/{job}/part").json()["faces"]
    two = [next(f["reference"] for f in faces if f["radius_mm"] == r) for r in (4, 5)]
    spots = [{"on": "part", "what": w} for w in two]
    now = client.post(f"/api/jobs/{job}/measure", json={"spots": spots}).json()
    assert next(v["value"] for v in now["values"] if v["name"] == "between centres") == pytest.approx(25)
    patch(client, job, {"op": "add", "path": "measurements", "value": {"id": "m1", "spots": spots}}).raise_for_status()
    moved = cut(box(0, 0, 0, 120, 80, 20), cylinder(15, 15, -1, 4, 30), cylinder(15, 48, 12, 5, 10))
    client.put(f"/api/jobs/{job}/part", files={"file": ("plate.step", step(moved))}).raise_for_status()
    followed = client.get(f"/api/jobs/{job}/measurements").json()[0]
    assert next(v["value"] for v in followed["measured"]["values"] if v["name"] == "between centres") == pytest.approx(
        33
    )
    client.put(
        f"/api/jobs/{job}/part", files={"file": ("plate.step", step(box(0, 0, 0, 120, 80, 20)))}
    ).raise_for_status()
    assert "lost" in client.get(f"/api/jobs/{job}/measurements").json()[0]["problem"]


def test_distances_to_stock_fixture_and_table(client, job):
    patch(
        client, job,
        {"op": "add", "path": "setups/s1/fixtures", "value": {"kind": "plate", "id": "p", "place": {"z_mm": -4}}},
        {"path": "setups/s1/table_below_mm", "value": 40, "check": False},
    ).raise_for_status()  # fmt: skip
    faces = client.get(f"/api/jobs/{job}/part").json()["faces"]
    bottom = next(f["reference"] for f in faces if f["normal"] == [0, 0, -1])
    for spot, expected in (
        ({"on": "stock", "setup": "s1", "what": {"normal": [0, 0, 1]}}, 21),
        ({"on": "fixture", "setup": "s1", "fixture": "p", "what": {"normal": [0, 0, 1]}}, 4),
        ({"on": "table", "setup": "s1", "what": {"normal": [0, 0, 1]}}, 40),
    ):
        body = {"spots": [{"on": "part", "what": bottom}, spot]}
        answer = client.post(f"/api/jobs/{job}/measure", json=body)
        values = {v["name"]: v["value"] for v in answer.json()["values"]}
        assert values["along Z"] == pytest.approx(expected, abs=1e-5), spot


def test_seating_and_closing_gaps(client, job):
    clamp = {"kind": "toe clamp", "id": "c", "place": {"x_mm": 60, "z_mm": 40}}
    patch(client, job, {"op": "add", "path": "setups/s1/fixtures", "value": clamp}).raise_for_status()
    _, arrays = decode(client.get(f"/api/jobs/{job}/setups/s1/fixtures/c/geometry").content)
    corners = arrays["vertices"][arrays["triangles"]]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])[:, 2]
    nose = int(arrays["face_ids"][np.flatnonzero((normal < 0) & (corners[:, :, 2].min(axis=1) > 39.9))[0]])
    faces = client.get(f"/api/jobs/{job}/part").json()["faces"]
    top = next(k for k, f in enumerate(faces) if f["normal"] == [0, 0, 1] and f["centroid"][2] == 20)
    url = f"/api/jobs/{job}/setups/s1/fixtures/c"
    seated = client.post(f"{url}/seat", json={"face": nose, "on": "part", "target_face": top}).json()
    assert seated["document"]["setups"][0]["fixtures"][0]["place"]["z_mm"] == 20
    assert client.post(f"{url}/seat", json={"face": 999, "target_face": 0}).status_code == 422
    scene = client.get(f"/api/jobs/{job}/setups/s1/scene").json()
    assert scene["fixtures"][0]["gap_to_table_mm"] == pytest.approx(0, abs=1e-9)
    patch(client, job, {"path": "setups/s1/table_below_mm", "value": 10, "check": False}).raise_for_status()
    assert client.get(f"/api/jobs/{job}/setups/s1/scene").json()["findings"][0]["kind"] == "gap"
    client.post(f"{url}/close-gap").raise_for_status()
    assert client.get(f"/api/jobs/{job}/setups/s1/scene").json()["findings"] == []


def test_files_of_a_job_travel_with_it(client, job):
    doc = ezdxf.new(units=ezdxf.units.MM)
    doc.modelspace().add_circle((0, 0), 5)
    stream = io.StringIO()
    doc.write(stream)
    client.put(f"/api/jobs/{job}/files", files={"file": ("ring.dxf", stream.getvalue().encode())}).raise_for_status()
    client.put(
        f"/api/jobs/{job}/files", files={"file": ("cast.step", step(box(-5, -5, -5, 130, 90, 30)))}
    ).raise_for_status()
    sketch = {"id": "k", "items": [{"kind": "drawing", "id": "d", "file": "ring.dxf"}]}
    patch(
        client, job, {"op": "add", "path": "sketches", "value": sketch},
        {"path": "setups/s1/stock", "value": {"kind": "file", "file": "cast.step"}, "check": False},
    ).raise_for_status()  # fmt: skip
    exported = client.get(f"/api/jobs/{job}/export").content
    assert set(zipfile.ZipFile(io.BytesIO(exported)).namelist()) == {"job.json", "plate.step", "ring.dxf", "cast.step"}
    copy = client.post("/api/jobs/import", files={"file": ("job.zip", exported)}).json()["id"]
    meta, arrays = decode(client.get(f"/api/jobs/{copy}/sketches/k/curves").content)
    assert meta["lengths"] == [pytest.approx(10 * np.pi)]
    assert np.hypot(arrays["points"][:, 0], arrays["points"][:, 1]).max() == pytest.approx(5, abs=1e-4)
    scene = client.get(f"/api/jobs/{copy}/setups/s1/scene").json()
    assert scene["stock_high"][2] == pytest.approx(25)
    bare = io.BytesIO()
    with zipfile.ZipFile(bare, "w") as archive:
        archive.writestr("job.json", zipfile.ZipFile(io.BytesIO(exported)).read("job.json"))
    assert (
        "lacks"
        in client.post("/api/jobs/import", files={"file": ("job.zip", bare.getvalue())}).json()["problems"][0][
            "message"
        ]
    )


def test_cutter_location_text_becomes_the_path_of_a_row(client, small_job, wait):
    """Brought in, a line that is not understood told, dropped, and told no longer."""
    text = b"UNITS/ MM\nFROM/ 0,-9,40\nFEDRAT/ 500,MMPM\nGOTO/ 0,-9,30\nHUH/ 1\nGOTO/ 60,-9,30\nFINI\n"
    url = f"/api/jobs/{small_job}"
    client.put(f"{url}/files", files={"file": ("ring.cl", text)}).raise_for_status()
    row = {"number": 20, "setup": "s1", "tool": 1, "params": {"strategy": "cutter location text", "file": "ring.cl"}}
    patch(client, small_job, {"op": "add", "path": "operations", "value": row})

    def computed():
        client.post(f"{url}/compute", json={"setup": "s1", "operations": [20], "proof": False}).raise_for_status()
        wait(lambda: all(t["state"] == "done" for t in client.get(f"{url}/status").json()["tasks"]))
        return decode(client.get(f"{url}/operations/20/path").content)[0]["unreached"]

    assert any("Line 5 is not understood" in u["reason"] for u in computed())
    drop = [{"act": "drop", "line": 5}]
    patch(client, small_job, {"path": "operations/20/params/edits", "value": drop, "check": False})
    assert not any("not understood" in u["reason"] for u in computed())


@pytest.mark.parametrize(
    ("name", "data"),
    [
        ("a.dxf", b"nonsense"),
        ("a.svg", b"<svg"),
        ("a.step", b"x"),
        ("a.exe", b"MZ"),
        ("a.cl", b"nothing that moves"),
        ("../a.dxf", b""),
        ("a.3mf", b"PK"),
    ],
)
def test_bad_files_leave_nothing_behind(client, job, name, data):
    before = client.get(f"/api/jobs/{job}").json()
    answer = client.put(f"/api/jobs/{job}/files", files={"file": (name, data)})
    assert answer.status_code == 422
    assert answer.json()["problems"][0]["way_out"]
    assert client.get(f"/api/jobs/{job}").json() == before


def test_export_in_every_form(client, job):
    for form, mark in (("step", b"ISO-10303-21"), ("stl", b"Fenrik"), ("3mf", b"PK"), ("glb", b"glTF")):
        data = client.get(f"/api/jobs/{job}/part/export", params={"form": form})
        assert data.status_code == 200
        assert mark in data.content[:64]


def test_library_take_keep_differences_and_lists(client, job):
    tools = client.get("/api/library/tools", params={"kind": "drill", "smallest_mm": 4.9, "largest_mm": 5.1}).json()
    assert [t["cutter"]["diameter_mm"] for t in tools] == [5.0]
    number = tools[0]["number"]
    document = client.post(f"/api/jobs/{job}/tools/take", json={"numbers": [number, number]}).json()["document"]
    shelf = {t["number"] for t in client.get("/api/library/tools").json()}
    first, second = (t["number"] for t in document["tools"][-2:])
    assert first == number
    assert second not in shelf
    assert client.get(f"/api/jobs/{job}/tools/differences").json() == []
    patch(client, job, {"path": f"tools/{number}/stick_out_mm", "value": 70, "check": False}).raise_for_status()
    different = client.get(f"/api/jobs/{job}/tools/differences").json()
    assert different[0]["fields"][0][0] == "stick_out_mm"
    assert client.post(f"/api/jobs/{job}/tools/take", json={"numbers": [9998]}).status_code == 422
    csv = client.get(f"/api/jobs/{job}/tools.csv").text
    back = client.post(f"/api/jobs/{job}/tools/import", files={"file": ("t.csv", csv.encode())})
    assert back.json()["document"]["tools"] == client.get(f"/api/jobs/{job}").json()["document"]["tools"]
    shop = client.get("/api/library/tools.json").content
    assert client.post("/api/library/tools/import", files={"file": ("t.json", shop)}).json()["tools"] == len(
        json.loads(shop)["tools"]
    )
    broken = client.post("/api/library/tools/import", files={"file": ("t.csv", b"number,cutter.kind\n1,flat")})
    assert "row 2" in broken.json()["problems"][0]["field"]


def test_speeds_and_stick_out(client, job):
    assert "not chosen" in client.get(f"/api/jobs/{job}/tools/1/speeds").json()["problems"][0]["message"]
    patch(client, job, {"path": "material", "value": "Mild steel", "was": ""}).raise_for_status()
    hard, soft = (
        client.get(f"/api/jobs/{job}/tools/1/speeds", params={"setup": "s1", "load": v}).json() for v in (1, 0)
    )
    assert hard["proposal"]["removal_cm3_min"] > soft["proposal"]["removal_cm3_min"]
    offer = client.get(f"/api/jobs/{job}/tools/1/stick-out", params={"setup": "s1"}).json()
    assert offer["shortest_mm"] >= 38
    assert patch(client, job, {"path": "material", "value": "Cheese", "check": False}).status_code == 422


def test_curves_of_the_demo_dial(client):
    meta, arrays = decode(client.get(f"/api/jobs/{DIAL}/sketches/scale/curves").content)
    assert len({i for i in meta["items"] if i.startswith("tick")}) == 72
    assert arrays["points"][:, 2] == pytest.approx(6.5, abs=1e-5)
    assert client.get(f"/api/jobs/{DIAL}/sketches/none/curves").status_code == 422


def test_a_setup_after_another_shows_what_was_cut(client):
    meta, arrays = decode(client.get("/api/jobs/valve-manifold/setups/bottom/stock").content)
    assert meta["as_cut"]
    assert len(arrays["triangles"]) > 100
    scene = client.get("/api/jobs/valve-manifold/setups/bottom/scene").json()
    assert scene["came_from"] == "−Z of the part"

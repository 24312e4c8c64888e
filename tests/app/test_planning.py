"""The HTTP interface of planning: proposals, taking them, coverage, order, the shop's recipe."""

import numpy as np
import pytest

from app_fixtures import decode, patch
from fenrik.core.solids.xcaf import NamedShape, write_step
from parts import cut, cylinder, plate


@pytest.fixture
def job(client):
    id_ = client.post("/api/jobs", json={"name": "New job"}).json()["id"]
    with_side_hole = cut(plate(), cylinder(-1, 60, 10, 3, 13, (1, 0, 0)))
    data = write_step([NamedShape(with_side_hole, "Plate")])
    client.put(f"/api/jobs/{id_}/part", files={"file": ("plate.step", data)}).raise_for_status()
    patch(client, id_, {"op": "add", "path": "setups", "value": {"id": "s1"}}).raise_for_status()
    return id_


def test_a_proposal_is_taken_in_one_step_of_undo(client, job):
    before = client.get(f"/api/jobs/{job}").json()["document"]
    proposal = client.get(f"/api/jobs/{job}/setups/s1/route-proposal").json()
    assert len(proposal["reasons"]) == len(proposal["operations"]) > 3
    taken = client.post(f"/api/jobs/{job}/setups/s1/route-proposal").json()
    document = taken["job"]["document"]
    assert len(document["operations"]) == len(proposal["operations"])
    assert len(document["tools"]) == len(before["tools"]) + len(proposal["tools"])
    client.post(f"/api/jobs/{job}/undo").raise_for_status()
    assert client.get(f"/api/jobs/{job}").json()["document"]["operations"] == []


def test_all_sides_come_with_their_setups_and_go_in_one_step_of_undo(client, job):
    url = f"/api/jobs/{job}/setups/s1/route-proposal?sides=all"
    proposal = client.get(url).json()
    document = client.post(url).json()["job"]["document"]
    assert [s["id"] for s in document["setups"]] == ["s1", *(s["id"] for s in proposal["setups"])]
    assert {o["setup"] for o in document["operations"]} == {s["id"] for s in document["setups"]}
    assert client.get(f"/api/jobs/{job}/coverage").json()["uncovered"] == []
    assert client.get(url).json()["operations"] == []
    client.post(f"/api/jobs/{job}/undo").raise_for_status()
    assert len(client.get(f"/api/jobs/{job}").json()["document"]["setups"]) == 1


def test_holes_made_another_way_are_one_step_of_undo(client, job):
    client.post(f"/api/jobs/{job}/setups/s1/route-proposal").raise_for_status()
    before = client.get(f"/api/jobs/{job}").json()["document"]
    holes = client.get(f"/api/jobs/{job}/part/features").json()["holes"]
    six = next(h for h in holes if abs(h["diameter_mm"] - 8) < 1e-6)
    answer = client.post(f"/api/jobs/{job}/holes/way", json={"faces": six["faces"], "way": "bore milling"}).json()
    rows = answer["job"]["document"]["operations"]
    assert any(o["params"]["strategy"] == "bore milling" and o["number"] > 10 * len(before["operations"]) for o in rows)
    client.post(f"/api/jobs/{job}/undo").raise_for_status()
    assert client.get(f"/api/jobs/{job}").json()["document"]["operations"] == before["operations"]
    assert client.post(f"/api/jobs/{job}/holes/way", json={"faces": [9999], "way": "tap"}).status_code == 422


def test_coverage_counts_down(client, job):
    first = client.get(f"/api/jobs/{job}/coverage").json()
    assert len(first["uncovered"]) == first["features"] > 5
    client.post(f"/api/jobs/{job}/setups/s1/route-proposal").raise_for_status()
    left = client.get(f"/api/jobs/{job}/coverage").json()
    assert len(left["uncovered"]) < first["features"] / 2


def test_a_part_is_held_with_its_best_side_up_and_the_proposal_says_what_it_assumes(client):
    id_ = client.post("/api/jobs", json={"name": "New job"}).json()["id"]
    assert client.get(f"/api/jobs/{id_}/first-setup").status_code == 422
    data = write_step([NamedShape(plate(), "Plate")])
    client.put(f"/api/jobs/{id_}/part", files={"file": ("plate.step", data)}).raise_for_status()
    found = client.get(f"/api/jobs/{id_}/first-setup").json()
    assert found["setup"]["up"] == {"kind": "axis", "axis": "+z"}
    assert found["setup"]["machine"].startswith("Gull")
    assert "+Z is up: it sees" in found["words"]
    patch(client, id_, {"op": "add", "path": "setups", "value": found["setup"]}).raise_for_status()
    url = f"/api/jobs/{id_}/setups/s1/route-proposal"
    assumed = client.get(url).json()["assumed"]
    assert "No material is chosen" in assumed[0]
    patch(client, id_, {"path": "material", "value": "Mild steel", "was": ""}).raise_for_status()
    assert client.get(url).json()["assumed"] == assumed[1:]


def test_the_map_of_what_is_left_goes_to_the_browser_place_by_place(client, job):
    meta, arrays = decode(client.get(f"/api/jobs/{job}/left-over/places").content)
    told = client.get(f"/api/jobs/{job}/finish").json()
    assert not meta["measured"]
    assert arrays["places"].shape == (len(arrays["state"]), 3)
    # No row yet: what the first stock has already is finished, the rest is left.
    assert np.mean(arrays["state"] == 0) == pytest.approx(told["finished_fraction"], abs=0.06)
    assert np.all((arrays["thick"] > 0) == (arrays["state"] > 0))
    assert meta["most_mm"] == pytest.approx(float(arrays["thick"].max()))


def test_what_is_left_over_is_told_by_face_and_gets_rows_by_one_request(client, job):
    told = client.get(f"/api/jobs/{job}/finish").json()
    assert not told["measured"]
    top = max((f for f in told["left_over"] if f["setup"]), key=lambda f: f["area_mm2"])
    assert top["would_do"]
    taken = client.post(f"/api/jobs/{job}/left-over", json={"faces": [top["face"]]}).json()
    assert taken["proposal"]["operations"]
    after = client.get(f"/api/jobs/{job}/finish").json()
    assert after["finished_fraction"] > told["finished_fraction"]
    assert top["face"] not in {f["face"] for f in after["left_over"] if f["area_mm2"] > 0.5 * top["area_mm2"]}
    client.post(f"/api/jobs/{job}/undo").raise_for_status()
    assert client.get(f"/api/jobs/{job}/finish").json() == told
    assert client.post(f"/api/jobs/{job}/left-over", json={"faces": [9999]}).status_code == 422
    hidden = next(f["face"] for f in told["left_over"] if not f["setup"])
    answer = client.post(f"/api/jobs/{job}/left-over", json={"faces": [hidden]})
    assert answer.status_code == 422
    assert "another side up" in answer.text


def test_order_is_read_and_taken(client, job):
    client.post(f"/api/jobs/{job}/setups/s1/route-proposal").raise_for_status()
    order = client.get(f"/api/jobs/{job}/setups/s1/order").json()
    assert order["changes_after"] <= order["changes_before"]
    document = client.post(f"/api/jobs/{job}/setups/s1/order").json()["document"]
    assert [o["number"] for o in document["operations"]] == order["order"]


def test_rules_are_kept_for_new_jobs_and_bad_ones_refused(client, job):
    recipe = client.get("/api/library/recipe").json()
    client.put("/api/library/recipe", json=recipe | {"mill_over_mm": 27}).raise_for_status()
    document = client.post("/api/jobs", json={"name": "Next"}).json()["document"]
    assert document["recipe"]["mill_over_mm"] == 27
    client.put("/api/library/recipe", json=recipe).raise_for_status()
    answer = patch(client, job, {"op": "set", "path": "recipe/stepover_percent", "value": 400, "check": False})
    assert answer.status_code == 422
    assert answer.json()["problems"][0]["field"] == "recipe.stepover_percent"


def test_a_part_that_is_a_mesh_or_missing_says_so(client):
    empty = client.post("/api/jobs", json={"name": "Empty"}).json()["id"]
    answer = client.get(f"/api/jobs/{empty}/coverage")
    assert answer.status_code == 422
    assert "part" in answer.json()["problems"][0]["field"]

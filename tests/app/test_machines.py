"""Machines and cells over HTTP: bodies and joints, an arm's way, what it reaches, and a flange that is moved."""

import numpy as np
import pytest

from app_fixtures import decode, patch

CELL = "Slipway cell (arm on a track)"


@pytest.fixture
def cell_job(client, small_job):
    """The small job on the track cell of the shop; its id."""
    cell = next(c for c in client.get("/api/library/machines").json()["cells"] if c["name"] == CELL)
    patch(
        client, small_job, {"op": "add", "path": "cells", "value": cell},
        {"path": "setups/s1/machine", "value": CELL, "check": False},
        {"path": "setups/s1/dialect", "value": "Posed arm", "check": False},
        {"path": "setups/s1/table_below_mm", "value": 30, "check": False},
    )  # fmt: skip
    return small_job


def computed(client, job, wait, proof=False):
    client.post(f"/api/jobs/{job}/compute", json={"setup": "s1", "operations": [], "proof": proof}).raise_for_status()
    wait(lambda: all(t["state"] in ("done", "failed") for t in client.get(f"/api/jobs/{job}/status").json()["tasks"]))
    return client.get(f"/api/jobs/{job}/status").json()


def test_the_shop_has_machines_and_cells(client):
    found = client.get("/api/library/machines").json()
    assert {"Gull (three-axis mill)", "Razorbill (tilting table)"} <= {m["name"] for m in found["machines"]}
    assert len(found["cells"]) == 2


def test_bodies_stand_about_the_part(client, cell_job):
    meta, arrays = decode(client.get(f"/api/jobs/{cell_job}/setups/s1/machine").content)
    assert meta["cell"]
    assert [j["name"] for j in meta["joints"]] == ["E1", "J1", "J2", "J3", "J4", "J5", "J6"]
    assert sum(b["count"] for b in meta["bodies"]) == len(arrays["corners"])
    # The stand's top, its middle under the work, is where the part's underside is, 30 mm lower.
    stand = next(b for b in meta["bodies"] if b["name"] == "stand")
    corners = arrays["corners"][stand["first"] : stand["first"] + stand["count"]]
    placed = corners @ np.array(meta["turn"]).reshape(3, 3).T + meta["shift"]
    assert placed[:, 2].max() == pytest.approx(-30 - 1, abs=1.1)


def test_a_way_is_solved_told_and_goes_out_of_date_with_a_wish(client, cell_job, wait):
    url = f"/api/jobs/{cell_job}"
    # A wish of its own: what another test solved is known.
    wish = round(float(np.random.default_rng().uniform(0.1, 0.9)), 9)
    patch(client, cell_job, {"path": "operations/10/arm", "value": {"facing": wish}, "check": False})
    refused = client.get(f"{url}/operations/10/arm")
    assert refused.status_code == 422
    assert "Solve it first" in refused.json()["problems"][0]["way_out"]
    before = client.get(f"{url}/status").json()
    assert {"stage": "cell", "message": "The arm's way is not solved for row 10."} in before["missing"]
    status = computed(client, cell_job, wait)
    assert status["operations"][0]["way"] == "ready"
    meta, arrays = decode(client.get(f"{url}/operations/10/arm").content)
    assert meta["lost"] == 0
    n = len(arrays["leap"])
    assert arrays["joints"].shape == (n, 7)
    assert arrays["singular"].min() > 0.03
    assert arrays["clearance"].min() > 0
    assert arrays["room"].min() >= 0
    (band,) = client.get(f"{url}/operations/10/reach").json()
    assert band["name"] == "E1"
    assert max(band["share"]) == 1.0
    places = client.get(f"{url}/operations/10/places", params={"steps": 3}).json()
    assert places[0]["share"] == 1.0
    stretch = client.get(f"{url}/operations/10/stretch", params={"first": 0, "last": 40}).json()
    assert stretch["rows"] == 40
    assert stretch["lost"] == 0
    refused = client.get(f"{url}/operations/10/stretch", params={"first": 10, "last": 10**6})
    assert "rows" in refused.json()["problems"][0]["message"]
    patch(client, cell_job, {"path": "operations/10/arm", "value": {"elbow_high": 1.0}, "check": False})
    after = client.get(f"{url}/status").json()["operations"][0]
    assert (after["state"], after["way"]) == ("ready", "out of date")


def test_a_flange_is_moved_as_far_as_the_arm_reaches(client, cell_job):
    url = f"/api/jobs/{cell_job}"
    meta, _ = decode(client.get(f"{url}/setups/s1/machine").content)
    asked = {"joints": meta["home"], "move_mm": [0, 0, 0]}
    same = client.post(f"{url}/operations/10/standing", json=asked).json()
    assert same["reached"]
    assert same["joints"] == pytest.approx(meta["home"], abs=1e-6)
    up = client.post(f"{url}/operations/10/standing", json=asked | {"move_mm": [0, 0, 25]}).json()
    assert up["reached"]
    assert up["joints"] != pytest.approx(meta["home"], abs=1e-3)
    far = client.post(f"{url}/operations/10/standing", json=asked | {"move_mm": [9000, 0, 0]}).json()
    assert (far["reached"], far["joints"]) == (False, meta["home"])
    wrong = client.post(f"{url}/operations/10/standing", json={"joints": [1.0]})
    assert wrong.status_code == 422
    assert "7 numbers" in wrong.json()["problems"][0]["message"]


def test_a_controller_of_machines_does_not_drive_an_arm(client, cell_job, wait):
    patch(client, cell_job, {"path": "setups/s1/dialect", "value": "Plain ISO", "check": False})
    status = client.get(f"/api/jobs/{cell_job}/status").json()
    assert "drives no arms" in status["setups"][0]["problem"]

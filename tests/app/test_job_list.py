"""The list of jobs: what it shows of each, pictures, copies, deleted jobs that come back, a first start cut short."""

import io

import numpy as np
import psycopg
from PIL import Image

from fenrik.app.settings import database_url


def head(client, job):
    return next((j for j in client.get("/api/jobs").json() if j["id"] == job), None)


def picture(client, job):
    answer = client.get(f"/api/jobs/{job}/picture")
    assert answer.headers["content-type"] == "image/png"
    return np.asarray(Image.open(io.BytesIO(answer.content)))


def test_an_empty_job_says_what_it_lacks_and_has_no_picture(client):
    job = client.post("/api/jobs", json={"name": "Empty"}).json()["id"]
    assert head(client, job)["known"] is False
    told = client.get(f"/api/jobs/{job}/head").json()
    assert (told["state"], told["words"], told["picture"]) == ("empty", "Bring in a model.", "")
    assert head(client, job) == told
    assert client.get(f"/api/jobs/{job}/picture").status_code == 422


def test_the_list_follows_a_job_from_work_to_proof_and_back(client, small_job, wait):
    # Not what another test has computed already.
    own = {"path": "operations/10/params/stepdown_mm", "value": 4.3, "check": False}
    client.patch(f"/api/jobs/{small_job}", json={"label": "x", "changes": [own]}).raise_for_status()
    told = client.get(f"/api/jobs/{small_job}/head").json()
    assert (told["part"], told["setups"], told["rows"]) == ("pocket-block.step", 1, 1)
    assert (told["state"], told["words"]) == ("in work", "Compute and prove the route.")
    client.post(f"/api/jobs/{small_job}/compute", json={"setup": "s1"}).raise_for_status()
    assert head(client, small_job)["state"] in ("waiting", "computing")
    wait(lambda: head(client, small_job)["state"] not in ("waiting", "computing"))
    told = client.get(f"/api/jobs/{small_job}/head").json()
    assert told["state"] == "proven"
    assert told["time_s"] > 10
    # After an update of the code the list does not go by what the code before had proven.
    assert head(client, small_job)["known"] is True
    with psycopg.connect(database_url()) as connection:
        older = "update job set summary = summary || jsonb_build_object('code', 'older') where id = %s"
        connection.execute(older, (small_job,))
    assert (head(client, small_job)["known"], head(client, small_job)["state"]) == (False, "")
    assert client.get(f"/api/jobs/{small_job}/head").json()["state"] == "proven"
    change = {"path": "operations/10/params/stepover_mm", "value": 4.1, "was": 5}
    client.patch(f"/api/jobs/{small_job}", json={"label": "x", "changes": [change]}).raise_for_status()
    assert head(client, small_job)["known"] is False
    assert client.get(f"/api/jobs/{small_job}/head").json()["state"] == "in work"


def test_a_picture_shows_the_part_on_a_clear_ground(client, small_job):
    block, disc = picture(client, small_job), picture(client, "dial-plate")
    assert block.shape == disc.shape == (160, 240, 4)
    for shown in (block, disc):
        assert 0.2 < (shown[..., 3] == 255).mean() < 0.9
        assert not shown[0, 0, 3]
        colours = shown[shown[..., 3] == 255][:, :3]
        assert np.ptp(colours.mean(axis=1)) > 60  # faces that lie otherwise look otherwise
    # The plate is round: its corners in the picture are clear, which the block's box fills further out.
    assert (block[..., 3] > 0).sum() != (disc[..., 3] > 0).sum()


def test_a_copy_goes_its_own_way(client, small_job):
    client.patch(
        f"/api/jobs/{small_job}", json={"label": "x", "changes": [{"path": "name", "value": "Hook", "check": False}]}
    )
    names = []
    for _ in range(2):
        copy = client.post(f"/api/jobs/{small_job}/duplicate").json()
        names.append(copy["document"]["name"])
    assert names == ["Hook (2)", "Hook (2)"]
    again = client.post(f"/api/jobs/{copy['id']}/duplicate").json()
    assert again["document"]["name"] == "Hook (3)"
    change = {"path": "operations/10/params/stepover_mm", "value": 1, "check": False}
    client.patch(f"/api/jobs/{again['id']}", json={"label": "x", "changes": [change]}).raise_for_status()
    mine = client.get(f"/api/jobs/{small_job}").json()["document"]
    assert mine["operations"][0]["params"]["stepover_mm"] == 5
    assert picture(client, again["id"]).tolist() == picture(client, small_job).tolist()


def test_a_deleted_job_is_out_of_sight_and_comes_back_whole(client, small_job, wait):
    before = client.get(f"/api/jobs/{small_job}").json()
    client.post(f"/api/jobs/{small_job}/compute", json={"setup": "s1"})
    assert client.delete(f"/api/jobs/{small_job}").status_code == 204
    assert head(client, small_job) is None
    assert client.get(f"/api/jobs/{small_job}").status_code == 422
    assert client.delete(f"/api/jobs/{small_job}").status_code == 422
    assert client.post(f"/api/jobs/{small_job}/restore").json() == before
    assert head(client, small_job) is not None
    # What it had in the queue was stopped.
    wait(lambda: head(client, small_job)["state"] not in ("waiting", "computing"))
    assert client.post("/api/jobs/nobody/restore").status_code == 422

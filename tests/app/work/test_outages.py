"""The database, the server and its workers end at any moment; the work comes to an end, and nothing is left over."""

import time

import httpx
import pytest

from app_fixtures import set_up_small_job
from cluster import Server, outliving, until


@pytest.fixture(scope="module")
def own_server(own_cluster):
    server = Server(own_cluster.database("outages"))
    server.start("--migrate", "--no-demo")
    yield server
    server.stop()


@pytest.fixture
def busy(own_server, step_file):
    """A job whose computation has begun: (client, address of the job, its task)."""
    with httpx.Client(base_url=own_server.address, timeout=60) as client:
        job = set_up_small_job(client, step_file)
        url = f"/api/jobs/{job}"
        slow = [
            {"path": "operations/10/params/stepdown_mm", "value": 0.3, "check": False},
            {"path": "cell_mm", "value": 0.25, "check": False},
        ]
        client.patch(url, json={"label": "slow", "changes": slow}).raise_for_status()
        task = client.post(f"{url}/compute", json={"setup": "s1"}).json()["task"]
        until(lambda: state(client, url, task)["fraction"] > 0)
        yield client, url, task


def state(client, url, task):
    return next(t for t in client.get(f"{url}/status").json()["tasks"] if t["id"] == task)


def done(client, url, task):
    found = until(lambda: (s := state(client, url, task))["state"] not in ("waiting", "running") and s, 240)
    assert found["state"] == "done", found
    assert client.get(f"{url}/status").json()["setups"][0]["proof"] == "ready"


def test_the_database_is_restarted(busy, own_cluster):
    own_cluster.stop()
    own_cluster.start()
    done(*busy)


def test_the_database_stays_away_for_a_while(busy, own_cluster):
    client, url, _ = busy
    own_cluster.stop()
    assert client.get(url).status_code == 503
    time.sleep(6)
    own_cluster.start()
    done(*busy)


def test_a_worker_is_killed(busy, own_server):
    for worker in own_server.workers():
        worker.kill()
    done(*busy)


def test_the_server_is_killed_and_all_its_processes_go_with_it(busy, own_server):
    family = own_server.family()
    assert family
    own_server.kill()
    assert outliving(family, 20) == []
    own_server.start()
    done(*busy)

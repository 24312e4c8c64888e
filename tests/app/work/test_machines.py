"""Workers on two other machines (network namespaces of this one): one is cut off in the middle, and joined again."""

import os
import shutil
import subprocess
import sys
import time
from contextlib import contextmanager

import httpx
import psycopg
import pytest

from app_fixtures import set_up_small_job
from cluster import Server, cluster, until

pytestmark = pytest.mark.skipif(
    os.getuid() != 0 or shutil.which("ip") is None, reason="network namespaces need root and iproute2"
)
NET = "10.213.77"
SECRET = "tarred-rope-and-brass"


def ip(*words):
    subprocess.run(["ip", *words], check=True, capture_output=True)


@contextmanager
def machines(count):
    """Namespaces that reach this one over links of their own; gives their names."""
    names = [f"fenrik-w{k + 1}" for k in range(count)]
    try:
        for k, name in enumerate(names):
            subprocess.run(["ip", "netns", "del", name], capture_output=True, check=False)
            ip("netns", "add", name)
            ip("link", "add", f"fnk{k}", "type", "veth", "peer", "name", "up0", "netns", name)
            ip("addr", "add", f"{NET}.{4 * k + 1}/30", "dev", f"fnk{k}")
            ip("link", "set", f"fnk{k}", "up")
            ip("-n", name, "addr", "add", f"{NET}.{4 * k + 2}/30", "dev", "up0")
            ip("-n", name, "link", "set", "up0", "up")
            ip("-n", name, "link", "set", "lo", "up")
        yield names
    finally:
        for name in names:
            subprocess.run(["ip", "netns", "pids", name], capture_output=True, check=False)
            subprocess.run(["ip", "netns", "del", name], capture_output=True, check=False)


@contextmanager
def worker(name, place, url):
    """A worker in a namespace, which knows of nothing but the database's address and its secret."""
    command = ["ip", "netns", "exec", name, sys.executable, "-m", "fenrik.cli", "worker", "--name", f"mill {place + 1}"]
    environment = os.environ | {"FENRIK_DATABASE": url.replace("127.0.0.1", f"{NET}.{4 * place + 1}")}
    process = subprocess.Popen(command, env=environment)
    try:
        yield process
    finally:
        process.terminate()
        process.wait(30)


def holder(url):
    with psycopg.connect(url) as connection:
        found = connection.execute("select worker, attempt from task where state = 'running'").fetchone()
    return found or ("", 0)


def test_a_machine_that_is_cut_off_is_done_without_and_joins_again(step_file):
    with cluster("0.0.0.0") as made, machines(2) as (one, two):
        made.ask_for_password("fenrik", SECRET, f"{NET}.0/24")
        url = made.url.replace("fenrik@", f"fenrik:{SECRET}@")
        server = Server(made.url)
        server.start("--migrate", "--no-demo", "--workers", "0")
        try:
            with httpx.Client(base_url=server.address, timeout=60) as client, worker(one, 0, url), worker(two, 1, url):
                until(lambda: client.get("/api/ready").json()["workers"] == 2)
                job = set_up_small_job(client, step_file)
                change = {"path": "cell_mm", "value": 0.2, "check": False}
                deep = {"path": "operations/10/params/stepdown_mm", "value": 0.2, "check": False}
                client.patch(f"/api/jobs/{job}", json={"label": "slow", "changes": [change, deep]}).raise_for_status()
                client.post(f"/api/jobs/{job}/compute", json={"setup": "s1"}).raise_for_status()
                first, attempt = until(lambda: (h := holder(made.url))[0] and h)
                cut = 0 if first == "mill 1" else 1
                ip("link", "set", f"fnk{cut}", "down")
                second, again = until(lambda: (h := holder(made.url))[0] not in ("", first) and h, 60)
                assert second != first
                assert again == attempt + 1

                def task():
                    return client.get(f"/api/jobs/{job}/status").json()["tasks"][0]

                assert until(lambda: (t := task())["state"] not in ("waiting", "running") and t, 240)["state"] == "done"
                ip("link", "set", f"fnk{cut}", "up")
                # What it still says of the old attempt changes nothing; then it takes new work beside the other.
                until(lambda: client.get("/api/ready").json()["workers"] == 2, 120)
                assert task()["state"] == "done"
                copies = [client.post(f"/api/jobs/{job}/duplicate").json()["id"] for _ in range(2)]
                for k, copy in enumerate(copies):
                    fresh = {"path": "cell_mm", "value": 0.21 + 0.01 * k, "check": False}
                    client.patch(f"/api/jobs/{copy}", json={"label": "cell", "changes": [fresh]}).raise_for_status()
                    client.post(f"/api/jobs/{copy}/compute", json={"setup": "s1"}).raise_for_status()
                seen = set()

                def both():
                    with psycopg.connect(made.url) as connection:
                        seen.update(r[0] for r in connection.execute("select worker from task where state = 'running'"))
                    return {"mill 1", "mill 2"} <= seen

                until(both, 120)
        finally:
            server.stop()
            time.sleep(0.1)


def test_without_the_secret_nobody_gets_in():
    with cluster("0.0.0.0") as made, machines(1) as (one,):
        made.ask_for_password("fenrik", SECRET, f"{NET}.0/24")
        code = f"import psycopg; psycopg.connect('postgresql://fenrik@{NET}.1:{made.port}/postgres', connect_timeout=5)"
        done = subprocess.run(
            ["ip", "netns", "exec", one, sys.executable, "-c", code], capture_output=True, text=True, check=False
        )
        assert done.returncode != 0
        assert "password" in done.stderr

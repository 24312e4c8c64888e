"""Fixtures: a real server with its worker on a database of its own, and Chromium in front of it."""

import contextlib
import json
import os
import socket
import struct
import subprocess
import sys
import time

import httpx
import numpy as np
import psycopg
import pytest
from playwright.sync_api import expect, sync_playwright

from cluster import cluster
from fenrik.app import tables
from fenrik.app.migrate import upgrade_schema
from fenrik.app.settings import database_url
from fenrik.app.work import entries


def patch(client, job, *changes):
    return client.patch(f"/api/jobs/{job}", json={"label": "test", "changes": list(changes)})


def decode(data):
    assert data[:4] == b"FNRK"
    size = struct.unpack_from("<I", data, 4)[0]
    head = json.loads(data[8 : 8 + size])
    arrays = {
        a["name"]: np.frombuffer(data, "<" + a["type"], int(np.prod(a["shape"])), 8 + size + a["offset"]).reshape(
            a["shape"]
        )
        for a in head["arrays"]
    }
    return head["meta"], arrays


def free_port():
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


def wait_for_answer(address):
    """Until a server that was just started answers."""
    for _ in range(240):
        try:
            httpx.get(f"{address}/api/health", timeout=60)
            return
        except httpx.HTTPError:
            time.sleep(0.25)
    raise AssertionError(f"{address} does not answer")


def wait_for_the_demo(address, seconds=1500):
    """Until the workers have computed the demo's jobs, beside everything else that runs."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if all(j["state"] not in ("waiting", "computing") for j in httpx.get(f"{address}/api/jobs", timeout=60).json()):
            return
        time.sleep(0.5)
    raise AssertionError("the demo is not computed")


@pytest.fixture(scope="session")
def server():
    """Address of a freshly migrated server with the demo loaded."""
    base = database_url()
    assert "test" in base.rsplit("/", 1)[1], "tests run on a database of their own; use ./test"
    with psycopg.connect(base, autocommit=True) as connection:
        connection.execute("drop schema if exists public cascade")
        connection.execute("create schema public")
    environment = os.environ | {"FENRIK_DATABASE": base}
    port = free_port()
    command = [sys.executable, "-m", "fenrik.cli", "serve", "--migrate", "--port", str(port)]
    process = subprocess.Popen(command, env=environment)
    address = f"http://127.0.0.1:{port}"
    try:
        wait_for_answer(address)
        wait_for_the_demo(address)
        yield address
    finally:
        process.terminate()
        process.wait(20)


@pytest.fixture(scope="session")
def own_cluster():
    """A cluster of PostgreSQL that tests may stop at will."""
    with cluster() as made:
        yield made


@contextlib.contextmanager
def database_of_its_own(name):
    """An empty database beside that of the tests' server, whose watcher and workers would join in; used meanwhile."""
    base = database_url()
    with psycopg.connect(base, autocommit=True) as connection:
        connection.execute(f"drop database if exists {name} with (force)")
        connection.execute(f"create database {name}")
    with using(f"{base.rsplit('/', 1)[0]}/{name}"):
        upgrade_schema()
        yield


@contextlib.contextmanager
def using(url):
    """This process uses another database meanwhile."""

    def forget():
        if tables.engine.cache_info().currsize:
            tables.engine().dispose()
        tables.engine.cache_clear()
        entries._inserter.cache_clear()

    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("FENRIK_DATABASE", url)
        forget()
        yield
        forget()


@pytest.fixture
def client(server):
    with httpx.Client(base_url=server, timeout=120) as c:
        yield c


@pytest.fixture(scope="session")
def step_file(pocket_shape, tmp_path_factory):
    from fenrik.demo.modelling import write_step

    path = tmp_path_factory.mktemp("model") / "pocket-block.step"
    write_step(pocket_shape, path)
    return path


@pytest.fixture
def small_job(client, step_file):
    """A job with the pocket block, one setup and one roughing row; its id."""
    return set_up_small_job(client, step_file)


def set_up_small_job(client, step_file):
    """A job with the pocket block, one setup and one roughing row; its id."""
    job = client.post("/api/jobs", json={"name": "New job"}).json()["id"]
    client.put(f"/api/jobs/{job}/part", files={"file": step_file.open("rb")}).raise_for_status()
    changes = [
        {"op": "add", "path": "setups", "value": {"id": "s1", "machine": "Gull (three-axis mill)"}},
        {
            "op": "add",
            "path": "operations",
            "value": {
                "number": 10,
                "setup": "s1",
                "tool": 1,
                "params": {"strategy": "level roughing", "stepdown_mm": 5, "stepover_mm": 5, "tolerance_mm": 0.05},
            },
        },
        {"path": "cell_mm", "value": 0.8, "was": None},
    ]
    client.patch(f"/api/jobs/{job}", json={"label": "set up", "changes": changes}).raise_for_status()
    return job


@pytest.fixture
def wait():
    def until(condition, seconds=120):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            result = condition()
            if result:
                return result
            time.sleep(0.2)
        raise AssertionError("waited in vain")

    return until


PATIENCE_MS = 120_000
"""Software WebGL beside a computing worker is slow; what never comes still fails."""
ARGUMENTS = [
    "--no-sandbox",
    "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
]


@pytest.fixture(scope="session")
def browser():
    expect.set_options(timeout=PATIENCE_MS)
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
        yield chromium
        chromium.close()


@pytest.fixture
def page(browser, server):
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=server, accept_downloads=True)
    context.set_default_timeout(PATIENCE_MS)
    page = context.new_page()
    errors = []
    page.on("pageerror", lambda e: errors.append(str(e)))
    yield page
    context.close()
    assert errors == []

"""The interface under load: clients who change fields while jobs are computed, and hours pressed into minutes.

`python bench/run.py editing soak`; on a cluster and a server of its own. `FENRIK_SOAK` says how many requests (20 000).
"""

from __future__ import annotations

import os
import random
import statistics
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

import httpx
import psutil

from cluster import Server, serving, until, words_of
from common import show
from fenrik.app.work.child import RECYCLED_MB
from hostile import models

CLIENTS, JOBS, SECONDS = 50, 4, 60.0
SOAK = int(os.environ.get("FENRIK_SOAK", "20000"))
COMPUTATIONS, IMPORTS = SOAK // 100, SOAK // 40
KINDS = {"desk": "desk", "forkserver": "reading", "spawn_main": "computing", "worker": "worker"}
"""Processes beside the server, by a word of what they were called with."""
PACE_S = 20 * 60 / 20_000
MOST_GROWTH = 1.1
"""Memory of the last quarter over that of the second."""
SMALL_JOB = "winch-bearing"
MOST_COMPUTING = 1.5
"""Of a process that computes, over the bound at which it is begun anew after its work."""
ROOM_FILES = 40
"""Connections that pools opened when they were needed, and keep: ten to the database for server and desk each, and those
between the two for six clients, which have two ends."""


def _busy_jobs(server: Server, names: list[str], count: int) -> list[str]:
    """Copies of demo jobs."""
    found = []
    for k in range(count):
        answer = httpx.post(f"{server.address}/api/jobs/{names[k % len(names)]}/duplicate", timeout=60)
        found.append(str(answer.raise_for_status().json()["id"]))
    return found


def _compute_afresh(server: Server, job: str, cell: float) -> None:
    """Everything of a job, with a stock cell of its own so that nothing is known yet."""
    change = {"path": "cell_mm", "value": cell, "check": False}
    httpx.patch(f"{server.address}/api/jobs/{job}", json={"label": "cell", "changes": [change]}, timeout=60)
    document = httpx.get(f"{server.address}/api/jobs/{job}", timeout=60).json()["document"]
    for setup in dict.fromkeys(o["setup"] for o in document["operations"] if o["enabled"]):
        httpx.post(f"{server.address}/api/jobs/{job}/compute", json={"setup": setup}, timeout=120).raise_for_status()


def editing() -> None:
    """Fields changed by 50 clients, each in a job of its own, while four jobs are computed by four workers."""
    from fenrik.demo import DEMO_JOBS

    with serving("--workers", str(JOBS)) as (_, server):
        until(lambda: httpx.get(f"{server.address}/api/ready").json()["workers"] >= JOBS, 120)
        busy = _busy_jobs(server, list(DEMO_JOBS), JOBS)
        mine = _busy_jobs(server, list(DEMO_JOBS), CLIENTS)
        for k, job in enumerate(busy):
            _compute_afresh(server, job, 0.31 + 0.01 * k)
        times: list[float] = []
        lock = threading.Lock()
        over = threading.Event()

        def client(number: int) -> None:
            chance = random.Random(number)
            url = f"{server.address}/api/jobs/{mine[number]}"
            with httpx.Client(timeout=60) as one:
                while not over.is_set():
                    time.sleep(chance.uniform(0.5, 2.5))
                    change = {"path": "cell_mm", "value": chance.uniform(0.3, 1.0), "check": False}
                    began = time.perf_counter()
                    one.patch(url, json={"label": "cell", "changes": [change]}).raise_for_status()
                    with lock:
                        times.append(time.perf_counter() - began)
                    if chance.random() < 0.3:
                        one.get(f"{url}/status").raise_for_status()

        health = []
        threads = [threading.Thread(target=client, args=(k,)) for k in range(CLIENTS)]
        for thread in threads:
            thread.start()
        end = time.monotonic() + SECONDS
        k = 0
        while time.monotonic() < end:
            began = time.perf_counter()
            httpx.get(f"{server.address}/api/health", timeout=60)
            health.append(time.perf_counter() - began)
            time.sleep(1.0)
            states = {j["id"]: j["state"] for j in httpx.get(f"{server.address}/api/jobs", timeout=60).json()}
            for job in busy:
                if states[job] not in ("waiting", "computing"):
                    k += 1
                    _compute_afresh(server, job, 0.35 + 0.001 * k)
        over.set()
        for thread in threads:
            thread.join()
    times.sort()
    p95 = times[int(0.95 * len(times))]
    show(
        "changing a field under load",
        p95 / statistics.median(health),
        "p95 under 200 ms",
        f"{CLIENTS} clients, {JOBS} jobs computing on {os.cpu_count()} cores: {len(times)} changes, median "
        f"{1000 * statistics.median(times):.0f} ms, p95 {1000 * p95:.0f} ms, most {1000 * times[-1]:.0f} ms; reference: "
        f"health {1000 * statistics.median(health):.0f} ms",
    )


def _memory(server: Server) -> dict[str, float]:
    """Megabytes of each lasting process of a server, by what it is."""
    found = {"server": psutil.Process(server.process.pid).memory_info().rss / 2**20}
    for process in server.family():
        words = words_of(process)
        kind = next((name for word, name in KINDS.items() if word in " ".join(words)), "")
        if kind:
            try:
                found[kind] = max(found.get(kind, 0.0), process.memory_info().rss / 2**20)
            except psutil.Error:
                continue
    return found


def soak() -> None:
    """A working day pressed into minutes: requests, computations, imports.

    Memory is flat after the first quarter, and no process, open file or folder is left over.
    """
    from fenrik.demo import DEMO_JOBS

    good = models()
    with serving() as (_, server):
        until(lambda: all(j["state"] not in ("waiting", "computing") for j in _jobs(server)), 900)
        folders, held = set(Path(tempfile.gettempdir()).glob("fenrik-*")), _held(server)
        names = _busy_jobs(server, list(DEMO_JOBS), 12)
        # Rows of a second or two, so that 200 of them fit into the time beside all else.
        computed = _busy_jobs(server, [SMALL_JOB], 4)
        began = time.monotonic()
        done = {"requests": 0, "computations": 0, "imports": 0}
        lock = threading.Lock()
        samples: list[tuple[float, dict[str, float]]] = []

        def requests(number: int) -> None:
            chance = random.Random(number)
            with httpx.Client(base_url=server.address, timeout=120) as client:
                while True:
                    with lock:
                        if done["requests"] >= SOAK:
                            return
                        done["requests"] += 1
                        count = done["requests"]
                    time.sleep(max(0.0, began + count * PACE_S - time.monotonic()))
                    if count % (SOAK // IMPORTS) == 0:
                        _import(client, good, chance)
                        with lock:
                            done["imports"] += 1
                    else:
                        _one(client, chance.choice(names), chance)

        def computations() -> None:
            for k in range(COMPUTATIONS):
                time.sleep(max(0.0, began + k * (SOAK // COMPUTATIONS) * PACE_S - time.monotonic()))
                _compute_first_row(server, computed[k % len(computed)], 0.6 + 0.001 * k)
                done["computations"] += 1

        threads = [threading.Thread(target=requests, args=(k,)) for k in range(6)]
        threads.append(threading.Thread(target=computations))
        for thread in threads:
            thread.start()
        while any(t.is_alive() for t in threads):
            samples.append((done["requests"] / SOAK, _memory(server)))
            print(f"\r{done} {samples[-1][1]}   ", end="", flush=True)
            time.sleep(2.0)
        print()
        took = time.monotonic() - began
        until(lambda: len(server.family()) <= held["processes"], 60)
        left = set(Path(tempfile.gettempdir()).glob("fenrik-*")) - folders
        holds = _held(server)
    parts = sorted({k for _, s in samples for k in s})
    # A process that computes is ended by itself and begun anew where it holds much.
    growth = {k: _growth(samples, k) for k in parts if k != "computing"}
    most = max(s.get("computing", 0.0) for _, s in samples)
    show(
        "soak: memory growth",
        max(growth.values()),
        "flat after a quarter",
        f"{done} in {took / 60:.1f} min; memory of the last quarter to that of the second, by process: "
        + ", ".join(f"{k} {v:.2f}" for k, v in growth.items())
        + f"; computing at most {most:.0f} MB; held before {held}, afterwards {holds}; folders left: {len(left)}",
    )
    assert done == {"requests": SOAK, "computations": COMPUTATIONS, "imports": IMPORTS}
    assert not left, left
    assert max(growth.values()) < MOST_GROWTH, growth
    assert most < MOST_COMPUTING * RECYCLED_MB, most
    assert holds["files"] < held["files"] + ROOM_FILES, (held, holds)
    assert holds["shared memory"] <= held["shared memory"], (held, holds)


def _compute_first_row(server: Server, job: str, cell: float) -> None:
    """The first row of a job anew, with a stock cell of its own, and waited for."""
    url = f"{server.address}/api/jobs/{job}"
    change = {"path": "cell_mm", "value": cell, "check": False}
    answer = httpx.patch(url, json={"label": "cell", "changes": [change]}, timeout=60)
    row = next(o for o in answer.raise_for_status().json()["document"]["operations"] if o["enabled"])
    asked = {"setup": row["setup"], "operations": [row["number"]], "proof": False}
    task = httpx.post(f"{url}/compute", json=asked, timeout=120).raise_for_status().json()["task"]

    def over() -> bool:
        tasks = httpx.get(f"{url}/status", timeout=60).json()["tasks"]
        return next(t for t in tasks if t["id"] == task)["state"] not in ("waiting", "running")

    until(over, 300)
    states = {o["number"]: o["state"] for o in httpx.get(f"{url}/status", timeout=60).json()["operations"]}
    assert states[row["number"]] == "ready", states


def _held(server: Server) -> dict[str, int]:
    """How many processes a server has, how many files they hold open, and what stands in shared memory by name."""
    family = [psutil.Process(server.process.pid), *server.family()]
    named = len(list(Path("/dev/shm").glob("sem.*")))
    return {"processes": len(family) - 1, "files": sum(p.num_fds() for p in family), "shared memory": named}


def _jobs(server: Server) -> Any:
    return httpx.get(f"{server.address}/api/jobs", timeout=60).json()


def _growth(samples: list[tuple[float, dict[str, float]]], kind: str) -> float:
    """Median memory in the last quarter over that in the second."""
    second = [s[kind] for f, s in samples if 0.25 <= f < 0.5 and kind in s]
    last = [s[kind] for f, s in samples if f >= 0.75 and kind in s]
    return statistics.median(last) / statistics.median(second) if second and last else 1.0


def _import(client: httpx.Client, good: dict[str, bytes], chance: random.Random) -> None:
    answer = client.post("/api/jobs/import", files={"file": ("j.zip", good["job.zip"])})
    answer.raise_for_status()
    job = answer.json()["id"]
    name = chance.choice(("a.step", "a.stl", "a.brep", "a.3mf"))
    client.put(f"/api/jobs/{job}/part", files={"file": (name, good[name])}).raise_for_status()
    client.delete(f"/api/jobs/{job}").raise_for_status()


def _one(client: httpx.Client, job: str, chance: random.Random) -> None:
    """One of the things that pages ask for."""
    url = f"/api/jobs/{job}"
    kind = chance.randrange(10)
    if kind < 3:
        change = {"path": "cell_mm", "value": round(chance.uniform(0.6, 1.5), 3), "check": False}
        client.patch(url, json={"label": "cell", "changes": [change]}).raise_for_status()
    elif kind < 5:
        client.get(f"{url}/status").raise_for_status()
    elif kind < 6:
        client.post(f"{url}/{chance.choice(('undo', 'redo'))}").raise_for_status()
    else:
        path = chance.choice(("part", "part/geometry", "part/features", "head", "coverage", "history", "picture"))
        client.get(f"{url}/{path}").raise_for_status()


BENCHES = {"editing": editing, "soak": soak}

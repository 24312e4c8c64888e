"""Kills and outages at random moments over the demo jobs, and writes through outages; on a cluster of its own.

`python bench/run.py kills writes`; `FENRIK_KILLS` says how many (200).
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import random
import statistics
import threading
import time
from collections.abc import Iterator
from typing import Any

import httpx
import psycopg

from cluster import Cluster, Server, serving, until
from common import show

KILLS = int(os.environ.get("FENRIK_KILLS", "200"))
OUTAGES, EDITORS = 20, 20
OPEN = ("waiting", "running")


@contextlib.contextmanager
def _ready() -> Iterator[tuple[Cluster, Server]]:
    """A cluster and a server with the demo computed."""
    with serving() as (made, server):
        until(lambda: _settled(server), 900)
        yield made, server


def _settled(server: Server) -> bool:
    return all(j["state"] not in ("waiting", "computing") for j in _get(server, "/api/jobs"))


def _get(server: Server, path: str) -> Any:
    answer = httpx.get(server.address + path, timeout=60)
    answer.raise_for_status()
    return answer.json()


def _digest(url: str) -> dict[str, str]:
    """Of every artefact of the demo jobs, by key."""
    with psycopg.connect(url) as connection:
        rows = connection.execute("select key, data from artefact where kind <> 'released file'").fetchall()
    return {key: hashlib.sha256(data).hexdigest() for key, data in rows}


def _tasks(url: str) -> list[tuple[str, str, int, str]]:
    with psycopg.connect(url) as connection:
        return connection.execute("select id, state, attempt, words from task").fetchall()  # type: ignore[return-value]


def kills() -> None:
    """kill -9 of worker, server or both, and immediate stop of the database, at random moments of computing the demo.

    Whenever all is computed, results are thrown away and asked for again.
    """
    chance = random.Random(11)
    with _ready() as (made, server):
        want = _digest(made.url)
        waits: list[float] = []
        given_up = rounds = 0
        _again(made, server)
        until(lambda: _at_work(made.url))
        for k in range(KILLS):
            time.sleep(chance.uniform(0.0, 8.0))
            if not _at_work(made.url):
                rounds += 1
                given_up += _check(made, server, want)
                _again(made, server)
                until(lambda: _at_work(made.url))
            how = chance.choice(("worker", "server", "both", "database"))
            before = _attempts(made.url)
            began = time.perf_counter()
            _fault(how, made, server)
            until(lambda known=before: _back(made.url, known) or not _open(made.url), 120)
            waits.append(time.perf_counter() - began)
            print(f"\r{k + 1} of {KILLS}: {how}, back after {waits[-1]:.1f} s   ", end="", flush=True)
        until(lambda: not _open(made.url), 900)
        given_up += _check(made, server, want)
        print()
    show(
        "kills: back at work (s)",
        statistics.median(waits),
        "median 5, most 20",
        f"median {statistics.median(waits):.1f} s, most {max(waits):.1f} s; {KILLS} kills, {rounds + 1} rounds of the "
        f"demo, every byte equal, none stuck; {given_up} tasks were given up after five attempts, and computed again by hand",
    )


def _again(made: Cluster, server: Server) -> None:
    """Throw the results away and ask for them again."""
    with psycopg.connect(made.url, autocommit=True) as connection:
        connection.execute("delete from artefact where kind not in ('solid', 'released file')")
    _ask_for_all(server)


def _ask_for_all(server: Server) -> None:
    for job in _get(server, "/api/jobs"):
        document = _get(server, f"/api/jobs/{job['id']}")["document"]
        for setup in {o["setup"] for o in document["operations"] if o["enabled"]}:
            until(
                lambda j=job["id"], s=setup: (
                    httpx.post(f"{server.address}/api/jobs/{j}/compute", json={"setup": s}, timeout=60).status_code
                    == 202
                )
            )


def _fault(how: str, made: Cluster, server: Server) -> None:
    if how in ("worker", "both"):
        for worker in server.workers():
            with contextlib.suppress(Exception):
                worker.kill()
    if how in ("server", "both"):
        server.kill()
        server.launch()
    if how == "database":
        made.stop()
        made.start()


def _open(url: str) -> bool:
    return any(state in OPEN for _, state, _, _ in _tasks(url))


def _attempts(url: str) -> set[tuple[str, int]]:
    """Every attempt that was ever begun, as far as each task's latest tells."""
    return {(task, attempt) for task, _, attempt, _ in _tasks(url) if attempt}


def _back(url: str, before: set[tuple[str, int]]) -> bool:
    """Whether work goes on: an attempt was begun that was not there before, by a worker that is alive."""
    with psycopg.connect(url) as connection:
        found = connection.execute(
            """select t.id, t.attempt from task t join procrastinate_jobs q on q.id = t.queue_id
               join procrastinate_workers w on w.id = q.worker_id
               where t.state = 'running' and q.status = 'doing' and w.last_heartbeat > now() - interval '3 s'"""
        ).fetchall()
    return bool(set(found) - before)


def _at_work(url: str) -> bool:
    return any(state == "running" for _, state, _, _ in _tasks(url))


def _check(made: Cluster, server: Server, want: dict[str, str]) -> int:
    """Every result as it was; gives how many tasks were given up after all their attempts, and computed again by hand."""
    given_up = [t for t in _tasks(made.url) if t[1] == "failed"]
    assert all(words for *_, words in given_up), "a task was given up without a reason"
    if given_up:
        _ask_for_all(server)
        until(lambda: not _open(made.url), 900)
    found = _digest(made.url)
    wrong = [k for k in want if found.get(k) != want[k]]
    with psycopg.connect(made.url, autocommit=True) as connection:
        left = connection.execute("select count(*) from procrastinate_jobs").fetchone()
        connection.execute("delete from task where state = 'failed'")
    assert not wrong, f"{len(wrong)} of {len(want)} results differ or are missing"
    assert left == (0,), f"{left} entries were left in the queue"
    return len(given_up)


def writes() -> None:
    """Editors who change jobs through outages: what was acknowledged is there once, and every conflict was refused."""
    chance = random.Random(12)
    with serving("--no-demo", "--workers", "0") as (made, server):
        job = httpx.post(f"{server.address}/api/jobs", json={"name": "writes"}, timeout=60).json()["id"]
        url = f"{server.address}/api/jobs/{job}"
        sketch = {"op": "add", "path": "sketches", "value": {"id": "places", "name": "Places", "items": []}}
        httpx.patch(url, json={"label": "sketch", "changes": [sketch]}, timeout=60).raise_for_status()
        over = threading.Event()
        kept: list[str] = []
        unsure: list[str] = []
        refused: list[tuple[float, float]] = []
        lock = threading.Lock()

        def editor(number: int) -> None:
            own = random.Random(number)
            count = 0
            with httpx.Client(timeout=30) as client:
                while not over.is_set():
                    count += 1
                    name = f"{number}-{count}"
                    place = {"id": name, "kind": "point", "x_mm": number, "y_mm": count}
                    change = {"op": "add", "path": "sketches/places/items", "value": place}
                    try:
                        answer = client.patch(url, json={"label": name, "changes": [change]})
                        with lock:
                            (kept if answer.status_code == 200 else unsure).append(name)
                        assert answer.status_code in (200, 503), answer.text
                        seen = client.get(url)
                        if seen.status_code == 200:
                            was = seen.json()["document"]["cell_mm"]
                            mine = round(own.uniform(0.2, 2.0), 6)
                            time.sleep(own.uniform(0, 0.05))
                            said = client.patch(
                                url,
                                json={"label": "cell", "changes": [{"path": "cell_mm", "value": mine, "was": was}]},
                            )
                            if said.status_code == 200:
                                with lock:
                                    refused.append((was, mine))
                    except httpx.HTTPError:
                        with lock:
                            unsure.append(name)
                    time.sleep(own.uniform(0, 0.2))

        editors = [threading.Thread(target=editor, args=(k,)) for k in range(EDITORS)]
        for one in editors:
            one.start()
        for k in range(OUTAGES):
            time.sleep(chance.uniform(1.0, 3.0))
            _fault(("database", "server")[k % 2], made, server)
        until(lambda: httpx.get(f"{server.address}/api/ready", timeout=10).status_code == 200, 60)
        time.sleep(2.0)
        over.set()
        for one in editors:
            one.join()
        names = [i["id"] for i in _get(server, f"/api/jobs/{job}")["document"]["sketches"][0]["items"]]
        lost = set(kept) - set(names)
        doubled = len(names) - len(set(names))
        # Each acknowledged change of the one field saw the value that the one before it had set: a chain.
        befores = [a for a, _ in refused]
        twice = len(befores) - len(set(befores))
    assert not lost, lost
    assert doubled == 0
    assert twice == 0, "two changes of one value were both let through"
    show(
        "writes through outages",
        float(len(lost) + doubled + twice),
        "0 lost, 0 doubled",
        f"{OUTAGES} outages, {EDITORS} editors: {len(kept)} acknowledged, {len(lost)} lost, {doubled} doubled; "
        f"{len(unsure)} not acknowledged, {len(set(unsure) & set(names))} of them kept; {len(refused)} changes of one "
        f"field, none over another's",
    )


BENCHES = {"kills": kills, "writes": writes}

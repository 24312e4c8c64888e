"""Many people do everything with the same few things at the same moment: `python bench/run.py crowd`.

On a cluster and a server of its own. Whatever they do to each other is answered with words: done, refused, overtaken;
and what is left is a job that opens.
"""

from __future__ import annotations

import collections
import random
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import httpx

from cluster import serving
from common import show
from hostile import models

PEOPLE, SECONDS, JOBS = 12, 120.0, 4
ANSWERS = {200, 201, 202, 204, 304, 404, 409, 413, 422, 429}


class Person:
    """One of them, with a connection."""

    def __init__(self, address: str, number: int, jobs: list[str], files: dict[str, bytes]) -> None:
        self.chance, self.jobs, self.files = random.Random(number), jobs, files
        self.client = httpx.Client(base_url=address, timeout=120)
        self.told: collections.Counter[tuple[str, int]] = collections.Counter()
        self.wrong: collections.Counter[tuple[str, str]] = collections.Counter()

    def job(self) -> str:
        return f"/api/jobs/{self.chance.choice(self.jobs)}"

    def act(self) -> None:
        # More is brought back than deleted, or there would soon be nothing to be done.
        name = self.chance.choices(list(ACTS), [2 if name == "restore" else 1 for name in ACTS])[0]
        answer = ACTS[name](self)
        self.told[name, answer.status_code] += 1
        if answer.status_code not in ANSWERS:
            self.wrong[name, answer.text[:200]] += 1

    def file(self, *kinds: str) -> dict[str, Any]:
        name = self.chance.choice(kinds)
        return {"file": (name, self.files[name])}

    def setup(self) -> str:
        url = self.job()
        setups = self.client.get(url).json().get("document", {}).get("setups") or [{"id": "none"}]
        return f"{url}/setups/{self.chance.choice(setups)['id']}"


def _change(p: Person) -> httpx.Response:
    paths = {"cell_mm": p.chance.uniform(0.6, 2.0), "name": f"Job {p.chance.random():.3f}"}
    path, value = p.chance.choice(list(paths.items()))
    one = {"path": path, "value": value, "was": 0.5, "check": p.chance.random() < 0.3}
    return p.client.patch(p.job(), json={"label": path, "changes": [one]})


def _compute(p: Person) -> httpx.Response:
    setup = p.setup()
    job, _, name = setup.partition("/setups/")
    return p.client.post(f"{job}/compute", json={"setup": name})


def _cancel(p: Person) -> httpx.Response:
    tasks = p.client.get(f"{p.job()}/status").json().get("tasks") or [{"id": "none"}]
    return p.client.post(f"/api/tasks/{p.chance.choice(tasks)['id']}/cancel")


def _library_tool(p: Person) -> httpx.Response:
    tool = p.client.get("/api/library/tools").json()[0]
    return p.client.put(f"/api/library/tools/{p.chance.randrange(900, 904)}", json=tool)


def _material(p: Person) -> httpx.Response:
    material = p.client.get("/api/library/materials").json()[0]
    return p.client.put("/api/library/materials", json=material | {"name": f"Stone {p.chance.randrange(3)}"})


ACTS: dict[str, Callable[[Person], httpx.Response]] = {
    "change": _change,
    "undo": lambda p: p.client.post(f"{p.job()}/{p.chance.choice(('undo', 'redo'))}"),
    "delete": lambda p: p.client.delete(p.job()),
    "restore": lambda p: p.client.post(f"{p.job()}/restore"),
    "duplicate": lambda p: p.client.post(f"{p.job()}/duplicate"),
    "import": lambda p: p.client.post("/api/jobs/import", files=p.file("job.zip")),
    "model": lambda p: p.client.put(f"{p.job()}/part", files=p.file("a.step", "a.stl", "a.brep")),
    "scale": lambda p: p.client.put(f"{p.job()}/part/scale", params={"scale": p.chance.choice((1, 2, 25.4))}),
    "drawing": lambda p: p.client.put(f"{p.job()}/files", files=p.file("a.svg", "a.dxf")),
    "compute": _compute,
    "cancel": _cancel,
    "route": lambda p: p.client.post(f"{p.setup()}/route-proposal"),
    "order": lambda p: p.client.post(f"{p.setup()}/order"),
    "tools": lambda p: p.client.post(f"{p.job()}/tools/take", json={"numbers": [1, 2]}),
    "library": _library_tool,
    "drop": lambda p: p.client.delete(f"/api/library/tools/{p.chance.randrange(900, 904)}"),
    "material": _material,
    "release": lambda p: p.client.post(f"{p.job()}/releases"),
    "status": lambda p: p.client.get(f"{p.job()}/status"),
    "list": lambda p: p.client.get("/api/jobs"),
    "head": lambda p: p.client.get(f"{p.job()}/head"),
    "coverage": lambda p: p.client.get(f"{p.job()}/coverage"),
}


def crowd() -> None:
    """All of it at once, for two minutes."""
    from fenrik.demo import DEMO_JOBS

    files = models()
    with serving() as (_, server):
        jobs = [
            str(httpx.post(f"{server.address}/api/jobs/{name}/duplicate", timeout=60).json()["id"])
            for name in list(DEMO_JOBS)[:JOBS]
        ]
        people = [Person(server.address, k, jobs, files) for k in range(PEOPLE)]
        end = time.monotonic() + SECONDS

        def live(person: Person) -> None:
            while time.monotonic() < end:
                try:
                    person.act()
                except httpx.HTTPError as error:
                    person.wrong["no answer", repr(error)] += 1

        with ThreadPoolExecutor(PEOPLE) as together:
            list(together.map(live, people))
        wrong = sum((p.wrong for p in people), collections.Counter())
        assert not wrong, wrong.most_common()
        for job in jobs:
            httpx.post(f"{server.address}/api/jobs/{job}/restore", timeout=60)
            httpx.get(f"{server.address}/api/jobs/{job}/status", timeout=120).raise_for_status()
    told = sum((p.told for p in people), collections.Counter())
    codes = collections.Counter(code for (_, code), count in told.items() for _ in range(count))
    show(
        "a crowd",
        float(sum(n for code, n in codes.items() if code >= 500)),
        "no answer of 5xx",
        f"{PEOPLE} people, {JOBS} jobs, {len(ACTS)} kinds of acts, {told.total()} answers: {dict(sorted(codes.items()))}",
    )


BENCHES = {"crowd": crowd}

"""Cancelling at random moments, inside the CAD kernel too; needs the server (`./start`)."""

from __future__ import annotations

import random
import time
from typing import Any

import httpx

import shapes
from common import address, show
from sizes import job_for

MOMENTS = 50


def cancel() -> None:
    """From the request to the task's own word that it is cancelled; afterwards the same work is done to its end."""
    from fenrik.core.solids.xcaf import NamedShape, write_step

    data = write_step([NamedShape(shapes.cover(), "Cover")])
    document = job_for("cover.step", 1.5, None)
    chance, waits, seen = random.Random(1), [], set()
    with httpx.Client(base_url=address(), timeout=120) as client:
        job = client.post("/api/jobs", json={"name": "bench"}).json()["id"]
        url = f"/api/jobs/{job}"
        client.put(f"{url}/part", files={"file": ("cover.step", data)}).raise_for_status()
        changes = [{"path": k, "value": document[k], "check": False} for k in ("tools", "setups", "operations")]
        client.patch(url, json={"label": "bench", "changes": changes}).raise_for_status()

        def state(task: str) -> dict[str, Any]:
            return next(t for t in client.get(f"{url}/status").json()["tasks"] if t["id"] == task)

        for k in range(MOMENTS):
            # A tolerance of its own each time, so that nothing is taken from what was computed before.
            fresh = {"path": "operations/30/params/tolerance_mm", "value": 0.02 + 1e-6 * k, "check": False}
            cell = {"path": "cell_mm", "value": 0.8 + 1e-6 * k, "check": False}
            client.patch(url, json={"label": "bench", "changes": [fresh, cell]}).raise_for_status()
            task = client.post(f"{url}/compute", json={"setup": "top"}).json()["task"]
            while state(task)["state"] == "waiting":
                time.sleep(0.01)
            time.sleep(chance.uniform(0.0, 6.0))
            at = state(task)
            if at["state"] != "running":
                continue
            seen.add(at["words"].split(": ")[-1])
            began = time.perf_counter()
            client.post(f"/api/tasks/{task}/cancel").raise_for_status()
            while state(task)["state"] == "running":
                time.sleep(0.005)
            waits.append(time.perf_counter() - began)
        task = client.post(f"{url}/compute", json={"setup": "top"}).json()["task"]
        while state(task)["state"] in ("waiting", "running"):
            time.sleep(0.1)
        last = state(task)["state"]
        client.delete(url)
    show(
        "cancel at random moments (s)",
        max(waits),
        "under 1, then the next task is done",
        f"{len(waits)} moments, in {len(seen)} phases ({', '.join(sorted(seen))}); next task: {last}",
    )


BENCHES = {"cancel": cancel}

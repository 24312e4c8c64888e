"""A job with a thousand rows: opening it, and changing a field; needs the server (`./start`)."""

from __future__ import annotations

import time

import httpx

import shapes
from common import address, show
from sizes import job_for

ROWS = 1000


def thousand() -> None:
    """What the interface asks for when a job is opened, and the time until a changed field is kept and told."""
    from fenrik.core.solids.xcaf import NamedShape, write_step

    document = job_for("cover.step", 6.0, 4.0)
    finishing = document["operations"][2]
    rows = [
        finishing | {"number": k + 1, "params": finishing["params"] | {"direction_deg": k % 180}} for k in range(ROWS)
    ]
    with httpx.Client(base_url=address(), timeout=120) as client:
        job = client.post("/api/jobs", json={"name": "bench"}).json()["id"]
        url = f"/api/jobs/{job}"
        data = write_step([NamedShape(shapes.cover(), "Cover")])
        client.put(f"{url}/part", files={"file": ("cover.step", data)}).raise_for_status()
        changes = [
            {"path": "tools", "value": document["tools"], "check": False},
            {"path": "setups", "value": document["setups"], "check": False},
            {"path": "operations", "value": rows, "check": False},
        ]
        client.patch(url, json={"label": "bench", "changes": changes}).raise_for_status()

        def timed(*paths: str) -> float:
            began = time.perf_counter()
            for path in paths:
                client.get(f"{url}{path}").raise_for_status()
            return time.perf_counter() - began

        first, again = timed("", "/status", "/part"), timed("", "/status", "/part")
        changed, seen = [], []
        for k in range(40):
            value = {"path": f"operations/{25 * k + 1}/params/stepover_mm", "value": 5 + k / 100, "check": False}
            began = time.perf_counter()
            client.patch(url, json={"label": "bench", "changes": [value]}).raise_for_status()
            changed.append(time.perf_counter() - began)
            seen.append(timed("/status"))
        client.delete(url)
    worst, status = (sorted(t)[int(0.95 * len(t)) - 1] for t in (changed, seen))
    show("1000 rows, opened (s)", first, "under 1", f"again {again:.2f} s")
    show("1000 rows, field changed (s)", worst, "95 % under 0.1", f"and its states known after {status:.2f} s more")


BENCHES = {"thousand": thousand}

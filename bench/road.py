"""From a STEP file to the whole route proven, in the interface, for a part of forty features: clicks and seconds.

Needs the server (`./start`).
"""

from __future__ import annotations

import tempfile
import time
from pathlib import Path
from typing import Any

import httpx

from common import address, show

FEATURES, MOST_CLICKS, MOST_S = 40, 10, 90
SIZES = (3.3, 4.2, 5.0, 6.8, 8.5)
COUNT = (
    "addEventListener('click', (e) => e.isTrusted && e.detail > 0 && (window.clicks = (window.clicks || 0) + 1), true)"
)


def forty() -> Any:
    """A block 160 × 110 × 30 with ten pockets of several depths, 28 holes in five sizes, four of them counterbored, a
    step and a slot."""
    from fenrik.demo.modelling import box, cut, cylinder, round_upright_edges

    tools = []
    for k in range(10):
        x, y, depth = 12 + (k % 5) * 28, 18 + (k // 5) * 42, 5 + k % 4 * 2
        tools.append(round_upright_edges(box(x, y, 30 - depth, 22, 30, depth + 5), 4.2))
    for k in range(28):
        x, y = 8 + (k % 14) * 11, (9, 101)[k // 14]
        tools.append(cylinder(x, y, -1, SIZES[k % 5] / 2, 40))
        if k % 7 == 3:
            tools.append(cylinder(x, y, 26, SIZES[k % 5] / 2 + 1.4, 10))
    tools += [box(150, -1, 20, 20, 112, 20), box(-1, 52, 24, 9, 6, 10)]
    return cut(box(0, 0, 0, 160, 110, 30), *tools)


def road() -> None:
    from playwright.sync_api import sync_playwright

    from fenrik.core.solids.reading import solid_from_shape
    from fenrik.core.solids.writing import write_solid

    with tempfile.TemporaryDirectory() as folder, sync_playwright() as play:
        file = Path(folder) / "forty.step"
        file.write_bytes(write_solid(solid_from_shape(forty()), ".step"))
        flags = ["--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader"]
        browser = play.chromium.launch(executable_path="/usr/bin/chromium", args=flags)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.set_default_timeout(600_000)
        page.goto(address())
        page.evaluate(COUNT)
        began = time.perf_counter()
        job = _walk(page, file)
        seconds = time.perf_counter() - began
        clicks = page.evaluate("window.clicks")
        browser.close()
    with httpx.Client(base_url=address(), timeout=120) as client:
        features = client.get(f"/api/jobs/{job}/coverage").json()["features"]
        finish = client.get(f"/api/jobs/{job}/finish").json()
        client.delete(f"/api/jobs/{job}")
    if features < FEATURES or not finish["measured"]:
        raise SystemExit(f"{features} features, measured: {finish['measured']}")
    told = f"{features} features, finished {100 * finish['finished_fraction']:.1f} %, measured"
    show("road: clicks", clicks, f"at most {MOST_CLICKS}", told)
    show("road: seconds", seconds, f"at most {MOST_S}", "from the click on a new job to the program")


def _walk(page: Any, file: Path) -> str:
    """The clicks of a newcomer; gives the job's name."""

    def press(name: str) -> None:
        page.get_by_role("button", name=name).click()

    with page.expect_file_chooser() as chooser:
        press("New job from a file")
    chooser.value.set_files(file)
    press("Next: hold the part")
    press("Next: a route")
    page.get_by_role("combobox", name="Material").click()
    page.get_by_role("option", name="Aluminium").first.click()
    page.get_by_text("All sides of the part").click()
    press("Take this route")
    press("Next: compute and prove")
    press("Next: the program")
    page.get_by_role("button", name="Save", exact=True).first.wait_for()
    return str(page.url.split("/jobs/")[1].split("/")[0])


BENCHES = {"road": road}

"""The view in software WebGL at 1280 × 800: pictures a second while turning and playing, seeking, showing a path.

Needs the server (`./start`) with the demo loaded: the lens mould, finished so finely that it takes more than 100 000
motions, is computed and proved first. Pictures are counted by the clearing of the screen.
"""

from __future__ import annotations

import statistics
import time
from typing import Any

import httpx

from common import address, show

JOB = "lens-mould-insert"
SETUP = "cavity"
SCALLOP_MM = 0.001
MOTIONS = 100_000
COUNT = """
window.pictures = [];
const clear = WebGL2RenderingContext.prototype.clear;
WebGL2RenderingContext.prototype.clear = function (...of) { window.pictures.push(performance.now()); return clear.apply(this, of); };
window.triangles = 0;
window.most = 0;
for (const name of ["drawElements", "drawArrays"]) {
  const draw = WebGL2RenderingContext.prototype[name];
  WebGL2RenderingContext.prototype[name] = function (mode, ...of) {
    if (window.drawn !== window.pictures.length) [window.drawn, window.triangles] = [window.pictures.length, 0];
    if (mode === this.TRIANGLES) window.triangles += of[name === "drawElements" ? 0 : 1] / 3;
    window.most = Math.max(window.most, window.triangles);
    return draw.call(this, mode, ...of);
  };
}
"""
FIRST = """(() => {{
  const put = performance.getEntriesByName('fenrik {}').at(-1).startTime;
  return window.pictures.find((t) => t >= put) ?? put;
}})()"""
"""When the first picture of the latest path or stock was begun."""
SOUGHT = """(async () => {{
  const put = performance.getEntriesByName('fenrik stock')[{}].startTime;
  while (!(window.pictures.at(-1) >= put)) await new Promise((r) => setTimeout(r, 5));
  await new Promise((r) => requestAnimationFrame(() => setTimeout(r, 0)));
  return performance.now();
}})()"""
"""When the first picture of the stock sought was there."""
SEEKS = 12


def _dense(client: httpx.Client) -> str:
    """A copy of the demo job with more than 100 000 motions, computed and proved; its name."""
    archive = client.get(f"/api/jobs/{JOB}/export").raise_for_status().content
    job: str = client.post("/api/jobs/import", files={"file": ("job.zip", archive)}).raise_for_status().json()["id"]
    change = {"path": "operations/40/params/scallop_mm", "value": SCALLOP_MM, "check": False}
    client.patch(f"/api/jobs/{job}", json={"label": "bench", "changes": [change]}).raise_for_status()
    client.post(f"/api/jobs/{job}/compute", json={"setup": SETUP}).raise_for_status()
    while True:
        time.sleep(0.5)
        tasks = client.get(f"/api/jobs/{job}/status").json()["tasks"]
        if all(t["state"] not in ("waiting", "running") for t in tasks):
            break
    if any(t["state"] != "done" for t in tasks):
        raise SystemExit(f"the job for the view was not computed: {tasks}")
    return job


def viewport() -> None:
    with httpx.Client(base_url=address(), timeout=120) as client:
        job = _dense(client)
        try:
            _look(job)
        finally:
            client.delete(f"/api/jobs/{job}")


def _look(job: str) -> None:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        flags = ["--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader"]
        browser = play.chromium.launch(executable_path="/usr/bin/chromium", args=flags)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.add_init_script(COUNT)
        page.goto(f"{address()}/jobs/{job}/route")
        _showing(page)
        page.goto(f"{address()}/jobs/{job}/proof")
        page.get_by_test_id("chart").wait_for(timeout=60_000)
        _settled(page, 60)
        words = page.get_by_test_id("moment").inner_text()
        motions = int(words.split("of ")[2].split(" ")[0])
        if motions < MOTIONS:
            raise SystemExit(f"the view holds only {motions} motions")
        _seeking(page)
        _turning(page)
        _playing(page)
        print(f"with {motions} motions and {page.evaluate('window.most')} triangles")
        browser.close()


def _pictures(page: Any) -> list[float]:
    return page.evaluate("window.pictures")  # type: ignore[no-any-return]


def _settled(page: Any, seconds: float = 20.0) -> float:
    """Waits until no picture came for half a second and nothing is being cut; when the last one came."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        busy, now, last = page.evaluate(
            "[!!document.querySelector('.overlay .mantine-Loader-root'), performance.now(), window.pictures.at(-1) ?? 0]"
        )
        if not busy and now - last > 500 and last:
            return float(last)
        time.sleep(0.02)
    raise SystemExit("the view does not come to rest")


def _showing(page: Any) -> None:
    """From the click on a row to its path on the screen."""
    page.locator("tbody tr").first.wait_for(timeout=60_000)
    _settled(page, 60)
    took = []
    for row in range(1, page.locator("tbody tr").count()):  # the first is the setup's own
        marks = page.evaluate("performance.getEntriesByName('fenrik path').length")
        began = page.evaluate("performance.now()")
        page.locator("tbody tr").nth(row).locator("td").nth(2).click()
        page.wait_for_function(f"performance.getEntriesByName('fenrik path').length > {marks}", timeout=20_000)
        _settled(page)
        took.append((page.evaluate(FIRST.format("path")) - began) / 1000)
    show("path shown (s)", max(took), "under 1", ", ".join(f"{t:.2f}" for t in took))


def _seeking(page: Any) -> None:
    chart = page.get_by_test_id("chart").bounding_box()
    took = []
    for k in range(SEEKS):
        x = chart["x"] + chart["width"] * ((0.37 * k + 0.11) % 1.0)
        marks = page.evaluate("performance.getEntriesByName('fenrik stock').length")
        began = page.evaluate("performance.now()")
        page.mouse.click(x, chart["y"] + chart["height"] / 2)
        page.wait_for_function(f"performance.getEntriesByName('fenrik stock').length > {marks}", timeout=20_000)
        took.append((page.evaluate(SOUGHT.format(marks)) - began) / 1000)
        _settled(page)
    show("seek (s)", statistics.median(took), "median under 0.3", f"worst {max(took):.2f}")


def _turning(page: Any) -> None:
    page.mouse.move(500, 300)
    page.mouse.down()
    began = page.evaluate("performance.now()")
    end = time.monotonic() + 4.0
    k = 0
    while time.monotonic() < end:
        k += 1
        page.mouse.move(500 + 150 * (k % 40) / 40, 300 + 60 * (k % 30) / 30)
        time.sleep(0.01)
    until = page.evaluate("performance.now()")
    page.mouse.up()
    last = _settled(page)
    count = sum(began < t < until for t in _pictures(page))
    show("turning (pictures a second)", 1000 * count / (until - began), "at least 8", "")
    show("sharp after rest (s)", max(last - until, 0) / 1000, "under 1", "")


def _playing(page: Any) -> None:
    page.get_by_label("Playing speed").first.click()
    page.get_by_role("option", name="× 20", exact=True).click()
    page.get_by_role("button", name="Operation start").click()
    _settled(page)
    page.get_by_role("button", name="Play", exact=True).click()
    time.sleep(1.0)
    began = page.evaluate("performance.now()")
    time.sleep(6.0)
    until = page.evaluate("performance.now()")
    page.get_by_role("button", name="Pause").click()
    count = sum(began < t < until for t in _pictures(page))
    show("playing (pictures a second)", 1000 * count / (until - began), "at least 8", "")


BENCHES = {"viewport": viewport}

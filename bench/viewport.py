"""The view in software WebGL at 1280 × 800: pictures a second while turning and playing, seeking, showing a path.

Needs the server (`./start`) with the demo loaded and proved. Pictures are counted by the clearing of the screen.
"""

from __future__ import annotations

import statistics
import time
from typing import Any

from common import address, show

JOB = "lens-mould-insert"
COUNT = """
window.pictures = [];
const clear = WebGL2RenderingContext.prototype.clear;
WebGL2RenderingContext.prototype.clear = function (...of) { window.pictures.push(performance.now()); return clear.apply(this, of); };
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


def viewport() -> None:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        flags = ["--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader"]
        browser = play.chromium.launch(executable_path="/usr/bin/chromium", args=flags)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.add_init_script(COUNT)
        page.goto(f"{address()}/jobs/{JOB}/route")
        _showing(page)
        page.goto(f"{address()}/jobs/{JOB}/proof")
        page.get_by_test_id("chart").wait_for(timeout=60_000)
        _settled(page, 60)
        _seeking(page)
        _turning(page)
        _playing(page)
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

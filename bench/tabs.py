"""Thirty tabs in one Chromium: how soon each is there, and how soon all see a change. Needs the server (`./start`)."""

from __future__ import annotations

import time

import httpx
from playwright.sync_api import sync_playwright

from common import address, show

TABS = 30
ARGUMENTS = [
    "--no-sandbox",
    "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
    "--disable-background-networking",
    "--disable-gpu-rasterization",
]

# An observer costs nothing while nothing changes, as it is with people who look at thirty tabs.
WATCH = """w => {
  window.told = new Promise(told => {
    const look = () => document.body.textContent.includes(w) && told(Date.now());
    new MutationObserver(look).observe(document.body, { subtree: true, childList: true, characterData: true });
  });
}"""


def tabs() -> None:
    """Tabs on the list of jobs and on a job's sheets, opened one after another and left open."""
    job = httpx.post(f"{address()}/api/jobs", json={"name": "Tabs"}, timeout=60).json()["id"]
    url = f"{address()}/api/jobs/{job}"
    loads, seen = [], []
    try:
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
            context = browser.new_context(base_url=address())
            pages = []
            for k in range(TABS):
                page = context.new_page()
                began = time.perf_counter()
                page.goto("/" if k % 3 else f"/jobs/{job}/tools")
                page.get_by_text("Tabs", exact=True).first.wait_for()
                loads.append(time.perf_counter() - began)
                pages.append(page)
            for word in ("First", "Second", "Third"):
                for page in pages:
                    page.evaluate(WATCH, f"{word} name")
                began_ms = time.time() * 1000
                change = {"path": "name", "value": f"{word} name", "check": False}
                httpx.patch(url, json={"label": "name", "changes": [change]}, timeout=60).raise_for_status()
                seen += [(page.evaluate("() => window.told") - began_ms) / 1000 for page in pages]
            browser.close()
    finally:
        httpx.delete(url)
    show(
        "30 tabs",
        max(loads) / min(loads),
        "load 3 s, change 1 s",
        f"{TABS} tabs: the slowest is there after {max(loads):.2f} s, the quickest {min(loads):.2f} s; all see a change after "
        f"{max(seen):.2f} s (median {sorted(seen)[len(seen) // 2]:.2f} s)",
    )


BENCHES = {"tabs": tabs}

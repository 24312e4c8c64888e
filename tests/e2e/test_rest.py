"""Roughing as a person does it: steady load, what is left, the follow-up row; loads in colour, the stock after a row."""

import re

import pytest
from playwright.sync_api import expect
from test_prismatic import add
from test_road import choose, stage

from app_fixtures import decode, patch, set_up_small_job
from fenrik.demo.modelling import box, cut, round_upright_edges, write_step


@pytest.fixture
def job(client, tmp_path):
    """A block with a pocket whose corners a tool of 16 mm leaves."""
    file = tmp_path / "pocket.step"
    write_step(cut(box(0, 0, 0, 60, 50, 20), round_upright_edges(box(8, 8, 8, 44, 34, 30), 4)), file)
    made = set_up_small_job(client, file)
    tools = client.get(f"/api/jobs/{made}").json()["document"]["tools"]
    wide = {**tools[0], "number": 8, "name": "Wide", "cutter": {**tools[0]["cutter"], "diameter_mm": 16}}
    slim = {**tools[0], "number": 9, "name": "Slim", "cutter": {**tools[0]["cutter"], "diameter_mm": 6}}
    patch(client, made, *({"op": "add", "path": "tools", "value": t} for t in (wide, slim)))
    numbers = [o["number"] for o in client.get(f"/api/jobs/{made}").json()["document"]["operations"]]
    patch(client, made, *({"op": "remove", "path": f"operations/{n}"} for n in numbers))
    return made


def rows(page):
    return page.get_by_role("table", name="Route sheet").locator("tr[data-state]")


def test_rough_see_what_is_left_and_rough_that(page, job, client):
    page.goto(f"/jobs/{job}/route")
    add(page, "steady roughing")
    choose(page, "Tool", "Wide")
    page.locator(".sheet").get_by_role("button", name="Compute and prove").click()
    expect(rows(page).first).to_have_attribute("data-state", "ready", timeout=120_000)
    expect(rows(page).first).to_contain_text("held at 45°", timeout=60_000)
    # Loads in colour, with their scale and the target.
    page.get_by_role("combobox", name="Cuts coloured by").click()
    page.get_by_role("option", name="engagement").click()
    expect(page.get_by_role("figure")).to_contain_text("held at 45°, as planned")
    expect(page).to_have_url(re.compile("load=engagement"))
    # The stock after the row, by its thickness over the part; the volume is that of the server.
    page.get_by_role("radiogroup", name="Stock of the row").get_by_text("after").click()
    number = client.get(f"/api/jobs/{job}").json()["document"]["operations"][0]["number"]
    url = f"/api/jobs/{job}/setups/s1/stock-after"
    told, _ = decode(client.get(url, params={"row": number}).content)
    expect(page.get_by_text(f"{told['left_mm3'] / 1000:.2f} cm³ over the part")).to_be_visible(timeout=30_000)
    page.get_by_role("switch", name="coloured by thickness over the part").check(force=True)
    expect(page).to_have_url(re.compile("thick=1"))
    with page.expect_download() as saved:
        page.get_by_role("link", name="STL").click()
    assert saved.value.suggested_filename.endswith(f"-after-{number}.stl")
    # The follow-up row: less is left after it, and it cuts far less than the first.
    add(page, "rest roughing")
    choose(page, "Tool", "Slim")
    page.locator(".sheet").get_by_role("button", name="Compute and prove").click()
    expect(rows(page).nth(1)).to_have_attribute("data-state", "ready", timeout=120_000)
    second = client.get(f"/api/jobs/{job}").json()["document"]["operations"][1]["number"]
    after, _ = decode(client.get(url, params={"row": second}).content)
    assert 0 < after["left_mm3"] < told["left_mm3"] - 50
    lengths = [
        decode(client.get(f"/api/jobs/{job}/operations/{n}/path").content)[0]["cut_length_mm"] for n in (number, second)
    ]
    assert 0 < lengths[1] < 0.5 * lengths[0]
    # Which stock it sees: by the first stock it is out of date, and would clear everything.
    page.get_by_text("Stock it sees").click()
    choose(page, "Made for", "the setup's first stock")
    expect(rows(page).nth(1)).to_have_attribute("data-state", "out of date")


def test_plunges_are_added_by_the_command_search_and_proven(page, job, client):
    page.goto(f"/jobs/{job}/route")
    expect(page.get_by_role("button", name="Add an operation")).to_be_enabled()
    page.keyboard.press("Control+k")
    page.get_by_placeholder("Find a command").fill("plunge roughing")
    page.keyboard.press("Enter")
    expect(page.get_by_text("· plunge roughing")).to_be_visible()
    stage(page, "Route")
    page.locator(".sheet").get_by_role("button", name="Compute and prove").click()
    last = rows(page).last
    expect(last).to_have_attribute("data-state", "ready", timeout=120_000)
    setup = client.get(f"/api/jobs/{job}/status").json()["setups"][0]
    assert setup["faults"] == 0

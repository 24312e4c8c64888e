"""From an empty job to proven programs with a leaning tool: a cone's wall by the side of a mill on a table that tilts,
then the same row by an arm."""

import time

from playwright.sync_api import expect
from test_cell import CELL, facts
from test_road import choose, click_view, fill, stage

from fenrik.core.solids.reading import solid_from_shape
from fenrik.core.solids.writing import write_solid
from fenrik.demo.own import TILTING_TABLE
from solids import cone

DROP = """([text, name]) => { const d = new DataTransfer(); d.items.add(new File([text], name));
document.querySelector('[data-testid=viewport]').dispatchEvent(new DragEvent('drop', {dataTransfer: d, bubbles: true})); }"""


def test_from_an_empty_job_to_a_table_that_tilts_and_to_an_arm(page, client):
    page.goto("/")
    page.get_by_role("button", name="Empty job").click()
    expect(page.get_by_text("Drop a model here")).to_be_visible()
    shape = cone(0, 0, 0, 30.0, 22.0 + time.time() % 1 / 1000, 25.0)
    page.evaluate(DROP, [write_solid(solid_from_shape(shape), ".step").decode(), "lamp-foot.step"])
    expect(page.get_by_test_id("size")).to_have_text("60 × 60 × 25 mm")
    stage(page, "Setups")
    page.get_by_role("button", name="Add a setup").click()
    choose(page, "Machine", TILTING_TABLE["name"])
    fill(page, "Table below the stock, mm", "60")
    # The wall by its side: picked in the view, taken, computed, proven.
    stage(page, "Route")
    page.get_by_role("button", name="Add an operation").click()
    page.get_by_role("menuitem", name="swarf milling").click()
    expect(page.locator(".sheet").get_by_text("· swarf milling")).to_be_visible()
    page.wait_for_timeout(1500)
    click_view(page, 0.5, 0.68)
    page.get_by_role("button", name="Take what is picked (1)").click()
    expect(page.locator(".sheet").get_by_text("1 face", exact=True)).to_be_visible()
    page.locator(".sheet").get_by_role("button", name="Compute and prove").click()
    expect(page.locator("tr[data-state=ready]")).to_have_count(1)
    job = page.url.split("/jobs/")[1].split("/")[0]
    url = f"/api/jobs/{job}"
    stage(page, "Proof")
    expect(page.get_by_test_id("joint readout")).to_contain_text("C")
    (setup,) = client.get(url).json()["document"]["setups"]
    proof = client.get(f"{url}/setups/{setup['id']}/proof").json()
    assert proof["program_vs_path_mm"] < 0.002
    assert [f for f in proof["findings"] if f["severity"] == "fault"] == []
    stage(page, "Release")
    expect(page.get_by_role("button", name="Save", exact=True).first).to_be_visible()
    # The same by an arm.
    stage(page, "Setups")
    choose(page, "Machine", CELL)
    stage(page, "Cell")
    page.get_by_role("button", name="Solve the whole path").click()
    expect(facts(page)).to_contain_text("Not reachednone")
    stage(page, "Proof")
    page.locator(".sheet").get_by_role("button", name="Compute and prove").click()
    expect(page.get_by_test_id("joint readout")).to_contain_text("J6")
    proof = client.get(f"{url}/setups/{setup['id']}/proof").json()
    assert proof["program_vs_path_mm"] < 0.002
    assert [f for f in proof["findings"] if f["severity"] == "fault"] == []
    stage(page, "Release")
    expect(page.get_by_role("button", name="Save", exact=True).first).to_be_visible()

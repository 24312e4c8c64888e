"""The robot's road in real Chromium: from a job on a mill to a proven program for an arm, with a joint that is moved by
hand, a posture that is taught, a wish, and the best place; and a line of cutter location text that is corrected."""

import itertools
import time

import numpy as np
from playwright.sync_api import expect
from test_road import choose, stage

CELL = "Slipway cell (arm on a track)"


def facts(page):
    return page.get_by_test_id("way")


def values_of(page):
    cells = page.get_by_test_id("joints").locator("td[data-testid^=joint]")
    return [text.split()[0] for text in cells.all_inner_texts()]


def dragged(page):
    """Drags all over the drawing until one turned a joint alone: its name."""
    names = [
        text.split()[0] for text in page.get_by_test_id("joints").locator("tbody td:first-child").all_inner_texts()
    ]
    box = page.locator("canvas").first.bounding_box()
    for x, y in itertools.product(np.linspace(0.1, 0.9, 17), np.linspace(0.1, 0.9, 13)):
        before = values_of(page)
        place = box["x"] + x * box["width"], box["y"] + y * box["height"]
        page.mouse.move(*place)
        page.mouse.down()
        page.mouse.move(place[0] + 6, place[1] - 3, steps=2)
        page.wait_for_timeout(80)
        page.mouse.up()
        went = [n for n, a, b in zip(names, before, values_of(page), strict=True) if a != b]
        if len(went) == 1:
            return went[0]
    return ""


def test_from_a_mill_to_a_proven_program_for_an_arm(page, small_job, client, wait):
    url = f"/api/jobs/{small_job}"
    page.goto(f"/jobs/{small_job}/setups")
    expect(page.get_by_role("link", name="Cell")).to_have_count(0)
    choose(page, "Machine", CELL)
    expect(page.locator(".sheet").get_by_role("combobox", name="Controller")).to_have_value("Jointed arm")
    choose(page, "Controller", "Posed arm")
    # A place of its own: what was solved there once is known.
    page.get_by_label("Table below the stock").fill(f"{35 + time.time() % 1:.6f}")
    page.keyboard.press("Enter")
    stage(page, "Cell")
    expect(page.get_by_text("△ The arm's way is not solved for row 10.")).to_be_visible()

    # The arm can be moved before anything is solved, and how it stands is kept by a name.
    joint = page.get_by_role("slider", name="J2")
    before = page.get_by_test_id("joint J2").inner_text()
    joint.focus()
    for _ in range(5):
        page.keyboard.press("ArrowRight")
    expect(page.get_by_test_id("joint J2")).not_to_have_text(before)
    expect(page.get_by_text("moved by hand")).to_be_visible()
    page.get_by_label("Keep how the arm stands as").fill("over the slipway")
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page.locator(".sheet").get_by_role("combobox", name="Posture")).to_have_value("over the slipway")
    document = client.get(url).json()["document"]
    (posture,) = document["cells"][0]["postures"]
    assert posture["joints_deg"][1] == document["cells"][0]["home_deg"][1] + 0.5
    assert document["operations"][0]["arm"] == document["operations"][0]["arm"] | {
        "posture": "over the slipway",
        "stay": 0.5,
    }
    page.get_by_role("button", name="Back to the way").click()

    # A body that is dragged turns its joint alone.
    assert dragged(page) in ("J1", "J2", "J3", "J4", "J5")
    page.get_by_role("button", name="Back to the way").click()

    # A joint's range is narrowed where its ends stand, and an emptied cell gives it back.
    end = page.get_by_label("Highest of J1")
    end.fill("120")
    end.press("Enter")
    expect(end).to_have_value("120")

    def ranges():
        return client.get(url).json()["document"]["operations"][0]["arm"]["ranges"]

    wait(ranges)
    assert [(r["joint"], r["high"]) for r in ranges()] == [("J1", 120)]
    end.fill("")
    end.press("Enter")
    expect(end).to_have_value("")
    wait(lambda: ranges() == [])

    page.get_by_role("button", name="Solve the whole path").click()
    expect(facts(page)).to_contain_text("Not reachednone")
    expect(page.get_by_test_id("reach E1")).to_contain_text("all of the row")
    page.get_by_role("button", name="Solve this stretch").click()
    expect(page.get_by_test_id("stretch")).to_contain_text("none of 50")
    page.get_by_role("button", name="Stand where it begins").click()
    expect(page.get_by_text("moved by hand")).to_be_visible()
    page.get_by_text("limits", exact=True).click()
    expect(page.get_by_label("Path coloured by from the joints' ends")).to_be_visible()
    page.get_by_role("slider", name="Row of the way").focus()
    page.keyboard.press("End")
    expect(page.get_by_text("row ", exact=False).filter(has_text=" of ").first).to_be_visible()

    page.get_by_role("button", name="Find the best place").click()
    expect(page.get_by_test_id("places").locator("tbody tr").first).to_contain_text("100 %")

    # A wish makes the way out of date, and no more.
    page.get_by_role("slider", name="Keep the elbow high").focus()
    page.keyboard.press("End")
    expect(page.get_by_text("△ The arm's way is not solved for row 10.")).to_be_visible()
    stage(page, "Proof")
    page.locator(".sheet").get_by_role("button", name="Compute and prove").click()
    expect(page.get_by_test_id("joint readout")).to_contain_text("J6")
    expect(page.get_by_text("Findings: none")).to_be_visible()
    proof = client.get(f"{url}/setups/s1/proof").json()
    assert proof["program_vs_path_mm"] < 0.002
    page.get_by_role("switch", name="The machine moves").click()
    stage(page, "Release")
    text = client.get(f"{url}/setups/s1/programs").json()[0]["text"]
    assert text.startswith("begin ")
    assert "hold" in text
    expect(page.get_by_text("units mm deg").first).to_be_visible()


def test_a_line_of_cutter_location_text_is_corrected(page, small_job, client):
    url = f"/api/jobs/{small_job}"
    text = b"UNITS/ MM\nFROM/ 0,-9,40\nFEDRAT/ 500,MMPM\nGOTO/ 0,-9,30\nGOTO/ 60,-9,thirty\nFINI\n"
    client.put(f"{url}/files", files={"file": ("ring.cl", text)}).raise_for_status()
    row = {"number": 20, "setup": "s1", "tool": 1, "params": {"strategy": "cutter location text", "file": "ring.cl"}}
    client.patch(url, json={"label": "row", "changes": [{"op": "add", "path": "operations", "value": row}]})
    client.post(f"{url}/compute", json={"setup": "s1", "operations": [20], "proof": False}).raise_for_status()
    page.goto(f"/jobs/{small_job}/route?rows=20")
    expect(page.get_by_text("Line 5 is not understood", exact=False).first).to_be_visible()
    table = page.get_by_role("table", name="Lines of ring.cl")
    line = table.locator("tr").filter(has_text="thirty")
    line.get_by_role("button", name="Change line 5").click()
    field = page.get_by_label("Text of line 5")
    field.fill("GOTO/ 60,-9,30")
    field.press("Enter")
    expect(table.locator("tr").filter(has_text="GOTO/ 60,-9,30")).to_be_visible()
    edits = client.get(url).json()["document"]["operations"][1]["params"]["edits"]
    assert [(e["act"], e["line"], e["text"]) for e in edits] == [("replace", 5, "GOTO/ 60,-9,30")]
    client.post(f"{url}/compute", json={"setup": "s1", "operations": [20], "proof": False}).raise_for_status()
    expect(page.get_by_text("Line 5 is not understood", exact=False)).to_have_count(0)

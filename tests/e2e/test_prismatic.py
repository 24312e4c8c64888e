"""Prismatic work in the real interface: each operation by hand, from features to a route, holes, copies, order."""

import re

import pytest
from playwright.sync_api import expect
from test_before_the_cut import document, ready, tab
from test_road import choose, click_view, fill, stage

from fenrik.core.solids.xcaf import NamedShape, write_step
from parts import box, cut, cylinder, round_upright_edges


@pytest.fixture
def job(client):
    """A plate with a pocket and four holes in a job with one setup; gives its id."""
    pocket = round_upright_edges(box(25, 15, 12, 50, 40, 20), 6)
    holes = [cylinder(x, y, -1, 2.5, 40) for x in (10, 90) for y in (10, 60)]
    data = write_step([NamedShape(cut(box(0, 0, 0, 100, 70, 18), pocket, *holes), "Plate")])
    id_ = client.post("/api/jobs", json={"name": "Plate"}).json()["id"]
    client.put(f"/api/jobs/{id_}/part", files={"file": ("plate.step", data)}).raise_for_status()
    setup = {"id": "s1", "name": "Top", "machine": "Gull (three-axis mill)", "stock": {"kind": "box", "z_plus_mm": 1}}
    changes = [
        {"op": "add", "path": "setups", "value": setup},
        {"op": "set", "path": "material", "value": "Aluminium, wrought", "check": False},
        {"op": "set", "path": "cell_mm", "value": 0.5, "check": False},
    ]
    client.patch(f"/api/jobs/{id_}", json={"label": "setup", "changes": changes}).raise_for_status()
    return id_


def add(page, strategy):
    page.get_by_role("button", name="Add an operation").click()
    page.get_by_role("menuitem", name=strategy, exact=True).click()
    expect(page.locator(".sheet").get_by_text(f"· {strategy}")).to_be_visible()


def test_from_features_to_a_proven_route_in_a_few_clicks(page, job, client):
    ready(page, f"/jobs/{job}/route")
    page.get_by_role("button", name="Propose a route").click()
    expect(page.get_by_role("table", name="Proposed rows").get_by_text("Drill ⌀5")).to_be_visible()
    page.get_by_role("button", name="Take this route").click()
    rows = page.get_by_role("table", name="Route sheet").locator("tr[data-state]")
    expect(rows).not_to_have_count(0)
    page.locator(".sheet").get_by_role("button", name="Compute and prove").click()
    expect(page.locator("tr[data-state='out of date'], tr[data-state=computing]")).to_have_count(0)
    tab(page, "Left over")
    expect(page.get_by_text("features are made by some operation")).to_be_visible()
    stage(page, "Proof")
    expect(page.get_by_text("Findings: none")).to_be_visible()
    stage(page, "Release")
    expect(page.get_by_role("button", name="Save", exact=True)).to_be_visible()
    programs = client.get(f"/api/jobs/{job}/setups/s1/programs").json()
    assert "G81" in programs[0]["text"]
    assert "G84" in programs[0]["text"]


def test_rules_and_holes_change_what_is_proposed(page, job, client):
    ready(page, f"/jobs/{job}/route")
    tab(page, "Holes")
    page.get_by_role("combobox", name="How holes of 5 mm are made").click()
    page.get_by_role("option", name="leave", exact=True).click()
    expect(page.get_by_role("combobox", name="How holes of 5 mm are made")).to_have_value("leave")
    assert len(document(client, job)["hole_choices"]) == 4
    page.get_by_role("button", name="Propose a route").click()
    table = page.get_by_role("table", name="Proposed rows")
    expect(table.get_by_text("Face the top")).to_be_visible()
    expect(table.get_by_text("Drill")).to_have_count(0)
    page.locator("summary", has_text="Rules").click()
    page.get_by_role("switch", name="Face the top").press("Space")
    expect(table.get_by_text("Face the top")).to_have_count(0)


def test_geometry_is_picked_for_a_pocket_and_taken_out_again(page, job, client):
    ready(page, f"/jobs/{job}/route")
    add(page, "pocket clearing")
    expect(page.get_by_text("Nothing yet. Pick faces or edges")).to_be_visible()
    page.get_by_role("button", name="Look from top").click()
    page.wait_for_timeout(800)
    click_view(page)
    page.get_by_role("button", name="Take what is picked (1)").click()
    expect(page.locator(".sheet").get_by_text("1 face", exact=True)).to_be_visible()
    page.locator(".sheet").get_by_role("button", name="Compute and prove").click()
    expect(page.locator("tr[data-state=ready]")).to_have_count(1)
    page.get_by_role("button", name="Take out 1 face").click()
    expect(page.get_by_text("Nothing yet. Pick faces or edges")).to_be_visible()


@pytest.mark.parametrize(
    ("strategy", "targets"),
    [
        ("facing", []),
        ("contour", [{"kind": "outline"}]),
        ("slot", [{"kind": "sketch", "sketch": "lines"}]),
        ("drilling", [{"kind": "faces", "faces": [{"surface": "cylinder", "radius_mm": 2.5, "concave": True}]}]),
        ("bore milling", [{"kind": "sketch", "sketch": "rings"}]),
        ("thread milling", [{"kind": "faces", "faces": [{"surface": "cylinder", "radius_mm": 2.5, "concave": True}]}]),
        ("edge chamfer", []),
        ("engraving", [{"kind": "sketch", "sketch": "lines"}]),
    ],
)
def test_each_operation_is_added_computed_and_seen(page, job, client, strategy, targets):
    line = {"kind": "line", "id": "l", "x_mm": 30, "y_mm": 5, "to_x_mm": 70, "to_y_mm": 5}
    ring = {"kind": "circle", "id": "c", "x_mm": 50, "y_mm": 35, "radius_mm": 15}
    changes = [
        {"op": "add", "path": "sketches", "value": {"id": "lines", "setup": "s1", "level_mm": -1, "items": [line]}},
        {"op": "add", "path": "sketches", "value": {"id": "rings", "setup": "s1", "level_mm": 0, "items": [ring]}},
    ]
    client.patch(f"/api/jobs/{job}", json={"label": "sketches", "changes": changes}).raise_for_status()
    numbers = [105, 201, 214, 244, 252, 301, 312, 151]
    client.post(f"/api/jobs/{job}/tools/take", json={"numbers": numbers})
    ready(page, f"/jobs/{job}/route")
    add(page, strategy)
    if strategy == "edge chamfer":
        page.get_by_role("button", name="All sharp edges").click()
        expect(page.locator(".sheet").get_by_text("sharp edges of the part")).to_be_visible()
    change = (
        [{"op": "set", "path": "operations/10/params/targets", "value": targets, "check": False}] if targets else []
    )
    if strategy == "bore milling":
        change.append({"op": "set", "path": "operations/10/params/bottom_mm", "value": 12, "check": False})
    if change:
        client.patch(f"/api/jobs/{job}", json={"label": "targets", "changes": change}).raise_for_status()
    page.locator(".sheet").get_by_role("button", name="Compute and prove").click()
    expect(page.locator("tr[data-state=ready]")).to_have_count(1)
    expect(page.get_by_label("Kinds of motion")).to_be_visible()


def test_copies_and_values_for_many_rows(page, job, client):
    ready(page, f"/jobs/{job}/route")
    add(page, "contour")
    page.get_by_role("button", name="Outline").click()
    expect(page.locator(".sheet").get_by_text("outline of the part")).to_be_visible()
    page.locator("summary", has_text="Copies").click()
    choose(page, "Copies of this path", "in a line")
    fill(page, "Step X, mm", "120")
    assert document(client, job)["operations"][0]["copies"]["step_x_mm"] == 120
    page.get_by_role("button", name="Duplicate 10").click()
    fill_step = page.get_by_label("Step of 10")
    fill_step.fill("1.7")
    fill_step.press("Enter")
    rows = page.get_by_role("table", name="Route sheet").locator("tr[data-state]")
    rows.nth(0).locator("td").first.click()
    rows.nth(1).locator("td").first.click(modifiers=["Shift"])
    expect(page.get_by_text("2 rows together")).to_be_visible()
    page.get_by_role("button", name="Values of 10 to all").click()
    expect(page.get_by_label("Step of 20")).to_have_value("1.7")


def test_fewer_tool_changes_are_offered(page, job, client):
    holes = [{"kind": "faces", "faces": [{"surface": "cylinder", "radius_mm": 2.5, "concave": True}]}]
    client.post(f"/api/jobs/{job}/tools/take", json={"numbers": [201, 214]})
    tools = {t["cutter"]["kind"]: t["number"] for t in document(client, job)["tools"]}
    rows = [
        {
            "number": 10 * (k + 1),
            "setup": "s1",
            "tool": tools[kind],
            "params": {"strategy": strategy, "targets": targets, **more},
        }
        for k, (kind, strategy, targets, more) in enumerate(
            [
                ("spot drill", "drilling", holes, {"cycle": "spot"}),
                ("drill", "drilling", holes, {}),
                ("spot drill", "engraving", [{"kind": "sketch", "sketch": "x"}], {}),
            ]
        )
    ]
    sketch = {
        "id": "x",
        "setup": "s1",
        "items": [{"kind": "circle", "id": "c", "x_mm": 50, "y_mm": 35, "radius_mm": 5}],
    }
    changes = [{"op": "add", "path": "sketches", "value": sketch}] + [
        {"op": "add", "path": "operations", "value": r} for r in rows
    ]
    client.patch(f"/api/jobs/{job}", json={"label": "rows", "changes": changes}).raise_for_status()
    order = client.get(f"/api/jobs/{job}/setups/s1/order").json()
    ready(page, f"/jobs/{job}/route")
    assert order["order"] == [10, 30, 20]
    assert (order["changes_before"], order["changes_after"]) == (3, 2)
    page.get_by_role("button", name="Take that order").click()
    expect(page.get_by_role("button", name="Take that order")).to_have_count(0)
    assert [o["number"] for o in document(client, job)["operations"]] == order["order"]


def test_heights_are_seen_dragged_typed_and_picked(page, job, client):
    ready(page, f"/jobs/{job}/route")
    add(page, "pocket clearing")
    page.get_by_role("button", name="Look from top").click()
    page.wait_for_timeout(800)
    click_view(page)
    page.get_by_role("button", name="Take what is picked (1)").click()
    page.get_by_role("button", name="Look from the corner").click()
    canvas = page.locator("canvas").first
    expect(canvas).to_have_attribute("data-bottom-grip", re.compile(","))
    page.wait_for_timeout(800)
    box = canvas.bounding_box()
    x, y = (float(v) for v in canvas.get_attribute("data-bottom-grip").split(","))
    page.mouse.move(box["x"] + x, box["y"] + y)
    page.mouse.down()
    page.mouse.move(box["x"] + x, box["y"] + y - 20, steps=4)
    with page.expect_response(lambda r: r.request.method == "PATCH" and r.ok):
        page.mouse.up()
    assert 0.5 < document(client, job)["operations"][0]["params"]["bottom_mm"] < 20
    # The bottom at a picked face: the floor of the pocket itself.
    page.locator(".sheet summary", has_text="More").first.click()
    choose(page, "Bottom from", "a pick")
    expect(page.get_by_text("△ pick one face in the part")).to_be_visible()
    page.get_by_role("button", name="Look from top").click()
    page.wait_for_timeout(800)
    click_view(page)
    page.get_by_role("button", name="Bottom at the picked face").click()
    expect(page.get_by_text("✓ a face is picked")).to_be_visible()
    fill(page, "Above it, mm", "0")
    heights = {h["name"]: h for h in client.get(f"/api/jobs/{job}/operations/10/heights").json()}
    assert heights["bottom"]["level_mm"] == pytest.approx(heights["top"]["base_mm"] - 7)


def test_counterbores_on_the_far_side_are_bored_back(page, client):
    id_ = client.post("/api/jobs", json={"name": "Collar"}).json()["id"]
    shape = cut(box(0, 0, 0, 60, 40, 28), cylinder(30, 20, -1, 11, 40), cylinder(30, 20, -1, 15, 7))
    files = {"file": ("collar.step", write_step([NamedShape(shape, "Collar")]))}
    client.put(f"/api/jobs/{id_}/part", files=files).raise_for_status()
    setup = {"id": "s1", "name": "Top", "machine": "Gull (three-axis mill)"}
    changes = [
        {"op": "add", "path": "setups", "value": setup},
        {"op": "set", "path": "cell_mm", "value": 0.5, "check": False},
    ]
    client.patch(f"/api/jobs/{id_}", json={"label": "setup", "changes": changes}).raise_for_status()
    ready(page, f"/jobs/{id_}/route")
    page.get_by_role("button", name="Propose a route").click()
    expect(page.get_by_text("its counterbore ⌀30 opens on the other side")).to_be_visible()
    page.get_by_role("button", name="Take this route").click()
    tab(page, "Holes")
    page.get_by_role("combobox", name="How holes of 22 mm are made").click()
    page.get_by_role("option", name="back boring", exact=True).click()
    tab(page, "Route sheet")
    row = page.get_by_role("table", name="Route sheet").locator("tr[data-state]", has_text="Bore back")
    expect(row).to_have_count(1)
    page.locator(".sheet").get_by_role("button", name="Compute and prove").click()
    stage(page, "Proof")
    expect(page.get_by_text("Findings: none")).to_be_visible()
    assert "G87" in client.get(f"/api/jobs/{id_}/setups/s1/programs").json()[0]["text"]


def test_a_route_for_all_sides_brings_its_setups(page, client):
    shape = cut(
        box(0, 0, 0, 80, 60, 20), cylinder(40, 30, -1, 5, 30), round_upright_edges(box(20, 15, -1, 40, 30, 7), 6)
    )
    id_ = client.post("/api/jobs", json={"name": "Two sides"}).json()["id"]
    data = write_step([NamedShape(shape, "Block")])
    client.put(f"/api/jobs/{id_}/part", files={"file": ("block.step", data)}).raise_for_status()
    setup = {"id": "s1", "name": "Top", "machine": "Gull (three-axis mill)"}
    change = {"label": "setup", "changes": [{"op": "add", "path": "setups", "value": setup}]}
    client.patch(f"/api/jobs/{id_}", json=change).raise_for_status()
    ready(page, f"/jobs/{id_}/route")
    page.get_by_role("button", name="Propose a route").click()
    page.get_by_text("All sides of the part").click()
    table = page.get_by_role("table", name="Proposed rows")
    expect(table.get_by_text("From -z: Rough pockets")).to_be_visible()
    page.get_by_role("button", name="Take this route").click()
    expect(page.get_by_role("table", name="Route sheet").get_by_text("From -z")).to_be_visible()
    page.get_by_role("button", name="All 2 setups").click()
    expect(page.locator("tr[data-state='out of date'], tr[data-state=computing]")).to_have_count(0)
    expect(page.locator("tr[data-state=failed]")).to_have_count(0)
    tab(page, "Left over")
    expect(page.get_by_text("features are made by some operation")).to_be_visible()

"""Everything before the first cut in real Chromium: parts, picking, measuring, features, setups, fixtures, tools, materials."""

import json

import ezdxf
import numpy as np
import pytest
from playwright.sync_api import expect
from test_road import choose, click_view, field, fill, stage

from fenrik.core.solids.xcaf import NamedShape, write_step
from parts import box, cut, cylinder, dressed, plate


@pytest.fixture(scope="session")
def files(tmp_path_factory):
    """Model files: a plate with holes, the same with a moved one, an assembly, a dressed block, a contour."""
    folder = tmp_path_factory.mktemp("models")
    moved = cut(box(0, 0, 0, 120, 80, 20), cylinder(25, 20, -1, 4, 30))
    made = {
        "plate": [NamedShape(plate(), "Plate")],
        "plate-2": [NamedShape(moved, "Plate")],
        "pair": [
            NamedShape(box(0, 0, 0, 40, 30, 10), "Foot", "#3366aa"),
            NamedShape(box(0, 50, 0, 60, 20, 15), "Nest", "#aa3311"),
        ],
        "dressed": [NamedShape(dressed(), "Dressed")],
    }
    for name, shapes in made.items():
        (folder / f"{name}.step").write_bytes(write_step(shapes))
    doc = ezdxf.new(units=ezdxf.units.MM)
    doc.modelspace().add_lwpolyline([(0, 0), (3, 0), (5, 2), (5, 18)])
    doc.saveas(folder / "profile.dxf")
    outline = ezdxf.new(units=ezdxf.units.MM)
    outline.modelspace().add_circle((30, 20), 12)
    outline.saveas(folder / "outline.dxf")
    return folder


@pytest.fixture
def job(client, files):
    """Makes a job with a model and one setup; gives its id."""

    def make(name, **setup):
        job = client.post("/api/jobs", json={"name": "New job"}).json()["id"]
        data = (files / f"{name}.step").read_bytes()
        client.put(f"/api/jobs/{job}/part", files={"file": (f"{name}.step", data)}).raise_for_status()
        value = {"id": "s1", "name": "Top", "machine": "Gull (three-axis mill)", **setup}
        body = {"label": "setup", "changes": [{"op": "add", "path": "setups", "value": value}]}
        client.patch(f"/api/jobs/{job}", json=body).raise_for_status()
        return job

    return make


def tab(page, name):
    page.get_by_role("tab", name=name).click()


def ready(page, path):
    page.goto(path)
    expect(page.get_by_test_id("viewport").locator("canvas")).to_be_visible()
    page.wait_for_timeout(2000)


def takes(page, what):
    page.get_by_role("combobox", name="A click takes").click()
    page.get_by_role("option", name=what, exact=True).click()


def document(client, job):
    return client.get(f"/api/jobs/{job}").json()["document"]


def test_features_are_listed_and_a_row_takes_their_faces(page, job):
    ready(page, f"/jobs/{job('plate')}/part")
    table = page.get_by_role("table", name="Features")
    expect(table.get_by_text("⌀6.6")).to_be_visible()
    expect(page.get_by_text("6 holes, 0 pockets and slots")).to_be_visible()
    row = table.locator("tr", has_text="⌀5")
    expect(row.filter(has_text="tap drill of M6")).to_have_count(1)
    table.locator("tr", has_text="counterbore ⌀11").click()
    expect(page.get_by_text("Picked: 3")).to_be_visible()
    page.get_by_role("combobox", name="Seen from").click()
    page.get_by_role("option", name="−Z", exact=True).click()
    expect(page.get_by_text("4 holes, 0 pockets and slots")).to_be_visible()


def test_a_click_takes_faces_edges_chains_and_alike_ones(page, job):
    ready(page, f"/jobs/{job('dressed')}/part")
    click_view(page, 0.4, 0.36)
    expect(page.get_by_text("Picked: 1", exact=True)).to_be_visible()
    expect(page.get_by_test_id("measured")).to_contain_text("area")
    takes(page, "all of this surface")
    click_view(page, 0.4, 0.36)
    expect(page.get_by_text("Picked: 1", exact=True)).not_to_be_visible()
    takes(page, "tangent chain")
    click_view(page, 0.4, 0.38)
    expect(page.get_by_text("Together")).to_contain_text("mm long")
    takes(page, "edge")
    page.get_by_role("button", name="Let go of all").click()
    click_view(page, 0.4, 0.38)
    expect(page.get_by_test_id("measured")).to_contain_text("length")
    page.get_by_role("button", name="Box").click()
    area = page.locator("canvas").first.bounding_box()
    page.mouse.move(area["x"] + 20, area["y"] + 50)
    page.mouse.down()
    page.mouse.move(area["x"] + area["width"] - 20, area["y"] + area["height"] - 10, steps=4)
    page.mouse.up()
    expect(page.get_by_text("Together")).to_be_visible()


def test_measurements_stay_follow_and_are_cleared_and_selections_are_kept(page, job, client):
    id_ = job("plate")
    ready(page, f"/jobs/{id_}/part")
    page.get_by_role("table", name="Features").locator("tr", has_text="⌀8").first.click()
    expect(page.get_by_test_id("measured")).to_contain_text("radius")
    page.get_by_role("button", name="Keep this measurement").click()
    expect(page.get_by_test_id("kept-measure")).to_have_count(1)
    page.get_by_label("Name of the selection").fill("Guide bore")
    page.get_by_role("button", name="Keep as selection").click()
    expect(page.get_by_role("button", name="Guide bore (1)")).to_be_visible()
    page.get_by_role("button", name="Let go of all").click()
    page.get_by_role("button", name="Guide bore (1)").click()
    expect(page.get_by_text("Picked: 1", exact=True)).to_be_visible()
    page.reload()
    expect(page.get_by_test_id("kept-measure")).to_contain_text("area")
    page.get_by_role("button", name="Clear the measurements").click()
    expect(page.get_by_test_id("kept-measure")).to_have_count(0)
    assert document(client, id_)["selections"][0]["name"] == "Guide bore"


def test_a_new_version_of_the_model_shows_what_changed(page, job, files):
    ready(page, f"/jobs/{job('plate')}/part")
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Replace the model").click()
    chooser.value.set_files(str(files / "plate-2.step"))
    expect(page.get_by_role("alert")).to_contain_text("New version of the model")
    tab(page, "Changes")
    table = page.get_by_role("table", name="Changes")
    expect(table.get_by_text("moved by 10, 5, 0 mm")).to_be_visible()
    expect(table.get_by_text("✕ gone").first).to_be_visible()


def test_bodies_get_their_roles_and_the_model_is_checked_and_saved(page, job, client):
    id_ = job("pair")
    ready(page, f"/jobs/{id_}/part")
    tab(page, "Bodies")
    expect(page.get_by_text("#3366aa")).to_be_visible()
    page.get_by_role("combobox", name="What Nest is").click()
    page.get_by_role("option", name="fixture").click()
    expect(page.get_by_role("combobox", name="What Nest is")).to_have_value("fixture")
    tab(page, "Health")
    expect(page.get_by_text("The model is sound")).to_be_visible()
    page.get_by_role("button", name="Save as").click()
    with page.expect_download() as download:
        page.get_by_role("menuitem", name="GLB").click()
    assert download.value.suggested_filename.endswith(".glb")
    stage(page, "Setups")
    expect(page.locator(".sheet").get_by_text("Block of")).to_be_visible()
    page.get_by_role("button", name="Add a fixture").click()
    page.get_by_role("menuitem", name="body Nest").click()
    expect(page.locator(".sheet").get_by_text("Nest body")).to_be_visible()
    assert document(client, id_)["setups"][0]["fixtures"][0]["body"] == "Nest"


def test_sketches_from_numbers_text_and_a_drawing(page, job, client, files):
    id_ = job("plate")
    ready(page, f"/jobs/{id_}/part")
    tab(page, "Sketches")
    page.get_by_role("button", name="New sketch").click()
    for kind in ("rectangle", "offset", "text"):
        page.get_by_role("button", name="Add", exact=True).click()
        page.get_by_role("menuitem", name=kind, exact=True).click()
        expect(page.get_by_role("table", name="Items of the sketch").locator("tr", has_text=kind)).to_be_visible()
    expect(page.get_by_role("table", name="Items of the sketch").locator("tr", has_text="rectangle")).to_contain_text(
        "120"
    )
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Drawing from a file").click()
    chooser.value.set_files(str(files / "outline.dxf"))
    expect(page.get_by_role("table", name="Items of the sketch").locator("tr", has_text="drawing")).to_contain_text(
        "75.398"
    )
    assert [i["kind"] for i in document(client, id_)["sketches"][0]["items"]] == [
        "rectangle",
        "offset",
        "text",
        "drawing",
    ]


def test_stock_shapes_grid_and_offsets(page, job, client):
    id_ = job("plate")
    ready(page, f"/jobs/{id_}/setups")
    choose(page, "Shape", "round bar")
    expect(page.locator(".sheet").get_by_text("Box of")).to_be_visible()
    choose(page, "Bar runs along", "x")
    expect(page.get_by_role("table", name="Setups")).to_contain_text("round bar 122.0")
    choose(page, "Shape", "earlier setup")
    expect(page.get_by_role("alert")).to_contain_text("no setup before this one")
    choose(page, "Shape", "block")
    page.get_by_role("switch", name="The same part many times").press("Space")
    fill(page, "Columns", "3")
    expect(page.get_by_role("table", name="Setups").locator("td", has_text="6").first).to_be_visible()
    page.get_by_role("button", name="Add a setup").click()
    expect(page.get_by_test_id("setup-finding").first).to_contain_text("same work offset")
    choose(page, "Work offset", "extended 1")
    expect(page.get_by_test_id("setup-finding")).to_have_count(0)
    assert document(client, id_)["setups"][1]["work_offset"] == 101


def test_up_from_a_hole_and_turned_over(page, job):
    id_ = job("plate")
    ready(page, f"/jobs/{id_}/setups")
    page.get_by_role("switch", name="Upside down").press("Space")
    expect(page.get_by_test_id("came-from")).to_contain_text("upside down")
    page.get_by_role("switch", name="Upside down").press("Space")
    page.get_by_role("button", name="Other picks").click()
    page.get_by_role("menuitem", name="Up is towards the eye").click()
    expect(page.get_by_test_id("came-from")).to_have_text("towards the eye")
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_test_id("came-from")).to_have_text("+Z of the part")
    page.get_by_role("button", name="Turn 90°").click()
    expect(field(page, "Turn about Z, deg")).to_have_value("90")


def test_a_vice_its_gap_and_how_it_is_closed(page, job, client):
    id_ = job("plate", stock={"kind": "box", "z_minus_mm": 6}, table_below_mm=52.5)
    ready(page, f"/jobs/{id_}/setups")
    expect(page.locator(".sheet").get_by_text("Block of")).to_be_visible()
    page.get_by_role("button", name="Add a fixture").click()
    page.get_by_role("menuitem", name="vice").click()
    finding = page.get_by_test_id("setup-finding")
    expect(finding).to_contain_text("2.50 mm above the table")
    page.locator(".sheet summary", has_text="vice").click()
    page.get_by_role("button", name="Close the gap").click()
    expect(page.locator(".sheet summary", has_text="vice · on the table")).to_be_visible()
    expect(finding.filter(has_text="above the table")).to_have_count(0)
    assert document(client, id_)["setups"][0]["fixtures"][0]["place"]["z_mm"] == -2.5
    fill(page, "Jaw height, mm", "0.02")
    expect(page.locator(".sheet").get_by_text("Must be at least 0.1 mm.")).to_be_visible()


def test_tools_of_every_kind_library_material_and_load(page, job, client):
    id_ = job("plate")
    ready(page, f"/jobs/{id_}/tools?tool=1")
    page.get_by_role("combobox", name="Material").first.click()
    page.get_by_role("option", name="P · Mild steel").click()
    proposal = page.get_by_test_id("proposal")
    expect(proposal).to_contain_text("Spindle speed")
    before = proposal.inner_text()
    page.get_by_role("slider", name="Load").press("End")
    expect(proposal).not_to_have_text(before)
    page.get_by_role("button", name="Use these speeds").click()
    expect(page.get_by_test_id("stick-out")).to_contain_text("shortest safe")
    tab(page, "Shop library")
    page.get_by_label("Find tools").fill("tap m6")
    page.get_by_role("button", name="Take 244 into the job").click()
    expect(page.get_by_text("T244 · cutter")).to_be_visible()
    assert document(client, id_)["tools"][-1]["cutter"]["kind"] == "tap"
    fill(page, "Stick-out, mm", "60")
    expect(page.get_by_text("Differs from the library in 1")).to_be_visible()
    for kind in ("lollipop", "barrel", "centre drill", "thread mill", "own contour"):
        page.locator(".sheet").get_by_role("combobox", name="Kind").click()
        page.get_by_role("option", name=kind, exact=True).click()
        expect(page.locator(".sheet").get_by_role("combobox", name="Kind")).to_have_value(kind)
        expect(page.get_by_test_id("tool-drawing")).to_be_visible()


def test_a_contour_from_a_dxf_and_bad_numbers_beside_their_field(page, job, client, files):
    id_ = job("plate")
    ready(page, f"/jobs/{id_}/tools?tool=2")
    page.locator(".sheet").get_by_role("combobox", name="Kind").click()
    page.get_by_role("option", name="own contour", exact=True).click()
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Contour from a DXF").click()
    chooser.value.set_files(str(files / "profile.dxf"))
    expect(page.get_by_text("4 places")).to_be_visible()
    cutter = next(t for t in document(client, id_)["tools"] if t["number"] == 2)["cutter"]
    assert cutter["diameter_mm"] == 10
    assert np.allclose(cutter["places"][2], [5, 2, 0])
    page.locator("tr", has_text="Bull-nose 8 r1").click()
    fill_refused = field(page, "Corner radius, mm")
    fill_refused.fill("5")
    fill_refused.press("Enter")
    expect(page.locator(".sheet").get_by_text("must be below half the diameter")).to_be_visible()


def test_tool_lists_go_out_and_come_in(page, job, client, tmp_path):
    id_ = job("plate")
    ready(page, f"/jobs/{id_}/tools")
    with page.expect_download() as download:
        page.get_by_role("link", name="Save as JSON").click()
    tools = json.loads(download.value.path().read_text())["tools"]
    tools[0]["name"] = "Renamed outside"
    path = tmp_path / "tools.json"
    path.write_text(json.dumps({"tools": tools}))
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Import a list").click()
    chooser.value.set_files(str(path))
    expect(page.get_by_role("table", name="Tools of the job")).to_contain_text("Renamed outside")
    path.write_text("{broken")
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Import a list").click()
    chooser.value.set_files(str(path))
    expect(page.get_by_role("alert")).to_contain_text("not JSON")


def test_a_row_follows_a_sketch_and_a_row_works_on_one_copy(page):
    ready(page, "/jobs/dial-plate/route?rows=80")
    expect(page.locator(".sheet").get_by_text("sketch scale")).to_be_visible()
    expect(page.locator("tr[data-state=ready]")).to_have_count(8)
    ready(page, "/jobs/rail-brackets/route?rows=60")
    choose(page, "Copies", "only number 3")
    expect(page.locator("tr[data-state='out of date']")).to_have_count(1)
    page.get_by_role("button", name="Undo").click()
    expect(page.locator("tr[data-state=ready]")).to_have_count(6)

"""A plate of 150 holes in 14 sizes and 24 nested pockets at 9 levels: from STEP to a whole route in few clicks."""

from playwright.sync_api import expect
from test_before_the_cut import tab
from test_road import choose, stage

from fenrik.core.solids.xcaf import NamedShape, write_step
from fenrik.demo.plate import bench_plate, long_drills

MOST_CLICKS = 15
COUNT = (
    "addEventListener('click', (e) => e.isTrusted && e.detail > 0 && (window.clicks = (window.clicks || 0) + 1), true)"
)


def test_the_plate_from_step_to_a_route_that_leaves_nothing(page, client, tmp_path):
    for drill in long_drills():
        client.put(f"/api/library/tools/{drill['number']}", json=drill).raise_for_status()
    file = tmp_path / "plate.step"
    file.write_bytes(write_step([NamedShape(bench_plate(), "Plate")]))
    try:
        page.goto("/")
        page.evaluate(COUNT)
        with page.expect_file_chooser() as chooser:
            page.get_by_role("button", name="New job from a file").click()
        chooser.value.set_files(file)
        expect(page.get_by_test_id("size")).to_have_text("420 × 300 × 40 mm")
        stage(page, "Setups")
        page.get_by_role("button", name="Add a setup").click()
        choose(page, "Machine", "Gull")
        stage(page, "Route")
        page.get_by_role("button", name="Propose a route").click()
        page.get_by_role("button", name="Take this route").click()
        rows = page.get_by_role("table", name="Route sheet").locator("tr[data-state]")
        expect(rows).not_to_have_count(0)
        clicks = page.evaluate("window.clicks")
        tab(page, "Left over")
        expect(page.get_by_text("✓ All 174 features are made by some operation.")).to_be_visible()
        print(f"{clicks} clicks from STEP to the whole route (bar {MOST_CLICKS})")
        assert 5 < clicks <= MOST_CLICKS
    finally:
        for drill in long_drills():
            client.delete(f"/api/library/tools/{drill['number']}")

"""Many tabs in one browser, people who sign in, and sessions that end while a field is edited."""

import re

import httpx
import psycopg
import pytest
from people import PASSWORDS
from playwright.sync_api import expect

from app_fixtures import PATIENCE_MS, patch

TABS = 9


def test_more_tabs_than_a_browser_has_connections(browser, server, client, small_job):
    """HTTP/1.1 lets a browser have six connections to a server: streams of events must not take them all."""
    context = browser.new_context(base_url=server)
    context.set_default_timeout(PATIENCE_MS)
    try:
        tabs = [context.new_page() for _ in range(TABS)]
        for tab in tabs:
            tab.goto("/")
            expect(tab.get_by_role("link", name="Lantern bracket")).to_be_visible()
        patch(client, small_job, {"path": "name", "value": "Told to all", "check": False}).raise_for_status()
        for tab in tabs:
            expect(tab.get_by_role("link", name="Told to all")).to_be_visible()
        figures = client.get("/api/metrics").text
        assert float(re.search(r"^fenrik_streams (\S+)", figures, re.MULTILINE)[1]) <= 2
    finally:
        context.close()


@pytest.fixture
def shop(browser, guarded):
    """A browser before a server that others reach."""
    context = browser.new_context(
        base_url=guarded.address, ignore_https_errors=True, viewport={"width": 1280, "height": 800}
    )
    context.set_default_timeout(PATIENCE_MS)
    page = context.new_page()
    yield page
    context.close()


def sign_in(page, name, password=None):
    dialog = page.get_by_role("dialog", name="Who is there?")
    dialog.get_by_label("Name").fill(name)
    dialog.get_by_label("Password", exact=True).fill(password or PASSWORDS[name][1])
    dialog.get_by_role("button", name="Come in").click()
    if password is None:
        expect(dialog).to_be_hidden()
    return dialog


def test_signing_in_and_out(shop):
    shop.goto("/")
    dialog = sign_in(shop, "ben", "wrong wrong wrong")
    expect(dialog.get_by_role("alert")).to_contain_text("Name or password is wrong")
    sign_in(shop, "ben")
    shop.get_by_role("button", name="ben").click()
    expect(shop.get_by_text("ben may program")).to_be_visible()
    assert shop.evaluate("document.cookie") == ""
    shop.get_by_role("menuitem", name="Sign out").click()
    expect(shop.get_by_role("dialog", name="Who is there?")).to_be_visible()


def test_one_who_may_look_is_told_so_where_it_matters(shop):
    shop.goto("/")
    sign_in(shop, "eve")
    shop.get_by_role("button", name="Empty job").click()
    expect(shop.get_by_role("alert")).to_contain_text("This needs an account that may program")


def test_a_session_that_ends_while_a_field_is_edited_loses_nothing(shop, guarded, signed):
    job = signed("ada").post("/api/jobs", json={"name": "Fog horn"}).json()["id"]
    shop.goto(f"/jobs/{job}/tools")
    sign_in(shop, "ben")
    field = shop.get_by_role("textbox", name="Diameter, mm").first
    expect(field).to_be_visible()
    field.fill("13.5")
    with psycopg.connect(guarded.environment["FENRIK_DATABASE"], autocommit=True) as connection:
        connection.execute("delete from session")
    shop.wait_for_timeout(2500)
    field.press("Tab")
    expect(shop.get_by_role("dialog", name="Who is there?")).to_be_visible()
    sign_in(shop, "ben")
    expect(field).to_have_value("13.5")
    expect(shop.get_by_text("saved", exact=True)).to_be_visible()
    with httpx.Client(base_url=guarded.address, verify=False) as other:
        other.post("/api/session", json={"name": "ada", "password": PASSWORDS["ada"][1]}).raise_for_status()
        tools = other.get(f"/api/jobs/{job}").json()["document"]["tools"]
        assert 13.5 in [t["cutter"]["diameter_mm"] for t in tools]
        assert other.get(f"/api/jobs/{job}/history").json()[0]["by"] == "ben"

"""The Data page: markets beside each other."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from flask_openapi3 import OpenAPI
from playwright.sync_api import Page
from tests.browser.settled import expect


@pytest.fixture
def no_other_market(app: OpenAPI) -> Iterator[None]:
    """Only the demo's is there before and after."""
    markets = app.extensions["flinch"].markets
    yield
    for name in markets.names():
        if name != "demo":
            markets.remove(name)


def test_a_market_is_made_opened_left_and_removed(page: Page, no_other_market: None):
    page.goto("/screen?screen=s-premium-to-sell")
    expect(page).to_have_url(re.compile("market=demo"))
    page.keyboard.press("q")
    expect(page.get_by_role("heading", name="Markets")).to_be_visible()
    expect(page).to_have_url(re.compile(r"/data\?.*market=demo"))

    form = page.get_by_role("form", name="A market of one's own")
    form.get_by_label("Name").fill("Mine")
    form.get_by_role("button", name="make it").click()
    expect(form.get_by_role("alert")).to_contain_text("small letter")
    form.get_by_label("Name").fill("mine")
    form.get_by_label("Currency").fill("eur")
    form.get_by_label("Rate %").fill("2.5")
    form.get_by_role("button", name="make it").click()

    # It is open at once, and every page says which one it is, and that there is nothing in it yet.
    expect(page).to_have_url(re.compile(r"/data\?market=mine"))
    row = page.get_by_role("row").filter(has=page.get_by_role("rowheader", name="mine", exact=True))
    expect(row).to_contain_text("EUR")
    expect(row).to_contain_text("2.50")
    expect(row).to_contain_text("names, daily bars, chains")
    expect(page.get_by_role("heading", name="What mine holds")).to_be_visible()
    bars = page.get_by_role("row").filter(has=page.get_by_role("rowheader", name="daily bars", exact=True))
    expect(bars).to_contain_text("none")
    expect(bars).to_contain_text("symbol, session, open, high, low, close, volume")
    market = page.get_by_role("combobox", name="Market")
    expect(market).to_have_value("mine")
    page.keyboard.press("s")
    expect(page.get_by_role("alert").filter(has_text="This market is empty")).to_be_visible()
    expect(page).to_have_url(re.compile("/screen.*market=mine"))
    page.get_by_role("link", name="To the Data page").click()
    expect(page.get_by_role("heading", name="Markets")).to_be_visible()

    # Who opens an address without a market gets the one that was chosen last; another is chosen in the bar.
    page.goto("/screen")
    expect(page).to_have_url(re.compile("market=mine"))
    market.select_option("demo")
    expect(page).to_have_url(re.compile(r"/screen\?market=demo"))
    expect(page.locator("tr[aria-rowindex='2']")).to_be_visible()
    # Back is the other market again, and nothing of the first is shown there.
    page.go_back()
    expect(page).to_have_url(re.compile("market=mine"))
    expect(page.get_by_role("alert").filter(has_text="This market is empty")).to_be_visible()
    expect(page.locator("tr[aria-rowindex='2']")).to_have_count(0)

    page.goto("/data?market=demo")
    row.get_by_role("button", name="remove").click()
    page.get_by_role("button", name="keep it").click()
    expect(row).to_be_visible()
    row.get_by_role("button", name="remove").click()
    page.get_by_role("button", name="remove mine").click()
    expect(row).to_have_count(0)
    page.goto("/screen?market=mine")
    expect(page.get_by_role("alert").filter(has_text="There is no market 'mine'").first).to_be_visible()

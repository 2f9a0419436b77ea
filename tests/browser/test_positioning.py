"""Positioning in a browser: from a screen of exposure to a name's flip and peaks, and out as a sheet."""

import re
from pathlib import Path

import numpy as np
import openpyxl
import pytest
from playwright.sync_api import Page
from tests.browser.screen_page import add_rule, rows, symbols
from tests.browser.settled import expect

from flinch.market import View


def test_an_evening_with_positive_and_rising_exposure(quiet_page: Page, market: View, tmp_path: Path):
    page = quiet_page
    page.goto("/screen?screen=s-positive-and-rising")
    expect(rows(page).first).to_be_visible()
    # Tighten to price and interest.
    add_rule(page, "price <= 150")
    add_rule(page, "open_interest >= 10000")
    # Sort by change.
    page.get_by_role("columnheader", name=re.compile("Net chg 1")).click()
    expect(page).to_have_url(re.compile("sort=-net_exposure_change_1"))
    expect(page.get_by_role("columnheader", name=re.compile("Net chg 1"))).to_have_attribute("aria-sort", "descending")
    change = market.metric("net_exposure_change_1")
    kept = (market.metric("price") >= 10) & (market.metric("price") <= 150) & (market.metric("open_interest") >= 10_000)
    kept &= (market.metric("call_put_exposure") >= 1.2) & (market.metric("net_exposure_change_5") > 0) & (change > 0)
    kept &= market.metric("above_sma_50") > 0
    order = sorted(np.flatnonzero(kept), key=lambda row: -change[row])
    expected = [market.frame.names[row].symbol for row in order]
    expect(page.locator(".results h2")).to_contain_text(re.compile(rf"^{len(expected)} name"))
    expect(rows(page).first.locator("td.col-symbol")).to_have_text(expected[0])
    shown = symbols(page)
    assert len(shown) > 10
    assert shown == expected[: len(shown)]
    assert "KESEO" in shown
    # Take it out, and find the same names in the file.
    page.get_by_role("button", name="take out").first.click()
    with page.expect_download() as download:
        page.get_by_role("button", name="as XLSX").click()
    file = tmp_path / "names.xlsx"
    download.value.save_as(file)
    sheet = openpyxl.load_workbook(file).worksheets[0]
    header, *names = sheet.iter_rows(values_only=True)
    assert [row[0] for row in names] == expected
    assert sheet.auto_filter.ref
    assert sheet.freeze_panes
    place = header.index("1-session change of net exposure ($ a %)")
    assert [row[place] for row in names] == pytest.approx([float(change[row]) for row in order])
    # Open the first.
    first = rows(page).first
    symbol = first.locator("td.col-symbol").inner_text()
    first.locator("td.col-symbol a").click()
    expect(page.get_by_role("heading", level=1)).to_have_text(symbol)
    page.keyboard.press("4")
    places = page.locator(".places")
    expect(places).to_contain_text("dealers trade against the move and damp it")
    flip = market.metric("flip")[market.row(symbol)]
    expect(places).to_contain_text("exposure has one sign" if flip != flip else f"{flip:,.2f}")
    peak = market.metric("peak_exposure_strike")[market.row(symbol)]
    expect(places).to_contain_text(f"Most exposure at {peak:,.2f}")
    expect(places).to_contain_text("customers sell calls and buy puts: dealers are long calls, short puts")
    # The change since yesterday, strike by strike.
    strikes = page.locator(".strikes")
    expect(strikes.get_by_label("Compared with")).to_have_value("yesterday")
    expect(strikes.get_by_role("img", name=re.compile("by strike, beside its price and expected move"))).to_be_visible()
    strikes.get_by_role("button", name="show as table").click()
    expect(strikes.get_by_role("columnheader", name="Calls, yesterday")).to_be_visible()
    expect(strikes.locator("tbody tr", has_text=f"{peak:,.2f}").first).to_be_visible()


def part(page: Page, name: str):
    return page.locator("section.figure", has=page.get_by_role("heading", name=name))


def test_switching_rule_moment_and_expirations(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/VILNI?view=positioning")
    places = page.locator(".places")
    expect(places.locator("dt").nth(1)).to_contain_text(re.compile(r"Flip 4\d\.\d\d"))
    page.get_by_label("Sign rule").select_option("both_sold")
    expect(places).to_contain_text("dealers are long everything")
    expect(places).to_contain_text("None: exposure has one sign within 20 % of the price")
    page.get_by_label("Compared with").select_option("week")
    page.get_by_label("Shown by strike").select_option("interest")
    expect(page.get_by_role("img", name=re.compile("Open interest of VILNI by strike"))).to_be_visible()
    expirations = part(page, "By expiration")
    boxes = expirations.get_by_role("checkbox")
    expirations.get_by_role("button", name=re.compile("this month")).click()
    expect(expirations.get_by_role("checkbox", checked=True)).to_have_count(1)
    expect(page).to_have_url(re.compile("expirations=2026-09-18"))
    boxes.first.click()
    expect(expirations.get_by_role("checkbox", checked=True)).to_have_count(2)
    expirations.get_by_role("button", name="all", exact=True).click()
    expect(page).not_to_have_url(re.compile("expirations="))
    address = page.url
    page.reload()
    expect(page.get_by_label("Sign rule")).to_have_value("both_sold")
    assert page.url == address, "the address reproduces the page"


def test_builds_and_likely_spreads(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/KOFIA?view=positioning")
    first = page.locator(".builds tbody tr").first
    expect(first).to_contain_text("18 Sep 20 call")
    expect(first).to_contain_text("+48")
    expect(first).to_contain_text("+2,400 small base")
    page.goto("/dossier/NONKO?view=positioning&changes=spreads")
    spread = page.locator(".builds tbody tr").first
    expect(spread).to_contain_text("18 Sep 115 / 120 call")
    expect(spread).to_contain_text("3,100")
    page.get_by_label("Changes of open interest").select_option("unwinds")
    expect(page.locator(".builds tbody tr").first).to_contain_text("−")


@pytest.mark.parametrize("symbol", ["KESEO", "KOFIA", "RENTU", "NONKO", "VENUA"])
def test_no_column_of_a_table_is_cut_off(quiet_page: Page, symbol: str):
    page = quiet_page
    for kind in ("builds", "unwinds", "spreads"):
        page.goto(f"/dossier/{symbol}?view=positioning&changes={kind}")
        for name in ("Contracts", "Expirations"):
            table = page.get_by_role("region", name=name, exact=True)
            expect(table.locator("table, p").first).to_be_visible()
            assert table.evaluate("part => part.scrollWidth <= part.clientWidth"), (kind, name)


def test_what_is_apart_missing_or_of_another_size_is_said(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/TISVI?view=positioning")
    expect(page.locator(".places")).to_contain_text("(100 shares and $310 each, 1,260 open) are kept apart")
    page.keyboard.press("5")
    expect(page.locator(".chain-says")).to_contain_text("kept apart")
    page.goto("/dossier/MUFEO?view=positioning")
    expect(page.locator(".places")).to_contain_text("A contract stands for 10.")
    page.goto("/dossier/FENSO?view=positioning")
    expect(page.locator(".strikes")).to_contain_text(
        "No exposure: no open contract has a volatility that could be read"
    )
    page.get_by_label("Shown by strike").select_option("interest")
    expect(page.get_by_role("img", name=re.compile("Open interest of FENSO"))).to_be_visible()


def test_the_history_leads_to_the_evidence_of_a_turn(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/KESEO?view=positioning")
    page.get_by_role("link", name="what follows a turn").click()
    evidence = page.get_by_role("region", name="Evidence")
    expect(evidence.locator(".verdict").first).to_contain_text("It fired", timeout=60_000)
    expect(evidence.locator("tbody tr", has_text="Range").first).to_be_visible()
    expect(evidence.locator("tbody tr:not(.measure)")).to_have_count(20)

"""The Data page: markets beside each other."""

from __future__ import annotations

import datetime as dt
import re
import zipfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from flask_openapi3 import OpenAPI
from playwright.sync_api import Page
from tests.browser.screen_page import open_screen, symbols
from tests.browser.settled import expect
from tests.browser.test_accessible import AXE, faults
from tests.feeds.files.made import SESSIONS, SYMBOLS, bars, chain, load
from tests.feeds.files.test_sheets_and_calendars import three as workbook

from flinch.market import View
from flinch.store.engine import make_engine
from flinch.store.market.settings import MarketSettings


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


@pytest.fixture
def supplier(tmp_path: Path) -> Path:
    """Files of somebody whose columns are called otherwise, with three rows that are wrong."""
    names = pl.DataFrame({"Ticker": SYMBOLS, "Security Name": [f"{symbol.title()} Works" for symbol in SYMBOLS]})
    names.write_csv(tmp_path / "universe.csv", separator=";")
    rows = bars().with_columns(pl.col("session").dt.strftime("%d/%m/%Y").alias("Tag"))
    rows = rows.filter((pl.col("symbol") != "BONTI") | (pl.col("session") != SESSIONS[20].astype(object)))
    text = rows.select("symbol", "Tag", "open", "high", "low", pl.col("close").alias("Abschluss"), "volume").write_csv()
    lines = text.splitlines()
    lines[3] = lines[3].replace("AVERA", "NOBODY")
    lines[5] = lines[5].replace(lines[5].split(",")[2], "<b>n.k.</b>")
    lines[7] = ",".join([*lines[7].split(",")[:3], "1", *lines[7].split(",")[4:]])
    (tmp_path / "prices.csv").write_text("\n".join(lines) + "\n")
    chain().write_parquet(tmp_path / "chains-2026-09-09.parquet")
    return tmp_path


def test_files_become_a_market_in_the_browser(page: Page, no_other_market: None, supplier: Path, tmp_path: Path):
    page.goto("/data?market=demo")
    expect(page.get_by_text("The demo market is made by Flinch itself")).to_be_visible()
    form = page.get_by_role("form", name="A market of one's own")
    form.get_by_label("Name").fill("mine")
    form.get_by_role("button", name="make it").click()
    expect(page).to_have_url(re.compile(r"/data\?market=mine"))

    page.get_by_label("Source").fill("Harbour")
    files = ["universe.csv", "prices.csv", "chains-2026-09-09.parquet"]
    page.get_by_label("Files", exact=True).set_input_files([supplier / name for name in files])
    listed, prices = page.get_by_role("article", name="universe.csv"), page.get_by_role("article", name="prices.csv")
    chains = page.get_by_role("article", name="chains-2026-09-09.parquet")
    expect(listed.get_by_label("holds")).to_have_value("names")
    listed.get_by_role("button", name="check").click()
    expect(listed.get_by_text("3 would be added")).to_be_visible()
    expect(page.get_by_role("heading", name="What was loaded")).to_have_count(0)
    listed.get_by_role("button", name="load").click()
    expect(listed.get_by_text("3 were added")).to_be_visible()
    expect(listed.get_by_role("button", name="load")).to_have_count(0)

    # What cannot be told is asked: the kind, then a column, then how days are written.
    expect(prices.get_by_role("alert")).to_contain_text("say one of")
    expect(prices.get_by_role("button", name="load")).to_be_disabled()
    prices.get_by_label("holds").select_option("daily_bars")
    expect(prices.get_by_role("alert")).to_contain_text("need session, close")
    prices.get_by_label("Tag is taken for").select_option("session")
    prices.get_by_label("Abschluss is taken for").select_option("close")
    prices.get_by_role("button", name="check").click()
    expect(prices.get_by_text("3 are refused")).to_be_visible()
    refused = prices.get_by_role("table", name="The first rows that are refused")
    for words in ("no name is called NOBODY", "open is no number that can be: <b>n.k.</b>", "high is under low"):
        expect(refused.get_by_text(words)).to_be_visible()
    expect(refused.locator("b")).to_have_count(0)
    page.evaluate(AXE.read_text())
    assert faults(page) == []
    prices.get_by_role("button", name="load").click()
    expect(prices.get_by_text("3 were refused")).to_be_visible()

    # The refused rows come back as a file, are mended, and are loaded by what was said of their source.
    with page.expect_download() as download:
        prices.get_by_role("button", name="all 3 of them as a file").click()
    mended = tmp_path / download.value.suggested_filename
    assert mended.name == "prices.refused.csv"
    text = Path(download.value.path()).read_text().replace("NOBODY", "AVERA").replace("<b>n.k.</b>", "100")
    wrong = next(line for line in text.splitlines() if "high is under low" in line)
    cells = wrong.split(",")
    mended.write_text(text.replace(wrong, ",".join([*cells[:3], "500", *cells[4:]])))
    page.get_by_label("Files", exact=True).set_input_files(mended)
    again = page.get_by_role("article", name="prices.refused.csv")
    expect(again.get_by_label("holds")).to_have_value("daily_bars")
    again.get_by_role("button", name="load").click()
    expect(again.get_by_text("3 were added and 0 changed")).to_be_visible()

    chains.get_by_role("button", name="load").click()
    expect(chains.get_by_text("0 were refused")).to_be_visible()
    history = page.get_by_role("region", name="What was loaded")
    expect(history.get_by_role("rowheader")).to_have_text(
        ["chains-2026-09-09.parquet", "prices.refused.csv", "prices.csv", "universe.csv"]
    )
    expect(history.get_by_role("button", name="undo")).to_have_count(1)

    # Holes are drawn; nothing else looks wrong.
    coverage = page.get_by_role("region", name="Coverage of")
    expect(coverage.get_by_text("3 names in the newest")).to_contain_text("2 of them without a hole")
    expect(coverage.locator(".strip")).to_have_count(1)
    expect(coverage.locator(".strip")).to_contain_text(re.compile("BONTI.*1 session missing"))
    expect(page.get_by_text("Nothing of what is loaded looks wrong.")).to_be_visible()

    # The same pages work on it, from where the name is told.
    coverage.get_by_role("link", name="BONTI").click()
    expect(page).to_have_url(re.compile(r"/dossier/BONTI.*market=mine"))
    expect(page.get_by_role("heading", name="BONTI")).to_be_visible()
    page.keyboard.press("s")
    expect(page.get_by_role("row").filter(has_text="CELDA")).to_be_visible()

    page.keyboard.press("q")
    history.get_by_role("button", name="undo").click()
    expect(history.get_by_role("row").filter(has_text="chains-2026-09-09.parquet")).to_contain_text("undone")
    expect(
        history.get_by_role("row").filter(has_text="prices.refused.csv").get_by_role("button", name="undo")
    ).to_be_visible()
    kinds = page.get_by_role("region", name="What mine holds")
    expect(
        kinds.get_by_role("row").filter(has=page.get_by_role("rowheader", name="chains", exact=True))
    ).to_contain_text("none")


def test_what_looks_wrong_is_mended_and_brought_back(page: Page, app: OpenAPI, no_other_market: None, tmp_path: Path):
    markets = app.extensions["flinch"].markets
    markets.make("mine", MarketSettings())
    store = make_engine(markets.databases.market_url("mine"))
    pl.DataFrame({"symbol": SYMBOLS, "company": SYMBOLS}).write_csv(tmp_path / "names.csv")
    saturday = bars().tail(1).with_columns(session=dt.date(2026, 8, 15))
    pl.concat([bars(), saturday]).write_parquet(tmp_path / "daily_bars.parquet")
    for name in ("names.csv", "daily_bars.parquet"):
        load(store, tmp_path / name)
    store.dispose()
    page.goto("/data?market=mine")
    finding = page.get_by_role("article", name="Bars of days on which the exchange has no session.")
    expect(finding).to_contain_text("15 Aug 2026")
    page.evaluate(AXE.read_text())
    assert faults(page) == []
    finding.get_by_role("button", name="remove these bars").click()
    expect(finding).to_have_count(0)
    history = page.get_by_role("region", name="What was loaded")
    expect(history.get_by_role("row").filter(has_text="remove these bars")).to_contain_text("mend")
    history.get_by_role("button", name="undo").click()
    expect(finding).to_contain_text("15 Aug 2026")


def test_where_sources_disagree_is_found_and_another_one_preferred(
    page: Page, app: OpenAPI, no_other_market: None, tmp_path: Path
):
    markets = app.extensions["flinch"].markets
    markets.make("mine", MarketSettings())
    store = make_engine(markets.databases.market_url("mine"))
    pl.DataFrame({"symbol": SYMBOLS, "company": SYMBOLS}).write_csv(tmp_path / "names.csv")
    load(store, tmp_path / "names.csv")
    bars().write_parquet(tmp_path / "daily_bars.parquet")
    load(store, tmp_path / "daily_bars.parquet", source="North")
    bars().tail(3).with_columns(pl.col("close") * 1.1, pl.col("high") * 1.1).write_parquet(
        tmp_path / "daily_bars.parquet"
    )
    load(store, tmp_path / "daily_bars.parquet", source="South")
    store.dispose()
    page.goto("/data?market=mine")
    sources = page.get_by_role("region", name="Sources")
    close = sources.get_by_role("article", name="daily bars: close")
    expect(close).to_contain_text("North is served, South says otherwise 3 times on 1 name")
    close.get_by_role("button", name="the widest").click()
    expect(close.get_by_role("row").nth(1)).to_contain_text("CELDA")
    expect(close.get_by_role("row").nth(1)).to_contain_text("10.0")
    page.evaluate(AXE.read_text())
    assert faults(page) == []
    close.get_by_role("button", name="which screens would answer otherwise?").click()
    expect(close).to_contain_text(re.compile(r"With 3 values of South, none of \d+ screens would answer otherwise"))
    sources.get_by_role("button", name="prefer South for daily bars").click()
    expect(sources.get_by_role("article", name="daily bars: close")).to_contain_text(
        "South is served, North says otherwise"
    )
    history = page.get_by_role("region", name="What was loaded")
    history.get_by_role("button", name="what it changed: prefer South, North").click()
    change = history.get_by_role("row").filter(has_text="daily bar close").first
    expect(change).to_contain_text("CELDA")
    page.evaluate(AXE.read_text())
    assert faults(page) == []
    history.get_by_role("button", name="undo").click()
    expect(sources.get_by_role("article", name="daily bars: close")).to_contain_text("North is served")
    with page.expect_download() as download:
        page.get_by_role("button", name="take out").click()
    assert download.value.suggested_filename == "mine all.zip"
    with zipfile.ZipFile(download.value.path()) as archive:
        assert archive.namelist() == ["daily_bars.parquet", "index.json", "names.parquet"]


def test_a_workbook_with_a_sheet_a_kind_becomes_a_market(
    page: Page, app: OpenAPI, no_other_market: None, tmp_path: Path
):
    app.extensions["flinch"].markets.make("mine", MarketSettings())
    page.goto("/data?market=mine")
    page.get_by_label("Source").fill("Harbour")
    page.locator("input[type=file]").first.set_input_files(workbook(tmp_path))
    for kind, rows in (("names", 3), ("daily_bars", bars().height), ("chains", chain().height)):
        brought = page.get_by_role("article", name=f"{kind}-all.xlsx")
        expect(brought.get_by_label("holds")).to_have_value(kind)
        brought.get_by_role("button", name="load").click()
        expect(brought).to_contain_text(f"{rows:,} were added")
        brought.get_by_role("button", name="put away").click()
        expect(brought).to_have_count(0)
    page.keyboard.press("s")
    expect(page.locator("tr[aria-rowindex='2']")).to_be_visible()
    expect(page.get_by_text("3 names survive")).to_be_visible()


def test_the_dates_ahead_of_the_tray_are_a_calendar(page: Page, empty_tray: None):
    open_screen(page, "/screen?screen=s-before-earnings")
    symbol = symbols(page)[0]
    page.keyboard.press("t")
    tray = page.get_by_role("region", name="Tray")
    expect(tray.get_by_role("button", name=symbol, exact=True)).to_be_visible()
    tray.get_by_role("button", name="take out").click()
    with page.expect_download() as download:
        page.get_by_role("button", name="dates ahead as iCalendar").click()
    assert download.value.suggested_filename == "flinch.ics"
    told = Path(download.value.path()).read_text()
    assert f"SUMMARY:{symbol} reports" in told
    assert "SUMMARY:Monthly expiration: " in told


def test_a_value_of_old_figures_carries_their_age(page: Page, market: View):
    row = int(np.argmax(np.nan_to_num(market.metric("fundamentals_age"))))
    days, symbol = int(market.metric("fundamentals_age")[row]), market.name(row).symbol
    page.goto(f"/screen?u=name:{symbol}&r=price_to_book+%3E+-1&cols=price_to_book%0Aprice")
    cell = page.locator("tr[aria-rowindex='2']").get_by_role("gridcell").filter(has_text=f"{days} d")
    expect(cell).to_contain_text("old")
    expect(cell.locator("[title]")).to_have_attribute(
        "title", f"Of a quarter that ended {days} days ago: newer figures are overdue."
    )
    # The number itself is whole.
    assert cell.evaluate("cell => cell.scrollWidth <= cell.clientWidth")

"""Volatility and expected moves in a browser: from a screen to the Dossier's parts, the evidence and the Lineup."""

import re
import threading

import pytest
from flask_openapi3 import OpenAPI
from playwright.sync_api import Page
from tests.browser.addresses import address
from tests.browser.settled import expect, meanwhile
from tests.waiting import comes, slowly

from flinch.jobs import Handle, JobCancelled
from flinch.market import View

SETUP = address(
    "avg_option_volume_21 >= 500",
    "one_day_move_pct < 4",
    "abs(week_position) > 1",
    "abs(month_position) < 1",
    "week_position * month_position > 0",
)


def chips(page: Page):
    return page.get_by_role("region", name="Tray").locator(".chip")


def part(page: Page, name: str) -> None:
    page.get_by_role("navigation", name="Parts of the Dossier").get_by_role("button", name=name).click()


def test_an_evening_with_names_out_of_their_week(quiet_page: Page, market: View):
    page = quiet_page
    # Find names out of their week and inside their month.
    page.goto("/screen?screen=s-out-of-the-week")
    row = page.locator("tbody tr", has_text="BULVI")
    expect(row).to_be_visible()
    # Open one, read its room and what is spent.
    row.locator("td.col-symbol a").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("BULVI")
    part(page, "Expected move")
    places = page.locator(".places")
    metric = {key: market.metric(key)[market.row("BULVI")] for key in ("week_position", "room_to_month_pct", "spent")}
    expect(places).to_contain_text(f"Week +{metric['week_position']:.2f}")
    expect(places).to_contain_text(f"Room to the upper edge {metric['room_to_month_pct']:.1f} %")
    expect(page.locator(".dossier-head")).to_contain_text(f"{metric['spent']:.0f} % of today")
    # See how often that paid.
    page.get_by_role("link", name="How often that paid").click()
    evidence = page.get_by_role("region", name="Evidence")
    expect(evidence.locator(".verdict").first).to_contain_text("It fired", timeout=60_000)
    expect(evidence.locator(".verdict.target")).to_contain_text("Too few to say")
    expect(evidence.locator("tbody tr:not(.measure)")).to_have_count(20)
    # Compare its sector in the Lineup against the 52-week mean, and carry the two most extreme to the tray.
    page.keyboard.press("n")
    expect(page.get_by_role("heading", level=1)).to_have_text("Lineup")
    page.get_by_label("Names to line up").select_option("sector:Optics & Orbital")
    expect(page.get_by_label("Baseline", exact=True)).to_have_value("mean252")
    callouts = page.locator(".callouts")
    for kind in ("rose most", "fell most"):
        name = callouts.locator("div", has_text=kind).get_by_role("button")
        symbol = name.inner_text()
        name.click()
        expect(page.locator("tr[aria-selected=true]")).to_have_attribute("data-symbol", symbol)
        page.keyboard.press("t")
        expect(chips(page).filter(has_text=symbol)).to_have_count(1)
    expect(chips(page)).to_have_count(2)


def test_the_keys_walk_through_the_parts_and_the_chain(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/DEMEO")
    expect(page.get_by_role("heading", name="Term structure")).to_be_visible()
    page.keyboard.press("2")
    expect(page.get_by_role("heading", name="Cone and term structure")).to_be_visible()
    expect(page.locator(".reports tbody tr").first).to_be_visible()
    page.keyboard.press("3")
    expect(page.get_by_role("heading", name="Where price stands")).to_be_visible()
    page.keyboard.press("4")
    expect(page.get_by_role("heading", name="Where it stands")).to_be_visible()
    page.keyboard.press("5")
    tabs = page.get_by_role("tab")
    expect(page.get_by_role("tab", selected=True)).to_contain_text("18 Sep")
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("tab", selected=True)).to_contain_text("25 Sep")
    expect(page).to_have_url(re.compile("expiration=2026-09-25"))
    assert tabs.count() > 8
    money = page.locator("tr.at-money")
    expect(money).to_be_in_viewport()
    money.focus()
    page.keyboard.press("ArrowDown")
    expect(page.locator(".chain-table tbody tr:focus")).to_have_count(1)
    assert page.locator(".chain-table tbody tr:focus").get_attribute("class") != money.get_attribute("class")
    assert page.evaluate("document.documentElement.scrollTop + document.body.scrollTop") == 0, "the frame stays"
    page.go_back()
    expect(page.get_by_role("heading", name="Where it stands")).to_be_visible()


@pytest.mark.parametrize(("symbol", "words", "rows"), [("BULVI", "Optics & Orbital", 40), ("FELRO", "fund", 40)])
def test_a_dossier_leads_to_its_group_side_by_side(quiet_page: Page, symbol, words, rows):
    page = quiet_page
    page.goto(f"/dossier/{symbol}")
    page.locator(".dossier-head").get_by_role("link", name=words).click()
    expect(page.locator(".lineup-table tbody tr")).to_have_count(rows)
    page.go_back()
    expect(page.get_by_role("heading", level=1)).to_have_text(symbol)


def test_the_edges_of_the_expected_move_stand_on_the_strikes(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/DEMEO?view=chain")
    edges = page.locator("tr.edge th")
    expect(edges).to_have_count(2)
    says = page.locator(".chain-says").inner_text()
    lower, upper = (float(text) for text in re.search(r"expected move ([\d.]+) to ([\d.]+)", says).groups())
    strikes = [float(text) for text in edges.all_inner_texts()]
    assert strikes[0] >= lower
    assert strikes[1] >= upper
    assert strikes[0] < strikes[1]


def test_the_chain_is_taken_out_as_a_sheet(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/DEMEO?view=chain")
    with page.expect_download() as download:
        page.locator(".chain-out").get_by_role("button", name="XLSX").click()
    assert download.value.suggested_filename == "DEMEO-2026-09-18.xlsx"


@pytest.mark.parametrize("choice", ["all", "grid", "2026-10-16"])
def test_smiles_one_overlaid_and_side_by_side(quiet_page: Page, choice):
    page = quiet_page
    page.goto("/dossier/DEMEO?view=volatility")
    page.get_by_label("Expiration of the smile").select_option(choice)
    expect(page).to_have_url(re.compile(f"smile={choice}"))
    if choice == "grid":
        minis = page.locator(".smile-grid button")
        expect(minis.nth(8)).to_be_attached()
        minis.nth(2).click()
        expect(page).to_have_url(re.compile(r"smile=2026-\d\d-\d\d"))
    else:
        expect(page.get_by_role("img", name=re.compile("Implied volatility by strike"))).to_be_visible()


def test_every_chart_of_the_dossier_has_a_table(quiet_page: Page):
    page = quiet_page
    for view, charts in (("volatility", 3), ("moves", 2), ("positioning", 3)):
        page.goto(f"/dossier/DEMEO?view={view}")
        buttons = page.get_by_role("button", name="show as table")
        expect(buttons).to_have_count(charts)
        for _ in range(charts):
            buttons.first.click()
        expect(page.locator(".figure-table table").first).to_be_visible()
        expect(page.get_by_role("button", name="show as chart")).to_have_count(charts)


def test_what_is_missing_says_why(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/GALNU?view=moves")
    expect(page.locator(".places")).to_contain_text("no expiration at its end was quoted")
    page.goto("/dossier/FENSO?view=chain")
    expect(page.locator(".chain-says")).to_contain_text("nothing is quoted")
    page.goto("/dossier/PELDU?view=volatility")
    expect(page.locator(".reports")).to_contain_text("No forecast: the forecast needs 63 sessions")


def test_evidence_of_one_rule_and_of_a_target(quiet_page: Page):
    page = quiet_page
    page.goto(f"{SETUP}&evidence=1")
    evidence = page.get_by_role("region", name="Evidence")
    expect(evidence.locator(".verdict")).to_have_count(1, timeout=60_000)
    whole = evidence.locator(".verdict").inner_text()
    page.get_by_label("Evidence of").select_option("2")
    expect(evidence.locator(".verdict")).not_to_have_text(whole, timeout=60_000)
    page.get_by_label("Target").select_option("up")
    expect(evidence.locator(".verdict.target")).to_contain_text("1 expected move up within 10 sessions", timeout=60_000)
    page.get_by_label("Sessions to the target").fill("3")
    page.keyboard.press("Enter")
    expect(evidence.locator(".verdict.target")).to_contain_text("within 3 sessions", timeout=60_000)
    page.get_by_label("first session of a stretch only").check()
    expect(page).to_have_url(re.compile("fresh=1"))
    page.keyboard.press("1")
    expect(evidence).to_have_count(0)


def test_a_box_stays_as_it_was_set_on_a_slow_machine(quiet_page: Page):
    page = quiet_page
    page.goto(f"{SETUP}&evidence=1")
    expect(page.get_by_role("region", name="Evidence").locator(".verdict")).to_have_count(1, timeout=60_000)
    page.context.new_cdp_session(page).send("Emulation.setCPUThrottlingRate", {"rate": 12})
    box = page.get_by_label("first session of a stretch only")
    with meanwhile(page):
        for _ in range(3):
            box.check()
            box.uncheck()
    expect(page).not_to_have_url(re.compile("fresh=1"))


def test_names_are_picked_with_a_line_drawn_around_them(quiet_page: Page):
    page = quiet_page
    page.goto("/lineup?view=scatter&of=members:FELRO")
    circle = page.locator("circle", has=page.locator("title", has_text="SKISO"))
    expect(circle).to_have_count(1)
    box = circle.bounding_box()
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x - 12, y - 12)
    page.mouse.down()
    for dx, dy in ((12, -12), (14, 12), (0, 15), (-12, 12), (-13, -10)):
        page.mouse.move(x + dx, y + dy)
    page.mouse.up()
    page.get_by_role("button", name="put 1 in the tray").click()
    expect(chips(page)).to_have_text([re.compile("SKISO")])


def test_lineup_orders_and_tells_a_bad_metric(quiet_page: Page):
    page = quiet_page
    page.goto("/lineup?of=fund&base=yesterday")
    rows = page.locator(".lineup-table tbody tr")
    expect(rows).to_have_count(20)

    def column(place: int) -> list[float]:
        texts = page.locator(f".lineup-table tbody td:nth-of-type({place})").all_inner_texts()
        return [float(text.replace("−", "-")) for text in texts]

    page.get_by_label("Order").select_option("change")
    expect(page).to_have_url(re.compile("order=change"))
    changes = column(3)
    assert changes == sorted(changes, reverse=True)
    page.get_by_role("button", name="highest first").click()
    expect(page.get_by_role("button", name="lowest first")).to_be_visible()
    assert column(3) == sorted(column(3))
    field = page.get_by_label("Metric", exact=True)
    field.fill("iv31")
    field.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("iv30")
    page.get_by_label("Metric", exact=True).fill("skew_25d")
    page.get_by_label("Metric", exact=True).press("Enter")
    expect(rows).to_have_count(20)


def test_correlation_and_fund_views(quiet_page: Page):
    page = quiet_page
    page.goto("/lineup?of=members:FELRO&view=correlation")
    expect(page.locator(".correlation tbody tr")).to_have_count(40)
    expect(page.locator(".correlation-says")).to_contain_text("Most alike")
    page.get_by_text("Fund and members").click()
    expect(page.locator(".fund-says")).to_contain_text("FELRO is priced as if its members moved together")
    page.get_by_label("Names to line up").select_option("tray")
    expect(page.get_by_text("Nobody is in this group yet")).to_be_visible()


def test_evidence_that_takes_long_says_how_far_it_is_and_can_be_cancelled(
    quiet_page: Page, app: OpenAPI, monkeypatch: pytest.MonkeyPatch
):
    jobs, page = app.extensions["flinch"].jobs, quiet_page
    real, go_on = jobs._kinds["evidence"], threading.Event()

    def slow(handle: Handle) -> str:
        handle.tell(0.4, "taking its time")
        while not go_on.wait(0.02):
            handle.question()
        return real(handle)

    monkeypatch.setitem(jobs._kinds, "evidence", slow)
    try:
        page.goto(address("iv_rank >= 66", evidence="1"))
        evidence = page.get_by_role("region", name="Evidence")
        expect(evidence.get_by_role("status")).to_contain_text("taking its time (40 %)")
        expect(evidence.get_by_role("progressbar")).to_have_attribute("value", "40")
        evidence.get_by_role("button", name="Cancel").click()
        expect(evidence).to_contain_text("This was cancelled")
        go_on.set()
        evidence.get_by_role("button", name="Ask again").click()
        expect(evidence.locator(".verdict").first).to_contain_text("It fired", timeout=60_000)
    finally:
        go_on.set()


def test_who_leaves_evidence_that_takes_long_stops_it(quiet_page: Page, app: OpenAPI, monkeypatch: pytest.MonkeyPatch):
    jobs, page = app.extensions["flinch"].jobs, quiet_page
    stopped = threading.Event()

    def endless(handle: Handle) -> str:
        handle.tell(0.4, "taking its time")
        try:
            while True:
                slowly(0.02)
                handle.question()
        except JobCancelled:
            stopped.set()
            raise

    monkeypatch.setitem(jobs._kinds, "evidence", endless)
    page.goto(address("iv_rank >= 67", evidence="1"))
    evidence = page.get_by_role("region", name="Evidence")
    expect(evidence.get_by_role("status")).to_contain_text("taking its time")
    page.get_by_role("link", name="Handbook").first.click()
    expect(page).to_have_url(re.compile("/handbook"))
    assert comes(stopped)

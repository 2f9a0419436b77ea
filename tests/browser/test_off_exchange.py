"""The Off-exchange page in a browser: what stands above every print, drop, raise the size, open, keep, take out, come back."""

import json
import re

from playwright.sync_api import Locator, Page
from tests.browser.screen_page import add_rule
from tests.browser.settled import expect


def rows(page: Page) -> Locator:
    return page.get_by_role("grid").locator("tbody tr")


def open_page(page: Page, address: str = "/off-exchange") -> Page:
    page.goto(address)
    expect(rows(page).first).to_be_visible()
    return page


def shown(page: Page) -> int:
    found = re.match(r"([\d,]+) name", page.locator(".results h2").inner_text())
    return int(found.group(1).replace(",", "")) if found else -1


def switch(page: Page, position: str) -> Locator:
    return page.locator(".position-switches button", has_text=re.compile(f"^{position} "))


def test_it_is_one_key_away_fits_the_frame_and_shows_every_column(quiet_page: Page):
    page = quiet_page
    page.goto("/screen")
    expect(page.get_by_role("grid")).to_be_visible()
    page.keyboard.press("x")
    expect(page).to_have_url(re.compile("/off-exchange"))
    expect(rows(page).first).to_be_visible()
    assert shown(page) == 480
    assert not page.evaluate(
        "document.documentElement.scrollHeight > innerHeight || document.body.scrollWidth > innerWidth"
    )
    grid = page.locator(".walk")
    assert grid.evaluate("box => box.scrollWidth <= box.clientWidth"), "everything is seen at once"
    expect(page.locator(".doubts")).to_contain_text("does not say who bought")
    counted = [
        int(text.split()[-1].replace(",", "")) for text in page.locator(".position-switches button").all_inner_texts()
    ]
    assert sum(counted) == 480


def test_an_evening_above_every_print(quiet_page: Page, stories):
    above = stories["above every recent print"].symbol
    page = open_page(quiet_page)
    page.get_by_label("Sessions of prints").select_option("10")
    expect(page).to_have_url(re.compile("n=10"))
    switch(page, "above all").click()
    expect(switch(page, "above all")).to_have_attribute("aria-pressed", "true")
    expect(rows(page).locator(".col-position").filter(has_text=re.compile("^(?!above$)"))).to_have_count(0)
    before = shown(page)
    assert before == int(switch(page, "above all").locator("b").inner_text())
    # A larger size leaves fewer levels, and other names above all of them.
    page.get_by_label("What a level must come to").fill("1.2M")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("size=1200000"))
    add_rule(page, f'symbol == "{above}"')
    expect(rows(page)).to_have_count(1)
    # Its picture: one level fell away, three dots are left, all on the left of the price.
    dots = rows(page).first.locator(".level-dots")
    expect(dots).to_have_attribute("aria-label", "3 levels, of the largest 0 above and 3 below the price")
    rows(page).first.locator(".col-price").click()
    expect(page.get_by_label(f"Levels of {above}")).to_contain_text("Above every level: 3 levels")
    # Into the tray with what was asked, and there after a reload.
    page.keyboard.press("t")
    expect(page.get_by_label("Tray", exact=True)).to_contain_text(above)
    page.reload()
    expect(rows(page)).to_have_count(1)
    expect(page.get_by_label("Peek")).to_contain_text("above all levels of $1.2M")


def test_prints_of_the_session_and_their_file(quiet_page: Page, stories):
    burst = stories["four prints in a second that are one"].symbol
    page = open_page(quiet_page, "/off-exchange?show=prints&size=300000")
    add_rule(page, f'symbol == "{burst}"')
    line = rows(page).filter(has=page.locator(".col-prints", has_text=re.compile("^4$")))
    expect(line).to_have_count(1)
    expect(line.locator(".col-shares")).to_have_text("36,000")
    expect(line.locator(".col-at")).to_have_text("14:05:12")
    page.get_by_role("button", name="take out").click()
    with page.expect_download() as got:
        page.get_by_role("button", name="as JSON").click()
    told = json.loads(got.value.path().read_text())
    assert burst in json.dumps(told)


def test_two_days_the_wrong_way_round_say_what_to_do(quiet_page: Page):
    page = quiet_page
    page.goto("/off-exchange?from=2026-09-09&to=2026-09-01")
    expect(page.get_by_role("alert")).to_contain_text("Give the earlier day first")
    page.get_by_label("First day of prints").fill("2026-08-31")
    expect(rows(page).first).to_be_visible()
    expect(page.get_by_label("Last day of prints")).to_have_value("2026-09-01")


def test_as_of_an_earlier_session_and_before_all_prints(quiet_page: Page):
    page = open_page(quiet_page, "/off-exchange?asof=2026-08-26")
    expect(page.locator(".segments")).to_contain_text("prints of 26 Aug")
    page.goto("/off-exchange?asof=2026-01-05")
    expect(page.locator(".results")).to_contain_text("No off-exchange prints are kept up to this session")


def test_a_name_s_shelves_its_tests_and_the_record(quiet_page: Page, stories):
    held = stories["a shelf that held three times"].symbol
    page = open_page(quiet_page, "/off-exchange?n=40")
    add_rule(page, f'symbol == "{held}"')
    expect(rows(page)).to_have_count(1)
    rows(page).first.locator(".col-price").dblclick()
    # The window comes along.
    expect(page).to_have_url(re.compile(f"/dossier/{held}.*n=40"))
    expect(page.get_by_label("Sessions of prints")).to_have_value("40")
    figure = page.locator(".shelves-figure svg")
    expect(figure).to_have_attribute("aria-label", re.compile("over 40 sessions with 1 shelf beside it and 3 tests"))
    expect(figure.locator(".test.held")).to_have_count(3)
    shelf = page.locator(".shelves tbody tr")
    expect(shelf).to_have_count(1)
    expect(shelf.locator("td").last).to_have_text("3 · 0")
    expect(page.locator(".tests tbody tr")).to_have_count(3)
    expect(page.locator(".record")).to_contain_text("no better than a price at the same distance")
    expect(page.locator(".record")).to_contain_text("not whether it was bought or sold")
    page.keyboard.press("1")
    page.keyboard.press("7")
    expect(figure).to_be_visible()
    assert not page.evaluate("document.documentElement.scrollHeight > innerHeight")


def test_an_evening_from_every_print_to_an_own_line(quiet_page: Page, no_lines):
    page = open_page(quiet_page, "/off-exchange?n=6")
    switch(page, "above all").click()
    expect(rows(page).locator(".col-position").filter(has_text=re.compile("^(?!above$)"))).to_have_count(0)
    page.keyboard.press("3")
    record = page.locator(".shelf-record")
    expect(record.locator("tbody tr")).to_have_count(7)
    expect(record.locator("tbody tr").first).to_contain_text(re.compile(r"the \d+ names left"))
    expect(record.locator("tbody tr").nth(1)).to_contain_text("no better than a price at the same distance")
    page.keyboard.press("1")
    expect(rows(page).first).to_be_visible()
    rows(page).first.get_by_role("link").click()
    shelf = page.locator(".shelves tbody tr").first
    expect(shelf).to_be_visible()
    expect(page.locator(".record tbody tr").last).to_contain_text("all names")
    symbol = page.locator(".dossier-head h1").inner_text()
    price = shelf.locator("th").inner_text()
    page.keyboard.press("8")
    page.get_by_label("Price of a new line").fill(price)
    page.get_by_label("Name of a new line").fill("shelf of six days")
    page.keyboard.press("Enter")
    expect(page.locator(".own-lines-part tbody tr")).to_have_count(1)
    page.get_by_text("15 min").click()
    expect(page.get_by_role("application", name=f"{symbol} in bars of 15 minutes")).to_be_visible()
    expect(page.locator(".own-lines-part").get_by_label(re.compile("^Name of the line at"))).to_have_value(
        "shelf of six days"
    )
    page.keyboard.press("7")
    expect(page.locator(".shelves-figure .own")).to_contain_text("shelf of six days")
    page.goto("/off-exchange")
    add_rule(page, "is_known(line_below) or is_known(line_above)")
    expect(rows(page)).to_have_count(1)
    expect(rows(page).first).to_contain_text(symbol)

"""From a screen of last March through a name's Dossier to its sector, all as of then."""

import re

from playwright.sync_api import Page
from tests.browser.addresses import address
from tests.browser.screen_page import open_screen, rows, survivors
from tests.browser.settled import expect

PAST = re.compile(r"asof=2026-03-02")


def test_a_past_session_goes_along_from_page_to_page_and_is_never_taken_for_today(quiet_page: Page):
    page = open_screen(quiet_page, address("iv_percentile >= 80"))
    now = survivors(page)
    with page.expect_response("**/api/screen?*") as answer:
        page.get_by_label("As of").select_option("2026-03-02")
    then = len(answer.value.json()["symbols"])
    assert then != now
    expect(page.locator(".results h2")).to_contain_text(f"{then} names")
    expect(page.locator(".topbar .asof")).to_have_text("a past session: 2 Mar 2026")
    first = rows(page).first
    symbol = first.locator("td, th").first.inner_text().strip()
    price = first.locator(".col-price").inner_text()
    assert "asof=2026-03-02" in first.locator("a").get_attribute("href")
    first.dblclick()

    expect(page.locator(".dossier-head h1")).to_have_text(symbol)
    expect(page).to_have_url(PAST)
    expect(page.locator(".quote .big")).to_have_text(price)
    expect(page.locator(".topbar .asof")).to_have_text("a past session: 2 Mar 2026")
    expect(page.locator(".today")).to_contain_text("that day")
    for part, said in (
        ("Chain", "the chain of this session was not kept"),
        ("Positioning", "what was summed up of it is"),
    ):
        page.get_by_role("button", name=part).click()
        expect(page.locator("main")).to_contain_text(said)
    page.get_by_role("button", name="Volatility").click()
    expect(page.get_by_label("Expiration of the smile")).to_contain_text("Mar 2026")

    page.locator(".dossier-head .who a").click()
    expect(page).to_have_url(re.compile(r"/lineup\?.*asof=2026-03-02"))
    expect(page.locator(".as-of")).to_have_class(re.compile("past"))
    expect(page.get_by_label("As of")).to_have_value("2026-03-02")
    expect(page.locator(".lineup tbody tr", has_text=symbol)).to_have_count(1)

    page.keyboard.press("s")
    expect(page).to_have_url(PAST)
    expect(page.get_by_label("As of")).to_have_value("2026-03-02")
    page.get_by_role("button", name="now", exact=True).click()
    expect(page.locator(".topbar .asof")).to_contain_text("9 Sep")
    page.keyboard.press("n")
    expect(page.get_by_label("As of")).to_have_value("2026-09-09")


def test_sessions_are_walked_with_the_keys_on_a_dossier(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/TARNO")
    expect(page.get_by_label("As of")).to_have_value("2026-09-09")
    page.keyboard.press("[")
    expect(page.get_by_label("As of")).to_have_value("2026-09-08")
    page.keyboard.press("[")
    # Labor Day has no session.
    expect(page.get_by_label("As of")).to_have_value("2026-09-04")
    expect(page).to_have_url(re.compile("asof=2026-09-04"))
    page.keyboard.press("]")
    page.keyboard.press("]")
    expect(page).not_to_have_url(re.compile("asof"))

"""A session that is over, played again: entered from any page, gone through by keys and hand, and left again."""

from __future__ import annotations

import re

from playwright.sync_api import Page
from tests.browser.addresses import address
from tests.browser.screen_page import open_screen, rows, symbols
from tests.browser.settled import expect, meanwhile

BAR = "section.played"


def minute(page: Page) -> str:
    found = re.search(r"\d\d:\d\d", page.locator(f"{BAR} b").inner_text())
    assert found is not None
    return found[0]


def test_a_session_is_played_from_its_open_to_its_close_and_left_for_now(quiet_page: Page):
    page = open_screen(quiet_page, address("iv_rank >= 30", asof="2026-09-08"))
    at_close = symbols(page)
    page.get_by_role("button", name="play again").click()
    bar = page.locator(BAR)
    expect(bar).to_contain_text("Played again: Tue 8 Sep 2026 09:31")
    expect(bar).to_contain_text("chains of 4 Sep 16:00")
    expect(page.locator(".topbar .asof")).to_have_text("played again: 8 Sep 2026")
    expect(page.get_by_role("button", name="play again")).to_have_count(0)
    assert symbols(page) != at_close, "volatility is that of Friday's close"
    # Earlier than the first minute there is nothing.
    page.keyboard.press(",")
    expect(bar).to_contain_text("09:31")
    for key, time in ((".", "09:32"), (".", "09:33"), (">", "09:48"), ("<", "09:33"), (",", "09:32")):
        page.keyboard.press(key)
        expect(bar).to_contain_text(f"2026 {time}")
    expect(page).to_have_url(re.compile("asof=2026-09-08T09%3A32"))
    page.get_by_label("Minute of the session").fill(str(11 * 60 + 15))
    expect(bar).to_contain_text("2026 11:15")
    expect(page.locator(".peek .past")).to_have_text("as of 8 Sep 2026 11:15")
    # Forward and back by whole steps of the browser: the session was one, its minutes are not.
    page.get_by_label("Minute of the session").fill(str(16 * 60))
    expect(bar).to_have_count(0)
    expect(page).to_have_url(re.compile("asof=2026-09-08(&|$)"))
    assert symbols(page) == at_close, "what it shows at its end is the session's own view"
    page.get_by_role("button", name="now", exact=True).click()
    expect(page.locator(".topbar .asof")).to_contain_text("as of Wed 9 Sep 2026 15:45")


def test_the_minute_goes_along_to_other_pages(quiet_page: Page):
    page = open_screen(quiet_page, address("iv_rank >= 30", asof="2026-09-08T11:15"))
    row = rows(page).first
    price = row.locator(".col-price").inner_text()
    row.dblclick()
    expect(page).to_have_url(re.compile("/dossier/.*asof=2026-09-08T11%3A15"))
    expect(page.locator(".quote .big")).to_have_text(price)
    expect(page.locator(".today")).to_contain_text("of what is due")
    expect(page.locator(BAR)).to_contain_text("11:15")
    page.get_by_role("button", name="Chain").click()
    expect(page.locator("main")).to_contain_text("the chain of this session was not kept")
    for key in ("n", "b", "x", "k"):
        page.keyboard.press(key)
        expect(page.locator(BAR)).to_contain_text("11:15")
        expect(page.locator(".as-of").first).to_have_class(re.compile("past"))
    # The session before, at the same minute.
    page.keyboard.press("s")
    page.keyboard.press("[")
    expect(page.locator(BAR)).to_contain_text("Fri 4 Sep 2026 11:15")
    page.locator(BAR).get_by_role("button", name="its close").click()
    expect(page.locator(BAR)).to_have_count(0)
    expect(page.get_by_label("As of")).to_have_value("2026-09-04")


def test_it_goes_on_by_itself_and_the_list_keeps_its_order(quiet_page: Page):
    page = open_screen(quiet_page, address("price > 20", sort="-change_pct", asof="2026-09-08T10:00"))
    bar, first = page.locator(BAR), symbols(page)
    with meanwhile(page):
        bar.get_by_text("60 ×").click()
        expect(bar).to_contain_text(re.compile("10:0[2-9]|10:[1-5]"), timeout=60_000)
        bar.get_by_text("still").click()
    stood = minute(page)
    assert symbols(page)[:5] == first[:5]
    expect(page.locator(".results")).to_contain_text("reorder")
    page.keyboard.press("w")
    expect(page.get_by_role("button", name="reorder")).to_have_count(0)
    moved = [
        float(text.replace("−", "-").lstrip("▲▼ +")) for text in rows(page).locator(".col-change_pct").all_inner_texts()
    ]
    assert moved == sorted(moved, reverse=True)
    assert minute(page) == stood
    page.keyboard.press(".")
    expect(bar).not_to_contain_text(stood)


def test_todays_own_minutes_have_the_chains_that_were_looked_at(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/TARNO?view=chain&asof=2026-09-09T11:40")
    expect(page.locator(BAR)).to_contain_text("chains of 11:30")
    expect(page.get_by_role("table").first).to_be_visible()
    page.get_by_label("Minute of the session").fill(str(15 * 60 + 44))
    expect(page.locator(BAR)).to_contain_text("chains of 14:30")
    page.keyboard.press(".")
    # Its next minute is the market itself.
    expect(page.locator(BAR)).to_have_count(0)
    expect(page).not_to_have_url(re.compile("asof"))


def test_a_session_without_minutes_cannot_be_played_and_says_so(quiet_page: Page):
    page = open_screen(quiet_page, address("iv_rank >= 30", asof="2026-03-02"))
    expect(page.get_by_role("button", name="play again")).to_have_count(0)
    page.goto("/screen?asof=2026-03-02T11:15")
    expect(page.locator("main")).to_contain_text("No minutes of 2 Mar 2026 are kept")
    expect(page.locator("main")).to_contain_text("from 26 Aug 2026 to 9 Sep 2026")
    page.locator(BAR).get_by_role("button", name="now").click()
    expect(rows(page).first).to_be_visible()


def test_what_changed_since_the_open_is_told_with_the_rule(quiet_page: Page):
    page = open_screen(quiet_page, address("change_pct > 1"))
    page.get_by_role("button", name="what changed").click()
    changed = page.get_by_role("region", name="What changed")
    expect(changed).to_contain_text("since 8 Sep 2026")
    page.get_by_label("Compare with").select_option("open")
    expect(changed).to_contain_text("since 9 Sep 09:31")
    came, went = (
        changed.locator("h3", has_text=words).locator("xpath=..").locator("dd a").all_inner_texts()
        for words in ("came in", "went out")
    )
    assert came
    assert not set(came) & set(went)
    assert not set(went) & set(symbols(page))
    expect(changed.locator("dt").first).to_contain_text("change_pct > 1")
    page.get_by_label("Compare with").select_option("hour")
    expect(changed).to_contain_text("since 9 Sep 14:45")

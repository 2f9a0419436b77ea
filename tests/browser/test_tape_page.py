"""The Tape page in a browser: tighten, walk, look, follow to the chain, keep with the reason, take out, come back."""

import json
import re

from playwright.sync_api import Locator, Page
from tests.browser.screen_page import add_rule
from tests.browser.settled import expect

CALLS = "/tape?screen=s-tape-calls-lifted"


def rows(page: Page) -> Locator:
    return page.get_by_role("grid").locator("tbody tr:not(.below)")


def tape(page: Page, address: str = "/tape") -> Page:
    page.goto(address)
    expect(rows(page).first).to_be_visible()
    return page


def survivors(page: Page) -> int:
    found = re.match(r"([\d,]+) ticket", page.locator(".results h2").inner_text())
    return int(found.group(1).replace(",", "")) if found else -1


def test_it_opens_with_the_days_tickets_by_name_and_fits_the_frame(quiet_page: Page):
    page = tape(quiet_page, "/screen")
    page.keyboard.press("b")
    expect(page).to_have_url(re.compile(r"/tape"))
    expect(rows(page).first).to_be_visible()
    assert survivors(page) > 100_000
    expect(page.get_by_label("Peek")).to_contain_text("of a day’s move")
    assert not page.evaluate(
        "document.documentElement.scrollHeight > innerHeight || document.body.scrollWidth > innerWidth"
    )
    grid = page.locator(".walk")
    assert grid.evaluate("box => box.scrollWidth <= box.clientWidth"), "by name everything is seen at once"
    expect(page.locator(".doubts")).to_contain_text("cancelled")


def test_an_evening_with_calls_of_the_next_quarter(quiet_page: Page):
    page = tape(quiet_page, CALLS)
    before = survivors(page)
    # Tighten: aim for sixty tickets, and take the edge that the premium offers.
    page.get_by_label("Aim for a number of tickets").fill("60")
    page.keyboard.press("Enter")
    card = page.locator("[data-metric='premium']")
    offer = card.get_by_role("button", name="≥")
    expect(offer).to_be_visible()
    promised = int(offer.inner_text().split("→")[1].strip())
    offer.click()
    expect(page.locator(".results h2")).to_contain_text(f"{promised} tickets survive")
    assert promised < before
    # Walk by name: the Peek follows, and says how far price has gone since.
    page.keyboard.press("r")
    page.keyboard.press("ArrowDown")
    first = rows(page).first.locator(".col-symbol").inner_text()
    expect(page.get_by_label("Peek").get_by_role("heading", name=first)).to_be_visible()
    expect(page.get_by_label(f"Surviving tickets of {first}")).to_be_visible()
    page.keyboard.press("ArrowDown")
    second = rows(page).nth(1).locator(".col-symbol").inner_text()
    expect(page.get_by_label(f"Surviving tickets of {second}")).to_contain_text("of a day’s move")
    # Into the tray with its reason, and there after a reload.
    page.keyboard.press("t")
    expect(page.get_by_label("Tray", exact=True)).to_contain_text(second)
    page.reload()
    expect(rows(page).first).to_be_visible()
    expect(page.get_by_label("Tray", exact=True)).to_contain_text(second)
    expect(page.get_by_label("Peek")).to_contain_text("In the tray because of")
    expect(page.get_by_label("Peek")).to_contain_text("Calls lifted for the next quarter")
    # Its strikes, and one of them to the chain.
    add_rule(page, f'symbol == "{second}"')
    page.locator(".segments label", has_text="contracts").click()
    expect(rows(page).first.locator(".col-symbol")).to_have_text(second)
    strike = float(rows(page).first.locator(".col-contract").inner_text().split()[0])
    page.keyboard.press("r")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    chosen = page.locator(".chain-table tr.chosen")
    expect(chosen).to_be_focused()
    assert float(chosen.get_by_role("rowheader").inner_text()) == strike
    page.go_back()
    expect(rows(page).first.locator(".col-symbol")).to_have_text(second)


def test_the_same_strike_again_and_again_is_found(quiet_page: Page):
    page = tape(quiet_page, "/tape?screen=s-tape-same-strike")
    told = [int(text) for text in rows(page).locator(".col-repeated").all_inner_texts()]
    assert told == sorted(told, reverse=True)
    assert told[0] >= 6
    before = rows(page).count()
    page.get_by_label("At least so many tickets").fill("20")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("least=20"))
    expect(rows(page)).not_to_have_count(before)
    assert all(int(text.replace(",", "")) >= 20 for text in rows(page).locator(".col-tickets").all_inner_texts())


def test_a_roll_is_told_in_words_and_its_fills_unfold(quiet_page: Page):
    page = tape(quiet_page, "/tape?screen=s-tape-rolled-and-added&view=tickets")
    page.keyboard.press("r")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    below = page.locator("tr.below")
    expect(below).to_contain_text("rolled from")
    expect(below).to_contain_text("before")
    expect(below.get_by_role("columnheader", name="Venue")).to_be_visible()
    contracts = int(rows(page).first.locator(".col-contracts").inner_text().replace(",", ""))
    sizes = below.locator("tbody td:nth-child(3)").all_inner_texts()
    assert sum(int(size.replace(",", "")) for size in sizes) == contracts
    page.keyboard.press("Enter")
    expect(below).to_have_count(0)


def test_a_quarter_of_an_hour_is_chosen_and_shown_alone(quiet_page: Page):
    page = quiet_page
    page.goto("/tape?screen=s-tape-must-open&view=day")
    figure = page.locator(".through-the-day")
    expect(figure.locator("svg")).to_be_visible()
    figure.get_by_role("button", name="show as table").click()
    quarter = figure.locator("tbody tr").nth(2)
    count = int(quarter.locator("td").last.inner_text())
    quarter.get_by_role("button").click()
    expect(quarter.get_by_role("button")).to_have_attribute("aria-pressed", "true")
    page.locator(".segments label", has_text="tickets").click()
    expect(page.locator(".quarter-chosen")).to_contain_text(f"{count} ticket")
    expect(rows(page)).to_have_count(count)
    assert all(text.startswith(("10:0", "10:1")) for text in rows(page).locator(".col-at").all_inner_texts())
    page.locator(".quarter-chosen").get_by_role("button").click()
    expect(page.locator(".quarter-chosen")).to_have_count(0)


def test_at_a_time_of_the_day_and_as_of_a_session(quiet_page: Page):
    page = tape(quiet_page, CALLS)
    now = survivors(page)
    page.get_by_label("Until which time of the session").fill("1045")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(r"until=10%3A45"))
    expect(page.locator(".results h2")).not_to_contain_text(f"{now:,} tickets survive")
    assert survivors(page) < now
    peek = page.get_by_label("Peek")
    expect(peek).to_contain_text("as of 9 Sep 2026, 10:45")
    # What came later is not shown beside it.
    expect(peek).not_to_contain_text("spent")
    page.get_by_label("Until which time of the session").fill("soon")
    page.keyboard.press("Enter")
    expect(page.get_by_label("Until which time of the session")).to_have_value("10:45")
    page.get_by_role("button", name="all of it").click()
    expect(page.locator(".results h2")).to_contain_text(f"{now:,} tickets survive")
    page.keyboard.press("[")
    expect(page).to_have_url(re.compile(r"asof=2026-09-08"))
    expect(rows(page).first).to_be_visible()
    page.goto("/tape?asof=2026-03-18")
    expect(page.get_by_text("No option trades of this session are kept")).to_be_visible()


def test_survivors_are_taken_out(quiet_page: Page):
    page = tape(quiet_page, CALLS)
    page.get_by_role("button", name="take out").click()
    with page.expect_download() as taken:
        page.get_by_role("button", name="as JSON").click()
    with open(taken.value.path(), encoding="utf-8") as file:
        sheet = json.load(file)
    assert len(sheet["rows"]) == rows(page).count()
    assert taken.value.suggested_filename.startswith("Calls lifted for the next quarter")


def test_a_screen_of_tickets_is_saved_and_opened_on_the_tape_alone(quiet_page: Page):
    page = tape(quiet_page, CALLS)
    add_rule(page, "contracts >= 5")
    page.get_by_role("button", name="save as").click()
    page.get_by_role("dialog").get_by_label("Name").fill("lifted, and more than five")
    page.get_by_role("dialog").get_by_role("button", name="save", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("lifted, and more than five")
    page.keyboard.press("o")
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("lifted, and more than five")
    expect(dialog).to_contain_text("Puts sold under the market")
    expect(dialog).not_to_contain_text("Premium to sell")
    page.keyboard.press("Escape")
    page.goto("/screen")
    expect(page.get_by_role("grid")).to_be_visible()
    page.keyboard.press("o")
    expect(page.get_by_role("dialog")).to_contain_text("Premium to sell")
    expect(page.get_by_role("dialog")).not_to_contain_text("lifted, and more than five")


def test_a_cluster_of_sweeps_is_first_of_its_size_and_its_price_has_not_run(quiet_page: Page, stories):
    story = stories["swept as not in two months"]
    page = tape(quiet_page, CALLS)
    row = rows(page).filter(has=page.locator(".col-symbol", has_text=story.symbol))
    expect(row).to_have_count(1)
    # In one contract, five times; the first of them is the first of its size for months.
    assert int(row.locator(".col-tickets").inner_text()) >= 5
    expect(row).to_contain_text("41 call 16 Oct")
    row.locator(".col-tickets").click()
    expect(page.get_by_label(f"Surviving tickets of {story.symbol}")).to_contain_text("of a day’s move")
    # Another one was swept as well, and is gone: only without the rules on size and on that does it stand here.
    gone = stories["beyond its day"].symbol
    expect(rows(page).filter(has=page.locator(".col-symbol", has_text=gone))).to_have_count(0)
    add_rule(page, f'symbol in ("{gone}", "{story.symbol}")')
    for metric in ("market_cap", "since"):
        page.locator(f".rule[data-metric='{metric}']").focus()
        page.keyboard.press("Space")
    expect(rows(page).filter(has=page.locator(".col-symbol", has_text=gone))).to_have_count(1)


def test_the_planted_roll_is_told_with_strikes_and_money(quiet_page: Page, stories):
    story = stories["rolled down and added to"]
    page = tape(quiet_page, "/tape?screen=s-tape-rolled-and-added&view=tickets")
    add_rule(page, f'symbol == "{story.symbol}"')
    # The side that was bought; the one that was sold brought too little for the starter.
    expect(rows(page)).to_have_count(1)
    rows(page).first.locator(".col-contracts").dblclick()
    expect(page.locator("tr.below")).to_contain_text(
        "rolled from 165 call 18 Sep to 155 call 18 Sep: lower, the same expiration"
    )


def test_the_evidence_of_tickets_says_that_five_sessions_are_too_few(quiet_page: Page):
    page = tape(quiet_page, CALLS)
    page.get_by_role("button", name="evidence").click()
    expect(page).to_have_url(re.compile("evidence=1"))
    found = page.get_by_label("Evidence", exact=True)
    expect(found.get_by_role("status")).to_contain_text("Too few to say", timeout=30_000)
    expect(found.get_by_label("Side of the bet")).to_have_value("lean")
    expect(found.get_by_role("rowheader", name="next session").first).to_be_visible()
    page.keyboard.press("2")
    expect(page).not_to_have_url(re.compile("evidence=1"))
    expect(rows(page).first).to_be_visible()

"""The Dossier's tape in a browser: the tickets on the price, their fills, the way to the chain and back, past sessions."""

import re

from playwright.sync_api import Page
from tests.browser.settled import expect
from tests.browser.test_dossier import as_table, dossier, figure


def test_the_day_s_trades_are_one_key_away_and_fit_the_frame(quiet_page: Page):
    page = dossier(quiet_page, "BARTI")
    page.keyboard.press("6")
    for title in ("Option trades", "Through the day", "Largest tickets", "Busiest contracts"):
        expect(figure(page, title)).to_be_in_viewport()
    expect(page).to_have_url(re.compile(r"view=tape"))
    expect(figure(page, "Option trades")).to_contain_text("what it hedges is not known")
    assert not page.evaluate(
        "document.documentElement.scrollHeight > innerHeight || document.body.scrollWidth > innerWidth"
    )
    # Tickets stand on the price: triangles at the ask and the bid, circles between.
    assert figure(page, "Through the day").locator("svg path").count() > 60
    quarters = as_table(page, "Through the day")
    assert [row[0] for row in quarters[:2]] == ["09:30", "09:45"]
    assert len(quarters) == 26


def test_a_ticket_opens_its_fills_and_leads_to_the_chain_and_back(quiet_page: Page):
    page = dossier(quiet_page, "BARTI", "?view=tape")
    tickets = figure(page, "Largest tickets")
    sweep = tickets.locator("tbody tr", has=page.get_by_role("cell", name="sweep")).first
    size = int(sweep.locator("td").nth(3).inner_text().replace(",", ""))
    sweep.get_by_role("button").first.click()
    expect(sweep.get_by_role("button").first).to_have_attribute("aria-expanded", "true")
    fills = tickets.locator(".fills li")
    expect(fills.first).to_be_visible()
    sizes = [int(re.search(r": ([\d,]+) at", text).group(1).replace(",", "")) for text in fills.all_inner_texts()]
    assert len(sizes) >= 2
    assert sum(sizes) == size
    contract = sweep.get_by_role("rowheader")
    strike = float(contract.inner_text().split()[0])
    contract.get_by_role("button").click()
    row = page.locator(".chain-table tr.chosen")
    expect(row).to_be_focused()
    assert float(row.get_by_role("rowheader").inner_text()) == strike
    expect(page).to_have_url(re.compile(r"view=chain"))
    page.keyboard.press("6")
    expect(figure(page, "Largest tickets")).to_be_visible()


def test_yesterdays_trades_with_what_was_open_this_morning(quiet_page: Page):
    page = dossier(quiet_page, "TARNO", "?view=tape")
    contracts = figure(page, "Busiest contracts")
    expect(contracts.locator("tbody tr").first.locator("td").nth(4)).to_have_text(re.compile("known the next morning"))
    page.get_by_label("Session of the trades").select_option("2026-09-08")
    expect(contracts.locator("tbody")).not_to_contain_text("known the next morning")
    expect(page).to_have_url(re.compile(r"traded=2026-09-08"))
    expect(contracts.locator("tbody tr").first.locator("td").nth(4)).to_have_text(re.compile(r"[+−\d]"))


def test_what_is_not_kept_is_said(quiet_page: Page):
    page = dossier(quiet_page, "TARNO", "?view=tape&asof=2026-03-10")
    expect(figure(page, "Option trades")).to_contain_text("no option trades of this session are kept")
    assert page.locator(".tickets").count() == 0


def test_the_strip_of_sessions_and_tickets_on_the_other_price_charts(quiet_page: Page):
    page = dossier(quiet_page, "BARTI", "?view=tape")
    strip = page.locator(".premium-strip")
    expect(strip).to_contain_text(re.compile(r"above \d+ of the 59 before"))
    assert strip.locator("svg g").count() == 60
    assert strip.locator("svg g.shown").count() == 1
    strip.get_by_role("button", name="show as table").click()
    expect(strip.locator("tbody tr").first).to_contain_text("9 Sep 2026")
    # Triangles and circles: every mark is a path of its own beside the line of the price.
    for view, title, least in (("moves", "Today", 20), ("moves", "Price", 5), ("positioning", "By strike", 5)):
        page = dossier(quiet_page, "BARTI", f"?view={view}")
        marks = figure(page, title).locator("svg path[fill-opacity='0.75'], svg path[opacity='0.75']")
        expect(marks.first).to_be_attached()
        assert marks.count() >= least, title

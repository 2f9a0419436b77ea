"""The Dossier in a browser: what is shown, in pictures and as tables, and the choices that stay in the address."""

import re

import pytest
from playwright.sync_api import Locator, Page
from tests.browser.settled import expect


def dossier(page: Page, symbol: str, query: str = "") -> Page:
    page.goto(f"/dossier/{symbol}{query}")
    expect(page.get_by_role("heading", name=symbol, exact=True)).to_be_visible()
    return page


def figure(page: Page, title: str) -> Locator:
    return page.locator(".figure", has=page.get_by_role("heading", name=title))


def as_table(page: Page, title: str) -> list[list[str]]:
    part = figure(page, title)
    part.get_by_role("button", name="show as table").click()
    expect(part.locator("tbody tr").first).to_be_visible()
    return part.locator("tbody tr").evaluate_all(
        "rows => rows.map((row) => [...row.cells].map((cell) => cell.innerText))"
    )


def test_a_whole_page_without_scrolling_the_frame(quiet_page: Page):
    page = dossier(quiet_page, "TARNO")
    for title in ("Implied, 30 days", "Term structure", "Where it stands", "Expected move"):
        expect(figure(page, title)).to_be_in_viewport()
    assert not page.evaluate(
        "document.documentElement.scrollHeight > innerHeight || document.body.scrollWidth > innerWidth"
    )
    expect(page).to_have_title("TARNO · Flinch")


def test_todays_move_against_the_move_priced_for_it(quiet_page: Page):
    page = dossier(quiet_page, "NURVO")
    said = page.locator(".today").inner_text()
    spent = int(re.search(r"(\d+) %\s+of today", said).group(1))
    assert spent > 180, "the planted case is beyond its day"
    label = page.locator(".today svg").get_attribute("aria-label")
    assert re.fullmatch(r"moved \+\d+\.\d\d %, ±\d+\.\d\d % priced", label)


def test_rank_and_percentile_are_both_shown_and_explained(quiet_page: Page):
    page = dossier(quiet_page, "TARNO")
    part = figure(page, "Where it stands")
    rank, percentile = (int(text) for text in part.locator("dt b").all_inner_texts())
    assert percentile - rank > 40
    expect(part).to_contain_text(f"stands {rank} % of the way from the year’s lowest")
    below = int(re.search(r"On (\d+) of the previous 251", part.inner_text()).group(1))
    assert round(100 * below / 251) == percentile
    assert part.locator("path.tick").count() == 252
    assert part.locator("path.tick.below").count() == below


def test_estimator_and_window_are_chosen_and_stay_in_the_address(quiet_page: Page):
    page = dossier(quiet_page, "BELUA")
    first = as_table(page, "Implied, 30 days")
    assert len(first) == 252
    assert first[0][0] == "9 Sep 2026"
    page.get_by_label("Estimator of historical volatility").select_option("parkinson")
    page.get_by_label("Window of historical volatility").select_option("63")
    expect(page).to_have_url(re.compile("estimator=parkinson&window=63"))
    served = page.request.get("/api/dossier/BELUA?estimator=parkinson&window=63").json()["year"]["hv"][-1]
    cell = figure(page, "Implied, 30 days").locator("tbody tr").first.locator("td").nth(2)
    expect(cell).to_have_text(f"{served:.1f}")
    assert f"{served:.1f}" != first[0][2]
    page.reload()
    expect(page.get_by_label("Window of historical volatility")).to_have_value("63")
    assert as_table(page, "Implied, 30 days")[0][2] == f"{served:.1f}"


def test_choices_still_work_after_jumping_to_another_name(quiet_page: Page):
    page = dossier(quiet_page, "BELUA")
    page.keyboard.press("/")
    page.keyboard.type("kosvi")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="KOSVI", exact=True)).to_be_visible()
    page.get_by_label("Window of historical volatility").select_option("126")
    expect(page).to_have_url(re.compile(r"/dossier/KOSVI\?(market=demo&)?window=126(&market=demo)?$"))
    expect(page.get_by_label("Window of historical volatility")).to_have_value("126")


def test_nonsense_choices_in_the_address_fall_back(quiet_page: Page):
    page = dossier(quiet_page, "BELUA", "?estimator=magic&window=-3")
    expect(page.get_by_label("Window of historical volatility")).to_have_value("21")
    expect(page.get_by_label("Estimator of historical volatility")).to_have_value("yang_zhang")


def test_expected_moves_in_price_and_percent_with_the_straddle(quiet_page: Page):
    page = dossier(quiet_page, "TARNO")
    price = float(page.locator(".quote .big").inner_text())
    lines = figure(page, "Expected move").locator("tbody tr")
    expect(lines).to_have_count(13)
    for line in lines.all():
        days, vol, move, percent, low, high, straddle = (
            float(text.replace(",", "")) for text in line.locator("td").all_inner_texts()[:7]
        )
        assert low == pytest.approx(price - move, abs=0.011)
        assert high == pytest.approx(price + move, abs=0.011)
        assert percent == pytest.approx(100 * move / price, abs=0.06)
        assert move == pytest.approx(price * vol / 100 * (days / 365) ** 0.5, rel=0.02)
        assert 0.6 * move < straddle < 0.95 * move
    expect(lines.nth(1).locator("th")).to_have_text("18 Sep m")


def test_the_term_structure_shows_earnings_and_agrees_with_its_table(quiet_page: Page):
    page = dossier(quiet_page, "KOSVI")
    part = figure(page, "Term structure")
    expect(part.get_by_text("earnings", exact=True)).to_be_visible()
    expect(page.locator(".report")).to_contain_text("Earnings 10 Sep, before the open")
    table = as_table(page, "Term structure")
    assert float(table[0][2]) > 1.5 * float(table[4][2])
    assert all(row[5] == "parity" for row in table)
    part.get_by_role("button", name="show as chart").click()
    expect(part.locator("svg").first).to_be_visible()


def test_a_point_of_the_year_tells_its_date_and_values(quiet_page: Page):
    page = dossier(quiet_page, "BELUA")
    box = figure(page, "Implied, 30 days").locator(".echart").bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.6, box["y"] + box["height"] * 0.5)
    expect(page.get_by_text(re.compile(r"implied \d+\.\d %"))).to_be_visible()
    expect(page.get_by_text(re.compile(r"gap [+−]\d+\.\d points"))).to_be_visible()


def test_what_cannot_be_computed_is_a_dash_with_its_reason(quiet_page: Page):
    page = dossier(quiet_page, "FENSO")
    expect(page.locator(".today")).to_contain_text(
        "Nothing is priced for the next session: no usable option quotes in this session"
    )
    expect(figure(page, "Where it stands")).to_contain_text("Neither rank nor percentile")
    expect(figure(page, "Term structure")).to_contain_text("No expiration has a usable quote")
    assert set(figure(page, "Expected move").locator(".missing").all_inner_texts()) == {"–\nnothing is quoted"}
    page = dossier(page, "PELDU")
    expect(figure(page, "Where it stands")).to_contain_text("45 sessions observed, 60 are needed")


def test_an_index_and_a_fund_have_a_dossier_too(quiet_page: Page):
    for symbol in ("GLUDO", "TRAFA"):
        page = dossier(quiet_page, symbol)
        expect(page.locator(".report")).to_have_text("No earnings")
        expect(figure(page, "Expected move").locator("tbody tr").first).to_be_visible()


def test_without_a_name_the_page_says_how_to_pick_one(quiet_page: Page):
    quiet_page.goto("/dossier")
    expect(quiet_page.get_by_text("Press / and type a symbol or a company")).to_be_visible()


def test_facts_show_in_one_look_what_book_is_worth(quiet_page: Page, stories):
    page = quiet_page
    page.goto(f"/dossier/{stories['two sources disagree on book value'].symbol}")
    expect(page.locator(".dossier-head")).to_be_visible()
    page.keyboard.press("9")
    expect(page.locator(".book-says")).to_contain_text("Above book by both sources; the sources are 26 % apart.")
    expect(page.locator(".quarters .apart").first).to_be_visible()
    page.locator(".quarters thead .defined", has_text="Book").hover()
    expect(page.get_by_role("tooltip")).to_contain_text("Shareholders' equity per share")
    news = page.get_by_role("region", name="News")
    expect(news.get_by_role("row").first).to_have_text(re.compile(r"^\d+ \w{3} \d\d:\d\d\S.* \w+$"))
    page.goto(f"/dossier/{stories['figures gone stale'].symbol}?view=facts")
    expect(page.locator(".facts")).to_contain_text("a newer report is overdue")
    page.goto("/dossier/FELRO?view=facts")
    expect(page.locator(".facts")).to_contain_text("Only companies report")
    page.get_by_role("region", name="Members").get_by_role("link").first.click()
    expect(page.get_by_role("region", name="Funds that hold it")).to_contain_text("FELRO")

"""The Screen in a browser: narrow, sort, walk, and the address that reproduces it all."""

import re

import pytest
from playwright.sync_api import Locator, Page, expect

RULES = "/screen?price=15..250&avg_option_volume_21=500..&iv_hv_ratio=1.1.."


def survivors(page: Page) -> int:
    text = page.locator(".results h2").inner_text()
    found = re.match(r"([\d,]+) name", text)
    return int(found.group(1).replace(",", "")) if found else -1


def rows(page: Page) -> Locator:
    return page.get_by_role("grid").locator("tbody tr[aria-rowindex]")


def symbols(page: Page) -> list[str]:
    return rows(page).locator("td.col-symbol").all_inner_texts()


def open_screen(page: Page, address: str = "/screen") -> Page:
    page.goto(address)
    expect(rows(page).first).to_be_visible()
    return page


def test_the_first_page_is_the_whole_market(quiet_page: Page):
    page = open_screen(quiet_page, "/")
    expect(page).to_have_url(re.compile("/screen$"))
    assert survivors(page) == 502
    expect(page.locator(".asof")).to_contain_text("Wed 9 Sep 2026 15:45 New York")
    expect(page.get_by_role("region", name="Rule on")).to_have_count(9)
    overflow = page.evaluate(
        "document.documentElement.scrollHeight > innerHeight || document.body.scrollWidth > innerWidth"
    )
    assert not overflow, "the frame does not scroll"


def test_dragging_an_edge_narrows_the_market_while_the_hand_is_still_on_it(quiet_page: Page):
    page = open_screen(quiet_page)
    edge = page.get_by_role("slider", name="Implied over historical volatility, lower edge")
    box = edge.bounding_box()
    y = box["y"] + box["height"] / 2
    page.mouse.move(box["x"] + box["width"] / 2, y)
    page.mouse.down()
    page.mouse.move(box["x"] + 90, y, steps=6)
    expect(page.locator(".results h2")).not_to_contain_text("502 names survive")
    half_way = survivors(page)
    assert "iv_hv_ratio" not in page.url, "the address waits for the hand"
    page.mouse.move(box["x"] + 150, y, steps=6)
    expect(page.locator(".results h2")).not_to_contain_text(f"{half_way} name")
    assert survivors(page) < half_way
    page.mouse.up()
    expect(page).to_have_url(re.compile(r"iv_hv_ratio=1\.\d+\.\."))
    ratios = [float(text) for text in rows(page).locator("td.col-iv_hv_ratio").all_inner_texts()]
    edge_at = float(edge.get_attribute("aria-valuenow"))
    assert min(ratios) >= edge_at - 0.005
    rule = page.locator('[data-metric="iv_hv_ratio"]')
    expect(rule.locator(".survivors")).to_have_text(str(survivors(page)))
    expect(rule.locator(".rule-foot")).to_contain_text(re.compile(r"−\d+ · \d+ lost, no data"))


def test_back_takes_the_last_rule_back_and_the_address_reproduces_the_page(quiet_page: Page, context):
    page = open_screen(quiet_page, RULES)
    before = survivors(page)
    lower = page.get_by_label("IV rank, lower edge in 0–100")
    lower.fill("50")
    lower.press("Enter")
    expect(page.locator(".results h2")).not_to_contain_text(f"{before} name")
    page.locator("th.col-iv_rank button").click()
    page.get_by_role("grid").press("ArrowDown")
    page.get_by_role("grid").press("ArrowDown")
    expect(page).to_have_url(re.compile("at="))
    narrow, order = survivors(page), symbols(page)

    other = context.new_page()
    open_screen(other, page.url)
    assert (survivors(other), symbols(other)) == (narrow, order)
    expect(other.locator("tr[aria-selected=true]")).to_have_attribute("id", f"row-{order[1]}")
    expect(other.get_by_label("IV rank, lower edge in 0–100")).to_have_value("50")
    other.close()

    page.go_back()
    expect(page.locator(".results h2")).to_contain_text(f"{before} name")


def test_any_column_sorts_and_missing_values_stay_last(quiet_page: Page):
    page = open_screen(quiet_page)
    header = page.locator("th.col-days_to_earnings")
    for direction in ("descending", "ascending"):
        header.get_by_role("button").click()
        expect(header).to_have_attribute("aria-sort", direction)
        days = [int(text) for text in rows(page).locator("td.col-days_to_earnings").all_inner_texts()]
        assert days == sorted(days, reverse=direction == "descending")
    page.get_by_role("grid").press("End")
    expect(page.locator("tr[aria-selected=true] .col-days_to_earnings")).to_contain_text("–")
    page.locator("th.col-symbol button").click()
    page.locator("th.col-symbol button").click()
    expect(page.locator("th.col-symbol")).to_have_attribute("aria-sort", "ascending")
    found = symbols(page)
    assert found == sorted(found)


def test_walking_with_the_keyboard_moves_the_peek_and_enter_opens_the_dossier(quiet_page: Page):
    page = open_screen(quiet_page, RULES)
    page.keyboard.press("r")
    expect(page.get_by_role("grid")).to_be_focused()
    order = symbols(page)
    peek = page.get_by_role("complementary", name="Peek")
    for step in range(3):
        page.keyboard.press("ArrowDown")
        expect(peek.get_by_role("heading", level=2)).to_have_text(order[step])
    page.keyboard.press("ArrowUp")
    expect(peek.get_by_role("heading", level=2)).to_have_text(order[1])
    page.keyboard.press("p")
    expect(peek).to_have_count(0)
    page.keyboard.press("p")
    expect(peek).to_be_visible()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(f"/dossier/{order[1]}$"))
    page.keyboard.press("s")
    expect(page).to_have_url(re.compile(f"iv_hv_ratio=1.1.*at={order[1]}"))


def test_an_edge_moves_by_keyboard_and_opens_again(quiet_page: Page):
    page = open_screen(quiet_page)
    edge = page.get_by_role("slider", name="Price, upper edge")
    edge.focus()
    for _ in range(4):
        edge.press("Shift+ArrowLeft")
    expect(page.locator(".results h2")).not_to_contain_text("502 names survive")
    assert survivors(page) < 502
    assert float(edge.get_attribute("aria-valuenow")) < 200
    edge.press("Delete")
    expect(page.locator(".results h2")).to_contain_text("502 names survive")
    expect(edge).to_have_attribute("aria-valuetext", "open")


def test_the_universe_is_chosen_and_all_rules_open_at_once(quiet_page: Page):
    page = open_screen(quiet_page, RULES)
    page.get_by_text("funds", exact=True).click()
    expect(page.locator(".stack > header .survivors")).to_have_text("20")
    page.get_by_role("button", name="open all rules").click()
    expect(page.locator(".results h2")).to_contain_text("20 names survive")
    expect(page).to_have_url(re.compile(r"/screen\?universe=fund$"))


@pytest.mark.parametrize(
    ("edge", "text", "says"),
    [
        ("lower", "cheap", "“cheap” is not a number"),
        ("lower", "300", "the lower edge 300 is above the upper edge 250. Swap them"),
        ("upper", "1e999", "is not a number"),
    ],
)
def test_bad_input_is_told_at_the_rule_and_nothing_is_lost(quiet_page: Page, edge: str, text: str, says: str):
    page = open_screen(quiet_page, RULES)
    before = survivors(page)
    field = page.get_by_label(f"Price, {edge} edge in $")
    field.fill(text)
    field.press("Enter")
    expect(page.locator('[data-metric="price"]').get_by_role("alert")).to_contain_text(says)
    expect(field).to_have_value(text)
    assert survivors(page) == before
    field.press("Escape")
    expect(page.locator('[data-metric="price"]').get_by_role("alert")).to_have_count(0)
    expect(field).to_have_value("15" if edge == "lower" else "250")


def test_numbers_are_read_as_people_write_them(quiet_page: Page):
    page = open_screen(quiet_page)
    field = page.get_by_label("Market capitalisation, lower edge in $")
    field.fill("1.2B")
    field.press("Enter")
    expect(page).to_have_url(re.compile(r"market_cap=1200000000\.\."))
    expect(field).to_have_value("1.2B")
    expect(page.locator('[data-metric="market_cap"] .rule-foot')).to_contain_text("22 lost, no data")


def test_nonsense_in_the_address_is_named_and_the_rest_still_works(quiet_page: Page):
    page = open_screen(
        quiet_page, "/screen?price=abc..&iv30=90..20&iv_rank=5&universe=moon&sort=-nothing&at=⟦▮⟧&iv_hv_ratio=1.1.."
    )
    for metric, says in (("price", "“abc” is not a number"), ("iv30", "Swap them"), ("iv_rank", "is not a range")):
        expect(page.locator(f'[data-metric="{metric}"]').get_by_role("alert")).to_contain_text(says)
    assert 0 < survivors(page) < 502


def test_when_nothing_survives_it_says_which_rule_to_loosen(quiet_page: Page):
    page = quiet_page
    page.goto("/screen?universe=fund&price=1..2")
    expect(page.get_by_text("No name survives these rules.")).to_be_visible()
    expect(page.get_by_text("Dropping only Price would bring back 20 names.")).to_be_visible()


def test_every_header_explains_itself(quiet_page: Page):
    page = open_screen(quiet_page)
    page.locator("th.col-iv_percentile button").hover()
    expect(page.locator(".definition")).to_contain_text("Not the rank.")
    page.locator('[data-metric="iv_rank"] h3').focus()
    expect(page.locator(".definition").last).to_contain_text("One old spike keeps it low.")


def test_many_rows_stay_light(quiet_page: Page):
    """1,440 names: only the rows in sight are in the page, and the last one is one key away."""

    def crowd(route):
        answer = route.fetch().json()
        times = 1440 // len(answer["symbols"]) + 1
        answer["symbols"] = [f"{s}{n}" for n in range(times) for s in answer["symbols"]][:1440]
        answer["companies"] = (answer["companies"] * times)[:1440]
        answer["columns"] = {key: (column * times)[:1440] for key, column in answer["columns"].items()}
        route.fulfill(json=answer)

    quiet_page.route("**/api/screen?**", crowd)
    page = open_screen(quiet_page)
    assert survivors(page) == 1440
    assert rows(page).count() < 80
    page.get_by_role("grid").press("End")
    expect(page.locator("tr[aria-rowindex='1441']")).to_be_in_viewport()
    expect(page.get_by_role("grid")).to_have_attribute("aria-rowcount", "1441")


def test_loading_and_failing_are_said(quiet_page: Page):
    page = quiet_page
    page.route("**/api/screen?**", lambda route: route.abort())
    page.goto("/screen")
    expect(page.locator(".results").get_by_role("alert")).to_contain_text("Flinch's server does not answer")
    page.unroute("**/api/screen?**")
    expect(rows(page).first).to_be_visible()
    expect(page.locator(".notice")).to_have_count(0)
    page.route("**/api/screen?**", lambda route: route.abort())
    field = page.get_by_label("IV rank, lower edge in 0–100")
    field.fill("60")
    field.press("Enter")
    expect(page.locator(".results h2")).to_have_text("502 names survive of 502, before your last change")
    page.unroute("**/api/screen?**")
    expect(page.locator(".results h2")).not_to_contain_text("502 names")

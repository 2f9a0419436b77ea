"""The frame in a browser: jump to a name, the tray, the keys, the themes, and a database that goes away."""

import re

import pytest
from flask.testing import FlaskClient
from playwright.sync_api import Page
from sqlalchemy import Engine
from tests.browser.addresses import address
from tests.browser.settled import expect
from tests.waiting import slowly, until

from flinch.store.local_server import LocalServer
from flinch.store.market.state import say_coming

RULES = address("15 <= price <= 250", "iv_hv_ratio >= 1.1")


def tray(page: Page):
    return page.get_by_role("region", name="Tray")


def chips(page: Page):
    return tray(page).locator(".chip")


def ready(page: Page, address: str = RULES) -> list[str]:
    page.goto(address)
    expect(page.locator("tr[aria-rowindex='4']")).to_be_visible()
    return page.locator("tbody tr[aria-rowindex] td.col-symbol").all_inner_texts()


def keep_first_three(page: Page) -> list[str]:
    order = ready(page)
    page.keyboard.press("r")
    for _ in range(3):
        page.keyboard.press("ArrowDown")
        page.keyboard.press("t")
    expect(chips(page)).to_have_text(order[:3])
    return order[:3]


STEPS_AND_PUTS = """async () => {
  const send = (key) => document.activeElement.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
  const symbols = [];
  for (let step = 0; step < 3; step++) {
    send("ArrowDown");
    await Promise.resolve();
    symbols.push(document.querySelector("tr[aria-selected='true']").innerText.match(/[A-Z]{5}/)[0]);
    send("t");
    await Promise.resolve();
  }
  return symbols;
}"""
"""Keys as a busy machine hands them over: one right after the other, before anything that can wait is drawn."""


@pytest.mark.parametrize("page_address", [RULES, "/off-exchange", "/tape"])
def test_keys_that_come_together_are_each_about_the_row_just_stepped_to(quiet_page: Page, page_address: str):
    page = quiet_page
    page.goto(page_address)
    expect(page.locator("tr[aria-selected]").nth(4)).to_be_visible()
    page.keyboard.press("r")
    page.keyboard.press("ArrowDown")
    stepped = page.evaluate(STEPS_AND_PUTS)
    assert len(set(stepped)) == 3
    expect(chips(page)).to_have_text(stepped)


def test_twice_the_same_key_puts_a_name_in_and_takes_it_out_however_slow_the_server_is(quiet_page: Page):
    page = quiet_page
    ready(page)
    page.keyboard.press("r")
    page.keyboard.press("ArrowDown")
    page.route("**/api/tray*", lambda route: (slowly(0.3), route.continue_())[1])
    with page.expect_response(lambda reply: reply.request.method == "DELETE" and "/api/tray/" in reply.url):
        page.keyboard.press("t")
        page.keyboard.press("t")
    expect(chips(page)).to_have_count(0)


def test_three_names_put_in_the_tray_are_there_after_a_reload(quiet_page: Page):
    page = quiet_page
    kept = keep_first_three(page)
    page.reload()
    expect(chips(page)).to_have_text(kept)
    expect(page.locator("tr.in-tray")).to_have_count(3)


def test_the_tray_says_why_each_name_came_and_leads_back_there(quiet_page: Page):
    page = quiet_page
    kept = keep_first_three(page)
    page.goto("/dossier/BELUA")
    expect(page.get_by_role("heading", name="BELUA")).to_be_visible()
    page.keyboard.press("y")
    expect(chips(page).first).to_be_focused()
    why = page.get_by_role("complementary", name="Peek").locator(".peek-why")
    expect(page.get_by_role("complementary", name="Peek").get_by_role("heading", level=2)).to_have_text(kept[0])
    expect(why).to_contain_text("all names · 15 <= price <= 250 · iv_hv_ratio >= 1.1")
    expect(why.locator("dd")).to_have_count(2)
    why.get_by_role("link").click()
    expect(page).to_have_url(re.compile("r=15.*price"))
    expect(page.get_by_label("Price, lower edge in $")).to_have_value("15")


def test_the_tray_works_by_keyboard_with_undo(quiet_page: Page):
    page = quiet_page
    a, b, c = keep_first_three(page)
    page.keyboard.press("y")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Delete")
    expect(chips(page)).to_have_text([a, c])
    expect(tray(page)).to_contain_text(f"undo: remove {b}")
    page.keyboard.press("u")
    expect(chips(page)).to_have_text([a, b, c])
    tray(page).get_by_role("button", name="clear").click()
    expect(tray(page)).to_contain_text("Empty.")
    tray(page).get_by_role("button", name="undo: clear 3 names").click()
    expect(chips(page)).to_have_text([a, b, c])
    chips(page).nth(1).press("Enter")
    expect(page).to_have_url(re.compile(f"/dossier/{b}\\?market=demo$"))
    expect(page.get_by_role("button", name="in the tray t")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("t")
    expect(chips(page)).to_have_text([a, c])


def test_all_survivors_go_to_the_tray_at_once(quiet_page: Page):
    page = quiet_page
    order = ready(page, address("iv_hv_ratio >= 1.05", u="fund"))
    page.get_by_role("button", name=f"put all {len(order)} in the tray").click()
    expect(chips(page)).to_have_count(len(order))
    expect(tray(page)).to_contain_text(f"undo: add {len(order)} names")


@pytest.mark.parametrize(("typed", "first"), [("tarn", "TARNO"), ("kosvi sig", "KOSVI"), ("whole market", "TRAFA")])
def test_jump_to_a_name_by_symbol_or_company(quiet_page: Page, typed: str, first: str):
    page = quiet_page
    ready(page)
    page.keyboard.press("/")
    search = page.get_by_role("combobox", name="Find a name")
    expect(search).to_be_focused()
    page.keyboard.type(typed)
    expect(page.locator(".goto-list [role=option]").first).to_contain_text(first)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name=first, exact=True)).to_be_visible()
    expect(search).to_have_value("")


@pytest.mark.parametrize(
    ("typed", "found", "url"),
    [
        ("lineup", "Lineup", r"/lineup"),
        ("premium to sell", "Premium to sell", r"/(screen|structures)\?screen=s-"),
        ("iv_rank", "IV rank", r"/handbook/iv_rank\?market=demo$"),
        ("tidal power", "Tidal Power", r"/screen\?u=sector%3ATidal(\+|%20)Power"),
    ],
)
def test_the_box_leads_to_pages_screens_metrics_and_groups(quiet_page: Page, typed: str, found: str, url: str):
    page = quiet_page
    ready(page)
    page.keyboard.press("/")
    page.keyboard.type(typed)
    option = page.locator(".goto-list [role=option]", has_text=found).first
    expect(option).to_be_visible()
    option.click()
    expect(page).to_have_url(re.compile(url))


def test_the_box_does_what_keys_do(quiet_page: Page):
    page = quiet_page
    ready(page)
    page.keyboard.press("/")
    page.keyboard.type("light or")
    expect(page.locator(".goto-list [role=option]")).to_have_count(1)
    expect(page.locator(".goto-list kbd")).to_have_text("m")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="light", exact=True)).to_be_visible()
    page.keyboard.press("/")
    page.keyboard.type("all keys")
    page.keyboard.press("Enter")
    expect(page.get_by_role("dialog", name="Keys")).to_be_visible()


def test_a_basket_of_one_s_own_and_a_plan_are_found(quiet_page: Page, client: FlaskClient):
    basket = client.post("/api/baskets", json={"name": "Harbour watch", "symbols": ["TARNO", "BELUA"]}).json
    page = quiet_page
    ready(page)
    page.keyboard.press("/")
    page.keyboard.type("harbour w")
    expect(page.locator(".goto-list [role=option]").first).to_contain_text("Harbour watch")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(rf"/screen\?u=basket%3A{basket['id']}|/screen\?u=basket:{basket['id']}"))
    expect(page.locator(".results h2")).to_contain_text("2 names")
    client.delete(f"/api/baskets/{basket['id']}")


@pytest.mark.parametrize("width", [1280, 1024])
def test_the_pages_of_the_group_at_hand_are_spelled_out_and_all_fits(quiet_page: Page, width: int):
    page = quiet_page
    page.set_viewport_size({"width": width, "height": 800})
    ready(page)
    pages = page.get_by_role("navigation", name="Pages")
    for group, spelled, hidden in (
        ("Read", ["Dossier", "Tape", "Off-exchange"], ["Lineup", "Structures"]),
        ("Plan", ["Structures"], ["Tape", "Screen"]),
        ("Find", ["Screen", "Lineup"], ["Dossier", "Structures"]),
    ):
        pages.get_by_role("link", name=group, exact=True).click()
        for name in spelled:
            expect(pages.get_by_role("link", name=name, exact=True)).to_be_visible()
        for name in hidden:
            expect(pages.get_by_role("link", name=name, exact=True)).to_have_count(0)
        for part in (
            page.locator(".asof"),
            page.get_by_role("combobox", name="Find a name"),
            page.get_by_role("button", name="Keys"),
        ):
            box = part.bounding_box()
            assert box is not None
            assert box["x"] >= 0
            assert box["x"] + box["width"] <= width
    assert page.evaluate("document.documentElement.scrollWidth") <= width


def test_the_search_walks_and_closes_and_an_unknown_name_finds_its_neighbours(quiet_page: Page):
    page = quiet_page
    ready(page)
    page.keyboard.press("/")
    page.keyboard.type("har")
    options = page.locator(".goto-list [role=option]")
    expect(options).to_have_count(12)
    second = options.nth(1).locator("b").inner_text()
    page.keyboard.press("ArrowDown")
    expect(options.nth(1)).to_have_attribute("aria-selected", "true")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(f"/dossier/{second}\\?market=demo$"))
    page.keyboard.press("/")
    page.keyboard.type("tarna")
    expect(page.get_by_text("Nothing here is called so.")).to_be_visible()
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("No name with the symbol 'tarna' is listed. Did you mean TARNO")
    page.get_by_role("link", name="TARNO").click()
    expect(page.get_by_role("heading", name="TARNO", exact=True)).to_be_visible()


@pytest.mark.parametrize(
    "symbol", ["%E2%9F%A6%E2%96%AE%E2%9F%A7", "%3Cimg%20src=x%20onerror=alert(1)%3E", "..%2F..%2Fetc", "'%20OR%201=1"]
)
def test_a_symbol_of_strange_characters_gets_a_plain_answer(quiet_page: Page, symbol: str):
    quiet_page.goto(f"/dossier/{symbol}")
    expect(quiet_page.get_by_role("alert")).to_contain_text("No name with the symbol")
    quiet_page.goto("/no/such/page")
    expect(quiet_page.get_by_role("alert")).to_contain_text("There is no such page.")


def test_question_mark_lists_the_keys(quiet_page: Page):
    page = quiet_page
    ready(page)
    page.keyboard.press("r")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("?")
    dialog = page.get_by_role("dialog", name="Keys")
    expect(dialog).to_contain_text("undo the last change of the tray")
    page.keyboard.press("t")
    page.keyboard.press("Escape")
    expect(dialog).to_have_count(0)
    page.keyboard.press("r")
    page.keyboard.press("ArrowDown")
    second = page.locator("tr[aria-selected=true] td.col-symbol").inner_text()
    page.keyboard.press("t")
    expect(chips(page)).to_have_text([second])  # and not the first: keys rest while the dialog is open


def test_keys_rest_while_typing(quiet_page: Page):
    page = quiet_page
    ready(page)
    page.get_by_label("Price, lower edge in $").click()
    page.keyboard.type("smtp")
    expect(page.get_by_label("Price, lower edge in $")).to_have_value("smtp")
    expect(page).to_have_url(re.compile("/screen"))


LUMINANCE = """() => {
  const style = getComputedStyle(document.documentElement);
  const light = (hex) => {
    const part = [1, 3, 5].map((i) => parseInt(hex.slice(i, i + 2), 16) / 255)
      .map((c) => (c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4));
    return 0.2126 * part[0] + 0.7152 * part[1] + 0.0722 * part[2];
  };
  const names = ["ink", "muted", "accent", "solid", "paper", "sheet", "wash", "accent-wash"];
  return Object.fromEntries(names.map((n) => [n, light(style.getPropertyValue("--f-" + n).trim())]));
}"""


def test_both_themes_keep_their_contrast_and_are_remembered(quiet_page: Page):
    page = quiet_page
    ready(page)
    for theme in ("light", "dark"):
        expect(page.locator("html")).to_have_attribute("data-bs-theme", theme)
        light = page.evaluate(LUMINANCE)

        def contrast(a: str, b: str, light: dict = light) -> float:
            high, low = sorted((light[a], light[b]), reverse=True)
            return (high + 0.05) / (low + 0.05)

        for ground in ("paper", "sheet", "wash", "accent-wash"):
            assert contrast("ink", ground) >= 7
            assert contrast("accent", ground) >= 4.5
            assert contrast("muted", ground) >= 4.5
        assert contrast("solid", "paper") >= 3
        page.keyboard.press("m")
    page.keyboard.press("m")
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-bs-theme", "dark")


def test_focus_is_visible_on_everything_that_takes_it(quiet_page: Page):
    page = quiet_page
    keep_first_three(page)
    page.locator("body").click(position={"x": 1, "y": 1})
    seen = set()
    for _ in range(60):
        page.keyboard.press("Tab")
        shown = page.evaluate("""() => {
          const at = document.activeElement;
          const style = getComputedStyle(at);
          const grip = at.querySelector?.(".grip");
          const mark = style.outlineStyle !== "none" || at.closest(".grid:has(table:focus-visible)")
            || at.matches(".segments input") || (grip && getComputedStyle(grip).stroke !== "none");
          return [at.tagName + "." + (at.getAttribute("class") ?? ""), Boolean(mark) || at === document.body];
        }""")
        seen.add(shown[0])
        assert shown[1], f"{shown[0]} has focus and does not show it"
    assert len(seen) > 6


def test_a_database_that_goes_away_and_comes_back_loses_nothing(quiet_page: Page, server: LocalServer):
    page = quiet_page
    kept = keep_first_three(page)
    server.stop()
    try:
        page.keyboard.press("ArrowDown")
        fourth = page.locator("tr[aria-selected=true] td.col-symbol").inner_text()
        page.keyboard.press("t")
        expect(page.locator(".notice")).to_contain_text("The database does not answer. Nothing was changed")
        expect(page.locator(".notice")).to_contain_text("Your change of the tray is kept and will be sent.")
        expect(page.locator("tr[aria-rowindex='4']")).to_be_visible()
        before = page.locator(".results h2").inner_text()
        lower = page.get_by_label("Implied over historical volatility, lower edge in ×")
        lower.fill("1.3")
        lower.press("Enter")
        expect(page.locator(".results h2")).not_to_have_text(before)
    finally:
        server.start()
    expect(page.locator(".results h2")).not_to_contain_text("before your last change")
    expect(chips(page)).to_have_text([*kept, fourth])
    expect(page.locator(".notice")).to_have_count(0)


def test_what_is_still_being_made_is_said_on_every_page(quiet_page: Page, engine: Engine):
    said = quiet_page.get_by_role("status").filter(has_text="Not there yet")
    say_coming(engine, "earlier chains and minute bars", 40)
    try:
        # The server looks every two seconds, when it is asked, and a page asks again after fifteen.
        until(lambda: quiet_page.request.get("/api/market").json()["coming"])
        for path in ("/screen", "/dossier/TARNO", "/lineup"):
            quiet_page.goto(path)
            expect(said).to_contain_text("40 %", timeout=20_000)
            expect(said).to_contain_text("earlier chains and minute bars")
            expect(said.get_by_role("progressbar")).to_have_attribute("value", "40")
        say_coming(engine, "earlier chains and minute bars", 90)
        expect(said).to_contain_text("90 %", timeout=20_000)
    finally:
        say_coming(engine, None, 0)
    expect(said).to_have_count(0, timeout=20_000)

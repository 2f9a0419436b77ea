"""Structures in a browser: from names to sell premium on to a plan with exits that is there after a reload."""

import re

from playwright.sync_api import Locator, Page
from tests.browser.settled import expect
from tests.browser.test_frame import chips, tray


def rows(page: Page) -> Locator:
    return page.get_by_role("grid", name="Structures that survive").locator("tbody tr")


def shown(page: Page) -> int:
    found = re.match(r"([\d,]+) structure", page.locator(".results h2").inner_text())
    return int(found.group(1).replace(",", "")) if found else -1


def open_page(page: Page, address: str) -> Page:
    page.goto(address)
    expect(rows(page).first).to_be_visible(timeout=30_000)
    return page


def put_five(page: Page) -> list[str]:
    """Five names of the starter for sellers in the tray, by the keys."""
    page.goto("/screen?screen=s-premium-to-sell")
    expect(page.locator("tr[aria-rowindex='6']")).to_be_visible()
    page.keyboard.press("r")
    for _ in range(5):
        page.keyboard.press("ArrowDown")
        page.keyboard.press("t")
    expect(chips(page)).to_have_count(5)
    return chips(page).all_inner_texts()


def test_an_evening_from_premium_to_sell_to_a_plan(quiet_page: Page):
    page = quiet_page
    names = put_five(page)
    page.keyboard.press("k")
    expect(page).to_have_url(re.compile("/structures"))
    expect(page.locator(".search-form")).to_be_visible()
    page.keyboard.press("f")
    kinds = page.get_by_role("group", name="Kinds of structures")
    kinds.get_by_label("Put credit vertical").uncheck()
    kinds.get_by_label("Call credit vertical").uncheck()
    expect(kinds.get_by_label("Iron condor")).to_be_checked()
    page.keyboard.press("Escape")
    page.get_by_role("button", name="fold up").click()
    expect(rows(page).first).to_contain_text("Iron condor", timeout=30_000)
    before = shown(page)
    assert before > 50
    # An edge of the chance of profit moves, and fewer are left.
    card = page.locator(".rule").first
    card.get_by_role("textbox").first.fill("60")
    card.get_by_role("textbox").first.press("Enter")
    expect(page).to_have_url(re.compile("chance_of_profit_past\\+%3E%3D\\+60|chance_of_profit_past%20%3E%3D%2060|60"))
    expect(page.locator(".results h2")).not_to_have_text(re.compile(f"^{before:,} "))
    assert 0 < shown(page) < before
    # Where the three opinions disagree is told in words beside the drawing.
    said = rows(page).first.locator(".opinions").get_attribute("aria-label")
    assert re.match(r"Chance of profit: market \d+ %, past \d+ %, forecast \d+ %", said)
    # The front, and its knee.
    page.get_by_label("front", exact=True).check(force=True)
    front = page.get_by_role("application")
    expect(front).to_be_visible()
    expect(page.locator(".front-figure header")).to_contain_text("no other beats")
    front.focus()
    page.keyboard.press("Home")
    page.keyboard.press("ArrowRight")
    chosen = rows(page).locator("xpath=self::tr[@aria-selected='true']")
    expect(chosen).to_have_count(1)
    # The knee, which the figure names from the start.
    page.keyboard.press("ArrowUp")
    expect(page.locator(".front-chart .name")).to_have_count(1)
    knee = page.locator(".front-chart .name").text_content()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/structure/[A-Z]{5}\\?legs="))
    symbol = re.search(r"/structure/([A-Z]{5})", page.url).group(1)
    assert knee.startswith(symbol)
    assert symbol in names
    heading = page.get_by_role("heading", level=1)
    expect(heading).to_have_text(re.compile("Iron condor"))
    # It is laid under what comes of it, and a strike is moved by the keys.
    legs = page.locator("tr[data-leg]")
    expect(legs).to_have_count(4)
    strike = legs.nth(2).locator("td").nth(2)
    first = float(strike.inner_text())
    page.keyboard.press("v")
    expect(page).to_have_url(re.compile("vs="))
    legs.nth(2).focus()
    page.keyboard.press("ArrowLeft")
    expect(strike).not_to_have_text(f"{first:.2f}")
    assert float(strike.inner_text()) < first
    expect(page.locator(".verdicts .other").first).to_be_visible()
    expect(legs.nth(2)).to_be_focused()
    # The plan.
    page.get_by_role("button", name=re.compile("^plan")).click()
    form = page.get_by_role("region", name="Plan")
    form.get_by_label("Leave: a profit of % of the greatest").fill("50")
    form.get_by_label("Leave: with days left").fill("15")
    form.get_by_label("Notes").fill("<b>sell</b> into strength")
    form.get_by_role("button", name="keep as a plan").click()
    expect(form.get_by_role("heading", name="The plan for it")).to_be_visible()
    page.reload()
    expect(tray(page).locator(".chip", has_text=symbol).locator(".chip-plans")).to_have_text("1")
    tray(page).get_by_role("button", name=re.compile("^plans")).click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Iron condor")
    expect(dialog).to_contain_text("a profit of 50 % of the greatest profit")
    expect(dialog).to_contain_text("15 days left")
    expect(dialog).to_contain_text("<b>sell</b> into strength")
    dialog.get_by_role("link", name=re.compile("Iron condor")).click()
    drop = page.get_by_role("button", name="drop it")
    drop.click()
    expect(page.get_by_role("heading", name="Make it a plan")).to_be_visible()
    expect(tray(page).get_by_role("button", name=re.compile("^plans"))).to_have_count(0)


def test_a_plan_carries_why_its_name_came(quiet_page: Page):
    """With an empty tray the page makes structures of a ready screen's names: a plan says which, and the name's values."""
    page = quiet_page
    page.goto("/structures")
    expect(rows(page).first).to_be_visible(timeout=30_000)
    rows(page).first.click()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(r"/structure/.*from=screen"))
    page.get_by_role("button", name=re.compile("^plan")).click()
    why = page.get_by_role("textbox", name="Why")
    expect(why).to_have_value(re.compile(r"Premium to sell · .*iv_rank.* · .*\d"))
    page.get_by_role("button", name="keep as a plan").click()
    expect(page.get_by_role("heading", name="The plan for it")).to_be_visible()
    expect(tray(page).locator(".chip")).to_have_count(1)
    page.get_by_role("button", name="drop it").click()
    expect(page.get_by_role("heading", name="Make it a plan")).to_be_visible()


def test_plans_are_held_together_and_one_is_left_out(quiet_page: Page, two_plans: list[str]):
    page = quiet_page
    page.goto("/screen")
    expect(tray(page).get_by_role("button", name=re.compile("^plans"))).to_be_visible()
    page.keyboard.press("i")
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("together", exact=True).check(force=True)
    together = dialog.get_by_role("table", name="Plans together")
    expect(together.locator("tbody tr")).to_have_count(2)
    expect(together.locator("tfoot")).to_contain_text("2 structures")

    def numbers(row: Locator) -> list[int]:
        cells = row.locator("td").all_inner_texts()[1:]
        return [int(cell.replace("−", "-").replace("+", "").replace(",", "")) for cell in cells]

    first, other, both = (
        numbers(together.locator(part)) for part in ("tbody tr >> nth=0", "tbody tr >> nth=1", "tfoot tr")
    )
    assert len(both) == 9
    assert all(abs(a + b - sum_) <= 1 for a, b, sum_ in zip(first, other, both, strict=True))
    assert first[0] > 0 > first[5]
    correlations = dialog.locator(".correlations")
    expect(correlations).to_contain_text("VESVI")
    together.get_by_label(re.compile("VESVI")).uncheck()
    expect(together.locator("tfoot")).to_contain_text("1 structure")
    expect(correlations).to_have_count(0)
    assert numbers(together.locator("tfoot tr"))[:4] == first[:4]


def test_survivors_of_a_screen_lead_to_their_structures(quiet_page: Page):
    page = quiet_page
    page.goto("/screen?screen=s-premium-to-sell")
    page.locator(".results-tools").get_by_role("link", name="structures").click()
    expect(page).to_have_url(re.compile("/structures\\?u=screen(:|%3A)s-premium-to-sell"))
    expect(page.get_by_label("Universe").locator("option:checked")).to_have_text("Premium to sell")
    expect(rows(page).first).to_be_visible(timeout=30_000)
    found = re.search(r"on (\d+) names", page.locator(".results h2").inner_text())
    page.keyboard.press("z")
    expect(page.locator(".results h2")).to_contain_text(f"{found.group(1)} names survive")
    # The focused name alone, from what is told of it beside the list.
    page.get_by_label("Peek").get_by_role("link", name=re.compile("^structures")).click()
    expect(page).to_have_url(re.compile("/structures\\?u=name(:|%3A)"))
    expect(page.get_by_label("Universe").locator("option:checked")).to_have_text(re.compile("^[A-Z]{5} alone$"))


def test_a_third_axis_lets_more_stand_on_the_front(quiet_page: Page):
    page = open_page(quiet_page, "/structures?u=name:TARNO&view=front")
    header = page.locator(".front-figure header")

    def on_front() -> int:
        return int(re.search(r"([\d,]+) structures? no other", header.inner_text()).group(1).replace(",", ""))

    two = on_front()
    header.get_by_role("button", name="one more axis").click()
    page.get_by_label("Axis 3", exact=True).select_option("-quoted_width_pct")
    expect(header).not_to_contain_text(f"{two} structure")
    assert on_front() > two
    expect(page.locator(".front-chart .name").first).to_contain_text("%")
    page.get_by_label("Without axis 3").click()
    expect(header).to_contain_text(f"{two} structure")


def test_a_debit_vertical_to_an_own_line(quiet_page: Page, no_lines: None):
    page = quiet_page
    page.goto("/dossier/TARNO?view=price")
    expect(page.get_by_role("heading", name="TARNO")).to_be_visible()
    now = float(
        page.locator(".dossier-head .price, .dossier-head b, .dossier-head .big").first.inner_text().replace(",", "")
    )
    level = round(now * 1.06, 1)
    page.request.post("/api/lines", data={"symbol": "TARNO", "price": level, "name": "roof", "note": ""})
    page.reload()
    expect(page.get_by_role("heading", name="TARNO")).to_be_visible()
    page.keyboard.press("g")
    expect(page).to_have_url(re.compile("/structures\\?u=name"))
    expect(page.locator(".search-form")).to_be_visible()
    expect(page.get_by_label("Universe")).to_have_value("name:TARNO")
    page.keyboard.press("f")
    kinds = page.get_by_role("group", name="Kinds of structures")
    for label in ("Put credit vertical", "Call credit vertical", "Iron condor"):
        kinds.get_by_label(label).uncheck()
    kinds.get_by_label("Call debit vertical").check()
    page.get_by_label("What strikes are counted from").select_option("line_above_price")
    expect(page.get_by_label("How strikes are counted")).to_have_value("percent")
    expect(rows(page).first).to_contain_text("Call debit vertical", timeout=30_000)
    page.get_by_role("button", name="fold up").click()
    page.keyboard.press("r")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text("TARNO Call debit vertical")
    sold = page.locator("tr[data-leg]", has_text="−1").locator("td").nth(2)
    assert abs(float(sold.inner_text()) - level) <= 0.02 * now + 0.01
    line = page.locator("tr", has_text="own line above")
    expect(line).to_contain_text(f"{level:.2f}")
    page.keyboard.press("z")
    expect(page).to_have_url(re.compile("/structures\\?"))


def test_legs_are_chosen_in_the_chain_by_click_and_by_key(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/TARNO?view=chain")
    row = page.locator(".chain-table tbody tr.at-money")
    expect(row).to_be_visible()
    strike = row.locator("th").inner_text()
    row.get_by_role("button", name=f"Buy a {strike} call").click()
    told = page.locator(".chosen-legs")
    expect(told).to_contain_text("Long call")
    expect(told).to_contain_text("cost")
    row.focus()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Shift+C")
    expect(told).to_contain_text("Call debit vertical")
    page.keyboard.press("c")
    expect(told).to_contain_text("Long call")
    page.keyboard.press("Shift+C")
    expect(told).to_contain_text("Call debit vertical")
    told.get_by_role("link", name="open as a structure").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("TARNO Call debit vertical")
    expect(page.locator("tr[data-leg]")).to_have_count(2)
    page.keyboard.press("z")
    expect(page.locator(".chosen-legs")).to_contain_text("Call debit vertical")


def test_what_cannot_be_is_said_where_it_is(quiet_page: Page):
    page = quiet_page
    page.goto("/structure/TARNO?legs=%2B1P50.3@2026-10-16")
    expect(page.get_by_role("alert")).to_contain_text("Nearest strikes are")
    page.goto("/structure/TARNO?legs=%3Cscript%3E")
    expect(page.get_by_role("alert")).to_contain_text("cannot be read")
    page.goto("/structure/TARNO")
    expect(page.get_by_role("alert")).to_contain_text("names no legs")
    page.goto("/structures?u=tray")
    expect(page.locator(".results")).to_contain_text("The tray is empty")
    page.goto(
        '/structures?u=name:TARNO&q={"kinds":["iron_condor"],"low":0.01,"high":0.6,"most_width":900,"balanced":false,"least_days":0,"most_days":400}'
    )
    expect(page.get_by_role("alert")).to_contain_text("times what one search may", timeout=30_000)
    page.goto("/structures?u=name:TARNO&q=nonsense")
    expect(rows(page).first).to_be_visible(timeout=30_000)


def test_the_frame_holds_the_page_and_the_record_tells_how_good_opinions_were(quiet_page: Page):
    page = open_page(quiet_page, "/structures?u=name:TARNO")
    assert not page.evaluate(
        "document.documentElement.scrollHeight > innerHeight || document.body.scrollWidth > innerWidth"
    )
    page.keyboard.press("3")
    record = page.get_by_role("region", name="What was said and what came")
    expect(record).to_contain_text(re.compile("Nearest was|None was nearer"), timeout=90_000)
    expect(record.get_by_role("img").first).to_be_visible()
    record.get_by_role("button", name="show as table").first.click()
    expect(record.get_by_role("table").first).to_contain_text("±1.00")
    page.keyboard.press("1")
    expect(rows(page).first).to_be_visible()
    page.keyboard.press("2")
    expect(page.get_by_role("application")).to_be_visible()


def test_a_search_is_saved_with_what_it_makes(quiet_page: Page):
    page = open_page(quiet_page, '/structures?u=name:TARNO&q={"kinds":["long_call"],"low":0.2,"high":0.6}')
    page.get_by_role("button", name="save as").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name").fill("calls on TARNO")
    dialog.get_by_role("button", name=re.compile("^(save|keep)")).first.click()
    expect(page).to_have_url(re.compile(r"screen=\d+"))
    page.goto(page.url.split("&at=")[0])
    expect(rows(page).first).to_contain_text("Long call", timeout=30_000)
    expect(page.locator(".search-form p")).to_contain_text("Long call · 20–60 days · delta 0.20–0.60")
    number = re.search(r"screen=(\d+)", page.url).group(1)
    page.request.delete(f"/api/screens/{number}")


def test_an_empty_tray_is_greeted_with_names_worth_a_look(quiet_page: Page):
    page = quiet_page
    page.goto("/structures")
    expect(page).to_have_url(re.compile("u=screen(:|%3A)s-premium-to-sell"))
    expect(page.locator(".results .hint")).to_contain_text("The tray is empty")
    expect(rows(page).first).to_be_visible()
    assert shown(page) > 100
    page.get_by_label("Universe").select_option("tray")
    expect(page.locator(".results .hint")).to_have_count(0)
    expect(page.locator(".results")).to_contain_text("The tray is empty. Put names in it")

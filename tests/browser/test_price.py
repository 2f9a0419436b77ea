"""The Dossier's price in a browser: bars of any length, layers, and the cross, by mouse, fingers and keyboard."""

import re

from flask.testing import FlaskClient
from playwright.sync_api import Locator, Page
from tests.browser.screen_page import add_rule
from tests.browser.settled import expect


def open_price(page: Page, more: str = "", symbol: str = "VUSVO") -> Locator:
    page.goto(f"/dossier/{symbol}?view=price{more}")
    chart = page.get_by_role("application")
    expect(chart).to_be_visible()
    expect(page.locator(".level-tags .now")).to_be_visible()
    return chart


def cross(page: Page) -> Locator:
    return page.locator(".cross")


def test_it_is_one_key_away_and_its_cross_tells_price_and_distance(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/VUSVO")
    expect(page.locator(".dossier-head")).to_be_visible()
    page.keyboard.press("8")
    expect(page).to_have_url(re.compile("view=price"))
    chart = page.get_by_role("application", name="VUSVO in bars of a day")
    expect(cross(page)).to_contain_text("9 Sep 2026: open 122.75, high 124.18, low 122.55, close 123.82")
    chart.focus()
    page.keyboard.press("ArrowLeft")
    expect(cross(page)).to_contain_text("123.82 8 Sep 2026 · 0.00 %, 0.00 σ from 123.82")
    for _ in range(4):
        page.keyboard.press("Shift+ArrowDown")
    told = re.search(r"^([\d.]+) .* · −([\d.]+) %, −([\d.]+) σ from 123.82", cross(page).inner_text())
    assert told, cross(page).inner_text()
    price, percent, moves = map(float, told.groups())
    assert abs(percent - 100 * (1 - price / 123.82)) < 0.01
    assert abs(moves - (123.82 - price) / 1.72) < 0.03
    assert not page.evaluate(
        "document.documentElement.scrollHeight > innerHeight || document.body.scrollWidth > innerWidth"
    )


def test_it_zooms_and_pans_by_wheel_drag_and_keys(quiet_page: Page):
    page = quiet_page
    chart = open_price(page)
    box = chart.bounding_box()
    assert box
    left, right, middle = box["x"] + 60, box["x"] + box["width"] - 150, box["y"] + 150

    def oldest_is(words: str) -> None:
        page.mouse.move(left + 1, middle)
        page.mouse.move(left, middle)
        expect(cross(page)).to_contain_text(re.compile(words))

    oldest_is("(Feb|Mar) 2026")
    page.mouse.move(right, middle)
    for _ in range(4):
        page.mouse.wheel(0, -300)
    oldest_is("(Jul|Aug|Sep) 2026")
    page.mouse.move(right, middle)
    for _ in range(8):
        page.mouse.wheel(0, 300)
    expect(cross(page)).to_contain_text(re.compile("Sep 2026"))
    oldest_is("202[45]")
    page.mouse.dblclick(right, middle)
    oldest_is("(Feb|Mar) 2026")
    page.mouse.move(left + 200, middle)
    page.mouse.down()
    page.mouse.move(left + 600, middle, steps=4)
    page.mouse.up()
    oldest_is("(Dec|Jan) ")
    page.mouse.wheel(-400, 0)
    oldest_is("(Sep|Oct|Nov) 2025")
    chart.focus()
    page.keyboard.press("Home")
    oldest_is("Sep 2024")
    page.keyboard.press("End")
    oldest_is("(Feb|Mar) 2026")
    page.keyboard.press("-")
    oldest_is("(Nov|Dec|Jan) ")
    # Two fingers that part: fewer bars, the ones between them.
    page.mouse.dblclick(right, middle)
    oldest_is("(Feb|Mar) 2026")
    chart.evaluate(
        """(chart, [x, y]) => {
            const send = (type, id, at) => chart.dispatchEvent(new PointerEvent(type, {
                pointerId: id, pointerType: 'touch', clientX: at, clientY: y, bubbles: true }))
            chart.setPointerCapture = () => {}
            send('pointerdown', 11, x - 100)
            send('pointerdown', 12, x + 100)
            for (let i = 1; i <= 10; i++) {
                send('pointermove', 11, x - 100 - 20 * i)
                send('pointermove', 12, x + 100 + 20 * i)
            }
            send('pointerup', 11, x - 300)
            send('pointerup', 12, x + 300)
        }""",
        [(left + right) / 2, middle],
    )
    oldest_is("(May|Jun) 2026")


def test_a_headline_stands_at_its_bar(quiet_page: Page, client: FlaskClient):
    page = quiet_page
    news = client.get("/api/dossier/price/VUSVO?layers=news").json["news"]
    newest, last = news[-1], 503
    chart = open_price(page)
    expect(cross(page)).not_to_contain_text("Vusvo Relay")
    chart.focus()
    for _ in range(last - newest["bar"]):
        page.keyboard.press("ArrowLeft")
    expect(cross(page)).to_contain_text(newest["headlines"][0]["headline"])
    page.keyboard.press("ArrowLeft")
    expect(cross(page)).not_to_contain_text("Vusvo Relay")
    page.keyboard.press("ArrowRight")
    expect(cross(page)).to_contain_text(newest["headlines"][0]["headline"])
    page.get_by_role("button", name="layers (5)").click()
    page.get_by_label("News").uncheck()
    expect(cross(page)).not_to_contain_text("Vusvo Relay")


def test_layers_are_switched_remembered_and_in_the_address(quiet_page: Page):
    page = quiet_page
    open_price(page)
    page.get_by_role("button", name="layers (5)").click()
    page.get_by_label("Shelves").check()
    page.get_by_label("Flip and peaks").check()
    tags = page.locator(".level-tags text")
    expect(tags.filter(has_text="shelf")).not_to_have_count(0)
    expect(tags.filter(has_text="flip")).to_have_count(1)
    page.get_by_label("Averages drawn").fill("ema 21, sma 200")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(r"averages=ema\+21%2C\+sma\+200"))
    page.keyboard.press("Escape")
    page.get_by_text("15 min").click()
    expect(page.get_by_role("application", name="VUSVO in bars of 15 minutes")).to_be_visible()
    page.get_by_label("all hours").check()
    expect(page).to_have_url(re.compile("hours=all"))
    # Another name begins as this one was left, and its address says how.
    page.goto("/dossier/BRIVI?view=price")
    expect(page.get_by_role("application", name="BRIVI in bars of 15 minutes")).to_be_visible()
    expect(page.get_by_role("button", name="layers (7)")).to_be_visible()
    expect(page).to_have_url(re.compile("bars=15"))
    page.get_by_role("button", name="show as table").click()
    table = page.locator(".figure-table table").last
    expect(table.locator("thead")).to_contain_text("ema 21")
    expect(table.locator("tbody tr")).not_to_have_count(0)
    expect(page.locator(".figure-table table").first).to_contain_text("flip")


def test_metrics_below_and_what_cannot_be_drawn_is_said(quiet_page: Page):
    page = quiet_page
    open_price(page)
    page.get_by_label("Metric below", exact=True).fill("iv30")
    page.get_by_label("Second metric below").fill("close > sma(close, ")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("close > sma(close,: ")
    page.get_by_label("Second metric below").fill("rsi(14)")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_have_count(0)
    page.get_by_text("60 min").click()
    expect(page.get_by_role("alert")).to_contain_text("iv30 is a daily value")
    page.goto("/dossier/VUSVO?view=price&bars=5&asof=2026-03-02")
    expect(page.locator(".not-kept")).to_contain_text("are not kept; choose bars of a day")
    page.goto("/dossier/VUSVO?view=price&averages=three")
    expect(page.locator("main")).to_contain_text("'three' is no average")
    page.get_by_role("button", name="layers").click()
    page.get_by_label("Averages drawn").fill("sma 20")
    page.keyboard.press("Enter")
    expect(page.get_by_role("application")).to_be_visible()


def own(page: Page) -> Locator:
    return page.locator(".own-lines-part")


def test_an_own_line_is_put_by_click_key_and_typing_and_each_step_is_undone(quiet_page: Page, no_lines):
    page = quiet_page
    chart = open_price(page, "&layers=volume")
    own(page).get_by_role("button", name="put by a click").click()
    box = chart.bounding_box()
    assert box
    page.mouse.move(box["x"] + 400, box["y"] + 100)
    clicked = cross(page).locator("b").first.inner_text()
    page.mouse.click(box["x"] + 400, box["y"] + 100)
    expect(own(page).get_by_role("status")).to_contain_text(f"A line was put at {clicked}.")
    expect(page.locator(".level-tags .own")).to_have_count(1)
    expect(page.locator(".level-tags .own")).to_contain_text(f"{clicked} own line")
    own(page).get_by_role("button", name="undo").click()
    expect(page.locator(".level-tags .own")).to_have_count(0)
    chart.focus()
    page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("l")
    expect(own(page).locator("tbody tr")).to_have_count(1)
    own(page).get_by_role("button", name=re.compile("Take away")).click()
    expect(own(page).get_by_role("status")).to_contain_text("was taken away")
    expect(own(page).locator("tbody tr")).to_have_count(0)
    own(page).get_by_role("button", name="undo").click()
    expect(own(page).locator("tbody tr")).to_have_count(1)
    own(page).get_by_label("Price of a new line").fill("125.5")
    own(page).get_by_label("Name of a new line").fill("roof")
    page.keyboard.press("Enter")
    line = own(page).locator("tbody tr").first
    expect(line).to_contain_text("+1.36")
    expect(line).to_contain_text("% priced")
    expect(line).to_contain_text("% past")
    priced = int(re.search(r"(\d+) % priced", line.inner_text()).group(1))  # type: ignore[union-attr]
    own(page).get_by_label("By which day").fill("2026-12-18")
    expect(page).to_have_url(re.compile("by=2026-12-18"))
    expect(line).not_to_contain_text(f"{priced} % priced")
    own(page).get_by_label("Note on the line at 125.5").fill("turned back in August")
    page.keyboard.press("Enter")
    expect(own(page).get_by_role("status")).to_contain_text("was changed")
    page.reload()
    expect(own(page).get_by_label("Note on the line at 125.5")).to_have_value("turned back in August")
    own(page).get_by_label("Price of a new line").fill("-3")
    expect(own(page).get_by_role("button", name="put", exact=True)).to_be_disabled()


def test_a_line_is_dragged_and_stands_on_every_price_axis_and_in_a_screen(quiet_page: Page, no_lines):
    page = quiet_page
    chart = open_price(page, "&layers=volume&bars=15")
    own(page).get_by_label("Price of a new line").fill("122")
    own(page).get_by_label("Name of a new line").fill("floor")
    page.keyboard.press("Enter")
    tag = page.locator(".level-tags .own")
    expect(tag).to_contain_text("122.00 floor")
    path = page.locator(".price-chart .own-lines path").bounding_box()
    box = chart.bounding_box()
    assert path
    assert box
    page.mouse.move(box["x"] + 300, path["y"])
    expect(chart).to_have_class(re.compile("on-line"))
    page.mouse.down()
    page.mouse.move(box["x"] + 300, path["y"] + 60, steps=5)
    page.mouse.up()
    expect(own(page).get_by_role("status")).to_contain_text(re.compile(r"moved from 122\.00 to 12[01]\.\d\d"))
    expect(tag).not_to_contain_text("122.00 floor")
    own(page).get_by_role("button", name="undo").click()
    expect(tag).to_contain_text("122.00 floor")
    for view in ("moves", "prints", "positioning"):
        page.goto(f"/dossier/VUSVO?view={view}")
        expect(page.locator("svg text", has_text="floor").first).to_be_visible()
    page.goto("/screen")
    add_rule(page, "line_below >= -2")
    grid = page.get_by_role("grid")
    expect(grid.locator("tbody tr")).to_have_count(1)
    expect(grid).to_contain_text("VUSVO")
    page.goto("/dossier/VUSVO?view=price&asof=2026-09-08")
    expect(own(page)).to_contain_text("1 line put there after this session")

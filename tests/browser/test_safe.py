"""Whatever text a user or an address brings is shown as text; and what two windows change is not lost."""

from __future__ import annotations

import re
from urllib.parse import quote

import pytest
from playwright.sync_api import Browser, Page
from tests.browser.settled import expect

SCRIPT = "<img src=x onerror=alert(1)>"


def watched(page: Page) -> list[str]:
    """What scripts that came as text would do."""
    said: list[str] = []
    page.on("dialog", lambda dialog: (said.append(dialog.message), dialog.dismiss()))
    return said


@pytest.fixture
def own_metric(quiet_page: Page):
    """A metric whose label and unit are HTML."""
    body = {"key": "spiked", "label": SCRIPT, "unit": "<b>%</b>", "expression": "iv30 - hv21"}
    saved = quiet_page.request.post("/api/own-metrics", data=body).json()
    yield saved
    quiet_page.request.delete(f"/api/own-metrics/{saved['id']}")


def test_no_text_of_an_address_or_a_user_becomes_script(quiet_page: Page, own_metric: dict):
    page = quiet_page
    said = watched(page)
    spike = quote(SCRIPT)
    for address, there in (
        (f"/screen?view=map&shade={spike}", ".map-chart svg, .map-chart canvas"),
        ("/screen?view=map&shade=spiked", ".map-chart svg, .map-chart canvas"),
        (f"/screen?r={quote('spiked >= -900')}&cols=price%0Aspiked", ".results tbody tr"),
        (f"/screen?r={spike}", ".rule"),
        (f"/screen?evidence=1&side={spike}&r={quote('iv_rank >= 50')}", ".evidence"),
        ("/dossier/TARNO?over=spiked", ".figure canvas, .figure svg"),
        (f"/dossier/TARNO?over={spike}", ".figure"),
        (f"/dossier/{spike}", "main"),
        (f"/handbook/{spike}", "main"),
        ("/handbook/spiked", "main"),
        (f"/lineup?of={spike}", "main"),
    ):
        page.goto(address)
        expect(page.locator(there).first).to_be_visible()
        # A hand that passes over the page, so that tooltips open.
        box = page.locator(there).first.bounding_box() or {"x": 400, "y": 300, "width": 400, "height": 300}
        for part in (0.3, 0.5, 0.7):
            page.mouse.move(box["x"] + part * box["width"], box["y"] + part * min(box["height"], 500))
        assert page.locator("img[src='x']").count() == 0, address
    assert said == []


def test_a_map_tells_its_label_as_it_is(quiet_page: Page, own_metric: dict):
    page = quiet_page
    page.goto("/screen?view=map&shade=spiked")
    chart = page.locator(".map-chart")
    expect(chart.locator("svg, canvas").first).to_be_visible()
    box = chart.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] / 3, box["y"] + box["height"] / 2, steps=4)
    expect(page.get_by_text(f"{SCRIPT}:", exact=False).first).to_be_visible()


def test_a_screen_changed_in_two_windows_shows_both_and_keeps_the_one_chosen(quiet_page: Page, browser: Browser):
    page = quiet_page
    body = {"universe": "stock", "rules": [{"text": "iv_rank >= 40"}]}
    saved = page.request.post("/api/screens", data={"name": "two windows", "body": body}).json()
    try:
        page.goto(f"/screen?screen={saved['id']}&r={quote('iv_rank >= 70')}")
        expect(page.get_by_role("button", name="save", exact=True)).to_be_visible()
        other = body | {"rules": [{"text": "iv_rank >= 55"}]}
        page.request.put(f"/api/screens/{saved['id']}", data={"name": "two windows", "body": other, "version": 1})
        page.get_by_role("button", name="save", exact=True).click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("was changed in another window")
        expect(dialog).to_contain_text("iv_rank >= 55")
        expect(dialog).to_contain_text("iv_rank >= 70")
        dialog.get_by_role("button", name="keep mine instead").click()
        expect(dialog).to_have_count(0)
        expect(page.locator(".said")).to_have_text("saved")
        kept = next(s for s in page.request.get("/api/screens").json()["saved"] if s["id"] == saved["id"])
        assert [rule["text"] for rule in kept["body"]["rules"]] == ["iv_rank >= 70"]
    finally:
        page.request.delete(f"/api/screens/{saved['id']}")


def test_an_answer_that_got_lost_does_not_save_twice(quiet_page: Page):
    page = quiet_page
    lost: list[str] = []

    def lose(route) -> None:
        if route.request.method == "POST" and not lost:
            # The server keeps it; the answer never arrives.
            route.fetch()
            lost.append(route.request.headers.get("idempotency-key", ""))
            route.abort()
        else:
            route.continue_()

    page.route("**/api/screens?*", lose)
    page.goto(f"/screen?r={quote('iv_rank >= 61')}")
    page.get_by_role("button", name="save as").click()
    page.get_by_role("dialog").get_by_label("Name").fill("kept once")
    page.get_by_role("dialog").get_by_role("button", name="save", exact=True).click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    saved = [s for s in page.request.get("/api/screens").json()["saved"] if s["name"] == "kept once"]
    for screen in saved:
        page.request.delete(f"/api/screens/{screen['id']}")
    assert len(saved) == 1
    assert re.fullmatch(r"[0-9a-f-]{36}", lost[0])


def test_the_first_page_says_what_can_be_asked_and_shows_a_name(quiet_page: Page):
    page = quiet_page
    page.goto("/screen")
    asking = page.get_by_role("navigation", name="Questions to begin with")
    expect(asking.get_by_role("button")).to_have_count(10)
    expect(page.locator(".peek-body h2")).to_have_text(
        page.locator(".results tbody tr").first.locator("td, th").first.inner_text()
    )
    asking.get_by_role("button", name="Premium to sell").click()
    expect(page).to_have_url(re.compile("screen=s-premium-to-sell"))
    expect(asking).to_have_count(0)


def test_a_rule_that_is_added_comes_into_view_with_its_number_as_a_column(quiet_page: Page):
    page = quiet_page
    page.goto("/screen")
    box = page.get_by_label("Add a rule")
    box.fill("skew_percentile >= 80")
    box.press("Enter")
    card = page.get_by_role("region", name="Rule 10: skew_percentile >= 80")
    expect(card).to_be_in_viewport(ratio=0.9)
    expect(box).to_be_focused()
    expect(page.get_by_role("columnheader", name=re.compile("^Skew pctl"))).to_be_visible()


def test_an_error_points_into_a_long_text_and_the_box_shows_all_of_it(quiet_page: Page):
    page = quiet_page
    page.goto("/screen")
    box = page.get_by_label("Add a rule")
    box.fill("close > sma(close, 50) and volume > 2 * mean(volume, 50) and iv_rnk > 3")
    expect(page.locator(".rule-pointed mark")).to_have_text("iv_rnk")
    assert box.evaluate("box => box.scrollHeight <= box.clientHeight + 1"), "nothing of it is hidden"


def test_a_wide_window_gives_its_room_to_the_company(quiet_page: Page):
    page = quiet_page
    page.set_viewport_size({"width": 1920, "height": 800})
    page.goto("/screen")
    cell = page.locator(".results tbody tr").first.locator("td, th").nth(1)
    expect(cell).to_be_visible()
    assert cell.evaluate("cell => cell.scrollWidth <= cell.clientWidth"), "the whole name can be read"
    grid = page.locator(".results .grid")
    assert grid.evaluate("grid => grid.querySelector('table').clientWidth >= grid.clientWidth - 1")

"""Waiting for something, in a browser: parked by a screen, armed, told on whatever page is open, kept in the log."""

from __future__ import annotations

import dataclasses
import datetime as dt

import pytest
from flask_openapi3 import OpenAPI
from playwright.sync_api import Page
from tests.browser.settled import expect
from tests.waiting import until

from flinch.market import opened
from flinch.store.databases import DEMO

pytestmark = pytest.mark.usefixtures("no_tripwires")


def test_names_are_parked_by_a_screen_and_what_trips_is_told_on_every_page(
    quiet_page: Page, app: OpenAPI, monkeypatch: pytest.MonkeyPatch
):
    page, running = quiet_page, app.extensions["flinch"]
    holder = running.markets.open(DEMO).holder
    first = holder.current()

    def comes(minutes: int, times: float) -> int:
        """So many minutes later a price is so many times what it is; how many names trip."""
        frame, close = first.frame, first.frame.close.copy()
        close[frame.index["GISKO"], -1] *= times
        moved = frame.state.as_of + dt.timedelta(minutes=minutes)
        state = frame.state._replace(as_of=moved, data_version=frame.state.data_version + minutes)
        view = opened(dataclasses.replace(frame, state=state, close=close), first.version.engine)
        monkeypatch.setattr(holder, "current", lambda seconds=0.0: view)
        return int(running.watcher.look(DEMO))

    price = first.price(first.row("GISKO"))
    page.goto("/screen?screen=s-premium-to-sell")
    page.get_by_role("link", name="wait for").click()
    form = page.get_by_role("form", name="A tripwire")
    expect(form.get_by_label("Universe")).to_have_value("screen:s-premium-to-sell")
    form.get_by_label("those of now, kept").check()
    rule = form.get_by_label("The rule")
    rule.fill(f"price > {1.01 * price:.2f}")
    rule.press("Enter")
    form.get_by_label("Name", exact=True).fill("Through the top")
    expect(form.locator(".before svg")).to_be_visible()
    form.get_by_role("button", name="arm it").click()
    mine = page.get_by_role("region", name="Tripwires").get_by_role("listitem")
    expect(mine).to_contain_text("Through the top")
    expect(mine).to_contain_text("on Premium to sell as of 2026-09-09 (64 names now)")
    expect(mine).to_contain_text("armed")
    expect(mine).to_contain_text("has not told anything")
    assert running.watcher.look(DEMO) == 0
    # On another page.
    page.goto("/lineup")
    until(lambda: running.live.listeners() > 0, "the page to listen")
    notice = page.get_by_role("status", name="What tripped")
    expect(notice.get_by_role("listitem")).to_have_count(0)
    assert comes(1, 1.02) == 1
    expect(notice).to_contain_text("GISKO tripped at 15:46")
    expect(notice).to_contain_text("Through the top")
    expect(notice).to_contain_text("Premium to sell as of 2026-09-09")
    expect(page).to_have_title("(1) Lineup · Flinch")
    page.keyboard.press("!")
    expect(notice.get_by_role("link", name="GISKO")).to_be_focused()
    page.keyboard.press("t")
    expect(page.locator(".tray")).to_contain_text("GISKO")
    # Looked at: it is told no more, and stays in the log.
    notice.get_by_role("button", name="dismiss").click()
    expect(notice.get_by_role("listitem")).to_have_count(0)
    expect(page).to_have_title("Lineup · Flinch")
    page.keyboard.press("j")
    expect(mine).to_contain_text("told 1, last 9 Sep 15:46")
    log = page.locator(".tripwire-part tbody tr")
    expect(log).to_have_count(1)
    expect(log).to_contain_text("GISKO")
    expect(log).to_contain_text(f"{1.02 * price:.2f}")
    # Removed, and put back.
    mine.get_by_role("button", name="remove").click()
    expect(mine).to_have_count(0)
    page.get_by_role("button", name="undo", exact=True).click()
    expect(mine).to_contain_text("Through the top")


def test_what_cannot_be_watched_is_told_where_it_is_written(quiet_page: Page):
    page = quiet_page
    page.goto("/tripwires")
    expect(page.get_by_text("None yet.")).to_be_visible()
    page.get_by_role("button", name="make one").click()
    form = page.get_by_role("form", name="A tripwire")
    rule = form.get_by_label("The rule")
    rule.fill("close")
    rule.press("Enter")
    expect(form.get_by_role("alert")).to_contain_text("not from where on")
    form.get_by_role("button", name="arm it").click()
    expect(form.get_by_role("alert").first).to_contain_text("not from where on")
    form.get_by_role("button", name="leave it").click()
    expect(page.get_by_text("None yet.")).to_be_visible()

"""Pages that are told of moments, in a browser: what one changed is asked for again, a break is said and caught up with."""

from __future__ import annotations

import dataclasses
import datetime as dt
import re
from collections.abc import Callable, Iterator

import numpy as np
import pytest
from flask_openapi3 import OpenAPI
from playwright.sync_api import BrowserContext, Page
from sqlalchemy import Engine
from tests.browser.settled import expect, settled, take_time
from tests.waiting import until

from flinch.clock import wall
from flinch.market import opened
from flinch.market.changes import EVERYTHING, Changes
from flinch.store.databases import DEMO
from flinch.store.market.run import say_alive, set_run

Later = Callable[..., None]


@pytest.fixture
def later(app: OpenAPI, monkeypatch: pytest.MonkeyPatch) -> Later:
    """Serve the market as if so many minutes had gone by and prices of some names were so many times what they are, and tell what
    it changed since the version served so before; after the test it is as it was.
    """
    holder = app.extensions["flinch"].markets.open(DEMO).holder
    was = holder.current()

    def serve(minutes: int, times: dict[str, float] | None = None, changed: Changes = EVERYTHING) -> None:
        state, close = was.frame.state, was.frame.close.copy()
        for symbol, by in (times or {}).items():
            close[was.frame.index[symbol], -1] *= by
        moved = state._replace(
            data_version=state.data_version + minutes, as_of=state.as_of + dt.timedelta(minutes=minutes)
        )
        now = opened(dataclasses.replace(was.frame, state=moved, close=close), was.version.engine)
        told = changed._replace(before=holder.current().data_version)
        monkeypatch.setattr(holder, "changed", lambda _: told)
        monkeypatch.setattr(holder, "current", lambda seconds=0.0: now)

    return serve


def listened(app: OpenAPI) -> None:
    until(lambda: app.extensions["flinch"].live.listeners() > 0, "the page to listen")


def asked(page: Page) -> list[str]:
    calls: list[str] = []
    page.on("request", lambda request: calls.append(request.url.partition("/api/")[2].partition("?")[0]))
    return calls


def test_a_moment_is_shown_when_it_comes_and_asks_for_what_is_shown_alone(quiet_page: Page, app: OpenAPI, later: Later):
    page = quiet_page
    page.goto("/screen")
    expect(page.locator(".asof")).to_contain_text("15:45")
    listened(app)
    expect(page.locator(".untold")).to_have_count(0)
    calls = asked(page)
    later(3)
    expect(page.locator(".asof")).to_contain_text("15:48")
    expect(page.locator("tr[aria-rowindex='4']")).to_be_visible()
    pages = {call.partition("/")[0] for call in calls if call}
    # Names, definitions, lists and the tray do not follow from the moment.
    assert {"market", "screen"} <= pages <= {"market", "run", "screen", "peek", "structures"}


def test_what_a_moment_does_not_concern_is_not_asked_again(quiet_page: Page, app: OpenAPI, later: Later):
    page = quiet_page
    page.goto("/dossier/TARNO?view=chain")
    expect(page.locator(".asof")).to_contain_text("15:45")
    expect(page.get_by_text("quotes of 15:45")).to_be_visible()
    listened(app)
    expect(page.locator(".untold")).to_have_count(0)
    calls = asked(page)

    def comes(minute: int, changed: Changes) -> set[str]:
        calls.clear()
        later(minute, None, changed)
        expect(page.locator(".asof")).to_contain_text(f"15:{45 + minute}")
        settled(page)
        return {call for call in calls if call.startswith("dossier/")}

    mine = {"dossier/TARNO", "dossier/chain/TARNO"}
    assert comes(1, Changes(None, ["minute_bars"], ["BELUA"])) == set()
    assert comes(2, Changes(None, ["minute_bars"], ["BELUA", "TARNO"])) == mine
    assert comes(3, Changes(None, ["chains"], [])) == mine
    assert comes(4, Changes(None, ["news"], ["BELUA"])) == set()
    assert comes(5, EVERYTHING) == mine


ROW = "tr[aria-rowindex='{}'] .col-symbol"


def symbols_of(page: Page, count: int) -> list[str]:
    return [page.locator(ROW.format(row + 2)).inner_text().strip() for row in range(count)]


def test_a_list_under_the_hand_keeps_its_order_until_it_is_put_in_another(quiet_page: Page, app: OpenAPI, later: Later):
    """The three dearest of forty to a hundred: one leaves, one comes, one falls behind others."""
    page = quiet_page
    page.goto("/screen?r=40+%3C+price+%3C+100&sort=-price")
    listened(app)
    first, second, third = symbols_of(page, 3)
    held, cell = page.locator(".held"), page.locator(f"#row-{second} .col-price")
    expect(held).to_have_count(0)
    page.keyboard.press("r")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowDown")
    expect(page.locator("tr.focused .col-symbol")).to_have_text(second)
    was = float(cell.inner_text())
    shown = int(page.locator(".results h2 b").inner_text().split()[0])

    gone = {first: 2.0, second: 0.7, outside(app, below=40.0): 1.1}
    later(1, gone)
    expect(held).to_have_text("1 came, 1 left: reorder")
    assert symbols_of(page, 3) == [first, second, third], "nothing changes its place"
    expect(page.locator(f"#row-{first}")).to_contain_text("left the list")
    expect(cell).to_have_text(f"{was * 0.7:.2f}")
    expect(page.locator("tr.focused .col-symbol")).to_have_text(second)
    expect(page.locator(".results h2 b")).to_have_text(f"{shown} names survive")

    page.keyboard.press("2")
    expect(page.locator(f"#tile-{first}")).to_contain_text("left the list")
    page.keyboard.press("1")
    expect(held).to_have_text("1 came, 1 left: reorder")
    page.keyboard.press("r")

    page.keyboard.press("w")
    expect(held).to_have_count(0)
    expect(page.locator("tr.focused .col-symbol")).to_have_text(second)
    assert int(page.locator("tr.focused").get_attribute("aria-rowindex") or 0) > 20, "it is shown where it fell to"
    expect(page.locator("tr.left")).to_have_count(0)
    page.keyboard.press("Home")
    expect(page.locator(ROW.format(2))).to_have_text(third)

    # What is asked for anew comes in its own order, and what nobody's hand changed is not told of.
    later(2, gone | {third: 0.6})
    expect(held).to_have_text("another order by now: reorder")
    page.locator("th.col-price button.column").click()
    expect(held).to_have_count(0)


def outside(app: OpenAPI, below: float) -> str:
    """The symbol of the dearest name below a price."""
    frame = app.extensions["flinch"].markets.open(DEMO).holder.current().frame
    price = frame.close[:, -1]
    return str(frame.names[int(np.argmax(np.where(price <= below, price, -1.0)))].symbol)


def test_what_a_moment_changed_is_marked_and_who_wants_no_motion_sees_it_still(
    quiet_page: Page, app: OpenAPI, later: Later
):
    page = quiet_page
    page.emulate_media(reduced_motion="reduce")
    page.goto("/screen?sort=-price")
    listened(app)
    first, second = symbols_of(page, 2)
    told = page.locator("[data-told]")
    expect(told).to_have_count(0)
    later(1, {second: 1.001})
    expect(page.locator(f"#row-{second} .col-price")).to_have_attribute("data-told", "")
    expect(page.locator(f"#row-{second} .col-company[data-told]")).to_have_count(0)
    expect(page.locator(f"#row-{first} [data-told]")).to_have_count(0)
    later(2, {second: 1.001})
    expect(page.locator(".asof")).to_contain_text("15:47")
    expect(told).to_have_count(0)


def test_while_a_moment_is_asked_for_the_page_keeps_what_it_showed(quiet_page: Page, app: OpenAPI, later: Later):
    page = quiet_page
    page.goto("/dossier/TARNO")
    expect(page.get_by_role("heading", level=1)).to_be_visible()
    listened(app)
    page.evaluate(
        """() => {
          window.gone = 0;
          const heading = document.querySelector("h1");
          new MutationObserver(() => { if (!heading.isConnected) window.gone += 1; })
            .observe(document.querySelector("main"), { childList: true, subtree: true });
        }"""
    )
    later(2)
    expect(page.locator(".asof")).to_contain_text("15:47")
    assert page.evaluate("window.gone") == 0


def test_a_break_is_said_and_what_came_meanwhile_is_caught_up_with(quiet_page: Page, app: OpenAPI, later: Later):
    page = quiet_page
    page.goto("/screen")
    listened(app)
    expect(page.locator(".untold")).to_have_count(0)
    # Whoever listens is cut off, and cannot come back for a while.
    page.route("**/api/live*", lambda route: route.abort())
    for streams in app.extensions["flinch"].live._listeners.values():
        for stream in list(streams):
            stream.end()
    expect(page.locator(".untold")).to_have_text("catching up · ")
    later(4)
    page.unroute("**/api/live*")
    expect(page.locator(".asof")).to_contain_text("15:49", timeout=20_000)
    expect(page.locator(".untold")).to_have_count(0)


def test_a_window_is_told_as_long_as_the_server_says_so_and_no_longer(
    quiet_page: Page, context: BrowserContext, app: OpenAPI, monkeypatch: pytest.MonkeyPatch
):
    page = quiet_page
    monkeypatch.setattr("flinch.live._BEAT_SECONDS", 0.0)
    other = context.new_page()
    for one in (page, other):
        one.clock.install()
        one.goto("/screen")
        expect(one.locator(".asof")).to_contain_text("15:45")
    listened(app)
    # Two minutes of a market that stands still.
    for _ in range(6):
        for one in (page, other):
            heard(one)
            one.clock.run_for(20_000)
            expect(one.locator(".untold")).to_have_count(0)
    # The server falls silent, and nothing breaks.
    monkeypatch.setattr("flinch.live._BEAT_SECONDS", 1e9)
    heard(page)
    for one in (page, other):
        one.clock.run_for(40_000)
        expect(one.locator(".untold")).to_have_count(1)
    other.close()


def heard(page: Page) -> None:
    """Some beats have come since."""
    take_time(page, 600)


def test_windows_on_a_market_share_one_stream_and_another_takes_it_over(
    quiet_page: Page, context: BrowserContext, app: OpenAPI, later: Later
):
    first, live = quiet_page, app.extensions["flinch"].live
    first.goto("/screen")
    until(lambda: live.listeners() == 1, "the first window to listen")
    second = context.new_page()
    second.goto("/screen")
    later(1)
    for page in (first, second):
        expect(page.locator(".asof")).to_contain_text("15:46")
    assert live.listeners() == 1
    first.goto("about:blank")
    take_time(second, 200)
    later(2)
    expect(second.locator(".asof")).to_contain_text("15:47", timeout=20_000)
    second.close()


@pytest.fixture
def still(engine: Engine) -> Iterator[None]:
    """Nobody runs the market of all tests; before and afterwards it is to stand still."""
    set_run(engine, 0, None)
    yield
    set_run(engine, 0, None)


def test_the_market_is_let_run_in_the_top_bar_and_says_how_it_does(quiet_page: Page, engine: Engine, still: None):
    page = quiet_page
    page.goto("/screen")
    button = page.locator(".topbar .run")
    expect(button).to_have_text("still")
    say_alive(engine, wall())
    button.click()
    expect(page.get_by_role("button", name="stand still")).to_have_class(re.compile("active"))
    page.get_by_role("button", name="run 10 times as fast").click()
    expect(button).to_have_text("10 ×")
    say_alive(engine, wall(), 180.0)
    expect(button).to_have_text("10 × (late)")
    expect(button).to_have_attribute("title", re.compile("3 min of the market behind"))
    # A source that says nothing is seen without anybody asking.
    say_alive(engine, wall() - dt.timedelta(seconds=30))
    expect(button).to_have_text("stopped")
    say_alive(engine, wall())
    button.click()
    page.get_by_role("button", name="to the close").click()
    expect(button).to_have_text("on its way")
    expect(button).to_have_attribute("title", re.compile("runs to 9 Sep 16:00"))
    button.click()
    page.get_by_role("button", name="stand still").click()
    expect(button).to_have_text("still")

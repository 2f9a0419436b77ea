"""What a hand feels: moving an edge of nine rules and opening a Dossier over HTTP, scrolling five thousand rows and panning two
thousand bars in a browser.

The references are the same server's plainest answer, and the same browser scrolling a page of plain text.
"""

from __future__ import annotations

import json
import os
import tempfile
import time
import urllib.request
from pathlib import Path
from typing import Any

import numpy as np
from playwright.sync_api import Page, Route, sync_playwright

from demo import serve
from measure import table

RULES = ["price >= {edge}", "avg_volume_50 >= 50000", "market_cap", "avg_option_volume_21 >= 100", "iv30 >= 20",
         "iv_hv_ratio >= 0.8", "iv_rank >= 5", "iv_percentile", "days_to_earnings >= 3"]  # fmt: skip
COLUMNS = ["price", "change_pct", "one_day_move_pct", "iv30", "hv21", "iv_hv_ratio", "iv_rank", "iv_percentile",
           "days_to_earnings", "avg_option_volume_21", "avg_volume_50", "market_cap", "spent"]  # fmt: skip
TICKET_RULES = ["premium >= 200", "market_cap >= 1e8", "dte <= 400", "out_of_the_money_pct >= -60", "ask_share >= 5",
                "volume_over_interest >= 0.01", "first_in", "since >= -5", "contracts >= {edge}"]  # fmt: skip
ROWS = 5_000
LAYERS = ("averages", "bollinger", "keltner", "channel", "fans", "gaps", "swings", "gamma", "shelves", "tickets")
_QUIET = ["--disable-background-networking", "--disable-component-update", "--disable-sync", "--disable-gpu"]
_CHROMIUM = "/usr/bin/chromium", "/usr/bin/chromium-headless-shell"
BROWSER: dict[str, Any] = {
    "executable_path": next((one for one in _CHROMIUM if Path(one).exists()), _CHROMIUM[0]),
    "args": _QUIET + (["--no-sandbox"] if os.geteuid() == 0 else []),
}
WATCH = """async () => {
  const area = document.querySelector(".grid") ?? document.scrollingElement;
  const frames = [];
  let last = performance.now();
  for (let i = 0; i < 180; i++) {
    await new Promise((done) => requestAnimationFrame(done));
    const now = performance.now();
    frames.push(now - last);
    last = now;
    area.scrollTop += 90;
  }
  return frames.slice(5);
}"""


PAN = """async () => {
  const chart = document.querySelector(".price-chart .echart");
  const send = (type, x) => chart.dispatchEvent(
    new PointerEvent(type, { pointerId: 1, clientX: x, clientY: 400, bubbles: true }));
  chart.setPointerCapture = () => {};
  const frames = [];
  send("pointerdown", 500);
  let last = performance.now();
  for (let i = 0; i < 100; i++) {
    send("pointermove", 500 + 4 * i);
    await new Promise((done) => requestAnimationFrame(done));
    const now = performance.now();
    frames.push(now - last);
    last = now;
  }
  send("pointerup", 900);
  return frames.slice(5);
}"""
STILL = PAN.replace("pointermove", "pointerover")


def ask(address: str, path: str, body: dict[str, object] | None) -> float:
    """Seconds until the whole answer is there."""
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(address + path, data, {"Content-Type": "application/json"})
    began = time.perf_counter()
    urllib.request.urlopen(request).read()
    return time.perf_counter() - began


def moving_an_edge(address: str) -> tuple[float, float]:
    """95th percentiles in seconds: of moving an edge, and of the plainest answer."""

    def moved(step: int) -> dict[str, object]:
        rules = [{"text": rule.format(edge=round(5 + 0.37 * step, 2))} for rule in RULES]
        return {"stack": {"universe": "all", "rules": rules}, "columns": COLUMNS}

    for step in range(10):
        ask(address, "/api/screen", moved(step))
    edges = [ask(address, "/api/screen", moved(step)) for step in range(200)]
    plain = [ask(address, "/api/market", None) for _ in range(200)]
    return float(np.quantile(edges, 0.95)), float(np.quantile(plain, 0.95))


def moving_an_edge_of_tickets(address: str) -> tuple[int, dict[str, float]]:
    """How many tickets five sessions have, and 95th percentiles in seconds of moving the newest edge, by what is looked at."""

    def moved(step: int, view: str) -> dict[str, object]:
        rules = [{"text": rule.format(edge=2 + step % 20)} for rule in TICKET_RULES]
        return {"stack": {"universe": "all", "rules": rules}, "sessions": 5, "view": view, "count": 200}

    body = json.dumps(moved(0, "day")).encode()
    request = urllib.request.Request(f"{address}/api/tape", body, {"Content-Type": "application/json"})
    with urllib.request.urlopen(request) as answer:
        tickets = int(json.load(answer)["universe"])
    took = {}
    for view in ("names", "tickets", "contracts", "day"):
        ask(address, "/api/tape", moved(1, view))
        took[view] = float(np.quantile([ask(address, "/api/tape", moved(step, view)) for step in range(60)], 0.95))
    return tickets, took


def opening_dossiers(address: str) -> dict[str, float]:
    """95th percentile in seconds over names opened for the first time, by the part that is shown first."""
    with urllib.request.urlopen(address + "/api/names") as answer:
        symbols = [name["symbol"] for name in json.load(answer)["names"]]
    parts = {
        "overview": "{}", "volatility": "volatility/{}", "expected move": "expected-move/{}", "chain": "chain/{}",
        "price, ten layers on ten sessions' minutes": "price/{}?length=1&layers=" + "&layers=".join(LAYERS), "facts": "facts/{}",
    }  # fmt: skip
    ask(address, f"/api/dossier/expected-move/{symbols[0]}", None)  # the minute bars are read once
    return {
        words: float(
            np.quantile(
                [ask(address, f"/api/dossier/{part.format(s)}", None) for s in symbols[i * 60 : i * 60 + 60]], 0.95
            )
        )
        for i, (words, part) in enumerate(parts.items())
    }


def panning(page: Page, address: str) -> tuple[list[float], list[float]]:
    """Milliseconds of every frame while about two thousand bars with ten layers are panned, and while the page stands still."""
    page.goto(f"{address}/dossier/VUSVO?view=price&bars=1&layers=volume+{'+'.join(LAYERS)}")
    page.wait_for_selector(".level-tags .now")
    page.mouse.move(600, 400)
    page.mouse.wheel(0, 1950)
    page.wait_for_timeout(500)
    page.evaluate(PAN)
    return page.evaluate(PAN), page.evaluate(STILL)


def scrolling(page: Page, address: str) -> tuple[list[float], list[float]]:
    """Milliseconds of every frame while scrolling: our results, and a page of plain text."""

    crowded: list[str] = []

    def crowd(route: Route) -> None:
        answer = route.fetch().json()
        times = ROWS // len(answer["symbols"]) + 1
        answer["symbols"] = crowded[:] = [f"{s}{n}" for n in range(times) for s in answer["symbols"]][:ROWS]
        route.fulfill(json=answer)

    def page_of(route: Route) -> None:
        asked = route.request.post_data_json
        answer = page.request.post(f"{address}/api/screen/rows", data=asked | {"first": 0}).json()
        first = asked["first"]
        route.fulfill(json=answer | {"first": first, "symbols": crowded[first : first + len(answer["symbols"])]})

    page.route("**/api/screen?*", crowd)
    page.route("**/api/screen/rows?*", page_of)
    page.goto(f"{address}/screen")
    page.wait_for_selector("tr[aria-rowindex]")
    page.wait_for_timeout(500)
    page.evaluate(WATCH)
    ours = page.evaluate(WATCH)
    page.set_content("<p>plain text of one line</p>" * ROWS)
    return ours, page.evaluate(WATCH)


def main() -> None:
    with tempfile.TemporaryDirectory() as folder, serve(Path(folder)) as demo, sync_playwright() as playwright:
        edge, plain = moving_an_edge(demo.address)
        tickets, moved = moving_an_edge_of_tickets(demo.address)
        opened = opening_dossiers(demo.address)
        browser = playwright.chromium.launch(**BROWSER)
        size: Any = {"width": 1280, "height": 800}
        frames, reference = scrolling(browser.new_page(viewport=size), demo.address)
        panned, still = panning(browser.new_page(viewport=size), demo.address)
        browser.close()
    table(
        "Moving an edge of nine rules over HTTP, with funnel and histograms, 95th percentile",
        [
            ("the plainest answer of the server", f"{plain * 1e3:,.1f} ms", "1", ""),
            ("moving an edge", f"{edge * 1e3:,.1f} ms", f"{edge / plain:,.1f} ×", "< 80 ms"),
        ],
    )
    table(
        f"Moving the newest edge of nine rules on {tickets:,} tickets over HTTP, with funnel and histograms, 95th percentile",
        [
            ("the plainest answer of the server", f"{plain * 1e3:,.1f} ms", "1", ""),
            *[(words, f"{took * 1e3:,.0f} ms", f"{took / plain:,.1f} ×", "< 100 ms") for words, took in moved.items()],
        ],
    )
    table(
        "A Dossier's first view over HTTP, 95th percentile of sixty names each",
        [
            ("the plainest answer of the server", f"{plain * 1e3:,.1f} ms", "1", ""),
            *[(words, f"{took * 1e3:,.0f} ms", f"{took / plain:,.1f} ×", "< 300 ms") for words, took in opened.items()],
        ],
    )
    table(
        f"Scrolling {ROWS:,} rows by 90 px a frame, longest of {len(frames)} frames",
        [
            ("a page of plain text", f"{max(reference):,.0f} ms", "1", ""),
            ("the results", f"{max(frames):,.0f} ms", f"{max(frames) / max(reference):,.1f} ×", "≤ 50 ms"),
            ("the results, 95th percentile", f"{float(np.quantile(frames, 0.95)):,.0f} ms", "", ""),
        ],
    )
    table(
        f"Panning two thousand bars with ten layers, {len(panned)} frames, without a graphics card",
        [
            ("the same page standing still, median", f"{np.median(still):,.0f} ms", "1", ""),
            (
                "panned, median",
                f"{np.median(panned):,.0f} ms",
                f"{np.median(panned) / np.median(still):,.1f} ×",
                "≤ 50 ms",
            ),
            ("panned, 95th percentile", f"{float(np.quantile(panned, 0.95)):,.0f} ms", "", ""),
        ],
    )


if __name__ == "__main__":
    main()

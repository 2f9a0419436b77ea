"""Memory of the web process after every page was looked at in a browser, twice: its own, and that of mapped files.

A market that is there already is looked at when its folder is named: `python benchmarks/pages.py FOLDER`.
"""

from __future__ import annotations

import json
import sys
import tempfile
import time
import urllib.request
from contextlib import nullcontext
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from demo import Running, serve
from hand import BROWSER
from measure import memory, sized, table

NAMES = ("TARNO", "BULVI", "VILNI", "BELUA", "VUSVO", "BARTI")
PARTS = ("overview", "volatility", "moves", "positioning", "chain", "tape", "prints", "price", "facts")
ANY, FUNDS = "u=all", "u=fund"
PAGES: dict[str, list[str]] = {
    "Screen": [
        f"/screen?{ANY}",
        *[f"/screen?screen=s-premium-to-sell&{view}" for view in ("view=gallery", "view=map", "vs=previous")],
    ],
    "Evidence": ["/screen?screen=s-premium-to-sell&evidence=1"],
    "Lineup": ["/lineup", "/lineup?of=fund", *[f"/lineup?view={view}" for view in ("scatter", "correlation", "fund")]],
    "Dossier": [f"/dossier/{name}?view={part}" for name in NAMES for part in PARTS],
    "Tape": [f"/tape?{ANY}&view={view}" for view in ("names", "tickets", "contracts", "day")],
    "Tape, five sessions": [f"/tape?{ANY}&days=5"],
    "Off-exchange": [f"/off-exchange?{ANY}&show={show}" for show in ("names", "prints", "record")],
    "Structures": [
        "/structures?screen=s-verticals-on-dear-names",
        f"/structures?{FUNDS}",
        "/structures?screen=s-verticals-on-dear-names&record=1",
    ],
    "one structure": ["/structure/TARNO?legs=%2B100S", "/structure/BELUA?legs=%2B100S"],
    "Data": ["/data"],
    "Handbook": ["/handbook", "/handbook/iv_rank"],
    "as of a past session": [
        f"{address}{'&' if '?' in address else '?'}asof={{past}}"
        for address in (
            f"/screen?{ANY}", "/lineup", "/dossier/TARNO?view=volatility", "/dossier/BULVI?view=positioning", f"/tape?{ANY}",
            f"/off-exchange?{ANY}", "/structures?screen=s-verticals-on-dear-names",
        )
    ],
}  # fmt: skip


def look(page: Page, running: Running, address: str) -> None:
    """Open a page and wait until it is settled."""
    page.goto(running.address + address)
    page.wait_for_selector("main[aria-busy='false']", timeout=120_000)


def main() -> None:
    rows: list[tuple[str, str, str, str]] = []
    named = nullcontext(sys.argv[1]) if len(sys.argv) > 1 else tempfile.TemporaryDirectory()
    with named as folder:
        for _ in range(sized(1, 0)):
            # What the first start writes beside the database, the second one maps.
            with serve(Path(folder)):
                pass
        with serve(Path(folder)) as running, sync_playwright() as playwright:
            time.sleep(sized(15, 1))
            market = json.loads(urllib.request.urlopen(f"{running.address}/api/market").read())
            past = market["sessions"][-3]
            own, mapped = memory(running.process.pid)
            rows.append(("when warm", f"{own} MB", f"{mapped} MB", ""))
            browser = playwright.chromium.launch(**BROWSER)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            for turn in ("", ", once more")[: sized(2, 1)]:
                for name, addresses in PAGES.items():
                    for address in addresses[: sized(99, 1)]:
                        look(page, running, address.format(past=past))
                    own, mapped = memory(running.process.pid)
                    rows.append((f"after {name}{turn}", f"{own} MB", f"{mapped} MB", ""))
            browser.close()
            time.sleep(sized(30, 1))
            own, mapped = memory(running.process.pid)
            rows.append(("half a minute later", f"{own} MB", f"{mapped} MB", "< 550 MB of its own"))
    table("Memory of the web process: of its own, of mapped files", rows)


if __name__ == "__main__":
    main()

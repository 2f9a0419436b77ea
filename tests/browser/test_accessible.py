"""WCAG 2.2 AA as far as a machine can tell, on every view in both themes."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page
from tests.browser.settled import expect

AXE = Path(__file__).resolve().parents[2] / "ui/node_modules/axe-core/axe.min.js"
LEVELS = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]
CONDOR = "%2B1P48@2026-10-16,-1P52@2026-10-16,-1C62@2026-10-16,%2B1C66@2026-10-16"
VIEWS = {
    "the whole market": ("/screen", ".results tbody tr"),
    "a screen": ("/screen?screen=s-positive-and-rising", ".results tbody tr"),
    "its evidence": ("/screen?screen=s-positive-and-rising&evidence=1", ".evidence-found table"),
    "its gallery": ("/screen?screen=s-positive-and-rising&view=gallery", ".gallery > *"),
    "its map": ("/screen?screen=s-positive-and-rising&view=map", ".map-chart"),
    "a name": ("/dossier/TARNO", ".figure canvas, .figure svg"),
    "its volatility": ("/dossier/TARNO?view=volatility", ".figure-table table"),
    "its expected move": ("/dossier/BULVI?view=moves", ".ledger table"),
    "its positioning": ("/dossier/KESEO?view=positioning", ".builds table"),
    "its chain": ("/dossier/TARNO?view=chain", ".chain-table tbody tr"),
    "its positioning in the past": ("/dossier/TARNO?view=positioning&asof=2026-03-02", ".not-kept"),
    "its tape": ("/dossier/BARTI?view=tape", ".tickets tbody tr"),
    "its chain in the past": ("/dossier/TARNO?view=chain&asof=2026-03-02", ".chain .state"),
    "its prints": ("/dossier/VUSVO?view=prints", ".shelves tbody tr"),
    "its price": ("/dossier/VUSVO?view=price&layers=averages fans shelves tickets&under=iv30", ".level-tags text"),
    "its hours": ("/dossier/VUSVO?view=price&bars=5&hours=all", ".level-tags text"),
    "its facts": ("/dossier/VUSVO?view=facts", ".quarters tbody tr"),
    "off-exchange": ("/off-exchange", ".walk tbody tr"),
    "prints": ("/off-exchange?show=prints", ".walk tbody tr"),
    "the tape": ("/tape", ".walk tbody tr"),
    "tickets": ("/tape?screen=s-tape-rolled-and-added&view=tickets", ".walk tbody tr"),
    "contracts": ("/tape?screen=s-tape-must-open&view=contracts&days=3", ".walk tbody tr"),
    "through the day": ("/tape?screen=s-tape-must-open&view=day", ".through-the-day svg"),
    "structures": ("/structures?u=name:TARNO&form=1", ".walk tbody tr"),
    "the front": ("/structures?u=name:TARNO&view=front", ".front-chart circle"),
    "the record of opinions": ("/structures?u=name:TARNO&record=1", ".opinion-record svg"),
    "a structure": (f"/structure/TARNO?legs={CONDOR}&vs=%2B1P50@2026-10-16&plan=1", ".verdicts tbody tr"),
    "a lineup": ("/lineup", ".lineup-table tbody tr"),
    "a lineup of the past": ("/lineup?asof=2026-03-02", ".lineup-table tbody tr"),
    "its scatter": ("/lineup?view=scatter&of=members:FELRO", "circle"),
    "its correlations": ("/lineup?view=correlation&of=members:FELRO", ".correlation td"),
    "a fund": ("/lineup?view=fund&of=members:FELRO", "main"),
    "the handbook": ("/handbook/iv_rank", ".handbook-body h2"),
    "the data": ("/data", ".data tbody tr"),
    "the tripwires": ("/tripwires", ".tripwire-list h1"),
    "a tripwire": ("/tripwires?make=1&source=stock&text=close+%3E+sma(close,+50)", ".before svg"),
    "a session played again": ("/screen?asof=2026-09-08T11:15", ".results tbody tr"),
    "no name": ("/dossier", "main"),
}


OPENED = {
    "the keys": lambda page: page.keyboard.press("?"),
    "the columns": lambda page: page.get_by_role("button", name="columns").click(),
    "the ways out": lambda page: page.get_by_role("button", name="take out").first.click(),
    "saving": lambda page: page.get_by_role("button", name="save as").click(),
    "the screens": lambda page: page.locator(".stack h1 button").click(),
    "pasting": lambda page: page.get_by_role("button", name="paste").click(),
    "the baskets": lambda page: page.get_by_role("button", name="baskets").click(),
    "a rule's menu": lambda page: page.locator(".rule-menu button").first.click(),
    "completion": lambda page: page.get_by_label("Add a rule").press_sequentially("days to"),
    "the search": lambda page: page.get_by_role("combobox", name="Find a name").fill("tar"),
    "the peek": lambda page: page.get_by_role("grid").press("ArrowDown"),
}


def faults(page: Page, but: str = "nothing-is-left-out", only: str | None = None) -> list[str]:
    """What the page breaks, and where: of the guidelines, roles and the order of headings, or of one rule; `but` is left out."""
    return page.evaluate(
        """async ([levels, but, only]) => {
            const where = { exclude: [[but]] };
            const more = { "aria-allowed-role": { enabled: true }, "heading-order": { enabled: true } };
            const asked = only ? { runOnly: [only] } : { runOnly: { type: "tag", values: levels }, rules: more };
            const found = await axe.run(where, { ...asked, resultTypes: ["violations"] });
            return found.violations.flatMap((broken) =>
                broken.nodes.map((node) => `${broken.id}: ${node.html.slice(0, 120)}: ${node.failureSummary}`));
        }""",
        [LEVELS, but, only],
    )


@pytest.mark.parametrize("view", VIEWS)
def test_every_view_keeps_to_the_guidelines_in_both_themes_and_to_its_frame_and_asks_nothing_twice(
    quiet_page: Page, view: str
):
    address, there = VIEWS[view]
    page = quiet_page
    answered: list[tuple[str, str | None]] = []
    page.on(
        "response",
        lambda answer: answered.append((answer.url, answer.request.post_data)) if answer.status == 200 else None,
    )
    page.goto(address)
    expect(page.locator(there).first).to_be_visible()
    # What is worked out behind an answer is asked after; who was told to come again on a busy machine was not answered.
    once = [told for told in answered if "/api/" in told[0] and not re.search(r"/evidence|/market$|/jobs", told[0])]
    assert sorted(once, key=str) == sorted(set(once), key=str)
    page.evaluate(AXE.read_text())
    assert faults(page) == []
    page.get_by_role("button", name="dim", exact=True).click()
    expect(page.locator("html")).to_have_attribute("data-bs-theme", "dark")
    # What differs between the themes is colour.
    assert faults(page, only="color-contrast") == []
    assert page.evaluate("document.documentElement.scrollHeight <= innerHeight"), "the frame does not scroll"


@pytest.mark.parametrize("what", OPENED)
def test_what_opens_over_a_screen_keeps_to_them_too(quiet_page: Page, what: str):
    page = quiet_page
    page.goto(VIEWS["a screen"][0])
    expect(page.locator(VIEWS["a screen"][1]).first).to_be_visible()
    page.evaluate(AXE.read_text())
    OPENED[what](page)
    opened = page.locator(".modal.show, .dropdown-menu.show, .proposals, [role=listbox], .peek-today").first
    expect(opened).to_be_visible()
    # An open list lies over rules below it, whose buttons it covers for the moment.
    assert faults(page, ".rule-foot") == []


def test_plans_together_keep_to_them_too(quiet_page: Page, two_plans: list[str]):
    page = quiet_page
    page.goto("/tape")
    plans = page.get_by_role("button", name=re.compile("^plans"))
    plans.click()
    page.get_by_role("dialog").locator("label", has_text="together").click()
    expect(page.locator(".correlations")).to_be_visible()
    page.evaluate(AXE.read_text())
    assert faults(page) == []


def test_the_layers_of_a_price_keep_to_the_guidelines(quiet_page: Page):
    page = quiet_page
    page.goto(VIEWS["its price"][0])
    page.get_by_role("button", name="layers").click()
    expect(page.locator(".dropdown-menu.layers")).to_be_visible()
    page.evaluate(AXE.read_text())
    assert faults(page) == []


def test_the_keyboard_scrolls_what_has_no_control_inside(quiet_page: Page):
    page = quiet_page
    page.goto("/dossier/KESEO?view=positioning")
    for name in ("Contracts", "Expirations"):
        part = page.get_by_role("region", name=name, exact=True)
        expect(part).to_be_visible()
        part.focus()
        expect(part).to_be_focused()
        assert part.evaluate("part => getComputedStyle(part).outlineStyle") == "solid", "it can be seen"
        page.keyboard.press("End")
        page.wait_for_function("part => part.scrollTop > 0", arg=part.element_handle())
        page.keyboard.press("Home")
        page.wait_for_function("part => part.scrollTop === 0", arg=part.element_handle())


def test_what_a_button_has_switched_is_told(quiet_page: Page):
    page = quiet_page
    page.goto(VIEWS["a screen"][0])
    page.locator(".rule-menu button").first.click()
    lengths = page.locator(".dropdown-menu.show").get_by_role("button", name=re.compile("^on "))
    expect(lengths).to_have_count(4)
    assert [lengths.nth(i).get_attribute("aria-pressed") for i in range(4)] == ["true", "false", "false", "false"]
    page.keyboard.press("Escape")
    expect(lengths).to_have_count(0)

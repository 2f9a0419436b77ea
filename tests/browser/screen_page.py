"""What tests of the Screen share: opening it, reading it, adding a rule."""

import re

from playwright.sync_api import Locator, Page
from tests.browser.addresses import address
from tests.browser.settled import expect

RULES = address("15 <= price <= 250", "avg_option_volume_21 >= 500", "iv_hv_ratio >= 1.1")


def survivors(page: Page) -> int:
    text = page.locator(".results h2").inner_text()
    found = re.match(r"([\d,]+) name", text)
    return int(found.group(1).replace(",", "")) if found else -1


def rows(page: Page) -> Locator:
    return page.get_by_role("grid").locator("tbody tr[aria-rowindex]")


def symbols(page: Page) -> list[str]:
    return rows(page).locator("td.col-symbol").all_inner_texts()


def add_rule(page: Page, text: str) -> None:
    field = page.get_by_label("Add a rule")
    field.fill(text)
    field.press("Enter")
    expect(field).to_have_value("")


def open_screen(page: Page, address: str = "/screen") -> Page:
    page.goto(address)
    expect(rows(page).first).to_be_visible()
    return page

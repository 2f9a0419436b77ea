"""Debian's Chromium, one page a test, an empty tray, and a watch over what the page says and asks for."""

from __future__ import annotations

import os
from collections.abc import Iterator

import pytest
from flask.testing import FlaskClient
from playwright.sync_api import ConsoleMessage, Page
from playwright.sync_api import expect as plain_expect
from tests.browser.settled import act_on_settled_pages

plain_expect.set_options(timeout=10_000)
act_on_settled_pages()


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict:
    quiet = ["--disable-background-networking", "--disable-component-update", "--disable-sync", "--disable-gpu"]
    as_root = ["--no-sandbox"] if os.geteuid() == 0 else []
    return {"executable_path": "/usr/bin/chromium-headless-shell", "args": quiet + as_root}


@pytest.fixture(scope="session")
def browser_context_args(live_url: str) -> dict:
    return {"viewport": {"width": 1280, "height": 800}, "base_url": live_url}


@pytest.fixture
def quiet_page(page: Page, live_url: str, empty_tray: None) -> Iterator[Page]:
    """A page whose test fails when a script fails, or when anything outside this machine is asked for."""
    said: list[str] = []

    def heard(message: ConsoleMessage) -> None:
        if message.type == "error" and "Failed to load resource" not in message.text:
            said.append(message.text)

    page.on("console", heard)
    page.on("pageerror", lambda error: said.append(str(error)))
    page.on(
        "request", lambda request: None if request.url.startswith((live_url, "data:")) else said.append(request.url)
    )
    yield page
    assert said == []


@pytest.fixture
def two_plans(client: FlaskClient) -> Iterator[list[str]]:
    """Shares of two names, kept as plans."""
    why = {"page": "Screen", "words": "worth a look", "link": ""}
    made = [
        client.post("/api/structures/plans", json={"symbol": symbol, "legs": "+100S", "why": why}).json
        for symbol in ("TARNO", "VESVI")
    ]
    yield [plan["symbol"] for plan in made]
    for plan in made:
        client.delete(f"/api/structures/plans/{plan['id']}")

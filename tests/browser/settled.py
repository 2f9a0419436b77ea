"""Browser tests act on settled pages alone: what a test does to a page, and what it reads off it, waits until what the page shows
answers what was last asked. `expect` waits by itself for what it wants to see, and begins on a settled page too.

A test about what is seen *meanwhile* says so: `with meanwhile(page): ...`.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from playwright.sync_api import Locator, Page, TimeoutError
from playwright.sync_api import expect as plain_expect

PATIENCE = 20_000
SETTLED = """() => {
  if (!document.getElementById("root")) return true;
  const main = document.querySelector("main");
  // Rows that have not come are asked for by the page; what says itself how far it is can be looked at meanwhile.
  const busy = [...document.querySelectorAll('[aria-busy="true"]')];
  return main !== null && main.hasAttribute("aria-busy")
    && busy.every((part) => part.tagName === "TR"
      || part !== main && part.querySelector("progress, [role=progressbar]") !== null);
}"""
_TOUCHES = (
    "blur",
    "check",
    "clear",
    "click",
    "dblclick",
    "dispatch_event",
    "drag_to",
    "fill",
    "focus",
    "hover",
    "press",
    "press_sequentially",
    "select_option",
    "select_text",
    "set_checked",
    "uncheck",
)
_READS = (
    "all_inner_texts",
    "all_text_contents",
    "bounding_box",
    "count",
    "evaluate",
    "evaluate_all",
    "get_attribute",
    "inner_html",
    "inner_text",
    "input_value",
    "is_checked",
    "is_disabled",
    "is_enabled",
    "is_hidden",
    "is_visible",
    "text_content",
)
_hurried: set[Page] = set()


def settled(page: Page) -> Page:
    """The page, once it is settled."""
    if page not in _hurried and not page.is_closed():
        try:
            page.wait_for_function(SETTLED, timeout=PATIENCE)
        except TimeoutError as error:
            parts = page.locator("[aria-busy='true']").element_handles()
            busy = [part.evaluate("p => `${p.tagName}.${p.className} ${p.dataset.busyWith ?? ''}`") for part in parts]
            raise AssertionError(f"{page.url} is not settled: {busy}") from error
    return page


@contextmanager
def meanwhile(page: Page) -> Iterator[Page]:
    """Within it, what is on its way is not waited for."""
    _hurried.add(page)
    try:
        yield page
    finally:
        _hurried.discard(page)


def expect(actual: Any, *more: Any) -> Any:
    """What is expected of a page that is settled now, or will be so soon."""
    if isinstance(actual, Locator):
        settled(actual.page)
    elif isinstance(actual, Page):
        settled(actual)
    return plain_expect(actual, *more)


def take_time(page: Page, milliseconds: int) -> None:
    """A hand that takes its time, or somebody who looks whether something comes that must not: never a way to wait for what
    shall come."""
    page.wait_for_timeout(milliseconds)


def act_on_settled_pages() -> None:
    """From here on every hand on a page, and every look at it, waits for that."""
    for name in (*_TOUCHES, *_READS):
        setattr(Locator, name, _settling(getattr(Locator, name), lambda locator: locator.page))
    for name in ("evaluate", "go_back", "go_forward", "reload"):
        setattr(Page, name, _settling(getattr(Page, name), lambda page: page))
    for name in ("keyboard", "mouse"):
        of_page = getattr(Page, name).fget
        setattr(Page, name, property(_settling(of_page, lambda page: page)))


def _settling(plain: Callable[..., Any], page_of: Callable[[Any], Page]) -> Callable[..., Any]:
    @functools.wraps(plain)
    def waiting(self: Any, *given: Any, **more: Any) -> Any:
        settled(page_of(self))
        return plain(self, *given, **more)

    return waiting

"""Tests wait for what shall be so, never for a time to pass: that is too short on a busy machine and too long on any other."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

import pytest

TESTS = Path(__file__).parent
ALLOWED = {"waiting.py", "settled.py"}


def bare_waits(source: str, name: str) -> Iterator[str]:
    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("playwright"):
            if any(alias.name == "expect" for alias in node.names) and name != "conftest.py":
                yield f"line {node.lineno}: expect comes from tests.browser.settled, which begins on a settled page"
        elif isinstance(node, ast.Call):
            called = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
            given = {keyword.arg for keyword in node.keywords}
            first = node.args[0] if node.args else None
            number = isinstance(first, ast.Constant) and isinstance(first.value, int | float)
            if called in ("wait_for_timeout", "sleep"):
                yield f"line {node.lineno}: {called} waits for a time: see tests/waiting.py"
            elif called == "acquire" and ("timeout" in given or len(node.args) > 1):
                yield f"line {node.lineno}: acquire(timeout=…): use comes() of tests/waiting.py"
            elif called in ("wait", "join") and number and first.value >= 1:
                yield f"line {node.lineno}: {called}({first.value}): use tests/waiting.py"


@pytest.mark.parametrize("path", sorted(TESTS.rglob("*.py")), ids=lambda path: str(path.relative_to(TESTS)))
def test_no_test_waits_for_a_time_to_pass(path: Path):
    if path.name not in ALLOWED:
        assert list(bare_waits(path.read_text(), path.name)) == []


@pytest.mark.parametrize(
    "line",
    [
        "page.wait_for_timeout(50)",
        "time.sleep(1)",
        "sleep(0.1)",
        "gate.acquire(timeout=10)",
        "gate.acquire(True, 0.3)",
        "ready.wait(30)",
        "from playwright.sync_api import Page, expect",
    ],
)
def test_a_bare_wait_is_found(line: str):
    assert len(list(bare_waits(line, "test_something.py"))) == 1

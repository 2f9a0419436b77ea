"""Which tests run when something changed: never fewer than those that could fail."""

from __future__ import annotations

from pathlib import Path

import pytest
from tests.changed import PROJECT, depending

ALL = {str(path.relative_to(PROJECT)) for path in (PROJECT / "tests").rglob("test_*.py")}


def test_a_computation_runs_its_own_tests_and_all_that_is_served_but_no_other_computation():
    found = set(depending(["src/flinch/core/moves/ledger.py"]))
    assert "tests/core/moves/test_ledger.py" in found
    assert {path for path in ALL if path.startswith(("tests/features/", "tests/browser/"))} - found == set()
    assert "tests/core/pricing/test_greeks.py" not in found
    assert "tests/core/shelves/test_bursts.py" not in found


def test_what_stands_at_the_top_runs_what_is_served():
    found = set(depending(["src/flinch/features/tape/service.py"]))
    assert "tests/features/test_tape_page_api.py" in found
    assert "tests/browser/test_tape_page.py" in found
    assert not found & {"tests/core/pricing/test_greeks.py", "tests/core/shelves/test_bursts.py", "tests/test_files.py"}


def test_the_interface_runs_the_browser_and_what_is_read_those_that_name_it():
    browser = {path for path in ALL if path.startswith("tests/browser/")}
    found = set(depending(["ui/src/frame/Frame.tsx"]))
    assert browser <= found
    assert {"tests/test_house.py", "tests/test_scripts.py"} <= found
    assert not {path for path in found if path.startswith("tests/core/")}
    told = set(depending(["docs/rules.md"]))
    assert "tests/core/rules/test_language.py" in told
    assert all("docs" in Path(PROJECT / path).read_text() for path in told)
    assert "tests/test_benchmarks.py" in depending(["benchmarks/load.py"])
    assert "tests/test_benchmarks.py" in depending(["src/flinch/core/flow/packages.py"])
    assert depending(["LICENSE"]) == ["tests/test_changed.py"], "this file names it"
    assert depending([]) == []


def test_a_test_runs_itself_and_a_helper_runs_who_uses_it():
    found = depending(["tests/core/moves/test_ledger.py"])
    assert "tests/core/moves/test_ledger.py" in found
    assert "tests/core/moves/test_cycles.py" not in found
    assert "tests/test_scripts.py" in depending(["tests/waiting.py"])


@pytest.mark.parametrize("path", ["pyproject.toml", "requirements.lock", "scripts/setup.sh", "src/flinch/core/x.json"])
def test_what_nobody_can_follow_runs_everything(path: str):
    assert depending([path]) == ["tests"]

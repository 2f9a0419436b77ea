"""Every benchmark can be run: on a few of everything, or of every page one; those that make a market of their own can be read."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from tests.demo_process import PATIENCE
from tests.kept_market import kept_market

BENCHMARKS = Path(__file__).resolve().parents[1] / "benchmarks"
COMPUTED = (
    "implied_volatility", "surfaces", "smiles", "screen", "windows", "rule_costs", "evidence",
    "positioning", "prints", "structures", "tape", "imports",
)  # fmt: skip
SERVED = ("searches", "load", "pages", "streams", "live", "played")
ALL = sorted(path.stem for path in BENCHMARKS.glob("*.py"))


def python(*arguments: str) -> subprocess.CompletedProcess[str]:
    environment = os.environ | {
        "FLINCH_BENCHMARK_SMALL": "1", "PYTHONPATH": f"{BENCHMARKS.parent / 'src'}:{BENCHMARKS}"
    }  # fmt: skip
    # One that waits for ever fails, and does not keep all others waiting.
    return subprocess.run(
        [sys.executable, *arguments], capture_output=True, text=True, env=environment, check=False, timeout=PATIENCE
    )


@pytest.mark.parametrize("name", COMPUTED)
def test_it_prints_its_table(name: str):
    done = python(str(BENCHMARKS / f"{name}.py"))
    assert done.returncode == 0, done.stderr[-2_000:]
    assert done.stdout.strip()
    if name != "rule_costs":
        assert "| what | time | ratio | wanted |" in done.stdout or "| --- |" in done.stdout


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A start's folder with the market of all tests, as `scripts/demo` keeps it."""
    place = tmp_path_factory.mktemp("demo")
    shutil.copytree(kept_market() / "database", place / "database")
    yield place
    shutil.rmtree(place)


@pytest.mark.parametrize("name", SERVED)
def test_it_prints_its_table_of_a_served_market(name: str, folder: Path):
    done = python(str(BENCHMARKS / f"{name}.py"), str(folder))
    assert done.returncode == 0, done.stderr[-2_000:]
    assert "| --- |" in done.stdout


def test_all_others_can_be_read():
    """Their names in the code are names that are there."""
    done = python("-c", f"import {', '.join(ALL)}")
    assert done.returncode == 0, done.stderr[-2_000:]


def test_the_run_script_names_all_that_need_no_market_made_for_them():
    told = (BENCHMARKS / "run").read_text()
    assert {name for name in ALL if name not in ("demo", "measure", "served", "full_size", "lasting")} <= set(
        told.replace(";", " ").split()
    )

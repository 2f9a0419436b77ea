"""What "now" is, and that nothing else asks the wall clock."""

import datetime as dt
import re
from pathlib import Path

import flinch
from flinch.clock import market_now, wall


def test_the_market_is_at_its_newest_data_else_at_what_was_kept_else_at_the_close():
    close, kept, newest = (dt.datetime(2026, 9, day, 20, tzinfo=dt.UTC) for day in (1, 2, 3))
    assert market_now(close) == close
    assert market_now(close, kept) == kept
    assert market_now(close, kept, newest) == newest
    assert market_now(close, None, newest) == newest


def test_nothing_else_reads_the_wall_clock():
    asks = re.compile(r"\b(datetime|date)\.(now|today|utcnow)\(|\btime\.time\(|\bdate\.today\(")
    package = Path(flinch.__file__).parent
    found = [path.name for path in package.rglob("*.py") if asks.search(path.read_text())]
    assert found == ["clock.py"]
    assert wall().tzinfo is dt.UTC

"""What looks wrong is found, mended where it can be, and brought back; holes are told."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import Engine
from tests.feeds.files.made import SESSIONS, TAKEN, bars, chain, counts, load
from tests.feeds.files.test_undoing import require_same, whole

from flinch.feeds.files.checking import CHECKS, NothingToMend, Where, mend, run_checks
from flinch.feeds.files.coverage import SESSIONS as LOOKED_AT
from flinch.feeds.files.coverage import NoCoverage, coverage
from flinch.feeds.files.coverage import _told as told_of
from flinch.feeds.files.importing import undo_import
from flinch.feeds.files.values import Hints
from flinch.market import load_frame
from flinch.store.market.imports import read_imports

DAYS = [day.astype(object) for day in SESSIONS]
CUT = dt.date(2026, 6, 1)
SATURDAY = dt.date(2026, 8, 15)
EARLIER = dt.datetime(2026, 9, 8, 7, 0, tzinfo=dt.UTC)


def flawed_bars() -> pl.DataFrame:
    """Celda split four for one on a day; Avera has a Saturday; Bonti lacks a week, and ends early."""
    rows = bars()
    factor = pl.when((pl.col("symbol") == "CELDA") & (pl.col("session") < CUT)).then(4.0).otherwise(1.0)
    rows = rows.with_columns((pl.col(price) * factor).alias(price) for price in ("open", "high", "low", "close"))
    gone = (pl.col("symbol") == "BONTI") & (
        pl.col("session").is_between(DAYS[10], DAYS[14]) | (pl.col("session") > DAYS[-3])
    )
    odd = rows.filter(pl.col("symbol") == "AVERA").tail(1).with_columns(session=pl.lit(SATURDAY))
    return pl.concat([rows.filter(~gone), odd], how="vertical_relaxed")


@pytest.fixture
def flawed(store: Engine, files: Path, tmp_path: Path) -> Engine:
    load(store, files / "list.csv")
    flawed_bars().write_parquet(tmp_path / "daily_bars.parquet")
    load(store, tmp_path / "daily_bars.parquet")
    whole_chain = chain().with_columns(
        underlying=pl.when(pl.col("symbol") == "AVERA").then(None).otherwise(pl.col("underlying") * 1.2),
        bid=pl.when((pl.col("symbol") == "BONTI") & (pl.int_range(pl.len()) % 5 == 0))
        .then(pl.col("ask") + 1)
        .otherwise("bid"),
        open_interest=pl.when(pl.col("symbol") == "CELDA").then(0).otherwise("open_interest"),
    )
    before = whole_chain.with_columns(
        taken_at=pl.lit(EARLIER),
        open_interest=pl.lit(7),
        ask=pl.when(pl.col("symbol") == "BONTI").then(pl.col("ask") + 3).otherwise("ask"),
    )
    ten = pl.col("strike") * pl.when(pl.col("symbol") == "BONTI").then(10.0).otherwise(1.0)
    for name, rows in (("a", before), ("b", whole_chain.with_columns(strike=ten))):
        rows.write_parquet(tmp_path / f"chains-{name}.parquet")
        load(store, tmp_path / f"chains-{name}.parquet", kind="chains")
    (tmp_path / "volatility_days.csv").write_text(
        "symbol,session,iv30,iv60\nAVERA,2026-06-01,31,30\nAVERA,2026-06-02,29,30\nBONTI,2026-06-01,0.3,0.3\n"
    )
    load(store, tmp_path / "volatility_days.csv", hints=Hints(decimals=frozenset({"iv30", "iv60"})))
    return store


def found(store: Engine) -> dict[str, list[tuple[str, dt.date | None, str]]]:
    return {one.check: [tuple(at) for at in one.examples] for one in run_checks(store)}


def test_every_check_finds_what_it_is_for(flawed: Engine):
    told = found(flawed)
    newest = TAKEN.date()
    assert told["off_calendar"] == [("AVERA", SATURDAY, "XNYS has no session on that day")]
    assert told["split_jumps"] == [("CELDA", CUT, "opens as if 4 shares had been made of one")]
    assert [at[:2] for at in told["no_underlying"]] == [("AVERA", dt.date(2026, 9, 8)), ("AVERA", newest)]
    assert [at[0] for at in told["far_from_bar"]] == ["CELDA"], "Bonti has no bar of that day"
    assert [at[0] for at in told["strikes"]] == ["BONTI"]
    assert "10 times" in told["strikes"][0][2]
    crossed = chain().filter(pl.col("symbol") == "BONTI").height // 5
    assert told["crossed"][0][0] == "BONTI"
    assert int(told["crossed"][0][2].split()[0]) == pytest.approx(crossed, abs=1)
    assert [at[0] for at in told["vanished"]] == ["CELDA"]
    assert "stale" not in told, "the interest of all of them is another"
    assert [(at[1], at[2][:14]) for at in told["odd_hours"]] == [(dt.date(2026, 9, 8), "taken at 03:00")]
    assert [at[0] for at in told["percent"]] == ["AVERA"]
    assert set(told) == set(CHECKS) - {"stale", "parity"}


def test_a_clean_market_has_nothing_wrong_and_quotes_that_stay_are_stale(store: Engine, files: Path, tmp_path: Path):
    for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet"):
        load(store, files / name)
    assert run_checks(store) == []
    later = TAKEN.replace(minute=55)
    chain().with_columns(
        taken_at=pl.lit(later), ask=pl.col("ask") + pl.when(pl.col("symbol") == "AVERA").then(0.01).otherwise(0.0)
    ).write_parquet(tmp_path / "chains.parquet")
    load(store, tmp_path / "chains.parquet")
    assert [at[0] for at in found(store)["stale"]] == ["BONTI", "CELDA"]


def test_swapped_sides_break_parity(store: Engine, files: Path):
    for name in ("list.csv", "prices.csv"):
        load(store, files / name)
    near = pl.col("symbol") == "BONTI"
    swapped = pl.when(near & (pl.col("strike") % 10 == 0)).then(pl.col("right").replace({"C": "P", "P": "C"}))
    chain().with_columns(right=swapped.otherwise("right")).write_parquet(files / "chains-2026-09-09.parquet")
    load(store, files / "chains-2026-09-09.parquet")
    told = found(store)
    assert [at[:2] for at in told.pop("parity")] == [("BONTI", TAKEN.date())]
    assert told == {}


@pytest.mark.parametrize(
    ("check", "where"),
    [
        ("off_calendar", None),
        ("off_calendar", Where("AVERA", SATURDAY)),
        ("split_jumps", Where("CELDA", CUT)),
        ("no_underlying", None),
        ("percent", None),
        ("percent", Where("AVERA", None)),
    ],
)
def test_a_mend_mends_what_was_found_and_can_be_undone(flawed: Engine, check: str, where: Where | None):
    before, told = whole(flawed), found(flawed)
    number = mend(flawed, check, where)
    after = found(flawed)
    assert check not in after
    assert {name: places for name, places in told.items() if name not in (check, "far_from_bar", "strikes")} == {
        name: places for name, places in after.items() if name not in ("far_from_bar", "strikes")
    }
    newest = read_imports(flawed)[0]
    assert (newest.id, newest.source, newest.undoable) == (number, "mend", True)
    assert (where is None) or newest.file.startswith(where.symbol)
    with pytest.raises(NothingToMend):
        mend(flawed, check, where)
    undo_import(flawed, number)
    require_same(flawed, before)
    assert found(flawed) == told


def test_a_mend_of_one_place_leaves_the_others(flawed: Engine):
    newest = TAKEN.date()
    mend(flawed, "no_underlying", Where("AVERA", newest))
    assert [at[:2] for at in found(flawed)["no_underlying"]] == [("AVERA", dt.date(2026, 9, 8))]
    last = bars().filter((pl.col("symbol") == "AVERA") & (pl.col("session") == newest))["close"].item()
    spots = whole(flawed)["snapshot_price"].filter(pl.col("name_id") == 1)
    assert spots["price"].to_list() == [last]


def test_prices_before_a_split_are_divided_and_shares_multiplied(flawed: Engine, files: Path):
    mend(flawed, "split_jumps", Where("CELDA", CUT))
    # Told of the shares of today they are what they were in the file that had no split, but for the shares before it.
    rows = bars().filter(pl.col("symbol") == "CELDA")
    frame = load_frame(flawed)
    held = np.isin(frame.sessions, SESSIONS)
    for price in ("open", "high", "low", "close"):
        assert getattr(frame, price)[2, held].tolist() == pytest.approx(rows[price].to_list(), rel=1e-12)
    factor = pl.when(pl.col("session") < CUT).then(4).otherwise(1)
    assert frame.volume[2, held].tolist() == rows.select(pl.col("volume") * factor)["volume"].to_list()


def test_what_cannot_be_mended_is_refused(flawed: Engine):
    for check, where in (
        ("split_jumps", None),
        ("split_jumps", Where("AVERA", CUT)),
        ("crossed", None),
        ("gossip", None),
        ("off_calendar", Where("NOBODY", SATURDAY)),
    ):
        before = len(read_imports(flawed))
        with pytest.raises(NothingToMend):
            mend(flawed, check, where)
        assert len(read_imports(flawed)) == before


def test_holes_are_told_by_name_and_by_session(flawed: Engine):
    told = coverage(flawed, "daily_bars")
    assert told.sessions == DAYS[-LOOKED_AT:]
    assert (told.names, told.whole, told.more) == (3, 2, 0)
    [bonti] = told.holes
    assert (bonti.symbol, bonti.spans, bonti.lacks) == ("BONTI", [(0, 9), (15, len(DAYS) - 3)], 7)
    assert [place for place, lacks in enumerate(told.lacking) if lacks] == [
        10,
        11,
        12,
        13,
        14,
        len(DAYS) - 2,
        len(DAYS) - 1,
    ]
    assert set(told.counts) == {2, 3}
    chains = coverage(flawed, "chains")
    assert (chains.counts[-2:], chains.names, chains.holes) == ([3, 3], 3, [])
    assert coverage(flawed, "prints").sessions == []
    with pytest.raises(NoCoverage, match="daily_bars"):
        coverage(flawed, "names")


def test_a_name_that_begins_late_has_no_hole_before(store: Engine, files: Path, tmp_path: Path):
    load(store, files / "list.csv")
    rows = bars().filter((pl.col("symbol") != "CELDA") | (pl.col("session") >= DAYS[40]))
    rows.write_parquet(tmp_path / "daily_bars.parquet")
    assert counts(load(store, tmp_path / "daily_bars.parquet"))[0] == rows.height
    told = coverage(store, "daily_bars")
    assert (told.whole, told.holes, told.counts[39], told.counts[40]) == (3, [], 2, 3)


@given(st.integers(1, 6), st.integers(1, 9), st.data())
def test_stretches_and_holes_of_a_grid_are_those_that_are_there(names: int, sessions: int, data: st.DataObject):
    cells = data.draw(st.lists(st.booleans(), min_size=names * sessions, max_size=names * sessions))
    grid = np.array(cells).reshape(names, sessions)
    told = told_of(grid, DAYS[:sessions], [f"N{row}" for row in range(names)])
    assert told.counts == grid.sum(axis=0).tolist()
    assert told.names == int(grid.any(axis=1).sum()) == told.whole + len(told.holes)
    for one in told.holes:
        row = grid[int(one.symbol[1:])]
        again = np.zeros(sessions, bool)
        for first, last in one.spans:
            again[first : last + 1] = True
        assert (again == row).all()
        assert one.lacks == int((~row[np.argmax(row) :]).sum()) > 0
    assert [one.lacks for one in told.holes] == sorted((one.lacks for one in told.holes), reverse=True)
    assert sum(told.lacking) == sum(one.lacks for one in told.holes)


def test_of_very_many_names_with_holes_those_that_lack_most_are_told():
    grid = np.ones((260, 30), bool)
    for row in range(250):
        grid[row, 1 : 2 + row % 20] = False
    told = told_of(grid, DAYS[:30], [f"N{row}" for row in range(260)])
    assert (len(told.holes), told.more, told.whole, told.holes[0].lacks) == (200, 50, 10, 20)

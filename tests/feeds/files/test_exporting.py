"""What is written out and loaded again is the same, to the last digit, in either form."""

from __future__ import annotations

import datetime as dt
import json
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from sqlalchemy import Engine
from tests.feeds.files.made import TAKEN, chain, counts, load

from flinch.feeds.files.exporting import EXPORTED, Span, export_kinds
from flinch.feeds.files.kinds import KINDS
from flinch.market import Markets
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.settings import MarketSettings

FACTS = {
    "dividends": "symbol,ex_date,declared_on,amount\nAVERA,2026-06-01,2026-05-11,0.3333333333333333\nBONTI,2026-10-01,,1e-7\n",
    "earnings_dates": "symbol,session,timing,known_on\nAVERA,2026-05-05,bmo,2026-04-01\nCELDA,2026-11-04,amc,2026-08-01\n",
    "short_interest": "symbol,settled_on,known_on,shares\nCELDA,2026-08-14,2026-08-25,1234567.5\n",
    "volatility_days": "symbol,session,iv7,iv30,iv365\nAVERA,2026-06-01,0.31,0.2888,\nBONTI,2026-06-02,,0.123456,0.3\n",
    "extended_days": "symbol,session,pre_high,pre_last,post_last,post_volume\nAVERA,2026-06-01,10.123456789,10.1,,7\n",
    "minute_bars": (
        "symbol,at,open,high,low,close,volume\nAVERA,2026-09-08T09:31:00-04:00,10,10.5,9.9999,10.00000001,100\n"
        "AVERA,2026-09-08T09:32:00-04:00,10,10,10,10,\nAVERA,2026-09-08T19:59:00-04:00,10,10,10,10,3\n"
        "BONTI,2026-09-09T09:31:00-04:00,1,1,1,1,1\n"
    ),
    "option_trades": (
        "symbol,at,contract,price,contracts,bid,ask,venue,conditions\n"
        "AVERA,2026-09-08T10:00:00.123-04:00,AVERA 260918C00100000,1.5,10,1.4,1.6,North,package+late\n"
        "AVERA,2026-09-08T09:59:00.5-04:00,AVERA 260918P00100500,0.35,2,,,South,\n"
        "AVERA,2026-09-08T10:00:00.123-04:00,AVERA 260918C00100000,1.5,10,1.4,1.6,North,package+late\n"
        "BONTI,2026-09-09T10:00:00-04:00,BONTI 260918C00100000,1.5,-10,1.4,1.6,,cancelled+auction\n"
    ),
    "prints": (
        "symbol,at,price,shares,conditions\nAVERA,2026-09-08T10:00:00.001-04:00,100.33333333,100000,average+out_of_sequence\n"
        "AVERA,2026-09-08T10:00:00.001-04:00,100.5,1,derived\nCELDA,2026-09-09T17:00:00-04:00,100.5,20,\n"
    ),
    "fundamentals": (
        "symbol,source,period_end,known_on,eps_ttm,book,debt_to_equity\nAVERA,Ledger,2026-06-30,2026-08-01,-1.25,10.1,0.5\n"
        "AVERA,Abacus,2026-06-30,2026-08-02,-1.24,,\n"
    ),
    "estimates": "symbol,known_on,eps_next_year,price_target\nAVERA,2026-08-03,2.5,\nAVERA,2026-08-04,,133.3\n",
    "fund_members": "fund,symbol,weight\nAVERA,BONTI,0.1\nAVERA,CELDA,0.9\n",
    "splits": "symbol,ex_date,ratio\nAVERA,2026-06-01,1.5\nCELDA,2026-09-09,0.1\nBONTI,2027-01-04,3\n",
    "open_interest": (
        "symbol,session,expiration,strike,right,open_interest\nAVERA,2026-09-08,2026-09-18,100.125,C,7\n"
        "AVERA,2026-09-08,2026-09-18,100,put,0\nBONTI,2026-09-09,2026-09-18,95,call,123456789\n"
    ),
    "news": (
        "symbol,at,headline,topic\nAVERA,2026-09-08T10:00:00.000123-04:00,\"Avera, at last, sells <b>more</b>\",contract\n"
        ",2026-09-08T16:06:00-04:00,Stocks end higher,\nAVERA,2026-09-09T08:00:00-04:00,\"=1+1 \"\"says\"\" Avera – é\",\n"
    ),
    "rates": "session,days,rate\n2026-06-01,1,0.0433333333\n2026-06-01,90,0.04\n2026-09-01,30,-0.001\n",
}  # fmt: skip


def frames(folder: Path) -> dict[str, pl.DataFrame]:
    return {path.name: pl.read_parquet(path) for path in sorted(folder.glob("*.parquet"))}


@pytest.mark.parametrize("form", ["parquet", "csv"])
def test_every_kind_goes_out_and_comes_in_again_as_it_was(
    own: LocalServer,
    markets: Markets,
    store: Engine,
    files: Path,
    tmp_path: Path,
    form: str,
):
    # Prices of seventeen digits, a missing volume, a missing bid, a multiplier of its own.
    rng = np.random.default_rng(8)
    bars = pl.read_csv(files / "prices.csv")
    bars = bars.with_columns(Close=pl.col("close") + rng.normal(0, 1e-3, bars.height))
    bars = bars.with_columns(high=pl.max_horizontal("high", "Close"), low=pl.min_horizontal("low", "Close")).drop(
        "close"
    )
    bars = bars.with_columns(volume=pl.when(pl.int_range(pl.len()) % 7 == 0).then(None).otherwise("volume"))
    bars.write_csv(files / "prices.csv")
    odd = chain().with_columns(
        bid=pl.when(pl.int_range(pl.len()) % 11 == 0).then(None).otherwise("bid"),
        multiplier=pl.when(pl.col("symbol") == "BONTI").then(10.0),
    )
    odd.write_parquet(files / "chains-2026-09-09.parquet")
    for kind, text in FACTS.items():
        (files / f"{kind}.csv").write_text(text)
    for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet", *[f"{kind}.csv" for kind in FACTS]):
        outcome = load(store, files / name)
        assert (outcome.refused, outcome.added > 0) == (0, True), name

    written = export_kinds(store, list(EXPORTED), tmp_path / "out", form)
    assert {one.kind for one in written} == set(EXPORTED) == set(KINDS)
    index = json.loads((tmp_path / "out" / "index.json").read_text())
    assert [one["file"] for one in index["files"]] == [one.file for one in written]
    assert index["market"]["calendar"] == "XNYS"

    markets.make("other", MarketSettings(rate=0.03))
    try:
        other = make_engine(own.databases.market_url("other"))
        for one in sorted(written, key=lambda one: list(KINDS).index(one.kind)):
            outcome = load(other, tmp_path / "out" / one.file)
            assert (outcome.kind, counts(outcome)) == (one.kind, (one.rows, 0, 0, 0))
        export_kinds(store, list(EXPORTED), tmp_path / "first", "parquet")
        export_kinds(other, list(EXPORTED), tmp_path / "second", "parquet")
        first, second = frames(tmp_path / "first"), frames(tmp_path / "second")
        assert first.keys() == second.keys()
        for name in first:
            assert first[name].equals(second[name]), name
        assert first["daily_bars.parquet"]["close"].sort().equals(bars["Close"].sort()), "and as they were in the file"
        assert set(first[f"chains-{TAKEN:%Y-%m-%dT%H%M%S}.parquet"]["multiplier"].drop_nulls()) == {10.0}
        for one in written:
            assert counts(load(store, tmp_path / "out" / one.file)) == (0, 0, one.rows, 0), (
                "to where it came from it is nothing new"
            )
    finally:
        markets.remove("other")


def test_a_stretch_of_sessions_alone_is_written(store: Engine, files: Path, tmp_path: Path):
    for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet"):
        load(store, files / name)
    first, last = dt.date(2026, 9, 1), dt.date(2026, 9, 8)
    written = export_kinds(store, ["daily_bars", "chains"], tmp_path / "out", "parquet", Span(first, last))
    assert [one.kind for one in written] == ["daily_bars"], "the chains are of the day after"
    days = pl.read_parquet(tmp_path / "out" / "daily_bars.parquet")["session"].unique().sort().to_list()
    assert (days[0], days[-1], len(days)) == (first, last, 5)
    written = export_kinds(store, ["daily_bars", "chains"], tmp_path / "more", "csv", Span(dt.date(2026, 9, 9)))
    assert [one.kind for one in written] == ["daily_bars", "chains"]
    assert not list((tmp_path / "more").glob(".*")), "nothing half written is left"

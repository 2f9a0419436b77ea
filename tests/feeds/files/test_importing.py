"""A market from three files: what is loaded and refused, what the same file twice and a corrected one do, what pages show."""

from __future__ import annotations

import csv
import datetime as dt
from pathlib import Path

import polars as pl
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine, text
from tests.feeds.files.made import TAKEN, bars, chain, counts, load

from flinch.app import create_app
from flinch.demo import recover_others
from flinch.feeds.files import importing
from flinch.feeds.files.errors import BadFile
from flinch.feeds.files.importing import publish_all, recover
from flinch.feeds.files.matching import CannotMatch
from flinch.market import Markets
from flinch.settings import Settings
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.chain import read_contracts, read_snapshots, read_spots
from flinch.store.market.state import begin_moment, read_state
from flinch.store.market.writing import Busy


def test_three_files_make_a_market_that_pages_work_on(own: LocalServer, markets: Markets, store: Engine, files: Path):
    load(store, files / "list.csv")
    empty = create_app(Settings(), own.databases).test_client().get("/api/market?market=mine")
    assert (empty.status_code, empty.json["type"]) == (503, "market_empty"), "names alone are nothing to look at"
    # Many ask at once, as a page does: while one looks the others are told the same, and not that it is being loaded.
    app = create_app(Settings(), own.databases)
    app.test_client().get("/api/names?market=mine")
    with app.extensions["flinch"].markets.open("mine").holder._lock:
        beside = app.test_client().get("/api/names?market=mine")
    assert beside.json["type"] == "market_empty"
    told = [load(store, files / name) for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet")]
    assert [one.kind for one in told] == ["names", "daily_bars", "chains"]
    assert [counts(one) for one in told] == [(0, 0, 3, 0), (bars().height, 0, 0, 0), (chain().height, 0, 0, 0)]
    client: FlaskClient = create_app(Settings(), own.databases).test_client()
    market = client.get("/api/market?market=mine").json
    assert (market["names"], market["as_of"]) == (3, "2026-09-09T15:45:00-04:00")
    assert market["sessions"][-1] == "2026-09-09"
    screened = client.post(
        "/api/screen?market=mine",
        json={
            "stack": {"rules": [{"text": "iv30 > 30"}]},
            "columns": ["iv30", "hv21", "iv_rank", "dividend_yield"],
            "sort": ["iv30"],
        },
    ).json
    assert screened["symbols"] == ["BONTI", "CELDA"]
    column = {one["key"]: one["numbers"] for one in screened["columns"]}
    # What went in as a flat volatility comes out of the surface.
    assert column["iv30"] == pytest.approx([40, 60], abs=0.5)
    assert column["iv_rank"] == [None, None], "of one session there is no rank"
    assert column["dividend_yield"] == [None, None], "no dividends were loaded, which is not the same as none paid"
    for path in ("dossier/AVERA", "dossier/volatility/AVERA", "dossier/expected-move/AVERA", "dossier/positioning/AVERA",
                 "dossier/chain/AVERA", "dossier/facts/AVERA", "peek/AVERA", "names", "handbook"):  # fmt: skip
        answer = client.get(f"/api/{path}?market=mine")
        assert answer.status_code == 200, (path, answer.text)
    body = {"stack": {"universe": "all"}, "search": {"kinds": ["put_credit"]}}
    found = client.post("/api/structures?market=mine", json=body).json
    assert found["universe"] > 3
    kinds = {one["kind"]: one for one in client.get("/api/data/kinds?market=mine").json["kinds"]}
    bars_held, chains_held = kinds["daily_bars"], kinds["chains"]
    assert (bars_held["first"], bars_held["last"], bars_held["sessions_behind"]) == ("2026-03-02", "2026-09-09", 0)
    assert (chains_held["any"], chains_held["first"], chains_held["needed"]) == (
        True,
        "2026-09-09",
        ["symbol", "taken_at"],
    )
    assert (kinds["prints"]["any"], kinds["names"]["any"]) == (False, True)
    assert (bars_held["expected"], kinds["names"]["expected"]) == ("2026-09-10", None)
    row = client.get("/api/markets").json["markets"][1]
    assert (row["usable"], row["source"], "names" in row["missing"], "prints" in row["missing"]) == (
        True,
        "files",
        False,
        True,
    )


def test_the_same_file_twice_changes_nothing_and_a_corrected_one_what_it_corrects(
    store: Engine, files: Path, tmp_path: Path
):
    for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet"):
        load(store, files / name)
    state = read_state(store)
    for name, rows in (("list.csv", 3), ("prices.csv", bars().height), ("chains-2026-09-09.parquet", chain().height)):
        assert counts(load(store, files / name)) == (0, 0, rows, 0)
    assert read_state(store) == state, "not even the version is another one"
    # Four contracts of one name are told otherwise, and one bar.
    corrected = chain().filter(pl.col("symbol") == "BONTI").head(4).with_columns(ask=pl.col("ask") + 0.5)
    corrected.write_parquet(tmp_path / "chains-again.parquet")
    assert counts(load(store, tmp_path / "chains-again.parquet")) == (0, 4, 0, 0)
    there = read_contracts(store, TAKEN)
    assert there.height == chain().height, "what the file does not name stays"
    before = chain().sort("symbol", "expiration", "strike", pl.col("right") == "C")
    assert int((there["ask"].round(4) != before["ask"].round(4)).sum()) == 4
    one = bars().tail(1).with_columns(close=pl.col("close") + 0.25)
    one.write_csv(tmp_path / "daily_bars.csv")
    dry = load(store, tmp_path / "daily_bars.csv", dry=True)
    again = load(store, tmp_path / "daily_bars.csv", dry=True)
    assert counts(dry) == counts(again) == (0, 1, 0, 0), "a dry run changes nothing"
    assert counts(load(store, tmp_path / "daily_bars.csv")) == (0, 1, 0, 0)
    newest = read_state(store)
    assert newest is not None
    assert state is not None
    assert newest.data_version == state.data_version + 2
    assert newest.whole


def test_bad_rows_come_back_as_a_file_with_reasons_and_can_be_mended(store: Engine, files: Path, tmp_path: Path):
    load(store, files / "list.csv")
    refused = tmp_path / "refused" / "bars.csv"
    path = tmp_path / "bars.csv"
    path.write_text(
        "Symbol,Date,Open,High,Low,Close,Volume\nAVERA,2026-09-08,10,11,9,10,5\nNOBODY,2026-09-08,10,11,9,10,5\n"
        "BONTI,2026-09-08,10,9,11,10,5\nBONTI,2026-09-08,ten,11,9,10,5\nCELDA,2026-09-08,0,11,0,10,5\n"
    )
    outcome = load(store, path, refused=refused)
    assert counts(outcome) == (1, 0, 0, 4)
    assert outcome.file_of_refused == str(refused)
    with refused.open() as file:
        rows = list(csv.DictReader(file))
    assert [(row["line"], row["reason"]) for row in rows] == [
        ("3", "no name is called NOBODY"), ("4", "high is under low"), ("5", "Open is no number that can be: ten"),
        ("6", "a price is not above zero"),
    ]  # fmt: skip
    assert rows[2]["Open"] == "ten", "as it was"
    mended = refused.read_text().replace("BONTI,2026-09-08,10,9,11", "BONTI,2026-09-08,10,11,9").replace("ten", "10")
    path.write_text(mended)
    assert counts(load(store, path)) == (1, 0, 0, 2), "the two of one key are one row"
    assert counts(load(store, path, make_names=True)) == (1, 0, 1, 1)


def test_what_cannot_be_loaded_changes_nothing(store: Engine, files: Path, tmp_path: Path):
    path = tmp_path / "rows.csv"
    path.write_text("symbol,day,open,high,low\nAVERA,2026-09-08,1,2,1\n")
    with pytest.raises(CannotMatch, match="daily_bars need close, and no column"):
        load(store, path, kind="daily_bars")
    path.write_bytes(b"")
    with pytest.raises(BadFile, match="is empty"):
        load(store, path, kind="daily_bars")
    assert read_state(store) is None
    finer = chain().head(2).with_columns(bid=pl.lit(1.0000000013))
    finer.write_parquet(tmp_path / "chains.parquet")
    assert counts(load(store, tmp_path / "chains.parquet", make_names=True)) == (0, 0, 0, 2)
    another = make_engine(store.url)
    with another.connect() as other:
        other.execute(text("SELECT GET_LOCK('flinch writes flinch_market_mine', 0)"))
        with pytest.raises(Busy):
            load(store, files / "list.csv")
    another.dispose()
    assert counts(load(store, files / "list.csv")) == (3, 0, 0, 0), "the lock went with who held it"


@pytest.mark.parametrize("how", ["an import", "a start"])
def test_an_import_that_is_ended_in_the_middle_is_done_by_the_next_one(
    own: LocalServer, store: Engine, files: Path, monkeypatch: pytest.MonkeyPatch, markets: Markets, how: str
):
    for name in ("list.csv", "prices.csv"):
        load(store, files / name)
    before = markets.open("mine").holder.current().data_version

    def die(*_: object) -> None:
        raise RuntimeError("ended")

    with monkeypatch.context() as patch:
        patch.setattr(importing, "publish", die)
        with pytest.raises(RuntimeError, match="ended"):
            load(store, files / "chains-2026-09-09.parquet")
    state = read_state(store)
    assert state is not None
    assert not state.whole, "what is there belongs to no version"
    assert markets.open("mine").holder.current().data_version == before
    # The rows are there; what follows from them is computed by whoever comes next: a start, or an import of this file or another.
    if how == "a start":
        recover_others(own.databases)
        recover(store)
        assert read_state(store).data_version == state.data_version + 1, "a second time there is nothing to do"
    assert counts(load(store, files / "chains-2026-09-09.parquet")) == (0, 0, chain().height, 0)
    state = read_state(store)
    assert state is not None
    assert state.whole
    assert state.as_of == TAKEN
    assert read_snapshots(store)[0].session == dt.date(2026, 9, 9)
    assert read_spots(store, TAKEN).height == 3
    assert publish_all(store) == 1
    assert publish_all(store, dt.date(2026, 9, 10)) == 0


def test_a_first_load_that_is_ended_in_the_middle_is_gone_on_with(
    store: Engine, files: Path, monkeypatch: pytest.MonkeyPatch
):
    def die(*_: object) -> None:
        raise RuntimeError("ended")

    with monkeypatch.context() as patch:
        patch.setattr(importing, "_write_calendar", die)
        with pytest.raises(RuntimeError, match="ended"):
            load(store, files / "list.csv")
    for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet"):
        load(store, files / name)
    state = read_state(store)
    assert state is not None
    assert (state.whole, state.as_of, state.source) == (True, TAKEN, "files")


def test_the_file_of_refused_rows_can_be_mended_where_it_is_and_loaded(store: Engine, files: Path, tmp_path: Path):
    load(store, files / "list.csv")
    place = tmp_path / "refused" / "daily_bars.refused.csv"
    path = tmp_path / "daily_bars.csv"
    path.write_text("symbol,session,open,high,low,close\nAVERA,2026-09-08,10,9,11,10\nNOBODY,2026-09-08,1,1,1,1\n")
    assert counts(load(store, path, refused=place)) == (0, 0, 0, 2)
    place.write_text(place.read_text().replace("10,9,11,10", "10,11,9,10"))
    # It is read and written at once: what is still wrong takes its place when all of it was read.
    outcome = load(store, place, kind="daily_bars", refused=place)
    assert counts(outcome) == (1, 0, 0, 1)
    assert place.read_text().splitlines() == [
        "symbol,session,open,high,low,close,reason,line", "NOBODY,2026-09-08,1,1,1,1,no name is called NOBODY,3"
    ]  # fmt: skip
    assert list(place.parent.iterdir()) == [place]


def test_a_contract_that_ends_today_has_not_expired_though_it_is_tomorrow_in_greenwich(store: Engine, tmp_path: Path):
    late = dt.datetime(
        2026, 9, 19, 0, 30, tzinfo=dt.UTC
    )  # half past eight in the evening of the eighteenth in New York
    one = {
        "symbol": "AVERA",
        "taken_at": late,
        "strike": 100.0,
        "right": "C",
        "underlying": 100.0,
        "bid": 1.0,
        "ask": 1.1,
    }
    days = [dt.date(2026, 9, 17), dt.date(2026, 9, 18), dt.date(2026, 9, 19)]
    pl.DataFrame([one | {"expiration": day} for day in days]).write_parquet(tmp_path / "chains.parquet")
    assert counts(load(store, tmp_path / "chains.parquet", make_names=True)) == (2, 0, 0, 1)
    assert read_snapshots(store)[0].session == dt.date(2026, 9, 18)


def test_a_dry_run_does_not_go_on_with_what_was_ended(store: Engine, files: Path, monkeypatch: pytest.MonkeyPatch):
    load(store, files / "list.csv")
    begin_moment(store)
    before = read_state(store)
    load(store, files / "prices.csv", dry=True)
    assert read_state(store) == before
    load(store, files / "prices.csv")
    after = read_state(store)
    assert after is not None
    assert after.whole

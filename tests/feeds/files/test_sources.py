"""Two sources for the same item: who is preferred is served, the other one is kept beside, and where they differ is told."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import polars as pl
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine, select
from tests.feeds.files.made import SESSIONS, bars, counts, load
from tests.feeds.files.test_undoing import require_same, whole
from tests.waiting import until

from flinch.app import create_app
from flinch.feeds.files.importing import undo_import, write_change
from flinch.feeds.files.sources import disagreements, prefer, read_sources
from flinch.settings import Settings
from flinch.store.local_server import LocalServer
from flinch.store.market.models import DailyBar, EarningsReport, OtherRow
from flinch.store.reading import read_table

DAYS = [day.astype(object) for day in SESSIONS]


@pytest.fixture
def two(store: Engine, files: Path, tmp_path: Path) -> Engine:
    """North told all bars; South tells the last ten days of Avera, the last five of them two percent higher, and a day before."""
    load(store, files / "list.csv", source="North")
    load(store, files / "prices.csv", source="North")
    south().write_parquet(tmp_path / "daily_bars.parquet")
    return store


def south() -> pl.DataFrame:
    rows = bars().filter((pl.col("symbol") == "AVERA") & (pl.col("session") >= DAYS[-10]))
    lift = pl.when(pl.col("session") >= DAYS[-5]).then(1.02).otherwise(1.0)
    early = rows.head(1).with_columns(session=pl.lit(dt.date(2026, 2, 27)))
    return pl.concat([early, rows.with_columns(pl.col("close") * lift, pl.col("high") * lift)])


def closes(store: Engine) -> list[float]:
    b = DailyBar
    rows = read_table(store, select(b.session, b.close).where(b.name_id == 1).order_by(b.session))
    return [float(close) for close in rows["close"].tail(5)]


NORTH = bars().filter(pl.col("symbol") == "AVERA")["close"].tail(5).to_list()
SOUTH = [close * 1.02 for close in NORTH]


def test_who_told_first_is_served_and_the_other_is_kept_beside(two: Engine, tmp_path: Path):
    before = whole(two)
    path = tmp_path / "daily_bars.parquet"
    assert counts(load(two, path, source="South", dry=True)) == (6, 0, 5, 0), "one day is new, five are otherwise"
    outcome = load(two, path, source="South")
    assert (counts(outcome), outcome.beside) == ((6, 0, 5, 0), 5)
    assert closes(two) == pytest.approx(NORTH)
    assert counts(load(two, path, source="South")) == (0, 0, 11, 0), "the same file twice changes nothing"
    [told] = read_sources(two)
    assert (told.kind, told.order, told.beside) == ("daily_bars", ["North", "South"], {"South": 5})
    assert outcome.job is not None
    undo_import(two, outcome.job)
    require_same(two, before)


def test_a_source_that_agrees_now_disagrees_no_more_and_owns_nothing(two: Engine, tmp_path: Path):
    load(two, tmp_path / "daily_bars.parquet", source="South")
    told = bars().filter((pl.col("symbol") == "AVERA") & (pl.col("session") >= DAYS[-3]))
    told.write_parquet(tmp_path / "agreed.parquet")
    outcome = load(two, tmp_path / "agreed.parquet", source="South", kind="daily_bars")
    assert (counts(outcome), outcome.beside) == ((0, 3, 0, 0), 0), (
        "nothing else is told, and it is written all the same"
    )
    assert {one.column: (one.times, one.served_by) for one in disagreements(two)} == {
        "close": (2, "North"), "high": (2, "North")
    }  # fmt: skip
    assert closes(two) == pytest.approx(NORTH)
    assert counts(load(two, tmp_path / "agreed.parquet", source="South", kind="daily_bars")) == (0, 0, 3, 0)


def test_where_they_differ_is_told_by_how_much_and_since_when(two: Engine, tmp_path: Path):
    assert disagreements(two) == []
    load(two, tmp_path / "daily_bars.parquet", source="South")
    found = {one.column: one for one in disagreements(two)}
    assert set(found) == {"close", "high"}
    close = found["close"]
    assert (close.served_by, close.other, close.times, close.names) == ("North", "South", 5, 1)
    assert (close.first, close.last) == (DAYS[-5], DAYS[-1])
    assert close.widest[0].apart == pytest.approx(0.02)
    assert {one.symbol for one in close.widest} == {"AVERA"}
    assert float(close.widest[0].other) / float(close.widest[0].served) == pytest.approx(1.02)
    assert disagreements(two, tolerance=0.03) == []


def test_the_order_of_preference_decides_what_is_served(two: Engine, tmp_path: Path):
    load(two, tmp_path / "daily_bars.parquet", source="South")
    before = whole(two)
    number = write_change(two, "daily_bars", lambda: prefer(two, "daily_bars", ["South", "North"]))
    assert closes(two) == pytest.approx(SOUTH)
    assert {(one.served_by, one.other) for one in disagreements(two)} == {("South", "North")}
    # The other way round nothing is lost, and what was undone is as before.
    again = write_change(two, "daily_bars", lambda: prefer(two, "daily_bars", ["North", "South"]))
    assert closes(two) == pytest.approx(NORTH)
    undo_import(two, again)
    assert closes(two) == pytest.approx(SOUTH)
    undo_import(two, number)
    require_same(two, before)


def test_a_preferred_source_takes_the_place_of_what_was_served(two: Engine, tmp_path: Path):
    write_change(two, "daily_bars", lambda: prefer(two, "daily_bars", ["South", "North"]))
    outcome = load(two, tmp_path / "daily_bars.parquet", source="South")
    assert (counts(outcome), outcome.beside) == ((1, 5, 5, 0), 0)
    assert closes(two) == pytest.approx(SOUTH)
    # A correction of the source that is not served changes what is kept beside alone, and one that agrees ends it.
    corrected = south().with_columns(pl.col("close") * 0.99)
    corrected.write_parquet(tmp_path / "north.parquet")
    assert counts(load(two, tmp_path / "north.parquet", source="North", kind="daily_bars"))[1] >= 5
    assert closes(two) == pytest.approx(SOUTH)
    south().write_parquet(tmp_path / "north.parquet")
    load(two, tmp_path / "north.parquet", source="North", kind="daily_bars")
    assert [one for one in disagreements(two) if one.last >= DAYS[-5]] == []


def test_words_and_days_come_back_as_they_were(store: Engine, files: Path, tmp_path: Path):
    load(store, files / "list.csv")
    head = "symbol,session,timing,known_on\n"
    for source, row in (("North", "AVERA,2026-11-03,bmo,2026-08-01\n"), ("South", "AVERA,2026-11-03,amc,2026-09-01\n")):
        (tmp_path / "earnings_dates.csv").write_text(head + row)
        load(store, tmp_path / "earnings_dates.csv", source=source)
    [known, timing] = sorted(disagreements(store), key=lambda one: one.column)
    assert (timing.widest[0].served, timing.widest[0].other) == ("before_open", "after_close")
    assert (known.column, known.widest[0].other) == ("known_on", "2026-09-01")
    write_change(store, "earnings_dates", lambda: prefer(store, "earnings_dates", ["South", "North"]))
    e = EarningsReport
    [row] = read_table(store, select(e.timing, e.known_on)).rows()
    assert row == ("after_close", dt.date(2026, 9, 1))
    o = OtherRow
    assert read_table(store, select(o.source)).rows() == [("North",)]


def otherwise(client: FlaskClient, source: str) -> dict:
    """What comes of asking it."""
    job = client.post("/api/data/sources/daily_bars/otherwise?market=mine", json={"source": source}).json
    until(lambda: client.get(f"/api/data/otherwise/{job['id']}?market=mine").json["over"], "the screens")
    return client.get(f"/api/data/otherwise/{job['id']}?market=mine").json["told"]


def test_screens_that_would_answer_otherwise_are_told_and_nothing_is_changed(
    own: LocalServer, two: Engine, files: Path, tmp_path: Path
):
    """South has Avera two percent higher on the newest session: what asks for its price to be there takes it in."""
    load(two, tmp_path / "daily_bars.parquet", source="South")
    load(two, files / "chains-2026-09-09.parquet")
    client = create_app(Settings(), own.databases).test_client()
    at = "?market=mine"
    edge = NORTH[-1] * 1.01
    made = []
    for name, rule, universe in (
        ("above", f"close > {edge:.4f}", "name:AVERA"),
        ("below", f"close < {edge:.4f}", "name:AVERA"),
        ("whatever it is", "close > 0", "all"),
        ("gone", "close > 0", "basket:77777"),
    ):
        stack = {"universe": universe, "rules": [{"text": rule}]}
        body = {"name": name, "body": stack | {"table": "names", "columns": ["price"], "sort": []}}
        answer = client.post(f"/api/screens{at}", json=body)
        assert answer.status_code == 200, answer.json
        made.append(str(answer.json["id"]))
    before = whole(two)
    try:
        told = otherwise(client, "South")
        assert told["values"] == 5
        assert told["unread"] == 1, "its basket is not there any more"
        saved = {one["name"]: one for one in told["screens"] if one["saved"]}
        assert {name: (one["came"], one["went"], one["names"]) for name, one in saved.items()} == {
            "above": (["AVERA"], [], 0),
            "below": ([], ["AVERA"], 1),
        }
        assert [saved[name]["key"] for name in ("above", "below")] == made[:2]
        assert told["looked_at"] > 4, "the ready ones too"
        nobody = otherwise(client, "Nobody")
        assert (nobody["values"], nobody["screens"]) == (0, [])
        assert client.post(f"/api/data/sources/chains/otherwise{at}", json={"source": "South"}).status_code == 422
    finally:
        for number in made:
            client.delete(f"/api/screens/{number}{at}")
    require_same(two, before)
    assert own.databases.markets() == ["demo", "mine"], "nothing is left of what stood beside"
    assert closes(two) == pytest.approx(NORTH)

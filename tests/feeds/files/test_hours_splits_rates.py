"""Half days, exchanges elsewhere, splits, rates by day, and open interest that comes without chains."""

from __future__ import annotations

import datetime as dt
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import polars as pl
import pytest
from sqlalchemy import Engine, select
from tests.feeds.files.made import RATE, SESSIONS, TAKEN, bars, chain, counts, load
from tests.feeds.files.test_undoing import require_same, whole

from flinch.app import create_app
from flinch.core.calendar import Hours
from flinch.feeds.files.exporting import export_kinds
from flinch.feeds.files.importing import Asked, import_file, undo_import
from flinch.feeds.files.matching import CannotMatch
from flinch.feeds.files.values import Hints
from flinch.hours import read_hours
from flinch.market import Markets, load_frame
from flinch.settings import Settings
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.calendars import sessions_between
from flinch.store.market.chain import read_chain, read_spots
from flinch.store.market.models import Position
from flinch.store.market.settings import MarketSettings
from flinch.store.market.surfaces import read_expiries
from flinch.store.reading import read_table

HALF = dt.date(2026, 11, 27)
SPLIT = dt.date(2026, 8, 3)


def get(own: LocalServer, address: str) -> dict:
    answer = create_app(Settings(), own.databases).test_client().get(address)
    assert answer.status_code == 200, answer.json
    return answer.json


def of_a_week(folder: Path, days: np.ndarray, taken: str, expirations: tuple[str, ...]) -> list[Path]:
    """Names, bars of some days, and a chain of one of them with a flat price of time."""
    (folder / "names.csv").write_text("symbol,company\nAVERA,Avera Works\n")
    lines = [f"AVERA,{day},100,101,99,100,5000" for day in days]
    (folder / "daily_bars.csv").write_text("symbol,session,open,high,low,close,volume\n" + "\n".join(lines) + "\n")
    quotes = [
        f"AVERA,{taken},{expiration},{strike},{right},100,{value:.2f},{value + 0.1:.2f}"
        for expiration in expirations
        for strike in range(80, 125, 5)
        for right, value in (("C", max(100 - strike, 0) + 2.0), ("P", max(strike - 100, 0) + 2.0))
    ]
    (folder / "chains.csv").write_text(
        "symbol,taken_at,expiration,strike,right,underlying,bid,ask\n" + "\n".join(quotes) + "\n"
    )
    return [folder / f"{kind}.csv" for kind in ("names", "daily_bars", "chains")]


def test_a_half_day_ends_when_it_does(own: LocalServer, store: Engine, tmp_path: Path):
    days = sessions_between("XNYS", dt.date(2026, 11, 16), HALF).session
    for path in of_a_week(tmp_path, days, "2026-11-27T12:45:00-05:00", ("2026-11-27", "2026-12-18")):
        load(store, path)
    hours = read_hours(store)
    assert (hours.usual, hours.minutes(), hours.minutes(HALF)) == ((dt.time(9, 30), dt.time(16)), 390, 210)
    assert hours.closes(HALF) == dt.datetime(2026, 11, 27, 18, tzinfo=dt.UTC)
    assert hours.other[dt.date(2026, 12, 24)] == (dt.time(9, 30), dt.time(13))
    moment = dt.datetime(2026, 11, 27, 17, 45, tzinfo=dt.UTC)
    first, second = read_expiries(store, moment, np.array([1]), 1)[0]
    assert first.years * 525_600 == pytest.approx(15), "the contracts of the day end at one"
    assert second.years * 525_600 == pytest.approx(
        (dt.datetime(2026, 12, 18, 21, tzinfo=dt.UTC) - moment).total_seconds() / 60
    )
    # Each minute from seven to five: of the half day hours end at 13:00, and what follows is after the close.
    at = [
        dt.datetime(2026, 11, day, 12, tzinfo=dt.UTC) + dt.timedelta(minutes=m) for day in (25, 27) for m in range(600)
    ]
    lines = [f"AVERA,{one.isoformat()},100,100,100,100,10" for one in at if one < moment]
    (tmp_path / "minute_bars.csv").write_text("symbol,at,open,high,low,close,volume\n" + "\n".join(lines) + "\n")
    load(store, tmp_path / "minute_bars.csv")
    chart = get(own, "/api/dossier/price/AVERA?market=mine&length=60")
    assert [at[11:16] for at in chart["at"] if at.startswith("2026-11-25")] == [
        f"{hour}:30" for hour in (14, 15, 16, 17, 18, 19, 20)
    ]
    assert [at[11:16] for at in chart["at"] if at.startswith("2026-11-27")] == ["14:30", "15:30", "16:30", "17:30"]
    quarter = get(own, "/api/dossier/expected-move/AVERA?market=mine")["intraday"]
    assert quarter["session_minutes"] == 210
    assert get(own, "/api/market?market=mine")["as_of"] == "2026-11-27T12:45:00-05:00"


def test_the_bars_of_a_half_day_are_followed_by_those_of_the_next_one(own: LocalServer, store: Engine, tmp_path: Path):
    days = sessions_between("XNYS", dt.date(2026, 11, 16), dt.date(2026, 11, 30)).session
    for path in of_a_week(tmp_path, days, "2026-11-30T15:45:00-05:00", ("2026-12-18",)):
        load(store, path)
    at = [
        dt.datetime(2026, 11, day, 14, 30, tzinfo=dt.UTC) + dt.timedelta(minutes=m)
        for day in (27, 30)
        for m in range(390)
    ]
    lines = [f"AVERA,{one.isoformat()},100,100,100,100,10" for one in at]
    (tmp_path / "minute_bars.csv").write_text("symbol,at,open,high,low,close,volume\n" + "\n".join(lines) + "\n")
    load(store, tmp_path / "minute_bars.csv")
    told = [at[:16] for at in get(own, "/api/dossier/price/AVERA?market=mine&length=15")["at"]]
    assert told.index("2026-11-30T14:30") == told.index("2026-11-27T17:45") + 1
    beyond = [
        at[11:16]
        for at in get(own, "/api/dossier/price/AVERA?market=mine&length=15&extended=true")["at"]
        if at[8:10] == "27"
    ]
    assert beyond[14] == "18:00", "the close ends a bar, and the hours after it begin with one"
    assert len(beyond) == 26


def test_a_market_on_the_other_side_of_the_world(own: LocalServer, markets: Markets, tmp_path: Path):
    markets.make("tokyo", MarketSettings("XTKS", "JPY", None, 0.01, "Asia/Tokyo"))
    try:
        store = make_engine(own.databases.market_url("tokyo"))
        day = dt.date(2026, 9, 10)
        days = sessions_between("XTKS", dt.date(2026, 9, 1), day).session
        # Half past nine in Tokyo is the evening of the day before in New York.
        for path in of_a_week(tmp_path, days, "2026-09-10T09:30:00+09:00", ("2026-09-11", "2026-10-09")):
            load(store, path)
        moment = dt.datetime(2026, 9, 10, 0, 30, tzinfo=dt.UTC)
        close = sessions_between("XTKS", dt.date(2026, 9, 11), dt.date(2026, 9, 11)).closes[0].astype("datetime64[s]")
        first = read_expiries(store, moment, np.array([1]), 1)[0][0]
        assert first.years * 525_600 == pytest.approx(
            (close.astype(object).replace(tzinfo=dt.UTC) - moment).total_seconds() / 60
        )
        market = get(own, "/api/market?market=tokyo")
        assert (market["as_of"], market["zone"], market["sessions"][-1]) == (
            "2026-09-10T09:30:00+09:00", "Asia/Tokyo", "2026-09-10",
        )  # fmt: skip
        store.dispose()
    finally:
        markets.remove("tokyo")


def split_files(folder: Path) -> None:
    """As the files are made, but for Celda: until a day it is told of a third of the shares, as it was traded."""
    before = (pl.col("symbol") == "CELDA") & (pl.col("session") < SPLIT)
    rows = bars().with_columns(
        (pl.col(price) * pl.when(before).then(3.0).otherwise(1.0)).alias(price)
        for price in ("open", "high", "low", "close")
    )
    rows.with_columns(volume=pl.when(before).then(pl.col("volume") * 10).otherwise(pl.col("volume") * 30)).write_csv(
        folder / "prices.csv"
    )
    earlier = chain(dt.datetime(2026, 7, 31, 19, 45, tzinfo=dt.UTC))
    celda = pl.col("symbol") == "CELDA"
    earlier.with_columns(
        (pl.col(name) * pl.when(celda).then(3.0).otherwise(1.0)).round(4).alias(name)
        for name in ("strike", "underlying", "bid", "ask")
    ).write_parquet(folder / "chains-2026-07-31.parquet")
    (folder / "splits.csv").write_text(f"symbol,ex_date,ratio\nCELDA,{SPLIT},3\n")
    (folder / "dividends.csv").write_text("symbol,ex_date,declared_on,amount\nCELDA,2026-07-01,2026-06-01,0.9\n")


def test_what_came_before_a_split_is_told_of_the_shares_after_it(own: LocalServer, store: Engine, files: Path):
    split_files(files)
    (files / "minute_bars.csv").write_text(
        "symbol,at,open,high,low,close,volume\nCELDA,2026-07-31T14:00:00-04:00,300,303,297,300,10\n"
        "CELDA,2026-09-09T14:00:00-04:00,90,90,90,90,10\n"
    )
    for name in ("list.csv", "prices.csv", "chains-2026-07-31.parquet", "chains-2026-09-09.parquet", "dividends.csv",
                 "minute_bars.csv"):  # fmt: skip
        load(store, files / name)
    before = whole(store)
    july = dt.datetime(2026, 7, 31, 19, 45, tzinfo=dt.UTC)
    unsplit = read_expiries(store, july, np.array([3]), 3)[0]
    outcome = load(store, files / "splits.csv")
    assert counts(outcome) == (1, 0, 0, 0)
    plain = bars().filter(pl.col("symbol") == "CELDA")
    frame = load_frame(store)
    assert frame.close[2].tolist() == pytest.approx(plain["close"].to_list(), rel=1e-12)
    assert frame.volume[2].tolist() == pytest.approx((plain["volume"] * 30).to_list())
    assert frame.close[0].tolist() == bars().filter(pl.col("symbol") == "AVERA")["close"].to_list()
    assert frame.daily["dividend_ttm"][2, -1] == pytest.approx(0.3)
    # Surfaces of before are read again: forwards a third, volatilities as they were.
    told = read_expiries(store, july, np.array([3]), 3)[0]
    assert [one.forward for one in told] == pytest.approx([one.forward / 3 for one in unsplit], rel=1e-6)
    assert [one.vol for one in told] == pytest.approx([one.vol for one in unsplit], rel=1e-6)
    chart = get(own, "/api/dossier/price/CELDA?market=mine&length=day&as_of=2026-07-31")
    assert chart["price"] == pytest.approx(plain.filter(pl.col("session") == dt.date(2026, 7, 31))["close"].item())
    quoted = read_chain(store, 3, july)
    assert quoted["strike"].max() < 1.4 * 100 * 3 / 2, "strikes are those of the new shares"
    assert set(quoted["volume"].to_list()) == {30}
    # What is written out is as it was traded, and is loaded again as nothing new.
    export_kinds(store, ["daily_bars", "chains", "minute_bars"], files / "out", "parquet")
    for path in sorted((files / "out").glob("*.parquet")):
        assert counts(load(store, path))[:2] == (0, 0), path.name
    undo_import(store, outcome.job)
    require_same(store, before)


def test_a_source_that_adjusts_is_not_adjusted_again(store: Engine, files: Path):
    split_files(files)
    for name in ("list.csv", "splits.csv"):
        load(store, files / name)
    adjusted = bars().rename({"symbol": "Symbol", "session": "Date"})
    adjusted.write_csv(files / "adjusted.csv")
    first = import_file(store, Asked(files / "adjusted.csv", "daily_bars", "Abacus", hints=Hints(adjusted=True)))
    assert first.added == bars().height
    plain = bars().filter(pl.col("symbol") == "CELDA")["close"].to_list()
    assert load_frame(store).close[2].tolist() == plain
    # It is remembered of the source; one that does not adjust is.
    again = bars().with_columns(close=pl.col("close") + 0.01).rename({"symbol": "Symbol", "session": "Date"})
    again.with_columns(high=pl.col("high") + 1).write_csv(files / "again.csv")
    import_file(store, Asked(files / "again.csv", source="Abacus"))
    assert load_frame(store).close[2].tolist() == pytest.approx([close + 0.01 for close in plain])
    # Written out, they are as they were traded.
    export_kinds(store, ["daily_bars"], files / "out", "parquet")
    out = pl.read_parquet(files / "out" / "daily_bars.parquet").filter(pl.col("symbol") == "CELDA").sort("session")
    factor = [3 if day.astype(object) < SPLIT else 1 for day in SESSIONS]
    assert out["close"].to_list() == pytest.approx([(c + 0.01) * f for c, f in zip(plain, factor, strict=True)])
    with pytest.raises(CannotMatch, match="only those of daily_bars and extended_days"):
        import_file(store, Asked(files / "splits.csv", "splits", hints=Hints(adjusted=True)))


def test_chains_of_an_evening_are_of_the_session_before_a_split(store: Engine, files: Path):
    """Half past eight in the evening is the next day in Greenwich, which is the day of the split."""
    evening = dt.datetime(2026, 9, 9, 0, 30, tzinfo=dt.UTC)
    chain(evening).write_parquet(files / "chains-2026-09-08.parquet")
    (files / "splits.csv").write_text("symbol,ex_date,ratio\nCELDA,2026-09-09,3\n")
    for name in ("list.csv", "prices.csv", "chains-2026-09-08.parquet", "splits.csv"):
        load(store, files / name)
    told = chain(evening).group_by("symbol").agg(pl.col("underlying").first(), pl.col("strike").max()).sort("symbol")
    spots = read_spots(store, evening)["price"].to_list()
    assert spots == pytest.approx([price / share for price, share in zip(told["underlying"], (1, 1, 3), strict=True)])
    assert read_chain(store, 3, evening)["strike"].max() == pytest.approx(told["strike"][2] / 3)


def test_a_split_ahead_counts_from_its_day_on(store: Engine, files: Path):
    split_files(files)
    prices = pl.read_csv(files / "prices.csv", try_parse_dates=True)
    prices.filter(pl.col("session") < SPLIT).write_csv(files / "before.csv")
    for name in ("list.csv", "before.csv", "chains-2026-07-31.parquet", "splits.csv"):
        load(store, files / name, kind="daily_bars" if name == "before.csv" else None)
    july = dt.datetime(2026, 7, 31, 19, 45, tzinfo=dt.UTC)
    high = float(load_frame(store).close[2, -1])
    forward = read_expiries(store, july, np.array([3]), 3)[0][0].forward
    load(store, files / "prices.csv")
    frame = load_frame(store)
    place = int(np.searchsorted(frame.sessions, np.datetime64("2026-07-31")))
    assert frame.close[2, place] == pytest.approx(high / 3)
    assert read_expiries(store, july, np.array([3]), 3)[0][0].forward == pytest.approx(forward / 3, rel=1e-6)


def test_the_rate_of_a_session_is_that_of_thirty_days(own: LocalServer, store: Engine, files: Path):
    for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet"):
        load(store, files / name)
    before = read_expiries(store, TAKEN, np.array([1]), 1)[0]
    (files / "rates.csv").write_text(
        "session,tenor,yield\n2026-06-01,10,8\n2026-06-01,90,4\n2026-09-09,30,5\n2026-12-01,30,9\n"
    )
    outcome = load(store, files / "rates.csv", kind="rates", hints=Hints(percent=frozenset({"rate"})))
    assert counts(outcome) == (4, 0, 0, 0)
    frame = load_frame(store)
    day = {str(one): float(rate) for one, rate in zip(frame.sessions, frame.rate, strict=True)}
    assert day["2026-05-29"] == RATE, "before the first the market's own"
    assert day["2026-06-01"] == day["2026-09-08"] == pytest.approx(0.07), "a quarter of the way from ten to ninety days"
    assert day["2026-09-09"] == pytest.approx(0.05)
    # Surfaces are read again with it: the same forward, by parity, is another carry.
    after = read_expiries(store, TAKEN, np.array([1]), 1)[0]
    assert [one.carry - then.carry for one, then in zip(after, before, strict=True)] == pytest.approx(
        [0.02] * 3, abs=0.002
    )
    (files / "asked.csv").write_text("session,days,rate\n2026-06-01,10,0.5\n")
    with pytest.raises(CannotMatch, match="decimals or in percent"):
        load(store, files / "asked.csv", kind="rates")


def test_open_interest_that_came_without_chains_is_laid_beside_them(store: Engine, files: Path):
    bare = chain().drop("open_interest")
    bare.write_parquet(files / "chains-2026-09-09.parquet")
    for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet"):
        load(store, files / name)
    strike = chain().filter(pl.col("symbol") == "AVERA")["strike"][0]
    lines = [f"AVERA,2026-09-09,2026-09-18,{rest}" for rest in (f"{strike},C,70", f"{strike},P,30", "1,P,5")]
    header = "symbol,session,expiration,strike,right,open_interest\n"
    (files / "open_interest.csv").write_text(header + "\n".join(lines) + "\n")
    outcome = load(store, files / "open_interest.csv")
    assert counts(outcome) == (3, 0, 0, 0)
    told = read_chain(store, 1, TAKEN, dt.date(2026, 9, 18)).filter(pl.col("strike") == strike).sort("is_call")
    assert told["open_interest"].to_list() == [30, 70]
    p = Position
    exposure = read_table(store, select(p.call_exposure, p.put_exposure).where(p.name_id == 1))
    assert exposure["call_exposure"][0] > 0 > exposure["put_exposure"][0], "exposure follows from it"
    assert read_chain(store, 2, TAKEN)["open_interest"].sum() == 0
    assert counts(load(store, files / "open_interest.csv")) == (0, 0, 3, 0)
    (files / "open_interest.csv").write_text(header + lines[0][:-2] + "71\n")
    assert counts(load(store, files / "open_interest.csv")) == (0, 1, 0, 0)
    told = read_chain(store, 1, TAKEN, dt.date(2026, 9, 18)).filter(pl.col("strike") == strike).sort("is_call")
    assert told["open_interest"].to_list() == [30, 71], "what the file does not tell stays"
    # Chains that have their own keep it.
    chain().write_parquet(files / "chains-2026-09-09.parquet")
    load(store, files / "chains-2026-09-09.parquet")
    assert set(read_chain(store, 1, TAKEN)["open_interest"]) == {500}


def test_hours_of_an_exchange():
    hours = Hours(ZoneInfo("Europe/Berlin"), (dt.time(9), dt.time(17, 30)), {HALF: (dt.time(9), dt.time(14))})
    assert (hours.minutes(), hours.minutes(HALF), hours.most()) == (510, 300, 510)
    assert hours.day_of(dt.datetime(2026, 11, 26, 23, 30, tzinfo=dt.UTC)) == HALF
    assert hours.opens(HALF).utcoffset() == dt.timedelta(hours=1)

"""The simulated off-exchange prints: they agree with price and volume, and know something in a share of names."""

import datetime as dt

import numpy as np
import polars as pl
import pytest

from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.calendar import AS_OF, CLOSE, EXCHANGE_ZONE, OPEN
from flinch.feeds.simulated.prints import LEAST_NOTIONAL, LEAST_SHARES, PRINT_SESSIONS
from flinch.store.market.prints import AVERAGE, DERIVATIVE, LATE


@pytest.fixture(scope="module")
def prints(simulated: SimulatedMarket) -> pl.DataFrame:
    return simulated.prints


def test_sixty_sessions_of_every_name_that_trades_more_for_large_ones(simulated: SimulatedMarket, prints, stories):
    assert sorted(set(prints["session"])) == list(range(504 - PRINT_SESSIONS, 504))
    assert 400_000 < prints.height < 1_000_000
    order = prints.select("session", "name", "at")
    assert order.equals(order.sort("session", "name", "at"))
    count = np.bincount(prints["name"].to_numpy(), minlength=len(simulated.names))
    without = {name.symbol for name, n in zip(simulated.names, count, strict=True) if n == 0}
    assert without == {n.symbol for n in simulated.names if n.kind == "index"} | {stories["no prints at all"].symbol}
    size = np.array([name.size for name in simulated.names])
    medians = [np.median(count[size == s]) for s in ("large", "medium", "small")]
    assert medians[0] > 3 * medians[1] > 9 * medians[2] > 0


def test_each_is_large_enough_to_be_told_or_a_piece_of_one(prints):
    told = prints.with_columns(pl.col("at") // 1000)
    piece = told.group_by("session", "name", "at").agg(pl.col("shares").sum(), pl.col("price").mean())
    large = (piece["shares"] >= LEAST_SHARES) | (piece["shares"] * piece["price"] >= LEAST_NOTIONAL)
    assert large.mean() > 0.99
    assert prints["shares"].min() > 0


def test_shares_are_a_part_of_the_volume(simulated: SimulatedMarket, prints):
    total = np.bincount(
        prints["name"].to_numpy() * 504 + prints["session"].to_numpy(), prints["shares"].to_numpy(), 502 * 504
    )
    share = total.reshape(502, 504)[:, -PRINT_SESSIONS:] / simulated.volume[:, -PRINT_SESSIONS:]
    companies = [name.kind == "stock" for name in simulated.names]
    assert np.nanmax(share[companies]) < 0.75
    assert 0.02 < np.nanmedian(share[companies]) < 0.3


def test_prices_are_those_of_the_stock_then(simulated: SimulatedMarket, prints, stories):
    planted = [i for i, n in enumerate(simulated.names) if n.symbol in {s.symbol for s in stories.values() if s.prints}]
    plain = prints.filter((pl.col("conditions") == 0) & ~pl.col("name").is_in(planted))
    name, session = plain["name"].to_numpy(), plain["session"].to_numpy()
    minute = plain["at"].to_numpy() // 60_000 - (13 * 60 + 30)
    regular = minute < 390
    price = plain["price"].to_numpy()
    low, high = simulated.low[name, session], simulated.high[name, session]
    assert (price[regular] >= low[regular] - 0.011).all(), "a piece of a print may lie a tick beside it"
    assert (price[regular] <= high[regular] + 0.011).all()
    close = simulated.close[name, session]
    assert (np.abs(price[~regular] / close[~regular] - 1) < 0.006).all()
    # In the newest sessions they lie beside that minute's bar.
    bars = simulated.minute_bars.with_columns(pl.col("at").dt.truncate("1m").alias("minute"))
    opens = dt.datetime(2026, 9, 8, 13, 30)
    day = plain.filter((pl.col("session") == 502) & pl.Series(regular)).with_columns(
        (pl.lit(opens) + pl.duration(minutes=pl.Series(minute[(session == 502) & regular])))
        .cast(pl.Datetime("ms"))
        .alias("minute")
    )
    both = day.join(bars, on=["name", "minute"], how="inner", suffix="_bar")
    assert both.height > 5_000
    away = (both["price"] / both["close"] - 1).abs()
    assert away.median() < 0.001
    assert (away < 0.004).mean() > 0.98


def test_they_come_until_the_evening_and_until_now(simulated: SimulatedMarket, prints):
    begins = OPEN.hour * 60 + OPEN.minute
    for session in (450, 502, 503):
        minute = prints.filter(pl.col("session") == session)["at"].to_numpy() / 60_000 - 4 * 60
        assert minute.min() >= begins
        after = (minute >= CLOSE.hour * 60).mean()
        if session == 503:
            assert minute.max() < AS_OF.astimezone(EXCHANGE_ZONE).hour * 60 + AS_OF.minute + 0.1
        else:
            assert 0.03 < after < 0.1


def test_some_are_at_an_average_some_follow_from_something_else_some_are_late(prints):
    conditions = prints["conditions"].to_numpy()
    assert 0.02 < (conditions & AVERAGE > 0).mean() < 0.04
    assert 0.005 < (conditions & DERIVATIVE > 0).mean() < 0.02
    assert 0.005 < (conditions & LATE > 0).mean() < 0.02


def test_a_halted_name_prints_no_longer(simulated: SimulatedMarket, prints, stories):
    row = next(i for i, n in enumerate(simulated.names) if n.symbol == stories["halted"].symbol)
    mine = prints.filter((pl.col("session") == 503) & (pl.col("name") == row))
    assert mine["at"].max() / 60_000 - 4 * 60 < 11 * 60

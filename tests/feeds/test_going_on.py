"""The simulated exchange as it goes on: the same days whoever makes them and whenever, and days that are like those before."""

from __future__ import annotations

import datetime as dt

import numpy as np
import polars as pl
import pytest
from numpy.typing import NDArray

from flinch.core.calendar import years_to_close
from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.calendar import AS_OF, EXCHANGE_ZONE, session_opens
from flinch.feeds.simulated.chains import Snapshot
from flinch.feeds.simulated.day import Day, next_day
from flinch.feeds.simulated.onward import Onward
from flinch.store.market.chain import stored
from flinch.store.market.tape import CANCELLED


@pytest.fixture(scope="module")
def days(simulated: SimulatedMarket) -> list[Day]:
    """What was left of the newest session, and the three after it; the last ends with a Friday's expirations."""
    made, onward = [], Onward.from_bytes(simulated.onward.to_bytes())
    for _ in range(3):
        day, onward = next_day(onward)
        made.append(day)
    return made


def told(day: Day) -> dict[str, pl.DataFrame]:
    made = day.made
    return {"minutes": made.minutes, "tape": made.tape, "prints": made.prints, "news": made.news}


def same(one: Snapshot, other: Snapshot) -> bool:
    return all(
        np.array_equal(a, b, equal_nan=a.dtype.kind == "f") for a, b in zip(one.chain, other.chain, strict=True)
    ) and np.array_equal(one.spot, other.spot)


def closing(day: Day) -> dt.datetime:
    return day.opened + dt.timedelta(minutes=390)


def test_a_state_comes_back_from_bytes_and_other_bytes_are_refused(simulated: SimulatedMarket):
    kept = simulated.onward.to_bytes()
    assert Onward.from_bytes(kept).to_bytes() == kept
    for bad in (b"", b"no state", kept[:-400], kept[:200] + kept[300:]):
        with pytest.raises(ValueError, match="no state of the exchange"):
            Onward.from_bytes(bad)


def test_the_same_seed_makes_the_same_days_wherever_it_was_stopped(simulated: SimulatedMarket, days: list[Day]):
    onward = simulated.onward
    for day in days:
        again, onward = next_day(Onward.from_bytes(onward.to_bytes()))
        for (kind, one), other in zip(told(day).items(), told(again).values(), strict=True):
            assert one.equals(other), f"{kind} of {day.day}"
    # What is looked at first, and whether anything was looked at before, changes nothing of a look.
    with_chains = [moment for moment in days[1].moments if days[1].looked_at(moment).all()]
    late, early = days[1].snapshot(with_chains[40]), days[1].snapshot(with_chains[3])
    assert same(early, again_snapshot(simulated, with_chains[3]))
    assert same(late, again_snapshot(simulated, with_chains[40]))


def again_snapshot(simulated: SimulatedMarket, moment: dt.datetime) -> Snapshot:
    _, onward = next_day(simulated.onward)
    return next_day(onward)[0].snapshot(moment)


def test_making_a_day_leaves_what_it_was_made_from_as_it_was(simulated: SimulatedMarket):
    kept = simulated.onward.to_bytes()
    next_day(simulated.onward)
    assert simulated.onward.to_bytes() == kept


def test_it_goes_on_where_the_market_was(simulated: SimulatedMarket, days: list[Day]):
    rest, first = days[0], days[1]
    assert rest.moments[0] == AS_OF + dt.timedelta(minutes=1)
    began = np.datetime64(AS_OF.astimezone(dt.UTC).replace(tzinfo=None), "ms")
    minute = rest.made.minutes.filter(pl.col("at") == began)
    moving = minute["name"].to_numpy()
    # A cent either way: the bar opens where the last one closed.
    assert np.abs(minute["open"].to_numpy() - simulated.close[moving, -1]).max() <= 0.011
    assert (rest.made.minutes["at"].to_numpy() >= began).all()
    assert first.moments[0] == dt.datetime(2026, 9, 10, 9, 35, tzinfo=EXCHANGE_ZONE)
    bar, opened = rest.bar(closing(rest)), simulated.open[:, -1]
    assert np.array_equal(bar[0], opened)
    assert (bar[1] >= simulated.high[:, -1]).all()
    assert (bar[2] <= simulated.low[:, -1]).all()
    more = np.nan_to_num(bar[4] - simulated.volume[:, -1])
    assert (more >= 0).all()
    assert 0.02 < more.sum() / np.nansum(simulated.volume[:, -1]) < 0.12


def test_a_name_that_was_halted_stays_so_until_the_close_and_trades_the_day_after(days: list[Day]):
    rest, first = days[:2]
    halted = np.flatnonzero(rest.ground.halted)
    assert halted.size
    assert not np.isin(rest.made.minutes["name"], halted).any()
    assert not np.isin(rest.made.tape["name"], halted).any()
    assert np.isin(halted, first.made.minutes["name"]).all()
    assert np.isfinite(first.snapshot(first.moments[0]).chain.bid).all()


def test_what_trades_of_a_contract_is_what_its_volume_rises_by(days: list[Day]):
    day = days[2]
    looks = [moment for moment in day.moments if day.looked_at(moment).all()]
    opened = (session_opens(np.array([day.session]))[0] - day.session.astype("datetime64[m]")).astype(np.int64) * 60_000
    before = 0
    for moment in (*looks[:60:20], closing(day)):
        snapshot = day.snapshot(moment)
        upto = opened + (moment - day.opened) // dt.timedelta(milliseconds=1)
        # What is told twice was traded once.
        fills = day.made.tape.filter((pl.col("at") < upto) & ((pl.col("conditions") & CANCELLED) == 0)).unique()
        if moment == closing(day):
            fills = fills.filter(pl.col("expiration") > day.day)
        assert snapshot.chain.volume.sum() == fills["contracts"].sum()
        assert moment == closing(day) or snapshot.chain.volume.sum() > before
        before = snapshot.chain.volume.sum()


def test_what_expires_is_quoted_to_the_last_minute_and_gone_at_the_close(days: list[Day]):
    friday = days[2]
    assert friday.day == dt.date(2026, 9, 11)
    last = friday.snapshot(closing(friday) - dt.timedelta(minutes=5))
    ending = last.expiries.expiration == friday.session
    assert ending.any()
    assert np.isfinite(last.chain.bid[ending[last.chain.expiry]]).all()
    assert (last.expiries.years[ending] > 0).all()
    closed = friday.snapshot(closing(friday))
    assert (closed.expiries.expiration > friday.session).all()
    assert np.array_equal(closed.expiries.years, years_to_close(closed.expiries.expiration, closing(friday)))


def test_open_interest_of_a_morning_is_that_of_the_one_before_and_what_was_opened(days: list[Day]):
    thursday, friday = days[1:]
    one, other = (day.snapshot(day.moments[0]) for day in (thursday, friday))
    traded = thursday.snapshot(closing(thursday))

    def table(snapshot: Snapshot, **columns: NDArray[np.int64]) -> pl.DataFrame:
        expiries, chain = snapshot.expiries, snapshot.chain
        keys = {"name": expiries.name[chain.expiry], "expiration": expiries.expiration[chain.expiry]}
        return pl.DataFrame(keys | {"strike": chain.strike, "call": chain.is_call} | columns)

    on = ["name", "expiration", "strike", "call"]
    both = table(one, then=one.chain.open_interest).join(table(other, now=other.chain.open_interest), on=on)
    both = both.join(table(traded, volume=traded.chain.volume), on=on)
    change = (both["now"] - both["then"]).abs()
    assert both.height > 200_000
    assert (change <= both["volume"]).all()
    assert (change > 0).sum() > 10_000


def test_days_are_like_those_before(simulated: SimulatedMarket, days: list[Day]):
    stock = np.array([name.kind == "stock" for name in simulated.names])
    past = np.log(simulated.close[stock, 1:] / simulated.close[stock, :-1])
    usual = np.quantile(past.std(axis=0), (0.02, 0.98))
    shares = np.quantile(np.nansum(simulated.volume[:, 1:-1], axis=0), (0.0, 1.0))
    for day in days[1:]:
        move = np.log(day.ground.close[stock, 1] / day.ground.close[stock, 0])
        assert usual[0] < move.std() < usual[1]
        traded = np.nansum(day.bar(closing(day))[4])
        assert 0.8 * shares[0] < traded < 1.2 * shares[1]
        at = day.made.minutes["at"].to_numpy()
        assert (np.diff(np.unique(at)) > np.timedelta64(0)).all()
    quotes = days[1].snapshot(days[1].moments[0])
    before = simulated.snapshots[-1].expiries.vol
    assert abs(np.median(quotes.expiries.vol) / np.median(before) - 1) < 0.15


def test_a_bar_grows_minute_by_minute_to_that_of_the_day(days: list[Day]):
    day = days[1]
    before = day.bar(day.moments[0])
    for moment in (*day.moments[60:400:80], closing(day)):
        now = day.bar(moment)
        assert np.array_equal(now[0], before[0])
        assert (now[1] >= before[1]).all()
        assert (now[2] <= before[2]).all()
        assert (np.nan_to_num(now[4]) >= np.nan_to_num(before[4])).all()
        before = now
    assert np.allclose(before[3], day.ground.close[:, 1], atol=0.011)
    assert np.array_equal(day.bar(day.moments[-1])[:4], before[:4]), "the evening is not of the bar"


def test_who_reports_moves_by_what_follows_and_its_next_report_is_told(simulated: SimulatedMarket):
    _, onward = next_day(simulated.onward)
    reacted = 0
    for _ in range(5):
        day, onward = next_day(onward)
        earnings, reports = day.ground.earnings, day.reports()
        hit = np.flatnonzero(earnings.reaction == 1)
        assert set(reports["company"]) <= set(earnings.company[hit].tolist())
        assert (reports["session"] > day.day).all()
        opened = day.bar(day.moments[0])[0]
        for place in hit[np.abs(earnings.jump[hit]) > 0.05].tolist():
            company = earnings.company[place]
            assert (opened[company] > day.ground.close[company, 0]) == (earnings.jump[place] > 0)
            reacted += 1
    assert reacted


def test_some_of_what_goes_wrong_with_markets_goes_wrong_here(days: list[Day]):
    """Fills are told twice and corrected, and one of the two whole days has a halt; what is traded stays what it was."""
    for day in days[1:]:
        tape = day.made.tape
        twice = tape.height - tape.unique().height
        cancelled = tape.filter((pl.col("conditions") & CANCELLED) > 0).height
        assert 10 < twice < 0.002 * tape.height
        assert 10 < cancelled < 0.002 * tape.height
    assert days[0].made.halt is None, "of the session that the market was made in no more goes wrong"
    halted = [day for day in days[1:] if day.made.halt]
    assert halted
    for day in halted:
        halt = day.made.halt
        assert halt is not None
        begin, end = (day.opened + dt.timedelta(minutes=minute) for minute in (halt.begin, halt.end))
        within = pl.col("at").is_between(*(stored(moment) for moment in (begin, end)), closed="left")
        assert day.made.minutes.filter((pl.col("name") == halt.name) & within).is_empty()
        midnight = dt.datetime.combine(day.day, dt.time(), dt.UTC)
        span = [(moment - midnight) // dt.timedelta(milliseconds=1) for moment in (begin, end)]
        for trades in (day.made.tape, day.made.prints):
            mine = trades.filter((pl.col("name") == halt.name) & pl.col("at").is_between(*span, closed="left"))
            assert mine.is_empty()
        looks = [moment for moment in day.moments if day.looked_at(moment).all()]
        inside = next(moment for moment in looks if begin <= moment < end)
        after = next(moment for moment in looks if moment >= end)
        for moment, quoted in ((inside, False), (after, True)):
            chain = (snapshot := day.snapshot(moment)).chain
            mine_rows = snapshot.expiries.name[chain.expiry] == halt.name
            assert np.isfinite(chain.bid[mine_rows]).any() == quoted
            others = np.isfinite(chain.bid[~mine_rows & ~day.ground.halted[snapshot.expiries.name[chain.expiry]]])
            assert others.all()


def test_who_moves_far_between_two_looks_is_looked_at_at_once_and_nobody_else(days: list[Day]):
    at_once = 0
    for day in days[1:]:
        first = day.snapshot(day.moments[0])
        # What options of about thirty days price for a day.
        rows = pl.DataFrame(
            {"name": first.expiries.name, "vol": first.expiries.vol, "far": abs(first.expiries.years - 30 / 365)}
        )
        nearest = rows.sort("far").unique("name", keep="first").sort("name")
        assert nearest.height == len(day.names)
        expected = nearest["vol"].to_numpy() / np.sqrt(252)
        last = np.full(len(day.names), np.nan)
        for moment in day.moments:
            minute = (moment - day.opened) // dt.timedelta(minutes=1)
            looked = day.looked_at(moment)
            if minute > 390:
                assert not looked.any()
                continue
            price = day.made.spots[:, minute - 1]
            if minute % 5 == 0:
                assert looked.all()
            else:
                moved = np.abs(np.log(price / last)) / expected
                assert (moved[looked] > 0.48).all()
                halt = day.made.halt
                trades = np.array(
                    [halt is None or row != halt.name or not halt.covers(minute) for row in range(looked.size)]
                )
                assert (moved[~looked & trades] < 0.52).all()
                at_once += looked.sum()
            last = np.where(looked, price, last)
    assert 10 < at_once < 100

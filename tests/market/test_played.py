"""A session played again: its bars, trades and looks at the chains as they were at a minute."""

from __future__ import annotations

import datetime as dt
import threading
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import polars as pl
import pytest
from tests.waiting import comes, until

from flinch.core.volatility import constant_maturity_vol, smile_vol
from flinch.feeds.simulated import SimulatedMarket
from flinch.market import NotKept, View, opened, played, played_sessions, view_at
from flinch.market.surfaces import carried
from flinch.market.version import BeingRead
from flinch.store.market.surfaces import read_expiries

TUESDAY, WEDNESDAY = dt.date(2026, 9, 8), dt.date(2026, 9, 9)


def at(day: dt.date, hour: int, minute: int) -> dt.datetime:
    return dt.datetime.combine(day, dt.time(hour, minute))


def test_a_bar_so_far_is_made_of_the_minutes_that_were_over(market: View, simulated: SimulatedMarket):
    view = view_at(market, at(TUESDAY, 11, 0))
    assert view.today == TUESDAY
    assert view.as_of.isoformat() == "2026-09-08T11:00:00-04:00"
    for symbol in ("TARNO", "BELUA", "KESEO"):
        row = view.row(symbol)
        # New York is four hours behind in September; the minute that begins at eleven is not over.
        minutes = simulated.minute_bars.filter(
            (pl.col("name") == row)
            & (pl.col("at") >= dt.datetime(2026, 9, 8, 13, 30))
            & (pl.col("at") < dt.datetime(2026, 9, 8, 15, 0))
        ).sort("at")
        assert minutes.height > 60
        frame = view.frame
        told = [getattr(frame, key)[row, -1] for key in ("open", "high", "low", "close", "volume")]
        expected = [
            minutes["open"][0],
            minutes["high"].max(),
            minutes["low"].min(),
            minutes["close"][-1],
            minutes["volume"].sum(),
        ]
        assert told == pytest.approx(expected)
        # What is of the sessions before is the same memory or the same numbers.
        assert np.array_equal(frame.close[row, :-1], market.frame.close[row, : view.last])


def test_minutes_follow_each_other_and_the_market_itself_is_left_as_it_was(market: View):
    before = market.frame.daily["call_ask_premium"][:, -1].copy(), market.frame.implied[30][:, -2].copy()
    views = [view_at(market, at(TUESDAY, 11, minute)) for minute in (0, 1, 2)]
    highs = np.array([view.frame.high[:, -1] for view in views])
    volumes = np.array([view.frame.volume[:, -1] for view in views])
    assert (np.diff(highs, axis=0)[np.isfinite(np.diff(highs, axis=0))] >= 0).all()
    assert (np.diff(volumes, axis=0)[np.isfinite(np.diff(volumes, axis=0))] >= 0).all()
    assert np.nansum(np.diff(volumes, axis=0)) > 0
    assert view_at(market, at(TUESDAY, 11, 2)) is views[2], "made once"
    premium = [np.nansum(view.frame.daily["call_ask_premium"][:, -1]) for view in views]
    assert premium == sorted(premium)
    assert premium[0] < premium[2]
    after = market.frame.daily["call_ask_premium"][:, -1], market.frame.implied[30][:, -2]
    assert all(np.array_equal(one, other, equal_nan=True) for one, other in zip(before, after, strict=True))


def test_option_trades_are_those_that_had_been_told(market: View, simulated: SimulatedMarket):
    view = view_at(market, at(TUESDAY, 11, 0))
    row = view.row("TARNO")
    fills = simulated.tape.filter(
        (pl.col("name") == row) & (pl.col("session") == view.last) & (pl.col("at") < 15 * 3_600_000)
    )
    # Taken back, told twice and without a size: what does not count is left out here as there.
    counted = fills.filter((pl.col("conditions") & 4 == 0) & (pl.col("contracts") > 0))
    for key, is_call in (("call_volume", True), ("put_volume", False)):
        told = view.frame.daily[key][row, -1]
        assert told == pytest.approx(counted.filter(pl.col("is_call") == is_call)["contracts"].sum(), rel=0.05)
        assert 0 < told < market.frame.daily[key][row, view.last]


def test_without_a_look_at_the_chains_those_of_the_close_before_stand(market: View):
    view = view_at(market, at(TUESDAY, 11, 0))
    before = market.at(view.last - 1)
    assert view.snapshot is None
    for field in ("iv30", "put_25d", "call_exposure", "flip", "atm_width"):
        values = view.frame.implied[30] if field == "iv30" else view.frame.daily[field]
        assert np.array_equal(values[:, -1], values[:, -2], equal_nan=True), field
    row = view.row("TARNO")
    now, then = view.expirations(row), [e for e in before.expirations(row) if e.expiration >= TUESDAY]
    assert [e.expiration for e in now] == [e.expiration for e in then]
    for one, other in zip(now, then, strict=True):
        assert one.vol == other.vol
        # From Friday's close to Tuesday eleven o'clock are three days and nineteen hours.
        assert (other.years - one.years) * 365 == pytest.approx(3 + 19 / 24)
        # The smile gives the same volatility at the money for the time that is left.
        vols = [smile_vol(np.array([e.svi]), np.array([e.years]), np.zeros(1))[0] for e in (one, other)]
        assert vols[0] == pytest.approx(vols[1])
        assert one.forward / view.price(row) == pytest.approx(other.forward / before.price(row), rel=2e-3)
        assert np.isnan(one.straddle)
        assert one.lowest_strike / one.forward == pytest.approx(other.lowest_strike / other.forward)


def test_an_expiration_that_is_over_is_not_carried_on(market: View):
    view = view_at(market, at(dt.date(2026, 9, 4), 15, 0))
    listed = view.expirations(view.row("TARNO"))
    assert listed[0].expiration == dt.date(2026, 9, 4)
    moment = dt.datetime(2026, 9, 8, 14, 0, tzinfo=dt.UTC)
    left = carried(listed, TUESDAY, moment, 60.0, view.rate, view.hours)
    assert [e.expiration for e in left] == [e.expiration for e in listed[1:]]
    # Volatility stays, so what is priced until then is less by the square root of the time that has gone.
    assert left[0].svi[0] / listed[1].svi[0] == pytest.approx(left[0].years / listed[1].years)
    assert left[0].years < listed[1].years


def test_a_look_of_the_session_says_what_it_said(market: View):
    view = view_at(market, at(WEDNESDAY, 11, 31))
    look = view.snapshot
    assert look is not None
    assert look.taken_at == dt.datetime(2026, 9, 9, 15, 30, tzinfo=dt.UTC)
    assert [s.taken_at.hour for s in view.snapshots if s.session == WEDNESDAY] == [14, 15]
    listed = read_expiries(market.store, look.taken_at, market.frame.ids)
    known = 0
    for symbol in ("TARNO", "BELUA", "KESEO", "MUFEO"):
        row = view.row(symbol)
        assert str(view.expirations(row)) == str(listed[row])
        years, vols = (np.array([getattr(e, key) for e in listed[row]]) for key in ("years", "vol"))
        today = np.array([e.expiration > WEDNESDAY for e in listed[row]])
        read = constant_maturity_vol(years, np.where(today, vols, np.nan), np.array([30 / 365]))[0]
        assert view.implied(30, row)[-1] == pytest.approx(read)
        known += np.isfinite(read)
        assert view.frame.daily["iv_nearest"][row, -1] == vols[today][0]
        assert view.frame.daily["call_exposure"][row, -1] != market.frame.daily["call_exposure"][row, -1]
    assert known == 4
    # At its last look the newest session says the same of it as publishing did.
    end = view_at(market, at(WEDNESDAY, 15, 44))
    assert end.snapshot is not None
    assert end.snapshot.taken_at.hour == 18


def test_the_last_look_is_read_as_it_was_published(market: View):
    """Volatility from kept expirations against what publishing wrote of the very same look."""
    frame = market.frame
    today = [s for s in frame.snapshots if s.session == WEDNESDAY]
    columns = played._own_arrays(frame, market.end)[1]
    fields = ("iv7", "iv30", "iv90", "iv_week", "iv_month", "iv_nearest", "iv30_ex_earnings", "put_25d", "call_25d",
              "implied_earnings_move", "fit_quality", "call_exposure", "flip", "opened", "call_exposure_before")  # fmt: skip
    was = {field: columns[field][:, -1].copy() for field in fields}
    for field in fields:
        columns[field][:, -1] = -1.0
    played._chains_at(market, market.last, columns, today)
    for field in fields:
        assert np.allclose(columns[field][:, -1], was[field], rtol=1e-5, equal_nan=True), field
        assert np.isfinite(was[field]).any()


def test_a_minute_has_bounds(market: View):
    first = view_at(market, at(TUESDAY, 4, 0))
    assert first.past == "2026-09-08T09:31"
    assert view_at(market, at(TUESDAY, 16, 0)).past == "2026-09-08"
    assert view_at(market, at(TUESDAY, 23, 59)).past == "2026-09-08"
    assert view_at(market, at(WEDNESDAY, 15, 45)) is market, "the market's own moment"
    assert view_at(market, at(dt.date(2027, 1, 4), 10, 0)) is market
    assert view_at(market, WEDNESDAY).is_newest
    assert not first.is_newest
    # On a Sunday nothing was played: it is as of the Friday before.
    assert view_at(market, at(dt.date(2026, 9, 6), 11, 0)).past == "2026-09-04"
    kept = played_sessions(market)
    assert (kept[-1], len(kept)) == (WEDNESDAY, 10)
    with pytest.raises(NotKept, match=r"No minutes of 3 Aug 2026 are kept.*from 26 Aug 2026 to 9 Sep 2026"):
        view_at(market, at(dt.date(2026, 8, 3), 11, 0))


def test_of_minutes_that_a_hand_runs_through_few_are_made(market: View, monkeypatch: pytest.MonkeyPatch):
    other, go_on = opened(market.frame, market.store), threading.Event()
    monkeypatch.setattr(played, "_play", lambda *_: comes(go_on) and other)
    with ThreadPoolExecutor(3) as pool:
        asked = [pool.submit(view_at, other, at(TUESDAY, 13, minute)) for minute in range(3)]
        until(lambda: other.version.under_way("played") == 3, "three minutes")
        with pytest.raises(BeingRead):
            view_at(other, at(TUESDAY, 13, 3))
        # Whoever asks for one of them waits with the others.
        again = pool.submit(view_at, other, at(TUESDAY, 13, 1))
        go_on.set()
        assert all(one.result() is other for one in (*asked, again))
    assert view_at(other, at(TUESDAY, 13, 3)) is other


def test_what_is_played_can_be_looked_back_from(market: View):
    """An hour ago of a minute that is played, and the session before it."""
    view = view_at(market, at(TUESDAY, 12, 0))
    hour_ago = view_at(view, at(TUESDAY, 11, 0))
    straight = view_at(market, at(TUESDAY, 11, 0))
    assert hour_ago.past == "2026-09-08T11:00"
    for key in ("price", "volume", "iv30", "call_volume", "net_exposure", "days_to_earnings"):
        assert np.array_equal(hour_ago.metric(key), straight.metric(key), equal_nan=True), key
    assert view_at(view, at(TUESDAY, 13, 0)) is view, "nothing later is known"
    friday = view.at(view.last - 1)
    assert np.array_equal(friday.metric("iv30"), market.at(view.last - 1).metric("iv30"), equal_nan=True)

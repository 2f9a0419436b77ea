"""Bars of minutes against the minutes themselves and the day's bar."""

import numpy as np
import pytest

from flinch.feeds.simulated import SimulatedMarket
from flinch.market import View


@pytest.mark.parametrize(("length", "whole_day", "today"), [(5, 78, 75), (15, 26, 25), (60, 7, 7)])
def test_the_newest_session_ends_with_the_newest_minute(market: View, length: int, whole_day: int, today: int):
    """It is a quarter to four: the last quarter hour has begun for nobody, the last hour is cut short."""
    bars, frame = market.version.bars(length, market.last), market.frame
    counts = np.bincount(bars.session)[-10:]
    assert counts.tolist() == [whole_day] * 9 + [today]
    newest = bars.session == market.last
    traded = np.isfinite(bars.close[:, -1])
    assert traded.mean() > 0.95
    assert np.array_equal(bars.close[traded, -1], frame.close[traded, -1])
    known = np.isfinite(frame.close[:, -1])
    assert np.array_equal(np.nanmax(bars.high[known][:, newest], axis=1), frame.high[known, -1])
    assert np.array_equal(np.nanmin(bars.low[known][:, newest], axis=1), frame.low[known, -1])
    shares = np.isfinite(frame.volume[:, -1]) & known
    assert np.array_equal(np.nansum(bars.volume[shares][:, newest], axis=1), frame.volume[shares, -1])


def test_an_hour_is_made_of_its_minutes(market: View, simulated: SimulatedMarket):
    row = market.row("TARNO")
    minutes = simulated.minute_bars.filter(simulated.minute_bars["name"] == row)
    at = minutes["at"].to_numpy().astype("datetime64[m]")
    # In September New York is four hours behind: from half past ten to half past eleven.
    hour = (at >= np.datetime64("2026-09-08T14:30")) & (at < np.datetime64("2026-09-08T15:30"))
    bars = market.version.bars(60, market.last)
    place = np.flatnonzero(bars.session == market.last - 1)[1]
    found = [getattr(bars, field)[row, place] for field in ("open", "high", "low", "close", "volume")]
    mine = minutes.filter(hour)
    expected = [mine["open"][0], mine["high"].max(), mine["low"].min(), mine["close"][-1], mine["volume"].sum()]
    assert found == pytest.approx(expected)

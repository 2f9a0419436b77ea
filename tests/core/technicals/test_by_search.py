"""Candles, gaps and swings against looking for them one session at a time, on any bars at all."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from flinch.core import technicals as t


@st.composite
def bars(draw) -> tuple[np.ndarray, ...]:
    """Open, high, low and close that hold together, with missing sessions."""
    count = draw(st.integers(1, 30))
    rows = []
    for _ in range(count):
        prices = draw(st.lists(st.integers(1, 12).map(float), min_size=2, max_size=2))
        reach = draw(st.tuples(st.integers(0, 3), st.integers(0, 3)))
        missing = draw(st.integers(0, 12)) == 0
        bar = (prices[0], max(prices) + reach[0], min(prices) - reach[1] / 4, prices[1])
        rows.append((np.nan,) * 4 if missing else bar)
    return tuple(np.array(column)[None, :] for column in zip(*rows, strict=True))


@given(bars())
def test_averaged_candles_session_by_session(drawn):
    opened, high, low, close = (a[0] for a in drawn)
    candle = t.heikin_ashi(*drawn)
    before = None
    run = 0
    runs = t.flat_bottom_run(*drawn)[0]
    for s in range(close.size):
        if np.isnan(close[s]):
            assert np.isnan(candle.close[0, s])
            assert np.isnan(runs[s])
            before, run = None, 0
            continue
        middle = (opened[s] + high[s] + low[s] + close[s]) / 4
        begins = (opened[s] + close[s]) / 2 if before is None else sum(before) / 2
        assert candle.close[0, s] == middle
        assert candle.open[0, s] == begins
        assert candle.low[0, s] == min(low[s], begins, middle)
        assert candle.high[0, s] == max(high[s], begins, middle)
        run = run + 1 if middle > begins and min(low[s], begins, middle) >= begins else 0
        assert runs[s] == run
        before = (begins, middle)


@given(bars(), st.integers(1, 8))
def test_gaps_are_those_nobody_came_back_to(drawn, window):
    _, high, low, _ = (a[0] for a in drawn)
    below = t.unfilled_gap(drawn[1], drawn[2], above=False, window=window)[0]
    above = t.unfilled_gap(drawn[1], drawn[2], above=True, window=window)[0]
    for now in range(high.size):
        found = {"below": np.nan, "above": np.nan}
        for s in range(max(1, now - window + 1), now + 1):
            if np.isnan([high[s], high[s - 1]]).any():
                continue
            since = slice(s, now + 1)
            if low[s] > high[s - 1] and np.nanmin(low[since]) > high[s - 1]:
                found["below"] = high[s - 1]
            if high[s] < low[s - 1] and np.nanmax(high[since]) < low[s - 1]:
                found["above"] = low[s - 1]
        np.testing.assert_equal([below[now], above[now]], [found["below"], found["above"]])


@given(bars(), st.integers(1, 4))
def test_swings_are_found_when_their_sessions_have_passed(drawn, side):
    high = drawn[1][0]
    found = t.swing(drawn[1], side, high=True)[0]
    last = np.nan
    for now in range(high.size):
        s = now - side
        if s >= side:
            around = np.delete(high[s - side : now + 1], side)
            if not np.isnan(high[s - side : now + 1]).any() and (around < high[s]).all():
                last = high[s]
        np.testing.assert_equal(found[now], last)


@given(bars())
def test_bounded_oscillators_stay_in_their_bounds(drawn):
    _, high, low, close = drawn
    volume = np.where(np.isnan(close), np.nan, 100.0)
    for values in (
        t.rsi(close, 3),
        t.stochastic(high, low, close, 3),
        t.mfi(high, low, close, volume, 3),
        t.adx(high, low, close, 3),
    ):
        known = values[np.isfinite(values)]
        assert ((known >= -1e-9) & (known <= 100 + 1e-9)).all()
    assert (t.atr(high, low, close, 3)[np.isfinite(t.atr(high, low, close, 3))] >= 0).all()


@given(bars(), st.integers(-4, 8).map(lambda power: 2.0**power))
def test_units_of_price_do_not_matter_where_they_should_not(drawn, scale):
    opened, high, low, close = drawn
    bigger = [scale * a for a in drawn]
    for function in (lambda o, h, lo, c: t.rsi(c, 3), lambda o, h, lo, c: t.adx(h, lo, c, 3)):
        np.testing.assert_allclose(function(opened, high, low, close), function(*bigger), rtol=1e-6, atol=1e-6)
    np.testing.assert_allclose(scale * t.ema(close, 4), t.ema(scale * close, 4), rtol=1e-9)
    np.testing.assert_allclose(scale * t.atr(high, low, close, 4), t.atr(*bigger[1:], 4), rtol=1e-9)

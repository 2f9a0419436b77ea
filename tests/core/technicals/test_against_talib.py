"""Every technical that TA-Lib has too, on random walks and on the demo market."""

import numpy as np
import pytest
import talib

from flinch.core import technicals as t
from flinch.core.rolling import lag, rolling_regression, rolling_std


def random_walks() -> tuple[np.ndarray, ...]:
    rng = np.random.default_rng(5)
    close = 50 * np.exp(np.cumsum(rng.normal(0, 0.02, (4, 400)), axis=1))
    open_ = np.roll(close, 1, axis=1) * np.exp(rng.normal(0, 0.005, close.shape))
    high = np.maximum(open_, close) * np.exp(np.abs(rng.normal(0, 0.01, close.shape)))
    low = np.minimum(open_, close) * np.exp(-np.abs(rng.normal(0, 0.01, close.shape)))
    return open_, high, low, close, np.round(rng.lognormal(12, 0.5, close.shape))


@pytest.fixture(params=["random", "demo"])
def bars(request: pytest.FixtureRequest) -> tuple[np.ndarray, ...]:
    if request.param == "random":
        return random_walks()
    demo = request.getfixturevalue("simulated")
    rows = slice(0, 480, 60)
    return tuple(np.ascontiguousarray(a[rows]) for a in (demo.open, demo.high, demo.low, demo.close, demo.volume))


def same(found: np.ndarray, expected: list[np.ndarray], start: int = 0, rtol: float = 1e-9):
    assert np.isfinite(found[:, -1]).all()
    for row, reference in zip(found, expected, strict=True):
        assert np.array_equal(np.isnan(row[start:]), np.isnan(reference[start:]))
        np.testing.assert_allclose(row[start:], reference[start:], rtol=rtol, atol=1e-7)


@pytest.mark.parametrize("window", [5, 14, 50])
def test_averages(bars, window):
    close = bars[3]
    same(t.ema(close, window), [talib.EMA(row, window) for row in close])
    same(t.wma(close, window), [talib.WMA(row, window) for row in close])
    same(t.rsi(close, window), [talib.RSI(row, window) for row in close])
    same(rolling_std(close, window, sample=False), [talib.STDDEV(row, window) for row in close], rtol=1e-6)
    slope, fit, _ = rolling_regression(close, window)
    same(slope, [talib.LINEARREG_SLOPE(row, window) for row in close])
    same(fit, [talib.LINEARREG(row, window) for row in close])
    same(100 * (close / lag(close, window) - 1), [talib.ROC(row, window) for row in close])


@pytest.mark.parametrize("window", [7, 14, 20])
def test_ranges(bars, window):
    _, high, low, close, volume = bars
    each = list(zip(high, low, close, volume, strict=True))
    same(t.atr(high, low, close, window), [talib.ATR(h, lo, c, window) for h, lo, c, _ in each])
    upper, lower = t.bollinger(close, window, 2.0)
    bands = [talib.BBANDS(c, window, 2.0, 2.0) for *_, c, _ in each]
    same(upper, [band[0] for band in bands], rtol=1e-7)
    same(lower, [band[2] for band in bands], rtol=1e-7)
    same(t.cci(high, low, close, window), [talib.CCI(h, lo, c, window) for h, lo, c, _ in each], rtol=1e-6)
    found = t.mfi(high, low, close, volume, window)
    for row, (h, lo, c, v) in zip(found, each, strict=True):
        # TA-Lib takes the dust of its arithmetic for a rise or a fall when the typical price stayed the same.
        still = np.abs(np.diff((h + lo + c) / 3, prepend=0)) < 1e-9
        clear = np.convolve(still, np.ones(window))[: still.size] == 0
        np.testing.assert_allclose(row[clear], talib.MFI(h, lo, c, v, window)[clear], rtol=1e-6, atol=1e-7)
    fast = [talib.STOCHF(h, lo, c, window, 1)[0] for h, lo, c, _ in each]
    same(t.stochastic(high, low, close, window), fast, start=window)


@pytest.mark.parametrize("window", [5, 14, 30])
def test_directional_index_is_talibs_from_its_first_value(bars, window):
    _, high, low, close, _ = bars
    expected = [talib.ADX(h, lo, c, window) for h, lo, c in zip(high, low, close, strict=True)]
    same(t.adx(high, low, close, window), expected)

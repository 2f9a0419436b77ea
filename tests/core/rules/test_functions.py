"""Every function of the rule language on a short series, with what it must give worked out by hand."""

import numpy as np
import pytest

from flinch.core import technicals
from flinch.core.rules import FUNCTIONS, Panel, RuleError, Truth, daily_vocabulary, evaluate
from flinch.core.volatility import historical_vol

NAN = float("nan")
CLOSE = [10.0, 11.0, 12.0, 11.0, 13.0, 15.0, 14.0, NAN, 16.0, 18.0]
OTHER = [1.0, 1.0, 2.0, NAN, 3.0, 5.0, 8.0, 8.0, 8.0, 8.0]


def panel() -> Panel:
    close = np.array([CLOSE])
    series = {
        "open": close - 0.5,
        "high": close + 1,
        "low": close - 1,
        "close": close,
        "volume": np.array([OTHER]) * 100,
        "iv30": np.array([OTHER]),
        "iv60": 10 - np.array([OTHER]),
    }
    return Panel(1, len(CLOSE), series, {"kind": np.array(["stock"]), "sector": np.array([""])})


def run(text: str) -> list:
    (found,) = evaluate([daily_vocabulary().read(text).node], panel(), 0, len(CLOSE))
    if isinstance(found, Truth):
        return [True if y else False if n else None for y, n in zip(found.yes[0], found.no[0], strict=True)]
    return found[0].tolist()


NUMBERS = {
    "lag(close, 2)": [NAN, NAN, 10, 11, 12, 11, 13, 15, 14, NAN],
    "change(close, 1)": [NAN, 1, 1, -1, 2, 2, -1, NAN, NAN, 2],
    "pct_change(close, 1)": [NAN, 10, 100 / 11, -100 / 12, 200 / 11, 200 / 13, -100 / 15, NAN, NAN, 12.5],
    "mean(close, 3)": [NAN, NAN, 11, 34 / 3, 12, 13, 14, NAN, NAN, NAN],
    "sma(close, 2)": [NAN, 10.5, 11.5, 11.5, 12, 14, 14.5, NAN, NAN, 17],
    "sma(2)": [NAN, 10.5, 11.5, 11.5, 12, 14, 14.5, NAN, NAN, 17],
    "median(close, 3)": [NAN, NAN, 11, 11, 12, 13, 14, NAN, NAN, NAN],
    "sum(iv30, 2)": [NAN, 2, 3, NAN, NAN, 8, 13, 16, 16, 16],
    "min(close, 3)": [NAN, NAN, 10, 11, 11, 11, 13, NAN, NAN, NAN],
    "max(close, 3)": [NAN, NAN, 12, 12, 13, 15, 15, NAN, NAN, NAN],
    "std(close, 2)": [NAN, 0.5**0.5, 0.5**0.5, 0.5**0.5, 2**0.5, 2**0.5, 0.5**0.5, NAN, NAN, 2**0.5],
    "zscore(close, 2)": [NAN, 0.5**0.5, 0.5**0.5, -(0.5**0.5), 0.5**0.5, 0.5**0.5, -(0.5**0.5), NAN, NAN, 0.5**0.5],
    "slope(close, 3)": [NAN, NAN, 1, 0, 0.5, 2, 0.5, NAN, NAN, NAN],
    "rank_pct(close, 3)": [NAN, NAN, 100, 0, 100, 100, 50, NAN, NAN, NAN],
    "pct_among(close, lag(close, 1), 2)": [NAN, NAN, 100, 0, 100, 100, 50, NAN, NAN, NAN],
    "range_pct(close, 3)": [NAN, NAN, 100, 0, 100, 100, 50, NAN, NAN, NAN],
    "share_of_sessions(close > 11, 2)": [NAN, 0, 0.5, 0.5, 0.5, 1, 1, NAN, NAN, 1],
    # Nine of ten sessions must be known, rounded up: nine are, eight are not enough, and of five all are wanted.
    "share_of_sessions(iv30 > 2, 10)": [*[NAN] * 9, 6 / 9],
    "share_of_sessions(iv30 > 2 and close > 0, 10)": [NAN] * 10,
    "share_of_sessions(iv30 > 2, 5)": [NAN] * 8 + [1, 1],
    "sessions_since(close > 12)": [NAN, NAN, NAN, NAN, 0, 0, 0, NAN, 0, 0],
    "sessions_since(iv30 == 2)": [NAN, NAN, 0, NAN, NAN, NAN, NAN, NAN, NAN, NAN],
    "sessions_since_as_high(close)": [0, 1, 2, 1, 4, 5, 1, NAN, 7, 8],
    "sessions_since_as_high(lag(close, 1))": [NAN, 0, 1, 2, 1, 4, 5, 1, NAN, 7],
    "wma(close, 2)": [NAN, 32 / 3, 35 / 3, 34 / 3, 37 / 3, 43 / 3, 43 / 3, NAN, NAN, 52 / 3],
    "ema(close, 2)": [
        NAN,
        10.5,
        11.5,
        11.5 - 1 / 3,
        12.388888888888889,
        14.12962962962963,
        14.043209876543209,
        NAN,
        NAN,
        17,
    ],
    "macd(1, 2)": [NAN, 0.5, 0.5, -1 / 6, 0.611111111111111, 0.87037037037037, -0.043209876543209, NAN, NAN, 1],
    "rsi(close, 2)": [NAN, NAN, 100, 50, 250 / 3, 92.85714285714286, 650 / 11, NAN, NAN, NAN],
    "stochastic(2, 1)": [NAN, 200 / 3, 200 / 3, 100 / 3, 75, 75, 100 / 3, NAN, NAN, 75],
    "atr(2)": [NAN, NAN, 2, 2, 2.5, 2.75, 2.375, NAN, NAN, NAN],
    "bollinger_upper(close, 2, 2)": [NAN, 11.5, 12.5, 12.5, 14, 16, 15.5, NAN, NAN, 19],
    "bollinger_lower(close, 2, 2)": [NAN, 9.5, 10.5, 10.5, 10, 12, 13.5, NAN, NAN, 15],
    "channel(close, 3, 0)": [NAN, NAN, 12, 34 / 3, 12.5, 15, 14.5, NAN, NAN, NAN],
    "abs(change(close, 1))": [NAN, 1, 1, 1, 2, 2, 1, NAN, NAN, 2],
    "sqrt(close - 11)": [NAN, 0, 1, 0, 2**0.5, 2, 3**0.5, NAN, 5**0.5, 7**0.5],
    "exp(log(close))": CLOSE,
    "log(close - 10)": [NAN, 0, np.log(2), 0, np.log(3), np.log(5), np.log(4), NAN, np.log(6), np.log(8)],
    "positive(close - 12)": [NAN, NAN, NAN, NAN, 1, 3, 2, NAN, 4, 6],
    "smaller(iv30, iv60)": [1, 1, 2, NAN, 3, 5, 2, 2, 2, 2],
    "larger(iv30, iv60)": [9, 9, 8, NAN, 7, 5, 8, 8, 8, 8],
    "if_else(iv30 > 2, 1, -1)": [-1, -1, -1, NAN, 1, 1, 1, 1, 1, 1],
    "2 + 3 * 4 - 6 / 3": [12.0] * 10,
    "-2 ** 2": [-4.0] * 10,
    "iv30 / (iv30 - 1)": [NAN, NAN, 2, NAN, 1.5, 1.25, 8 / 7, 8 / 7, 8 / 7, 8 / 7],
}
CONDITIONS = {
    "close > 11": [False, False, True, False, True, True, True, None, True, True],
    "not close > 11": [True, True, False, True, False, False, False, None, False, False],
    "11 <= close < 15": [False, True, True, True, True, False, True, None, False, False],
    "close > 11 and iv30 > 2": [False, False, False, False, True, True, True, None, True, True],
    "close > 11 or iv30 > 2": [False, False, True, None, True, True, True, True, True, True],
    "any_in(close > 12, 3)": [None, None, False, False, True, True, True, True, True, True],
    "all_in(close > 10, 2)": [False, False, True, True, True, True, True, None, None, True],
    "crossed_above(close, 11)": [False, False, True, False, True, False, False, False, None, False],
    "crossed_below(close, 12)": [None, False, False, True, False, False, False, None, False, False],
    "is_known(close)": [True] * 7 + [False, True, True],
    "close == 11 or close != 11": [True] * 7 + [None, True, True],
    'kind == "stock"': [True] * 10,
    'kind in ("fund", "index")': [False] * 10,
    'sector == "Household"': [None] * 10,
    'not sector == "Household"': [None] * 10,
}


@pytest.mark.parametrize(("text", "expected"), NUMBERS.items(), ids=NUMBERS)
def test_numbers_by_hand(text, expected):
    np.testing.assert_allclose(run(text), expected, rtol=1e-12, atol=1e-12)


@pytest.mark.parametrize(("text", "expected"), CONDITIONS.items(), ids=CONDITIONS)
def test_conditions_by_hand(text, expected):
    assert run(text) == expected


def test_every_function_is_worked_out_here_or_measured_against_a_reference():
    elsewhere = {
        "adx", "cci", "mfi", "hv", "hv_ex_earnings", "keltner_upper", "keltner_lower", "flat_bottom_run", "flat_top_run",
        "squeeze_on", "squeeze_released", "swing_high", "swing_low", "fib_extension", "gap_below", "gap_above",
    }  # fmt: skip
    here = " ".join([*NUMBERS, *CONDITIONS])
    for name in FUNCTIONS:
        assert name in elsewhere or f"{name}(" in here, name


@pytest.mark.parametrize(
    ("text", "compute"),
    [
        ("keltner_upper(3, 1.5)", lambda p: technicals.keltner(p["high"], p["low"], p["close"], 3, 1.5)[0]),
        ("keltner_lower(3, 1.5)", lambda p: technicals.keltner(p["high"], p["low"], p["close"], 3, 1.5)[1]),
        ("swing_high(1)", lambda p: technicals.swing(p["high"], 1, high=True)),
        ("fib_extension(1.618, 1)", lambda p: technicals.fib_extension(p["high"], p["low"], 1, 1.618)),
        ("mfi(2)", lambda p: technicals.mfi(p["high"], p["low"], p["close"], p["volume"], 2)),
        ("adx(2)", lambda p: technicals.adx(p["high"], p["low"], p["close"], 2)),
        ("swing_low(1)", lambda p: technicals.swing(p["low"], 1, high=False)),
        ("flat_bottom_run", lambda p: technicals.flat_bottom_run(p["open"], p["high"], p["low"], p["close"])),
        (
            "hv(3, 'parkinson')",
            lambda p: 100 * historical_vol(p["open"], p["high"], p["low"], p["close"], 3, estimator="parkinson"),
        ),
    ],
)
def test_functions_read_their_bars_without_being_told(text, compute):
    expected = compute(panel().series)[0]
    assert np.isfinite(expected).any()
    np.testing.assert_array_equal(run(text), expected)


def test_a_function_that_lacks_its_bars_says_so():
    words = type(daily_vocabulary())({"close": "number"}, {})
    with pytest.raises(RuleError, match="mfi needs high"):
        words.read("mfi(14) < 20")


@pytest.mark.parametrize("estimator", ["yang_zhang", "close_to_close"])
@pytest.mark.parametrize("window", [21, 63])
def test_without_earnings_a_window_reaches_back_over_the_reports_of_its_time(estimator, window):
    """The newest session evaluated alone is what the whole history says, with a report every quarter wherever they lie."""
    rng = np.random.default_rng(4)
    close = 50 * np.exp(np.cumsum(0.02 * rng.normal(size=(63, 300)), axis=1))
    reaction = ((np.arange(300) + np.arange(63)[:, None]) % 63 == 0).astype(float)
    series = {
        "open": close * 1.001,
        "high": close * 1.02,
        "low": close * 0.98,
        "close": close,
        "earnings_reaction": reaction,
    }
    names = Panel(63, 300, series, {})
    words = type(daily_vocabulary())({name: "number" for name in series}, {})
    node = words.read(f'hv_ex_earnings({window}, "{estimator}")').node
    (alone,), (whole,) = (evaluate([node], names, first, 300) for first in (299, 0))
    assert np.isfinite(alone).all()
    np.testing.assert_array_equal(alone[:, -1], whole[:, -1])
    plain = historical_vol(*(series[bar] for bar in ("open", "high", "low", "close")), window, estimator=estimator)
    assert not np.allclose(100 * plain[:, -1], whole[:, -1])


def test_open_gaps_lie_on_the_side_that_they_are_called_by():
    """Up over 11 to 12, down under 20 to 19, then closes between them."""
    low = np.array([[9.0, 12.0, 19.0, 20.0, 16.0, 15.0]])
    high = np.array([[11.0, 13.0, 20.5, 21.0, 19.0, 17.0]])
    names = Panel(1, 6, {"low": low, "high": high}, {})
    words = type(daily_vocabulary())({"low": "number", "high": "number"}, {})
    below, above = evaluate([words.read("gap_below(5)").node, words.read("gap_above(5)").node], names, 5, 6)
    assert (below[0, 0], above[0, 0]) == (13.0, 20.0)

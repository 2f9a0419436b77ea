"""Every function that a rule may call: how it is called, how much history it needs, what it computes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal, NamedTuple

import numpy as np

from flinch.core import rolling, technicals
from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.rules.nodes import WHOLE_HISTORY, Kind
from flinch.core.volatility.estimators import ESTIMATORS, historical_vol


class Truth(NamedTuple):
    """A condition of three values: certainly yes, certainly no, and unknown where it is neither."""

    yes: BoolArray
    no: BoolArray


class Parameter(NamedTuple):
    """What a call takes. A `series` may default to another one by name; a `window` is a whole number of sessions."""

    name: str
    kind: Literal["series", "condition", "window", "factor", "choice"]
    default: float | str | None = None
    least: float = 1
    choices: tuple[str, ...] = ()


class Function(NamedTuple):
    """One function. `hidden` are series it reads without being told; `run` gets them, the arguments, and the settings.

    `reach` says from the settings how many earlier sessions it needs; `cost_of` how long it takes.
    """

    name: str
    group: str
    parameters: tuple[Parameter, ...]
    result: Kind
    definition: str
    example: str
    run: Callable[..., Any]
    reach: Callable[..., int]
    hidden: tuple[str, ...] = ()
    skips: bool = False  # `run` takes as its last argument how many leading sessions nobody will look at

    @property
    def signature(self) -> str:
        """As it is written in the Handbook: ema(series = close, sessions)."""
        said = [p.name if p.default is None else f"{p.name}={p.default:g}" if isinstance(p.default, float | int) else
                f"{p.name}={p.default}" for p in self.parameters]  # fmt: skip
        return f"{self.name}({', '.join(said)})"


_SERIES = Parameter("series", "series")
_CLOSE = Parameter("series", "series", "close")
_CONDITION = Parameter("condition", "condition")
_BARS = ("high", "low", "close")
_OHLC = ("open", "high", "low", "close")


def _window(default: int | None = None, name: str = "sessions", least: int = 1) -> Parameter:
    return Parameter(name, "window", default, least)


def _factor(name: str, default: float | None = None) -> Parameter:
    return Parameter(name, "factor", default, -1e6)


def _hv_ex_earnings(
    o: FloatArray, h: FloatArray, lo: FloatArray, c: FloatArray, reaction: FloatArray, n: int, estimator: Any
) -> FloatArray:
    return 100 * historical_vol(o, h, lo, c, n, estimator=estimator, left_out=reaction > 0)


def _window_reach(*settings: Any) -> int:
    return int(settings[0]) - 1


def _same_reach(*settings: Any) -> int:
    return int(settings[0])


def _everything(*_: Any) -> int:
    return WHOLE_HISTORY


def _nothing(*_: Any) -> int:
    return 0


def _quietly(run: Callable[..., FloatArray]) -> Callable[..., FloatArray]:
    """Results that are no numbers become missing."""

    def clean(*arguments: Any) -> FloatArray:
        with np.errstate(all="ignore"):
            out = run(*arguments)
        return np.where(np.isfinite(out), out, np.nan)

    return clean


def _counts(truth: Truth, sessions: int) -> tuple[FloatArray, FloatArray]:
    """How many of the last `sessions` are certainly yes and certainly no; sessions before the first count as unknown."""

    def count(happened: BoolArray) -> FloatArray:
        total = np.cumsum(happened, axis=-1, dtype=np.float64)
        out = total.copy()
        out[..., sessions:] -= total[..., :-sessions]
        return out

    return count(truth.yes), count(truth.no)


def _share_of_sessions(truth: Truth, sessions: int) -> FloatArray:
    yes, no = _counts(truth, sessions)
    seen = yes + no
    return np.where(seen >= np.ceil(0.9 * sessions), yes / np.maximum(seen, 1), np.nan)


def _any_in(truth: Truth, sessions: int) -> Truth:
    yes, no = _counts(truth, sessions)
    return Truth(yes > 0, no == sessions)


def _all_in(truth: Truth, sessions: int) -> Truth:
    yes, no = _counts(truth, sessions)
    return Truth(yes == sessions, no > 0)


def _sessions_since(truth: Truth) -> FloatArray:
    return rolling.sessions_since(np.where(truth.yes, 1, np.where(truth.no, 0, -1)))


def _crossed(above: bool) -> Callable[[FloatArray, FloatArray], Truth]:
    def run(first: FloatArray, second: FloatArray) -> Truth:
        away = first - second if above else second - first
        before = rolling.lag(away, 1)
        known = np.isfinite(away) & np.isfinite(before)
        # Enough is known when one half of it is certainly not so.
        return Truth(known & (away > 0) & (before <= 0), (away <= 0) | (before > 0))

    return run


def _squeeze(released: bool) -> Callable[..., Truth]:
    def run(high: FloatArray, low: FloatArray, close: FloatArray) -> Truth:
        on, known = technicals.squeeze_on(high, low, close)
        if not released:
            return Truth(on, known & ~on)
        before = np.zeros(on.shape, dtype=bool)
        was = before.copy()
        before[..., 1:], was[..., 1:] = known[..., :-1], on[..., :-1]
        known = known & before
        return Truth(known & was & ~on, known & ~(was & ~on))

    return run


def _if_else(truth: Truth, first: FloatArray, second: FloatArray) -> FloatArray:
    return np.where(truth.yes, first, np.where(truth.no, second, np.nan))


def _known(values: FloatArray) -> Truth:
    known = np.isfinite(values)
    return Truth(known, ~known)


def _slow_stochastic(high: FloatArray, low: FloatArray, close: FloatArray, sessions: int, smooth: int) -> FloatArray:
    fast = technicals.stochastic(high, low, close, sessions)
    return rolling.rolling_mean(fast, smooth)


_HISTORY, _CONDITIONS, _AVERAGES = "over history", "over conditions", "averages and trend"
_OSCILLATORS, _BANDS, _CANDLES, _PLAIN = (
    "oscillators",
    "bands, channels and range",
    "candles, swings and gaps",
    "plain arithmetic",
)
_MOST = "At most one session in ten may be missing."

_FUNCTIONS = (
    Function(
        "lag", _HISTORY, (_SERIES, _window(1)), "number",
        "The value that many sessions earlier.", "close > lag(high, 1)",
        lambda x, n: rolling.lag(x, n), _same_reach,
    ),
    Function(
        "change", _HISTORY, (_SERIES, _window(1)), "number",
        "Value now less the value that many sessions earlier.", "change(iv30, 5) > 3",
        lambda x, n: x - rolling.lag(x, n), _same_reach,
    ),
    Function(
        "pct_change", _HISTORY, (_SERIES, _window(1)), "number",
        "Change in percent of the value that many sessions earlier; missing where that was zero.", "pct_change(close, 21) > 10",
        _quietly(lambda x, n: 100 * (x / rolling.lag(x, n) - 1)), _same_reach,
    ),
    Function(
        "mean", _HISTORY, (_SERIES, _window()), "number",
        "Average of the last sessions, today included.", "volume > 2 * mean(volume, 50)",
        rolling.rolling_mean, _window_reach,
    ),
    Function(
        "median", _HISTORY, (_SERIES, _window()), "number",
        "Middle value of the last sessions.", "iv30 > 1.2 * median(iv30, 252)",
        rolling.rolling_median, _window_reach,
    ),
    Function(
        "std", _HISTORY, (_SERIES, _window(least=2)), "number",
        "Sample standard deviation of the last sessions (n − 1).", "std(pct_change(close), 21) < 1",
        rolling.rolling_std, _window_reach,
    ),
    Function(
        "sum", _HISTORY, (_SERIES, _window()), "number",
        "Sum of the last sessions.", "sum(option_volume, 5) > 10000",
        rolling.rolling_sum, _window_reach,
    ),
    Function(
        "min", _HISTORY, (_SERIES, _window()), "number",
        "Lowest of the last sessions, today included.", "close < 1.05 * min(low, 252)",
        rolling.rolling_min, _window_reach,
    ),
    Function(
        "max", _HISTORY, (_SERIES, _window()), "number",
        "Highest of the last sessions, today included.", "close > lag(max(high, 63), 1)",
        rolling.rolling_max, _window_reach,
    ),
    Function(
        "rank_pct", _HISTORY, (_SERIES, _window(252, least=2)), "number",
        "Percentile: share of the previous observed sessions of the window that were below today's value, 0 to 100. Sessions "
        "without a value are left out; 60 observed ones are needed, or the whole window when it is shorter.",
        "rank_pct(iv_hv_ratio, 252) > 80",
        lambda x, n, skip: rolling.rolling_percentile(x, n, min(60, n), skip), _window_reach, skips=True,
    ),
    Function(
        "pct_among", _HISTORY, (_SERIES, Parameter("others", "series"), _window(252, least=2)), "number",
        "Share of the window's observed values of another number that are below today's value of the first, 0 to 100. As many "
        "sessions are needed as for rank_pct.",
        "pct_among(iv30, hv21, 252) > 90",
        lambda x, y, n: rolling.rolling_share_below(x, y, n, min(60, n)), _window_reach,
    ),
    Function(
        "range_pct", _HISTORY, (_SERIES, _window(252, least=2)), "number",
        "Rank: where today's value stands between the lowest and the highest of the window, 0 to 100. As many "
        "sessions are needed as for rank_pct.",
        "range_pct(close, 252) > 90",
        lambda x, n, skip: rolling.rolling_rank(x, n, min(60, n), skip), _window_reach, skips=True,
    ),
    Function(
        "zscore", _HISTORY, (_SERIES, _window(least=2)), "number",
        "Distance from the window's mean in its sample standard deviations.", "zscore(iv30, 63) > 2",
        _quietly(lambda x, n: (x - rolling.rolling_mean(x, n)) / rolling.rolling_std(x, n)), _window_reach,
    ),
    Function(
        "slope", _HISTORY, (_SERIES, _window(least=2)), "number",
        "Slope a session of the least-squares line through the last sessions.", "slope(close, 21) > 0",
        lambda x, n: rolling.rolling_regression(x, n)[0], _window_reach,
    ),
    Function(
        "sessions_since_as_high", _HISTORY, (_SERIES,), "number",
        "Sessions since the value was last at least as high as today's; where it never was, all earlier sessions held. Sessions "
        "without a value count for nothing.",
        "sessions_since_as_high(largest_call_premium) >= 40",
        rolling.sessions_since_as_high, _everything,
    ),
    Function(
        "share_of_sessions", _CONDITIONS, (_CONDITION, _window()), "number",
        f"Share of the last sessions in which the condition held, 0 to 1. {_MOST}",
        "share_of_sessions(price_to_book > 0.9, 504) > 0.85",
        _share_of_sessions, _window_reach,
    ),
    Function(
        "any_in", _CONDITIONS, (_CONDITION, _window()), "condition",
        "Whether the condition held in at least one of the last sessions.", "any_in(gap_pct > 3, 10)",
        _any_in, _window_reach,
    ),
    Function(
        "all_in", _CONDITIONS, (_CONDITION, _window()), "condition",
        "Whether the condition held in each of the last sessions.", "all_in(close > sma(close, 50), 21)",
        _all_in, _window_reach,
    ),
    Function(
        "sessions_since", _CONDITIONS, (_CONDITION,), "number",
        "Sessions since the condition last held; 0 when it holds today. Missing when it never did, and after a session in which it is not "
        "known, until it holds again: it may have held then.",
        "sessions_since(squeeze_released) <= 3",
        _sessions_since, _everything,
    ),
    Function(
        "crossed_above", _CONDITIONS, (Parameter("first", "series"), Parameter("second", "series")), "condition",
        "The first is above the second today and was not in the previous session.", "crossed_above(close, sma(close, 200))",
        _crossed(True), lambda: 1,
    ),
    Function(
        "crossed_below", _CONDITIONS, (Parameter("first", "series"), Parameter("second", "series")), "condition",
        "The first is below the second today and was not in the previous session.", "crossed_below(rsi(14), 70)",
        _crossed(False), lambda: 1,
    ),
    Function(
        "sma", _AVERAGES, (_CLOSE, _window()), "number",
        "Simple moving average.", "close > sma(close, 200)",
        rolling.rolling_mean, _window_reach,
    ),
    Function(
        "ema", _AVERAGES, (_CLOSE, _window()), "number",
        "Exponential moving average, weight 2 / (n + 1), seeded with the mean of its first n values.",
        "ema(close, 8) > ema(close, 21)",
        technicals.ema, _everything,
    ),
    Function(
        "wma", _AVERAGES, (_CLOSE, _window()), "number",
        "Moving average weighted 1, 2, … n, the newest heaviest.", "close > wma(close, 21)",
        technicals.wma, _window_reach,
    ),
    Function(
        "macd", _AVERAGES, (_window(12, "fast"), _window(26, "slow")), "number",
        "Fast less slow exponential average of closes.", "crossed_above(macd(12, 26), ema(macd(12, 26), 9))",
        lambda close, fast, slow: technicals.ema(close, fast) - technicals.ema(close, slow), _everything, ("close",),
    ),
    Function(
        "adx", _AVERAGES, (_window(14),), "number",
        "Average directional index: how strong a trend is, whichever way it goes, 0 to 100. Wilder (1978).", "adx(14) > 25",
        technicals.adx, _everything, _BARS,
    ),
    Function(
        "rsi", _OSCILLATORS, (_CLOSE, _window(14)), "number",
        "Relative strength index: 100 × average gain / (average gain + average loss), Wilder's averages.", "rsi(14) < 30",
        technicals.rsi, _everything,
    ),
    Function(
        "stochastic", _OSCILLATORS, (_window(14), _window(3, "smooth")), "number",
        "Where the close stands between the window's lowest low and highest high, 0 to 100, averaged over a few sessions.",
        "stochastic(14, 3) < 20",
        _slow_stochastic, lambda n, smooth: n + smooth - 2, _BARS,
    ),
    Function(
        "cci", _OSCILLATORS, (_window(20),), "number",
        "Commodity channel index: distance of the typical price from its mean, over 0.015 mean deviations. Lambert (1980).",
        "cci(20) < -100",
        technicals.cci, _window_reach, _BARS,
    ),
    Function(
        "mfi", _OSCILLATORS, (_window(14),), "number",
        "Money flow index: share of the traded value that fell on sessions of rising typical price, 0 to 100.", "mfi(14) < 20",
        technicals.mfi, _same_reach, (*_BARS, "volume"),
    ),
    Function(
        "atr", _BANDS, (_window(14),), "number",
        "Average true range in price units, Wilder's average.", "100 * atr(14) / close < 2",
        technicals.atr, _everything, _BARS,
    ),
    Function(
        "bollinger_upper", _BANDS, (_CLOSE, _window(20), _factor("width", 2.0)), "number",
        "Mean plus that many population standard deviations.", "close > bollinger_upper(close, 20, 2)",
        lambda x, n, k: technicals.bollinger(x, n, k)[0], _window_reach,
    ),
    Function(
        "bollinger_lower", _BANDS, (_CLOSE, _window(20), _factor("width", 2.0)), "number",
        "Mean less that many population standard deviations.", "close < bollinger_lower(close, 20, 2)",
        lambda x, n, k: technicals.bollinger(x, n, k)[1], _window_reach,
    ),
    Function(
        "keltner_upper", _BANDS, (_window(20), _factor("width", 1.5)), "number",
        "Exponential average of closes plus that many average true ranges.", "close > keltner_upper(20, 1.5)",
        lambda h, lo, c, n, k: technicals.keltner(h, lo, c, n, k)[0], _everything, _BARS,
    ),
    Function(
        "keltner_lower", _BANDS, (_window(20), _factor("width", 1.5)), "number",
        "Exponential average of closes less that many average true ranges.", "close < keltner_lower(20, 1.5)",
        lambda h, lo, c, n, k: technicals.keltner(h, lo, c, n, k)[1], _everything, _BARS,
    ),
    Function(
        "channel", _BANDS, (_CLOSE, _window(126, least=3), _factor("deviations", 0.0)), "number",
        "Linear regression channel: the least-squares line's value today plus that many root mean squared residuals.",
        "low < channel(close, 126, -1) and close > channel(close, 126, -1)",
        lambda x, n, k: (lambda line: line[1] + k * line[2])(rolling.rolling_regression(x, n)), _window_reach,
    ),
    Function(
        "hv", _BANDS, (_window(21, least=2), Parameter("estimator", "choice", "yang_zhang", choices=ESTIMATORS)), "number",
        "Historical volatility in percent a year, by one of five estimators.", 'hv(63, "parkinson") < 20',
        lambda o, h, lo, c, n, estimator: 100 * historical_vol(o, h, lo, c, n, estimator=estimator),
        lambda n, estimator: n, _OHLC,
    ),
    Function(
        "hv_ex_earnings", _BANDS,
        (_window(21, least=2), Parameter("estimator", "choice", "yang_zhang", choices=ESTIMATORS)), "number",
        "The same without the sessions in which the price reacted to earnings; the window reaches further back instead.",
        "hv_ex_earnings(21) < 25", _hv_ex_earnings, lambda n, estimator: n + n // 20 + 8, (*_OHLC, "earnings_reaction"),
    ),
    Function(
        "flat_bottom_run", _CANDLES, (), "number",
        "Averaged (Heikin-Ashi) candles in a row that rose without a lower shadow.", "flat_bottom_run >= 4",
        technicals.flat_bottom_run, _everything, _OHLC,
    ),
    Function(
        "flat_top_run", _CANDLES, (), "number",
        "Averaged (Heikin-Ashi) candles in a row that fell without an upper shadow.", "flat_top_run >= 4",
        technicals.flat_top_run, _everything, _OHLC,
    ),
    Function(
        "squeeze_on", _CANDLES, (), "condition",
        "The Bollinger bands (20, 2) lie inside the Keltner bands (20, 1.5): the stock is quieter than its own ranges.",
        "squeeze_on and rel_strength_21 > 0",
        _squeeze(False), _everything, _BARS,
    ),
    Function(
        "squeeze_released", _CANDLES, (), "condition",
        "The squeeze was on in the previous session and is off now.", "squeeze_released and slope(close, 20) > 0",
        _squeeze(True), _everything, _BARS,
    ),
    Function(
        "swing_high", _CANDLES, (_window(5, "side"),), "number",
        "Price of the last high that is above the highs of that many sessions on both sides; known only when they have passed.",
        "close > swing_high(5)",
        lambda high, n: technicals.swing(high, n, high=True), _everything, ("high",),
    ),
    Function(
        "swing_low", _CANDLES, (_window(5, "side"),), "number",
        "Price of the last low that is below the lows of that many sessions on both sides.", "close < swing_low(5)",
        lambda low, n: technicals.swing(low, n, high=False), _everything, ("low",),
    ),
    Function(
        "fib_extension", _CANDLES, (_factor("ratio"), _window(5, "side")), "number",
        "Price that many times the last confirmed leg away from where the leg began.", "close > fib_extension(1.618)",
        lambda high, low, ratio, n: technicals.fib_extension(high, low, n, ratio), _everything, ("high", "low"),
    ),
    Function(
        "gap_below", _CANDLES, (_window(126),), "number",
        "Price at which the newest gap still open below the market would be filled; missing when none of the window is open.",
        "100 * (close / gap_below(63) - 1) < 3",
        lambda high, low, n: technicals.unfilled_gap(high, low, above=False, window=n), _same_reach, ("high", "low"),
    ),
    Function(
        "gap_above", _CANDLES, (_window(126),), "number",
        "Price at which the newest gap still open above the market would be filled; missing when none of the window is open.",
        "100 * (gap_above(63) / close - 1) < 3",
        lambda high, low, n: technicals.unfilled_gap(high, low, above=True, window=n), _same_reach, ("high", "low"),
    ),
    Function(
        "abs", _PLAIN, (_SERIES,), "number", "Size without sign.", "abs(change_pct) >= 3", np.abs, _nothing,
    ),
    Function(
        "sqrt", _PLAIN, (_SERIES,), "number",
        "Square root; missing below zero.", "iv30 / sqrt(252) > 2", _quietly(np.sqrt), _nothing,
    ),
    Function(
        "log", _PLAIN, (_SERIES,), "number",
        "Natural logarithm; missing at zero and below.", "log(close / lag(close, 1)) > 0.03", _quietly(np.log), _nothing,
    ),
    Function(
        "exp", _PLAIN, (_SERIES,), "number", "e to that power.", "exp(log(price)) > 20", _quietly(np.exp), _nothing,
    ),
    Function(
        "positive", _PLAIN, (_SERIES,), "number",
        "The value where it is above zero, missing elsewhere: for ratios that mean nothing below.", "close / positive(eps_ttm) < 15",
        lambda x: np.where(x > 0, x, np.nan), _nothing,
    ),
    Function(
        "smaller", _PLAIN, (Parameter("first", "series"), Parameter("second", "series")), "number",
        "The smaller of two values.", "smaller(iv30, iv60) > 40", np.minimum, _nothing,
    ),
    Function(
        "larger", _PLAIN, (Parameter("first", "series"), Parameter("second", "series")), "number",
        "The larger of two values.", "larger(hv21, hv63) < iv30", np.maximum, _nothing,
    ),
    Function(
        "if_else", _PLAIN, (_CONDITION, Parameter("first", "series"), Parameter("second", "series")), "number",
        "The first value where the condition holds, the second where it does not.",
        "if_else(kind == \"fund\", 1.1, 1.3) < iv_hv_ratio",
        _if_else, _nothing,
    ),
    Function(
        "is_known", _PLAIN, (_SERIES,), "condition",
        "Whether there is a value at all.", "not is_known(days_to_earnings)", _known, _nothing,
    ),
)  # fmt: skip

FUNCTIONS: dict[str, Function] = {function.name: function for function in _FUNCTIONS}

COSTS: dict[str, tuple[float, float]] = {
    "lag": (12, 0), "change": (15, 0), "pct_change": (22, 0), "mean": (25, 0.1), "median": (45, 0.75), "std": (46, 0.5),
    "sum": (20, 0.1), "min": (25, 0), "max": (25, 0), "rank_pct": (15, 0.15), "pct_among": (18, 0.08), "range_pct": (40, 0),
    "zscore": (40, 0.4), "slope": (36, 0.35), "share_of_sessions": (46, 0), "any_in": (33, 0), "all_in": (32, 0),
    "sessions_since": (50, 0), "sessions_since_as_high": (40, 0), "crossed_above": (14, 0), "crossed_below": (14, 0), "sma": (22, 0.1), "ema": (12, 0),
    "wma": (22, 0.15), "macd": (18, 0), "adx": (110, 0), "rsi": (68, 0), "stochastic": (60, 0.25), "cci": (45, 0.55), "mfi": (110, 0.25),
    "atr": (18, 0), "bollinger_upper": (55, 0.5), "bollinger_lower": (55, 0.5), "keltner_upper": (48, 0), "keltner_lower": (48, 0),
    "channel": (45, 0.4), "hv": (80, 1.3), "hv_ex_earnings": (130, 1.4), "flat_bottom_run": (62, 0), "flat_top_run": (62, 0),
    "squeeze_on": (115, 0), "squeeze_released": (115, 0), "swing_high": (22, 0.1), "swing_low": (22, 0.1),
    "fib_extension": (110, 0.2), "gap_below": (24, 1.4), "gap_above": (24, 1.2), "abs": (8, 0), "sqrt": (10, 0), "log": (11, 0),
    "exp": (11, 0), "positive": (10, 0), "smaller": (8, 0), "larger": (8, 0), "if_else": (13, 0), "is_known": (6, 0),
}  # fmt: skip
"""What a call takes, as measured by `benchmarks/rule_costs.py`: fixed, and for each session of its window, in units of work."""
OPERATION = 16
"""Units that one operator takes."""
SECONDS_A_UNIT = 4e-10
"""A unit of work is so long for each name and session; one pass of an addition over two arrays is `OPERATION` units."""


def cost_of(name: str, settings: list[float | str]) -> int:
    """Units of work that a call takes."""
    fixed, each = COSTS[name]
    window = max((setting for setting in settings if isinstance(setting, int)), default=0)
    return int(fixed + each * window)

"""Averages, oscillators, channels, candles and strength against the market."""

from __future__ import annotations

from functools import partial

from flinch.core.rules.catalogue.metric import Metric, computed, read

_trend = partial(computed, "averages and trend")
_oscillator = partial(computed, "oscillators")
_channel = partial(computed, "channels and compression")
_candle = partial(computed, "candles")
_strength = partial(computed, "relative strength")
_WILDER = "Wilder (1978)"


def _average(sessions: int) -> tuple[Metric, Metric]:
    return (
        _trend(f"sma_{sessions}", f"Average price, {sessions} sessions", f"SMA {sessions}", "$", f"sma(close, {sessions})",
               f"Simple average of the last {sessions} closes."),
        _trend(f"above_sma_{sessions}", f"Distance from the {sessions}-session average", f"vs SMA {sessions}", "%",
               f"100 * (close / sma(close, {sessions}) - 1)", f"How far the price is above its {sessions}-session average."),
    )  # fmt: skip


def _strength_of(sessions: int, words: str) -> Metric:
    return _strength(
        f"rel_strength_{sessions}", f"Relative strength, {sessions} sessions", f"RS {sessions}", "points",
        f"pct_change(close, {sessions}) - pct_change(index_close, {sessions})",
        f"The price's change over {words} less the broad index's, in percent points.",
    )  # fmt: skip


ENTRIES = (
    *_average(20),
    *_average(50),
    *_average(100),
    *_average(200),
    _trend("ema_8", "Exponential average, 8 sessions", "EMA 8", "$", "ema(close, 8)", "Fast exponential average of closes."),
    _trend("ema_21", "Exponential average, 21 sessions", "EMA 21", "$", "ema(close, 21)", "Exponential average of closes."),
    _trend("sma_50_over_200", "50- over 200-session average", "50 / 200", "%", "100 * (sma(close, 50) / sma(close, 200) - 1)",
           "How far the 50-session average is above the 200-session one."),
    _trend("uptrend", "Uptrend", "Up?", "", "close > sma(close, 50) and sma(close, 50) > sma(close, 200)",
           "Price above its 50-session average, and that above the 200-session one.", kind="condition"),
    _trend("sessions_above_200", "Sessions since regaining the 200-session average", "Since 200", "sessions",
           "sessions_since(crossed_above(close, sma(close, 200)))",
           "Sessions since the close last crossed above its 200-session average."),
    _trend("trend_slope_63", "Trend slope, 63 sessions", "Slope 63", "%", "100 * 252 * slope(close, 63) / close",
           "Slope of the least-squares line through a quarter's closes, as a yearly rate of today's price."),
    _trend("macd_line", "MACD", "MACD", "$", "macd(12, 26)", "Twelve- less 26-session exponential average.", scale="linear"),
    _trend("macd_histogram", "MACD less its signal", "MACD hist", "$", "macd(12, 26) - ema(macd(12, 26), 9)",
           "MACD less its own nine-session exponential average.", scale="linear"),
    _trend("adx_14", "Average directional index, 14 sessions", "ADX", "0–100", "adx(14)",
           "How strong the trend is, whichever way it goes. Above 25 is commonly called a trend.", source=_WILDER),
    _oscillator("rsi_14", "Relative strength index, 14 sessions", "RSI", "0–100", "rsi(close, 14)",
                "Average gain as a share of average gain and loss.", source=_WILDER),
    _oscillator("rsi_2", "Relative strength index, 2 sessions", "RSI 2", "0–100", "rsi(close, 2)",
                "The same over two sessions: stretched within days.", source=_WILDER),
    _oscillator("stochastic_14", "Stochastic, 14 sessions", "Stoch", "0–100", "stochastic(14, 3)",
                "Where the close stands within 14 sessions' range, averaged over three."),
    _oscillator("cci_20", "Commodity channel index, 20 sessions", "CCI", "", "cci(20)",
                "Distance of the typical price from its mean, over 0.015 mean deviations.", source="Lambert (1980)"),
    _oscillator("mfi_14", "Money flow index, 14 sessions", "MFI", "0–100", "mfi(14)",
                "The share of traded value that fell on sessions of rising typical price."),
    _oscillator("roc_10", "Rate of change, 10 sessions", "ROC", "%", "pct_change(close, 10)", "The move over ten sessions."),
    _oscillator("zscore_20", "Price in its own deviations, 20 sessions", "Price z", "σ", "zscore(close, 20)",
                "Distance of the close from its 20-session mean, in standard deviations."),
    _channel("atr_14", "Average true range, 14 sessions", "ATR", "$", "atr(14)",
             "How far a session usually ranges, gaps included.", source=_WILDER),
    _channel("atr_pct", "Average true range against price", "ATR %", "%", "100 * atr(14) / close",
             "Average true range as a share of price.", decimals=2, scale="log"),
    _channel("bollinger_width", "Bollinger band width", "Bol width", "%",
             "100 * (bollinger_upper(close, 20, 2) - bollinger_lower(close, 20, 2)) / sma(close, 20)",
             "Distance between the bands (20, 2) as a share of their middle.", scale="log", source="Bollinger (2001)"),
    _channel("bollinger_position", "Position in the Bollinger bands", "Bol pos", "0–100",
             "100 * (close - bollinger_lower(close, 20, 2)) / (bollinger_upper(close, 20, 2) - bollinger_lower(close, 20, 2))",
             "Zero at the lower band, a hundred at the upper; beyond them when the price is."),
    _channel("bollinger_width_percentile", "Percentile of band width", "Width pctl", "0–100", "rank_pct(bollinger_width, 126)",
             "How unusual today's band width is for this name over half a year: low means compressed."),
    _channel("channel_position_126", "Position in the regression channel, 126 sessions", "Chan 126", "σ",
             "(close - channel(close, 126, 0)) / (channel(close, 126, 1) - channel(close, 126, 0))",
             "Distance from the least-squares line through half a year, in root mean squared residuals."),
    _channel("channel_position_63", "Position in the regression channel, 63 sessions", "Chan 63", "σ",
             "(close - channel(close, 63, 0)) / (channel(close, 63, 1) - channel(close, 63, 0))",
             "The same over about a quarter."),
    _channel("channel_low_126", "Lower regression channel, 126 sessions", "Chan low", "$", "channel(close, 126, -1)",
             "One root mean squared residual below the line through half a year."),
    _channel("squeeze_on", "In a squeeze", "Squeeze?", "", "squeeze_on",
             "The Bollinger bands (20, 2) lie inside the Keltner bands (20, 1.5): closes are stiller than ranges.", kind="condition"),
    _channel("squeeze_released", "Squeeze released today", "Released?", "", "squeeze_released",
             "The squeeze was on in the previous session and is off now.", kind="condition"),
    _channel("squeeze_length", "Sessions in the squeeze", "Sqz len", "sessions", "sessions_since(not squeeze_on)",
             "How many sessions the squeeze has lasted; zero when there is none."),
    _channel("squeeze_momentum", "Squeeze momentum", "Sqz mom", "", "20 * slope(close, 20) / atr(14)",
             "Which way the line through the last 20 closes leans, in average true ranges over those 20 sessions.", decimals=2),
    _channel("inside_day", "Inside the previous session", "Inside?", "", "high < lag(high, 1) and low > lag(low, 1)",
             "High and low both within the previous session's.", kind="condition"),
    _channel("narrowest_of_7", "Narrowest range of seven", "NR7?", "", "high - low <= min(high - low, 7)",
             "No session of the last seven had a smaller range.", kind="condition"),
    _candle("flat_bottom_run", "Flat-bottomed candles in a row", "Flat bot", "sessions", "flat_bottom_run",
            "Averaged (Heikin-Ashi) candles in a row that rose without a lower shadow: a trend without doubt."),
    _candle("flat_top_run", "Flat-topped candles in a row", "Flat top", "sessions", "flat_top_run",
            "Averaged (Heikin-Ashi) candles in a row that fell without an upper shadow."),
    _candle("up_run", "Rising closes in a row", "Up run", "sessions", "sessions_since(close <= lag(close, 1))",
            "How many closes in a row were higher than the one before."),
    _candle("down_run", "Falling closes in a row", "Down run", "sessions", "sessions_since(close >= lag(close, 1))",
            "How many closes in a row were lower than the one before."),
    _candle("body_pct", "Candle body", "Body", "%", "100 * (close - open) / open", "Close against open of the session.", decimals=2),
    _candle("swing_high_5", "Last swing high", "Swing hi", "$", "swing_high(5)",
            "The last high above those of five sessions on both sides."),
    _candle("swing_low_5", "Last swing low", "Swing lo", "$", "swing_low(5)",
            "The last low below those of five sessions on both sides."),
    _candle("above_swing_high", "Distance from the last swing high", "vs swing", "%", "100 * (close / swing_high(5) - 1)",
            "How far the price is above the last swing high: just above zero is a fresh breakout."),
    _candle("extension_target", "Extension of the last leg", "Ext 1.618", "$", "fib_extension(1.618)",
            "1.618 times the last confirmed leg, measured from where it began."),
    _candle("gap_below_pct", "Distance to the open gap below", "Gap below", "%", "100 * (close / gap_below(126) - 1)",
            "How far the price is above the newest gap below it that was never filled; missing when none is open.", scale="log"),
    _candle("gap_above_pct", "Distance to the open gap above", "Gap above", "%", "100 * (gap_above(126) / close - 1)",
            "How far the newest unfilled gap above the price is; missing when none is open.", scale="log"),
    read("relative strength", "index_close", "Broad index", "Index", "$", "index_close", "daily bars of the broad index",
         "The last value of the broad index, the same for every name.", "the index was not recorded"),
    _strength_of(5, "a week"),
    _strength_of(21, "about a month"),
    _strength_of(63, "about a quarter"),
    _strength_of(126, "half a year"),
    _strength("rel_line_rank", "Relative strength line in its year's range", "RS line", "0–100", "range_pct(close / index_close, 252)",
              "Where price over index stands between its lowest and highest of 252 sessions; a hundred leads the market."),
    _strength("rel_strength_up", "Beats the index in sessions, of 21", "RS share", "%",
              "100 * share_of_sessions(pct_change(close, 1) > pct_change(index_close, 1), 21)",
              "The share of the last 21 sessions in which the price did better than the index.", decimals=0),
)  # fmt: skip

"""Price, volume and extended hours."""

from __future__ import annotations

from functools import partial

from flinch.core.rules.catalogue.metric import Metric, computed, read

_BARS, _EXTENDED = "daily bars", "trades outside regular hours"
_NO_TRADE = "no trade in this session"
_NO_VOLUME = {"index": "an index does not trade", "": _NO_TRADE}
_EARLY = {"index": "an index does not trade", "": "nothing traded before the open"}
_LATE = {"index": "an index does not trade", "": "nothing traded after that close, or it is still ahead"}

_price = partial(computed, "price and volume")
_hours = partial(computed, "extended hours")


def _bar(key: str, label: str, short: str, definition: str) -> Metric:
    return read("price and volume", key, label, short, "$", key, _BARS, definition, _NO_TRADE)


ENTRIES = (
    _bar("open", "Open", "Open", "The first price of the session."),
    _bar("high", "High", "High", "The highest price of the session so far."),
    _bar("low", "Low", "Low", "The lowest price of the session so far."),
    _bar("close", "Close", "Close", "The last price of the session; its close once it has ended."),
    read(
        "price and volume", "volume", "Volume", "Volume", "shares", "volume", _BARS,
        "Shares traded in the session, so far while it lasts.", _NO_VOLUME,
    ),
    _price("price", "Price", "Price", "$", "close", "The last price of the session; the close once it has ended."),
    _price("change_pct", "Change today", "Today", "%", "pct_change(close, 1)", "The move since the previous close.", decimals=2),
    _price("change_5_pct", "Change, 5 sessions", "5 sess", "%", "pct_change(close, 5)", "The move over the last five sessions."),
    _price("change_21_pct", "Change, 21 sessions", "21 sess", "%", "pct_change(close, 21)", "The move over about a month."),
    _price("change_63_pct", "Change, 63 sessions", "63 sess", "%", "pct_change(close, 63)", "The move over about a quarter."),
    _price("change_252_pct", "Change, 252 sessions", "252 sess", "%", "pct_change(close, 252)", "The move over about a year."),
    _price(
        "gap_pct", "Gap at the open", "Gap", "%", "100 * (open / lag(close, 1) - 1)",
        "The open against the previous close.", decimals=2,
    ),
    _price(
        "since_open_pct", "Change since the open", "Since open", "%", "100 * (close / open - 1)",
        "The move of regular hours alone, the gap left out.", decimals=2,
    ),
    _price(
        "day_range_pct", "Day's range", "Range", "%", "100 * (high - low) / lag(close, 1)",
        "High less low of the session, against the previous close.", decimals=2,
    ),
    _price(
        "close_in_range", "Price in the day's range", "In range", "0–100", "100 * (close - low) / (high - low)",
        "Where the last price stands between the day's low (0) and high (100).",
    ),
    _price(
        "dollar_volume", "Value traded", "Value", "$", "close * volume",
        "Shares traded in the session at its last price.", decimals=0,
    ),
    _price(
        "avg_dollar_volume_21", "Average value traded, 21 sessions", "Avg value", "$", "mean(close * volume, 21)",
        "Value traded a session, averaged over the last 21 sessions with today's so far.", decimals=0,
    ),
    _price(
        "avg_volume_21", "Average volume, 21 sessions", "Avg vol 21", "shares", "mean(volume, 21)",
        "Shares traded a session, averaged over the last 21 sessions with today's so far.",
    ),
    _price(
        "avg_volume_50", "Average volume, 50 sessions", "Avg vol", "shares", "mean(volume, 50)",
        "Shares traded a session, averaged over the last 50 sessions with today's so far.",
    ),
    _price(
        "relative_volume", "Relative volume", "Rel vol", "×", "volume / lag(mean(volume, 50), 1)",
        "Today's shares so far against the average of the 50 sessions before. Early in a session it is low by nature.",
    ),
    _price(
        "volume_trend", "Volume trend", "Vol trend", "×", "mean(volume, 10) / mean(volume, 63)",
        "Recent volume against a quarter's: above one it is picking up.",
    ),
    _price("high_252", "Highest price, 252 sessions", "Yr high", "$", "max(high, 252)", "The highest price of about a year."),
    _price("low_252", "Lowest price, 252 sessions", "Yr low", "$", "min(low, 252)", "The lowest price of about a year."),
    _price(
        "below_high_252_pct", "Distance from the year's high", "From high", "%", "100 * (close / max(high, 252) - 1)",
        "How far the price is below the highest of 252 sessions; zero at the high.",
    ),
    _price(
        "above_low_252_pct", "Distance from the year's low", "From low", "%", "100 * (close / min(low, 252) - 1)",
        "How far the price is above the lowest of 252 sessions.",
    ),
    _price(
        "range_position_252", "Position in the year's range", "Yr range", "0–100",
        "100 * (close - min(low, 252)) / (max(high, 252) - min(low, 252))",
        "Where the price stands between the lowest and highest of 252 sessions.",
    ),
    _price(
        "up_share_21", "Sessions up, of 21", "Up share", "%", "100 * share_of_sessions(close > lag(close, 1), 21)",
        "The share of the last 21 sessions that closed higher.", decimals=0,
    ),
    _price(
        "largest_move_63", "Largest move, 63 sessions", "Largest", "%", "max(abs(pct_change(close, 1)), 63)",
        "The largest move of one session, up or down, in about a quarter.",
    ),
    read(
        "extended hours", "premarket_last", "Pre-market price", "Pre last", "$", "pre_last", _EXTENDED,
        "The last price traded before the session's open.", _EARLY,
    ),
    read(
        "extended hours", "premarket_high", "Pre-market high", "Pre high", "$", "pre_high", _EXTENDED,
        "The highest price traded before the session's open.", _EARLY,
    ),
    read(
        "extended hours", "premarket_low", "Pre-market low", "Pre low", "$", "pre_low", _EXTENDED,
        "The lowest price traded before the session's open.", _EARLY,
    ),
    read(
        "extended hours", "premarket_volume", "Pre-market volume", "Pre vol", "shares", "pre_volume", _EXTENDED,
        "Shares traded before the session's open.", _EARLY,
    ),
    read(
        "extended hours", "after_hours_last", "After-hours price", "Post last", "$", "post_last", _EXTENDED,
        "The last price traded in the evening after the session's close.", _LATE,
    ),
    read(
        "extended hours", "after_hours_volume", "After-hours volume", "Post vol", "shares", "post_volume", _EXTENDED,
        "Shares traded in the evening after the session's close.", _LATE,
    ),
    _hours(
        "premarket_change", "Pre-market change", "Pre chg", "%", "100 * (premarket_last / lag(close, 1) - 1)",
        "The last pre-market price against the previous close.", decimals=2,
    ),
    _hours(
        "premarket_range_pct", "Pre-market range", "Pre range", "%", "100 * (premarket_high - premarket_low) / lag(close, 1)",
        "High less low before the open, against the previous close.", decimals=2,
    ),
    _hours(
        "premarket_volume_share", "Pre-market volume against a day's", "Pre share", "%",
        "100 * premarket_volume / lag(mean(volume, 50), 1)",
        "Shares traded before the open as a share of an average whole session.",
    ),
    _hours(
        "since_premarket_pct", "Change since the pre-market", "Since pre", "%", "100 * (close / premarket_last - 1)",
        "What regular hours added to the last pre-market price, or took from it.", decimals=2,
    ),
    _hours(
        "above_premarket_high", "Above the pre-market high", "Over pre hi", "", "close > premarket_high",
        "Whether the price is above everything traded before the open.", kind="condition",
    ),
    _hours(
        "below_premarket_low", "Below the pre-market low", "Under pre lo", "", "close < premarket_low",
        "Whether the price is below everything traded before the open.", kind="condition",
    ),
    _hours(
        "last_evening_change", "Change last evening", "Evening", "%", "100 * (lag(after_hours_last, 1) / lag(close, 1) - 1)",
        "What the evening after the previous session made of its close.", decimals=2,
    ),
    _hours(
        "last_evening_volume_share", "Volume last evening against a day's", "Eve share", "%",
        "100 * lag(after_hours_volume, 1) / lag(mean(volume, 50), 1)",
        "Shares traded in the evening after the previous session as a share of an average whole session.",
    ),
)  # fmt: skip

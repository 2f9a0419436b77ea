"""What is read from the fitted surfaces, and where price stands in the moves that they price."""

from __future__ import annotations

from functools import partial

from flinch.core.rules.catalogue.metric import PERCENT, Metric, computed, read

_CHAIN = "the session's option chain"
_NO_QUOTES = "no usable option quotes in this session"
_NO_WEEK = "when this week began no expiration at its end was quoted"
_NO_MONTH = "when this month's cycle began no expiration at its end was quoted"
_NO_REPORT = {
    "fund": "does not report earnings",
    "index": "does not report earnings",
    "": "no report is scheduled before a listed expiration, or too few expirations are quoted",
}

_implied = partial(computed, "implied volatility")
_move = partial(computed, "expected move")
_earnings = partial(computed, "earnings")


def _cycle(period: str, words: str, none: str) -> tuple[Metric, ...]:
    short = {"week": "Wk", "month": "Mo"}[period]
    return (
        read(
            "expected move",
            f"{period}_anchor",
            f"Close at the start of the {period}",
            f"{short} start",
            "$",
            f"{period}_anchor",
            "daily bars",
            f"The close from which the {period}'s expected move is measured: {words}.",
            f"no close on the session that began this {period}",
        ),
        read(
            "expected move",
            f"{period}_half_width",
            f"Expected move of the {period}, in dollars",
            f"{short} ±$",
            "$",
            f"{period}_half_width",
            _CHAIN,
            f"One standard deviation to the end of the {period} as options priced it at its start.",
            none,
        ),
        _move(
            f"{period}_edge_pct",
            f"Expected move of the {period}",
            f"{short} ±%",
            "%",
            f"100 * {period}_half_width / {period}_anchor",
            f"One standard deviation to the end of the {period} as options priced it at its start.",
            decimals=2,
            scale="log",
        ),
        _move(
            f"{period}_position",
            f"Position in the {period}",
            f"{short} pos",
            "σ",
            f"(close - {period}_anchor) / {period}_half_width",
            f"How far price has come from the {period}'s start, in units of the move priced for the whole of it: beyond 1 or −1 "
            f"it is outside.",
        ),
        _move(
            f"{period}_pace",
            f"Position in the {period} so far",
            f"{short} pace",
            "σ",
            f"{period}_position / sqrt({period}_elapsed / {period}_length)",
            f"The same against the move priced for the part of the {period} that is over: the fan's edge today is 1.",
        ),
        read(
            "expected move",
            f"{period}_elapsed",
            f"Sessions into the {period}",
            f"{short} day",
            "sessions",
            f"{period}_elapsed",
            "the exchange's calendar",
            f"Sessions since the close that began the {period}.",
            "before the first cycle held",
        ),
        read(
            "expected move",
            f"{period}_length",
            f"Sessions of the {period}",
            f"{short} days",
            "sessions",
            f"{period}_length",
            "the exchange's calendar",
            f"Sessions from the close that began the {period} to the one that ends it.",
            "before the first cycle held",
        ),
        _move(
            f"room_to_{period}_pct",
            f"Room to the {period}'s edge",
            f"{short} room",
            "%",
            f"100 * ({period}_half_width - abs(close - {period}_anchor)) / close",
            f"How far price may still go the way it went until it meets the edge of the {period}'s expected move; below zero it "
            f"is beyond.",
            decimals=2,
        ),
        _move(
            f"room_to_{period}_moves",
            f"Room to the {period}'s edge in one-day moves",
            f"{short} room σ",
            "σ",
            f"room_to_{period}_pct / next_day_move_pct",
            "The same in moves priced for the next session.",
        ),
    )


ENTRIES = (
    read(
        "implied volatility", "iv_week", "Implied volatility to the week's end", "IV week", "%", "iv_week", _CHAIN,
        "The volatility at the money of the expiration that ends the current week, or after its close the next one.",
        "no expiration at the week's end is quoted", factor=PERCENT, scale="log",
    ),
    read(
        "implied volatility", "iv_month", "Implied volatility to the month's end", "IV month", "%", "iv_month", _CHAIN,
        "The volatility at the money of the third-Friday expiration that ends the current cycle, or after its close the next one.",
        _NO_QUOTES, factor=PERCENT, scale="log",
    ),
    read(
        "implied volatility", "iv30_ex_earnings", "Implied volatility without earnings, 30 days", "IV30 ex", "%",
        "iv30_ex_earnings", _CHAIN,
        "Thirty-day implied volatility after the variance of reports is taken out of the term structure.", _NO_QUOTES,
        factor=PERCENT, scale="log",
    ),
    _implied(
        "earnings_premium", "Volatility priced for earnings", "Earn vol", "points", "iv30 - iv30_ex_earnings",
        "The points of 30-day implied volatility that stand for a report.",
    ),
    read(
        "implied volatility", "put_25d", "Implied volatility of the 25-delta put", "25Δ put", "%", "put_25d", _CHAIN,
        "Thirty days ahead, from the fitted surface.", "the quoted strikes do not reach 25 delta", factor=PERCENT, scale="log",
    ),
    read(
        "implied volatility", "call_25d", "Implied volatility of the 25-delta call", "25Δ call", "%", "call_25d", _CHAIN,
        "Thirty days ahead, from the fitted surface.", "the quoted strikes do not reach 25 delta", factor=PERCENT, scale="log",
    ),
    _implied(
        "skew_25d", "Skew, 25 delta", "Skew", "points", "put_25d - call_25d",
        "The 25-delta put's implied volatility less the 25-delta call's, thirty days ahead: the price of falling over rising.",
    ),
    _implied(
        "skew_percentile", "Percentile of skew", "Skew pctl", "0–100", "rank_pct(put_25d - call_25d, 252)",
        "How unusual today's skew is for this name: the share of the previous 251 sessions in which it was lower.",
    ),
    _implied(
        "skew_over_iv", "Skew over implied volatility", "Skew/IV", "%", "100 * skew_25d / iv30",
        "Skew in percent of 30-day implied volatility, so that calm and wild names compare.",
    ),
    _implied(
        "term_slope", "Term slope, 30 to 90 days", "Term", "points", "iv90 - iv30",
        "Ninety-day less thirty-day implied volatility. Below zero the near month is the dearer one.",
    ),
    _implied(
        "term_slope_percentile", "Percentile of term slope", "Term pctl", "0–100", "rank_pct(iv90 - iv30, 252)",
        "How unusual today's slope is for this name: the share of the previous 251 sessions in which it was lower.",
    ),
    read(
        "implied volatility", "fit_quality", "Fit quality", "Fit", "0–100", "fit_quality", _CHAIN,
        "The share of quoted strikes whose fitted price lies between bid and ask, scaled down below six strikes; the mean of the "
        "expirations from a week to a quarter ahead. Low means: do not lean on this name's implied numbers.", _NO_QUOTES,
    ),
    *_cycle("week", "that of the last weekly expiration", _NO_WEEK),
    *_cycle("month", "that of the last third Friday", _NO_MONTH),
    _move(
        "room_to_month_days", "Room to the month's edge in expected days", "Mo room d", "sessions",
        "positive(room_to_month_moves) ** 2",
        "Sessions until a move of that size is one standard deviation: the square of the room in one-day moves.", decimals=1,
    ),
    _move(
        "month_sessions_left", "Sessions left in the month's cycle", "Mo left", "sessions", "month_length - month_elapsed",
        "Sessions after this one until the third-Friday expiration.",
    ),
    _move(
        "outside_week_inside_month", "Out of the week, inside the month", "Out wk?", "",
        "abs(week_position) > 1 and abs(month_position) < 1 and week_position * month_position > 0",
        "Price has left the week's expected move and not yet the month's, both on the same side of their starts.",
        kind="condition",
    ),
    read(
        "earnings", "implied_earnings_move", "Implied earnings move", "Impl earn", "%", "implied_earnings_move", _CHAIN,
        "One standard deviation of the move priced for the next report alone: the root of the variance by which the term structure "
        "jumps across it.", _NO_REPORT, factor=PERCENT,
    ),
    _earnings(
        "earnings_move_ratio", "Implied over usual earnings move", "Earn i/a", "×", "implied_earnings_move / average_earnings_move",
        "The move priced for the next report against the mean size of the last moves on reports. A standard deviation is about a "
        "quarter larger than the mean size it stands for.",
    ),
    read(
        "earnings", "earnings_reaction", "Reacts to earnings", "Reaction", "", "earnings_reaction", "the earnings calendar",
        "One in the session in which the price reacted to a report, else zero.", "not held",
    ),
)  # fmt: skip

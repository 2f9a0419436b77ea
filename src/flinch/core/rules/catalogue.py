"""Every number that a screen knows: its name, unit, definition, formula and source."""

from __future__ import annotations

from typing import Literal, NamedTuple


class Metric(NamedTuple):
    """One entry of the catalogue. Values are in the unit shown: percent points, not decimals."""

    key: str
    label: str
    short: str  # for a column header
    unit: str
    definition: str
    formula: str
    source: str
    scale: Literal["linear", "log"]
    decimals: int
    is_rule: bool


_BARS = "daily bars"
_CHAIN = "the newest option chain"
_HISTORY = "daily implied volatility, 252 sessions"

_CATALOGUE = (
    Metric(
        "price", "Price", "Price", "$",
        "The last price of the session; the close once it has ended.",
        "last", _BARS, "log", 2, True,
    ),
    Metric(
        "change_pct", "Change today", "Today", "%",
        "The move since the previous close.",
        "100 (last / previous close − 1)", _BARS, "linear", 2, False,
    ),
    Metric(
        "avg_volume_50", "Average volume, 50 sessions", "Avg vol", "shares",
        "Shares traded a session, averaged over the last 50 sessions with today's so far.",
        "mean(volume, 50)", _BARS, "log", 0, True,
    ),
    Metric(
        "market_cap", "Market capitalisation", "Mkt cap", "$",
        "What all shares outstanding cost at the last price. Funds and indices have none.",
        "price × shares outstanding", "daily bars and company facts", "log", 0, True,
    ),
    Metric(
        "avg_option_volume_21", "Average option volume, 21 sessions", "Opt vol", "contracts",
        "Option contracts traded a session, all expirations and strikes, averaged over the last 21 sessions.",
        "mean(option volume, 21)", "daily option activity", "log", 0, True,
    ),
    Metric(
        "iv30", "Implied volatility, 30 days", "IV30", "%",
        "The volatility that options price for the next thirty days, annualised: from the at-the-money volatility of the two "
        "expirations around thirty days.",
        "√ of total variance σ²T, linear in T, at T = 30/365", _CHAIN, "log", 1, True,
    ),
    Metric(
        "hv21", "Historical volatility, 21 sessions", "HV21", "%",
        "How volatile the stock was over the last 21 sessions, annualised, overnight gaps included.",
        "Yang–Zhang estimator over 21 sessions, × √252", _BARS + "; Yang & Zhang (2000)", "log", 1, False,
    ),
    Metric(
        "iv_hv_ratio", "Implied over historical volatility", "IV/HV", "×",
        "How dear options are against what the stock does: above one they price more movement than there was.",
        "iv30 / hv21", "the newest option chain and daily bars", "log", 2, True,
    ),
    Metric(
        "iv_rank", "IV rank", "IV rank", "0–100",
        "Where implied volatility stands between the lowest and the highest of its last 252 sessions. "
        "One old spike keeps it low. Not the percentile.",
        "100 (iv30 − lowest) / (highest − lowest)", _HISTORY, "linear", 0, True,
    ),
    Metric(
        "iv_percentile", "IV percentile", "IV pctl", "0–100",
        "The share of the previous 251 sessions whose implied volatility was below today's. Not the rank.",
        "100 × sessions below / sessions observed", _HISTORY, "linear", 0, True,
    ),
    Metric(
        "one_day_move_pct", "One-day expected move", "1-day move", "%",
        "One standard deviation of a session's move, as the nearest expiration prices it.",
        "100 × iv of the nearest expiration / √252", _CHAIN, "log", 2, False,
    ),
    Metric(
        "spent", "Spent", "Spent", "%",
        "The share of today's one-day expected move that the price has already travelled, up or down.",
        "100 |last − previous close| / one-day expected move", "daily bars and the newest option chain", "linear", 0, False,
    ),
    Metric(
        "days_to_earnings", "Days to earnings", "Earn", "days",
        "Calendar days to the next scheduled report. Funds and indices do not report.",
        "report date − today", "earnings calendar", "linear", 0, True,
    ),
)  # fmt: skip

METRICS: dict[str, Metric] = {metric.key: metric for metric in _CATALOGUE}
RULE_METRICS: tuple[str, ...] = tuple(metric.key for metric in _CATALOGUE if metric.is_rule)

"""What a rule on structures may use of the structure and its legs; every metric of its name may be used beside it."""

from __future__ import annotations

from typing import Literal

from flinch.core.rules.catalogue.metric import Metric, computed, read
from flinch.core.rules.nodes import Kind
from flinch.core.structures.flags import THIN_INTEREST, WIDE_PCT

STRUCTURE_GROUPS = ("the structure", "reward and risk", "three opinions", "its legs", "what can happen")
_WHAT, _REWARD, _OPINIONS, _LEGS, _FLAGS = STRUCTURE_GROUPS
_QUOTES = "the session's option chain"
_UNBOUNDED_LOSS, _UNBOUNDED_PROFIT = "its loss has no bound", "its profit has no bound"
_SAYS = {
    "market": "the fitted smile's own distribution",
    "past": "the name's own past over as many sessions, moved so that its mean is the forward",
    "forecast": "forecast volatility with the name's own tail, the usual move of a report inside",
}
_SILENT = {
    "market": "its expiration has no surface that could be read",
    "past": "fewer than 60 stretches of the past are that long",
    "forecast": "no volatility can be forecast yet",
}


def _read(group: str, key: str, label: str, short: str, unit: str, definition: str, missing: str = "", *,
          kind: Kind = "number", scale: Literal["linear", "log"] | None = None, decimals: int | None = None) -> Metric:  # fmt: skip
    return read(
        group, key, label, short, unit, key, _QUOTES, definition, missing, kind=kind, scale=scale, decimals=decimals
    )


def _of_opinion(opinion: str) -> tuple[Metric, ...]:
    says, silent, word = _SAYS[opinion], _SILENT[opinion], opinion
    return (
        _read(_OPINIONS, f"chance_of_profit_{opinion}", f"Chance of profit, {word}", f"P {word}", "%",
              f"Chance of ending with more than it costs at its (first) expiration, under {says}.", silent),
        _read(_OPINIONS, f"chance_of_max_loss_{opinion}", f"Chance of the greatest loss, {word}", f"PL {word}", "%",
              f"Chance of losing all that can be lost, under {says}.", f"{silent}, or {_UNBOUNDED_LOSS}"),
        _read(_OPINIONS, f"expected_value_{opinion}", f"Expected value, {word}", f"EV {word}", "$",
              f"Discounted mean of what it pays, under {says}; $ a unit.", silent, scale="linear", decimals=0),
        _read(_OPINIONS, f"shortfall_{opinion}", f"Shortfall, {word}", f"ES {word}", "$",
              f"Mean profit of the worst twentieth of outcomes, below zero for a loss, under {says}; $ a unit.", silent,
              scale="linear", decimals=0),
        computed(_OPINIONS, f"edge_{opinion}", f"Edge, {word}", f"Edge {word}", "$", f"expected_value_{opinion} - cost",
                 "Expected value less what entry costs, $ a unit.", scale="linear", decimals=0),
        computed(_OPINIONS, f"edge_{opinion}_pct", f"Edge over the width of the market, {word}", f"Edge % {word}", "%",
                 f"100 * edge_{opinion} / quoted_width",
                 "Edge in percent of what lies between both sides of the structure's market: under 50 it is less than half of it.",
                 decimals=0),
    )  # fmt: skip


_ENTRIES = (
    _read(_WHAT, "structure", "Structure", "Structure", "", "Which kind of structure it is.", kind="text"),
    _read(_WHAT, "dte", "Days to expiration", "Days", "days", "Calendar days to its expiration, of two the first.", scale="linear"),
    _read(_WHAT, "sessions_to_expiration", "Sessions to expiration", "Sessions", "sessions", "Trading sessions after this one up to its expiration."),
    _read(_WHAT, "leaning", "Wants", "Wants", "", "+1 when it wants the price to rise, -1 to fall, 0 neither."),
    _read(_WHAT, "cost", "Cost of entry", "Cost", "$", "What entry costs, between mid and the worst side of every leg; below zero a credit. $ a unit.", scale="linear", decimals=0),
    _read(_WHAT, "credit", "Credit", "Credit", "$", "What is received for it, $ a unit.", "it costs money", decimals=0),
    _read(_WHAT, "debit", "Debit", "Debit", "$", "What is paid for it, $ a unit.", "it brings money", decimals=0),
    _read(_WHAT, "mid", "Worth at mid", "Mid", "$", "All legs at mid; $ a unit.", scale="linear", decimals=0),
    _read(_WHAT, "width", "Width", "Width", "$", "Distance between its lowest and highest strike times shares a contract; $ a unit.", scale="linear", decimals=0),
    _read(_WHAT, "lowest_strike", "Lowest strike", "Low K", "$", "The lowest strike among its legs."),
    _read(_WHAT, "highest_strike", "Highest strike", "High K", "$", "The highest strike among its legs."),
    _read(_WHAT, "short_put", "Short put", "Short put", "$", "Highest strike of its short puts.", "it has no short put"),
    _read(_WHAT, "short_call", "Short call", "Short call", "$", "Lowest strike of its short calls.", "it has no short call"),
    _read(_REWARD, "max_profit", "Greatest profit", "Max profit", "$", "The most that it can make at its (first) expiration; $ a unit.", _UNBOUNDED_PROFIT, scale="linear", decimals=0),
    _read(_REWARD, "max_loss", "Greatest loss", "Max loss", "$", "The most that it can lose, as a number above zero; $ a unit.", _UNBOUNDED_LOSS, scale="linear", decimals=0),
    _read(_REWARD, "capital", "Capital", "Capital", "$",
          "The greatest loss; where that has no bound, the larger of 20 % of the spot less the out-of-the-money amount and 10 % of the spot (strike for puts) for each uncovered unit, and the premium.",
          decimals=0),
    computed(_REWARD, "return_on_capital", "Return on capital", "Return", "%", "100 * max_profit / capital", "Greatest profit in percent of the capital."),
    computed(_REWARD, "return_per_year", "Return on capital a year", "Return/y", "%", "return_on_capital * 365 / larger(dte, 1)", "The same as if it were earned all year, not compounded.", decimals=0),
    computed(_REWARD, "reward_to_risk", "Reward to risk", "Reward/risk", "×", "max_profit / max_loss", "Greatest profit over greatest loss."),
    _read(_REWARD, "breakeven_below", "Breakeven below", "BE below", "$", "The nearest price at or below the spot at which it neither makes nor loses money.", "there is none below the spot"),
    _read(_REWARD, "breakeven_above", "Breakeven above", "BE above", "$", "The nearest price above the spot at which it neither makes nor loses money.", "there is none above the spot"),
    _read(_REWARD, "breakeven_below_moves", "Breakeven below in expected moves", "BE below σ", "σ", "Distance from the spot down to that breakeven, in expected moves to its expiration.", "there is none below the spot"),
    _read(_REWARD, "breakeven_above_moves", "Breakeven above in expected moves", "BE above σ", "σ", "Distance from the spot up to that breakeven, in expected moves to its expiration.", "there is none above the spot"),
    _read(_REWARD, "target", "Target", "Target", "$", "The price that the search is about.", "the search has no target, or this name none"),
    _read(_REWARD, "profit_at_target", "Profit at the target", "At target", "$", "What it makes when the target is the price at its (first) expiration; $ a unit.", "the search has no target, or this name none", scale="linear", decimals=0),
    computed(_REWARD, "return_at_target", "Return at the target", "At target %", "%", "100 * profit_at_target / capital", "Profit at the target in percent of the capital.", decimals=0),
    _read(_REWARD, "delta", "Delta", "Delta", "shares", "Shares that it moves like now, on the fitted surface.", scale="linear", decimals=1),
    _read(_REWARD, "gamma", "Gamma", "Gamma", "shares", "Change of its delta a dollar of the stock.", scale="linear"),
    _read(_REWARD, "theta", "Theta", "Theta", "$", "What a calendar day adds or takes now; $ a unit.", scale="linear"),
    _read(_REWARD, "vega", "Vega", "Vega", "$", "What a point of volatility adds or takes now; $ a unit.", scale="linear"),
    computed(_REWARD, "theta_on_capital", "Theta on capital", "Theta %", "%", "100 * theta / capital", "What a calendar day adds or takes, in percent of the capital.", decimals=2),
    *_of_opinion("market"),
    *_of_opinion("past"),
    *_of_opinion("forecast"),
    computed(_OPINIONS, "disagreement", "Disagreement", "Disagree", "points",
             "larger(larger(chance_of_profit_market, chance_of_profit_past), chance_of_profit_forecast) - smaller(smaller(chance_of_profit_market, chance_of_profit_past), chance_of_profit_forecast)",
             "Between the highest and the lowest chance of profit of the three opinions."),
    computed(_OPINIONS, "least_edge", "Least edge", "Least edge", "$", "smaller(smaller(edge_market, edge_past), edge_forecast)", "The smallest edge of the three opinions.", scale="linear", decimals=0),
    _read(_LEGS, "short_delta", "Delta of the short leg", "Short Δ", "", "Largest size of delta among its short legs, 0 to 1.", "it has no short leg"),
    _read(_LEGS, "min_leg_open_interest", "Least open interest of a leg", "Min OI", "contracts", "Contracts open in the morning of the leg with the fewest.", decimals=0),
    _read(_LEGS, "min_leg_volume", "Least volume of a leg", "Min vol", "contracts", "Contracts traded today of the leg with the fewest.", decimals=0),
    _read(_LEGS, "quoted_width", "Width of its market", "Market", "$", "Both sides of every leg apart, added up; $ a unit.", scale="linear", decimals=0),
    computed(_LEGS, "quoted_width_pct", "Width of its market over its worth", "Market %", "%", "100 * quoted_width / abs(mid)", "The same in percent of what it is worth at mid.", decimals=0),
    _read(_FLAGS, "report_inside", "A report comes before", "Report", "", "The next report comes before its (first) expiration ends.", kind="condition"),
    _read(_FLAGS, "dividend_inside", "Ex-dividend with a short call in the money", "Dividend", "", "A declared dividend comes before its expiration and a short call is in the money: it may be exercised early.", kind="condition"),
    _read(_FLAGS, "pinned", "A short leg at the price in its last week", "Pinned", "", "It expires within a week and a short leg lies within half an expected day of the spot.", kind="condition"),
    _read(_FLAGS, "adjusted", "Has adjusted contracts", "Adjusted", "", "Contracts of this name that a corporate action changed are listed beside the standard ones.", kind="condition"),
    computed(_FLAGS, "wide_market", "Its market is wide", "Wide", "", f"quoted_width_pct > {WIDE_PCT}", "Both sides lie further apart than a quarter of what it is worth.", kind="condition"),
    computed(_FLAGS, "thin_leg", "A leg is thin", "Thin", "", f"min_leg_open_interest < {THIN_INTEREST}", f"A leg has fewer than {THIN_INTEREST} contracts open.", kind="condition"),
)  # fmt: skip

STRUCTURE_METRICS: dict[str, Metric] = {metric.key: metric for metric in _ENTRIES}
"""By key; `cost`, `delta` and the like are of the structure."""

"""Searches for structures that ship with Flinch: each says what it looks for, why, and what to beware of."""

from __future__ import annotations

from typing import Any

from flinch.screening.body import RuleBody, ScreenBody
from flinch.screening.search import SearchBody
from flinch.screening.starters import Starter

_COLUMNS = "dte cost max_loss return_on_capital edge_past edge_forecast chance_of_profit_past max_profit shortfall_past min_leg_open_interest"


def _search(
    key: str, name: str, tags: str, description: str, rules: list[str], *, universe: str = "stock", sort: str = "-edge_forecast",
    columns: str = _COLUMNS, **search: Any,
) -> Starter:  # fmt: skip
    body = ScreenBody(
        universe=universe,
        rules=[RuleBody(text=rule) for rule in rules],
        columns=columns.split(),
        sort=sort.split(),
        view="table",
        table="structures",
        search=SearchBody(**search),
    )
    return Starter(key=key, name=name, description=description, tags=tags.split(), body=body)


SEARCHES = [
    _search(
        "condors-on-dear-funds", "Condors on dear funds", "sell volatility",
        "Short condors and verticals on funds whose options price more movement than the fund has shown. A fund has no report of its own, "
        "so the gap has less of a reason. The edge under forecast volatility must cover what entry gives up; what one bad week takes is the "
        "shortfall.",
        ["iv_hv_ratio >= 1.05", "chance_of_profit_past >= 60", "credit >= max_loss / 5", "edge_forecast > 0", "min_leg_open_interest >= 10"],
        universe="fund", kinds=["iron_condor", "put_credit", "call_credit"], least_days=14, most_days=50, low=0.1, high=0.3, most_width=10,
    ),
    _search(
        "verticals-on-dear-names", "Verticals where options are dear", "sell volatility income",
        "Put and call credit verticals on companies whose implied volatility is far above the historical one and that report after the "
        "expiration. Three opinions of the chance of profit stand side by side: where the name's own past gives more than the market, the "
        "credit is rich. A third of the width is much; the greatest loss is the rest of it.",
        ["iv_hv_ratio >= 1.2", "chance_of_profit_past >= 65", "credit >= width / 4", "edge_forecast > 0", "min_leg_open_interest >= 25",
         "quoted_width_pct <= 25"],
        kinds=["put_credit", "call_credit"], least_days=20, most_days=50, report="before", low=0.12, high=0.35, most_width=10,
    ),
    _search(
        "debit-to-month-edge", "Debit to the month's edge", "direction target",
        "Call debit verticals whose short strike stands at the upper edge of the month's expected move: what pays when price gets there by the "
        "expiration and no further. Sorted by the return at the target. A target is no forecast: the chance of profit says how seldom it is "
        "reached.",
        ["target >= 1.01 * price", "return_at_target >= 100", "cost >= 20", "quoted_width_pct <= 25", "min_leg_open_interest >= 25"],
        sort="-return_at_target", columns="dte cost max_profit target return_at_target chance_of_profit_market chance_of_profit_past chance_of_profit_forecast breakeven_above_moves min_leg_open_interest",
        kinds=["call_debit"], target="month_anchor + month_half_width", measure="percent", low=0, high=2, least_days=5, most_days=35, most_width=15,
    ),
    _search(
        "calls-to-built-strike", "Calls to a built strike", "direction target",
        "Long calls for a way to the strike with the most open interest, when that lies above the price. What the call is worth if price "
        "stands there at the expiration, against what it costs. Much open interest at a strike is no promise: half of it is sold, and nobody "
        "knows which half wants what.",
        ["target >= 1.02 * price", "lowest_strike <= target", "return_at_target >= 100", "min_leg_open_interest >= 100", "quoted_width_pct <= 20"],
        sort="-return_at_target", columns="dte cost target return_at_target chance_of_profit_market chance_of_profit_past breakeven_above_moves delta theta min_leg_open_interest",
        kinds=["long_call"], target="peak_interest_strike", measure="moves", low=0, high=1.5, least_days=14, most_days=70,
        front=["chance_of_profit_past", "return_at_target"],
    ),
    _search(
        "calendars-over-dear-report", "Calendars over dear reports", "earnings",
        "Sells the expiration that holds the next report and buys a later one, in names whose priced move is well above their usual one. "
        "After the report the near option has lost what it was dear for, and the later one less. It loses when price runs far either way, "
        "report or not.",
        ["earnings_move_ratio >= 1.25", "cost >= 20", "chance_of_profit_forecast >= 45", "edge_forecast > 0", "quoted_width_pct <= 40"],
        columns="dte max_profit chance_of_profit_market chance_of_profit_forecast cost edge_forecast breakeven_below_moves breakeven_above_moves vega min_leg_open_interest",
        kinds=["call_calendar", "put_calendar"], report="after", least_days=1, most_days=40, middle=0.3, later_low=14, later_high=60,
    ),
    _search(
        "straddle-before-cheap-report", "Straddles before cheap reports", "earnings buy volatility",
        "Long straddles and strangles over the next report in names whose priced move is below what they usually make. Bought for the move, "
        "held over the report. Usual is a mean of few reports; a cheap straddle before a dull quarter is still money lost.",
        ["earnings_move_ratio <= 0.95", "edge_forecast > 0", "chance_of_profit_forecast >= 35", "quoted_width_pct <= 20"],
        columns="dte cost chance_of_profit_market chance_of_profit_past chance_of_profit_forecast theta edge_market edge_forecast breakeven_below_moves breakeven_above_moves",
        kinds=["long_straddle", "long_strangle"], report="after", least_days=1, most_days=40, low=0.2, high=0.4, middle=0.2,
        front=["chance_of_profit_forecast", "-cost"],
    ),
    _search(
        "puts-at-a-shelf", "Puts at a shelf", "income levels",
        "Cash-secured puts whose strike stands at the nearest shelf of off-exchange prints below the price: paid for being willing to buy where "
        "much was traded. A shelf holds no more often than a price drawn at random, so take the name only when you want it there.",
        ["target <= 0.99 * price", "return_per_year >= 6", "chance_of_profit_past >= 65", "min_leg_open_interest >= 25", "quoted_width_pct <= 20"],
        sort="-return_per_year", columns="dte cost target capital return_per_year chance_of_profit_market chance_of_profit_past edge_forecast breakeven_below_moves min_leg_open_interest",
        kinds=["cash_secured_put"], target="shelf_below", measure="percent", low=0, high=2, least_days=14, most_days=50,
    ),
    _search(
        "butterflies-to-own-line", "Butterflies at an own line", "direction target",
        "Butterflies and broken-wing butterflies with their middle at the nearest own line above the price: little money for much when price ends "
        "there. They pay in a narrow place only. Names without a line of yours above are left out.",
        ["return_at_target >= 100", "debit >= 10"],
        universe="all", sort="-return_at_target", columns="dte cost max_profit target return_at_target chance_of_profit_market chance_of_profit_past breakeven_above_moves min_leg_open_interest",
        kinds=["call_butterfly", "broken_wing_call", "call_debit"], target="line_above_price", measure="percent", low=0, high=2, middle=0.2,
        least_days=5, most_days=60, most_width=15,
    ),
    _search(
        "reversals-for-steep-skew", "Reversals on dear puts", "direction skew",
        "Sells a put and buys a call in names whose puts are dear beside their calls and that have risen with the market: the put pays for the call. "
        "Below the short strike it loses like the stock, so its capital is that of the put.",
        ["skew_25d >= 4", "rel_strength_21 >= 0", "abs(cost) <= capital / 50", "min_leg_open_interest >= 25"],
        sort="-edge_past", columns="dte cost capital chance_of_profit_market chance_of_profit_past edge_past edge_forecast delta breakeven_below_moves min_leg_open_interest",
        kinds=["risk_reversal"], least_days=20, most_days=60, low=0.15, high=0.35, front=["chance_of_profit_past", "delta"],
    ),
    _search(
        "covered-calls-for-the-month", "Covered calls past the month", "income",
        "Sells a call beyond the upper edge of the month's expected move against shares: income from what is priced to be out of reach. What it gives "
        "up is every dollar above the strike; what it keeps is all the risk of the shares.",
        ["short_call >= month_anchor + month_half_width", "return_per_year >= 6", "min_leg_open_interest >= 50", "quoted_width <= 60"],
        sort="-return_per_year", columns="dte cost max_profit return_per_year chance_of_profit_past short_call short_delta edge_forecast min_leg_open_interest",
        kinds=["covered_call"], least_days=14, most_days=45, low=0.1, high=0.4,
    ),
]  # fmt: skip
"""Ready searches."""

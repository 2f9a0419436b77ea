"""A million iron condors of sixty names: price, capital, breakevens, chances and values under three opinions, greeks.

The references are copying the columns of the legs that it reads, and the same structures by a library's option objects in Python
(payoff, worth and chance of profit under the market's opinion alone).
"""

from __future__ import annotations

import resource
import time

import numpy as np
import QuantLib as ql

from flinch.core.pricing import greeks, option_price
from flinch.core.structures import (
    STRUCTURES,
    Block,
    Chains,
    Expirations,
    Placement,
    Quotes,
    Terms,
    count_and_make,
    evaluate_block,
    forecast_outcomes,
    market_outcomes,
    past_outcomes,
)
from flinch.core.volatility import smile_vol
from measure import seconds, sized, table

NAMES, CONDORS, OBJECTS = sized(60, 3), sized(1_000_000, 2_000), sized(300, 20)
RATE = 0.03
DAYS = np.array([23, 37, 51])


def market() -> tuple[Quotes, Expirations, Terms]:
    """Chains of made-up names, three expirations each."""
    rng = np.random.default_rng(9)
    name = np.repeat(np.arange(NAMES), DAYS.size)
    years = np.tile(DAYS / 365, NAMES)
    spot = np.repeat(np.round(rng.uniform(40, 300, NAMES), 2), DAYS.size)
    level = np.repeat(rng.uniform(0.2, 0.6, NAMES), DAYS.size)
    w = level**2 * years
    svi = np.stack([0.6 * w, 0.4 * np.sqrt(w), np.full(w.size, -0.35), np.zeros(w.size), np.sqrt(w)], axis=1)
    forward = spot * np.exp(RATE * years)
    deviation = np.sqrt(svi[:, 0] + svi[:, 1] * (np.sqrt(svi[:, 4] ** 2)))
    columns: list[list[np.ndarray]] = []
    for e in range(name.size):
        strike = spot[e] * np.exp(np.linspace(-3.5, 3.5, 57) * deviation[e])
        for is_call in (False, True):
            vol = smile_vol(np.tile(svi[e], (57, 1)), np.full(57, years[e]), np.log(strike / forward[e]))
            price = option_price(spot[e], strike, years[e], vol, is_call=is_call, rate=RATE)
            slopes = greeks(spot[e], strike, years[e], vol, is_call=is_call, rate=RATE)
            columns.append(
                [
                    np.full(57, e), np.full(57, is_call), strike, 0.98 * price, 1.02 * price, slopes.delta, slopes.gamma,
                    slopes.theta, slopes.vega, np.full(57, 200.0), np.full(57, 20.0),
                ]
            )  # fmt: skip
    quotes = Quotes(*(np.concatenate(parts) for parts in zip(*columns, strict=True)))
    near = np.ones(name.size, dtype=bool)
    expirations = Expirations(name, np.tile(DAYS, NAMES), spot, spot * deviation, spot, near)
    terms = Terms(
        years, spot, forward, np.exp(-RATE * years), deviation, np.zeros(name.size), np.full(name.size, 100.0),
        np.full(name.size, np.nan), svi, RATE, np.zeros(name.size),
    )  # fmt: skip
    return quotes, expirations, terms


def by_objects(
    block: Block, quotes: Quotes, terms: Terms, rows: np.ndarray, edges: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Worth and chance of profit of some condors by option objects: each leg one, and at either of the breakevens (`edges`) a
    narrow vertical of two, for a library has no density of a smile. And their payoff at every strike."""
    today = ql.Date(9, 9, 2026)
    ql.Settings.instance().evaluationDate = today
    count = ql.Actual365Fixed()
    rate = ql.YieldTermStructureHandle(ql.FlatForward(today, RATE, count))
    worth, chance = np.empty(rows.size), np.empty(rows.size)

    def option(e: int, strike: float, is_call: bool) -> ql.VanillaOption:
        vol = float(smile_vol(terms.parameters[e], terms.years[e], np.log(strike / terms.forward[e])))
        spot = ql.QuoteHandle(ql.SimpleQuote(float(terms.spot[e])))
        surface = ql.BlackVolTermStructureHandle(ql.BlackConstantVol(today, ql.NullCalendar(), vol, count))
        payoff = ql.PlainVanillaPayoff(ql.Option.Call if is_call else ql.Option.Put, strike)
        made = ql.VanillaOption(payoff, ql.EuropeanExercise(today + round(float(terms.years[e]) * 365)))
        made.setPricingEngine(ql.AnalyticEuropeanEngine(ql.BlackScholesProcess(spot, rate, surface)))
        return made

    for place, row in enumerate(rows.tolist()):
        total = 0.0
        legs = block.legs[row].tolist()
        e = int(quotes.expiration[legs[0]])
        for role, leg in zip(block.kind.legs, legs, strict=True):
            made = option(e, float(quotes.strike[leg]), role.is_call)
            total += 100 * role.quantity * made.NPV()
            for other in legs:
                made.payoff()(float(quotes.strike[other]))
        worth[place] = total
        growth, below = np.exp(RATE * terms.years[e]), []
        for edge in edges[place].tolist():
            narrow = 1e-4 * edge
            slope = option(e, edge + narrow, False).NPV() - option(e, edge - narrow, False).NPV()
            below.append(growth * slope / (2 * narrow))
        chance[place] = below[1] - below[0]
    return worth, chance


def main() -> None:
    quotes, expirations, terms = market()
    placement = Placement("moves", 0.4, 2.4, least_width=0.01, most_width=1e9, balanced=False)
    kinds = [STRUCTURES["iron_condor"]]
    began = time.perf_counter()
    blocks, _ = count_and_make(Chains(quotes, expirations), kinds, placement, 60_000_000)
    made = time.perf_counter() - began
    every = blocks[0].legs
    rows = np.linspace(0, every.shape[0] - 1, CONDORS).astype(np.int64)
    block = blocks[0]._replace(legs=np.ascontiguousarray(every[rows]))
    del every, blocks
    rng = np.random.default_rng(4)
    closes = 100 * np.exp(np.cumsum(0.02 * rng.standard_t(5, 504)))
    opinions = (
        market_outcomes(terms.parameters, terms.years, terms.forward),
        past_outcomes(closes, np.tile([16, 26, 36], NAMES), terms.forward),
        forecast_outcomes(0.9 * terms.deviation, np.full(terms.years.size, 6.0), terms.forward),
    )
    told = evaluate_block(block, quotes, terms, opinions)
    took = seconds(lambda: evaluate_block(block, quotes, terms, opinions), 3)
    read = [column.astype(np.float64) for column in quotes]
    legs = [[column[block.legs[:, leg]] for column in read] for leg in range(4)]
    copied = seconds(lambda: [[column.copy() for column in columns] for columns in legs], 3)
    two = np.flatnonzero(np.isfinite(told["breakeven_below"]) & np.isfinite(told["breakeven_above"]))
    some = two[np.linspace(0, two.size - 1, OBJECTS).astype(np.int64)]
    edges = np.stack([told["breakeven_below"][some], told["breakeven_above"][some]], axis=1).astype(np.float64)
    objects = seconds(lambda: by_objects(block, quotes, terms, some, edges), 2) / OBJECTS
    worth, chance = by_objects(block, quotes, terms, some, edges)
    apart = np.abs(worth - told["expected_market"][some])
    astray = np.abs(chance - told["chance_of_profit_market"][some])
    spot = terms.spot[quotes.expiration[block.legs[some, 0]]]
    each = took / CONDORS
    table(
        f"Structures: {CONDORS:,} iron condors of {NAMES} names under three opinions",
        [
            ("copying the columns of their legs", f"{copied * 1e3:,.0f} ms", "1", ""),
            ("all that a search tells of them", f"{took * 1e3:,.0f} ms", f"{took / copied:,.1f} ×", "≤ 25 ×"),
            ("one of them", f"{each * 1e6:,.2f} µs", "1", ""),
            (
                "one by a library's objects, worth and chance of the market alone",
                f"{objects * 1e6:,.0f} µs",
                f"{objects / each:,.0f} ×",
                "≥ 300 ×",
            ),
            ("worth of a share furthest apart, of the spot", f"{(apart / spot).max() / 100:.1e}", "", "≤ 1e-4"),
            ("chance of profit furthest apart", f"{np.nanmax(astray):.1e}", "", "≤ 1e-4"),
            ("making every combination", f"{made * 1e3:,.0f} ms", "", ""),
            ("peak memory", f"{resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:,.0f} MB", "", ""),
        ],
    )


if __name__ == "__main__":
    main()

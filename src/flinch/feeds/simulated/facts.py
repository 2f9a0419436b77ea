"""What is known about the companies and when it became known: figures as first reported, estimates, dividends, short interest."""

from __future__ import annotations

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.feeds.simulated.calendar import DateArray
from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.names import Listing
from flinch.feeds.simulated.storylines import Storyline

Floats = NDArray[np.float64]
DAY = np.timedelta64(1, "D")
_MONTH = 21
_QUARTERS_BEFORE = 5
"""Reports known before the first session, so that a year's growth is known from the start."""


def _table(columns: list[str], rows: list[tuple[object, ...]]) -> pl.DataFrame:
    plain = [[value.astype(object) if isinstance(value, np.datetime64) else value for value in row] for row in rows]
    return pl.DataFrame(plain, schema=columns, orient="row")


def make_fundamentals(
    names: list[Listing],
    close: Floats,
    calendar: DateArray,
    sessions: int,
    earnings: EarningsCalendar,
    planted: dict[str, Storyline],
    rng: np.random.Generator,
) -> pl.DataFrame:
    """Every report of every company from two sources, as first reported, with the session on which it became known.

    Rows: name (row of the market), source (1 or 2), period_end, known_on, and per share eps_ttm, sales_ttm, book, fcf_ttm, and
    debt_to_equity. Free cash flow is reported once a year only, so it ages up to five quarters.
    """
    rows: list[tuple[object, ...]] = []
    for i, name in enumerate(names):
        if name.kind != "stock":
            continue
        story = planted.get(name.symbol)
        price = float(np.median(close[i, :60]))
        multiple = float(np.exp(rng.normal(2.85, 0.5)))
        earns = rng.random() > 0.14
        growth, noise = rng.normal(0.06, 0.12), rng.uniform(0.03, 0.12)
        margin = float(np.clip(rng.normal(0.09, 0.05), 0.015, 0.3))
        book = price / float(np.exp(rng.normal(0.75, 0.55)))
        debt, cash_rate = float(np.exp(rng.normal(-0.6, 0.8))), float(np.clip(rng.normal(0.9, 0.3), 0.1, 1.8))
        disagree = float(np.exp(rng.normal(0.0, 0.18))) if rng.random() < 0.04 else 1.0
        eps = price / multiple if earns else -price * float(rng.uniform(0.01, 0.08))
        if story and story.price_to_book is not None:
            book, growth = float(np.median(close[i])) / story.price_to_book, 0.0
        if story and story.price_to_earnings is not None:
            eps, growth = price / story.price_to_earnings, 0.05
        if story and story.second_source != 1.0:
            disagree = story.second_source
        elif story and story.price_to_book is not None:
            disagree = 1.0
        sales = abs(eps) / margin
        mine = np.flatnonzero((earnings.company == i) & (earnings.announced < sessions))
        known = np.where(earnings.before_open[mine], earnings.announced[mine], earnings.announced[mine] + 1)
        first = int(known[0]) if known.size else 40
        places = np.concatenate([first - 63 * np.arange(_QUARTERS_BEFORE, 0, -1), known])
        fcf = eps * cash_rate
        worth = price
        for quarter, place in enumerate(places):
            # Earnings and price have to do with each other.
            before, worth = worth, float(close[i, np.clip(place, 0, close.shape[1] - 1)])
            pace = growth / 4 + 0.6 * float(np.log(worth / before)) * (place > 0)
            eps *= 1 + pace + noise * float(rng.normal()) * 0.5
            sales *= 1 + pace + 0.015 * float(rng.normal())
            book *= 1 + (0.0 if story and story.price_to_book is not None else 0.012 + 0.01 * float(rng.normal()))
            debt *= float(np.exp(0.05 * rng.normal()))
            if quarter % 4 == 1:
                fcf = eps * cash_rate * float(np.exp(0.15 * rng.normal()))
            if place >= sessions or (story and story.stale_since is not None and place >= sessions + story.stale_since):
                continue
            day = calendar[place] if place >= 0 else calendar[0] + DAY * int(place * 1.45)
            period_end = (day - 10 * DAY).astype("datetime64[M]").astype("datetime64[D]") - DAY
            figures = (eps, sales, book, fcf, debt)
            for source in (1, 2):
                tilt = np.ones(5) if source == 1 else 1 + 0.002 * rng.normal(size=5)
                if source == 2:
                    tilt[2] *= disagree
                values = [round(float(value * t), 4) for value, t in zip(figures, tilt, strict=True)]
                rows.append((i, source, period_end, day, *values))
    reported = ["eps_ttm", "sales_ttm", "book", "fcf_ttm", "debt_to_equity"]
    columns = ["name", "source", "period_end", "known_on", *reported]
    return _table(columns, rows)


def make_estimates(
    names: list[Listing],
    close: Floats,
    fundamentals: pl.DataFrame,
    calendar: DateArray,
    planted: dict[str, Storyline],
    rng: np.random.Generator,
) -> pl.DataFrame:
    """Monthly consensus: name, known_on, eps_next_year and fair_value, a price target."""
    rows: list[tuple[object, ...]] = []
    reported = {
        key[0]: part
        for key, part in fundamentals.filter(pl.col("source") == 1).partition_by("name", as_dict=True).items()
    }
    for i, name in enumerate(names):
        if name.kind != "stock":
            continue
        story = planted.get(name.symbol)
        part = reported[i]
        days, eps = part["known_on"].to_numpy().astype("datetime64[D]"), part["eps_ttm"].to_numpy()
        hope, target = rng.normal(0.08, 0.1), float(close[i, 0]) * float(np.exp(rng.normal(0.08, 0.2)))
        for place in range(int(rng.integers(0, _MONTH)) - _MONTH, close.shape[1], _MONTH):
            at = max(place, 0)
            known = max(int(np.searchsorted(days, calendar[at], side="right")) - 1, 0)
            hope = 0.9 * hope + 0.1 * 0.08 + 0.02 * float(rng.normal())
            target = 0.7 * target + 0.3 * float(close[i, at]) * float(np.exp(rng.normal(0.08, 0.12)))
            if story and story.fair_value_over_price is not None:
                target = float(close[i, at]) * story.fair_value_over_price
            expected = float(eps[known]) + abs(float(eps[known])) * hope
            rows.append((i, calendar[at], round(expected, 4), round(target, 2)))
    columns = ["name", "known_on", "eps_next_year", "fair_value"]
    return _table(columns, rows).unique(["name", "known_on"], keep="last", maintain_order=True)


def make_dividends(
    names: list[Listing], close: Floats, carry: Floats, calendar: DateArray, sessions: int, rng: np.random.Generator
) -> pl.DataFrame:
    """Quarterly cash dividends of the names that pay: name, declared_on, ex_date, amount. The next one is declared already."""
    rows: list[tuple[object, ...]] = []
    for i in range(len(names)):
        start, lift = int(rng.integers(0, 63)), rng.uniform(0.0, 0.08)
        if carry[i] == 0 or names[i].kind == "index":
            continue
        for quarter, place in enumerate(range(start - 252, sessions + 60, 63)):
            price = float(close[i, min(max(place, 0), close.shape[1] - 1)])
            declared = place - 25
            if declared >= sessions:
                continue
            amount = round(
                0.5 * price * carry[i] / 4 + 0.5 * close[i, 0] * carry[i] / 4 * (1 + lift) ** (quarter / 4), 3
            )
            day = calendar[place] if place >= 0 else calendar[0] + DAY * int(place * 1.45)
            known = calendar[declared] if declared >= 0 else day - 35 * DAY
            rows.append((i, known, day, amount))
    columns = ["name", "declared_on", "ex_date", "amount"]
    return _table(columns, rows)


def make_short_interest(
    names: list[Listing],
    close: Floats,
    shares: Floats,
    calendar: DateArray,
    planted: dict[str, Storyline],
    rng: np.random.Generator,
) -> pl.DataFrame:
    """Shares sold short at the middle and end of each month, known eight sessions later: name, settled_on, known_on, shares.

    Those who are short of a rising stock buy some of it back.
    """
    rows: list[tuple[object, ...]] = []
    sessions = close.shape[1]
    places = np.arange(sessions - 9, -1, -10)[::-1]
    for i, name in enumerate(names):
        usual = float(np.exp(rng.normal(np.log(0.016 if name.size == "large" else 0.03), 0.55)))
        level = np.log(usual)
        shocks = rng.normal(size=places.size)
        if name.kind != "stock":
            continue
        story = planted.get(name.symbol)
        for n, place in enumerate(places):
            before = close[i, max(place - 10, 0)]
            level += 0.12 * (np.log(usual) - level) + 0.09 * shocks[n] - 0.6 * float(np.log(close[i, place] / before))
            share = float(np.exp(min(level, np.log(0.45))))
            if story and story.short_interest:
                days, shares_of_all = zip(*story.short_interest, strict=True)
                share = float(np.interp(place - sessions, days, shares_of_all))
            rows.append((i, calendar[place], calendar[place + 8], round(share * float(shares[i]))))
    columns = ["name", "settled_on", "known_on", "shares"]
    return _table(columns, rows)

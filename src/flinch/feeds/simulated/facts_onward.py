"""What becomes known about the companies in a session ahead: what was reported, what is expected, declared and sold short."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.feeds.simulated.calendar import all_sessions
from flinch.feeds.simulated.names import Listing
from flinch.feeds.simulated.storylines import Storyline

Floats = NDArray[np.float64]
DAY = np.timedelta64(1, "D")
FIGURES = ("eps_ttm", "sales_ttm", "book", "fcf_ttm", "debt_to_equity")
QUARTER, MONTH = 63, 21
DECLARED_BEFORE = 25
"""Sessions between a dividend's declaration and its ex-date."""
SETTLED_EVERY, KNOWN_AFTER = 10, 8
"""Sessions from one settlement of short interest to the next, and from one until it is known."""
_MOST_SHORT, _LEAST_SHORT = 0.45, 0.0005
_AS_BEFORE = 0.01


class Facts(NamedTuple):
    """Rows as the store has them, by name_id: reports of both sources, estimates, dividends, short interest."""

    fundamentals: pl.DataFrame
    estimates: pl.DataFrame
    dividends: pl.DataFrame
    short_interest: pl.DataFrame


class Company(NamedTuple):
    """What the facts of a name follow from beside those before: row 0 is name_id 1."""

    names: list[Listing]
    planted: dict[str, Storyline]
    shares: Floats
    carry: Floats


def facts_of_session(
    session: np.datetime64,
    company: Company,
    reported: NDArray[np.int64],
    closes: Floats,
    known: Facts,
    rng: np.random.Generator,
) -> Facts:
    """What becomes known on the morning of a session.

    `reported`: rows of the companies whose report is reacted to in it. `closes`: names x the sessions before it, the newest last,
    a quarter of them or more. Of `known` what was not known before the session is left aside, so that who asks twice is told the
    same. Rows come in the order of names.
    """
    day = pl.lit(session.astype(object))
    before = Facts(
        known.fundamentals.filter(pl.col("known_on") < day),
        known.estimates.filter(pl.col("known_on") < day),
        known.dividends.filter(pl.col("declared_on") < day),
        known.short_interest.filter(pl.col("known_on") < day),
    )
    told = _fundamentals(session, company, reported, closes, before.fundamentals, rng)
    there = before.fundamentals.select(told.columns)
    figures = pl.concat([there, told.cast(there.schema)])
    return Facts(
        told,
        _estimates(session, company, closes, before.estimates, figures, rng),
        _dividends(session, company, closes, before.dividends, rng),
        _short_interest(session, company, closes, before.short_interest, rng),
    )


def _last(rows: pl.DataFrame, by: str) -> pl.DataFrame:
    """The newest row of each name, in the order of names."""
    return rows.sort("name_id", by).group_by("name_id", maintain_order=True).last()


def _days(rows: pl.DataFrame, column: str) -> NDArray[np.datetime64]:
    return rows[column].to_numpy().astype("datetime64[D]")


def _places(days: NDArray[np.datetime64]) -> NDArray[np.int64]:
    """Sessions of the exchange before each day."""
    found: NDArray[np.int64] = np.searchsorted(all_sessions(), days).astype(np.int64)
    return found


def _rows(rows: pl.DataFrame) -> NDArray[np.int64]:
    return rows["name_id"].to_numpy().astype(np.int64) - 1


def _told(day: np.datetime64, count: int) -> pl.Series:
    """A date so many times."""
    return pl.Series([day.astype(object)] * count, dtype=pl.Date)


def _fundamentals(
    session: np.datetime64,
    company: Company,
    reported: NDArray[np.int64],
    closes: Floats,
    before: pl.DataFrame,
    rng: np.random.Generator,
) -> pl.DataFrame:
    """Earnings follow price, as they did; free cash flow is reported once a year. Who has gone silent stays so."""
    stories = [company.planted.get(name.symbol) for name in company.names]
    silent = {row for row, story in enumerate(stories) if story is not None and story.stale_since is not None}
    drawn = rng.normal(size=(len(company.names), 5))
    tilt = 1 + 0.002 * rng.normal(size=(len(company.names), 5))
    mine = pl.Series("name_id", sorted(set(reported.tolist()) - silent), dtype=before["name_id"].dtype) + 1
    first = before.filter((pl.col("source") == 1) & pl.col("name_id").is_in(mine.implode()))
    last = _last(first, "period_end")
    year = first.sort("name_id", "period_end").group_by("name_id", maintain_order=True).tail(4)
    same = year.group_by("name_id", maintain_order=True).agg(
        pl.col("fcf_ttm").n_unique() == 1, pl.len().alias("reports")
    )
    due = same["fcf_ttm"].to_numpy() & (same["reports"].to_numpy() == 4)
    row = _rows(last)
    noise = drawn[row]
    quarter = closes[:, max(0, closes.shape[1] - QUARTER)]
    with np.errstate(invalid="ignore"):
        pace = np.nan_to_num(0.015 + 0.6 * np.log(closes[row, -1] / quarter[row]))
    figures = np.stack([last[figure].to_numpy().astype(np.float64) for figure in FIGURES])
    eps, sales, book, cash, debt = figures
    steady = np.array(
        [(story := stories[place]) is not None and story.price_to_book is not None for place in row], dtype=bool
    )
    new = np.stack(
        [
            eps * (1 + pace + 0.03 * noise[:, 0]),
            sales * (1 + pace + 0.015 * noise[:, 1]),
            book * np.where(steady, 1.0, 1.012 + 0.01 * noise[:, 2]),
            np.where(due, cash * (1 + pace) * np.exp(0.15 * noise[:, 3]), cash),
            debt * np.exp(0.05 * noise[:, 4]),
        ]
    )
    # What a second source says otherwise it goes on saying.
    others = last.select("name_id").join(
        _last(before.filter(pl.col("source") == 2), "period_end"), on="name_id", how="left", maintain_order="left"
    )
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = np.stack([others[figure].to_numpy().astype(np.float64) for figure in FIGURES]) / figures
    ratio = np.where(np.abs(ratio - 1) > _AS_BEFORE, ratio, tilt[row].T)
    period = (session - 10 * DAY).astype("datetime64[M]").astype("datetime64[D]") - DAY
    keys = {"name_id": last["name_id"], "period_end": _told(period, row.size), "known_on": _told(session, row.size)}
    sources = [
        pl.DataFrame(keys | {"source": [source] * row.size} | dict(zip(FIGURES, np.round(values, 4), strict=True)))
        for source, values in ((1, new), (2, new * ratio))
    ]
    columns = ["name_id", "source", "period_end", "known_on", *FIGURES]
    return pl.concat([rows.select(columns) for rows in sources]).sort("name_id", "source")


def _estimates(
    session: np.datetime64,
    company: Company,
    closes: Floats,
    before: pl.DataFrame,
    fundamentals: pl.DataFrame,
    rng: np.random.Generator,
) -> pl.DataFrame:
    """Every month a new one of each company: what was hoped for fades and is hoped for anew, the target goes after price."""
    drawn = rng.normal(size=(2, len(company.names)))
    last = _last(before, "known_on")
    last = last.filter(pl.Series(_places(_days(last, "known_on")) + MONTH <= _places(np.array([session]))[0]))
    earned = _last(fundamentals.filter(pl.col("source") == 1), "period_end").select("name_id", "eps_ttm")
    last = last.join(earned, on="name_id", how="inner", maintain_order="left")
    row, eps = _rows(last), last["eps_ttm"].to_numpy()
    with np.errstate(divide="ignore", invalid="ignore"):
        hope = np.nan_to_num((last["eps_next_year"].to_numpy() - eps) / np.abs(eps))
    hope = 0.9 * np.clip(hope, -0.5, 0.5) + 0.1 * 0.08 + 0.02 * drawn[0][row]
    target = 0.7 * last["fair_value"].to_numpy() + 0.3 * closes[row, -1] * np.exp(0.08 + 0.12 * drawn[1][row])
    for place, name in enumerate(row):
        story = company.planted.get(company.names[name].symbol)
        if story is not None and story.fair_value_over_price is not None:
            target[place] = closes[name, -1] * story.fair_value_over_price
    return pl.DataFrame(
        {
            "name_id": last["name_id"],
            "known_on": _told(session, row.size),
            "eps_next_year": np.round(eps + np.abs(eps) * hope, 4),
            "fair_value": np.round(target, 2),
        }
    )


def _dividends(
    session: np.datetime64, company: Company, closes: Floats, before: pl.DataFrame, rng: np.random.Generator
) -> pl.DataFrame:
    """The next one of who pays, a quarter after the last, is declared in good time."""
    lift = 0.01 * np.abs(rng.normal(size=len(company.names)))
    last = _last(before, "ex_date")
    following = _places(_days(last, "ex_date")) + QUARTER
    due = following - DECLARED_BEFORE <= _places(np.array([session]))[0]
    last, following = last.filter(pl.Series(due)), following[due]
    row, amount = _rows(last), last["amount"].to_numpy()
    price = np.where(np.isnan(closes[row, -1]), 4 * amount / company.carry[row], closes[row, -1])
    amount = 0.8 * amount * (1 + lift[row]) + 0.2 * price * company.carry[row] / 4
    return pl.DataFrame(
        {
            "name_id": last["name_id"],
            "ex_date": all_sessions()[following],
            "declared_on": _told(session, row.size),
            "amount": np.maximum(np.round(amount, 3), 0.001),
        }
    )


def _short_interest(
    session: np.datetime64, company: Company, closes: Floats, before: pl.DataFrame, rng: np.random.Generator
) -> pl.DataFrame:
    """Those who are short of a rising stock buy some of it back; what is usual for a name is what it was on the whole."""
    drawn = rng.normal(size=len(company.names))
    last = _last(before, "settled_on")
    settled = _places(_days(last, "settled_on")) + SETTLED_EVERY
    due = settled + KNOWN_AFTER <= _places(np.array([session]))[0]
    last, settled = last.filter(pl.Series(due)), settled[due]
    row = _rows(last)
    usual = before.group_by("name_id", maintain_order=True).agg(pl.col("shares").clip(1.0).log().mean().alias("usual"))
    usual = last.select("name_id").join(usual, on="name_id", how="left", maintain_order="left")
    level = np.log(np.maximum(last["shares"].to_numpy(), 1.0))
    then = closes[row, -1 - KNOWN_AFTER] / closes[row, -1 - KNOWN_AFTER - SETTLED_EVERY]
    level += 0.12 * (usual["usual"].to_numpy() - level) + 0.09 * drawn[row] - 0.6 * np.nan_to_num(np.log(then))
    share = np.clip(np.exp(level) / company.shares[row], _LEAST_SHORT, _MOST_SHORT)
    return pl.DataFrame(
        {
            "name_id": last["name_id"],
            "settled_on": all_sessions()[settled],
            "known_on": _told(session, row.size),
            "shares": np.round(share * company.shares[row]),
        }
    )

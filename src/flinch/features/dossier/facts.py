"""Dossier, facts: what a name is, what it reported and when that became known, and what is expected, paid, shorted and priced."""

from __future__ import annotations

import datetime as dt

import numpy as np
import polars as pl
from pydantic import BaseModel, Field

from flinch.core.rules import percent
from flinch.features.dossier.news import NewsRow
from flinch.features.dossier.volatility import PastReport, past_reports
from flinch.market import PLAIN, View
from flinch.market.headlines import headlines, market_headlines
from flinch.store.market.chain import read_dividends
from flinch.store.market.name_facts import FIGURES, read_name_facts

STALE_DAYS = 140
"""Days after the end of a period from which a newer report is overdue."""
APART_PCT = 3.0
"""Two sources differ when they are further apart than this."""
QUARTERS_SHOWN, ROWS_SHOWN, NEWS_SHOWN = 12, 60, 40
_RATIOS = (
    "market_cap", "price_to_earnings", "forward_pe", "price_to_book", "price_to_book_percentile", "price_to_sales", "fcf_yield",
    "return_on_equity", "net_margin", "debt_to_equity", "eps_growth", "sales_growth", "dividend_yield", "payout_ratio",
    "short_percent_float", "days_to_cover", "upside_to_target",
)  # fmt: skip


class Ratio(BaseModel):
    """A metric of the catalogue as of the session."""

    key: str
    value: float | None
    reason: str | None = Field(description="Why there is none")


class SourceFigures(BaseModel):
    """A report's figures as one source first had them."""

    known_on: dt.date
    eps_ttm: float | None
    sales_ttm: float | None
    book: float | None
    fcf_ttm: float | None
    debt_to_equity: float | None


class QuarterFacts(BaseModel):
    """A reported period by both sources; figures that are further apart than a few percent are named."""

    period_end: dt.date
    age_days: int = Field(description="From its end to the session")
    first: SourceFigures | None
    second: SourceFigures | None
    apart: dict[str, float] = Field(
        description="Percent by which the first source is above the second, where they differ"
    )


class BookOpinion(BaseModel):
    """Price against one source's book value per share."""

    source: int
    price_to_book: float | None
    below: bool | None
    sessions: int | None = Field(
        description="Sessions in a row on this side of book; missing when it never was otherwise"
    )
    period_end: dt.date | None = Field(description="Of the figure in use")
    known_on: dt.date | None
    stale: bool


class EstimateRow(BaseModel):
    known_on: dt.date
    eps_next_year: float | None
    fair_value: float | None


class DividendRow(BaseModel):
    ex_date: dt.date
    declared_on: dt.date
    amount: float
    ahead: bool


class ShortRow(BaseModel):
    settled_on: dt.date
    known_on: dt.date
    shares: float
    float_pct: float | None = Field(description="Of the shares that trade")
    change_pct: float | None = Field(description="Against the settlement before")


class Membership(BaseModel):
    """A fund that holds the name, or a name that the fund holds."""

    symbol: str
    company: str
    weight_pct: float


class FactsView(BaseModel):
    """What is known of a name."""

    symbol: str
    company: str
    kind: str
    sector: str
    listed_on: dt.date | None
    session: dt.date
    shares_outstanding: float | None
    float_shares: float | None
    ratios: list[Ratio]
    book: list[BookOpinion]
    book_says: str | None
    quarters: list[QuarterFacts]
    stale: bool = Field(description="Whether a newer report is overdue")
    estimates: list[EstimateRow]
    dividends: list[DividendRow]
    short_interest: list[ShortRow]
    reports: list[PastReport]
    news: list[NewsRow] = Field(description="Headlines told by then, the newest first")
    funds: list[Membership]
    members: list[Membership] = Field(description="Of a fund, the heaviest first")


def facts(view: View, symbol: str) -> FactsView:
    """Everything known of a name by the view's session; raises UnknownName."""
    row = view.row(symbol)
    name, rows = view.name(row), read_name_facts(view.store, view.id(row), view.today)
    quarters = _quarters(rows.fundamentals, view.today)
    opinions = _book(view, row, rows.fundamentals) if quarters else []
    floating = float(view.frame.float_shares[row])
    members = view.frame.members
    return FactsView(
        symbol=name.symbol,
        company=name.company,
        kind=name.kind,
        sector=name.sector,
        listed_on=name.listed_on,
        session=view.today,
        shares_outstanding=float(view.frame.shares_outstanding[row]),
        float_shares=floating,
        ratios=[Ratio(key=key, value=float(view.metric(key)[row]), reason=view.reason(key, row)) for key in _RATIOS],
        book=opinions,
        book_says=_book_says(opinions, quarters[0].apart.get("book") if quarters else None),
        quarters=quarters[:QUARTERS_SHOWN],
        stale=bool(quarters) and quarters[0].age_days > STALE_DAYS,
        estimates=[EstimateRow(**told) for told in rows.estimates.head(ROWS_SHOWN).iter_rows(named=True)],
        dividends=_dividends(view, row),
        short_interest=_short(rows.short_interest, floating),
        reports=past_reports(view, row),
        news=_news(view, row),
        funds=sorted(
            (
                _member(view, fund, weight)
                for fund, listed in members.items()
                for member, weight in listed
                if member == row
            ),
            key=lambda fund: -fund.weight_pct,
        ),
        members=sorted(
            (_member(view, one, weight) for one, weight in members.get(row, [])), key=lambda m: -m.weight_pct
        ),
    )


def _news(view: View, row: int) -> list[NewsRow]:
    """Of a fund or an index also what is about no name: it is about all of them."""
    told = headlines(view, row, NEWS_SHOWN)
    if view.name(row).kind != "stock":
        told += market_headlines(view, NEWS_SHOWN)
    told.sort(key=lambda one: one.at, reverse=True)
    return [NewsRow(**one._asdict()) for one in told[:NEWS_SHOWN]]


def _member(view: View, row: int, weight: float) -> Membership:
    name = view.name(row)
    return Membership(symbol=name.symbol, company=name.company, weight_pct=percent(weight))


def _quarters(reported: pl.DataFrame, today: dt.date) -> list[QuarterFacts]:
    """By period, newest first."""
    told: dict[dt.date, dict[int, SourceFigures]] = {}
    for figures in reported.iter_rows(named=True):
        told.setdefault(figures["period_end"], {})[figures["source"]] = SourceFigures(
            known_on=figures["known_on"], **{key: figures[key] for key in FIGURES}
        )
    return [
        QuarterFacts(
            period_end=period,
            age_days=(today - period).days,
            first=sources.get(1),
            second=sources.get(2),
            apart=_apart(sources.get(1), sources.get(2)),
        )
        for period, sources in told.items()
    ]


def _apart(first: SourceFigures | None, second: SourceFigures | None) -> dict[str, float]:
    out = {}
    for key in FIGURES:
        one, two = getattr(first, key, None), getattr(second, key, None)
        if one is not None and two:
            gap = percent((one - two) / abs(two))
            if abs(gap) > APART_PCT:
                out[key] = gap
    return out


def _book(view: View, row: int, reported: pl.DataFrame) -> list[BookOpinion]:
    out = []
    for source, key in ((1, "price_to_book"), (2, "price_to_book_second")):
        mine = reported.filter(pl.col("source") == source).sort("known_on", descending=True)
        ratio = float(view.metric(key)[row])
        below = ratio < 1 if np.isfinite(ratio) else None
        other = ">= 1" if below else "< 1"
        since = (
            view.history(PLAIN.read(f"sessions_since({key} {other})").node, row)[-1] if below is not None else np.nan
        )
        used = mine.row(0, named=True) if mine.height else None
        out.append(
            BookOpinion(
                source=source,
                price_to_book=ratio,
                below=below,
                sessions=int(since) if np.isfinite(since) else None,
                period_end=used["period_end"] if used else None,
                known_on=used["known_on"] if used else None,
                stale=used is not None and (view.today - used["period_end"]).days > STALE_DAYS,
            )
        )
    return out


def _book_says(opinions: list[BookOpinion], gap: float | None) -> str | None:
    """Whether the price is below book, and how far that can be trusted, in a sentence; `gap` is how far apart the sources are."""
    known = [one for one in opinions if one.below is not None]
    if not known:
        return None
    below = [one for one in known if one.below]
    doubt = f"; the sources are {abs(gap):.0f} % apart" if gap is not None else ""
    if not below:
        said = "Above book by both sources" if len(known) == 2 else "Above book by the only source there is"
        return said + doubt + ("; the figure is old: a newer report is overdue." if known[0].stale else ".")
    first = below[0]
    how_long = "in every session held" if first.sessions is None else f"for {first.sessions} sessions"
    said = f"Below book {how_long}"
    if len(below) == 2:
        said += ", by both sources"
    elif len(known) == 2:
        said += f", by source {first.source} alone: the other has {next(one for one in known if not one.below).price_to_book:.2f}"
    else:
        said += f", by source {first.source}, the only one there is"
    if first.stale:
        said += "; its figure is old: a newer report is overdue"
    elif first.sessions is not None and first.sessions <= 5:
        said += "; that is new"
    return said + doubt + "."


def _dividends(view: View, row: int) -> list[DividendRow]:
    known = read_dividends(view.store, view.id(row)).filter(pl.col("declared_on") <= view.today)
    return [
        DividendRow(ex_date=day, declared_on=declared, amount=amount, ahead=day > view.today)
        for day, declared, amount in known.select("ex_date", "declared_on", "amount")
        .reverse()
        .head(ROWS_SHOWN)
        .iter_rows()
    ]


def _short(rows: pl.DataFrame, floating: float) -> list[ShortRow]:
    shares = rows["shares"].to_list()
    before = [*shares, None][1:]
    return [
        ShortRow(
            settled_on=told["settled_on"],
            known_on=told["known_on"],
            shares=told["shares"],
            float_pct=percent(told["shares"] / floating) if floating > 0 else None,
            change_pct=percent(told["shares"] / earlier - 1) if earlier else None,
        )
        for told, earlier in zip(rows.iter_rows(named=True), before, strict=True)
    ][:ROWS_SHOWN]

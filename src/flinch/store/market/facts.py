"""Facts as arrays: for each session what had been reported, declared or published by then."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine, Select, select

from flinch.store.market.known import Events
from flinch.store.market.models import Dividend, EarningsReport, Estimate, Fundamental, ShortInterest
from flinch.store.market.splits import read_splits
from flinch.store.reading import Dates, Floats, dates, numbers, read_table

_YEAR = np.timedelta64(365, "D")
_LAST_REPORTS = 8
PER_SHARE = ("eps_ttm", "sales_ttm", "book", "fcf_ttm")
"""Figures of a report that are a share."""
EXPECTED = ("eps_next_year", "fair_value")


class Report(NamedTuple):
    """One earnings report."""

    session: dt.date
    timing: str
    known_on: dt.date


def read_facts(
    engine: Engine, ids: NDArray[np.int64], sessions: Dates, kind: NDArray[np.str_]
) -> Iterator[dict[str, Floats]]:
    """Fundamentals of both sources, estimates, dividends and short interest in each session, names x sessions, a few at a time.

    A figure is there from the session on which it became known, and stays until a newer one does.
    """

    splits = read_splits(engine)

    def read(
        statement: Select[*tuple[Any, ...]], counted: str, prices: Sequence[str] = (), counts: Sequence[str] = ()
    ) -> tuple[Events, pl.DataFrame]:
        rows = splits.adjust(read_table(engine, statement), counted, prices, counts)
        return Events(np.searchsorted(ids, rows["name_id"].to_numpy()), dates(rows[counted]), ids.size), rows

    f = Fundamental
    figures = ["eps_ttm", "sales_ttm", "book", "fcf_ttm", "debt_to_equity"]
    for source, suffix in ((1, ""), (2, "_second")):
        columns = [f.name_id, f.known_on, f.period_end, *[getattr(f, name) for name in figures]]
        events, rows = read(
            select(*columns).where(f.source == source).order_by(f.name_id, f.period_end), "known_on", PER_SHARE
        )
        last = events.last(sessions)
        for name in figures:
            if not suffix or name in ("eps_ttm", "book"):
                yield {name + suffix: events.taken(numbers(rows[name]), last)}
        if not suffix:
            yield {"fundamentals_age": _age(sessions, events, dates(rows["period_end"]), last)}

    e = Estimate
    events, rows = read(select(e.name_id, e.known_on, e.eps_next_year, e.fair_value), "known_on", EXPECTED)
    for name in ("eps_next_year", "fair_value"):
        yield {name: events.taken(numbers(rows[name]), events.last(sessions))}
    yield {"estimates_age": _age(sessions, events, dates(rows["known_on"]), events.last(sessions))}

    yield _dividends(engine, ids, sessions, kind)

    s = ShortInterest
    events, rows = read(
        select(s.name_id, s.known_on, s.settled_on, s.shares).order_by(s.name_id, s.settled_on),
        "known_on",
        (),
        ("shares",),
    )
    last = events.last(sessions)
    before = np.where(last - 1 >= events.start[:-1, None], last - 1, -1)
    yield {"short_shares": events.taken(numbers(rows["shares"]), last)}
    yield {"short_shares_before": events.taken(numbers(rows["shares"]), before)}
    yield {"short_interest_age": _age(sessions, events, dates(rows["settled_on"]), last)}


def _age(sessions: Dates, events: Events, days: Dates, place: NDArray[np.int64]) -> Floats:
    """Days from those of events to each session."""
    age: Floats = sessions.astype(np.int64)[None, :] - events.taken(days.astype(np.int64), place)
    return age


def _dividends(engine: Engine, ids: NDArray[np.int64], sessions: Dates, kind: NDArray[np.str_]) -> dict[str, Floats]:
    d = Dividend
    rows = read_table(engine, select(d.name_id, d.ex_date, d.declared_on, d.amount).order_by(d.name_id, d.ex_date))
    rows = read_splits(engine).adjust(rows, "ex_date", ("amount",))
    owner, ex_date = np.searchsorted(ids, rows["name_id"].to_numpy()), dates(rows["ex_date"])
    events = Events(owner, ex_date, ids.size)
    # Rows come in the order of the events, so a running total can be read at their indices.
    running = np.concatenate([[0.0], np.cumsum(numbers(rows["amount"]))])
    paid = running[events.counted(sessions)] - running[events.counted(sessions - _YEAR)]
    upcoming = events.next(sessions)
    days = events.taken(ex_date.astype(np.int64), upcoming) - sessions.astype(np.int64)
    declared = events.taken(dates(rows["declared_on"]).astype(np.int64), upcoming) <= sessions.astype(np.int64)
    # In a market that no dividends were loaded into nothing is known of any.
    pays = (kind != "index")[:, None] & (rows.height > 0)
    return {
        "dividend_ttm": np.where(pays, np.round(paid, 6), np.nan),
        "days_to_ex_dividend": np.where(declared, days, np.nan),
        "next_dividend": np.where(declared, events.taken(numbers(rows["amount"]), upcoming), np.nan),
    }


def dividends_ahead(engine: Engine, session: dt.date, expiries: pl.DataFrame, rate: float) -> Floats:
    """Present value of the dividends declared by `session` that go ex up to each expiry (rows with name_id and expiration)."""
    d = Dividend
    rows = read_table(
        engine, select(d.name_id, d.ex_date, d.amount).where(d.declared_on <= session, d.ex_date > session)
    )
    rows = read_splits(engine).adjust(rows, "ex_date", ("amount",))
    days = (dates(rows["ex_date"]) - np.datetime64(session, "D")).astype(np.float64)
    worth = rows.with_columns(pl.Series("worth", numbers(rows["amount"]) * np.exp(-rate * days / 365)))
    paid = expiries.select("name_id", "expiration").with_row_index("place").join(worth, on="name_id", how="inner")
    paid = paid.filter(pl.col("ex_date").cast(pl.Date) <= pl.col("expiration").cast(pl.Date))
    return np.bincount(paid["place"].to_numpy(), paid["worth"].to_numpy(), expiries.height).astype(np.float64)


def next_reactions(engine: Engine, ids: NDArray[np.int64], session: dt.date) -> Floats:
    """Days from `session` to the last close before each name reacts to its next report, shape (names,); NaN without one."""
    r = EarningsReport
    ahead = select(r.name_id, r.session, r.timing).where(r.session >= session, r.known_on <= session)
    rows = read_table(engine, ahead.order_by(r.session))
    out = np.full(ids.size, np.nan)
    places = {name_id: place for place, name_id in enumerate(ids.tolist())}
    for name_id, day, timing in rows.iter_rows():
        early, place = timing == "before_open", places.get(name_id)
        if place is not None and (day > session or not early) and np.isnan(out[place]):
            # A report before the open is priced at the close of the day before.
            out[place] = (day - session).days - early
    return out


def report_days(
    reports: dict[int, list[Report]], names: int, sessions: Dates, close: Floats, first: int = 0
) -> dict[str, Floats]:
    """Days to the next report and since the last one, and what price did at the last ones, names x sessions from `first` on.

    A report before the open is over on its own session; one after the close lies ahead until that session has passed. One whose
    date was not known yet does not count as the next. The reaction is the close of the first session that could react against
    the close before it, in percent.
    """
    flat = [(row, report) for row, listed in reports.items() for report in listed]
    if not flat:
        shape = close[:, first:].shape
        return {key: np.full(shape, np.nan) for key in _REPORT_KEYS} | {"earnings_reaction": np.zeros(shape)}
    row = np.array([r for r, _ in flat])
    day = np.array([report.session for _, report in flat], dtype="datetime64[D]")
    known = np.array([report.known_on for _, report in flat], dtype="datetime64[D]").astype(np.int64)
    early = np.array([report.timing == "before_open" for _, report in flat])
    # On its own day when it comes before the open, else on the next.
    over = Events(row, np.where(early, day, day + 1), names)
    wanted = sessions[first:]
    number = wanted.astype(np.int64)[None, :]

    place = np.searchsorted(sessions, day) + ~early
    inside = (place >= 1) & (place < sessions.size) & (day >= sessions[0])
    reaction = np.zeros(close.shape)
    reaction[row[inside], place[inside]] = 1.0
    move = np.full(day.size, np.nan)
    # A missing session before or at the reaction leaves no move to be known.
    move[inside] = 100 * (close[row[inside], place[inside]] / close[row[inside], place[inside] - 1] - 1)
    reacted = Events(row[inside], sessions[place[inside]], names)
    moves, newest = move[inside], reacted.last(wanted)
    since = number - reacted.taken(day[inside].astype(np.int64), newest)
    sizes = np.abs(np.stack([reacted.taken(moves, _earlier(reacted, newest, back)) for back in range(_LAST_REPORTS)]))
    counted = np.isfinite(sizes).sum(axis=0)
    average = np.where(counted > 0, np.nansum(sizes, axis=0) / np.maximum(counted, 1), np.nan)
    ahead = over.next(wanted)
    days = over.taken(day.astype(np.int64), ahead) - number
    return {
        "days_to_earnings": np.where(over.taken(known, ahead) <= number, days, np.nan),
        "days_since_earnings": since,
        "last_earnings_move": reacted.taken(moves, newest),
        "average_earnings_move": average,
        "earnings_reaction": reaction[:, first:],
    }


_REPORT_KEYS = ("days_to_earnings", "days_since_earnings", "last_earnings_move", "average_earnings_move")


def _earlier(events: Events, place: NDArray[np.int64], back: int) -> NDArray[np.int64]:
    earlier = place - back
    return np.where((place >= 0) & (earlier >= events.start[:-1, None]), earlier, -1)

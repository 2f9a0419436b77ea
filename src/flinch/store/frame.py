"""The market frame: a dense array, names x sessions, for every daily field, read from the store at one data version."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine, select

from flinch.store.facts import Report, read_facts, report_days
from flinch.store.market_state import Loaded, read_state
from flinch.store.models import (
    SVI_COLUMNS,
    DailyBar,
    EarningsReport,
    ExchangeSession,
    ExpiryVolatility,
    ExtendedDay,
    FundMember,
    Name,
    OptionDay,
    OptionQuote,
    VolatilityDay,
)
from flinch.store.reading import dates, numbers, read_table

Floats = NDArray[np.float64]
TENORS = (7, 14, 30, 60, 90, 180, 365)
_VOLATILITY = (
    "iv_nearest",
    "iv_week",
    "iv_month",
    "iv30_ex_earnings",
    "implied_earnings_move",
    "put_25d",
    "call_25d",
    "fit_quality",
)


class NameFacts(NamedTuple):
    """What a name is."""

    symbol: str
    company: str
    kind: str
    sector: str
    listed_on: dt.date


class Expiry(NamedTuple):
    """One listed expiration of one name, as read from the newest chain; NaN where it could not be."""

    expiration: dt.date
    years: float
    forward: float
    forward_from_parity: bool
    vol: float
    strikes: int
    straddle: float
    straddle_strike: float
    carry: float
    vol_ex_earnings: float
    put_25d: float
    call_25d: float
    quality: float
    flaw: str
    svi: tuple[float, float, float, float, float]


@dataclass(frozen=True)
class MarketFrame:
    """One version of the market; arrays are names x sessions, volatilities annualised decimals, NaN where missing.

    `calendar` is the sessions held and the ones ahead.
    `daily` holds every further field by name: extended hours, option activity, and what was known of fundamentals, estimates,
    dividends, short interest and earnings in each session.
    """

    state: Loaded
    ids: NDArray[np.int64]
    names: list[NameFacts]
    index: dict[str, int]
    kind: NDArray[np.str_]
    shares_outstanding: Floats
    float_shares: Floats
    sessions: NDArray[np.datetime64]
    calendar: NDArray[np.datetime64]
    listed_from: NDArray[np.int64]
    open: Floats
    high: Floats
    low: Floats
    close: Floats
    volume: Floats
    implied: dict[int, Floats]
    daily: dict[str, Floats]
    expiries: dict[int, list[Expiry]]
    reports: dict[int, list[Report]]
    members: dict[int, list[tuple[int, float]]]
    quoted: NDArray[np.bool_]

    def bars(self, row: int) -> tuple[Floats, Floats, Floats, Floats]:
        """Open, high, low and close of one name, each of shape (sessions,)."""
        return self.open[row], self.high[row], self.low[row], self.close[row]


def read_names(engine: Engine) -> pl.DataFrame:
    """All names in the order of the frame's rows."""
    n = Name
    columns = (n.id, n.symbol, n.company, n.kind, n.sector, n.listed_on, n.shares_outstanding, n.float_shares)
    return read_table(engine, select(*columns).order_by(n.id))


def read_calendar(engine: Engine) -> NDArray[np.datetime64]:
    """Every session of the exchange that is known, past and ahead, in order."""
    rows = read_table(engine, select(ExchangeSession.session).order_by(ExchangeSession.session))
    return dates(rows["session"])


def _from(calendar: NDArray[np.datetime64], sessions: NDArray[np.datetime64]) -> NDArray[np.datetime64]:
    return np.concatenate([sessions, calendar[calendar > sessions[-1]]])


def read_quotes(engine: Engine, taken_at: dt.datetime) -> pl.DataFrame:
    """One snapshot's strike rows: name_id, expiration, strike, call_bid, call_ask, put_bid, put_ask."""
    q = OptionQuote
    rows = read_table(
        engine,
        select(q.name_id, q.expiration, q.strike, q.is_call, q.bid, q.ask).where(
            q.taken_at == taken_at.astimezone(dt.UTC).replace(tzinfo=None)
        ),
    )
    key = ["name_id", "expiration", "strike"]
    calls = rows.filter(pl.col("is_call") == 1).select(*key, pl.col("bid", "ask").name.prefix("call_"))
    puts = rows.filter(pl.col("is_call") == 0).select(*key, pl.col("bid", "ask").name.prefix("put_"))
    return calls.join(puts, on=key, how="full", coalesce=True).sort(key)


def read_spots(engine: Engine, session: dt.date) -> pl.DataFrame:
    """Close (or last, while the session is open) of every name in a session: name_id, close."""
    return read_table(engine, select(DailyBar.name_id, DailyBar.close).where(DailyBar.session == session))


def read_option_totals(engine: Engine, taken_at: dt.datetime) -> pl.DataFrame:
    """One snapshot's contracts traded and open a name: name_id, volume and open_interest of calls (call_) and puts (put_)."""
    q = OptionQuote
    moment = taken_at.astimezone(dt.UTC).replace(tzinfo=None)
    rows = read_table(
        engine, select(q.name_id, q.is_call, q.volume, q.open_interest).where(q.taken_at == moment).order_by(q.name_id)
    )
    sides = [
        pl.col(column).filter(pl.col("is_call") == side).sum().alias(f"{said}_{column}")
        for column in ("volume", "open_interest")
        for side, said in ((1, "call"), (0, "put"))
    ]
    return rows.group_by("name_id", maintain_order=True).agg(sides)


def load_frame(engine: Engine) -> MarketFrame | None:
    """Build the frame of the store's data version; None while no complete market is loaded."""
    state = read_state(engine)
    if state is None or not state.complete:
        return None
    names = read_names(engine)
    ids = names["id"].to_numpy()
    bars = read_table(
        engine,
        select(
            DailyBar.name_id,
            DailyBar.session,
            DailyBar.open,
            DailyBar.high,
            DailyBar.low,
            DailyBar.close,
            DailyBar.volume,
        ),
    )
    sessions = np.unique(dates(bars["session"]))

    def scatter(rows: pl.DataFrame, columns: list[str]) -> list[Floats]:
        row = np.searchsorted(ids, rows["name_id"].to_numpy())
        day = dates(rows["session"])
        column = np.searchsorted(sessions, day)
        known = (column < sessions.size) & (sessions[np.minimum(column, sessions.size - 1)] == day)
        out = []
        for name in columns:
            array = np.full((ids.size, sessions.size), np.nan)
            array[row[known], column[known]] = numbers(rows[name])[known]
            out.append(array)
        return out

    bar_fields = ["open", "high", "low", "close", "volume"]
    prices = dict(zip(bar_fields, scatter(bars, bar_fields), strict=True))
    daily: dict[str, Floats] = {}
    for table in (ExtendedDay, OptionDay):
        fields = [column.name for column in table.__table__.columns if not column.primary_key]
        rows = read_table(engine, select(table.name_id, table.session, *[getattr(table, f) for f in fields]))
        daily |= dict(zip(fields, scatter(rows, fields), strict=True))
    tenor_columns = [f"iv{days}" for days in TENORS] + list(_VOLATILITY)
    vols = read_table(
        engine,
        select(VolatilityDay.name_id, VolatilityDay.session, *[getattr(VolatilityDay, c) for c in tenor_columns]),
    )
    implied = scatter(vols, tenor_columns)
    daily |= dict(zip(_VOLATILITY, implied[len(TENORS) :], strict=True))
    index = {symbol: row for row, symbol in enumerate(names["symbol"])}
    newest = dt.date.fromisoformat(str(sessions[-1]))
    expiries = _expiries(engine, newest, ids)
    quoted = np.zeros(ids.size, dtype=bool)
    quoted[[row for row, listed in expiries.items() if any(np.isfinite(e.vol) for e in listed)]] = True
    kind = names["kind"].to_numpy().astype(np.str_)
    reports = _reports(engine, ids)
    traded = np.isfinite(prices["close"])
    daily |= read_facts(engine, ids, sessions, kind)
    daily |= report_days(reports, ids.size, sessions, prices["close"])
    return MarketFrame(
        state=state,
        ids=ids,
        names=[NameFacts(*row) for row in names.select("symbol", "company", "kind", "sector", "listed_on").iter_rows()],
        index=index,
        kind=kind,
        shares_outstanding=numbers(names["shares_outstanding"]),
        float_shares=numbers(names["float_shares"]),
        sessions=sessions,
        calendar=_from(read_calendar(engine), sessions),
        listed_from=np.where(traded.any(axis=1), traded.argmax(axis=1), sessions.size),
        **prices,
        implied=dict(zip(TENORS, implied, strict=False)),
        daily=daily,
        expiries=expiries,
        reports=reports,
        members=_members(engine, ids),
        quoted=quoted,
    )


def _expiries(engine: Engine, session: dt.date, ids: NDArray[np.int64]) -> dict[int, list[Expiry]]:
    e = ExpiryVolatility
    rows = read_table(
        engine,
        select(
            e.name_id,
            e.expiration,
            e.years,
            e.forward,
            e.forward_from_parity,
            e.vol,
            e.strikes,
            e.straddle,
            e.straddle_strike,
            e.carry,
            e.vol_ex_earnings,
            e.put_25d,
            e.call_25d,
            e.quality,
            e.flaw,
            *[getattr(e, column) for column in SVI_COLUMNS],
        )
        .where(e.session == session)
        .order_by(e.name_id, e.expiration),
    )
    rows = rows.with_columns(pl.col(pl.Float64).fill_null(np.nan))
    out: dict[int, list[Expiry]] = {}
    for name_id, *fields in rows.iter_rows():
        row = int(np.searchsorted(ids, name_id))
        fields[3] = bool(fields[3])
        plain = len(fields) - len(SVI_COLUMNS)
        out.setdefault(row, []).append(Expiry._make([*fields[:plain], tuple(fields[plain:])]))
    return out


def _members(engine: Engine, ids: NDArray[np.int64]) -> dict[int, list[tuple[int, float]]]:
    m = FundMember
    out: dict[int, list[tuple[int, float]]] = {}
    rows = read_table(engine, select(m.fund_id, m.name_id, m.weight).order_by(m.fund_id, m.weight.desc()))
    for fund_id, name_id, weight in rows.iter_rows():
        fund, member = np.searchsorted(ids, [fund_id, name_id])
        out.setdefault(int(fund), []).append((int(member), weight))
    return out


def _reports(engine: Engine, ids: NDArray[np.int64]) -> dict[int, list[Report]]:
    r = EarningsReport
    rows = read_table(engine, select(r.name_id, r.session, r.timing).order_by(r.name_id, r.session))
    out: dict[int, list[Report]] = {}
    for name_id, session, timing in rows.iter_rows():
        out.setdefault(int(np.searchsorted(ids, name_id)), []).append(Report(session, timing))
    return out

"""The market frame: a dense array, names x sessions, for every daily field, read from the store at one data version."""

from __future__ import annotations

import datetime as dt
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine, select

from flinch.store.chain import Snapshot, read_multipliers, read_snapshots, stored
from flinch.store.facts import Report, read_facts, report_days
from flinch.store.market_state import Loaded, read_state
from flinch.store.models import (
    SVI_COLUMNS,
    Base,
    DailyBar,
    EarningsReport,
    ExchangeSession,
    ExpiryVolatility,
    ExtendedDay,
    FundMember,
    Name,
    OptionDay,
    Position,
    VolatilityDay,
)
from flinch.store.reading import dates, numbers, read_rows, read_table

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
    lowest_strike: float
    highest_strike: float
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
    multiplier: Floats
    snapshots: list[Snapshot]

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


def _fields(table: type[Base]) -> list[str]:
    """Columns of a table that are not its key."""
    return [column.name for column in table.__table__.columns if not column.primary_key]


def _columns(table: type[Base], fields: list[str]) -> list[Any]:
    return [getattr(table, field) for field in fields]


def load_frame(engine: Engine) -> MarketFrame | None:
    """Build the frame of the store's data version; None while no complete market is loaded."""
    state = read_state(engine)
    if state is None or not state.complete:
        return None
    names = read_names(engine)
    ids = names["id"].to_numpy()
    bar_fields = ["open", "high", "low", "close", "volume"]
    bars = read_table(engine, select(DailyBar.name_id, DailyBar.session, *_columns(DailyBar, bar_fields)))
    sessions = np.unique(dates(bars["session"]))
    snapshots = [snapshot for snapshot in read_snapshots(engine) if snapshot.taken_at <= state.as_of]

    def scatter(rows: pl.DataFrame, fields: list[str]) -> dict[str, Floats]:
        row = np.searchsorted(ids, rows["name_id"].to_numpy())
        day = dates(rows["session"])
        column = np.searchsorted(sessions, day)
        known = (column < sessions.size) & (sessions[np.minimum(column, sessions.size - 1)] == day)
        out = {}
        for field in fields:
            out[field] = np.full((ids.size, sessions.size), np.nan)
            out[field][row[known], column[known]] = numbers(rows[field])[known]
        return out

    def read(table: type[Any], fields: list[str]) -> dict[str, Floats]:
        return scatter(read_table(engine, select(table.name_id, table.session, *_columns(table, fields))), fields)

    def read_positions() -> dict[str, Floats]:
        fields = _fields(Position)
        rows = read_table(engine, select(Position.name_id, Position.taken_at, *_columns(Position, fields)))
        return _positions(rows, ids, sessions, snapshots)

    # The database answers with one thread a connection: long tables are read two at a time, and let go of at once.
    tenors = [f"iv{days}" for days in TENORS]
    with ThreadPoolExecutor(2) as readers:
        parts = [
            readers.submit(read, ExtendedDay, _fields(ExtendedDay)),
            readers.submit(read, OptionDay, _fields(OptionDay)),
            readers.submit(read, VolatilityDay, tenors + list(_VOLATILITY)),
            readers.submit(read_positions),
        ]
        prices = scatter(bars, bar_fields)
        del bars
    daily = {field: values for part in parts for field, values in part.result().items()}
    implied = {days: daily.pop(f"iv{days}") for days in TENORS}
    index = {symbol: row for row, symbol in enumerate(names["symbol"])}
    expiries = read_expiries(engine, state.as_of, ids)
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
        implied=implied,
        daily=daily,
        expiries=expiries,
        reports=reports,
        members=_members(engine, ids),
        quoted=quoted,
        multiplier=multipliers(engine, ids),
        snapshots=snapshots,
    )


def multipliers(engine: Engine, ids: NDArray[np.int64]) -> Floats:
    """What a standard contract of each name stands for, shape (names,); a hundred where nothing else is said."""
    rows = read_multipliers(engine)
    out = np.full(ids.size, 100.0)
    out[np.searchsorted(ids, rows["name_id"].to_numpy())] = numbers(rows["multiplier"])
    return out


_BEFORE = ("call_exposure", "put_exposure")


def _positions(
    rows: pl.DataFrame, ids: NDArray[np.int64], sessions: NDArray[np.datetime64], snapshots: list[Snapshot]
) -> dict[str, Floats]:
    """Exposure and open interest of every session as it ended, or as it is; and in the newest one, exposures at the snapshot
    before (`_before`)."""
    row = np.searchsorted(ids, rows["name_id"].to_numpy())
    moment = rows["taken_at"].to_numpy()
    column = np.minimum(np.searchsorted(sessions, moment.astype("datetime64[D]")), sessions.size - 1)
    held = sessions[column] == moment.astype("datetime64[D]")
    today = [snapshot.taken_at for snapshot in snapshots if snapshot.session == sessions[-1].astype(object)]
    newest, before = (
        np.datetime64(stored(today[-back])) if len(today) >= back else np.datetime64("NaT") for back in (1, 2)
    )
    is_before = moment == before
    last = held & ((column < sessions.size - 1) | (moment == newest))
    out: dict[str, Floats] = {}
    for field in _fields(Position):
        values = numbers(rows[field])
        out[field] = np.full((ids.size, sessions.size), np.nan)
        out[field][row[last], column[last]] = values[last]
        if field in _BEFORE:
            out[f"{field}_before"] = np.full((ids.size, sessions.size), np.nan)
            out[f"{field}_before"][row[is_before], -1] = values[is_before]
    return out


def read_expiries(
    engine: Engine, taken_at: dt.datetime, ids: NDArray[np.int64], name_id: int | None = None
) -> dict[int, list[Expiry]]:
    """Expirations as they were read at a snapshot, by row of the frame; of one name when it is given."""
    e = ExpiryVolatility
    wanted = [e.taken_at == stored(taken_at)]
    if name_id is not None:
        wanted.append(e.name_id == name_id)
    read = read_table if name_id is None else read_rows
    rows = read(
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
            e.lowest_strike,
            e.highest_strike,
            *[getattr(e, column) for column in SVI_COLUMNS],
        )
        .where(*wanted)
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
    rows = read_table(engine, select(r.name_id, r.session, r.timing, r.known_on).order_by(r.name_id, r.session))
    out: dict[int, list[Report]] = {}
    for name_id, *fields in rows.iter_rows():
        out.setdefault(int(np.searchsorted(ids, name_id)), []).append(Report(*fields))
    return out

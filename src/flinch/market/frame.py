"""The market frame: a dense array, names x sessions, for every daily field, read from the store at one data version."""

from __future__ import annotations

import datetime as dt
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine, select

from flinch.store.market.chain import Snapshot, read_snapshots, stored
from flinch.store.market.facts import Report, read_facts, report_days
from flinch.store.market.models import (
    TENORS,
    DailyBar,
    EarningsReport,
    ExtendedDay,
    FundMember,
    MarketBase,
    OptionDay,
    Position,
    VolatilityDay,
)
from flinch.store.market.names import multipliers, read_calendar, read_names
from flinch.store.market.state import Loaded, read_state
from flinch.store.market.surfaces import Expiry, read_expiries
from flinch.store.reading import Floats, dates, numbers, read_table

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
    multiplier: Floats
    snapshots: list[Snapshot]

    def until(self, last: int) -> MarketFrame:
        """The arrays up to and with a session, nothing copied; without expirations and snapshots, which belong to moments."""
        end = last + 1

        def cut(values: Floats) -> Floats:
            return values[:, :end]

        return replace(
            self,
            sessions=self.sessions[:end],
            listed_from=np.minimum(self.listed_from, end),
            open=cut(self.open),
            high=cut(self.high),
            low=cut(self.low),
            close=cut(self.close),
            volume=cut(self.volume),
            implied={days: cut(vols) for days, vols in self.implied.items()},
            daily={key: cut(values) for key, values in self.daily.items()},
            expiries={},
            snapshots=[],
        )

    def bars(self, row: int) -> tuple[Floats, Floats, Floats, Floats]:
        """Open, high, low and close of one name, each of shape (sessions,)."""
        return self.open[row], self.high[row], self.low[row], self.close[row]


def _from(calendar: NDArray[np.datetime64], sessions: NDArray[np.datetime64]) -> NDArray[np.datetime64]:
    return np.concatenate([sessions, calendar[calendar > sessions[-1]]])


def _fields(table: type[MarketBase]) -> list[str]:
    """Columns of a table that are not its key."""
    return [column.name for column in table.__table__.columns if not column.primary_key]


def _columns(table: type[MarketBase], fields: list[str]) -> list[Any]:
    return [getattr(table, field) for field in fields]


def load_frame(engine: Engine) -> MarketFrame | None:
    """Read the store's data version whole, or not at all: None while no complete market is loaded, and when anything was written
    meanwhile."""
    state = read_state(engine)
    if state is None or not state.whole:
        return None
    frame = _read_frame(engine, state)
    now = read_state(engine)
    return frame if now is not None and now.whole and now.data_version == state.data_version else None


def _read_frame(engine: Engine, state: Loaded) -> MarketFrame:
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
        multiplier=multipliers(engine, ids),
        snapshots=snapshots,
    )


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

"""The market frame: a dense array, names x sessions, for every daily field, read from the store at one data version."""

from __future__ import annotations

import contextlib
import datetime as dt
import tempfile
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine, or_, select

from flinch.core.arrays import find
from flinch.core.calendar import Hours
from flinch.core.rules.catalogue import BAR_KEYS
from flinch.hours import read_hours
from flinch.market.columns import ColumnWriter, columns_key, forget_others, map_columns
from flinch.market.derived import DERIVED, derive
from flinch.store.market.chain import Snapshot, read_snapshots, stored
from flinch.store.market.facts import Report, read_facts, report_days
from flinch.store.market.looks import read_positions_before
from flinch.store.market.models import (
    TENORS,
    DailyBar,
    EarningsReport,
    ExtendedDay,
    FlowDay,
    FundMember,
    MarketBase,
    OptionDay,
    Position,
    VolatilityDay,
)
from flinch.store.market.names import multipliers, read_calendar, read_names, read_newest_bar
from flinch.store.market.news import count_headlines
from flinch.store.market.rates import read_rates
from flinch.store.market.settings import read_settings
from flinch.store.market.splits import bars_of_today, read_splits
from flinch.store.market.state import Loaded, read_state
from flinch.store.market.surfaces import Expiry, read_expiries
from flinch.store.reading import Floats, dates, numbers, read_table


class NameFacts(NamedTuple):
    """What a name is."""

    symbol: str
    company: str
    kind: str
    sector: str
    listed_on: dt.date | None


@dataclass(frozen=True)
class MarketFrame:
    """One version of the market; arrays are names x sessions, volatilities annualised decimals, NaN where missing.

    `calendar` is the sessions held and the ones ahead. `daily` holds every further field by name: extended hours, option
    activity, and what was known of fundamentals, estimates, dividends, short interest and earnings in each session; `derived`
    what follows from the rest; `rate` is that of each session. Bars lie in memory name after name, all others are mapped from
    files session after session.
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
    derived: dict[str, Floats]
    daily: dict[str, Floats]
    expiries: dict[int, list[Expiry]]
    reports: dict[int, list[Report]]
    members: dict[int, list[tuple[int, float]]]
    multiplier: Floats
    snapshots: list[Snapshot]
    hours: Hours
    rate: Floats
    index_symbol: str | None = None
    """What relative strength is measured against; none: the first index there is."""
    place: Path | None = None
    """Where its arrays are files that last; None where they vanish with the process."""
    played: bool = False
    """Whether it is a session that is over as it was at a moment: see `market.played`."""
    listing: Snapshot | None = None
    """What tells which contracts are listed in the newest session, with their open interest of the morning, where no look at the
    chains was taken by the frame's moment."""

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
            derived={key: cut(values) for key, values in self.derived.items()},
            daily={key: cut(values) for key, values in self.daily.items()},
            expiries={},
            snapshots=[],
        )

    def bars(self, row: int) -> tuple[Floats, Floats, Floats, Floats]:
        """Open, high, low and close of one name, each of shape (sessions,)."""
        return self.open[row], self.high[row], self.low[row], self.close[row]


def load_frame(engine: Engine, folder: Path | None = None) -> MarketFrame | None:
    """Read the store's data version whole, or not at all: None while there is no complete market with a bar, or rows were written
    meanwhile.

    Arrays are kept as files in `folder`, from which the next start maps them, or in a folder that vanishes when it is left out.
    """
    state = read_state(engine)
    if state is None or not state.whole:
        return None
    with contextlib.ExitStack() as stack:
        if read_newest_bar(engine) is None:
            return None
        place = folder or Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="flinch-columns-")))
        frame = _Reader(engine, state, place, lasting=folder is not None).read()
    now = read_state(engine)
    return frame if now is not None and now.whole and now.data_version == state.data_version else None


Fields = dict[str, Floats]
BEFORE = ("call_exposure", "put_exposure")
"""Of these the frame has what the look before said too."""
_ADJUSTED = (DailyBar, ExtendedDay)
"""Tables of prices and shares as they were traded."""
_AT_ONCE = 250_000
"""Rows of a daily table that are read together."""


class _Reader:
    """Reads one data version."""

    def __init__(self, engine: Engine, state: Loaded, folder: Path, *, lasting: bool) -> None:
        self.engine, self.state, self.folder, self.lasting = engine, state, folder, lasting
        self.names = read_names(engine)
        self.ids = self.names["id"].to_numpy()
        self.kind = self.names["kind"].to_numpy().astype(np.str_)
        self.snapshots = [snapshot for snapshot in read_snapshots(engine) if snapshot.taken_at <= state.as_of]
        self.reports = _reports(engine, self.ids)
        self.members = _members(engine, self.ids)
        self.days = read_calendar(engine)
        self.split = read_splits(engine).any
        self.hours = read_hours(engine)
        self.sessions = np.empty(0, "datetime64[D]")

    def read(self) -> MarketFrame:
        place = self.folder / columns_key(self.state)
        try:
            columns = map_columns(place)
        except (OSError, ValueError):
            self._write(place)
            columns = map_columns(place)
        forget_others(place)
        sessions = self.sessions = columns.pop("sessions").astype("datetime64[D]")
        made_of = int(columns.pop("data_version")[0])
        # Prices are read in every order, so they lie in memory name after name.
        prices = {field: np.ascontiguousarray(columns.pop(field)) for field in BAR_KEYS}
        if made_of != self.state.data_version:
            self._renew(prices, columns)
        traded = np.isfinite(prices["close"])
        names = self.names
        return MarketFrame(
            state=self.state,
            ids=self.ids,
            names=[
                NameFacts(*row) for row in names.select("symbol", "company", "kind", "sector", "listed_on").iter_rows()
            ],
            index={symbol: row for row, symbol in enumerate(names["symbol"])},
            kind=self.kind,
            shares_outstanding=numbers(names["shares_outstanding"]),
            float_shares=numbers(names["float_shares"]),
            sessions=sessions,
            calendar=self._calendar(),
            listed_from=np.where(traded.any(axis=1), traded.argmax(axis=1), sessions.size),
            **prices,
            implied={days: columns.pop(f"iv{days}") for days in TENORS},
            derived={field: columns.pop(field) for field in DERIVED},
            daily=columns,
            # Minutes come between one look at the chains and the next.
            expiries=read_expiries(
                self.engine, self.snapshots[-1].taken_at if self.snapshots else self.state.as_of, self.ids
            ),
            reports=self.reports,
            members=self.members,
            multiplier=multipliers(self.engine, self.ids),
            snapshots=self.snapshots,
            hours=self.hours,
            rate=read_rates(self.engine, sessions, self.state.rate),
            index_symbol=read_settings(self.engine).index_symbol,
            place=place if self.lasting else None,
            played=False,
            listing=None,
        )

    def _write(self, place: Path) -> None:
        """Everything that the store tells of all sessions, and what follows from it."""
        sessions = self.sessions = np.unique(
            dates(read_table(self.engine, select(DailyBar.session).distinct())["session"])
        )
        with ColumnWriter(place, lasting=self.lasting) as writer:
            writer.write({"sessions": sessions.astype(np.int64), "data_version": np.array([self.state.data_version])})
            # The database answers with one thread a connection: two tables are read at a time.
            with ThreadPoolExecutor(2) as readers:
                for written in [readers.submit(self._write_table, writer, read) for read in self._daily_tables()]:
                    written.result()
            for facts in read_facts(self.engine, self.ids, sessions, self.kind):
                writer.write(facts)
            columns = writer.read()
            prices = {field: np.ascontiguousarray(columns[field]) for field in BAR_KEYS}
            writer.write(report_days(self.reports, self.ids.size, sessions, prices["close"]))
            writer.write(derive(prices, columns, self._calendar(), self.members))

    def _write_table(self, writer: ColumnWriter, read: _ReadSessions) -> None:
        step = max(1, _AT_ONCE // max(1, self.ids.size))
        with writer.grow(self.ids.size, self.sessions.size) as growing:
            for first in range(0, self.sessions.size, step):
                growing.add(read(self.sessions[first : first + step]))

    def _renew(self, prices: Fields, columns: Fields) -> None:
        """The newest session as it is now; all others are what they were."""
        for read in self._daily_tables():
            for field, values in read(self.sessions[-1:]).items():
                (prices if field in prices else columns)[field][:, -1] = values[:, 0]
        last = self.sessions.size - 1
        days = report_days(self.reports, self.ids.size, self.sessions, prices["close"], first=last)
        for field, values in (days | derive(prices, columns, self._calendar(), self.members)).items():
            columns[field][:, -1] = values[:, -1]

    def _calendar(self) -> NDArray[np.datetime64]:
        """The sessions held and the ones ahead."""
        return np.concatenate([self.sessions, self.days[self.days > self.sessions[-1]]])

    def _daily_tables(self) -> Iterator[_ReadSessions]:
        """What reads some sessions of each daily table."""
        yield partial(self._table, DailyBar, BAR_KEYS)
        for table in (ExtendedDay, OptionDay, VolatilityDay, FlowDay):
            yield partial(self._table, table, fields_of(table))
        yield self._positions
        yield self._headlines

    def _table(self, table: type[Any], fields: Sequence[str], wanted: NDArray[np.datetime64]) -> Fields:
        first, last = wanted[0].astype(object), wanted[-1].astype(object)
        columns = [table.name_id, table.session, *_columns(table, fields)]
        adjusted = self.split and table in _ADJUSTED
        told = [table.import_id] if adjusted else []
        rows = read_table(self.engine, select(*columns, *told).where(table.session.between(first, last)))
        if adjusted:
            counts = [field for field in fields if field.endswith("volume")]
            rows = bars_of_today(self.engine, rows, "session", [f for f in fields if f not in counts], counts)
        return self._scattered(rows, fields, find(wanted, dates(rows["session"])), wanted.size)

    def _headlines(self, wanted: NDArray[np.datetime64]) -> Fields:
        """Headlines about each name since the close before: what comes after a close belongs to the next session."""
        place = int(np.searchsorted(self.sessions, wanted[0]))
        # Before the first session a day is taken to be like it.
        before = self.sessions[place - 1] if place else wanted[0] - np.timedelta64(1, "D")
        closes = [stored(self.hours.closes(day)) for day in [before.astype(object), *wanted.astype(object)]]
        told = count_headlines(self.engine, self.ids, np.array(closes, "datetime64[us]"), self.state.as_of)
        return {"headlines": told}

    def _positions(self, wanted: NDArray[np.datetime64]) -> Fields:
        """Exposure and open interest of each session as it ended, or as it is; and in the newest one, exposures at the snapshot
        before (`_before`)."""
        p, fields = Position, fields_of(Position)
        first, last = wanted[0].astype(object), wanted[-1].astype(object) + dt.timedelta(days=1)
        within = [p.taken_at.between(first, last), p.taken_at <= stored(self.state.as_of)]
        newest = self.sessions[-1].astype(object)
        today = [stored(snapshot.taken_at) for snapshot in self.snapshots if snapshot.session == newest]
        if today:
            within.append(or_(p.taken_at < today[0], p.taken_at == today[-1]))
        read = select(p.name_id, p.taken_at, *_columns(p, fields)).where(*within)
        rows = read_table(self.engine, read).sort("taken_at", maintain_order=True)
        column = find(wanted, rows["taken_at"].to_numpy().astype("datetime64[D]"))
        out = self._scattered(rows, fields, column, wanted.size)
        before = read_positions_before(self.engine, today, BEFORE)
        place = np.full(before.height, find(wanted, self.sessions[-1:])[0])
        earlier = self._scattered(before, BEFORE, place, wanted.size)
        return out | {f"{field}_before": values for field, values in earlier.items()}

    def _scattered(self, rows: pl.DataFrame, fields: Sequence[str], column: NDArray[np.int64], width: int) -> Fields:
        """Rows as arrays of names x sessions, session after session; those of no such name or column are left out."""
        row = find(self.ids, rows["name_id"].to_numpy())
        there = np.flatnonzero((column >= 0) & (row >= 0))
        place = column[there] * self.ids.size + row[there]
        out = {}
        for field in fields:
            values = np.full(width * self.ids.size, np.nan)
            values[place] = numbers(rows[field])[there]
            out[field] = values.reshape(width, self.ids.size).T
        return out


_ReadSessions = Callable[[NDArray[np.datetime64]], Fields]


def fields_of(table: type[MarketBase]) -> list[str]:
    """Columns of a table that are not its key."""
    return [c.name for c in table.__table__.columns if not c.primary_key and c.name != "import_id"]


def _columns(table: type[MarketBase], fields: Sequence[str]) -> list[Any]:
    return [getattr(table, field) for field in fields]


def _members(engine: Engine, ids: NDArray[np.int64]) -> dict[int, list[tuple[int, float]]]:
    m = FundMember
    out: dict[int, list[tuple[int, float]]] = {}
    rows = read_table(engine, select(m.fund_id, m.name_id, m.weight).order_by(m.fund_id, m.weight.desc()))
    fund, member = (find(ids, rows[key].to_numpy()).tolist() for key in ("fund_id", "name_id"))
    for row, one, weight in zip(fund, member, rows["weight"].to_list(), strict=True):
        if row >= 0 and one >= 0:
            out.setdefault(row, []).append((one, weight))
    return out


def _reports(engine: Engine, ids: NDArray[np.int64]) -> dict[int, list[Report]]:
    r = EarningsReport
    rows = read_table(engine, select(r.name_id, r.session, r.timing, r.known_on).order_by(r.name_id, r.session))
    out: dict[int, list[Report]] = {}
    owners = find(ids, rows["name_id"].to_numpy()).tolist()
    for row, fields in zip(owners, rows.drop("name_id").iter_rows(), strict=True):
        if row >= 0:
            out.setdefault(row, []).append(Report._make(fields))
    return out

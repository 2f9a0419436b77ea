"""What pages take: a version of the market as of one of its sessions."""

from __future__ import annotations

import datetime as dt
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from rapidfuzz import fuzz, process, utils
from sqlalchemy import Engine

from flinch.clock import market_now
from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.calendar import Hours
from flinch.core.moves import CycleBands
from flinch.core.pricing import Exercise, exercised_early
from flinch.core.rules import Node, Panel, Shape, Truth, aged, between, daily_vocabulary
from flinch.errors import FlinchError
from flinch.market.bars import Bars, load_day_bars
from flinch.market.derived import band_of
from flinch.market.dictionary import BarLength
from flinch.market.frame import MarketFrame, NameFacts
from flinch.market.reports import reports_inside
from flinch.market.surfaces import carried, expirations_of
from flinch.market.version import Column, Version
from flinch.store.market.chain import Snapshot
from flinch.store.market.facts import Report
from flinch.store.market.surfaces import Expiry, read_expiries, read_surface


class UnknownName(FlinchError):
    """No such symbol; `nearest` are the listed ones most like it."""

    status, kind = 404, "unknown_name"

    def __init__(self, symbol: str, nearest: list[str]) -> None:
        hint = f" Did you mean {' or '.join(nearest)}?" if nearest else " Look it up with the search above."
        super().__init__(f"No name with the symbol {symbol[:20]!r} is listed.{hint}")
        self.symbol = symbol
        self.where = symbol[:64]
        self.nearest = nearest


class Stale(NamedTuple):
    """Figures that newer ones are overdue of: how many days old they are, and that in words."""

    days: int
    words: str


class View:
    """The market as it was known when a session ended; in the newest session, at the version's own moment.

    Nothing that it answers reaches past its session: arrays end there, reports are those announced by then, expirations those
    that were read then.
    """

    def __init__(self, version: Version, session: int | None = None) -> None:
        self.version = version
        self.last = version.last if session is None else session
        self.ends_version = self.last == version.last
        self.today = self.date(self.last)
        self._expirations: dict[int, list[Expiry]] = {}

    def at(self, session: int) -> View:
        """The same version as of another session, no later than this one."""
        if session == self.last:
            return self
        if not 0 <= session < self.last:
            raise ValueError(f"a view of session {self.last} knows nothing of session {session}")
        return View(self.version, session)

    @cached_property
    def frame(self) -> MarketFrame:
        """The version's arrays up to the session."""
        return self.version.frame if self.ends_version else self.version.frame.until(self.last)

    @property
    def is_newest(self) -> bool:
        """Whether it is what the market is now."""
        return self.ends_version and not self.version.frame.played

    @property
    def past(self) -> str | None:
        """What to ask for to see the same again: a session, or a minute of it in exchange time; None for the newest."""
        if self.is_newest:
            return None
        return f"{self.as_of:%Y-%m-%dT%H:%M}" if self.ends_version else self.today.isoformat()

    # -- what is loaded ------------------------------------------------------------------------------------------------

    @property
    def data_version(self) -> int:
        """Number of the version."""
        return self.version.frame.state.data_version

    @property
    def source(self) -> str:
        """Where the market comes from."""
        return self.version.frame.state.source

    @property
    def rate(self) -> float:
        """Continuously compounded, a decimal."""
        return float(self.version.frame.rate[self.last])

    @property
    def store(self) -> Engine:
        """The market's database, for chains and what else is read when it is asked for."""
        return self.version.engine

    # -- names ---------------------------------------------------------------------------------------------------------

    def row(self, symbol: str) -> int:
        """Row of a symbol, in any case; raises UnknownName with the nearest listed ones."""
        found = self.frame.index.get(symbol.strip().upper())
        if found is None:
            raise UnknownName(symbol, self.nearest_symbols(symbol))
        return found

    def nearest_symbols(self, text: str, count: int = 3) -> list[str]:
        """Listed symbols most like `text`, by symbol or company; none when nothing is alike."""
        symbols = list(self.frame.index)
        if not text.strip():
            return []
        by_symbol = process.extract(text[:40].upper(), symbols, scorer=fuzz.ratio, limit=count, score_cutoff=55)
        companies = [name.company for name in self.frame.names]
        by_company = process.extract(
            text[:40], companies, scorer=fuzz.WRatio, processor=utils.default_process, limit=count, score_cutoff=75
        )
        found = [(score, symbol) for symbol, score, _ in by_symbol] + [
            (score, symbols[row]) for _, score, row in by_company
        ]
        return list(dict.fromkeys(symbol for _, symbol in sorted(found, key=lambda pair: -pair[0])))[:count]

    def name(self, row: int) -> NameFacts:
        """What a name is."""
        return self.frame.names[row]

    def id(self, row: int) -> int:
        """The store's key of a name."""
        return int(self.frame.ids[row])

    def reports(self, row: int) -> list[Report]:
        """A name's earnings reports, past and ahead, whose dates were known, in order."""
        return [report for report in self.frame.reports.get(row, []) if report.known_on <= self.today]

    def next_report(self, row: int) -> Report | None:
        """The first report that the price has not reacted to: later than today, or today after the close."""
        for report in self.reports(row):
            if report.session > self.today or (report.session == self.today and report.timing == "after_close"):
                return report
        return None

    def report_inside(self, row: int, expiration: dt.date) -> bool:
        """Whether price reacts to a name's next report before an expiration ends."""
        today, end = (np.array([day], dtype="datetime64[D]") for day in (self.today, expiration))
        return bool(reports_inside(self.frame.reports, np.array([row]), today, end)[0])

    def reaction(self, report: Report) -> int | None:
        """Index of the first session that could react to a report; None when that is not over, or nothing held lies before it."""
        place = int(np.searchsorted(self.frame.sessions, np.datetime64(report.session, "D")))
        place += report.timing != "before_open"
        return place if 1 <= place <= self.last else None

    def exercise(self, row: int) -> Exercise:
        """How a name's options may be exercised."""
        return "american" if exercised_early(self.frame.kind[row]) else "european"

    def optionable(self) -> BoolArray:
        """Names with listed options that were listed themselves, shape (names,)."""
        return self.optionable_through[:, self.last]

    @cached_property
    def optionable_through(self) -> BoolArray:
        """The same for every session, names x sessions."""
        options = np.logical_or.accumulate(np.isfinite(self.frame.daily["expirations"]), axis=1)
        listed: BoolArray = self.frame.listed_from[:, None] <= np.arange(self.end)
        return options & listed

    # -- prices --------------------------------------------------------------------------------------------------------

    def price(self, row: int) -> float:
        """A name's last price; NaN where it has none in the session."""
        return float(self.frame.close[row, self.last])

    def previous_close(self, row: int) -> float:
        """A name's close of the session before; NaN where there is none."""
        return float(self.frame.close[row, self.last - 1]) if self.last else float("nan")

    def prices(self, row: int) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
        """Open, high, low and close of one name, each of shape (sessions,)."""
        return self.frame.bars(row)

    def implied(self, days: int, row: int) -> FloatArray:
        """Implied volatility of one name at a constant maturity, a decimal, shape (sessions,)."""
        vols: FloatArray = self.frame.implied[days][row]
        return vols

    def daily(self, field: str, row: int) -> FloatArray:
        """One name's history of a field of the frame, shape (sessions,)."""
        values: FloatArray = self.frame.daily[field][row]
        return values

    def derived(self, field: str, row: int) -> FloatArray:
        """One name's history of a field that follows from others, as it is stored, shape (sessions,)."""
        values: FloatArray = self.frame.derived[field][row]
        return values

    def day_bars(self, row: int) -> Bars:
        """One name's five-minute bars of the session, read from the store."""
        return load_day_bars(self.store, self.id(row), self.frame.sessions[self.last], self.hours)[5]

    def band(self, period: str) -> CycleBands:
        """The expected-move band of each session's week or month."""
        return band_of(self.version.frame.derived, period, self.end)

    # -- options -------------------------------------------------------------------------------------------------------

    @cached_property
    def snapshots(self) -> list[Snapshot]:
        """The moments of which chains are kept, in order."""
        return [snapshot for snapshot in self.version.frame.snapshots if snapshot.session <= self.today]

    @property
    def snapshot(self) -> Snapshot | None:
        """The last moment of the session of which chains are kept."""
        return self.snapshots[-1] if self.snapshots and self.snapshots[-1].session == self.today else None

    @property
    def listing(self) -> Snapshot | None:
        """What tells which contracts were listed in the session, with their open interest of the morning."""
        return self.snapshot or (self.version.frame.listing if self.ends_version else None)

    def expirations(self, row: int) -> list[Expiry]:
        """A name's listed expirations as they were read in the session, nearest first."""
        newest = self.version.frame
        carried = newest.played and self.snapshot is None
        if self.ends_version and not carried:
            return newest.expiries.get(row, [])
        if row not in self._expirations:
            self._expirations[row] = self._carried(row) if self.ends_version else self._read_expirations(row)
        return self._expirations[row]

    def _read_expirations(self, row: int) -> list[Expiry]:
        if self.snapshot is not None:
            return self.expirations_at(row, self.snapshot)
        surface = read_surface(self.store, self.id(row), self.today)
        return [] if surface is None else expirations_of(surface, self.today, self.price(row), self.rate, self.hours)

    def _carried(self, row: int) -> list[Expiry]:
        """Those of the session before, as time has gone on: no look at the chains was taken since."""
        if not self.last:
            return []
        before = self.at(self.last - 1).expirations(row)
        return carried(before, self.today, self.as_of, self.price(row), self.rate, self.hours)

    def expirations_at(self, row: int, moment: Snapshot) -> list[Expiry]:
        """The same as read at one of the kept moments."""
        return read_expiries(self.store, moment.taken_at, self.frame.ids, self.id(row)).get(row, [])

    def readable_expirations(self, row: int) -> list[Expiry]:
        """Those whose volatility could be read."""
        return [expiry for expiry in self.expirations(row) if np.isfinite(expiry.vol)]

    def multiplier(self, row: int) -> float:
        """Shares or index units that a standard contract stands for."""
        return float(self.frame.multiplier[row])

    # -- time ----------------------------------------------------------------------------------------------------------

    @property
    def end(self) -> int:
        """Sessions up to and with the view's own."""
        return self.last + 1

    @cached_property
    def as_of(self) -> dt.datetime:
        """The moment in exchange time: the version's own, that of the session's last kept chains, or its close."""
        return market_now(
            self.hours.closes(self.today),
            None if self.snapshot is None else self.snapshot.taken_at,
            self.version.frame.state.as_of if self.ends_version else None,
        ).astimezone(self.hours.zone)

    @property
    def over(self) -> bool:
        """Whether the session is over."""
        return self.as_of >= self.hours.closes(self.as_of.date())

    @property
    def hours(self) -> Hours:
        """When sessions of the exchange open and close."""
        return self.version.frame.hours

    @property
    def calendar(self) -> NDArray[np.datetime64]:
        """Sessions of the exchange, those ahead among them."""
        return self.version.frame.calendar

    @cached_property
    def sessions(self) -> list[dt.date]:
        """The sessions held."""
        return [self.date(place) for place in range(self.end)]

    def date(self, session: int) -> dt.date:
        """The date of a session's index."""
        return dt.date.fromisoformat(str(self.version.frame.sessions[session]))

    def session_on(self, day: dt.date) -> int:
        """Index of the last session on or before `day`; the first one for an earlier day."""
        sessions = self.version.frame.sessions[: self.end]
        return max(int(np.searchsorted(sessions, np.datetime64(day, "D"), side="right")) - 1, 0)

    # -- values --------------------------------------------------------------------------------------------------------

    @property
    def panel(self) -> Panel:
        """The catalogue's series; evaluate them up to `end`."""
        return self.version.panel

    def series(self, key: str) -> FloatArray:
        """A read metric of the catalogue as it is stored, decimals in place of percent, names x sessions, name after name."""
        return np.ascontiguousarray(self.panel.series[key][:, : self.end])

    def column(self, node: Node, bars: BarLength = "day") -> Column:
        """An expression for every name as of the session."""
        return self.version.column(node, self.last, bars)

    def between(self, subject: Node, shape: Shape, bars: BarLength = "day") -> Truth:
        """For which names the value of an expression lies between the edges of a range."""
        return between(self.column(subject, bars).values, shape)

    def history(self, node: Node, row: int) -> FloatArray:
        """A number, or a condition as 1 and 0, of one name in every session."""
        return self.version.history(node, row, self.end)

    def reasons(self, node: Node) -> dict[int, str]:
        """Why names have no value of an expression on daily bars, by row."""
        return self.version.reasons(node, self.last)

    def ages(self, node: Node, rows: IntArray) -> dict[int, Stale]:
        """Those of some names whose value of an expression rests on figures that are older than they should be."""
        found: dict[int, Stale] = {}
        for one in aged(node):
            days = self.metric(one.age)[rows]
            for row, old in zip(rows[days > one.most].tolist(), days[days > one.most].tolist(), strict=True):
                if row not in found or found[row].days < old:
                    found[row] = Stale(int(old), f"{one.words} {int(old)} days ago")
        return found

    def metric(self, key: str) -> FloatArray:
        """A metric of the catalogue for every name."""
        return self.column(daily_vocabulary().read(key).node).values

    def reason(self, key: str, row: int) -> str | None:
        """Why a name has no value of a metric; None when it has one."""
        return self.reasons(daily_vocabulary().read(key).node).get(row)

"""The markets there are: what each is, what it has, and what it lacks."""

from __future__ import annotations

import contextlib
import datetime as dt
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from flinch.features.data.schemas import (
    CheckFinding,
    CoverageReply,
    DataChecks,
    DifferingValue,
    DisagreementRow,
    FindingExample,
    HeldKind,
    HeldSpan,
    KindSources,
    MarketDraft,
    MarketRow,
    NameHoles,
    SourceList,
    SourceRow,
)
from flinch.feeds.files.checking import run_checks
from flinch.feeds.files.coverage import COVERED, coverage
from flinch.feeds.files.exporting import EXPORTED, Form, export_kinds
from flinch.feeds.files.kinds import KINDS
from flinch.feeds.files.matching import CannotMatch
from flinch.feeds.files.sources import TOLERANCE, disagreements, read_sources
from flinch.market import Market, Markets, NoSuchMarket
from flinch.store.engine import make_engine
from flinch.store.market.calendars import calendar_zone
from flinch.store.market.holdings import BESIDE, HOLDS, LEAST, Held, held_kinds, held_spans
from flinch.store.market.names import read_calendar
from flinch.store.market.settings import MarketSettings
from flinch.store.market.state import read_state


def market_rows(markets: Markets) -> list[MarketRow]:
    """Every market, the demo's first."""
    rows = []
    for name in markets.names():
        # One that was removed since they were looked at is none.
        with contextlib.suppress(NoSuchMarket):
            rows.append(market_row(markets, name))
    return rows


def market_row(markets: Markets, name: str) -> MarketRow:
    """One market. Raises NoSuchMarket."""
    with markets.look(name) as market:
        return _market_row(market)


def _market_row(market: Market) -> MarketRow:
    state, held = read_state(market.engine), held_kinds(market.engine)
    settings = market.settings
    return MarketRow(
        name=market.name,
        source=None if state is None else state.source,
        as_of=None if state is None or not state.data_version else state.as_of.astimezone(ZoneInfo(settings.zone)),
        missing=[kind for kind in HOLDS if kind not in held | BESIDE],
        usable=held.issuperset(LEAST),
        calendar=settings.calendar,
        currency=settings.currency,
        index=settings.index_symbol,
        rate=settings.rate,
        zone=settings.zone,
    )


def kind_rows(markets: Markets, name: str) -> list[HeldKind]:
    """Every kind, those first without which there is nothing to look at. Raises NoSuchMarket."""
    with markets.look(name) as market:
        return _kind_rows(market)


def _kind_rows(market: Market) -> list[HeldKind]:
    held, sessions = held_spans(market.engine), read_calendar(market.engine)
    newest = held["daily_bars"].last
    return [_kind_row(kind, one, sessions, newest) for kind, one in held.items()]


def _kind_row(kind: str, held: Held, sessions: NDArray[np.datetime64], newest: dt.date | None) -> HeldKind:
    loaded = KINDS[kind]
    behind = None
    if newest is not None and held.last is not None and held.last <= newest:
        behind = int(
            np.searchsorted(sessions, np.datetime64(newest)) - np.searchsorted(sessions, np.datetime64(held.last))
        )
    return HeldKind(
        kind=kind,
        words=loaded.words,
        any=held.any,
        first=held.first,
        last=held.last,
        sessions_behind=behind,
        expected=_next(sessions, held.last) if kind in COVERED else None,
        columns=[column.name for column in loaded.columns],
        needed=[column.name for column in loaded.columns if column.needed],
    )


def _next(sessions: NDArray[np.datetime64], last: dt.date | None) -> dt.date | None:
    place = sessions.size if last is None else int(np.searchsorted(sessions, np.datetime64(last), side="right"))
    return sessions[place].astype(object) if place < sessions.size else None


def export_work(markets: Markets, name: str, of: str, form: Form) -> Callable[[Path, Callable[[float], None]], None]:
    """What writes kinds of a market into a ZIP with an index. Raises CannotMatch for a kind that there is not."""
    if of != "all" and of not in EXPORTED:
        raise CannotMatch(f"There is no kind {of!r}; kinds are {', '.join(EXPORTED)}.", "of")
    kinds = list(EXPORTED) if of == "all" else [of]

    def write(path: Path, tell: Callable[[float], None]) -> None:
        # The engine of pages gives up after seconds; this may take minutes.
        engine = make_engine(markets.databases.market_url(name))
        try:
            with tempfile.TemporaryDirectory(prefix="flinch-export-") as folder:
                export_kinds(engine, kinds, Path(folder), form, tell=tell)
                with zipfile.ZipFile(
                    path, "w", zipfile.ZIP_STORED if form == "parquet" else zipfile.ZIP_DEFLATED
                ) as archive:
                    for file in sorted(Path(folder).iterdir()):
                        archive.write(file, file.name)
        finally:
            engine.dispose()

    return write


def coverage_told(markets: Markets, name: str, kind: str) -> CoverageReply:
    """Which names have a kind of which sessions. Raises NoCoverage."""
    with markets.look(name) as market:
        found = coverage(market.engine, kind)
    holes = [
        NameHoles(symbol=one.symbol, spans=[HeldSpan(first=a, last=b) for a, b in one.spans], lacks=one.lacks)
        for one in found.holes
    ]
    return CoverageReply(kind=kind, kinds=list(COVERED), **(found._asdict() | {"holes": holes}))


def checks_told(markets: Markets, name: str) -> DataChecks:
    """What is likely wrong with what is loaded."""
    with markets.look(name) as market:
        found = run_checks(market.engine)
    told = [
        CheckFinding(**(one._asdict() | {"examples": [FindingExample(**e._asdict()) for e in one.examples]}))
        for one in found
    ]
    return DataChecks(market=name, findings=told)


def sources_told(markets: Markets, name: str) -> SourceList:
    """Who tells of each kind, and where they disagree."""
    with markets.look(name) as market:
        kinds, apart = read_sources(market.engine), disagreements(market.engine)
    return SourceList(
        market=name,
        kinds=[
            KindSources(
                kind=one.kind, sources=[SourceRow(source=who, beside=one.beside.get(who, 0)) for who in one.order]
            )
            for one in kinds
        ],
        tolerance=TOLERANCE,
        disagreements=[
            DisagreementRow(**(one._asdict() | {"widest": [DifferingValue(**w._asdict()) for w in one.widest]}))
            for one in apart
        ],
    )


def settings_of(draft: MarketDraft) -> MarketSettings:
    """A draft's settings. Raises NoSuchCalendar."""
    return MarketSettings(draft.calendar, draft.currency, draft.index, draft.rate, calendar_zone(draft.calendar))

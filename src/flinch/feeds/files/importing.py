"""Loading a file into a market: read, checked row by row, compared with what is there, written, and published for what changed.

What is good is laid aside as Parquet first and written from there, by statements that may be repeated. Until all is written and
published the market says that it is being written, and what was there before is served.
"""

from __future__ import annotations

import csv
import datetime as dt
import tempfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple, TextIO
from zoneinfo import ZoneInfo

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine, text

from flinch.clock import wall
from flinch.errors import FlinchError
from flinch.feeds.files.kinds import KINDS, Kind
from flinch.feeds.files.loaders import LOADERS, Change, Names
from flinch.feeds.files.matching import CannotMatch, guess_kind, lacking, match_columns
from flinch.feeds.files.reading import open_table
from flinch.feeds.files.reasons import first_of
from flinch.feeds.files.values import Hints, learn, typed_rows
from flinch.feeds.publish import publish
from flinch.store.bulk import replace_rows
from flinch.store.engine import told
from flinch.store.market.calendars import sessions_between
from flinch.store.market.chain import read_snapshots
from flinch.store.market.models import ExchangeSession
from flinch.store.market.names import read_names, read_newest_bar
from flinch.store.market.settings import MarketSettings, read_settings
from flinch.store.market.state import advance, begin_load, begin_moment, finish_load, read_state

Tell = Callable[[str, float], None]
_AHEAD = dt.timedelta(days=3 * 366)
_SHOWN = 1_000_000
"""Refused rows that are handed back at most."""
_BESIDE = ("reason", "line")
"""Columns of a file of refused rows that are not of the file that they come from."""


class Busy(FlinchError):
    """Another process writes to the market."""

    status, kind = 409, "being_written"

    def __init__(self) -> None:
        super().__init__(
            "Another import or publish of this market is under way. Try again when it has ended; nothing was changed."
        )


@dataclass(frozen=True)
class Asked:
    """What is to be loaded: a file, and what was said of it. `make_names` makes names for symbols that are not known."""

    path: Path
    kind: str | None = None
    source: str | None = None
    columns: dict[str, str] = field(default_factory=dict)
    hints: Hints = field(default_factory=Hints)
    make_names: bool = False
    dry: bool = False
    refused: Path | None = None


class Outcome(NamedTuple):
    """What came of a file: rows read, those that are new, that take another's place, that were there already, that were refused,
    and the file that the refused ones are in."""

    kind: str
    rows: int
    added: int
    changed: int
    same: int
    refused: int
    file_of_refused: str | None
    columns: dict[str, str]


def import_file(engine: Engine, asked: Asked, tell: Tell = lambda stage, share: None) -> Outcome:
    """Load a file into a market, or only say what would come of it.

    Raises BadFile, CannotMatch and Busy; nothing is changed then.
    """
    table = open_table(asked.path)
    kind = KINDS[asked.kind or guess_kind(asked.path, table.columns)]
    matched = match_columns(kind, table.columns, asked.columns)
    lacks = lacking(kind, matched)
    if lacks:
        raise CannotMatch(
            f"{kind.name} need {', '.join(lacks)}, and no column of {asked.path.name} is called so. Say which one it is; the "
            f"file has {', '.join(table.columns)[:300]}.",
            lacks[0],
        )
    reading = learn(table, kind, matched, asked.hints)
    settings, loader = read_settings(engine), LOADERS[kind.name]
    zone = ZoneInfo(settings.zone)
    with ExitStack() as stack:
        stack.enter_context(_alone(engine))
        if not asked.dry:
            _recover(engine, settings, tell)
        place = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="flinch-import-")))
        names = Names(read_names(engine), make=asked.make_names)
        refused = stack.enter_context(_Refused(asked.refused, table.columns).opened())
        rows, parts = 0, 0
        for batch in table.batches():
            frame, reason = typed_rows(batch, kind, reading)
            reason = first_of([reason, *loader.refuse(frame, names, zone)])
            rows += frame.height
            bad = reason.is_not_null()
            refused.write(batch.cells.filter(bad), batch.line[bad.to_numpy()], reason.drop_nulls())
            good = frame.filter(reason.is_null())
            if good.height:
                good.write_parquet(place / f"part-{parts:05}.parquet")
                parts += 1
            tell("reading", 0.0)
        change = Change()
        if parts:
            change = loader.compare(engine, sorted(place.glob("part-*.parquet")), names, zone)
        if not asked.dry and (change.added or change.changed):
            _write(engine, settings, asked, kind, change, names, tell)
        return Outcome(
            kind.name, rows, change.added, change.changed, change.same, refused.count, refused.told(), dict(matched)
        )


def publish_all(engine: Engine, since: dt.date | None = None, tell: Tell = lambda stage, share: None) -> int:
    """Compute again what follows from the chains of every session from one on; returns how many moments that were."""
    with _alone(engine):
        state = read_state(engine)
        if state is None:
            return 0
        moments = [s.taken_at for s in read_snapshots(engine) if since is None or not state.whole or s.session >= since]
        if state.complete:
            begin_moment(engine)
        _finish(engine, read_settings(engine), moments, tell, first=not state.complete)
        return len(moments)


def recover(engine: Engine) -> None:
    """Finish what an import left that was ended while it wrote. Raises Busy when one is under way."""
    state = read_state(engine)
    if state is not None and not state.whole:
        with _alone(engine):
            _recover(engine, read_settings(engine), lambda stage, share: None)


def _recover(engine: Engine, settings: MarketSettings, tell: Tell) -> None:
    """Go on with what was ended while it wrote: its rows are there, and what follows from them may not be."""
    state = read_state(engine)
    if state is not None and not state.whole:
        moments = [s.taken_at for s in read_snapshots(engine)]
        _write_calendar(engine, settings)
        _finish(engine, settings, moments, tell, first=not state.complete)


def _finish(engine: Engine, settings: MarketSettings, moments: list[dt.datetime], tell: Tell, *, first: bool) -> None:
    """Publish what changed, and let it be served."""
    for done, moment in enumerate(sorted(moments)):
        tell("publishing", done / len(moments))
        publish(engine, moment)
    if first:
        finish_load(engine)
    advance(engine, _newest(engine, settings), past_changed=True)


def _write(
    engine: Engine, settings: MarketSettings, asked: Asked, kind: Kind, change: Change, names: Names, tell: Tell
) -> None:
    first = read_state(engine) is None
    if first:
        # The moment is known when the rows are there.
        begin_load(engine, source=asked.source or "files", source_version=1, as_of=wall(), rate=settings.rate)
    else:
        begin_moment(engine)
    tell("writing", 0.0)
    names.write(engine)
    for write in change.writes:
        write(engine)
    _write_calendar(engine, settings)
    moments = change.moments if not change.all_moments else [s.taken_at for s in read_snapshots(engine)]
    _finish(engine, settings, moments, tell, first=first)


def _newest(engine: Engine, settings: MarketSettings) -> dt.datetime:
    """The market's newest moment: that of the newest chains, or the close of the newest bars where those came later."""
    snapshots, bar = read_snapshots(engine), read_newest_bar(engine)
    if snapshots and (bar is None or snapshots[-1].session >= bar):
        return snapshots[-1].taken_at
    if bar is None:
        return wall()
    closes = sessions_between(settings.calendar, bar, bar).closes
    if not closes.size:
        return dt.datetime.combine(bar, dt.time(21), dt.UTC)
    moment: dt.datetime = closes[0].astype("datetime64[s]").astype(object)
    return moment.replace(tzinfo=dt.UTC)


def _write_calendar(engine: Engine, settings: MarketSettings) -> None:
    """The sessions that the market's calendar has, from the first bar to three years ahead."""
    first, last = read_newest_bar(engine, oldest=True), read_newest_bar(engine)
    snapshots = [s.session for s in read_snapshots(engine)]
    days = [day for day in (first, last, *snapshots[:1], *snapshots[-1:]) if day is not None]
    if days:
        sessions = sessions_between(settings.calendar, min(days), max(days) + _AHEAD).session
        replace_rows(engine, ExchangeSession, pl.DataFrame({"session": sessions}))


@contextmanager
def _alone(engine: Engine) -> Iterator[None]:
    """Within it nobody else writes to the market; the server lets go of it when this process ends. Raises Busy."""
    lock = {"name": f"flinch writes {engine.url.database}"}
    with told(), engine.connect() as connection:
        if not connection.execute(text("SELECT GET_LOCK(:name, 0)"), lock).scalar():
            raise Busy
        try:
            yield
        finally:
            # Who is ended in the middle of a statement has no connection that could tell it.
            try:
                connection.execute(text("SELECT RELEASE_LOCK(:name)"), lock)
            except Exception:
                connection.invalidate()


class _Refused:
    """Rows that were refused, as they were, each with its line and the reason. The file comes in its place when all are in it:
    it may be the very one that is read, mended."""

    def __init__(self, path: Path | None, columns: list[str]) -> None:
        self.path, self.count = path, 0
        self._columns = [name for name in columns if name not in _BESIDE]
        self._file: TextIO | None = None

    @contextmanager
    def opened(self) -> Iterator[_Refused]:
        try:
            yield self
            if self._file is not None and self.path is not None:
                self._file.close()
                self._making.rename(self.path)
        finally:
            if self._file is not None:
                self._file.close()
                self._making.unlink(missing_ok=True)

    def write(self, cells: pl.DataFrame, lines: NDArray[np.int64], reasons: pl.Series) -> None:
        rows = cells.select(self._columns).with_columns(reasons.alias("reason"), pl.Series("line", lines))
        rows, self.count = rows.head(max(0, _SHOWN - self.count)), self.count + rows.height
        if self.path is None or not rows.height:
            return
        if self._file is None:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._file = self._making.open("w", encoding="utf-8", newline="")
            csv.writer(self._file).writerow(rows.columns)
        csv.writer(self._file).writerows(rows.iter_rows())

    @property
    def _making(self) -> Path:
        assert self.path is not None
        return self.path.with_name(f".{self.path.name}.making")

    def told(self) -> str | None:
        return str(self.path) if self._file is not None else None
